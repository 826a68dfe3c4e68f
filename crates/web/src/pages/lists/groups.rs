//! What acting brings by the groups of a column.

use pronoia_core::score::{DECISION, GAIN};
use pronoia_core::table::Storage;
use pronoia_store::record_table;
use pronoia_store::records::ActedGroup;

use super::rows::{ADDED, ScoredRowsQuery};
use crate::App;
use crate::error::PageError;
use crate::text;

/// Groups that are shown.
const GROUPS: usize = 12;

/// Values up to which a column is one to group by.
const VALUES: u64 = 100;

/// Width of the bars in their own units.
const WIDTH: f64 = 200.0;

/// The groups of a column.
pub struct GroupsView {
    /// Columns to choose from, and whether it is the one chosen.
    pub columns: Vec<(String, bool)>,
    pub finding: String,
    pub has_gain: bool,
    pub lines: Vec<ListGroupLine>,
}

/// One group.
pub struct ListGroupLine {
    pub label: String,
    pub rows: String,
    pub acted: String,
    pub share: String,
    pub gain: String,
    /// How long its bar is.
    pub bar: String,
}

/// The groups of a column; added up once, since a list never changes.
async fn acted_by_group(
    app: &App,
    table: &record_table::Model,
    by: &str,
    gain: Option<&str>,
) -> Result<Vec<ActedGroup>, PageError> {
    let work = app.store.acted_by_group(table, by, DECISION, gain);
    Ok(Vec::clone(&*app.acted_by_group.or_put((table.id, by.to_owned()), work).await?))
}

impl GroupsView {
    pub async fn of(app: &App, table: &record_table::Model, asked: &ScoredRowsQuery) -> Result<Self, PageError> {
        let stored = table.stored_columns()?;
        let figures = table.figures()?;
        let few = |name: &str| figures.column(name).is_some_and(|c| c.distinct > 1 && c.distinct <= VALUES);
        let own = stored.iter().filter(|c| c.kind.storage() == Storage::Words && !c.name.starts_with(ADDED));
        let columns: Vec<String> = own.map(|c| c.name.clone()).filter(|name| few(name)).collect();
        let chosen = asked.by.clone().filter(|name| columns.contains(name)).or(columns.first().cloned());
        let has_gain = stored.iter().any(|c| c.name == GAIN);
        let Some(by) = chosen else {
            return Ok(Self { columns: Vec::new(), finding: String::new(), has_gain, lines: Vec::new() });
        };
        let gain = has_gain.then_some(GAIN);
        let mut groups = acted_by_group(app, table, &by, gain).await?;
        let worth = |group: &ActedGroup| if has_gain { group.gain } else { group.acted as f64 };
        groups.sort_by(|a, b| worth(b).total_cmp(&worth(a)));
        let total: f64 = groups.iter().map(worth).sum();
        let most = groups.iter().map(worth).fold(f64::MIN_POSITIVE, f64::max);
        let named =
            |label: &Option<String>| label.as_ref().map_or("without a value".into(), |label| format!("“{label}”"));
        let finding = match groups.first() {
            Some(first) if total > 0.0 => format!(
                "By {by}: {} has {} of the {}.",
                named(&first.label),
                text::percent(worth(first) / total),
                match has_gain {
                    true => format!("expected incremental profit of {}", text::money(total)),
                    false => format!("{} selected customers", text::count(total as u64)),
                }
            ),
            _ => format!("Nobody is selected, by {by} or otherwise."),
        };
        let line = |group: &pronoia_store::records::ActedGroup| ListGroupLine {
            label: named(&group.label),
            rows: text::count(group.rows),
            acted: text::count(group.acted),
            share: text::percent(group.acted as f64 / group.rows.max(1) as f64),
            gain: text::money(group.gain),
            bar: format!("{:.1}", (worth(group) / most).max(0.0) * WIDTH),
        };
        let lines = groups.iter().take(GROUPS).map(line).collect();
        let columns = columns.into_iter().map(|name| (name == by, name)).map(|(here, name)| (name, here)).collect();
        Ok(Self { columns, finding, has_gain, lines })
    }
}
