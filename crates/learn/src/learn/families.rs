//! Every family under one vocabulary: settings are checked, and fitted to an estimator.

use serde::{Deserialize, Serialize};

use super::bayes::{Bayes, BayesSettings};
use super::boosting::{Boosted, BoostedSettings};
use super::forest::{Forest, ForestSettings};
use super::logistic::{Logistic, LogisticSettings};
use super::neighbours::{Neighbours, NeighboursSettings};
use super::network::{Network, NetworkSettings};
use super::scorecard::{Scorecard, ScorecardSettings};
use super::setting::{Setting, Tunable};
use super::svm::{Svm, SvmSettings};
use super::tree::{DecisionTree, TreeSettings};
use super::{FitError, Target};
use crate::prepare::{Design, Encoding};
use pronoia_data::Progress;

/// A family of classifiers, and what there is to know before it is chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Family {
    /// The word for it on the command line and in addresses.
    pub word: &'static str,
    /// Its name.
    pub name: &'static str,
    /// What it does, in a sentence or two.
    pub about: &'static str,
    /// What it takes for granted.
    pub assumes: &'static str,
    /// When it is right, and when not.
    pub right_when: &'static str,
    /// Where it is described.
    pub source: &'static str,
}

impl Family {
    /// Every family, in the order in which pages offer them.
    pub const ALL: [Family; 9] = [
        Family {
            word: "logistic",
            name: "Logistic regression",
            about: "A sum of the columns on the log-odds scale. Its coefficients can be read, with their standard errors.",
            assumes: "Each column raises or lowers the log-odds evenly along its whole range, whatever the other columns are. Missing numbers are imputed with the median, with a missing indicator.",
            right_when: "Effects are linear, rows are few, or each effect has to be explained. It misses non-linear effects and interactions unless they are derived as columns of their own.",
            source: "McCullagh & Nelder 1989, chapter 4; with penalties Friedman, Hastie & Tibshirani 2010.",
        },
        Family {
            word: "scorecard",
            name: "Scorecard",
            about: "Bins every column and gives each bin points. Can be computed by hand.",
            assumes: "Columns are additive; within a bin all customers are alike.",
            right_when: "The result must be explained point by point, as in credit. It follows non-linear effects, and misses interactions.",
            source: "Siddiqi 2006; weights of evidence after Good 1950.",
        },
        Family {
            word: "tree",
            name: "Decision tree",
            about: "A few splits, one after the other, that end in groups of customers.",
            assumes: "A handful of groups is enough; everybody in a group gets the same probability.",
            right_when: "A rule is wanted that people can follow. A single tree changes easily when rows change, and predicts less well than many together.",
            source: "Breiman, Friedman, Olshen & Stone 1984.",
        },
        Family {
            word: "forest",
            name: "Random forest",
            about: "Many trees, each on a bootstrap sample of rows and random columns, averaged. Hard to get wrong.",
            assumes: "Little; uninformative columns dilute it.",
            right_when: "A strong result is wanted without tuning, and some columns act only together.",
            source: "Breiman 2001.",
        },
        Family {
            word: "boosted",
            name: "Boosted trees",
            about: "Many small trees, each fitted to the error of those before. Finds non-linear effects and interactions by itself; takes missing values and categories as they are.",
            assumes: "Little; with few rows it needs few leaves.",
            right_when: "There are some thousand rows or more and the last bit of accuracy counts.",
            source: "Friedman 2001; leaf values after Friedman, Hastie & Tibshirani 2000.",
        },
        Family {
            word: "network",
            name: "Neural network",
            about: "Two layers of units on numbers and on embeddings of categories.",
            assumes: "Smooth effects, and enough rows to learn them: some thousand events.",
            right_when: "There are many rows and categories with many values. Seldom better than boosted trees on customer records, and slower.",
            source: "Guo & Berkhahn 2016; Srivastava et al. 2014; Loshchilov & Hutter 2019.",
        },
        Family {
            word: "bayes",
            name: "Naive Bayes",
            about: "Counts how much likelier each value is among customers with the event. Fitted in one pass over the rows.",
            assumes: "Columns are independent given the outcome. They never are; calibration corrects what that does to the probabilities.",
            right_when: "Rows are few and columns many, or a quick baseline is wanted.",
            source: "Hand & Yu 2001; bins after Dougherty, Kohavi & Sahami 1995.",
        },
        Family {
            word: "neighbours",
            name: "Nearest neighbours",
            about: "The event rate among the known customers most similar to this one.",
            assumes: "Similar customers act alike; columns are weighted by their association with the outcome.",
            right_when: "There are few columns that matter. The model contains the values of known customers, so that it is as confidential as they are, and scoring is slow.",
            source: "Fix & Hodges 1951; mixed kinds after Wilson & Martinez 1997.",
        },
        Family {
            word: "svm",
            name: "Linear support vector machine",
            about: "The linear border with the largest margin between customers with the event and the others.",
            assumes: "As logistic regression; customers beyond the margin do not matter.",
            right_when: "Columns are many and rows few. It gives distances, which calibration turns into probabilities.",
            source: "Chang, Hsieh & Lin 2008; Keerthi & DeCoste 2005.",
        },
    ];

