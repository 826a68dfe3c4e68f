//! The event rate changes with time, and rows are dealt out by lot.

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use crate::study::ColumnRole;
use pronoia_data::Kind;
use pronoia_data::number::percent;
use pronoia_data::split::SplitMethod;
use pronoia_data::stats::{Count, likelihood_ratio_p_value, mutual_information};
use pronoia_data::table::{Column, written_date};

/// Periods of about equally many customers.
const PERIODS: usize = 8;

/// Correlation with a predictor from which a date is another way of saying it.
const TOLD: f64 = 0.9;

/// Chance below which a change is believed, whatever column of time shows it.
const BELIEVED: f64 = 0.001;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    if seen.state.split.by != SplitMethod::AtRandom {
        return Vec::new();
    }
    let event = seen.training_events();
    let says_when = seen.state.columns.iter().filter(|c| c.role == ColumnRole::Time);
    let dates = says_when.filter_map(|c| seen.table.column(&c.name)).filter(|c| c.kind == Kind::Date);
    let mut cautions: Vec<(f64, Caution)> = Vec::new();
    for column in dates {
        if is_told_already(seen, column) {
            continue;
        }
        let rows = seen.dealt.training.iter().zip(&event);
        let mut dated: Vec<(f64, bool)> = rows.filter_map(|(&row, &e)| Some((column.number(row)?, e))).collect();
        dated.sort_by(|a, b| a.0.total_cmp(&b.0));
        let size = dated.len().div_ceil(PERIODS).max(1);
        let counts: Vec<Count> = dated
            .chunks(size)
            .map(|period| {
                let mut count = Count::default();
                period.iter().for_each(|(_, e)| count.add(*e));
                count
            })
            .collect();
        let chance =
            likelihood_ratio_p_value(mutual_information(&counts), dated.len() as u64, counts.len().saturating_sub(1));
        let (Some(first), Some(last), true) = (counts.first(), counts.last(), chance < BELIEVED) else { continue };
        let day = |at: usize| dated.get(at).map_or(String::new(), |d| written_date(d.0 as i32));
        let caution = Caution {
            rule: CautionKind::TimeMatters,
            about: column.name.clone(),
            heading: format!("The event rate changes with {}", column.name),
            evidence: format!(
                "Of the earliest eighth of training rows, from {}, {} had the event; of the latest, up to {}, {}. Significant: p < 0.001.",
                day(0),
                percent(first.rate()),
                day(dated.len() - 1),
                percent(last.rate())
            ),
            remedy: Remedy::SplitByTime { column: column.name.clone() },
        };
        cautions.push((chance, caution));
    }
    // One time is enough to split by: the one that tells most.
    cautions.sort_by(|a, b| a.0.total_cmp(&b.0));
    cautions.into_iter().map(|c| c.1).take(1).collect()
}

/// Whether a predictor says the same as the date: the day on which a contract
/// began, say, beside the months that it has lasted. Such a date is no moment
/// of decision.
fn is_told_already(seen: &CautionInput, date: &Column) -> bool {
    seen.predictors().any(|column| {
        let pairs = seen.dealt.training.iter().filter_map(|&row| Some((column.number(row)?, date.number(row)?)));
        let (mut n, mut x, mut y) = (0.0, 0.0, 0.0);
        pairs.clone().for_each(|p| (n, x, y) = (n + 1.0, x + p.0, y + p.1));
        let (x, y) = (x / n, y / n);
        let (mut xx, mut yy, mut xy) = (0.0, 0.0, 0.0);
        for (a, b) in pairs {
            xx += (a - x).powi(2);
            yy += (b - y).powi(2);
            xy += (a - x) * (b - y);
        }
        xx > 0.0 && yy > 0.0 && (xy / (xx * yy).sqrt()).abs() > TOLD
    })
}
