//! The kinds of caution, and those that somebody decided to live with.

use serde::{Deserialize, Serialize};

/// Which mistake.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CautionKind {
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

impl CautionKind {
    /// Every rule.
    pub const ALL: [CautionKind; 13] = [
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

impl std::str::FromStr for CautionKind {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        Self::ALL.into_iter().find(|r| r.word() == word).ok_or_else(|| format!("There is no caution “{word}”."))
    }
}

/// A caution that somebody decided to live with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AcceptedCaution {
    /// Which mistake.
    pub rule: CautionKind,
    /// The column, or the candidate, that it is about.
    #[serde(alias = "column")]
    pub about: String,
    /// Why it is none here.
    pub because: String,
}
