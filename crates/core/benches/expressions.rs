//! How long one operator of an expression takes over a million rows.
//!
//! `cargo bench --package pronoia-core --bench expressions`

use std::hint::black_box;
use std::time::Instant;

use pronoia_core::expression::Expression;
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Kind, Table};

const ROWS: usize = 1_000_000;

/// Runs of each, of which the median counts.
const RUNS: usize = 9;

/// What is computed, and how many operators that is.
const EXPRESSIONS: [(&str, usize); 16] = [
    ("fee + visits", 1),
    ("fee * visits - fee / visits", 3),
    ("fee > visits", 1),
    ("fee BETWEEN 10 AND 90", 1),
    ("fee > 50 AND visits < 3 OR NOT fee > 90", 5),
    ("ln(fee)", 1),
    ("round(fee)", 1),
    ("coalesce(fee, 0)", 1),
    ("CASE WHEN fee > 50 THEN fee ELSE visits END", 2),
    ("plan = 'Plus'", 1),
    ("plan IN ('Plus', 'Basic')", 1),
    ("plan LIKE 'P%'", 1),
    ("upper(plan)", 1),
    ("length(plan)", 1),
    ("DATE '2026-01-01' - joined", 1),
    ("extract(month FROM joined)", 1),
];

fn table() -> Table {
    let column = |name: &str, kind, fill: &dyn Fn(&mut ColumnBuilder, usize)| {
        let mut builder = ColumnBuilder::new(name, kind);
        (0..ROWS).for_each(|row| if row % 50 == 7 { builder.push_missing() } else { fill(&mut builder, row) });
        builder.finish()
    };
    let plans = ["Basic", "Plus", "Complete", "Old plan"];
    Table::new(vec![
        column("fee", Kind::Number, &|b, row| b.push_number((row * 7_919 % 10_007) as f64 / 100.0)),
        column("visits", Kind::Number, &|b, row| b.push_number((row % 11) as f64)),
        column("plan", Kind::Category, &|b, row| b.push_word(plans[row % plans.len()])),
        column("joined", Kind::Date, &|b, row| b.push_date(15_000 + (row % 5_000) as i32)),
    ])
    .expect("a table")
}

fn main() {
    let table = table();
    let columns = Expression::columns_of(&table);
    println!("{ROWS} rows; milliseconds per operator, median of {RUNS}; the aim is 50");
    for (sql, operators) in EXPRESSIONS {
        let expression = Expression::check(sql, &columns).expect(sql);
        let mut taken: Vec<f64> = (0..RUNS)
            .map(|_| {
                let begun = Instant::now();
                black_box(expression.evaluate(black_box(&table)).expect(sql));
                begun.elapsed().as_secs_f64() * 1_000.0 / operators as f64
            })
            .collect();
        taken.sort_unstable_by(f64::total_cmp);
        println!("{:8.2}  {sql}", taken[RUNS / 2]);
    }
}
