//! A derived column that was drawn where the rate looked high, and is not high elsewhere.

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use pronoia_data::Kind;
use pronoia_data::number::percent;
use pronoia_data::stats::{Count, chi_square};

/// Pearson's statistic from which two rates differ: its 0.95 quantile for one
/// degree of freedom.
const DIFFERS: f64 = 3.841;

/// Rows with each answer below which validation rows cannot say anything.
const FEWEST: u64 = 30;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let made: Vec<String> = seen.state.steps.iter().filter(|s| !s.off).filter_map(|s| s.action.makes()).collect();
    let derived = seen.predictors().filter(|c| c.kind == Kind::YesNo && made.contains(&c.name));
    derived
        .filter_map(|column| {
            let rates = |rows: &[usize]| {
                let mut sides = [Count::default(); 2];
                for &row in rows {
                    if let Some(answer) = column.text(row) {
                        sides[usize::from(answer == "yes")].add(seen.happened[row] == Some(true));
                    }
                }
                sides
            };
            let ([out, inside], [out_later, inside_later]) =
                (rates(&seen.dealt.training), rates(&seen.dealt.validation));
            let differed = chi_square(out, inside) >= DIFFERS;
            let higher = |a: Count, b: Count| a.rate() > b.rate();
            let holds = chi_square(out_later, inside_later) >= DIFFERS
                && higher(inside, out) == higher(inside_later, out_later);
            let enough = inside_later.rows >= FEWEST && out_later.rows >= FEWEST;
            (differed && enough && !holds).then(|| Caution {
                rule: CautionKind::Unconfirmed,
                about: column.name.clone(),
                heading: format!("{} is not confirmed on validation rows", column.name),
                evidence: format!(
                    "On training rows the event rate is {} inside and {} outside; on validation rows {} and {}, no significant difference.",
                    percent(inside.rate()),
                    percent(out.rate()),
                    percent(inside_later.rate()),
                    percent(out_later.rate())
                ),
                remedy: Remedy::LeaveOut { column: column.name.clone() },
            })
        })
        .collect()
}
