//! A scored list, summed up: the groups of a column, and the mean probability of those acted on.

use pronoia_core::score::{DECISION, GAIN, PROBABILITY};
use pronoia_core::table::Storage;
use pronoia_store::record_table;
use pronoia_store::records::ActedGroup;

use crate::App;
use crate::error::ServiceError;

/// The names of columns that scoring adds begin so.
pub const ADDED: &str = "pronoia_";

/// Values up to which a column is one to group by.
const VALUES: u64 = 100;

/// The groups of a column of a scored list.
#[derive(Debug, Clone)]
pub struct ScoredGroups {
    /// Columns that a list can be grouped by.
    pub columns: Vec<String>,
    /// The one that it is grouped by; none if there is none.
    pub by: Option<String>,
    /// Whether the list has an expected gain by customer.
    pub has_gain: bool,
    /// The groups, the one with the most gain, or the most customers acted on, first.
    pub groups: Vec<ActedGroup>,
}

impl ScoredGroups {
    /// The groups by a column, or by the first that a list can be grouped by; added up once, since a list never
    /// changes.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn of(app: &App, table: &record_table::Model, by: Option<&String>) -> Result<Self, ServiceError> {
        let stored = table.stored_columns()?;
        let figures = table.figures()?;
        let few = |name: &str| figures.column(name).is_some_and(|c| c.distinct > 1 && c.distinct <= VALUES);
        let own = stored.iter().filter(|c| c.kind.storage() == Storage::Words && !c.name.starts_with(ADDED));
        let columns: Vec<String> = own.map(|c| c.name.clone()).filter(|name| few(name)).collect();
        let by = by.filter(|name| columns.contains(name)).or(columns.first()).cloned();
        let has_gain = stored.iter().any(|c| c.name == GAIN);
        let mut found = Self { columns, by, has_gain, groups: Vec::new() };
        if let Some(by) = &found.by {
            let work = app.store.acted_by_group(table, by, DECISION, has_gain.then_some(GAIN));
            let mut groups = Vec::clone(&*app.acted_by_group.or_put((table.id, by.clone()), work).await?);
            groups.sort_by(|a, b| found.worth(b).total_cmp(&found.worth(a)));
            found.groups = groups;
        }
        Ok(found)
    }

    /// What a group is ordered by: its expected gain, or how many are acted on where there is none.
    pub fn worth(&self, group: &ActedGroup) -> f64 {
        if self.has_gain { group.gain } else { group.acted as f64 }
    }
}

/// The mean probability of those acted on in a scored list; worked out once, since it never changes.
///
/// # Errors
/// If the database does not answer.
pub async fn mean_of_acted(app: &App, table: &record_table::Model) -> Result<Option<f64>, ServiceError> {
    let work = app.store.mean_of_acted(table, PROBABILITY, DECISION);
    Ok(*app.mean_of_acted.or_put(table.id, work).await?)
}
