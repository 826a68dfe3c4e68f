//! Who is judged on what: training, validation and the sealed test.

mod fold;
mod groups;
mod near_duplicates;
mod plan;

pub use fold::Fold;
pub use near_duplicates::Alike;
pub use plan::{SplitMethod, SplitPlan};

use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::Table;
use crate::number::count;
use groups::RowGroups;

/// How many folds there may be.
const FOLDS: std::ops::RangeInclusive<usize> = 3..=20;

/// The part of a study that a row belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SplitPart {
    /// Everything is fitted on these rows and on no others.
    Training,
    /// Models and cut-offs are chosen on these.
    Validation,
    /// Sealed: they confirm the choice, once.
    Test,
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
        "Among the {part} rows there would be {} customers with the event and {} without; both are needed. {remedy}",
        count(*events as u64),
        count(*others as u64)
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
    /// Too few folds or too many.
    #[error("Use {} to {} folds.", FOLDS.start(), FOLDS.end())]
    Folds,
    /// The column that the split looks at is not there.
    #[error("The customers are split by “{0}”, and there is no such column. Choose another split.")]
    NoColumn(String),
}

/// The rows of every part, each in order. No row is in two of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Split {
    /// Rows to fit on.
    pub training: Vec<usize>,
    /// Rows to choose on.
    pub validation: Vec<usize>,
    /// Sealed rows.
    pub test: Vec<usize>,
}

impl Split {
    /// All rows but the sealed ones, in order.
    pub fn unsealed(&self) -> Vec<usize> {
        let mut rows = [self.training.as_slice(), &self.validation].concat();
        rows.sort_unstable();
        rows
    }
}

impl SplitPlan {
    /// Deals out the rows whose outcome is known; the others are in no part.
    ///
    /// `happened[i]` belongs to row `i` of the table, which need only have the
    /// columns that the plan [reads](SplitPlan::columns). The parts never
    /// overlap, and rows that belong together are never in two of them.
    ///
    /// # Errors
    /// [`SplitError`] if a part would be one-sided or a column is not there.
    pub fn deal(&self, table: &Table, happened: &[Option<bool>]) -> Result<Split, SplitError> {
        let &Self { training, validation, .. } = self;
        if !(training > 0.0 && validation > 0.0 && training + validation < 1.0) {
            return Err(SplitError::Shares { training, validation });
        }
        if self.folds.is_some_and(|folds| !FOLDS.contains(&folds)) {
            return Err(SplitError::Folds);
        }
        let column = |name: &String| table.column(name).ok_or_else(|| SplitError::NoColumn(name.clone()));
        let known: Vec<usize> = (0..happened.len()).filter(|&row| happened[row].is_some()).collect();
        let event: Vec<bool> = known.iter().map(|&row| happened[row] == Some(true)).collect();
        let groups = match &self.together {
            Some(name) => RowGroups::of(column(name)?, &known),
            None => RowGroups::single(known.len()),
        };
        let parts = match &self.by {
            SplitMethod::AtRandom => self.at_random(&groups, &event, None),
            SplitMethod::Newest { column: name } => self.newest(&groups, &groups.latest(column(name)?, &known)),
            SplitMethod::Given { column: name, validation, test } => {
                let column = column(name)?;
                let says = |row: usize, word: &Option<String>| {
                    word.is_some() && column.text(row).as_deref() == word.as_deref()
                };
                let given: Vec<SplitPart> = known
                    .iter()
                    .map(|&row| match () {
                        () if column.text(row).as_deref() == Some(test) => SplitPart::Test,
                        () if says(row, validation) => SplitPart::Validation,
                        () => SplitPart::Training,
                    })
                    .collect();
                match validation {
                    Some(_) => given,
                    None => self.at_random(&groups, &event, Some(&given)),
                }
            }
        };
        let of = |part| known.iter().zip(&parts).filter(|&(_, p)| *p == part).map(|(&row, _)| row).collect();
        let dealt = Split {
            training: of(SplitPart::Training),
            validation: of(SplitPart::Validation),
            test: of(SplitPart::Test),
        };
        self.check_sides(&dealt, happened)?;
        Ok(dealt)
    }

    /// The fold of every row given, out of `folds`; rows that the plan keeps
    /// together are in one fold.
    ///
    /// # Errors
    /// [`SplitError::NoColumn`].
    pub fn folds_of(
        &self,
        table: &Table,
        rows: &[usize],
        event: &[bool],
        (folds, seed): (usize, u64),
    ) -> Result<Vec<usize>, SplitError> {
        let groups = match &self.together {
            Some(name) => RowGroups::of(table.column(name).ok_or_else(|| SplitError::NoColumn(name.clone()))?, rows),
            None => RowGroups::single(rows.len()),
        };
        Ok(folds_of(&groups, event, folds, seed))
    }

