//! Rows to look at: those that stand there twice, and those unlike all others.

use std::collections::{HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::ColumnProfile;
use crate::number::{count, plain};
use crate::table::{Column, ColumnValues, Words, written_date};
use crate::{Kind, Table};

/// Rows that are named as unlike the others, at most.
const MOST: usize = 12;

/// Rows that are named for the same column above all, at most.
const MOST_BY_ONE: usize = 4;

/// Robust standard deviations up to which a number is nothing unusual.
const USUAL: f64 = 4.0;

/// What one value can add to a row's strangeness, at most.
const MOST_OF_ONE: f64 = 20.0;

/// Different values up to which a column's rare values are unusual.
const FEW_VALUES: u64 = 200;

/// Share of rows below which a value is rare.
const RARE: f64 = 0.001;

/// What stands for a missing value in the mark of a row.
const MISSING: u64 = 0x6d69_7373_696e_6721;

/// An odd number whose bits are spread evenly.
const SPREAD: u64 = 0x9e37_79b9_7f4a_7c15;

/// A row unlike the others.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Unlike {
    /// Its number in the order of the source, from 1.
    pub row: u64,
    /// What is unusual about it, in words.
    pub why: String,
}

/// A strange row while they are looked for.
struct UnusualCandidate {
    score: f64,
    /// Its number in the table.
    number: u64,
    /// The column that is strangest about it.
    by: usize,
    /// Its part of the table, and its row there.
    part: usize,
    row: usize,
}

/// What one column adds to a row's strangeness.
enum Strange {
    /// Middle and robust standard deviation of a number.
    Number { middle: f64, spread: f64, usual: (f64, f64) },
    /// How often every value occurs.
    Words { counts: HashMap<String, u64>, rows: u64 },
    /// Nothing is strange here.
    Never,
}

impl Strange {
    fn of(profile: &ColumnProfile, columns: &[&Column], rows: u64) -> Self {
        if let Some(n) = &profile.numbers {
            // The middle half of a normal distribution is 1.349 standard deviations wide.
            let spread = (n.upper_quartile - n.lower_quartile) / 1.349;
            let usual = (n.lower_quartile, n.upper_quartile);
            return if spread > 0.0 { Self::Number { middle: n.median, spread, usual } } else { Self::Never };
        }
        if profile.kind == Kind::Text || profile.distinct > FEW_VALUES {
            return Self::Never;
        }
        let mut counts: HashMap<String, u64> = HashMap::new();
        for column in columns {
            if let ColumnValues::Words(words) = &column.values {
                words
                    .levels()
                    .zip(words.counts())
                    .for_each(|(word, n)| *counts.entry(word.to_owned()).or_default() += n);
            }
        }
        Self::Words { counts, rows }
    }

    /// The value in words, beside what is usual.
    fn words(&self, column: &Column, row: usize) -> String {
        let write = |x: f64| if column.kind == Kind::Date { written_date(x as i32) } else { plain(x) };
        match self {
            Self::Number { usual, .. } => format!(
                "{} {} (half of all: {} to {})",
                column.name,
                column.number(row).map_or_else(String::new, write),
                write(usual.0),
                write(usual.1)
            ),
            Self::Words { counts, rows } => {
                let value = column.text(row).unwrap_or_default();
                let n = counts.get(&value).copied().unwrap_or(0);
                format!("{} “{value}” ({} of {} rows)", column.name, count(n), count(*rows))
            }
            Self::Never => String::new(),
        }
    }
}

