//! What acting brings by the groups of a column.

use pronoia_service::ServiceError;
use pronoia_service::scored_list::ScoredGroups;
use pronoia_service::text;
use pronoia_store::record_table;
use pronoia_store::records::ActedGroup;

use super::rows::ScoredRowsQuery;
use crate::App;

/// Groups that are shown.
const GROUPS: usize = 12;

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

impl GroupsView {
    pub async fn of(app: &App, table: &record_table::Model, asked: &ScoredRowsQuery) -> Result<Self, ServiceError> {
        let found = ScoredGroups::of(app, table, asked.by.as_ref()).await?;
        let worth = |group: &ActedGroup| found.worth(group);
        let ScoredGroups { columns, by, has_gain, groups } = &found;
        let has_gain = *has_gain;
        let Some(by) = by else {
            return Ok(Self { columns: Vec::new(), finding: String::new(), has_gain, lines: Vec::new() });
        };
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
        let line = |group: &ActedGroup| ListGroupLine {
            label: named(&group.label),
            rows: text::count(group.rows),
            acted: text::count(group.acted),
            share: text::percent(group.acted as f64 / group.rows.max(1) as f64),
            gain: text::money(group.gain),
            bar: format!("{:.1}", (worth(group) / most).max(0.0) * WIDTH),
        };
        let lines = groups.iter().take(GROUPS).map(line).collect();
        let columns = columns.iter().map(|name| (name.clone(), name == by)).collect();
        Ok(Self { columns, finding, has_gain, lines })
    }
}