    /// Deals groups out by lot, those with an event and those without
    /// separately, so that every part has the same share of either to within
    /// one group. Rows that are `given` to the test stay there, and of the
    /// others no more are put beside them.
    fn at_random(&self, groups: &RowGroups, event: &[bool], given: Option<&[SplitPart]>) -> Vec<SplitPart> {
        let mut rng = ChaCha8Rng::seed_from_u64(self.seed);
        let sealed = groups.any(|row| given.is_some_and(|parts| parts[row] == SplitPart::Test));
        let eventful = groups.any(|row| event[row]);
        let mut of_group = vec![SplitPart::Test; groups.count()];
        // With the test given, training and validation keep their proportion.
        let whole = if given.is_some() { self.training + self.validation } else { 1.0 };
        for side in [true, false] {
            let mut drawn: Vec<usize> =
                (0..groups.count()).filter(|&group| eventful[group] == side && !sealed[group]).collect();
            drawn.shuffle(&mut rng);
            let n = drawn.len() as f64;
            let first = (n * self.training / whole).round() as usize;
            let second = ((n * (self.training + self.validation) / whole).round() as usize).max(first).min(drawn.len());
            drawn[..first].iter().for_each(|&group| of_group[group] = SplitPart::Training);
            drawn[first..second].iter().for_each(|&group| of_group[group] = SplitPart::Validation);
        }
        groups.spread(&of_group)
    }

    /// The latest groups are the test, those before them validation. Whoever
    /// shares a moment shares a part; whoever has none is fitted on.
    fn newest(&self, groups: &RowGroups, latest: &[Option<f64>]) -> Vec<SplitPart> {
        let sizes = groups.sizes();
        let mut moments: Vec<(f64, usize)> =
            latest.iter().zip(&sizes).filter_map(|(when, size)| when.map(|w| (w, *size))).collect();
        moments.sort_by(|a, b| a.0.total_cmp(&b.0));
        let rows: usize = moments.iter().map(|m| m.1).sum();
        // The last moment at which no more than a share of the rows lies before.
        let from = |share: f64| {
            let mut before = 0;
            let start = moments.iter().position(|m| {
                before += m.1;
                before as f64 > share * rows as f64
            });
            start.map_or(f64::INFINITY, |at| moments[at].0)
        };
        let (chosen_on, sealed) = (from(self.training), from(self.training + self.validation));
        let part = |when: &Option<f64>| match when {
            Some(when) if *when >= sealed && sealed > chosen_on => SplitPart::Test,
            Some(when) if *when >= chosen_on => SplitPart::Validation,
            _ => SplitPart::Training,
        };
        groups.spread(&latest.iter().map(part).collect::<Vec<_>>())
    }

    fn check_sides(&self, dealt: &Split, happened: &[Option<bool>]) -> Result<(), SplitError> {
        let parts = [(&dealt.training, "training"), (&dealt.validation, "validation"), (&dealt.test, "test")];
        for (rows, part) in parts {
            let events = rows.iter().filter(|&&row| happened[row] == Some(true)).count();
            let others = rows.len() - events;
            if events == 0 || others == 0 {
                let remedy = match &self.by {
                    _ if !happened.contains(&Some(true)) => {
                        "The value chosen as the event never occurs; choose another."
                    }
                    SplitMethod::AtRandom => "Import more rows, or choose the other value as the event.",
                    SplitMethod::Newest { .. } => "Too few moments differ in that column; split at random instead.",
                    SplitMethod::Given { .. } => "Choose other values of the split column.",
                };
                return Err(SplitError::OneSided { part, events, others, remedy });
            }
        }
        Ok(())
    }
}

/// Deals rows into `folds` parts that take turns in being predicted by the
/// others: the fold of every row, with the same share of events in each to
/// within one row, drawn by lot.
pub fn folds(event: &[bool], folds: usize, seed: u64) -> Vec<usize> {
    folds_of(&RowGroups::single(event.len()), event, folds, seed)
}

/// The same where rows that belong together share a fold; then it is the groups
/// with an event of which each fold has as many, to within one.
fn folds_of(groups: &RowGroups, event: &[bool], folds: usize, seed: u64) -> Vec<usize> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0xf01d);
    let eventful = groups.any(|row| event[row]);
    let mut of_group = vec![0; groups.count()];
    let mut next = 0;
    for side in [true, false] {
        let mut drawn: Vec<usize> = (0..groups.count()).filter(|&group| eventful[group] == side).collect();
        drawn.shuffle(&mut rng);
        for group in drawn {
            of_group[group] = next % folds;
            next += 1;
        }
    }
    groups.spread(&of_group)
}
