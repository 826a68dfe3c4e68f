//! From records to a model.

use super::blended::Blended;
use super::fingerprint::fingerprint;
use super::recipe::Recipe;
use super::{EnsembleMember, Model, ModelError};
use crate::study::Basis;
use pronoia_data::progress::ProgressPart;
use pronoia_data::split::Fold;
use pronoia_data::{Progress, Table};
use pronoia_learn::calibrate::Calibration;
use pronoia_learn::learn::{FitError, Fitted, Settings, Target};
use pronoia_learn::prepare::{Preparation, TrainingRows};

/// Parts of the training rows that take turns in being scored by models fitted
/// to the others.
const FOLDS: usize = 5;

impl Model {
    /// Fits preparation and estimator to the rows given, by the choices of `basis`.
    ///
    /// Rows without an outcome, or that count nothing, are passed over. The
    /// result is the same, bit for bit, for the same rows, recipe and seed,
    /// whatever the number of threads.
    ///
    /// Where the rows are balanced, or the family gives no log-odds, the
    /// probabilities are calibrated on the rows as they were: five parts of them,
    /// each scored by a model that was fitted to the others after balancing those.
    /// How much each member of a blend counts is learned from the same.
    ///
    /// # Errors
    /// [`ModelError`].
    pub fn fit(
        table: &Table,
        basis: &Basis,
        rows: &[usize],
        recipe: impl Into<Recipe>,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Self, ModelError> {
        let recipe = recipe.into();
        let happened = basis.outcome.read(table)?;
        let weights = basis.weights(table)?;
        let counts = |row: usize| weights.as_ref().is_none_or(|w| w[row] > 0.0);
        let rows: Vec<usize> = rows.iter().copied().filter(|&r| happened[r].is_some() && counts(r)).collect();
        let event: Vec<bool> = rows.iter().map(|&r| happened[r] == Some(true)).collect();
        let weight = weights.map(|w| rows.iter().map(|&r| w[r]).collect::<Vec<f64>>());
        let target = Target { weight, ..Target::plain(event) };
        let fit = FitInput { table, basis, rows: &rows, target: &target, seed };
        let settings = recipe.members();
        let (mut members, mut told) = (Vec::new(), Vec::new());
        for (at, settings) in settings.iter().enumerate() {
            let share = |at: usize| at as f64 / recipe.members().len() as f64;
            let progress = ProgressPart::of(progress, share(at), share(at + 1));
            let (member, apart) = fit.member(settings, &recipe, &progress)?;
            told.extend(apart.map(|scores| member.calibrated(scores)));
            members.push(member);
        }
        let blended = match &recipe {
            Recipe::Blend(blend) => Some(Blended::fit(blend.mix, &told, &target, &fit.folds()?)?),
            Recipe::One(_) | Recipe::Calibrated { .. } => None,
        };
        let read = basis.columns_read(&table.kinds())?;
        Ok(Self {
            outcome: basis.outcome.clone(),
            members,
            blended,
            seed,
            rows: rows.len() as u64,
            events: target.event.iter().filter(|&&e| e).count() as u64,
            fingerprint: fingerprint(table, &read, &rows),
            version: env!("CARGO_PKG_VERSION").into(),
            cut_off: None,
            evaluated: false,
        })
    }
}

/// What is fitted to, and under which choices.
struct FitInput<'a> {
    table: &'a Table,
    basis: &'a Basis,
    rows: &'a [usize],
    target: &'a Target,
    seed: u64,
}

