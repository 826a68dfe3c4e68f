//! How the values of a column were spread over the rows that a model was fitted to, so that those
//! of later customers can be compared.

use serde::{Deserialize, Serialize};

use pronoia_data::Column;
use pronoia_data::table::ColumnValues;

/// Bands that numbers are counted in, about equally full.
const BANDS: usize = 10;

/// Rows that are looked at to place the bands, at most.
const LOOKED_AT: usize = 100_000;

/// Values that are counted one by one; rarer ones are counted together.
const VALUES: usize = 30;

/// Rows by the part of a column's values that they fall into.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Spread {
    /// What the values are parted into.
    parts: SpreadParts,
    /// Rows of every part in order; then other values, where values are counted one by one; then
    /// those without a value.
    pub counts: Vec<u64>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum SpreadParts {
    /// Numbers, or days: the highest value of every band but the last.
    Bands(Vec<f64>),
    /// The most frequent values.
    Values(Vec<String>),
}

impl Spread {
    /// Counts the rows given.
    pub fn of(column: &Column, rows: &[usize]) -> Self {
        let parts = match &column.values {
            ColumnValues::Words(words) => {
                let mut counts = vec![0u64; words.level_count()];
                rows.iter().filter_map(|&row| words.code(row)).for_each(|code| counts[code] += 1);
                let mut ranked: Vec<(&str, u64)> = words.levels().zip(counts).filter(|(_, n)| *n > 0).collect();
                ranked.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(b.0)));
                SpreadParts::Values(ranked.into_iter().take(VALUES).map(|(value, _)| value.to_owned()).collect())
            }
            _ => {
                let step = rows.len().div_ceil(LOOKED_AT).max(1);
                let some = rows.iter().step_by(step);
                let mut sorted: Vec<f64> = some.filter_map(|&row| column.number(row)).collect();
                sorted.sort_unstable_by(f64::total_cmp);
                let last = sorted.last().copied();
                let at = |band: usize| sorted.get((band * sorted.len()).div_ceil(BANDS).saturating_sub(1)).copied();
                let mut edges: Vec<f64> = (1..BANDS).filter_map(at).filter(|edge| Some(*edge) != last).collect();
                edges.dedup();
                SpreadParts::Bands(edges)
            }
        };
        let counts = parts.count(column, rows.iter().copied());
        Self { parts, counts }
    }

    /// Counts all rows of another column of the same storage into the same parts.
    pub fn count(&self, column: &Column) -> Vec<u64> {
        self.parts.count(column, 0..column.len())
    }

    /// What a part is, as it follows “rows”: “above 7.2”.
    pub fn part(&self, at: usize) -> String {
        use pronoia_data::number::plain;
        if at + 1 == self.counts.len() {
            return "without a value".into();
        }
        match &self.parts {
            SpreadParts::Values(values) => {
                values.get(at).map_or("with another value".into(), |v| format!("with “{v}”"))
            }
            SpreadParts::Bands(edges) => match (at.checked_sub(1).and_then(|below| edges.get(below)), edges.get(at)) {
                (None, None) => "with a value".into(),
                (None, Some(high)) => format!("up to {}", plain(*high)),
                (Some(low), None) => format!("above {}", plain(*low)),
                (Some(low), Some(high)) => format!("above {} and up to {}", plain(*low), plain(*high)),
            },
        }
    }
}

impl SpreadParts {
    fn count(&self, column: &Column, rows: impl Iterator<Item = usize>) -> Vec<u64> {
        let (parts, place): (usize, Box<dyn Fn(usize) -> Option<usize>>) = match (self, &column.values) {
            (Self::Values(values), ColumnValues::Words(words)) => {
                let other = values.len();
                let places: Vec<usize> =
                    words.levels().map(|level| values.iter().position(|v| v == level).unwrap_or(other)).collect();
                (other + 1, Box::new(move |row| words.code(row).map(|code| places[code])))
            }
            (Self::Bands(edges), _) => (
                edges.len() + 1,
                Box::new(move |row| column.number(row).map(|x| edges.partition_point(|edge| *edge < x))),
            ),
            (Self::Values(values), _) => (values.len() + 1, Box::new(|_| None)),
        };
        let mut counts = vec![0; parts + 1];
        rows.for_each(|row| counts[place(row).unwrap_or(parts)] += 1);
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_data::Kind;
    use pronoia_data::table::ColumnBuilder;

    #[test]
    fn numbers_are_counted_in_bands_that_are_about_equally_full() {
        let mut column = ColumnBuilder::new("x", Kind::Number);
        (0..1_000).for_each(|i| column.push_number(f64::from(i)));
        column.push_missing();
        let column = column.finish();
        let rows: Vec<usize> = (0..1_001).collect();
        let spread = Spread::of(&column, &rows);
        assert_eq!(spread.counts, [vec![100; 10], vec![1]].concat());
        assert_eq!((spread.part(0), spread.part(9)), ("up to 99".into(), "above 899".into()));
        assert_eq!(spread.part(10), "without a value");
        assert_eq!(spread.count(&column), spread.counts);
    }

    #[test]
    fn a_number_with_few_values_has_few_bands_and_words_are_counted_one_by_one() {
        let mut column = ColumnBuilder::new("x", Kind::Number);
        (0..1_000).for_each(|i| column.push_number(f64::from(u8::from(i % 10 == 0))));
        let column = column.finish();
        let rows: Vec<usize> = (0..1_000).collect();
        let spread = Spread::of(&column, &rows);
        assert_eq!((spread.counts.clone(), spread.part(0)), (vec![900, 100, 0], "up to 0".into()));

        let mut words = ColumnBuilder::new("plan", Kind::Category);
        ["b", "a", "b"].iter().for_each(|word| words.push_word(word));
        let spread = Spread::of(&words.finish(), &[0, 1, 2]);
        assert_eq!((spread.counts.clone(), spread.part(0)), (vec![2, 1, 0, 0], "with “b”".into()));
        let mut later = ColumnBuilder::new("plan", Kind::Category);
        ["c", "a"].iter().for_each(|word| later.push_word(word));
        later.push_missing();
        assert_eq!(spread.count(&later.finish()), [0, 1, 1, 1]);
    }
}
