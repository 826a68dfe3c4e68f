//! A sample of the customers: fewer rows to work on, with the event rate as it is.

use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

use pronoia_data::number::{count, plain};

/// How many customers are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SampleSize {
    /// A share of them, above 0 and below 1.
    Share(f64),
    /// So many, or all if there are fewer.
    Rows(u64),
}

impl SampleSize {
    /// In a few words.
    pub(super) fn words(self) -> String {
        match self {
            Self::Share(share) => format!("sample {} % of the customers at random", plain(share * 100.0)),
            Self::Rows(rows) => format!("sample {} customers at random", count(rows)),
        }
    }

    /// Whether it asks for something that can be drawn.
    pub(super) fn check(self) -> Result<(), String> {
        match self {
            Self::Share(share) if !(share > 0.0 && share < 1.0) => {
                Err("The share of customers to sample is above 0 and below 100 %.".into())
            }
            Self::Rows(rows) if rows < 2 => Err("Sample two customers at least.".into()),
            _ => Ok(()),
        }
    }

    /// Draws among the customers whose outcome is known, those with the event
    /// and those without separately; the others have no outcome afterwards. The
    /// same seed draws the same customers.
    pub fn draw(self, happened: &mut [Option<bool>], seed: u64) {
        let known = happened.iter().flatten().count() as f64;
        let share = match self {
            Self::Share(share) => share,
            Self::Rows(rows) => (rows as f64 / known.max(1.0)).min(1.0),
        };
        let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x5a3e);
        for side in [Some(true), Some(false)] {
            let mut rows: Vec<usize> = (0..happened.len()).filter(|&row| happened[row] == side).collect();
            rows.shuffle(&mut rng);
            let drawn = (rows.len() as f64 * share).round() as usize;
            rows[drawn.min(rows.len())..].iter().for_each(|&row| happened[row] = None);
        }
    }
}
