//! Customers that a model in use has met, counted so that those of many calls add up.

use std::collections::BTreeMap;

use arrow_array::Float64Array;
use serde::{Deserialize, Serialize};

use super::Drift;
use crate::Model;
use pronoia_data::table::ColumnValues;
use pronoia_data::{Column, Kind, Table};
use pronoia_learn::prepare::{ModelInput, Spread};

/// Different values that were never seen before, of a column, that are told apart.
const UNSEEN: usize = 50;

/// The longest of them that is kept, in letters.
const LONGEST: usize = 60;

/// What a model met when it was fitted, and what it said of customers that it was judged on.
#[derive(Debug, Clone)]
pub struct TrainingDistribution {
    inputs: Vec<ModelInput>,
    /// How its probabilities were spread; none if it was never judged.
    scores: Option<Spread>,
}

/// Customers met, by what they are like.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct CustomerTally {
    /// Customers.
    pub customers: u64,
    /// By column, how many are in each part of what training saw of it.
    pub columns: BTreeMap<String, Vec<u64>>,
    /// How many have a probability in each part of those told when the model was judged.
    pub scores: Vec<u64>,
    /// By column and value, how many have a value that training never saw.
    pub unseen: BTreeMap<String, BTreeMap<String, u64>>,
}

/// How customers met compare with those of training.
#[derive(Debug, Clone, PartialEq)]
pub struct DriftFindings {
    /// Customers met.
    pub customers: u64,
    /// How far probabilities have moved.
    pub scores: Option<Drift>,
    /// How far columns have moved, the farthest first.
    pub columns: Vec<Moved>,
    /// Values that were never seen, the most frequent first: column, value, customers.
    pub unseen: Vec<(String, String, u64)>,
}

/// How far a column has moved.
#[derive(Debug, Clone, PartialEq)]
pub struct Moved {
    /// The column.
    pub column: String,
    /// How far.
    pub drift: Drift,
}

impl TrainingDistribution {
    /// Of a model, and of what it said of the customers it was judged on.
    pub fn of(model: &Model, judged: &[f64]) -> Self {
        let rows: Vec<usize> = (0..judged.len()).collect();
        let scores = (!judged.is_empty()).then(|| Spread::of(&column_of(judged), &rows));
        Self { inputs: model.inputs().cloned().collect(), scores }
    }
}

fn column_of(probabilities: &[f64]) -> Column {
    let values = ColumnValues::Numbers(Float64Array::from(probabilities.to_vec()));
    Column { name: "probability".into(), kind: Kind::Number, values }
}

impl CustomerTally {
    /// Counts customers, with the columns that the model reads, and their probabilities.
    pub fn of(expected: &TrainingDistribution, customers: &Table, probabilities: &[f64]) -> Self {
        let mut tally = Self { customers: customers.rows() as u64, ..Self::default() };
        if let Some(scores) = &expected.scores {
            tally.scores = scores.count(&column_of(probabilities));
        }
        for input in &expected.inputs {
            let Some(column) = customers.column(&input.name) else { continue };
            if let Some(spread) = &input.spread {
                tally.columns.insert(input.name.clone(), spread.count(column));
            }
            if let ColumnValues::Words(words) = &column.values {
                let mut counts = vec![0u64; words.level_count()];
                (0..words.len()).filter_map(|row| words.code(row)).for_each(|code| counts[code] += 1);
                for (level, count) in words.levels().zip(counts) {
                    if count > 0 && input.is_unseen(level) {
                        tally.unseen(&input.name, level.chars().take(LONGEST).collect(), count);
                    }
                }
            }
        }
        tally
    }

    /// Beyond so many values of a column the others are passed over.
    fn unseen(&mut self, column: &str, value: String, count: u64) {
        let of_column = self.unseen.entry(column.to_owned()).or_default();
        if of_column.len() < UNSEEN || of_column.contains_key(&value) {
            *of_column.entry(value).or_default() += count;
        }
    }

