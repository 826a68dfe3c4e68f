//! A closer look at a candidate: would more rows help, and how far do a few columns go?

use serde::{Deserialize, Serialize};

use super::learning_curve::{SHARES, share_of};
use super::{ByRows, FewColumns, Gain, RowsPoint, learned_and_judged};
use crate::model::{Model, ModelError, Recipe};
use crate::study::Basis;
use pronoia_data::evaluate::delong::{self, Area};
use pronoia_data::progress::ProgressPart;
use pronoia_data::{Progress, Table};
use pronoia_decide::decide::Ranking;

/// A closer look at a candidate. Everything in it is judged on the same rows:
/// validation rows, or with cross-validation those of the first fold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Diagnostics {
    /// The candidate fitted to more and more rows.
    pub by_rows: ByRows,
    /// The candidate fitted to all of them, on the rows judged.
    pub whole: Ranking,
    /// A small readable model beside it; none if no column tells anything.
    pub few: Option<SmallModel>,
}

/// A small model beside a full one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SmallModel {
    /// The small model.
    pub few: FewColumns,
    /// How it orders the rows judged.
    pub ranking: Ranking,
    /// Its area under ROC.
    pub area_under_roc: f64,
    /// By how much the area of the full model is greater.
    pub less: Option<Area>,
}

impl Diagnostics {
    /// Fits a recipe to more and more training rows, and a scorecard on a few
    /// columns to all of them.
    ///
    /// # Errors
    /// [`ModelError`].
    pub fn look(
        table: &Table,
        basis: &Basis,
        recipe: &Recipe,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Self, ModelError> {
        let (_, happened) = basis.population(table).map_err(ModelError::Population)?;
        let events = |rows: &[usize]| rows.iter().map(|&row| happened[row] == Some(true)).collect::<Vec<_>>();
        let (learned, judged) = learned_and_judged(table, basis, &happened, seed)?;
        let (event, happened) = (events(&learned), events(&judged));
        let mut points = Vec::new();
        let mut told: Vec<Vec<f64>> = Vec::new();
        // Each share takes about twice as long as the one before.
        let mut done = 0.0;
        for share in SHARES {
            let from = done;
            done += share / SHARES.iter().sum::<f64>() * 0.7;
            let Some(places) = share_of(&event, share, seed) else { continue };
            let rows: Vec<usize> = places.iter().map(|&at| learned[at]).collect();
            let model = Model::fit(table, basis, &rows, recipe, seed, &ProgressPart::of(progress, from, done))?;
            let probability = model.probabilities(table, &judged)?;
            points.push(RowsPoint::of((model.rows, model.events), &probability, &happened));
            told.push(probability);
        }
        let gain = match &told[..] {
            [.., half, all] => Some(Gain::of(half, all, &happened)),
            _ => None,
        };
        let whole = told.pop().unwrap_or_default();
        let few = FewColumns::fit(table, basis, &learned, seed, &ProgressPart::of(progress, done, 1.0))?;
        let few = match few {
            None => None,
            Some(few) => {
                let probability = few.model.probabilities(table, &judged)?;
                Some(SmallModel {
                    ranking: ranking(&probability, &happened)?,
                    area_under_roc: pronoia_data::evaluate::area_under_roc(&probability, &happened, None),
                    less: delong::difference(&whole, &probability, &happened),
                    few,
                })
            }
        };
        let events = happened.iter().filter(|&&e| e).count() as u64;
        let by_rows = ByRows { points, judged: judged.len() as u64, events, gain };
        Ok(Self { by_rows, whole: ranking(&whole, &happened)?, few })
    }
}

fn ranking(probability: &[f64], event: &[bool]) -> Result<Ranking, ModelError> {
    Ranking::of(probability, event).map_err(|e| ModelError::Population(e.to_string()))
}
