//! The mistakes that practitioners make, and what becomes of each of them here.

use crate::study::CautionKind;

/// A mistake that would make the answer wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mistake {
    /// What is done wrong.
    pub what: &'static str,
    /// What becomes of it.
    pub answers: &'static [MistakeStatus],
}

/// What becomes of a mistake.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MistakeStatus {
    /// It cannot be made, and why not.
    CannotBe(&'static str),
    /// It is looked for in the rows and candidates of every study.
    Raised(CautionKind),
    /// It is spoken of where it would be made, and how.
    SaidAt(MistakeStop, &'static str),
}

/// A stop of the way of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MistakeStop {
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

impl MistakeStop {
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

use MistakeStatus::{CannotBe, Raised, SaidAt};

const fn mistake(what: &'static str, answers: &'static [MistakeStatus]) -> Mistake {
    Mistake { what, answers }
}

/// All of them; the first is number 1.
pub const MISTAKES: [Mistake; 38] = [
    mistake(
        "Rows are oversampled, undersampled or synthesised before the split",
        &[CannotBe("balancing is applied to the rows of a fit, after the split, and to no others")],
    ),
    mistake(
        "Imputation, scaling or encoding is fitted to rows of the validation or test set",
        &[CannotBe("a preparation is fitted with the model, to its rows, and travels with it")],
    ),
    mistake(
        "Synthetic rows lie between a yes and a no, or between two categories",
        &[CannotBe("a synthetic row takes each category and each yes or no from a real one")],
    ),
    mistake(
        "Probabilities stay distorted after balancing",
        &[CannotBe("a balanced model is calibrated on training rows as they are")],
    ),
    mistake("A column is used that is known only afterwards (leakage)", &[Raised(CautionKind::KnownAfterwards)]),
    mistake(
        "The outcome, or a copy of it, is used as a column",
        &[
            CannotBe("the outcome itself is never a predictor, and no step reads it"),
            Raised(CautionKind::CopyOfOutcome),
        ],
    ),
    mistake("A group average contains the outcome (target leakage)", &[Raised(CautionKind::GroupAverage)]),
    mistake("A column is used that carries no information", &[Raised(CautionKind::NoInformation)]),
    mistake("Codes are read as quantities", &[Raised(CautionKind::CodeAsQuantity)]),
    mistake(
        "Categories become arbitrary numbers",
        &[CannotBe("a category becomes one indicator for each value, or on request a target encoding")],
    ),
    mistake(
        "Accuracy is read where one class is rare",
        &[SaidAt(MistakeStop::Compare, "accuracy is shown with that of predicting “no” for everybody")],
    ),
    mistake(
        "Accuracy, precision and the like are taken for one another",
        &[CannotBe("every measure is explained from its counts, in the words of the question")],
    ),
    mistake(
        "A model is used that was never evaluated",
        &[
            CannotBe("every candidate is evaluated on rows that it was not fitted to"),
            SaidAt(MistakeStop::Lists, "the match report says which customers the model was fitted to"),
        ],
    ),
    mistake(
        "Figures of training rows are read as performance to expect",
        &[CannotBe(
            "figures are of validation rows or out-of-fold; those of training rows stand beside them, labelled",
        )],
    ),
    mistake(
        "Model and cut-off are chosen on the test set",
        &[CannotBe("the test set is sealed until a policy is kept, and every opening is counted")],
    ),
    mistake(
        "A difference between two models is chance",
        &[SaidAt(MistakeStop::Compare, "two candidates are compared on the same customers with a confidence interval")],
    ),
    mistake(
        "A cut-off at one half that nobody chose, or in the wrong direction",
        &[CannotBe("a cut-off is proposed from the profit of each outcome, and always stated as a sentence")],
    ),
    mistake("Scores are read as probabilities", &[Raised(CautionKind::Uncalibrated)]),
    mistake(
        "Coefficients are compared without their units",
        &[CannotBe("they are given per realistic step of each column, with confidence intervals")],
    ),
    mistake(
        "Association is reported as causation",
        &[CannotBe("sentences state associations with the outcome, never causes")],
    ),
    mistake(
        "Importance is read as if no column had been excluded",
        &[SaidAt(MistakeStop::Compare, "excluded columns are listed beside the importance")],
    ),
    mistake("The first split of one tree is taken as what matters most", &[Raised(CautionKind::UnstableTree)]),
    mistake("A derived column is confirmed on the rows that it was derived from", &[Raised(CautionKind::Unconfirmed)]),
    mistake(
        "Preparation is repeated by hand on the list to score",
        &[CannotBe("the model carries its preparation to lists, API and exports")],
    ),
    mistake(
        "The columns of a list do not match",
        &[SaidAt(MistakeStop::Lists, "names, kinds and values are compared before anything is scored")],
    ),
    mistake(
        "Customers are scored whom the model was fitted to",
        &[SaidAt(MistakeStop::Lists, "the match report counts them, and marks each on request")],
    ),
    mistake("Rows are split at random although time matters", &[Raised(CautionKind::TimeMatters)]),
    mistake(
        "The outcome is coded the wrong way round",
        &[
            Raised(CautionKind::ReversedOutcome),
            SaidAt(MistakeStop::Train, "a candidate whose AUC is below 0.5 by more than chance raises a caution"),
        ],
    ),
    mistake(
        "Sensitive attributes, or proxies for them, are used unexamined",
        &[
            Raised(CautionKind::StandIn),
            SaidAt(MistakeStop::Decide, "groups are compared by selection rate, precision, recall and calibration"),
        ],
    ),
    mistake(
        "A customer is imagined who cannot be",
        &[SaidAt(MistakeStop::Decide, "values that never occur together are marked")],
    ),
    mistake(
        "Meaningless parts of dates are predictors",
        &[CannotBe("columns from dates are proposed, and made on request only")],
    ),
    mistake("A curve is read closely where events are few", &[Raised(CautionKind::FewEvents)]),
    mistake(
        "More rows are assumed to help",
        &[SaidAt(
            MistakeStop::Compare,
            "a learning curve fits a candidate to fewer rows and shows what more of them would bring",
        )],
    ),
    mistake(
        "Conclusions are drawn from demo data",
        &[CannotBe("demo data carry a badge on every page, and files and statements say so")],
    ),
    mistake("A customer is on both sides of the split", &[Raised(CautionKind::RepeatedCustomers)]),
    mistake(
        "A join duplicates or loses customers",
        &[SaidAt(MistakeStop::Records, "keys and rows are counted before it runs")],
    ),
    mistake(
        "A decision pays only because one assumption is rosy",
        &[SaidAt(MistakeStop::Decide, "each assumption is shown with its break-even value")],
    ),
    mistake(
        "A campaign is evaluated without a control group",
        &[SaidAt(MistakeStop::Lists, "without one, no effect is reported")],
    ),
];
