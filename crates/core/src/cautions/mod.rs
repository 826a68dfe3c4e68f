//! Mistakes that would make the answer wrong, each with its evidence and a remedy.
//!
//! One file holds one rule: a function from what was seen of a study to the
//! cautions it gives rise to. All evidence comes from training rows; the only
//! rule that looks at validation rows is the one that asks whether a derived
//! column holds there.

mod candidate;
mod code_as_quantity;
mod copy_of_outcome;
mod excluded_columns;
mod few_events;
mod group_average;
mod known_afterwards;
mod mistakes;
mod no_information;
mod proxy;
mod remedy;
mod repeated_customers;
mod reversed_outcome;
mod survey;
mod time_matters;
mod uncalibrated;
mod unconfirmed;
mod unstable_tree;
mod worse_than_chance;

pub use candidate::{CautionedCandidate, look_at_candidate};
pub use excluded_columns::excluded_columns;
pub use mistakes::{MISTAKES, Mistake, MistakeStatus, MistakeStop};
pub use remedy::Remedy;
pub use survey::Survey;
pub use worse_than_chance::worse_than_chance;

use serde::{Deserialize, Serialize};

use crate::study::{AcceptedCaution, CautionKind, StudyState};
use pronoia_data::profile::TableProfile;
use pronoia_data::split::Split;
use pronoia_data::{Column, Table};
use pronoia_decide::question::Question;

/// Something that would make the answer wrong.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Caution {
    /// Which mistake.
    pub rule: CautionKind,
    /// The column, or the candidate, that it is about.
    #[serde(alias = "column")]
    pub about: String,
    /// In a few words.
    pub heading: String,
    /// What was seen, in a sentence with its counts.
    pub evidence: String,
    /// What mends it.
    pub remedy: Remedy,
}

/// What the rules look at.
pub struct CautionInput<'a> {
    /// The records with every derived column, as far as they were fetched.
    pub table: &'a Table,
    /// What happened, row by row.
    pub happened: &'a [Option<bool>],
    /// Who is judged on what.
    pub dealt: &'a Split,
    /// The figures of the whole table.
    pub profile: &'a TableProfile,
    /// The choices.
    pub state: &'a StudyState,
    /// What is asked.
    pub question: Question,
}

impl CautionInput<'_> {
    /// The predictors that are there, with their columns.
    fn predictors(&self) -> impl Iterator<Item = &Column> {
        self.state.columns.iter().filter(|c| c.goes_in()).filter_map(|c| self.table.column(&c.name))
    }

    /// What happened in the training rows, in their order.
    fn training_events(&self) -> Vec<bool> {
        self.dealt.training.iter().map(|&row| self.happened[row] == Some(true)).collect()
    }
}

/// Looks for every mistake; those that were kept on purpose are among them.
pub fn look(seen: &CautionInput) -> Vec<Caution> {
    let rules = [
        copy_of_outcome::look,
        known_afterwards::look,
        reversed_outcome::look,
        group_average::look,
        no_information::look,
        code_as_quantity::look,
        repeated_customers::look,
        time_matters::look,
        unconfirmed::look,
        proxy::look,
    ];
    let mut cautions: Vec<Caution> = Vec::new();
    for rule in rules {
        for caution in rule(seen) {
            // The first rule says all that there is to say against a column.
            if cautions.iter().all(|c| c.about != caution.about) {
                cautions.push(caution);
            }
        }
    }
    cautions
}

impl Caution {
    /// Whether it still concerns the study after a change of its choices.
    pub fn concerns(&self, state: &StudyState) -> bool {
        let goes_in = || state.columns.iter().any(|c| c.name == self.about && c.goes_in());
        match self.rule {
            CautionKind::TimeMatters | CautionKind::RepeatedCustomers => !self.remedy.is_taken(state),
            CautionKind::ReversedOutcome => state.outcome.as_ref().is_some_and(|o| o.column == self.about),
            CautionKind::CodeAsQuantity => goes_in() && !self.remedy.is_taken(state),
            // Whether a candidate stands for the present choices is for its keeper to say.
            CautionKind::Uncalibrated | CautionKind::UnstableTree => true,
            CautionKind::FewEvents => !self.remedy.is_taken(state),
            _ => goes_in(),
        }
    }

    /// Why it was kept, if it was.
    pub fn kept<'a>(&self, state: &'a StudyState) -> Option<&'a str> {
        let is_this = |kept: &&AcceptedCaution| kept.rule == self.rule && kept.about == self.about;
        state.kept.iter().find(is_this).map(|kept| kept.because.as_str())
    }
}
