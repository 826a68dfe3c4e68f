//! The mistakes that practitioners make, and what becomes of each of them here.

use crate::study::CautionKind;

/// A mistake that would make the answer wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mistake {
    /// What is done wrong.
    pub what: &'static str,
    /// What becomes of it.
    pub answers: &'static [Answer],
}

/// What becomes of a mistake.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    /// It cannot be made, and why not.
    CannotBe(&'static str),
    /// It is looked for in the rows and candidates of every study.
    Raised(CautionKind),
    /// It is spoken of where it would be made, and how.
    SaidAt(Stop, &'static str),
}

/// A stop of the way of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stop {
    /// Bring the customers in.
    Records,
    /// What goes with the outcome.
    Drivers,
    /// Columns and steps.
    Prepare,
    /// Fit candidates.
    Train,
    /// Which one.
    Compare,
    /// What to do about whom.
    Decide,
    /// Score and act.
    Lists,
    /// Serve and watch.
    Live,
}

impl Stop {
    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Records => "Records",
            Self::Drivers => "Drivers",
            Self::Prepare => "Prepare",
            Self::Train => "Train",
            Self::Compare => "Compare",
            Self::Decide => "Decide",
            Self::Lists => "Lists",
            Self::Live => "Live",
        }
    }
}

use Answer::{CannotBe, Raised, SaidAt};

const fn mistake(what: &'static str, answers: &'static [Answer]) -> Mistake {
    Mistake { what, answers }
}

/// All of them; the first is number 1.
pub const MISTAKES: [Mistake; 38] = [
    mistake(
        "Rows are drawn again, passed over or made up before the split",
        &[CannotBe("balancing is handed the rows of a fit, after the split, and sees no others")],
    ),
    mistake(
        "Filling, scaling or encoding is fitted to rows that judge later",
        &[CannotBe("a preparation is fitted with the model, to its rows, and travels with it")],
    ),
    mistake(
        "Made-up rows lie between a yes and a no, or between two categories",
        &[CannotBe("a made-up row takes each category and each yes or no from a real one")],
    ),
    mistake(
        "Probabilities stay distorted after balancing",
        &[CannotBe("a balanced model is corrected on training rows that were left as they are")],
    ),
    mistake("A column is used that is known only afterwards", &[Raised(CautionKind::KnownAfterwards)]),
    mistake(
        "The outcome, or a copy of it, is used as a column",
        &[CannotBe("the outcome itself never goes in, and no step reads it"), Raised(CautionKind::CopyOfOutcome)],
    ),
    mistake("A group’s average holds the outcome", &[Raised(CautionKind::GroupAverage)]),
    mistake("A column is used that cannot tell the next customer", &[Raised(CautionKind::NoInformation)]),
    mistake("Codes are read as amounts", &[Raised(CautionKind::CodeAsQuantity)]),
    mistake(
        "Categories become arbitrary numbers",
        &[CannotBe("a category becomes one indicator for each value, or a number learned from the outcome on request")],
    ),
    mistake(
        "Accuracy is read where one class is rare",
        &[SaidAt(Stop::Compare, "accuracy stands beside that of saying no to everybody")],
    ),
    mistake(
        "Accuracy, precision and the like are taken for one another",
        &[CannotBe("every measure is spelled out from its counts, in the words of the question")],
    ),
    mistake(
        "A model is used that was never judged",
        &[
            CannotBe("every candidate is judged on rows that it was not fitted to"),
            SaidAt(Stop::Lists, "the match report says which customers the model was fitted to"),
        ],
    ),
    mistake(
        "Figures of training rows are read as what to expect",
        &[CannotBe("figures are of held-out rows; those of training rows stand beside them, so called")],
    ),
    mistake(
        "Model and line are chosen on the last test",
        &[CannotBe("test rows are sealed until a policy is kept, and every opening is counted")],
    ),
    mistake(
        "A difference between two models is chance",
        &[SaidAt(Stop::Compare, "two candidates are compared with an interval on the same customers")],
    ),
    mistake(
        "A line at one half that nobody chose, or in the wrong direction",
        &[CannotBe("a line is proposed from what outcomes are worth, and always said as a sentence")],
    ),
    mistake("Scores are read as probabilities", &[Raised(CautionKind::Uncalibrated)]),
    mistake(
        "Coefficients are compared without their units",
        &[CannotBe("they are told per realistic step of each column, with intervals")],
    ),
    mistake(
        "What goes together is told as a cause",
        &[CannotBe("sentences say what goes with the outcome, and never what brings it about")],
    ),
    mistake(
        "Influence is read as if nothing had been left out",
        &[SaidAt(Stop::Compare, "what was left out stands beside what the model goes by")],
    ),
    mistake("The top of one tree is taken as what matters most", &[Raised(CautionKind::UnstableTree)]),
    mistake("A column is confirmed by the rows that it was drawn from", &[Raised(CautionKind::Unconfirmed)]),
    mistake(
        "Preparation is repeated by hand on the list",
        &[CannotBe("the model takes its preparation along, to lists, programs and other forms")],
    ),
    mistake(
        "The columns of a list do not match",
        &[SaidAt(Stop::Lists, "names, kinds and values are compared before anything is scored")],
    ),
    mistake(
        "Customers are scored whom the model was fitted to",
        &[SaidAt(Stop::Lists, "the match report counts them, and marks each on request")],
    ),
    mistake("Rows are dealt out by lot although time matters", &[Raised(CautionKind::TimeMatters)]),
    mistake(
        "The outcome is the wrong way round",
        &[
            Raised(CautionKind::ReversedOutcome),
            SaidAt(Stop::Train, "a candidate that orders customers the wrong way is told from chance"),
        ],
    ),
    mistake(
        "Sensitive attributes, or what stands in for them, are used unexamined",
        &[Raised(CautionKind::StandIn), SaidAt(Stop::Decide, "groups are compared by how the policy treats them")],
    ),
    mistake(
        "A customer is imagined who cannot be",
        &[SaidAt(Stop::Decide, "values that never occur together are marked")],
    ),
    mistake(
        "Parts of dates that mean nothing go in",
        &[CannotBe("what dates could tell is proposed, and made on request only")],
    ),
    mistake("A curve is read closely where events are few", &[Raised(CautionKind::FewEvents)]),
    mistake(
        "More rows are believed to help",
        &[SaidAt(Stop::Compare, "a closer look fits a candidate to fewer rows and says what more of them would bring")],
    ),
    mistake(
        "Something is concluded from made-up records",
        &[CannotBe("made-up records carry a badge on every page, and files and statements say so")],
    ),
    mistake("A customer is on both sides of the split", &[Raised(CautionKind::RepeatedCustomers)]),
    mistake(
        "A join multiplies or loses customers",
        &[SaidAt(Stop::Records, "keys and rows are counted before it runs")],
    ),
    mistake(
        "A decision pays only because one assumption is rosy",
        &[SaidAt(Stop::Decide, "each assumption is told with the value at which acting stops to pay")],
    ),
    mistake("A campaign is judged without a control group", &[SaidAt(Stop::Lists, "without one, no effect is told")]),
];