    /// Adds customers that were counted elsewhere, by the same model.
    pub fn add(&mut self, other: &Self) {
        let sum = |mine: &mut Vec<u64>, theirs: &[u64]| {
            mine.resize(mine.len().max(theirs.len()), 0);
            mine.iter_mut().zip(theirs).for_each(|(mine, theirs)| *mine += theirs);
        };
        self.customers += other.customers;
        sum(&mut self.scores, &other.scores);
        for (column, counts) in &other.columns {
            sum(self.columns.entry(column.clone()).or_default(), counts);
        }
        for (column, values) in &other.unseen {
            values.iter().for_each(|(value, count)| self.unseen(column, value.clone(), *count));
        }
    }

    /// Compares those met with those of training.
    pub fn found(&self, expected: &TrainingDistribution) -> DriftFindings {
        let moved = |input: &ModelInput| {
            let drift = Drift::between(input.spread.as_ref()?, self.columns.get(&input.name)?)?;
            Some(Moved { column: input.name.clone(), drift })
        };
        let mut columns: Vec<Moved> = expected.inputs.iter().filter_map(moved).collect();
        columns.sort_by(|a, b| b.drift.psi.total_cmp(&a.drift.psi));
        let of_column = |(column, values): (&String, &BTreeMap<String, u64>)| {
            values.iter().map(|(value, count)| (column.clone(), value.clone(), *count)).collect::<Vec<_>>()
        };
        let mut unseen: Vec<(String, String, u64)> = self.unseen.iter().flat_map(of_column).collect();
        unseen.sort_by(|a, b| b.2.cmp(&a.2).then_with(|| (&a.0, &a.1).cmp(&(&b.0, &b.1))));
        let scores = expected.scores.as_ref().and_then(|scores| Drift::between(scores, &self.scores));
        DriftFindings { customers: self.customers, scores, columns, unseen }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_data::table::ColumnBuilder;

    fn plans(of: &[&str]) -> Column {
        let mut column = ColumnBuilder::new("plan", Kind::Category);
        of.iter().for_each(|plan| column.push_word(plan));
        column.finish()
    }

    fn fees(of: impl Iterator<Item = f64>) -> Column {
        let mut column = ColumnBuilder::new("fee", Kind::Number);
        of.for_each(|fee| column.push_number(fee));
        column.finish()
    }

    #[test]
    fn customers_of_many_calls_add_up_to_those_of_one() {
        let rows: Vec<usize> = (0..400).collect();
        let trained = plans(&["Basic", "Plus", "Basic", "Basic"].repeat(100));
        let fee = fees((0..400).map(f64::from));
        let inputs = vec![ModelInput::of(&trained, &rows), ModelInput::of(&fee, &rows)];
        let judged: Vec<f64> = (0..400).map(|at| f64::from(at) / 400.0).collect();
        let scores = Some(Spread::of(&column_of(&judged), &rows));
        let expected = TrainingDistribution { inputs, scores };

        let of = ["Plus", "Gold", "Plus", "Plus", "Basic"].repeat(80);
        let all = Table::new(vec![plans(&of), fees((0..400).map(f64::from))]).expect("a table");
        let whole = CustomerTally::of(&expected, &all, &judged);
        let mut parts = CustomerTally::default();
        for some in rows.chunks(7) {
            let probabilities: Vec<f64> = some.iter().map(|&row| judged[row]).collect();
            parts.add(&CustomerTally::of(&expected, &all.take(some), &probabilities));
        }
        assert_eq!(parts, whole);
        let found = whole.found(&expected);
        assert_eq!((found.customers, found.columns[0].column.as_str()), (400, "plan"));
        assert!(found.columns[0].drift.has_moved() && !found.columns[1].drift.has_moved());
        assert!(found.scores.as_ref().is_some_and(|scores| scores.psi == 0.0));
        assert_eq!(found.unseen, [("plan".into(), "Gold".into(), 80)]);

        let many: Vec<String> = (0..200).map(|at| format!("new {at}")).collect();
        let many = Table::new(vec![plans(&many.iter().map(String::as_str).collect::<Vec<_>>())]).expect("a table");
        parts.add(&CustomerTally::of(&expected, &many, &[]));
        assert_eq!(parts.unseen["plan"].len(), UNSEEN, "no more than so many are told apart");
    }
}
