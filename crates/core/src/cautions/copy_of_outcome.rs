//! A predictor that says the same as the outcome, in other words.

use std::collections::BTreeMap;

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use pronoia_data::number::count;

/// Values that a copy of a yes-or-no outcome has at most.
const MOST_VALUES: usize = 6;

/// Share of training rows in which the column must agree with the outcome.
const AGREES: f64 = 0.999;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let Some(outcome) = &seen.state.outcome else { return Vec::new() };
    let event = seen.training_events();
    let mut cautions = Vec::new();
    for column in seen.predictors() {
        let mut sides: BTreeMap<Option<String>, [u64; 2]> = BTreeMap::new();
        for (&row, &e) in seen.dealt.training.iter().zip(&event) {
            sides.entry(column.text(row)).or_default()[usize::from(e)] += 1;
            if sides.len() > MOST_VALUES {
                break;
            }
        }
        let agreeing: u64 = sides.values().map(|[a, b]| *a.max(b)).sum();
        let rows = event.len() as u64;
        // Both outcomes must be told by some value, or any constant would agree.
        let tells = |side: usize| sides.values().any(|counts| counts[side] > counts[1 - side]);
        if sides.len() <= MOST_VALUES && agreeing as f64 >= AGREES * rows as f64 && tells(0) && tells(1) {
            cautions.push(Caution {
                rule: CautionKind::CopyOfOutcome,
                about: column.name.clone(),
                heading: format!("{} is a copy of {}", column.name, outcome.column),
                evidence: format!(
                    "In {} of {} training rows its value alone determines {}.",
                    count(agreeing),
                    count(rows),
                    outcome.column
                ),
                remedy: Remedy::LeaveOut { column: column.name.clone() },
            });
        }
    }
    cautions
}
