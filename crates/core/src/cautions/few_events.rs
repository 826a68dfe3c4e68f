//! Curves and intervals that rest on a handful of events.

use super::{Caution, CautionedCandidate, Remedy};
use crate::study::CautionKind;
use pronoia_data::number::{count, percent};

/// Events, and other rows, that a curve should rest on.
const ENOUGH: u64 = 50;

/// Parts in cross-validation that is proposed instead.
pub(super) const FOLDS: usize = 5;

pub(super) fn look(candidate: &CautionedCandidate) -> Option<Caution> {
    let evaluation = candidate.evaluation;
    let others = evaluation.rows - evaluation.events;
    let rarer = evaluation.events.min(others);
    if rarer >= ENOUGH || rarer == 0 || candidate.basis.split.folds.is_some() {
        return None;
    }
    Some(Caution {
        rule: CautionKind::FewEvents,
        about: candidate.name.into(),
        heading: format!("{}: evaluated on few events", candidate.name),
        evidence: format!(
            "Of {} customers that it is evaluated on, {} had the event and {} had not: each one of the rarer class moves a curve by {}. Its shape is uncertain.",
            count(evaluation.rows),
            count(evaluation.events),
            count(others),
            percent(1.0 / rarer as f64)
        ),
        remedy: Remedy::CrossValidate,
    })
}
