//! Made-up rows beside the real ones that they resemble.

use serde::{Deserialize, Serialize};

use super::Synthetic;
use pronoia_data::number::{percent, plain};
use pronoia_data::profile::ColumnProfile;
use pronoia_data::{Column, Table};

/// One column among real rows of the rarer outcome and among made-up ones.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Shape {
    /// The column.
    pub column: String,
    /// Quartiles of a quantity, or the most frequent values with their shares, among real rows.
    pub real: String,
    /// The same among made-up rows.
    pub made: String,
}

/// Compares every made-up column with the rows of the table it resembles.
pub fn shapes(table: &Table, rarer: &[usize], synthetic: &Synthetic) -> Vec<Shape> {
    let real = table.take(rarer);
    let both = synthetic.table.columns().iter().filter_map(|made| Some((real.column(&made.name)?, made)));
    both.map(|(real, made)| {
        // The same values are named on both sides, in the same order.
        let named: Vec<String> = ColumnProfile::of(real).top.into_iter().take(3).map(|t| t.0).collect();
        Shape { column: made.name.clone(), real: words(real, &named), made: words(made, &named) }
    })
    .collect()
}

fn words(column: &Column, named: &[String]) -> String {
    let profile = ColumnProfile::of(column);
    let write = |x: f64| {
        if column.kind == pronoia_data::Kind::Date { pronoia_data::table::written_date(x as i32) } else { plain(x) }
    };
    match &profile.numbers {
        Some(n) => format!("{} · {} · {}", write(n.lower_quartile), write(n.median), write(n.upper_quartile)),
        None => {
            let share = |value: &String| {
                let rows = (0..column.len()).filter(|&row| column.text(row).as_ref() == Some(value)).count();
                format!("{value} {}", percent(rows as f64 / column.len().max(1) as f64))
            };
            named.iter().map(share).collect::<Vec<_>>().join(" · ")
        }
    }
}
