//! The smallest change of a customer after which something else would be done about them.

use super::similarity::Similarity;
use crate::model::Model;
use pronoia_data::stats::quantile;
use pronoia_data::table::{ColumnBuilder, ColumnValues, Storage};
use pronoia_data::{Column, Table};
use pronoia_learn::prepare::PrepareError;

/// Values tried of a number, evenly among those that occur.
const NUMBERS: usize = 24;

/// Values tried of a column of words, those that occur most.
const WORDS: usize = 40;

/// Changes of one column from which pairs are put together, those that change the probability most.
const PAIRED: usize = 30;

/// A customer with some columns changed.
#[derive(Debug, Clone)]
pub struct Counterfactual {
    /// Columns that differ, with their values before and after; none is missing.
    pub columns: Vec<(String, Option<String>, Option<String>)>,
    /// The customer as changed, in one row.
    pub customer: Table,
    /// Their probability then.
    pub probability: f64,
    /// How much they differ from before, 0 to 1.
    pub distance: f64,
}

/// One value for one column.
#[derive(Clone)]
struct ColumnStep {
    column: usize,
    value: Column,
}

/// The smallest change of the columns given, by one of them or else by two, to values that occur
/// among the real customers, after which `flips` holds of the customer and their probability; none
/// if there is no such change.
///
/// # Errors
/// [`PrepareError`] if a column that the model needs is missing.
pub fn smallest_change(
    model: &Model,
    customer: &Table,
    (real, rows): (&Table, &[usize]),
    (likeness, changeable): (&Similarity, &[String]),
    flips: impl Fn(&Table, f64) -> bool,
) -> Result<Option<Counterfactual>, PrepareError> {
    let steps: Vec<ColumnStep> = changeable
        .iter()
        .enumerate()
        .filter_map(|(at, name)| Some((at, real.column(name)?)))
        .flat_map(|(column, of)| values(of, rows).into_iter().map(move |value| ColumnStep { column, value }))
        .collect();
    let one: Vec<Vec<&ColumnStep>> = steps.iter().map(|step| vec![step]).collect();
    let tried = probabilities(model, customer, &one)?;
    if let Some(found) = smallest(customer, &one, &tried, likeness, &flips) {
        return Ok(Some(found));
    }
    // Pairs of those that move the probability most, either way.
    let mut order: Vec<usize> = (0..steps.len()).collect();
    order.sort_by(|&a, &b| tried[b].total_cmp(&tried[a]));
    let ends = order.iter().take(PAIRED).chain(order.iter().rev().take(PAIRED));
    let strong: Vec<&ColumnStep> = ends.map(|&at| &steps[at]).collect();
    let mut two: Vec<Vec<&ColumnStep>> = Vec::new();
    for (at, first) in strong.iter().enumerate() {
        two.extend(strong[at + 1..].iter().filter(|other| other.column != first.column).map(|o| vec![*first, *o]));
    }
    let tried = probabilities(model, customer, &two)?;
    Ok(smallest(customer, &two, &tried, likeness, &flips))
}

/// Values of a column that occur, in a column of one row each.
fn values(column: &Column, rows: &[usize]) -> Vec<Column> {
    let one = |push: &dyn Fn(&mut ColumnBuilder)| {
        let mut builder = ColumnBuilder::new(&column.name, column.kind);
        push(&mut builder);
        builder.finish()
    };
    if let ColumnValues::Words(words) = &column.values {
        let mut counts = vec![0u64; words.level_count()];
        rows.iter().filter_map(|&row| words.code(row)).for_each(|code| counts[code] += 1);
        let mut levels: Vec<(&str, u64)> = words.levels().zip(counts).filter(|level| level.1 > 0).collect();
        levels.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(b.0)));
        return levels.into_iter().take(WORDS).map(|(level, _)| one(&|builder| builder.push_word(level))).collect();
    }
    let mut sorted: Vec<f64> = rows.iter().filter_map(|&row| column.number(row)).collect();
    sorted.sort_unstable_by(f64::total_cmp);
    if sorted.is_empty() {
        return Vec::new();
    }
    let mut tried: Vec<f64> = (0..NUMBERS)
        .map(|i| quantile(&sorted, (i as f64 + 0.5) / NUMBERS as f64))
        .map(|x| nearest(&sorted, x))
        .collect();
    tried.dedup();
    let push = |builder: &mut ColumnBuilder, x: f64| {
        if column.kind.storage() == Storage::Dates { builder.push_date(x as i32) } else { builder.push_number(x) }
    };
    tried.into_iter().map(|x| one(&|builder| push(builder, x))).collect()
}

/// The value that occurs at or after one, or the last.
fn nearest(sorted: &[f64], x: f64) -> f64 {
    sorted[sorted.partition_point(|there| *there < x).min(sorted.len() - 1)]
}

fn changed(customer: &Table, steps: &[&ColumnStep]) -> Table {
    steps.iter().fold(customer.clone(), |table, step| table.with(step.value.clone()))
}

fn probabilities(model: &Model, customer: &Table, tried: &[Vec<&ColumnStep>]) -> Result<Vec<f64>, PrepareError> {
    if tried.is_empty() {
        return Ok(Vec::new());
    }
    let tables: Vec<Table> = tried.iter().map(|steps| changed(customer, steps)).collect();
    let columns = customer.columns().iter().filter_map(|column| {
        let parts: Vec<&Column> = tables.iter().filter_map(|table| table.column(&column.name)).collect();
        Column::concat(&parts)
    });
    let all = Table::new(columns.collect()).map_err(PrepareError::Replay)?;
    model.probabilities(&all, &(0..tried.len()).collect::<Vec<_>>())
}

fn smallest(
    customer: &Table,
    tried: &[Vec<&ColumnStep>],
    probability: &[f64],
    likeness: &Similarity,
    flips: &impl Fn(&Table, f64) -> bool,
) -> Option<Counterfactual> {
    let found = tried.iter().zip(probability).filter_map(|(steps, &probability)| {
        let after = changed(customer, steps);
        if !flips(&after, probability) {
            return None;
        }
        let distance = likeness.distance(&after, 0, customer);
        Some((steps, after, probability, distance))
    });
    let (steps, after, probability, distance) = found.min_by(|a, b| a.3.total_cmp(&b.3))?;
    let text = |table: &Table, name: &str| table.column(name).and_then(|column| column.text(0));
    let columns = steps
        .iter()
        .map(|step| (step.value.name.clone(), text(customer, &step.value.name), text(&after, &step.value.name)))
        .collect();
    Some(Counterfactual { columns, customer: after, probability, distance })
}
