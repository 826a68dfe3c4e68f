//! Scorecard: every column cut into groups, every group worth points.
//!
//! Numbers are cut into bands that know the outcome, categories into groups of
//! like event rate; each group is replaced by its weight of evidence, and a
//! logistic regression weighs the columns (Siddiqi 2006). Points are the same
//! sum on a scale that the analyst chooses: so many points at given odds, and
//! so many more for twice the odds. Where asked, pairs of columns that say more
//! together than by themselves are on the card too.

mod binning;
mod groups;
mod pairs;

use serde::{Deserialize, Serialize};

use binning::Banded;
pub use binning::Bands;
pub use groups::ScorecardBins;
pub use pairs::CardPair;
use pairs::Pairs;

use super::logistic::{Logistic, LogisticSettings};
use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::{FitError, Target};
use crate::prepare::{Design, Feature};
use pronoia_data::Progress;

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
    /// Pairs of columns on the card at most.
    pub pairs: usize,
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
            pairs: 0,
            ridge: 1.0,
            base_points: 600.0,
            base_odds: 30.0,
            doubling: 20.0,
        }
    }
}

impl ScorecardSettings {
    /// Rows that a group holds at least.
    fn least_rows(&self, target: &Target) -> u64 {
        ((target.rows() as f64 * self.least_share).ceil() as u64).max(1)
    }
}

impl Tunable for ScorecardSettings {
    const FAMILY: &'static str = "scorecard";
    const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "groups",
            "Bins per column",
            Range::Count(2, 20),
            "More fit the records closer; fewer are more stable.",
        ),
        Setting::new(
            "least-share",
            "Share of rows per bin",
            Range::Above(0.0, 0.5),
            "A bin with fewer training rows is merged with its neighbour.",
        ),
        Setting::new(
            "shape",
            "Trend along a number",
            Range::OneOf(&["auto", "monotone", "free"]),
            "Monotone lets rates only rise or only fall; auto does so where it costs little information.",
        ),
        Setting::new(
            "least-information",
            "Least information value",
            Range::Number(0.0, 10.0),
            "A column with less is not on the card.",
        ),
        Setting::new(
            "pairs",
            "Pairs of columns",
            Range::Count(0, 20),
            "Up to so many interactions of two columns, if they are significant; the card is longer for it.",
        ),
        Setting::new(
            "ridge",
            "Ridge penalty",
            Range::Number(0.0, f64::INFINITY),
            "Shrinks the weights of all columns towards zero.",
        ),
        Setting::new(
            "base-points",
            "Points at the base odds",
            Range::Number(-1e6, 1e6),
            "Points at which the scale is anchored.",
        ),
        Setting::new(
            "base-odds",
            "Base odds",
            Range::Above(0.0, 1e9),
            "Customers without the event for each one with it, at the base points.",
        ),
        Setting::new(
            "doubling",
            "Points to double the odds",
            Range::Above(0.0, 1e6),
            "Points that double the odds (PDO).",
        ),
    ];
}

/// A fitted scorecard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Scorecard {
    /// Log-odds of the event where every column says nothing.
    pub intercept: f64,
    /// The columns on the card.
    pub columns: Vec<CardColumn>,
    /// The pairs of columns on it.
    pub pairs: Vec<CardPair>,
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

/// What is on a card that is being fitted: a column or a pair, and what it says of every row.
struct CardPart {
    of: CardContribution,
    evidence: Feature,
}

enum CardContribution {
    Column(Banded),
    Pair(CardPair),
}

