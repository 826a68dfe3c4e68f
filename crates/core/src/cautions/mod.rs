//! Mistakes that would make the answer wrong, each with its evidence and a remedy.
//!
//! One file holds one rule: a function from what was seen of a study to the
//! cautions it gives rise to. All evidence comes from training rows; the only
//! rule that looks at validation rows is the one that asks whether a derived
//! column holds there.

mod candidate;
mod code_as_quantity;
mod copy_of_outcome;
mod few_events;
mod group_average;
mod known_afterwards;
mod left_out;
mod mistakes;
mod no_information;
mod remedy;
mod repeated_customers;
mod reversed_outcome;
mod stand_in;
mod time_matters;
mod uncalibrated;
mod unconfirmed;
mod unstable_tree;
mod worse_than_chance;

pub use candidate::{Candidate, look_at_candidate};
pub use left_out::left_out;
pub use mistakes::{Answer, MISTAKES, Mistake, Stop};
pub use remedy::Remedy;
pub use worse_than_chance::worse_than_chance;

use serde::{Deserialize, Serialize};

use crate::profile::TableProfile;
use crate::split::Dealt;
use crate::study::{Question, StudyState};
use crate::{Column, Table};

/// Which mistake.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rule {
    /// A predictor whose value is known only after the outcome.
    KnownAfterwards,
    /// A predictor that says the same as the outcome.
    CopyOfOutcome,
    /// A predictor that is the average of a group, outcomes included.
    GroupAverage,
    /// A predictor that cannot tell the next customer.
    NoInformation,
    /// A name made of digits, read as an amount.
    CodeAsQuantity,
    /// A derived column that does not hold on rows it was not drawn from.
    Unconfirmed,
    /// Rows dealt out by lot although the outcome changes with time.
    TimeMatters,
    /// The other value of the outcome is meant.
    ReversedOutcome,
    /// A predictor that stands in for a sensitive attribute.
    StandIn,
    /// Customers with several rows, dealt out as if they were strangers.
    RepeatedCustomers,
    /// Scores that are read as probabilities and are none.
    Uncalibrated,
    /// The top of a single tree, taken as what matters most.
    UnstableTree,
    /// Curves and intervals that rest on a handful of events.
    FewEvents,
}

impl Rule {
    /// Every rule.
    pub const ALL: [Rule; 13] = [
        Self::CopyOfOutcome,
        Self::KnownAfterwards,
        Self::ReversedOutcome,
        Self::GroupAverage,
        Self::NoInformation,
        Self::CodeAsQuantity,
        Self::RepeatedCustomers,
        Self::TimeMatters,
        Self::Unconfirmed,
        Self::StandIn,
        Self::Uncalibrated,
        Self::UnstableTree,
        Self::FewEvents,
    ];

