//! The top of a single tree, taken as what matters most.

use super::{Caution, CautionedCandidate, Remedy};
use crate::study::CautionKind;
use pronoia_learn::learn::Estimator;

/// Share of the draws that must ask about the same column first.
const STABLE: f64 = 0.75;

/// Columns named at most.
const NAMED: usize = 4;

pub(super) fn look(candidate: &CautionedCandidate) -> Option<Caution> {
    let [member] = &candidate.model.members[..] else { return None };
    let Estimator::Tree(tree) = &member.estimator else { return None };
    let first = &tree.first;
    let (column, times) = first.columns.first()?;
    if f64::from(*times) >= STABLE * f64::from(first.draws) {
        return None;
    }
    let others: Vec<String> =
        first.columns.iter().skip(1).take(NAMED - 1).map(|(name, times)| format!("{name} in {times}")).collect();
    Some(Caution {
        rule: CautionKind::UnstableTree,
        about: candidate.name.into(),
        heading: format!("{}: its first split is unstable", candidate.name),
        evidence: format!(
            "Of {} trees on bootstrap samples of the same rows, {times} split by {column} first; {}.",
            first.draws,
            if others.is_empty() { "the others have no split".into() } else { others.join(", ") }
        ),
        remedy: Remedy::FitForest,
    })
}
