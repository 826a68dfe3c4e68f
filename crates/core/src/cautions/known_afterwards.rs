//! A predictor whose value is known only after the outcome, or nearly determines it.

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use crate::study::{KnownWhen, probe};

/// Area under ROC of a single column from which it is doubted.
const DOUBTED: f64 = 0.9;

/// The same for a column of which nobody can say when its value is known.
const UNSURE: f64 = 0.55;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let event = seen.training_events();
    let of = |name: &str| {
        let area = seen.table.column(name).map_or(0.5, |c| probe::area(c, &seen.dealt.training, &event));
        area.max(1.0 - area)
    };
    let asked = seen.state.columns.iter().filter(|c| c.goes_in()).map(|c| (c, of(&c.name)));
    asked
        .filter(|(choice, area)| *area > if choice.known_when == KnownWhen::Unsure { UNSURE } else { DOUBTED })
        .map(|(choice, area)| {
            let pairs = (area * 100.0).round();
            let rows = pronoia_data::number::count(event.len() as u64);
            let doubt = if area > DOUBTED {
                "Few columns that are known before a decision predict so much"
            } else {
                "Its name says that it may have been written afterwards, and nobody has said when it was known"
            };
            Caution {
                rule: CautionKind::KnownAfterwards,
                about: choice.name.clone(),
                heading: format!("Possible leakage: {} may be known only afterwards", choice.name),
                evidence: format!(
                    "By itself it ranks {pairs:.0} of 100 pairs of customers correctly (AUC, cross-validated on {rows} training rows). {doubt}."
                ),
                remedy: Remedy::LeaveOut { column: choice.name.clone() },
            }
        })
        .collect()
}
