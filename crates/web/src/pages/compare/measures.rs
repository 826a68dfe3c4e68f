//! The measures that candidates are compared by, in sets that answer one question each.

use std::sync::Arc;

use pronoia_core::decide::{ProfitPoint, Ranking};
use pronoia_core::evaluate::{Confusion, Evaluation};
use pronoia_core::question::Question;
use pronoia_store::candidates;

use super::Worth;
use crate::pages::meaning::{Meanings, area, hundred};
use crate::text;

/// Share of customers at which finds are counted.
pub const FIRST: f64 = 0.2;

/// A candidate that was judged.
pub struct Candidate<'a> {
    pub model: &'a candidates::Candidate,
    pub evaluation: Arc<Evaluation>,
    pub ranking: Option<Arc<Ranking>>,
    /// What it is worth, where there is a price.
    pub worth: Option<Arc<Worth>>,
    /// Counts when it acts on the share of customers that all are compared at.
    pub counts: Confusion,
}

impl Candidate<'_> {
    /// Its own best point, where there is a price.
    pub fn best(&self) -> Option<ProfitPoint> {
        self.worth.as_ref().map(|worth| worth.best)
    }

    /// Expected maximum profit, where there is a price and a chance that is uncertain.
    pub fn maximum(&self) -> Option<f64> {
        self.worth.as_ref().and_then(|worth| worth.maximum)
    }
}

/// Measures that answer one question.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Set {
    Order,
    Probabilities,
    Actions,
    Money,
    Time,
}

/// A measure.
pub struct Measure {
    /// The word for it in addresses.
    pub word: &'static str,
    /// How it is headed.
    pub name: &'static str,
    /// The figure; greater is better where `more_is_better`.
    pub value: fn(&Candidate) -> f64,
    pub more_is_better: bool,
    pub show: fn(&Candidate) -> String,
}

impl Set {
    pub const ALL: [Set; 5] = [Self::Order, Self::Probabilities, Self::Actions, Self::Money, Self::Time];

    pub fn word(self) -> &'static str {
        match self {
            Self::Order => "order",
            Self::Probabilities => "probabilities",
            Self::Actions => "actions",
            Self::Money => "money",
            Self::Time => "time",
        }
    }

    /// The question it answers.
    pub fn label(self) -> &'static str {
        match self {
            Self::Order => "who comes first",
            Self::Probabilities => "whether probabilities hold",
            Self::Actions => "acting on as many",
            Self::Money => "money",
            Self::Time => "time",
        }
    }

    pub fn measures(self) -> &'static [Measure] {
        match self {
            Self::Order => &ORDER,
            Self::Probabilities => &PROBABILITIES,
            Self::Actions => &ACTIONS,
            Self::Money => &MONEY,
            Self::Time => &TIME,
        }
    }
}

const ORDER: [Measure; 4] = [
    Measure {
        word: "area",
        name: "area under ROC",
        value: |c| c.evaluation.area_under_roc,
        more_is_better: true,
        show: |c| match c.evaluation.area() {
            Some(area) => {
                let (low, high) = area.interval();
                format!("{} ({}–{})", text::fixed(area.value, 3), text::fixed(low, 3), text::fixed(high, 3))
            }
            None => text::fixed(c.evaluation.area_under_roc, 3),
        },
    },
    Measure {
        word: "precision-recall",
        name: "precision–recall",
        value: |c| c.evaluation.average_precision,
        more_is_better: true,
        show: |c| text::fixed(c.evaluation.average_precision, 3),
    },
    Measure {
        word: "ks",
        name: "KS",
        value: |c| c.evaluation.kolmogorov_smirnov.unwrap_or(f64::NAN),
        more_is_better: true,
        show: |c| c.evaluation.kolmogorov_smirnov.map_or("–".into(), |ks| text::fixed(ks, 3)),
    },
    Measure {
        word: "found",
        name: "found in first 20 %",
        value: |c| c.evaluation.recall_at(FIRST),
        more_is_better: true,
        show: |c| text::percent(c.evaluation.recall_at(FIRST)),
    },
];

