//! What is different between two versions of a table, told from their figures.

use super::{ColumnProfile, TableProfile};
use crate::Kind;
use crate::number::{percent, plain};
use crate::table::written_date;

/// Points by which a share must move to be told.
const POINTS: f64 = 0.03;

/// Standard deviations by which the middle of a number must move to be told.
const MOVED: f64 = 0.25;

/// New values of a column that are named.
const NAMED: usize = 3;

/// A difference of one column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ColumnChange {
    /// The column.
    pub column: String,
    /// What is different, in a few words.
    pub what: String,
    /// Whether a study that uses the column must be changed: it is gone, or of
    /// another kind.
    pub breaks: bool,
}

/// Compares the columns of two versions: gone and new ones, kinds, ranges,
/// missing values, new values, and the balance of those with two values.
pub fn changes(before: &TableProfile, after: &TableProfile) -> Vec<ColumnChange> {
    let mut changes = Vec::new();
    for old in &before.columns {
        let mut tell =
            |what: String, breaks: bool| changes.push(ColumnChange { column: old.name.clone(), what, breaks });
        let Some(new) = after.column(&old.name) else {
            tell("is gone".into(), true);
            continue;
        };
        if old.kind.storage() != new.kind.storage() {
            tell(format!("was a {}, is a {}", old.kind, new.kind), true);
            continue;
        }
        if old.kind != new.kind {
            tell(format!("was read as {}, is read as {}", old.kind, new.kind), false);
        }
        let missing = |c: &ColumnProfile, rows: u64| c.missing as f64 / rows.max(1) as f64;
        let (was, is) = (missing(old, before.rows), missing(new, after.rows));
        if (was - is).abs() > POINTS {
            tell(format!("missing in {}, was {}", percent(is), percent(was)), false);
        }
        if let Some(what) = values(old, new, (before.rows, after.rows)) {
            tell(what, false);
        }
    }
    for new in after.columns.iter().filter(|c| before.column(&c.name).is_none()) {
        changes.push(ColumnChange { column: new.name.clone(), what: format!("is new: {}", new.kind), breaks: false });
    }
    changes.sort_by_key(|c| !c.breaks);
    changes
}

fn values(old: &ColumnProfile, new: &ColumnProfile, (before, after): (u64, u64)) -> Option<String> {
    let write = |x: f64| if old.kind == Kind::Date { written_date(x as i32) } else { plain(x) };
    if let (Some(was), Some(is)) = (&old.numbers, &new.numbers) {
        let wider = is.min < was.min || is.max > was.max;
        let moved = (is.median - was.median).abs() > MOVED * was.sd;
        let range = format!("{} to {}, was {} to {}", write(is.min), write(is.max), write(was.min), write(was.max));
        return match (wider, moved) {
            (_, true) => Some(format!("{range}; in the middle {}, was {}", write(is.median), write(was.median))),
            (true, false) => Some(range),
            (false, false) => None,
        };
    }
    let listed = |c: &ColumnProfile| c.top.len() as u64 == c.distinct;
    if listed(old) && listed(new) {
        let unknown: Vec<String> = new
            .top
            .iter()
            .filter(|(value, _)| old.top.iter().all(|(was, _)| was != value))
            .map(|(value, rows)| format!("“{value}” in {}", percent(*rows as f64 / after.max(1) as f64)))
            .collect();
        if !unknown.is_empty() {
            let more = if unknown.len() > NAMED { ", …" } else { "" };
            return Some(format!("new values: {}{more}", unknown[..unknown.len().min(NAMED)].join(", ")));
        }
        let share = |c: &ColumnProfile, value: &str, rows: u64| {
            c.top
                .iter()
                .find(|t| t.0 == value)
                .map_or(0.0, |t| t.1 as f64 / rows.saturating_sub(c.missing).max(1) as f64)
        };
        let moved = old.top.iter().map(|(value, _)| (value, share(old, value, before), share(new, value, after)));
        let most = moved.max_by(|a, b| (a.1 - a.2).abs().total_cmp(&(b.1 - b.2).abs()))?;
        if (most.1 - most.2).abs() > POINTS {
            return Some(format!("“{}” in {}, was {}", most.0, percent(most.2), percent(most.1)));
        }
    }
    None
}
