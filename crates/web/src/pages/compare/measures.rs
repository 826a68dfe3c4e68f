//! The measures that candidates are compared by, in sets that answer one question each.

use std::sync::Arc;

use pronoia_core::decide::{ProfitPoint, Ranking};
use pronoia_core::evaluate::{Confusion, Evaluation};
use pronoia_core::question::Question;
use pronoia_service::candidate_profit::CandidateProfit;
use pronoia_service::text;
use pronoia_store::candidates;

use crate::definitions::{Meanings, area, hundred};

/// Share of customers at which finds are counted.
pub const FIRST: f64 = 0.2;

/// A candidate that was judged.
pub struct ComparedCandidate<'a> {
    pub model: &'a candidates::StoredCandidate,
    pub evaluation: Arc<Evaluation>,
    pub ranking: Option<Arc<Ranking>>,
    /// What it is worth, where there is a price.
    pub worth: Option<Arc<CandidateProfit>>,
    /// Counts when it acts on the share of customers that all are compared at.
    pub counts: Confusion,
}

impl ComparedCandidate<'_> {
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
pub struct CompareMeasure {
    /// The word for it in addresses.
    pub word: &'static str,
    /// How it is headed.
    pub name: &'static str,
    /// The figure; greater is better where `more_is_better`.
    pub value: fn(&ComparedCandidate) -> f64,
    pub more_is_better: bool,
    pub show: fn(&ComparedCandidate) -> String,
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
            Self::Order => "ranking",
            Self::Probabilities => "calibration",
            Self::Actions => "classification at one selection rate",
            Self::Money => "profit",
            Self::Time => "time",
        }
    }

    pub fn measures(self) -> &'static [CompareMeasure] {
        match self {
            Self::Order => &ORDER,
            Self::Probabilities => &PROBABILITIES,
            Self::Actions => &ACTIONS,
            Self::Money => &MONEY,
            Self::Time => &TIME,
        }
    }
}

