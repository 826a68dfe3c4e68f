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
            Self::KnownAfterwards => "columns known only afterwards (leakage)",
            Self::CopyOfOutcome => "copies of the outcome",
            Self::GroupAverage => "averages that contain the outcome (target leakage)",
            Self::NoInformation => "columns without information",
            Self::CodeAsQuantity => "codes read as quantities",
            Self::Unconfirmed => "derived columns that are not confirmed on other rows",
            Self::TimeMatters => "event rates that change with time",
            Self::ReversedOutcome => "an outcome the wrong way round",
            Self::StandIn => "proxies for sensitive attributes",
            Self::RepeatedCustomers => "customers on both sides of the split",
            Self::Uncalibrated => "probabilities that are not calibrated",
            Self::UnstableTree => "unstable trees",
            Self::FewEvents => "candidates evaluated on few events",
        }
    }

    /// Why it would make the answer wrong.
    pub fn because(self) -> &'static str {
        match self {
            Self::KnownAfterwards => {
                "A value that is written after the outcome predicts it perfectly in past records and is not there yet when the next customer is scored."
            }
            Self::CopyOfOutcome => "A model that sees the outcome learns nothing else.",
            Self::GroupAverage => {
                "An average that was computed from the outcomes already contains the answer for these customers, and not for the next ones."
            }
            Self::NoInformation => {
                "A column that never varies, or differs for everybody, cannot distinguish the next customer from this one."
            }
            Self::CodeAsQuantity => "Reading a code as a quantity assumes that neighbouring codes are alike.",
            Self::Unconfirmed => {
                "A region that was selected for its high rate is high there by selection; only other rows can confirm it."
            }
            Self::TimeMatters => {
                "With a random split, a model is evaluated on customers of the same months that it learned from; the list it will score comes later."
            }
            Self::ReversedOutcome => {
                "With the wrong value as the event, every probability, and every action, is turned round."
            }
            Self::StandIn => "Excluding a sensitive attribute does not help where another column is a proxy for it.",
            Self::RepeatedCustomers => {
                "A customer who is in the training set and in the rows for evaluation makes the model look better than it is for new customers."
            }
            Self::Uncalibrated => {
                "A cut-off weighs money by the probability. Where that is wrong, the ranking of customers may be right and the cut-off still be wrong."
            }
            Self::UnstableTree => {
                "A single tree splits by one column first where several are about as informative; read as what matters most, it misleads."
            }
            Self::FewEvents => "With few events single customers decide the shape of a curve.",
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