impl FitInput<'_> {
    /// One family of a recipe; with it, where a blend wants them or they are needed
    /// to calibrate, its scores of every row, told by a model that had not met it.
    fn member(
        &self,
        settings: &Settings,
        recipe: &Recipe,
        progress: &dyn Progress,
    ) -> Result<(EnsembleMember, Option<Vec<f64>>), ModelError> {
        let every: Vec<usize> = (0..self.rows.len()).collect();
        let balanced = !self.basis.balance.is_off();
        let calibrates = balanced || settings.needs_calibration() || matches!(recipe, Recipe::Calibrated { .. });
        let wanted = matches!(recipe, Recipe::Blend(_));
        // Rows of one customer are in and out of a tree's bag together only in folds.
        let judges_itself = settings.judges_itself() && self.basis.split.together.is_none() && !balanced;
        let (told, whole) = match (calibrates || wanted) && !judges_itself {
            true => (Some(self.told(settings, &ProgressPart::of(progress, 0.0, 0.8))?), 0.8),
            false => (None, 0.0),
        };
        let (preparation, fitted) = self.fitted(settings, &every, &ProgressPart::of(progress, whole, 1.0))?;
        let told = told.or(fitted.unmet.filter(|_| calibrates || wanted));
        let (calibration, calibrated) = match &told {
            Some(scores) if calibrates => {
                let (calibration, how) = Calibration::choose(scores, self.target, &self.folds()?)?;
                (calibration, Some(how))
            }
            _ => (None, None),
        };
        let settings = settings.clone();
        Ok((EnsembleMember { settings, preparation, estimator: fitted.estimator, calibration, calibrated }, told))
    }

    /// Preparation and estimator of the rows at these places, balanced as chosen.
    fn fitted(
        &self,
        settings: &Settings,
        places: &[usize],
        progress: &dyn Progress,
    ) -> Result<(Preparation, Fitted), ModelError> {
        let &Self { table, basis, seed, .. } = self;
        let rows: Vec<usize> = places.iter().map(|&at| self.rows[at]).collect();
        let target = self.target.take(places);
        progress.tell("Preparing the training rows", 0.0);
        // What the preparation learns, it learns before the rows are balanced.
        let training = TrainingRows { rows: &rows, event: &target.event, weight: target.weight.as_deref() };
        let encoding = settings.encoding();
        let (preparation, whole) = Preparation::fit(table, &basis.steps, &basis.predictors, &training, encoding)?;
        let read: Vec<String> = preparation.inputs.iter().map(|input| input.name.clone()).collect();
        let balanced = basis.balance.apply(table, &read, &rows, &target.event, seed);
        let mut design = if balanced.kept.len() == rows.len() { whole } else { whole.take(&balanced.kept) };
        let mut target = target.take(&balanced.kept);
        target.balanced = !basis.balance.is_off();
        if let Some(weight) = balanced.weight {
            let both = weight.iter().enumerate().map(|(row, w)| w * target.weight(row)).collect();
            target.weight = Some(both);
        }
        if let Some(synthetic) = balanced.synthetic {
            let all: Vec<usize> = (0..synthetic.table.rows()).collect();
            design = design.followed_by(&preparation.apply(&synthetic.table, &all)?);
            for &[first, second] in &synthetic.parents {
                target.event.push(target.event[first]);
                let between = (target.weight(first) + target.weight(second)) / 2.0;
                if let Some(weight) = &mut target.weight {
                    weight.push(between);
                }
            }
            target.parents = synthetic.parents;
        }
        progress.go_on().map_err(FitError::from)?;
        let fitted = settings.fit(&design, &target, seed, &ProgressPart::of(progress, 0.1, 1.0))?;
        Ok((preparation, fitted))
    }

    /// The part of every row, among those that take turns in being scored.
    fn folds(&self) -> Result<Vec<usize>, ModelError> {
        Ok(self.basis.split.folds_of(self.table, self.rows, &self.target.event, (FOLDS, self.seed))?)
    }

    /// Log-odds of every row as it is, told by a model that has not met it.
    fn told(&self, settings: &Settings, progress: &dyn Progress) -> Result<Vec<f64>, ModelError> {
        let mut log_odds = vec![0.0; self.rows.len()];
        let of_row = self.folds()?;
        let turns = Fold::of(&of_row);
        let all = turns.len() as f64;
        for (at, turn) in turns.enumerate() {
            let progress = ProgressPart::of(progress, at as f64 / all, (at + 1) as f64 / all);
            let (preparation, fitted) = self.fitted(settings, &turn.learned, &progress)?;
            let design = preparation.apply(self.table, &turn.of_judged(self.rows))?;
            turn.put(fitted.estimator.log_odds(&design), &mut log_odds);
        }
        Ok(log_odds)
    }
}
