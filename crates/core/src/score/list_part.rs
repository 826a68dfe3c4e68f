//! A part of a list that is scored in parts.

use pronoia_data::Table;

/// Where a part of a list stands in it.
#[derive(Debug, Clone, Copy)]
pub struct ListPart<'a> {
    /// The part as it was brought.
    pub list: &'a Table,
    /// What [`super::Matching::read`] made of it.
    pub matched: &'a Table,
    /// Rows of the list before it.
    pub before: u64,
    /// Of each customer, whether the model was fitted to them; nothing, if that is not known.
    pub known: &'a [bool],
    /// Of each customer, whether they are not to be contacted, and so are left alone whatever the rule
    /// says; nothing, if everybody may be.
    pub suppressed: &'a [bool],
}