const ORDER: [CompareMeasure; 4] = [
    CompareMeasure {
        word: "area",
        name: "AUC (ROC)",
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
    CompareMeasure {
        word: "precision-recall",
        name: "average precision",
        value: |c| c.evaluation.average_precision,
        more_is_better: true,
        show: |c| text::fixed(c.evaluation.average_precision, 3),
    },
    CompareMeasure {
        word: "ks",
        name: "KS",
        value: |c| c.evaluation.kolmogorov_smirnov.unwrap_or(f64::NAN),
        more_is_better: true,
        show: |c| c.evaluation.kolmogorov_smirnov.map_or("–".into(), |ks| text::fixed(ks, 3)),
    },
    CompareMeasure {
        word: "found",
        name: "recall in first 20 %",
        value: |c| c.evaluation.recall_at(FIRST),
        more_is_better: true,
        show: |c| text::percent(c.evaluation.recall_at(FIRST)),
    },
];

const PROBABILITIES: [CompareMeasure; 4] = [
    CompareMeasure {
        word: "log-loss",
        name: "log loss",
        value: |c| c.evaluation.log_loss,
        more_is_better: false,
        show: |c| text::fixed(c.evaluation.log_loss, 4),
    },
    CompareMeasure {
        word: "brier",
        name: "Brier",
        value: |c| c.evaluation.brier,
        more_is_better: false,
        show: |c| text::fixed(c.evaluation.brier, 4),
    },
    CompareMeasure {
        word: "mean",
        name: "predicted on average",
        value: |c| (c.evaluation.mean_probability - rate(&c.evaluation)).abs(),
        more_is_better: false,
        show: |c| text::percent(c.evaluation.mean_probability),
    },
    CompareMeasure {
        word: "holds",
        name: "groups within 95 % CI",
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

const ACTIONS: [CompareMeasure; 5] = [
    CompareMeasure {
        word: "precision",
        name: "precision",
        value: |c| c.counts.precision(),
        more_is_better: true,
        show: |c| text::percent(c.counts.precision()),
    },
    CompareMeasure {
        word: "recall",
        name: "recall",
        value: |c| c.counts.recall(),
        more_is_better: true,
        show: |c| text::percent(c.counts.recall()),
    },
    CompareMeasure {
        word: "f1",
        name: "F1",
        value: |c| c.counts.f1(),
        more_is_better: true,
        show: |c| text::fixed(c.counts.f1(), 3),
    },
    CompareMeasure {
        word: "mcc",
        name: "MCC",
        value: |c| c.counts.matthews(),
        more_is_better: true,
        show: |c| text::fixed(c.counts.matthews(), 3),
    },
    CompareMeasure {
        word: "accuracy",
        name: "accuracy",
        value: |c| c.counts.accuracy(),
        more_is_better: true,
        show: |c| text::percent(c.counts.accuracy()),
    },
];

const MONEY: [CompareMeasure; 3] = [
    CompareMeasure {
        word: "maximum",
        name: "expected maximum profit",
        value: |c| c.maximum().unwrap_or(f64::NAN),
        more_is_better: true,
        show: |c| c.maximum().map_or("–".into(), text::money),
    },
    CompareMeasure {
        word: "acted",
        name: "selected at its best",
        value: |c| c.best().map_or(f64::NAN, |best| best.share),
        more_is_better: false,
        show: |c| c.best().map_or("–".into(), |best| text::percent(best.share)),
    },
    CompareMeasure {
        word: "right",
        name: "precision there",
        value: |c| c.best().map_or(f64::NAN, |best| best.events / best.acted),
        more_is_better: true,
        show: |c| {
            c.best().filter(|b| b.acted > 0.0).map_or("–".into(), |b| text::fixed(b.events / b.acted * 100.0, 0))
        },
    },
];

const TIME: [CompareMeasure; 2] = [
    CompareMeasure {
        word: "fit",
        name: "fitted in, s",
        value: |c| c.model.fit_seconds.unwrap_or(f64::NAN),
        more_is_better: false,
        show: |c| text::fixed(c.model.fit_seconds.unwrap_or(0.0), 2),
    },
    CompareMeasure {
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
pub fn meaning(set: Set, c: &ComparedCandidate, question: Question) -> Meanings {
    let (e, name) = (&c.evaluation, &c.model.name);
    let (left, events) = (question.event_verb(), question.events_noun());
    let rate = rate(e);
    match set {
        Set::Order => vec![
            (
                "AUC (ROC)",
                format!("{} In brackets, the 95 % CI (DeLong).", area(e, name, question)),
            ),
            (
                "average precision",
                format!(
                    "Area under precision over recall. Going down the list from the most likely, {} of 100 customers down to each of the {} {events} are {events}, on average; in random order it would be {}.",
                    hundred(e.average_precision),
                    text::count(e.events),
                    hundred(rate)
                ),
            ),
            (
                "KS",
                format!(
                    "Kolmogorov–Smirnov statistic: the largest distance between the cumulative shares of {events} and of the others is {} points.",
                    hundred(e.kolmogorov_smirnov.unwrap_or(0.0))
                ),
            ),
            (
                "recall in first 20 %",
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
                        "Mean negative log-likelihood of the outcomes of the {} customers; less is better. Predicting the overall rate, {}, would score {}.",
                        text::count(e.rows),
                        text::percent(rate),
                        text::fixed(rate_loss, 4)
                    ),
                ),
                (
                    "Brier",
                    format!(
                        "Mean squared distance between probability and outcome; less is better. Predicting the overall rate would score {}.",
                        text::fixed(rate * (1.0 - rate), 4)
                    ),
                ),
                (
                    "predicted on average",
                    format!("Mean predicted probability of the {} customers, of whom {} {left}.", text::count(e.rows), text::percent(rate)),
                ),
                (
                    "groups within 95 % CI",
                    "Customers are put into ten groups by predicted probability. Counted are the groups whose mean predicted probability lies within the 95 % CI of the observed rate; by chance one in twenty would not.".into(),
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
                ("F1", "Harmonic mean of precision and recall.".into()),
                (
                    "MCC",
                    "Matthews correlation of decision and outcome: 1 if they always agree, 0 if they are unrelated.".into(),
                ),
                (
                    "accuracy",
                    format!(
                        "Share classified correctly. Predicting “no” for everyone is correct for {} of {}, so that accuracy says little here.",
                        text::count(e.rows - e.events),
                        text::count(e.rows)
                    ),
                ),
            ]
        }
        Set::Money => vec![
            (
                "expected maximum profit",
                "Expected maximum profit: the mean over a distribution of the least certain rate (as if 20 customers had been counted) of the profit with the cut-off re-optimised for each value. It compares candidates, against no action; nobody earns it.".into(),
            ),
            ("selected at its best", format!("Share of customers selected at the best point of {name}.")),
            ("precision there", format!("Of 100 of them, so many {}.", question.event_would())),
        ],
        Set::Time => vec![
            ("fitted in", "Seconds from the rows to the model, with calibration and every fold.".into()),
            ("1 000 scored in", "Milliseconds to prepare and score a thousand customers at once.".into()),
        ],
    }
}
