//! Two columns together: what they say that neither says alone.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::grouping::{Grouping, RateGroup};
use crate::stats::{Count, likelihood_ratio_p_value, mutual_information};
use crate::table::Column;

/// Groups of a column on a map.
pub(super) const MOST_GROUPS: usize = 7;

/// Pairs that are kept.
const KEPT: usize = 12;

/// The event rate over the groups of two columns.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PairMap {
    /// The column whose groups are the rows of the map.
    pub down: String,
    /// The column whose groups are its columns.
    pub across: String,
    /// Groups of the first.
    pub down_groups: Vec<RateGroup>,
    /// Groups of the second.
    pub across_groups: Vec<RateGroup>,
    /// Row by row, one count per cell.
    pub cells: Vec<Count>,
    /// Bits that both together say of the outcome.
    pub together: f64,
    /// Bits that they say beyond the sum of what each says alone.
    pub beyond: f64,
    /// The chance of so many bits beyond, if only each alone mattered.
    pub chance: f64,
}

impl PairMap {
    /// The map of two columns over `rows`.
    pub fn of(down: &Column, across: &Column, rows: &[usize], event: &[bool]) -> Self {
        let (a, b) = (Grouping::of(down, rows, event, MOST_GROUPS), Grouping::of(across, rows, event, MOST_GROUPS));
        Self::from_groupings((&down.name, &a), (&across.name, &b), event)
    }

    fn from_groupings((down, a): (&str, &Grouping), (across, b): (&str, &Grouping), event: &[bool]) -> Self {
        let width = b.groups.len();
        let mut cells = vec![Count::default(); a.groups.len() * width];
        for ((&i, &j), &e) in a.codes.iter().zip(&b.codes).zip(event) {
            cells[usize::from(i) * width + usize::from(j)].add(e);
        }
        let together = mutual_information(&cells);
        let beyond = together - mutual_information(&a.counts()) - mutual_information(&b.counts());
        let freedom = a.groups.len().saturating_sub(1) * width.saturating_sub(1);
        Self {
            down: down.into(),
            across: across.into(),
            down_groups: a.groups.clone(),
            across_groups: b.groups.clone(),
            cells,
            together,
            beyond,
            chance: likelihood_ratio_p_value(beyond.max(0.0), event.len() as u64, freedom),
        }
    }

    /// The customers in the cells given, as an SQL condition; cells of one row
    /// of the map are put together. None if there is no cell.
    pub fn region(&self, cells: &[(usize, usize)]) -> Option<String> {
        let mut rows = Vec::new();
        for (i, down) in self.down_groups.iter().enumerate() {
            let across: Vec<String> = (0..self.across_groups.len())
                .filter(|&j| cells.contains(&(i, j)))
                .map(|j| self.across_groups[j].members.condition(&self.across))
                .collect();
            let down = down.members.condition(&self.down);
            match across.len() {
                0 => {}
                n if n == self.across_groups.len() => rows.push(down),
                1 => rows.push(format!("{down} AND {}", across[0])),
                // AND binds closer than OR.
                _ => rows.push(format!("{down} AND ({})", across.join(" OR "))),
            }
        }
        (!rows.is_empty()).then(|| rows.join(" OR "))
    }

    /// The cell in row `i` and column `j` of the map.
    pub fn cell(&self, i: usize, j: usize) -> Count {
        self.cells[i * self.across_groups.len() + j]
    }
}

/// The pairs that say most beyond what their columns say alone, and more than
/// chance would make any of so many pairs say (Bonferroni).
pub(super) fn striking(columns: &[(&Column, Grouping)], event: &[bool]) -> Vec<PairMap> {
    let pairs: Vec<(usize, usize)> =
        (0..columns.len()).flat_map(|i| (i + 1..columns.len()).map(move |j| (i, j))).collect();
    let mut maps: Vec<PairMap> = pairs
        .par_iter()
        .map(|&(i, j)| {
            let ((a, ga), (b, gb)) = (&columns[i], &columns[j]);
            PairMap::from_groupings((&a.name, ga), (&b.name, gb), event)
        })
        .filter(|map| map.chance < 0.01 / pairs.len() as f64)
        .collect();
    maps.sort_by(|a, b| b.beyond.total_cmp(&a.beyond).then_with(|| (&a.down, &a.across).cmp(&(&b.down, &b.across))));
    maps.truncate(KEPT);
    maps
}