const PROBABILITIES: [Measure; 4] = [
    Measure {
        word: "log-loss",
        name: "log loss",
        value: |c| c.evaluation.log_loss,
        more_is_better: false,
        show: |c| text::fixed(c.evaluation.log_loss, 4),
    },
    Measure {
        word: "brier",
        name: "Brier",
        value: |c| c.evaluation.brier,
        more_is_better: false,
        show: |c| text::fixed(c.evaluation.brier, 4),
    },
    Measure {
        word: "mean",
        name: "said on average",
        value: |c| (c.evaluation.mean_probability - rate(&c.evaluation)).abs(),
        more_is_better: false,
        show: |c| text::percent(c.evaluation.mean_probability),
    },
    Measure {
        word: "holds",
        name: "groups that hold",
        value: |c| c.evaluation.calibration.iter().filter(|g| g.holds()).count() as f64,
        more_is_better: true,
        show: |c| {
            let groups = &c.evaluation.calibration;
            if groups.is_empty() {
                return "–".into();
            }
            format!("{} of {}", groups.iter().filter(|g| g.holds()).count(), groups.len())
        },
    },
];

const ACTIONS: [Measure; 5] = [
    Measure {
        word: "precision",
        name: "precision",
        value: |c| c.counts.precision(),
        more_is_better: true,
        show: |c| text::percent(c.counts.precision()),
    },
    Measure {
        word: "recall",
        name: "recall",
        value: |c| c.counts.recall(),
        more_is_better: true,
        show: |c| text::percent(c.counts.recall()),
    },
    Measure {
        word: "f1",
        name: "F1",
        value: |c| c.counts.f1(),
        more_is_better: true,
        show: |c| text::fixed(c.counts.f1(), 3),
    },
    Measure {
        word: "mcc",
        name: "MCC",
        value: |c| c.counts.matthews(),
        more_is_better: true,
        show: |c| text::fixed(c.counts.matthews(), 3),
    },
    Measure {
        word: "accuracy",
        name: "accuracy",
        value: |c| c.counts.accuracy(),
        more_is_better: true,
        show: |c| text::percent(c.counts.accuracy()),
    },
];

const MONEY: [Measure; 3] = [
    Measure {
        word: "maximum",
        name: "expected maximum",
        value: |c| c.maximum().unwrap_or(f64::NAN),
        more_is_better: true,
        show: |c| c.maximum().map_or("–".into(), text::money),
    },
    Measure {
        word: "acted",
        name: "acted on at its best",
        value: |c| c.best().map_or(f64::NAN, |best| best.share),
        more_is_better: false,
        show: |c| c.best().map_or("–".into(), |best| text::percent(best.share)),
    },
    Measure {
        word: "right",
        name: "right of 100 there",
        value: |c| c.best().map_or(f64::NAN, |best| best.events / best.acted),
        more_is_better: true,
        show: |c| {
            c.best().filter(|b| b.acted > 0.0).map_or("–".into(), |b| text::fixed(b.events / b.acted * 100.0, 0))
        },
    },
];

const TIME: [Measure; 2] = [
    Measure {
        word: "fit",
        name: "fitted in, s",
        value: |c| c.model.fit_seconds.unwrap_or(f64::NAN),
        more_is_better: false,
        show: |c| text::fixed(c.model.fit_seconds.unwrap_or(0.0), 2),
    },
    Measure {
        word: "score",
        name: "1 000 scored in, ms",
        value: |c| c.model.score_seconds.unwrap_or(f64::NAN),
        more_is_better: false,
        show: |c| c.model.score_seconds.map_or("–".into(), |s| text::fixed(s * 1_000.0, 1)),
    },
];

/// The figures of acting on these customers, measure by measure.
pub fn of_actions(counts: &Confusion) -> Vec<String> {
    vec![
        text::percent(counts.precision()),
        text::percent(counts.recall()),
        text::fixed(counts.f1(), 3),
        text::fixed(counts.matthews(), 3),
        text::percent(counts.accuracy()),
    ]
}

