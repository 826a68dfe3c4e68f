//! A closer look at a candidate, and the proof that it can be made again.

use pronoia_core::learn::{Family, Settings};
use pronoia_core::model::Recipe;
use pronoia_core::progress::Unwatched;
use pronoia_core::study::Basis;
use pronoia_core::validation::{Diagnostics, Gain};
use pronoia_core::{Column, Kind, Table};

use crate::customers::{basis, customers, every, fit_of, numbers, quick, words};

fn closer(rows: usize, family: &str, basis: &Basis) -> Diagnostics {
    let (table, _) = customers(rows, -2.0, 11);
    let recipe = Recipe::One(Settings::of_family(family).expect("a family"));
    Diagnostics::look(&table, basis, &recipe, 3, &Unwatched).expect("a look")
}

#[test]
fn more_rows_help_a_flexible_model_of_few_and_not_a_simple_one_of_many() {
    let few = closer(1_500, "network", &basis());
    let rows: Vec<u64> = few.by_rows.points.iter().map(|p| p.rows).collect();
    assert!(rows.windows(2).all(|pair| pair[0] < pair[1]) && rows.last() == Some(&900), "{rows:?}");
    let first = few.by_rows.points[0].log_loss;
    let last = few.by_rows.points.last().expect("a point").log_loss;
    assert!(last < first, "{first} to {last}");
    let many = closer(30_000, "logistic", &basis());
    assert!(!many.by_rows.gain.expect("halves").is_clear(), "{:?}", many.by_rows.gain);
    assert_eq!(many.by_rows.judged, 6_000);
}

#[test]
fn a_gain_is_the_mean_fall_of_the_loss_with_the_spread_of_single_rows() {
    let (half, all, event) = ([0.5, 0.5, 0.2, 0.4], [0.6, 0.4, 0.1, 0.5], [true, false, false, true]);
    let falls = [0.6f64 / 0.5, 0.6 / 0.5, 0.9 / 0.8, 0.5 / 0.4].map(f64::ln);
    let mean = falls.iter().sum::<f64>() / 4.0;
    let variance = falls.iter().map(|f| (f - mean).powi(2)).sum::<f64>() / 3.0;
    let gain = Gain::of(&half, &all, &event);
    assert!((gain.fall - mean).abs() < 1e-12 && gain.is_clear());
    assert!((gain.reach - 1.959_963_984_540_054 * (variance / 4.0).sqrt()).abs() < 1e-12);
}

#[test]
fn the_few_columns_are_those_that_matter_and_their_card_comes_near() {
    for folds in [None, Some(4)] {
        let mut basis = basis();
        basis.split.folds = folds;
        let found = closer(8_000, "boosted", &basis);
        let beside = found.few.expect("a small model");
        let columns = &beside.few.columns;
        assert!(columns.len() == 3 && columns.iter().all(|c| !c.starts_with("idle")), "{columns:?}");
        let first: Vec<&str> = columns[..2].iter().map(String::as_str).collect();
        assert!(first.contains(&"straight") && first.contains(&"bent"), "what tells most comes first: {columns:?}");
        assert_eq!(beside.few.model.inputs().count(), 3, "it needs no other column");
        let less = beside.less.expect("a difference");
        assert!(less.value < 0.05 && beside.area_under_roc > 0.6, "{less:?} {}", beside.area_under_roc);
        assert_eq!(beside.ranking.rows, found.whole.rows, "both on the same customers");
    }
}

#[test]
fn without_a_column_that_tells_anything_there_is_no_small_model() {
    let basis = Basis { predictors: vec!["idle_0".into(), "idle_1".into()], ..basis() };
    assert_eq!(closer(4_000, "logistic", &basis).few, None);
}

#[test]
fn the_fingerprint_differs_when_anything_that_was_read_does() {
    let (table, _) = customers(600, -1.5, 6);
    let settings = quick(Family::of("scorecard").expect("a family"));
    let of = |table: &Table| fit_of(table, &settings).fingerprint;
    let before = of(&table);
    assert_eq!(before.len(), 64);
    assert_eq!(before, of(&table));
    let with = |name: &str, column: Column| {
        let columns = table.columns().iter().map(|c| if c.name == name { column.clone() } else { c.clone() });
        Table::new(columns.collect()).expect("a table")
    };
    let straight = table.column("straight").expect("a column");
    let mut values: Vec<Option<f64>> = (0..600).map(|row| straight.number(row)).collect();
    values[599] = values[599].map(|x| x + 1e-12);
    assert_ne!(before, of(&with("straight", numbers("straight", values.clone()))), "one value, by very little");
    values[599] = None;
    assert_ne!(before, of(&with("straight", numbers("straight", values))), "one that is gone");
    let mut tiers: Vec<String> =
        (0..600).map(|row| table.column("tier").expect("tier").text(row).expect("one")).collect();
    tiers.swap(0, 1);
    let swapped = tiers[0] != tiers[1];
    let other = of(&with("tier", words("tier", tiers.iter().map(String::as_str).collect())));
    assert_eq!(before != other, swapped);
    let rows: Vec<usize> = every(&table).into_iter().rev().collect();
    assert_ne!(before, of(&table.take(&rows)), "another order");
    // A column that nothing reads is not among them.
    let more = table.with(numbers("unread", vec![Some(1.0); 600]));
    assert_eq!(before, of(&more));
    assert_eq!(more.column("unread").map(|c| c.kind), Some(Kind::Number));
}
