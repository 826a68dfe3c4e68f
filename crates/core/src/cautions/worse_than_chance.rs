//! A model that orders customers the wrong way round.

use pronoia_data::evaluate::Evaluation;
use pronoia_data::number::{count, fixed};

/// What speaks for a model being the wrong way round, in a sentence: an area
/// under ROC more than two standard errors (Hanley & McNeil 1982, eq. 2) below
/// one half.
pub fn worse_than_chance(evaluation: &Evaluation) -> Option<String> {
    let area = evaluation.area_under_roc;
    let (events, others) = (evaluation.events as f64, (evaluation.rows - evaluation.events) as f64);
    let (q1, q2) = (area / (2.0 - area), 2.0 * area * area / (1.0 + area));
    let squares = (events - 1.0) * (q1 - area * area) + (others - 1.0) * (q2 - area * area);
    let variance = (area * (1.0 - area) + squares) / (events * others);
    (area + 2.0 * variance.max(0.0).sqrt() < 0.5).then(|| {
        format!(
            "On {} rows that it was not fitted to, its AUC (ROC) is {}, below 0.5 by more than chance: it ranks customers the wrong way round. The outcome may be coded the other way in a part of the records.",
            count(evaluation.rows),
            fixed(area, 3)
        )
    })
}