/// The share of judged customers with the event.
pub fn rate(e: &Evaluation) -> f64 {
    e.events as f64 / e.rows.max(1) as f64
}

/// Every measure of a set in plain words, with the counts of one candidate.
pub fn meaning(set: Set, c: &Candidate, question: Question) -> Meanings {
    let (e, name) = (&c.evaluation, &c.model.name);
    let (left, events) = (question.event_verb(), question.events_noun());
    let rate = rate(e);
    match set {
        Set::Order => vec![
            (
                "area under ROC",
                format!("{} In brackets, the 95 % interval.", area(e, name, question)),
            ),
            (
                "precision–recall",
                format!(
                    "Going down the list from the most likely, {} of 100 reached at the place of each of the {} {events} are {events} themselves, on average. In a list in any order it would be {}.",
                    hundred(e.average_precision),
                    text::count(e.events),
                    hundred(rate)
                ),
            ),
            (
                "KS",
                format!(
                    "At the place in the list where the two are farthest apart, the share of {events} found is {} points above the share of the others.",
                    hundred(e.kolmogorov_smirnov.unwrap_or(0.0))
                ),
            ),
            (
                "found in first 20 %",
                format!(
                    "Of the {} {events}, {} are among the {} customers that {name} puts first.",
                    text::count(e.events),
                    text::count((e.recall_at(FIRST) * e.events as f64).round() as u64),
                    text::count((FIRST * e.rows as f64).round() as u64)
                ),
            ),
        ],
        Set::Probabilities => {
            let rate_loss = -(rate * rate.ln() + (1.0 - rate) * (1.0 - rate).ln());
            vec![
                (
                    "log loss",
                    format!(
                        "How surprised the probabilities are by what happened to the {} customers; less is better. Giving everyone the overall rate, {}, would score {}.",
                        text::count(e.rows),
                        text::percent(rate),
                        text::fixed(rate_loss, 4)
                    ),
                ),
                (
                    "Brier",
                    format!(
                        "Mean squared distance between probability and outcome; less is better. Giving everyone the overall rate would score {}.",
                        text::fixed(rate * (1.0 - rate), 4)
                    ),
                ),
                (
                    "said on average",
                    format!("Mean probability of the {} customers, of whom {} {left}.", text::count(e.rows), text::percent(rate)),
                ),
                (
                    "groups that hold",
                    "Customers are put into ten groups by their probability. A group holds if what was said of it lies within the 95 % interval of what happened; by chance one in twenty would not.".into(),
                ),
            ]
        }
        Set::Actions => {
            let counts = &c.counts;
            vec![
                (
                    "precision",
                    format!(
                        "Of the {} customers acted on, {} {}.",
                        text::count(counts.acted()),
                        text::count(counts.hits),
                        question.event_would()
                    ),
                ),
                (
                    "recall",
                    format!(
                        "Of the {} {events}, {} are acted on.",
                        text::count(e.events),
                        text::count(counts.hits)
                    ),
                ),
                ("F1", "One figure for precision and recall, low where either is.".into()),
                (
                    "MCC",
                    "Correlation of acting with what would have happened: 1 if they always agree, 0 if they have nothing to do with each other.".into(),
                ),
                (
                    "accuracy",
                    format!(
                        "Share called rightly. Saying “no” to everyone is right for {} of {}, so that accuracy says little here.",
                        text::count(e.rows - e.events),
                        text::count(e.rows)
                    ),
                ),
            ]
        }
        Set::Money => vec![
            (
                "expected maximum",
                "The best profit on average while the chance that is least certain lies anywhere about what was chosen for it, as if twenty customers had been counted, and the line is drawn again for every value of it. It compares candidates, over leaving everybody alone; nobody earns it.".into(),
            ),
            ("acted on at its best", format!("Share of customers acted on where {name} brings most.")),
            ("right of 100 there", format!("Of 100 of them, so many {}.", question.event_would())),
        ],
        Set::Time => vec![
            ("fitted in", "Seconds from the rows to the model, with calibration and every fold.".into()),
            ("1 000 scored in", "Milliseconds to prepare and score a thousand customers at once.".into()),
        ],
    }
}
