//! What is settled for a whole list before any of its customers is decided on.

use pronoia_data::Table;
use pronoia_decide::decide::LeastKey;

/// What every part of a list is decided by.
#[derive(Debug)]
pub struct Settled {
    pub(super) cut: Option<LeastKey>,
    /// Customers of the list that reasons are counted from.
    pub(super) background: Table,
}
