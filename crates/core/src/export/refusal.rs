//! Why a model cannot be carried in a form.

use thiserror::Error;

/// Why a model cannot be carried in a form, and what could be done.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum Refusal {
    /// The family holds the customers themselves.
    #[error(
        "Nearest neighbours contain the values of known customers; no such form carries that. Export another candidate, or release this one and let programs call it."
    )]
    HoldsCustomers,
    /// A step needs what the form cannot do.
    #[error("The column “{column}” {needs}, which {form} cannot do. Use another form, or make the column otherwise.")]
    Step {
        /// The column that is made.
        column: String,
        /// What it needs, in words that follow the column's name.
        needs: String,
        /// The form.
        form: &'static str,
    },
    /// The form would be larger than programs read.
    #[error(
        "This model has {parts} leaves, and as {form} at most {most} are written, since databases give up on more. Fit fewer or smaller trees, or export ONNX."
    )]
    TooLarge {
        /// Leaves of all trees.
        parts: usize,
        /// As many are written at most.
        most: usize,
        /// The form.
        form: &'static str,
    },
    /// The formula does not give what the model gives.
    #[error(
        "Written out, the model gives other probabilities than by itself (by {difference:e} at most, on {rows} customers), so that nothing is handed out. This is a fault of Pronoia."
    )]
    Differs {
        /// The greatest difference.
        difference: f64,
        /// Customers compared.
        rows: usize,
    },
    /// The columns are not those of the model.
    #[error("{0}")]
    Columns(String),
}