    /// The stable word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::KnownAfterwards => "known-afterwards",
            Self::CopyOfOutcome => "copy-of-outcome",
            Self::GroupAverage => "group-average",
            Self::NoInformation => "no-information",
            Self::CodeAsQuantity => "code-as-quantity",
            Self::Unconfirmed => "unconfirmed",
            Self::TimeMatters => "time-matters",
            Self::ReversedOutcome => "reversed-outcome",
            Self::StandIn => "stand-in",
            Self::RepeatedCustomers => "repeated-customers",
            Self::Uncalibrated => "uncalibrated",
            Self::UnstableTree => "unstable-tree",
            Self::FewEvents => "few-events",
        }
    }

    /// What is looked for, within a sentence.
    pub fn sought(self) -> &'static str {
        match self {
            Self::KnownAfterwards => "columns known only afterwards",
            Self::CopyOfOutcome => "copies of the outcome",
            Self::GroupAverage => "averages that hold the outcome",
            Self::NoInformation => "columns that cannot tell customers apart",
            Self::CodeAsQuantity => "codes read as amounts",
            Self::Unconfirmed => "derived columns that do not hold on other rows",
            Self::TimeMatters => "event rates that change with time",
            Self::ReversedOutcome => "an outcome the wrong way round",
            Self::StandIn => "stand-ins for sensitive attributes",
            Self::RepeatedCustomers => "customers on both sides of the split",
            Self::Uncalibrated => "probabilities that do not hold",
            Self::UnstableTree => "trees that other draws of the rows would not grow",
            Self::FewEvents => "candidates judged on few events",
        }
    }

    /// Why it would make the answer wrong.
    pub fn because(self) -> &'static str {
        match self {
            Self::KnownAfterwards => {
                "A value that is written after the outcome tells it perfectly in past records and is not there yet when the next customer is scored."
            }
            Self::CopyOfOutcome => "A model that is told the outcome learns nothing else.",
            Self::GroupAverage => {
                "An average that was taken with the outcomes in it already holds the answer for these customers, and not for the next ones."
            }
            Self::NoInformation => {
                "What never varies, or differs for everybody, cannot tell the next customer from this one."
            }
            Self::CodeAsQuantity => {
                "Reading a number that names something as an amount claims that neighbours in the numbering are alike."
            }
            Self::Unconfirmed => {
                "A region that was drawn where the rate looked high is high there by choice; only other rows can say whether it holds."
            }
            Self::TimeMatters => {
                "Dealt out by lot, a model is judged on customers of the same months that it learned from; the list it will score comes later."
            }
            Self::ReversedOutcome => {
                "With the wrong value as the event, every probability, and every action, is turned round."
            }
            Self::StandIn => {
                "Leaving a sensitive attribute out does not help where another column says nearly the same."
            }
            Self::RepeatedCustomers => {
                "A customer who is learned from and judged makes the model look better than it is for strangers."
            }
            Self::Uncalibrated => {
                "A cut-off weighs money by the probability. Where that is wrong, the order of customers may be right and the line still be drawn in the wrong place."
            }
            Self::UnstableTree => {
                "A single tree puts one column on top where several say about as much; read as what matters most, it misleads."
            }
            Self::FewEvents => "With few events a curve bends as single customers happen to fall.",
        }
    }
}

impl std::str::FromStr for Rule {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        Self::ALL.into_iter().find(|r| r.word() == word).ok_or_else(|| format!("There is no caution “{word}”."))
    }
}

/// Something that would make the answer wrong.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Caution {
    /// Which mistake.
    pub rule: Rule,
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

/// A caution that somebody decided to live with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Kept {
    /// Which mistake.
    pub rule: Rule,
    /// The column, or the candidate, that it is about.
    #[serde(alias = "column")]
    pub about: String,
    /// Why it is none here.
    pub because: String,
}

/// What the rules look at.
pub struct Seen<'a> {
    /// The records with every derived column, as far as they were fetched.
    pub table: &'a Table,
    /// What happened, row by row.
    pub happened: &'a [Option<bool>],
    /// Who is judged on what.
    pub dealt: &'a Dealt,
    /// The figures of the whole table.
    pub profile: &'a TableProfile,
    /// The choices.
    pub state: &'a StudyState,
    /// What is asked.
    pub question: Question,
}

impl Seen<'_> {
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
pub fn look(seen: &Seen) -> Vec<Caution> {
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
        stand_in::look,
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
            Rule::TimeMatters | Rule::RepeatedCustomers => !self.remedy.is_taken(state),
            Rule::ReversedOutcome => state.outcome.as_ref().is_some_and(|o| o.column == self.about),
            Rule::CodeAsQuantity => goes_in() && !self.remedy.is_taken(state),
            // Whether a candidate stands for the present choices is for its keeper to say.
            Rule::Uncalibrated | Rule::UnstableTree => true,
            Rule::FewEvents => !self.remedy.is_taken(state),
            _ => goes_in(),
        }
    }

    /// Why it was kept, if it was.
    pub fn kept<'a>(&self, state: &'a StudyState) -> Option<&'a str> {
        let is_this = |kept: &&Kept| kept.rule == self.rule && kept.about == self.about;
        state.kept.iter().find(is_this).map(|kept| kept.because.as_str())
    }
}
