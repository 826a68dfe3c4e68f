//! A search over families and settings, within a budget.
//!
//! Candidates are judged by cross-validation on training rows. Families are
//! first tried as proposed; then settings are drawn by lot, half of the time
//! near the best that a family had so far, and more often for families that do
//! well. What is tried next depends on the seed and on what was found before,
//! and on nothing else, so that a search that was broken off goes on as if it
//! had not been, and the same search finds the same.

mod space;

use std::time::Instant;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

use crate::model::{Model, ModelError};
use crate::study::Basis;
use pronoia_data::evaluate::{area_under_roc, descending, log_loss};
use pronoia_data::progress::{ProgressPart, Quiet};
use pronoia_data::split::Fold;
use pronoia_data::stats::{mean, standard_error};
use pronoia_data::{Progress, Table};
use pronoia_decide::decide::Payoff;
use pronoia_learn::learn::{Family, Settings, seed_of};

/// Families that a search is proposed for: those that do well on customer records.
pub const SEARCHED: [&str; 5] = ["logistic", "scorecard", "forest", "boosted", "network"];

/// Families, those that are read most easily first.
const EASIEST: [&str; 9] =
    ["logistic", "scorecard", "tree", "bayes", "svm", "forest", "boosted", "network", "neighbours"];

/// Parts that take turns in being judged.
const FOLDS: usize = 4;

/// Candidates without improvement after which more are not expected to help,
/// for each family that takes part.
const PATIENCE: usize = 8;

/// A candidate that is worse than the best by so many times the spread among
/// folds is given up after its first fold.
const HOPELESS: f64 = 4.0;

/// What candidates are judged by.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TuningMeasure {
    /// Mean log loss.
    LogLoss,
    /// One less the area under the ROC curve.
    Area,
    /// Less the gain over leaving everybody alone, per 1 000 customers at the best cut-off.
    Profit(Payoff),
}

impl TuningMeasure {
    /// How badly probabilities tell what happened; less is better.
    pub fn loss(&self, probability: &[f64], event: &[bool]) -> f64 {
        match self {
            Self::LogLoss => log_loss(probability, event, None),
            Self::Area => 1.0 - area_under_roc(probability, event, None),
            Self::Profit(gain) => {
                let (mut profit, mut best) = (0.0, 0.0f64);
                let order = descending(probability);
                for (at, &row) in order.iter().enumerate() {
                    profit += gain.happened(event[row]);
                    // Customers with equal probabilities are acted on together.
                    if order.get(at + 1).is_none_or(|&next| probability[next] != probability[row]) {
                        best = best.max(profit);
                    }
                }
                -best * 1_000.0 / event.len().max(1) as f64
            }
        }
    }
}

/// What is searched.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TuningPlan {
    /// Words of the families that take part.
    pub families: Vec<String>,
    /// What candidates are judged by.
    pub measure: TuningMeasure,
    /// Candidates at most.
    pub most: usize,
    /// Minutes at most.
    pub minutes: Option<f64>,
    /// Governs what is drawn by lot.
    pub seed: u64,
}

/// A candidate that was judged.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TriedCandidate {
    /// Family and settings.
    pub settings: Settings,
    /// The measure fold by fold; one fold if it was given up after it.
    pub by_fold: Vec<f64>,
    /// How long it took.
    pub seconds: f64,
    /// Why it cannot be fitted, if so.
    pub failed: Option<String>,
}

impl TriedCandidate {
    /// Mean of the measure; infinite if it was given up or cannot be fitted.
    pub fn loss(&self) -> f64 {
        if self.by_fold.len() < FOLDS { f64::INFINITY } else { mean(&self.by_fold) }
    }

    /// Standard error of that mean; 0 if it was given up or cannot be fitted.
    pub fn error(&self) -> f64 {
        if self.by_fold.len() < FOLDS { 0.0 } else { standard_error(&self.by_fold) }
    }
}

/// How far a candidate is behind another.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Behind {
    /// By how much its loss is greater, as a mean over the parts that both were judged on.
    pub by: f64,
    /// The standard error of that mean.
    pub error: f64,
}

