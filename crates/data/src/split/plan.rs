//! How rows are dealt out, as the analyst chose it.

use serde::{Deserialize, Serialize};

use super::Split;

/// How rows are dealt out.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SplitPlan {
    /// Share of rows that models are fitted on.
    pub training: f64,
    /// Share on which they are chosen.
    pub validation: f64,
    /// Starts the shuffle; the same seed deals the same rows.
    pub seed: u64,
    /// By what.
    #[serde(default)]
    pub by: SplitMethod,
    /// The column whose like values stay in one part: the customer's number
    /// where a customer has several rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub together: Option<String>,
    /// Into how many folds the rows that are not sealed are dealt, each judged
    /// by models fitted to the others; without them, validation rows judge.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folds: Option<usize>,
}

/// By what rows are dealt out.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "by")]
pub enum SplitMethod {
    /// By lot, with the same event rate in every part.
    #[default]
    AtRandom,
    /// The newest are the test, those before them validation.
    Newest {
        /// The column that says when.
        column: String,
    },
    /// As a column of the records says.
    Given {
        /// The column.
        column: String,
        /// Its value for validation rows; without one, validation is drawn by
        /// lot from what is not the test.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        validation: Option<String>,
        /// Its value for test rows. Every other value is for training.
        test: String,
    },
}

impl Default for SplitPlan {
    fn default() -> Self {
        Self { training: 0.6, validation: 0.2, seed: 2024, by: SplitMethod::AtRandom, together: None, folds: None }
    }
}

impl SplitPlan {
    /// The columns of the table that dealing reads.
    pub fn columns(&self) -> impl Iterator<Item = &str> {
        let by = match &self.by {
            SplitMethod::AtRandom => None,
            SplitMethod::Newest { column } | SplitMethod::Given { column, .. } => Some(column.as_str()),
        };
        by.into_iter().chain(self.together.as_deref())
    }

    /// What the rows are called that models are judged on.
    pub fn judged_on(&self) -> &'static str {
        if self.folds.is_some() { "out-of-fold" } else { "validation" }
    }

    /// The rows that models are judged on: those of validation, or with
    /// cross-validation all but the sealed ones, each by a model that had not met it.
    pub fn judged(&self, dealt: Split) -> Vec<usize> {
        if self.folds.is_some() { dealt.unsealed() } else { dealt.validation }
    }

    /// The rows that the model which is kept is fitted to.
    pub fn fitted_to(&self, dealt: Split) -> Vec<usize> {
        if self.folds.is_some() { dealt.unsealed() } else { dealt.training }
    }

    /// The split in a sentence.
    pub fn sentence(&self) -> String {
        let (training, validation) = (self.training * 100.0, self.validation * 100.0);
        let test = 100.0 - training - validation;
        let together = match &self.together {
            Some(column) => format!(" Rows with the same {column} stay together."),
            None => String::new(),
        };
        let seed = self.seed;
        if let Some(folds) = self.folds {
            let sealed = match &self.by {
                SplitMethod::AtRandom => format!("a sealed test set of {test:.0} % (seed {seed})"),
                SplitMethod::Newest { column } => format!("the newest {test:.0} % by {column}, which are sealed"),
                SplitMethod::Given { column, test, .. } => {
                    format!("those whose {column} is “{test}”, which are sealed")
                }
            };
            return format!(
                "Models are chosen by {folds}-fold cross-validation: each fold is predicted by models fitted to the other folds (out-of-fold), and the final model is fitted to all of them. It is confirmed once on {sealed}.{together}"
            );
        }
        match &self.by {
            SplitMethod::AtRandom => format!(
                "Models are fitted on {training:.0} %, chosen on {validation:.0} %, and confirmed once on a sealed {test:.0} % of the customers: a random split, stratified by the outcome (seed {seed}).{together}"
            ),
            SplitMethod::Newest { column } => format!(
                "Models are fitted on the oldest {training:.0} % by {column}, chosen on the next {validation:.0} %, and confirmed once on the newest {test:.0} %, which are sealed.{together}"
            ),
            SplitMethod::Given { column, validation: Some(chosen_on), test } => format!(
                "Split by {column}: models are chosen on “{chosen_on}”, confirmed once on “{test}”, which is sealed, and fitted on the rest."
            ),
            SplitMethod::Given { column, validation: None, test } => format!(
                "Split by {column}: “{test}” is sealed and confirms once; of the rest, {:.0} % at random are the validation set (seed {seed}).{together}",
                100.0 * self.validation / (self.training + self.validation)
            ),
        }
    }
}
