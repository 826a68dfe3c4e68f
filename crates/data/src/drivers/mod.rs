//! What goes with the outcome: every column by itself, two together, and segments.
//!
//! Everything here is about association in the rows looked at, which are
//! training rows; nothing says that one thing makes another happen.

mod grouping;
mod pairs;
mod segments;
mod strip;
mod totals;

pub use grouping::{Bin, Grouping, Members, Notation, RateGroup};
pub use grouping::{band_edges, merged};
pub use pairs::PairMap;
pub use segments::{Segment, Segments};
pub use strip::Strip;
pub use totals::{GroupTotal, group_totals};

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::progress::{Cancelled, ProgressPart};
use crate::stats::{
    Count, correlation, entropy, information_value, likelihood_ratio_p_value, mutual_information, total,
};
use crate::table::Column;
use crate::{Kind, Progress, Table};

/// Groups that a column is shown in, besides that of the missing values.
const MOST_GROUPS: usize = 40;

/// Bands that a number is shown in.
const MOST_BANDS: usize = 8;

/// The chance below which an association is believed, before it is divided by
/// the number of columns that were looked at.
const BELIEVED: f64 = 0.01;

/// Information value from which a driver counts as strong.
pub const STRONG: f64 = 0.1;

/// How one column goes with the outcome.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Driver {
    /// The column.
    pub column: String,
    /// Its kind.
    pub kind: Kind,
    /// Its groups: bands in their order, values by falling rate, missing last.
    pub groups: Vec<RateGroup>,
    /// Mutual information with the outcome, in bits.
    pub bits: f64,
    /// The same as a share of the outcome's entropy, 0 to 1.
    pub share: f64,
    /// Information value.
    pub information_value: f64,
    /// Correlation with the event counted as 1; for numbers and dates.
    pub correlation: Option<f64>,
    /// The chance of so many bits if the column had nothing to do with the outcome.
    pub chance: f64,
    /// Whether the chance is small even for one column among as many as were looked at.
    pub believed: bool,
    /// Whether it is a predictor of the study.
    pub usable: bool,
    /// Customers and events along its range; for numbers and dates.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub strip: Option<Strip>,
}

impl Driver {
    /// Describes one column; `looked_at` is the number of columns looked at.
    fn of(column: &Column, rows: &[usize], event: &[bool], looked_at: usize, usable: bool) -> Self {
        let most = if column.kind == Kind::Number || column.kind == Kind::Date { MOST_BANDS } else { MOST_GROUPS };
        let groups = Grouping::of(column, rows, event, most).groups;
        let counts: Vec<Count> = groups.iter().map(|g| g.count).collect();
        let (bits, all) = (mutual_information(&counts), total(&counts));
        let numbers = rows.iter().zip(event).filter_map(|(&row, &e)| column.number(row).map(|x| (x, e)));
        let chance = likelihood_ratio_p_value(bits, all.rows, groups.len().saturating_sub(1));
        Self {
            column: column.name.clone(),
            kind: column.kind,
            bits,
            share: bits / entropy(all).max(f64::MIN_POSITIVE),
            information_value: information_value(&counts),
            correlation: correlation(numbers),
            chance,
            believed: chance < BELIEVED / looked_at.max(1) as f64,
            usable,
            strip: Strip::of(column, rows, event),
            groups,
        }
    }

    /// The groups with the least and the greatest rate among those of at least
    /// one customer in a hundred.
    pub fn extremes(&self) -> Option<(&RateGroup, &RateGroup)> {
        let all: u64 = self.groups.iter().map(|g| g.count.rows).sum();
        let sizeable = || self.groups.iter().filter(move |g| g.count.rows * 100 >= all);
        let by_rate = |a: &&RateGroup, b: &&RateGroup| a.count.rate().total_cmp(&b.count.rate());
        Some((sizeable().min_by(by_rate)?, sizeable().max_by(by_rate)?))
    }
}

/// What goes with the outcome of a study.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Drivers {
    /// The rows looked at.
    pub all: Count,
    /// Every column, the most telling first.
    pub columns: Vec<Driver>,
    /// Pairs that say more together than each alone.
    pub pairs: Vec<PairMap>,
    /// A small tree of customers with like rates.
    pub segments: Segments,
}

impl Drivers {
    /// Looks at the columns named; `event[i]` says what happened in `rows[i]`.
    /// Pairs and segments are made of `usable` columns only.
    ///
    /// # Errors
    /// [`Cancelled`].
    pub fn of(
        table: &Table,
        names: &[String],
        usable: &[String],
        (rows, event): (&[usize], &[bool]),
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Self, Cancelled> {
        let columns: Vec<&Column> = table.columns().iter().filter(|c| names.contains(&c.name)).collect();
        progress.tell("Comparing the outcome with every column", 0.0);
        let mut drivers: Vec<Driver> =
            columns.par_iter().map(|c| Driver::of(c, rows, event, columns.len(), usable.contains(&c.name))).collect();
        drivers.sort_by(|a, b| {
            b.believed.cmp(&a.believed).then(b.share.total_cmp(&a.share)).then_with(|| a.column.cmp(&b.column))
        });
        progress.go_on()?;
        progress.tell("Comparing the outcome with pairs of columns", 0.3);
        let grouped: Vec<(&Column, Grouping)> = columns
            .par_iter()
            .filter(|c| usable.contains(&c.name))
            .map(|c| (*c, Grouping::of(c, rows, event, pairs::MOST_GROUPS)))
            .collect();
        let pairs = pairs::striking(&grouped, event);
        progress.go_on()?;
        let segments = Segments::of(&grouped, event, seed, &ProgressPart::of(progress, 0.5, 1.0))?;
        let all = Count { rows: event.len() as u64, events: event.iter().filter(|&&e| e).count() as u64 };
        Ok(Self { all, columns: drivers, pairs, segments })
    }

    /// Predictors that are believed and strong.
    pub fn strong(&self) -> impl Iterator<Item = &Driver> {
        self.columns.iter().filter(|d| d.usable && d.believed && d.information_value >= STRONG)
    }
}
