//! What is looked for in a candidate once it is fitted and judged.

use super::{Caution, few_events, uncalibrated, unstable_tree};
use crate::model::Model;
use crate::study::Basis;
use pronoia_data::evaluate::Evaluation;

/// A candidate that is fitted and judged.
#[derive(Debug, Clone, Copy)]
pub struct CautionedCandidate<'a> {
    /// What it is called.
    pub name: &'a str,
    /// The model.
    pub model: &'a Model,
    /// How it did on rows that it had not seen.
    pub evaluation: &'a Evaluation,
    /// What it was fitted on.
    pub basis: &'a Basis,
}

/// Looks for every mistake that one candidate can hold.
pub fn look_at_candidate(candidate: &CautionedCandidate) -> Vec<Caution> {
    [uncalibrated::look, unstable_tree::look, few_events::look].into_iter().filter_map(|rule| rule(candidate)).collect()
}