    /// The family of this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|family| family.word == word)
    }
}

/// Does the same with the settings, or the estimator, of whichever family it is.
macro_rules! of_each {
    ($of:ident, $it:expr, $one:ident => $body:expr) => {
        match $it {
            $of::Logistic($one) => $body,
            $of::Scorecard($one) => $body,
            $of::Tree($one) => $body,
            $of::Forest($one) => $body,
            $of::Boosted($one) => $body,
            $of::Network($one) => $body,
            $of::Bayes($one) => $body,
            $of::Neighbours($one) => $body,
            $of::Svm($one) => $body,
        }
    };
}

/// A family and its settings, not yet checked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "family")]
#[allow(missing_docs, reason = "each is named for its family")]
pub enum Settings {
    Logistic(LogisticSettings),
    Scorecard(ScorecardSettings),
    Tree(TreeSettings),
    Forest(ForestSettings),
    Boosted(BoostedSettings),
    Network(NetworkSettings),
    Bayes(BayesSettings),
    Neighbours(NeighboursSettings),
    Svm(SvmSettings),
}

/// A fitted classifier of any family.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "family")]
#[allow(missing_docs, reason = "each is named for its family")]
pub enum Estimator {
    Logistic(Logistic),
    Scorecard(Scorecard),
    Tree(DecisionTree),
    Forest(Forest),
    Boosted(Boosted),
    Network(Network),
    Bayes(Bayes),
    Neighbours(Neighbours),
    Svm(Svm),
}

/// A fitted classifier, and what it is known to say of the rows it was fitted to.
#[derive(Debug, Clone)]
pub struct Fitted {
    /// The classifier.
    pub estimator: Estimator,
    /// Log-odds of every row, told by parts of the classifier that had not met
    /// it; only from families that are made of such parts.
    pub unmet: Option<Vec<f64>>,
}

impl From<Estimator> for Fitted {
    fn from(estimator: Estimator) -> Self {
        Self { estimator, unmet: None }
    }
}

impl Settings {
    /// The family with its sound defaults; none if there is no such family.
    pub fn of_family(word: &str) -> Option<Self> {
        Some(match word {
            "logistic" => Self::Logistic(LogisticSettings::default()),
            "scorecard" => Self::Scorecard(ScorecardSettings::default()),
            "tree" => Self::Tree(TreeSettings::default()),
            "forest" => Self::Forest(ForestSettings::default()),
            "boosted" => Self::Boosted(BoostedSettings::default()),
            "network" => Self::Network(NetworkSettings::default()),
            "bayes" => Self::Bayes(BayesSettings::default()),
            "neighbours" => Self::Neighbours(NeighboursSettings::default()),
            "svm" => Self::Svm(SvmSettings::default()),
            _ => return None,
        })
    }

