//! How much a model leans on each column: what is lost when the column's values are dealt out anew
//! among customers whom it had not met (Breiman 2001, section 10; Fisher, Rudin & Dominici 2019).

use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::prepared::{Prepared, probabilities};
use super::{ExplainedCustomers, columns_of};
use crate::model::Model;
use pronoia_data::Progress;
use pronoia_data::evaluate::delong::{self, Area};
use pronoia_data::progress::Cancelled;
use pronoia_decide::decide::{DecisionTotals, ExpectedProfit, Stakes};
use pronoia_learn::learn::seed_of;
use pronoia_learn::prepare::PrepareError;

/// How often each column is dealt out.
const SHUFFLES: usize = 5;

/// How much a model leans on each column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PermutationImportance {
    /// Customers judged on.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// How often each column was dealt out.
    pub shuffles: u64,
    /// Area under ROC as the customers are; none without at least two of either outcome.
    pub area: Option<Area>,
    /// What the policy gains over leaving everybody alone as they are, for its population.
    pub gain: Option<ExpectedProfit>,
    /// Every column that goes into the model, the one that it leans on most first: in money, or
    /// in area where there is none.
    pub columns: Vec<ColumnImportance>,
}

/// How much a model leans on a column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ColumnImportance {
    /// The column, after the steps.
    pub column: String,
    /// Area under ROC that is lost with it.
    pub area: Option<Area>,
    /// What the policy loses with it, and the 90 % interval of that.
    pub money: Option<ExpectedProfit>,
}

/// Why there is no influence.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum InfluenceError {
    /// The customers cannot be prepared.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// Somebody stopped it.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

impl PermutationImportance {
    /// Deals out the values of one column after the other among `customers`, on whom the model was
    /// not fitted; `event` says what happened to them, and `seed` governs how they are dealt.
    ///
    /// Areas and money are means over several deals. Their intervals come from the spread of single
    /// customers, so that they hold for other customers like these, with the model as it is. A
    /// column that the model does not use loses exactly nothing; one that others stand in for
    /// loses less than it says.
    ///
    /// # Errors
    /// [`InfluenceError`].
    pub fn of(
        model: &Model,
        customers: ExplainedCustomers,
        event: &[bool],
        stakes: Option<Stakes>,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Self, InfluenceError> {
        let columns = columns_of(model);
        progress.tell("Preparing the customers", 0.0);
        let prepared = Prepared::of(model, &columns, customers)?;
        let own = prepared.all();
        let as_they_are = probabilities(prepared.log_odds());
        let decided = stakes.map(|stakes| stakes.decided(&as_they_are));
        let mut found = Vec::new();
        for (at, column) in columns.iter().enumerate() {
            progress.go_on()?;
            progress.tell(&format!("Shuffling {column}"), at as f64 / columns.len() as f64);
            let dealt: Vec<Vec<f64>> = (0..SHUFFLES)
                .into_par_iter()
                .map(|shuffle| {
                    let mut from = own.clone();
                    from.shuffle(&mut ChaCha8Rng::seed_from_u64(seed_of(seed, at * SHUFFLES + shuffle)));
                    probabilities(prepared.exchanged(&own, &[(at, &from)]))
                })
                .collect();
            let money = stakes.zip(decided.as_ref()).map(|(stakes, decided)| {
                let others: Vec<DecisionTotals> = dealt.iter().map(|told| stakes.decided(told)).collect();
                stakes.over_mean(decided, &others, event)
            });
            found.push(ColumnImportance {
                column: column.clone(),
                area: delong::over_mean(&as_they_are, &dealt, event),
                money,
            });
        }
        let key = |c: &ColumnImportance| c.money.map_or(c.area.map_or(0.0, |area| area.value), |money| money.profit);
        found.sort_by(|a, b| key(b).total_cmp(&key(a)).then_with(|| a.column.cmp(&b.column)));
        Ok(Self {
            rows: event.len() as u64,
            events: event.iter().filter(|&&e| e).count() as u64,
            shuffles: SHUFFLES as u64,
            area: delong::area(&as_they_are, event),
            gain: stakes.zip(decided).map(|(stakes, decided)| stakes.gain(&decided, event)),
            columns: found,
        })
    }
}

impl ColumnImportance {
    /// Whether the model goes by it at all: without it nothing whatever changed.
    pub fn is_used(&self) -> bool {
        self.area.is_some_and(|area| area.value != 0.0 || area.se != 0.0) || self.money.is_some_and(|m| m.low != m.high)
    }

    /// Whether anything is lost for certain, as far as an interval can tell.
    pub fn is_clear(&self) -> bool {
        self.money.is_some_and(|money| money.low > 0.0) || self.area.is_some_and(|area| area.interval().0 > 0.0)
    }
}
