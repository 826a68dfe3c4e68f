//! Whether later customers are like those that a model was fitted to.

mod drift;

pub use drift::Drift;