    /// The family.
    pub fn family(&self) -> Family {
        Family::ALL[match self {
            Self::Logistic(_) => 0,
            Self::Scorecard(_) => 1,
            Self::Tree(_) => 2,
            Self::Forest(_) => 3,
            Self::Boosted(_) => 4,
            Self::Network(_) => 5,
            Self::Bayes(_) => 6,
            Self::Neighbours(_) => 7,
            Self::Svm(_) => 8,
        }]
    }

    /// The family's name on the pages.
    pub fn name(&self) -> &'static str {
        self.family().name
    }

    /// How the family wants its columns.
    pub fn encoding(&self) -> Encoding {
        match self {
            Self::Logistic(_) | Self::Svm(_) => Encoding::Indicators,
            Self::Network(_) | Self::Neighbours(_) => Encoding::Standardised,
            Self::Scorecard(_) | Self::Tree(_) | Self::Forest(_) | Self::Boosted(_) | Self::Bayes(_) => {
                Encoding::Native
            }
        }
    }

    /// Whether what the family gives are log-odds only after calibration: it
    /// was not fitted by the likelihood of single rows.
    pub fn needs_calibration(&self) -> bool {
        match self {
            Self::Tree(_) | Self::Forest(_) | Self::Bayes(_) | Self::Neighbours(_) | Self::Svm(_) => true,
            Self::Logistic(_) | Self::Scorecard(_) | Self::Boosted(_) | Self::Network(_) => false,
        }
    }

    /// Whether the family is made of parts that have each missed some rows, and
    /// can tell those apart from the rest.
    pub fn judges_itself(&self) -> bool {
        matches!(self, Self::Forest(s) if s.trees >= 50)
    }

    /// Every setting of the family.
    pub fn definitions(&self) -> &'static [Setting] {
        fn of<S: Tunable>(_: &S) -> &'static [Setting] {
            S::SETTINGS
        }
        of_each!(Self, self, s => of(s))
    }

    /// What a setting is at present, as [`Settings::set`] would be given it.
    pub fn written(&self, name: &str) -> String {
        of_each!(Self, self, s => s.written(name))
    }

    /// Changes one setting by name.
    ///
    /// # Errors
    /// [`FitError::UnknownSetting`] or [`FitError::Setting`].
    pub fn set(&mut self, name: &str, value: &str) -> Result<(), FitError> {
        of_each!(Self, self, s => s.set(name, value))
    }

    /// Checks the settings and fits.
    ///
    /// `target` holds the outcome of every row of the design. `seed` governs all
    /// that is drawn by lot; the result is the same for any number of threads.
    ///
    /// # Errors
    /// [`FitError`].
    pub fn fit(
        &self,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Fitted, FitError> {
        if target.total(true) <= 0.0 || target.total(false) <= 0.0 {
            return Err(FitError::OneSided { rows: target.rows() });
        }
        Ok(match self {
            Self::Logistic(s) => Estimator::Logistic(s.check()?.fit(design, target, progress)?).into(),
            Self::Scorecard(s) => Estimator::Scorecard(s.check()?.fit(design, target, progress)?).into(),
            Self::Tree(s) => Estimator::Tree(s.check()?.fit(design, target, seed, progress)?).into(),
            Self::Forest(s) => {
                let (forest, unmet) = s.check()?.fit(design, target, seed, progress)?;
                Fitted { estimator: Estimator::Forest(forest), unmet }
            }
            Self::Boosted(s) => Estimator::Boosted(s.check()?.fit(design, target, seed, progress)?).into(),
            Self::Network(s) => Estimator::Network(s.check()?.fit(design, target, seed, progress)?).into(),
            Self::Bayes(s) => Estimator::Bayes(s.check()?.fit(design, target, progress)?).into(),
            Self::Neighbours(s) => Estimator::Neighbours(s.check()?.fit(design, target, seed, progress)?).into(),
            Self::Svm(s) => Estimator::Svm(s.check()?.fit(design, target, progress)?).into(),
        })
    }
}

impl Estimator {
    /// Log-odds of the event for every row of the design, before calibration.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        of_each!(Self, self, m => m.log_odds(design))
    }
}