impl CheckedSettings<ScorecardSettings> {
    /// Fits to a design with its gaps. Columns and pairs whose evidence the
    /// others turn round, so that its weight would be below 0, are left out one
    /// by one.
    ///
    /// # Errors
    /// [`FitError::Unstable`] if no weights can be found, [`FitError::Cancelled`].
    pub fn fit(&self, design: &Design, target: &Target, progress: &dyn Progress) -> Result<Scorecard, FitError> {
        progress.tell("Binning the columns", 0.1);
        let banded = Banded::all(design, target, self);
        progress.go_on()?;
        let speaking = banded.into_iter().filter(|b| b.information >= self.least_information);
        let mut parts: Vec<CardPart> = speaking
            .map(|b| {
                let evidence = b.bands.evidence(&design.features()[b.feature].values, design.rows());
                CardPart { evidence: Feature::number(&b.column, &b.column, evidence), of: CardContribution::Column(b) }
            })
            .collect();
        let mut fitted = self.weighed(&mut parts, design.rows(), target, progress)?;
        if self.pairs > 0 {
            let pairs = Pairs::of(design, self.least_rows(target));
            let mut tried: Vec<CardPair> = Vec::new();
            while tried.len() < self.pairs {
                progress.go_on()?;
                progress.tell("Finding interactions of two columns", tried.len() as f64 / self.pairs as f64);
                let Some(pair) = pairs.most_telling(&log_odds(&fitted, &parts, design.rows()), target, &tried) else {
                    break;
                };
                let name = pair.columns.join(" and ");
                let evidence = Feature::number(&name, &name, pair.evidence(design));
                tried.push(pair.clone());
                parts.push(CardPart { of: CardContribution::Pair(pair), evidence });
                fitted = self.weighed(&mut parts, design.rows(), target, progress)?;
            }
        }
        let per_unit = self.doubling / std::f64::consts::LN_2;
        let scale = [self.base_points - per_unit * self.base_odds.ln(), -per_unit];
        let mut card = Scorecard { intercept: fitted.intercept, columns: Vec::new(), pairs: Vec::new(), scale };
        for (part, coefficient) in parts.into_iter().zip(&fitted.coefficients) {
            match part.of {
                CardContribution::Column(Banded { feature, column, bands, information }) => {
                    card.columns.push(CardColumn { feature, column, bands, weight: coefficient.value, information });
                }
                CardContribution::Pair(pair) => card.pairs.push(CardPair { weight: coefficient.value, ..pair }),
            }
        }
        Ok(card)
    }

    /// The weights of all parts, without those that would be turned round.
    fn weighed(
        &self,
        parts: &mut Vec<CardPart>,
        rows: usize,
        target: &Target,
        progress: &dyn Progress,
    ) -> Result<Logistic, FitError> {
        let logistic = LogisticSettings { ridge: self.ridge, lasso: 0.0 }.check()?;
        loop {
            let evidence = Design::new(parts.iter().map(|part| part.evidence.clone()).collect(), rows);
            let fitted = logistic.fit(&evidence, target, progress)?;
            let turned = (0..parts.len())
                .filter(|&at| fitted.coefficients[at].value <= 0.0)
                .min_by(|&a, &b| fitted.coefficients[a].value.total_cmp(&fitted.coefficients[b].value));
            match turned {
                Some(at) => parts.remove(at),
                None => return Ok(fitted),
            };
        }
    }
}

/// Log-odds of every row by the parts of a card.
fn log_odds(fitted: &Logistic, parts: &[CardPart], rows: usize) -> Vec<f64> {
    fitted.log_odds(&Design::new(parts.iter().map(|part| part.evidence.clone()).collect(), rows))
}

impl Scorecard {
    /// What each column adds by itself.
    pub fn contributions(&self, design: &Design) -> Vec<(String, Vec<f64>)> {
        let says = |c: &CardColumn| {
            let evidence = c.bands.evidence(&design.features()[c.feature].values, design.rows());
            (c.column.clone(), evidence.into_iter().map(|e| c.weight * e).collect())
        };
        self.columns.iter().map(says).collect()
    }

    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut scores = vec![self.intercept; design.rows()];
        for column in &self.columns {
            let evidence = column.bands.evidence(&design.features()[column.feature].values, design.rows());
            scores.iter_mut().zip(evidence).for_each(|(score, e)| *score += column.weight * e);
        }
        for pair in &self.pairs {
            scores.iter_mut().zip(pair.evidence(design)).for_each(|(score, e)| *score += pair.weight * e);
        }
        scores
    }

    /// Points of a customer with these log-odds; more points, less of the event.
    pub fn points(&self, log_odds: f64) -> f64 {
        self.scale[0] + self.scale[1] * log_odds
    }

    /// Points that a group of a column or a cell of a pair gives, with its weight
    /// and its evidence. Everything on the card carries its share of what
    /// everybody starts from, so that the points of a customer add up to the whole.
    pub fn points_of(&self, weight: f64, evidence: f64) -> f64 {
        let begin = self.points(self.intercept) / (self.columns.len() + self.pairs.len()) as f64;
        begin + self.scale[1] * weight * evidence
    }
}