impl Behind {
    fn of(tried: &TriedCandidate, best: &TriedCandidate) -> Self {
        let apart: Vec<f64> = tried.by_fold.iter().zip(&best.by_fold).map(|(own, least)| own - least).collect();
        Self { by: mean(&apart), error: standard_error(&apart) }
    }
}

/// Why a search ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ended {
    /// As many candidates as were asked for.
    Candidates,
    /// The minutes are over.
    Time,
    /// More would not help: the last ones brought nothing.
    NothingMore,
}

/// A search, as far as it has come.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TuningRun {
    /// What is searched.
    pub plan: TuningPlan,
    /// What was tried, in order.
    pub tried: Vec<TriedCandidate>,
}

impl TuningRun {
    /// A search that has not begun.
    ///
    /// # Errors
    /// A sentence if there is nothing to search.
    pub fn new(plan: TuningPlan) -> Result<Self, String> {
        if let Some(wrong) = plan.families.iter().find(|word| Family::of(word).is_none()) {
            return Err(format!("There is no family “{wrong}”."));
        }
        if plan.families.is_empty() {
            return Err("Choose at least one family to tune.".into());
        }
        if plan.most == 0 || plan.minutes.is_some_and(|m| m.is_nan() || m <= 0.0) {
            return Err("Give the tuning at least one candidate, and more than no time.".into());
        }
        Ok(Self { plan, tried: Vec::new() })
    }

    /// The best so far.
    pub fn best(&self) -> Option<&TriedCandidate> {
        let whole = self.tried.iter().filter(|t| t.loss().is_finite());
        whole.min_by(|a, b| a.loss().total_cmp(&b.loss()))
    }

    /// What the search proposes, and how far it is behind the best: of all
    /// candidates that are behind by no more than one standard error, which is
    /// to say not for certain, one of the family that is read most easily, and of
    /// these the best (the rule of Breiman, Friedman, Olshen and Stone 1984, 3.4.3).
    pub fn found(&self) -> Option<(&TriedCandidate, Behind)> {
        let best = self.best()?;
        let whole = self.tried.iter().filter(|tried| tried.loss().is_finite());
        let near = whole.map(|tried| (tried, Behind::of(tried, best))).filter(|(_, behind)| behind.by <= behind.error);
        let ease = |tried: &TriedCandidate| EASIEST.iter().position(|word| *word == tried.settings.family().word);
        near.min_by(|(a, _), (b, _)| ease(a).cmp(&ease(b)).then(a.loss().total_cmp(&b.loss())))
    }

    /// Why no more are tried, if so; `minutes` have gone by.
    pub fn ended(&self, minutes: f64) -> Option<Ended> {
        let best = self.tried.iter().position(|t| Some(t) == self.best());
        let since = self.tried.len() - best.map_or(0, |at| at + 1);
        if self.tried.len() >= self.plan.most {
            Some(Ended::Candidates)
        } else if self.plan.minutes.is_some_and(|most| minutes >= most) {
            Some(Ended::Time)
        } else if self.tried.len() > self.plan.families.len() && since >= PATIENCE * self.plan.families.len() {
            Some(Ended::NothingMore)
        } else {
            None
        }
    }

    /// What is tried next.
    pub fn next(&self) -> Option<Settings> {
        let at = self.tried.len();
        if let Some(word) = self.plan.families.get(at) {
            return Settings::of_family(word);
        }
        let mut rng = ChaCha8Rng::seed_from_u64(seed_of(self.plan.seed, at));
        let best_of = |word: &str| {
            let of = self.tried.iter().filter(|t| t.settings.family().word == word && t.loss().is_finite());
            of.min_by(|a, b| a.loss().total_cmp(&b.loss()))
        };
        let mut ranked: Vec<(&str, Option<&TriedCandidate>)> =
            self.plan.families.iter().map(|word| (word.as_str(), best_of(word))).collect();
        let loss = |tried: &Option<&TriedCandidate>| tried.map_or(f64::INFINITY, TriedCandidate::loss);
        ranked.sort_by(|a, b| loss(&a.1).total_cmp(&loss(&b.1)));
        // The best family half of the time, the next a quarter, and so on.
        let mut place = 0;
        while place + 1 < ranked.len() && rng.random_bool(0.5) {
            place += 1;
        }
        match ranked[place] {
            (_, Some(best)) if rng.random_bool(0.5) => Some(space::near(&best.settings, &mut rng)),
            (word, _) => space::anywhere(word, &mut rng),
        }
    }

