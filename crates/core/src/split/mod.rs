//! Who is judged on what: training, validation and the sealed test.

use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The part of a study that a row belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// Everything is fitted on these rows and on no others.
    Training,
    /// Models and cut-offs are chosen on these.
    Validation,
    /// Sealed: they confirm the choice, once.
    Test,
}

/// How rows are dealt out.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SplitPlan {
    /// Share of rows that models are fitted on.
    pub training: f64,
    /// Share on which they are chosen.
    pub validation: f64,
    /// Starts the shuffle; the same seed deals the same rows.
    pub seed: u64,
}

impl Default for SplitPlan {
    fn default() -> Self {
        Self { training: 0.6, validation: 0.2, seed: 2024 }
    }
}

/// Why rows cannot be split so.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum SplitError {
    /// Shares that leave a part empty or add up to more than all.
    #[error(
        "The shares must be above 0 and leave something for the test: training {training}, validation {validation}."
    )]
    Shares {
        /// Asked for.
        training: f64,
        /// Asked for.
        validation: f64,
    },
    /// A part would have no event, or nothing but events.
    #[error(
        "Among the {part} rows there would be {events} customers with the event and {others} without; both are needed. {remedy}"
    )]
    OneSided {
        /// Which part.
        part: &'static str,
        /// Events in it.
        events: usize,
        /// Others in it.
        others: usize,
        /// What to do.
        remedy: &'static str,
    },
}

impl SplitPlan {
    /// Deals the rows out, events and others separately so that every part has
    /// the same event rate to within one row.
    ///
    /// `event[i]` says what happened to row `i`; rows without an outcome must
    /// have been taken out before. The parts never overlap.
    ///
    /// # Errors
    /// [`SplitError`] if a part would be one-sided.
    pub fn deal(&self, event: &[bool]) -> Result<Vec<Part>, SplitError> {
        let &Self { training, validation, seed } = self;
        if !(training > 0.0 && validation > 0.0 && training + validation < 1.0) {
            return Err(SplitError::Shares { training, validation });
        }
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let mut parts = vec![Part::Test; event.len()];
        for side in [true, false] {
            let mut rows: Vec<usize> = (0..event.len()).filter(|&i| event[i] == side).collect();
            rows.shuffle(&mut rng);
            let n = rows.len() as f64;
            let first = (n * training).round() as usize;
            let second = ((n * (training + validation)).round() as usize).max(first);
            rows[..first].iter().for_each(|&i| parts[i] = Part::Training);
            rows[first..second].iter().for_each(|&i| parts[i] = Part::Validation);
        }
        for (part, name) in [(Part::Training, "training"), (Part::Validation, "validation"), (Part::Test, "test")] {
            let of = |side| parts.iter().zip(event).filter(|&(p, e)| *p == part && *e == side).count();
            let (events, others) = (of(true), of(false));
            if events == 0 || others == 0 {
                let remedy = if event.iter().any(|&e| e) {
                    "Bring more rows, or choose the other value as the event."
                } else {
                    "The value chosen as the event never occurs; choose another."
                };
                return Err(SplitError::OneSided { part: name, events, others, remedy });
            }
        }
        Ok(parts)
    }
}

/// The rows of every part, each in order. No row is in two of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Dealt {
    /// Rows to fit on.
    pub training: Vec<usize>,
    /// Rows to choose on.
    pub validation: Vec<usize>,
    /// Sealed rows.
    pub test: Vec<usize>,
}

impl SplitPlan {
    /// Deals out the rows whose outcome is known; the others are in no part.
    ///
    /// # Errors
    /// As [`SplitPlan::deal`].
    pub fn deal_known(&self, happened: &[Option<bool>]) -> Result<Dealt, SplitError> {
        let known: Vec<usize> = (0..happened.len()).filter(|&row| happened[row].is_some()).collect();
        let event: Vec<bool> = known.iter().map(|&row| happened[row] == Some(true)).collect();
        let parts = self.deal(&event)?;
        let of = |part| known.iter().zip(&parts).filter(|&(_, p)| *p == part).map(|(&row, _)| row).collect();
        Ok(Dealt { training: of(Part::Training), validation: of(Part::Validation), test: of(Part::Test) })
    }
}
