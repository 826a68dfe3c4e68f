//! Scorecard: every column cut into groups, every group worth points.
//!
//! Numbers are cut into bands that know the outcome, categories into groups of
//! like event rate; each group is replaced by its weight of evidence, and a
//! logistic regression weighs the columns (Siddiqi 2006). Points are the same
//! sum on a scale that the analyst chooses: so many points at given odds, and
//! so many more for twice the odds.

mod banding;

use serde::{Deserialize, Serialize};

pub use banding::{Banded, Bands};

use super::logistic::LogisticSettings;
use super::setting::{Checked, Range, Setting, Tunable};
use super::{FitError, Target};
use crate::Progress;
use crate::prepare::{Design, Feature};

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ScorecardSettings {
    /// Groups per column at most, the missing not counted.
    pub groups: usize,
    /// Share of the rows that a group holds at least.
    pub least_share: f64,
    /// Whether rates must go one way along a number: `auto`, `monotone` or `free`.
    pub shape: String,
    /// Columns with less information value than this are left out.
    pub least_information: f64,
    /// Ridge penalty on the weights of the columns.
    pub ridge: f64,
    /// Points at the odds below.
    pub base_points: f64,
    /// Customers without the event for each one with it, at the points above.
    pub base_odds: f64,
    /// Points that twice the odds are worth.
    pub doubling: f64,
}

impl Default for ScorecardSettings {
    fn default() -> Self {
        Self {
            groups: 7,
            least_share: 0.03,
            shape: "auto".into(),
            least_information: 0.005,
            ridge: 1.0,
            base_points: 600.0,
            base_odds: 30.0,
            doubling: 20.0,
        }
    }
}

impl Tunable for ScorecardSettings {
    const FAMILY: &'static str = "scorecard";
    const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "groups",
            "Groups per column",
            Range::Count(2, 20),
            "More follow the records closer; fewer hold longer.",
        ),
        Setting::new(
            "least-share",
            "Share of rows per group",
            Range::Above(0.0, 0.5),
            "A group with fewer training rows is put together with its neighbour.",
        ),
        Setting::new(
            "shape",
            "Rates along a number",
            Range::OneOf(&["auto", "monotone", "free"]),
            "Monotone lets rates only rise or only fall; auto does so where it costs little information.",
        ),
        Setting::new(
            "least-information",
            "Least information value",
            Range::Number(0.0, 10.0),
            "A column with less is left out of the card.",
        ),
        Setting::new(
            "ridge",
            "Ridge penalty",
            Range::Number(0.0, f64::INFINITY),
            "Draws the weights of all columns towards nothing.",
        ),
        Setting::new("base-points", "Points at the base odds", Range::Number(-1e6, 1e6), "Where the scale is fixed."),
        Setting::new(
            "base-odds",
            "Base odds",
            Range::Above(0.0, 1e9),
            "Customers without the event for each one with it, at the base points.",
        ),
        Setting::new("doubling", "Points to double the odds", Range::Above(0.0, 1e6), "How fine the scale is."),
    ];
}

/// A fitted scorecard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Scorecard {
    /// Log-odds of the event where every column says nothing.
    pub intercept: f64,
    /// The columns on the card.
    pub columns: Vec<CardColumn>,
    /// Points where the log-odds are 0, and points for each unit of them.
    pub scale: [f64; 2],
}

/// A column on the card.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CardColumn {
    /// Position of the feature in the design.
    pub feature: usize,
    /// The column.
    pub column: String,
    /// Its groups, with what each says.
    pub bands: Bands,
    /// What the evidence of the column is multiplied by.
    pub weight: f64,
    /// Information value of its groups among the training rows.
    pub information: f64,
}

impl Checked<ScorecardSettings> {
    /// Fits to a design with its gaps. Columns whose evidence the others turn
    /// round, so that its weight would be below 0, are left out one by one.
    ///
    /// # Errors
    /// [`FitError::Unstable`] if no weights can be found, [`FitError::Cancelled`].
    pub fn fit(&self, design: &Design, target: &Target, progress: &dyn Progress) -> Result<Scorecard, FitError> {
        progress.tell("Cutting columns into groups", 0.1);
        let banded = Banded::all(design, target, self);
        progress.go_on()?;
        let mut chosen: Vec<&Banded> = banded.iter().filter(|b| b.information >= self.least_information).collect();
        let logistic = LogisticSettings { ridge: self.ridge, lasso: 0.0 }.check()?;
        loop {
            let features = chosen.iter().map(|b| {
                let evidence = b.bands.evidence(&design.features()[b.feature].values, design.rows());
                Feature::number(&b.column, &b.column, evidence)
            });
            let evidence = Design::new(features.collect(), design.rows());
            let fitted = logistic.fit(&evidence, target, progress)?;
            let turned = (0..chosen.len())
                .filter(|&at| fitted.coefficients[at].value <= 0.0)
                .min_by(|&a, &b| fitted.coefficients[a].value.total_cmp(&fitted.coefficients[b].value));
            if let Some(at) = turned {
                chosen.remove(at);
                continue;
            }
            let columns = chosen.iter().zip(&fitted.coefficients).map(|(b, c)| CardColumn {
                feature: b.feature,
                column: b.column.clone(),
                bands: b.bands.clone(),
                weight: c.value,
                information: b.information,
            });
            let per_unit = self.doubling / std::f64::consts::LN_2;
            let scale = [self.base_points - per_unit * self.base_odds.ln(), -per_unit];
            return Ok(Scorecard { intercept: fitted.intercept, columns: columns.collect(), scale });
        }
    }
}

impl Scorecard {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut scores = vec![self.intercept; design.rows()];
        for column in &self.columns {
            let evidence = column.bands.evidence(&design.features()[column.feature].values, design.rows());
            scores.iter_mut().zip(evidence).for_each(|(score, e)| *score += column.weight * e);
        }
        scores
    }

    /// Points of a customer with these log-odds; more points, less of the event.
    pub fn points(&self, log_odds: f64) -> f64 {
        self.scale[0] + self.scale[1] * log_odds
    }

    /// Points that a group of a column gives. Every column carries its share
    /// of what everybody starts from, so that the points of a customer's groups
    /// add up to the whole.
    pub fn points_of(&self, column: &CardColumn, evidence: f64) -> f64 {
        let begin = self.points(self.intercept) / self.columns.len() as f64;
        begin + self.scale[1] * column.weight * evidence
    }
}
