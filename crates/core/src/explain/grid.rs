//! The values that a column is looked at in, each with a customer who has it.

use pronoia_data::stats::Count;
use pronoia_data::stats::quantile;
use pronoia_data::table::{Column, ColumnValues};
use serde::Serialize;

/// Share of the customers beyond either end of what is looked at: a few far out would leave no
/// room for the others.
const BEYOND: f64 = 0.005;

/// A value that a column may have.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum At {
    /// A number, or a date as days since 1970-01-01.
    Number(f64),
    /// A category.
    Value(String),
    /// No value.
    Missing,
}

/// How the values of a number are chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Spacing {
    /// As far from each other as the range allows.
    Even,
    /// With about as many customers at each.
    ByCustomers,
}

/// A value, somebody who has it, and who has it or one nearest to it.
pub(super) struct Spot {
    pub at: At,
    /// A place among the rows looked at.
    pub donor: usize,
    /// Those who have the value, or a number nearer to it than to any other.
    pub count: Count,
}

/// Values of a column, numbers in order and others by how many have them; missing last.
pub(super) struct Grid {
    pub spots: Vec<Spot>,
    /// The spot of every row looked at; none for values too rare to have one.
    pub of_row: Vec<Option<usize>>,
}

impl Grid {
    /// At most `most` values of a column, not counting the missing.
    pub(super) fn of(column: &Column, rows: &[usize], event: &[bool], most: usize, spacing: Spacing) -> Self {
        let (mut spots, mut of_row) = match &column.values {
            ColumnValues::Words(_) => values(column, rows, most),
            _ => numbers(column, rows, most, spacing),
        };
        let is_missing = |place: &usize| column.text(rows[*place]).is_none();
        if let Some(donor) = (0..rows.len()).find(is_missing) {
            (0..rows.len()).filter(is_missing).for_each(|place| of_row[place] = Some(spots.len()));
            spots.push((At::Missing, donor));
        }
        let mut counts = vec![Count::default(); spots.len()];
        for (spot, &event) in of_row.iter().zip(event) {
            if let Some(spot) = spot {
                counts[*spot].add(event);
            }
        }
        let spots = spots.into_iter().zip(counts).map(|((at, donor), count)| Spot { at, donor, count });
        Self { spots: spots.collect(), of_row }
    }
}

type GridFindings = (Vec<(At, usize)>, Vec<Option<usize>>);

fn values(column: &Column, rows: &[usize], most: usize) -> GridFindings {
    let mut seen: std::collections::BTreeMap<String, (usize, usize)> = std::collections::BTreeMap::new();
    let words: Vec<Option<String>> = rows.iter().map(|&row| column.text(row)).collect();
    for (place, word) in words.iter().enumerate() {
        if let Some(word) = word {
            seen.entry(word.clone()).or_insert((0, place)).0 += 1;
        }
    }
    let mut ranked: Vec<(String, (usize, usize))> = seen.into_iter().collect();
    ranked.sort_by_key(|value| std::cmp::Reverse(value.1.0));
    ranked.truncate(most);
    let of = |word: &Option<String>| ranked.iter().position(|(there, _)| Some(there) == word.as_ref());
    let of_row = words.iter().map(of).collect();
    (ranked.into_iter().map(|(word, (_, donor))| (At::Value(word), donor)).collect(), of_row)
}

fn numbers(column: &Column, rows: &[usize], most: usize, spacing: Spacing) -> GridFindings {
    let mut known: Vec<(f64, usize)> =
        rows.iter().enumerate().filter_map(|(place, &row)| Some((column.number(row)?, place))).collect();
    known.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
    let sorted: Vec<f64> = known.iter().map(|k| k.0).collect();
    let mut distinct = known.clone();
    distinct.dedup_by(|a, b| a.0 == b.0);
    let chosen: Vec<(f64, usize)> = if distinct.len() <= most {
        distinct
    } else {
        let (low, high) = (quantile(&sorted, BEYOND), quantile(&sorted, 1.0 - BEYOND));
        // Whole numbers as many to each.
        let whole = sorted.iter().all(|x| x.fract() == 0.0);
        let step = (high - low) / (most - 1) as f64;
        let step = if whole { step.ceil() } else { step };
        let wanted = |i: usize| match spacing {
            Spacing::Even => (low + step * i as f64).min(high),
            Spacing::ByCustomers => quantile(&sorted, (i as f64 + 0.5) / most as f64),
        };
        let mut chosen: Vec<(f64, usize)> = (0..most).map(|i| distinct[nearest(&distinct, wanted(i))]).collect();
        chosen.dedup_by(|a, b| a.0 == b.0);
        chosen
    };
    let mut of_row = vec![None; rows.len()];
    if !chosen.is_empty() {
        known.iter().for_each(|&(x, place)| of_row[place] = Some(nearest(&chosen, x)));
    }
    (chosen.into_iter().map(|(x, donor)| (At::Number(x), donor)).collect(), of_row)
}

/// The place of the value nearest to another among sorted ones, of which there is at least one.
fn nearest(sorted: &[(f64, usize)], x: f64) -> usize {
    let after = sorted.partition_point(|s| s.0 < x).min(sorted.len() - 1);
    let before = after.saturating_sub(1);
    if (x - sorted[before].0).abs() <= (sorted[after].0 - x).abs() { before } else { after }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_data::Kind;
    use pronoia_data::table::ColumnBuilder;

    #[test]
    fn numbers_go_to_the_nearest_and_rare_values_to_none() {
        let mut age = ColumnBuilder::new("age", Kind::Number);
        let mut tier = ColumnBuilder::new("tier", Kind::Category);
        for i in 0..1_000 {
            if i % 10 == 0 {
                age.push_missing()
            } else {
                age.push_number(f64::from(i % 100))
            }
            tier.push_word(if i == 7 {
                "odd"
            } else if i % 3 == 0 {
                "b"
            } else {
                "a"
            });
        }
        let (age, tier) = (age.finish(), tier.finish());
        let rows: Vec<usize> = (0..1_000).collect();
        let event: Vec<bool> = (0..1_000).map(|i| i % 5 == 0).collect();
        for spacing in [Spacing::Even, Spacing::ByCustomers] {
            let grid = Grid::of(&age, &rows, &event, 12, spacing);
            assert_eq!(grid.spots.len(), 13);
            assert_eq!(grid.spots[12].at, At::Missing);
            assert_eq!((grid.spots[12].count.rows, grid.spots[12].count.events), (100, 100));
            assert_eq!(grid.spots.iter().map(|s| s.count.rows).sum::<u64>(), 1_000);
            for spot in &grid.spots[..12] {
                assert_eq!(At::Number(age.number(rows[spot.donor]).expect("a value")), spot.at);
            }
        }
        let grid = Grid::of(&tier, &rows, &event, 2, Spacing::Even);
        assert_eq!(
            grid.spots.iter().map(|s| &s.at).collect::<Vec<_>>(),
            [&At::Value("a".into()), &At::Value("b".into())]
        );
        assert_eq!(grid.of_row[7], None);
        assert_eq!(grid.spots[1].count.rows, 334);
    }
}
