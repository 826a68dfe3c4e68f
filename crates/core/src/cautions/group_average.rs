//! A predictor that is the event rate of a group, the customer's own outcome included.

use std::collections::HashMap;

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use pronoia_data::number::fixed;
use pronoia_data::table::{Column, ColumnValues};

/// Groups below which nothing can be said.
const FEWEST_GROUPS: usize = 8;

/// Correlation of the column with the event rates of the groups from which it is doubted.
const DOUBTED: f64 = 0.8;

/// The same for a column whose mean is the event rate, as a share or in per cent.
const DOUBTED_RATE: f64 = 0.5;

/// How far the mean may be from the event rate, as a share of it.
const NEAR: f64 = 0.1;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let event = seen.training_events();
    let numbers: Vec<&Column> = seen.predictors().filter(|c| matches!(c.values, ColumnValues::Numbers(_))).collect();
    let groupings: Vec<&Column> =
        seen.table.columns().iter().filter(|c| matches!(c.values, ColumnValues::Words(_))).collect();
    let mut cautions = Vec::new();
    for column in numbers {
        let doubtful = groupings.iter().find_map(|by| {
            let correlation = agreement(column, by, &seen.dealt.training, &event)?;
            let doubted = if is_rate(column, &seen.dealt.training, &event) { DOUBTED_RATE } else { DOUBTED };
            (correlation.abs() > doubted).then_some((*by, correlation))
        });
        if let Some((by, correlation)) = doubtful {
            cautions.push(Caution {
                rule: CautionKind::GroupAverage,
                about: column.name.clone(),
                heading: format!("{} may contain the outcome (target leakage)", column.name),
                evidence: format!(
                    "It is the same for all customers of one {}, and follows their event rates (correlation {} over the groups, training rows): it looks like an average that was computed from the outcomes.",
                    by.name,
                    fixed(correlation, 2)
                ),
                remedy: Remedy::LeaveOut { column: column.name.clone() },
            });
        }
    }
    cautions
}

/// Whether the values lie around the event rate, as shares or in per cent.
fn is_rate(column: &Column, rows: &[usize], event: &[bool]) -> bool {
    let values: Vec<f64> = rows.iter().filter_map(|&row| column.number(row)).collect();
    let mean = values.iter().sum::<f64>() / values.len().max(1) as f64;
    let rate = event.iter().filter(|&&e| e).count() as f64 / event.len().max(1) as f64;
    [1.0, 100.0].iter().any(|scale| {
        let within = values.iter().all(|x| (0.0..=*scale).contains(x));
        within && (mean / scale - rate).abs() < NEAR * rate
    })
}

/// How a number that never differs within a group goes with the groups' event
/// rates, weighed by their size; none if it differs within one, or there are
/// too few different groups.
fn agreement(column: &Column, by: &Column, rows: &[usize], event: &[bool]) -> Option<f64> {
    let ColumnValues::Words(words) = &by.values else { return None };
    let mut groups: HashMap<usize, (f64, f64, f64)> = HashMap::new();
    for (&row, &e) in rows.iter().zip(event) {
        let (Some(code), Some(x)) = (words.code(row), column.number(row)) else { continue };
        let group = groups.entry(code).or_insert((x, 0.0, 0.0));
        if group.0.to_bits() != x.to_bits() {
            return None;
        }
        group.1 += 1.0;
        group.2 += f64::from(u8::from(e));
    }
    // A group of one customer agrees with itself, and every column is the same within it.
    let sizeable: Vec<(f64, f64, f64)> =
        groups.into_values().filter(|g| g.1 >= 5.0).map(|(x, n, events)| (x, events / n, n)).collect();
    let mut different: Vec<u64> = sizeable.iter().map(|g| g.0.to_bits()).collect();
    different.sort_unstable();
    different.dedup();
    if different.len() < FEWEST_GROUPS {
        return None;
    }
    let n: f64 = sizeable.iter().map(|g| g.2).sum();
    let mean = |f: &dyn Fn(&(f64, f64, f64)) -> f64| sizeable.iter().map(|g| g.2 * f(g)).sum::<f64>() / n;
    let (x, rate) = (mean(&|g| g.0), mean(&|g| g.1));
    let together = mean(&|g| (g.0 - x) * (g.1 - rate));
    let (xx, rr) = (mean(&|g| (g.0 - x).powi(2)), mean(&|g| (g.1 - rate).powi(2)));
    (xx > 0.0 && rr > 0.0).then(|| together / (xx * rr).sqrt())
}