/// Rows that say the same as an earlier one in every column; and the rows
/// whose values are strangest taken together, the strangest first.
pub(super) fn look(parts: &[Table], profiles: &[ColumnProfile]) -> (u64, Vec<Unlike>) {
    let rows: u64 = parts.iter().map(|p| p.rows() as u64).sum();
    let strange: Vec<Strange> = (0..profiles.len())
        .into_par_iter()
        .map(|at| Strange::of(&profiles[at], &parts.iter().map(|p| &p.columns()[at]).collect::<Vec<_>>(), rows))
        .collect();
    let mut seen: HashSet<u64> = HashSet::with_capacity(rows as usize);
    let mut repeated = 0;
    let mut strangest: Vec<UnusualCandidate> = Vec::new();
    let mut first = 0;
    for (at, part) in parts.iter().enumerate() {
        let columns: Vec<Adds> =
            part.columns().par_iter().zip(&strange).map(|(column, strange)| Adds::of(column, strange)).collect();
        let marks: Vec<(u64, f64, usize)> = (0..part.rows())
            .into_par_iter()
            .with_min_len(1_024)
            .map(|row| {
                let (mut score, mut most, mut by) = (0.0, 0.0, 0);
                for (at, column) in columns.iter().enumerate() {
                    let adds = column.score(row);
                    score += adds;
                    if adds > most {
                        (most, by) = (adds, at);
                    }
                }
                (mark(&columns, row), score, by)
            })
            .collect();
        for (row, (mark, score, by)) in marks.into_iter().enumerate() {
            repeated += u64::from(!seen.insert(mark));
            if score > 0.0 {
                strangest.push(UnusualCandidate { score, number: first + row as u64 + 1, by, part: at, row });
            }
        }
        first += part.rows() as u64;
        strangest.sort_by(|a, b| b.score.total_cmp(&a.score).then(a.number.cmp(&b.number)));
        // One skewed column must not hide what is odd in the others.
        let mut by_column = vec![0; profiles.len()];
        strangest.retain(|found| {
            by_column[found.by] += 1;
            by_column[found.by] <= MOST_BY_ONE
        });
    }
    let why = |part: &Table, row: usize| {
        let mut reasons: Vec<(f64, String)> = part
            .columns()
            .iter()
            .zip(&strange)
            .filter(|(_, s)| !matches!(s, Strange::Never))
            .map(|(column, s)| (Adds::of(column, s).score(row), s, column))
            .filter(|r| r.0 > 0.0)
            .map(|(score, s, column)| (score, s.words(column, row)))
            .collect();
        reasons.sort_by(|a, b| b.0.total_cmp(&a.0));
        reasons.into_iter().take(3).map(|r| r.1).collect::<Vec<_>>().join("; ")
    };
    let named = strangest.into_iter().take(MOST);
    (repeated, named.map(|f| Unlike { row: f.number, why: why(&parts[f.part], f.row) }).collect())
}

/// A column of one part: what every value adds to a row's mark and strangeness.
enum Adds<'a> {
    /// By the code of the value; the last is for a missing one.
    Words { words: &'a Words, marks: Vec<u64>, scores: Vec<f64> },
    /// From the number itself.
    Numbers { column: &'a Column, strange: &'a Strange },
}

impl<'a> Adds<'a> {
    fn of(column: &'a Column, strange: &'a Strange) -> Self {
        let ColumnValues::Words(words) = &column.values else { return Self::Numbers { column, strange } };
        let score = |word: &str| match strange {
            Strange::Words { counts, rows } => {
                let share = counts.get(word).map_or(1.0, |n| *n as f64 / *rows as f64);
                if share < RARE { (RARE / share).ln() + 1.0 } else { 0.0 }
            }
            _ => 0.0,
        };
        let mark = |word: &str| {
            let mut hasher = DefaultHasher::new();
            word.hash(&mut hasher);
            hasher.finish()
        };
        Self::Words {
            words,
            marks: words.levels().map(mark).chain([MISSING]).collect(),
            scores: words.levels().map(score).chain([0.0]).collect(),
        }
    }

    fn mark(&self, row: usize) -> u64 {
        match self {
            Self::Words { words, marks, .. } => marks[words.code(row).unwrap_or(marks.len() - 1)],
            Self::Numbers { column, .. } => column.number(row).map_or(MISSING, f64::to_bits),
        }
    }

    /// How strange the value is; 0 if it is not.
    fn score(&self, row: usize) -> f64 {
        match self {
            Self::Words { words, scores, .. } => scores[words.code(row).unwrap_or(scores.len() - 1)],
            Self::Numbers { column, strange: Strange::Number { middle, spread, .. } } => {
                let away = |x: f64| (((x - middle) / spread).abs() - USUAL).clamp(0.0, MOST_OF_ONE);
                column.number(row).map_or(0.0, away)
            }
            Self::Numbers { .. } => 0.0,
        }
    }
}

/// The row as one number; two rows with the same values have the same.
fn mark(columns: &[Adds], row: usize) -> u64 {
    columns.iter().fold(0, |mark, column| (mark.rotate_left(5) ^ column.mark(row)).wrapping_mul(SPREAD))
}
