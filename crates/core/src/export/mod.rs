//! A model written in forms that other programs compute with: PMML, ONNX, SQL, JSON.
//!
//! All of them are written from one [`Formula`]: the steps, the coding of columns, the classifier and the
//! calibration as definitions, each of columns and of definitions before it. The formula can be computed
//! here too, so that it is checked against the model before it is handed out.

mod calibration;
mod check;
mod civil_date;
mod definitions;
mod exported_model;
mod families;
mod features;
mod form;
mod formula;
mod json;
mod lookup;
mod network;
mod nodes;
mod onnx;
mod pmml;
mod refusal;
mod sql;
mod steps;
mod trees;

pub use check::{FormulaCheck, TOLERANCE};
pub use exported_model::ExportedModel;
pub use form::ExportForm;
pub use formula::ModelFormula;
pub use json::SCHEMA;
pub use refusal::Refusal;
