//! Evening out how often events and others count, among training rows only.
//!
//! Nothing here sees a row that is judged: it is handed the rows to fit to,
//! after the split. What is fitted afterwards gives distorted probabilities,
//! which [`crate::calibrate`] corrects on rows that were not balanced.

mod shapes;
mod synthetic;

pub use shapes::{Shape, shapes};
pub use synthetic::Synthetic;

use rand::seq::SliceRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

use pronoia_data::Table;

/// How the rarer outcome is made to count more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum BalanceMethod {
    /// Not at all.
    #[default]
    AsTheyAre,
    /// Every row of the rarer outcome counts more.
    Weights,
    /// Rows of the rarer outcome are drawn again, by lot.
    OverSampling,
    /// Rows of the more frequent outcome are passed over, by lot.
    UnderSampling,
    /// Rows of the rarer outcome are made up between like ones.
    SyntheticRows,
}

impl BalanceMethod {
    /// Every method, in the order in which the pages offer them.
    pub const ALL: [BalanceMethod; 5] =
        [Self::AsTheyAre, Self::Weights, Self::OverSampling, Self::UnderSampling, Self::SyntheticRows];

    /// The stable word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::AsTheyAre => "as-they-are",
            Self::Weights => "weights",
            Self::OverSampling => "over-sampling",
            Self::UnderSampling => "under-sampling",
            Self::SyntheticRows => "synthetic-rows",
        }
    }

    /// What it does, for a form.
    pub fn description(self) -> &'static str {
        match self {
            Self::AsTheyAre => "None: training rows as they are",
            Self::Weights => "Class weights: rows of the rarer outcome weigh more",
            Self::OverSampling => "Oversampling: rows of the rarer outcome drawn again",
            Self::UnderSampling => "Undersampling: rows of the more frequent outcome dropped",
            Self::SyntheticRows => "Synthetic rows of the rarer outcome, between similar ones",
        }
    }
}

impl std::str::FromStr for BalanceMethod {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        Self::ALL.into_iter().find(|m| m.word() == word).ok_or_else(|| format!("“{word}” is not a balancing method"))
    }
}

/// A method, and how much the rarer outcome counts after it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Balance {
    /// How.
    pub method: BalanceMethod,
    /// The share of the rarer outcome afterwards, above 0 and at most 0.5.
    pub share: f64,
}

impl Default for Balance {
    fn default() -> Self {
        Self { method: BalanceMethod::AsTheyAre, share: 0.5 }
    }
}

/// Training rows after balancing.
#[derive(Debug, Clone)]
pub struct Balanced {
    /// Positions, among the rows that were handed in, of those that stay.
    pub kept: Vec<usize>,
    /// How much each of them counts; none if all count once.
    pub weight: Option<Vec<f64>>,
    /// Rows that were made up, with the columns asked for.
    pub synthetic: Option<Synthetic>,
}

impl Balance {
    /// Whether the rows stay as they are.
    pub fn is_off(&self) -> bool {
        self.method == BalanceMethod::AsTheyAre
    }

    /// Checks the share.
    ///
    /// # Errors
    /// A sentence if it is out of range.
    pub fn check(&self) -> Result<(), String> {
        if self.share > 0.0 && self.share <= 0.5 {
            return Ok(());
        }
        Err("The share of the rarer outcome after balancing is above 0 and at most 50 %.".into())
    }

    /// Balances the rows given; `event[i]` says what happened in `rows[i]`.
    ///
    /// Rows that are rarer than asked for already stay as they are. Synthetic
    /// rows have the `columns` named. What is drawn by lot depends on the seed
    /// and the order of the rows alone.
    pub fn apply(&self, table: &Table, columns: &[String], rows: &[usize], event: &[bool], seed: u64) -> Balanced {
        let all: Vec<usize> = (0..rows.len()).collect();
        let events = event.iter().filter(|&&e| e).count();
        let rarer_side = events * 2 <= event.len();
        let rarer: Vec<usize> = all.iter().copied().filter(|&i| event[i] == rarer_side).collect();
        let others = rows.len() - rarer.len();
        let odds = self.share / (1.0 - self.share);
        // Rows of the rarer outcome that would make up the share.
        let wanted = (odds * others as f64).round() as usize;
        let mut balanced = Balanced { kept: all, weight: None, synthetic: None };
        if rarer.is_empty() || wanted <= rarer.len() {
            return balanced;
        }
        let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0xba1a_ce00);
        match self.method {
            BalanceMethod::AsTheyAre => {}
            BalanceMethod::Weights => {
                let more = odds * others as f64 / rarer.len() as f64;
                // All together count as many as there are, so that penalties keep their meaning.
                let scale = rows.len() as f64 / (others as f64 + more * rarer.len() as f64);
                let weigh = |&e: &bool| scale * if e == rarer_side { more } else { 1.0 };
                balanced.weight = Some(event.iter().map(weigh).collect());
            }
            BalanceMethod::OverSampling => {
                // Counting a row twice is drawing it twice, and no copy can stray into rows held back.
                let mut weight = vec![1.0; rows.len()];
                for _ in rarer.len()..wanted {
                    weight[rarer[rng.random_range(0..rarer.len())]] += 1.0;
                }
                balanced.weight = Some(weight);
            }
            BalanceMethod::UnderSampling => {
                let mut passed: Vec<usize> = (0..rows.len()).filter(|&i| event[i] != rarer_side).collect();
                passed.shuffle(&mut rng);
                let keep = ((rarer.len() as f64 / odds).round() as usize).clamp(1, passed.len());
                let mut kept = rarer;
                kept.extend_from_slice(&passed[..keep]);
                kept.sort_unstable();
                balanced.kept = kept;
            }
            BalanceMethod::SyntheticRows => {
                balanced.synthetic = Synthetic::between(table, columns, rows, &rarer, wanted - rarer.len(), &mut rng);
            }
        }
        balanced
    }
}
