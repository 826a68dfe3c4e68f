//! Classifiers: what is done with columns before they are learned from, the families, and calibration.

pub mod balance;
pub mod calibrate;
pub mod learn;
pub mod prepare;