    /// Tries candidates until the budget is spent, those that were tried before
    /// included. After each, `keep` is shown what was tried so far, so that a
    /// search that is broken off can go on from there.
    ///
    /// # Errors
    /// As [`Search::judge`], or the one that `keep` gave; what was tried before stays.
    pub fn run<E: From<ModelError>>(
        &mut self,
        on: (&Table, &Basis, &[usize]),
        progress: &dyn Progress,
        keep: &mut dyn FnMut(&Self) -> Result<(), E>,
    ) -> Result<Ended, E> {
        let spent: f64 = self.tried.iter().map(|tried| tried.seconds).sum();
        let begun = Instant::now();
        loop {
            progress.go_on().map_err(|stopped| ModelError::from(pronoia_learn::learn::FitError::from(stopped)))?;
            let minutes = (spent + begun.elapsed().as_secs_f64()) / 60.0;
            if let Some(ended) = self.ended(minutes) {
                return Ok(ended);
            }
            let Some(settings) = self.next() else { return Ok(Ended::NothingMore) };
            let number = self.tried.len() + 1;
            // Whichever part of the budget is spent first says how far it has come.
            let by_time = self.plan.minutes.map_or(0.0, |most| minutes / most);
            let share = by_time.max(self.tried.len() as f64 / self.plan.most as f64);
            let (most, name) = (self.plan.most, settings.name().to_lowercase());
            progress.tell(&format!("Candidate {number}, at most {most}: {name}"), share);
            let tried = self.judge(on, settings, &Quiet(progress))?;
            self.tried.push(tried);
            keep(self)?;
        }
    }

    /// Judges one candidate on the rows given, which must all be training rows.
    ///
    /// # Errors
    /// [`ModelError`] if the rows cannot be dealt out or somebody stopped it; a
    /// candidate that cannot be fitted is none.
    pub fn judge(
        &self,
        (table, basis, rows): (&Table, &Basis, &[usize]),
        settings: Settings,
        progress: &dyn Progress,
    ) -> Result<TriedCandidate, ModelError> {
        let begun = Instant::now();
        let happened = basis.outcome.read(table)?;
        let event: Vec<bool> = rows.iter().map(|&row| happened[row] == Some(true)).collect();
        let of_row = basis.split.folds_of(table, rows, &event, (FOLDS, self.plan.seed))?;
        let mut tried = TriedCandidate { settings, by_fold: Vec::new(), seconds: 0.0, failed: None };
        for (fold, turn) in Fold::of(&of_row).enumerate() {
            let part = ProgressPart::of(progress, fold as f64 / FOLDS as f64, (fold + 1) as f64 / FOLDS as f64);
            let learned = turn.of_learned(rows);
            let told = Model::fit(table, basis, &learned, &tried.settings, self.plan.seed, &part)
                .and_then(|model| Ok(model.probabilities(table, &turn.of_judged(rows))?));
            let probability = match told {
                Ok(probability) => probability,
                Err(stopped @ ModelError::Fit(pronoia_learn::learn::FitError::Cancelled(_))) => return Err(stopped),
                Err(wrong) => {
                    tried.failed = Some(wrong.to_string());
                    break;
                }
            };
            tried.by_fold.push(self.plan.measure.loss(&probability, &turn.of_judged(&event)));
            if fold == 0 && self.is_hopeless(tried.by_fold[0]) {
                break;
            }
        }
        tried.seconds = begun.elapsed().as_secs_f64();
        Ok(tried)
    }

    /// Whether a candidate with this first fold is not worth the others.
    fn is_hopeless(&self, first: f64) -> bool {
        self.best().is_some_and(|best| {
            let spread = best.error() * (FOLDS as f64).sqrt();
            first > best.by_fold[0] + HOPELESS * spread.max(1e-12)
        })
    }
}
