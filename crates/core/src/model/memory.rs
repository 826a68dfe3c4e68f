//! How much memory a fit will take, told before it begins.

use super::recipe::Recipe;
use pronoia_learn::learn::Settings;
use pronoia_learn::prepare::{Encoding, MOST_INDICATORS};

/// How a column is held: as numbers, or as so many levels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Width {
    /// A number or a date.
    Number,
    /// Levels, of which there are so many.
    Levels(u64),
}

impl Recipe {
    /// Bytes that a fit to so many rows of such columns holds at its peak, about:
    /// the records, the rows as the estimator receives them, twice while folds are
    /// dealt out, and what the family keeps of its own. Measured fits stay below it.
    pub fn bytes_needed(&self, rows: u64, columns: &[Width]) -> u64 {
        let records: u64 = columns.iter().map(|width| if *width == Width::Number { 9 } else { 4 }).sum();
        let member = |settings: &Settings| design(settings.encoding(), columns) * 2 + own(settings, columns);
        let most = self.members().iter().map(member).max().unwrap_or(0);
        // Rows, outcomes, weights and probabilities.
        rows * (records + most + 64 * self.members().len() as u64)
    }
}

/// Bytes of a row as the estimator receives it.
fn design(encoding: Encoding, columns: &[Width]) -> u64 {
    let of = |width: &Width| match (width, encoding) {
        (Width::Number, Encoding::Native) => 8,
        // A flag stands beside a number with gaps.
        (Width::Number, _) => 16,
        (Width::Levels(levels), Encoding::Indicators) => 8 * (*levels).min(MOST_INDICATORS as u64),
        (Width::Levels(_), _) => 4,
    };
    columns.iter().map(of).sum()
}

/// Bytes of a row that the family keeps besides.
fn own(settings: &Settings, columns: &[Width]) -> u64 {
    let n = columns.len() as u64;
    match settings {
        Settings::Tree(_) | Settings::Forest(_) | Settings::Boosted(_) => n + 64,
        Settings::Network(_) => 4 * design(Encoding::Standardised, columns) / 8 + 64,
        Settings::Neighbours(_) => 4 * n + 16,
        Settings::Logistic(_) | Settings::Scorecard(_) | Settings::Bayes(_) | Settings::Svm(_) => 64,
    }
}
