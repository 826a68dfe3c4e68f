//! Columns that could be made of what is there: proposed, never made by themselves.

use super::steps::StepAction;
use pronoia_data::expression::{Expression, name_of};
use pronoia_data::{Kind, Table};

/// Derived columns that dates allow: the days from an earlier one to a later
/// one, and the month and the day of the week of each. `table` holds rows to
/// look at; only what varies among them is proposed.
pub fn suggestions(table: &Table) -> Vec<StepAction> {
    let dates: Vec<&str> = table.columns().iter().filter(|c| c.kind == Kind::Date).map(|c| c.name.as_str()).collect();
    let mut found = Vec::new();
    for (at, one) in dates.iter().enumerate() {
        for other in &dates[at + 1..] {
            if let Some((from, to)) = in_order(table, one, other) {
                found.push((format!("days from {from} to {to}"), format!("{} - {}", name_of(to), name_of(from))));
            }
        }
    }
    for name in &dates {
        found.push((format!("month of {name}"), format!("EXTRACT(MONTH FROM {})", name_of(name))));
        found.push((format!("weekday of {name}"), format!("EXTRACT(DOW FROM {})", name_of(name))));
    }
    let known = table.kinds();
    found
        .into_iter()
        .map(|(name, expression)| StepAction::Derive { name, expression })
        .filter(|action| action.check(&mut known.clone()).is_ok() && varies(action, table))
        .collect()
}

/// The earlier and the later of two dates, if one never comes after the other.
fn in_order<'a>(table: &Table, one: &'a str, other: &'a str) -> Option<(&'a str, &'a str)> {
    let (first, second) = (table.column(one)?, table.column(other)?);
    let both = (0..table.rows()).filter_map(|row| Some(second.number(row)? - first.number(row)?));
    let (mut before, mut after) = (0, 0);
    both.for_each(|days| match days {
        days if days > 0.0 => before += 1,
        days if days < 0.0 => after += 1,
        _ => {}
    });
    match (before, after) {
        (1.., 0) => Some((one, other)),
        (0, 1..) => Some((other, one)),
        _ => None,
    }
}

/// Whether the derived column would hold more than one value.
fn varies(action: &StepAction, table: &Table) -> bool {
    let StepAction::Derive { name, expression } = action else { return false };
    let Ok(expression) = Expression::check(expression, &Expression::columns_of(table)) else { return false };
    expression.column(name, table).is_ok_and(|(column, _)| {
        let mut values = (0..column.len()).filter_map(|row| column.number(row));
        let first = values.next();
        values.any(|value| Some(value) != first)
    })
}
