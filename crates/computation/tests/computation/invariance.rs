//! What must not change a model, whatever the family: the order of rows and columns, how values are
//! called, the zero and the unit of a number, and a row that stands twice or counts twice.

use pronoia_core::learn::{Family, Settings};
use pronoia_core::progress::Unwatched;
use pronoia_core::study::Basis;
use pronoia_core::{Column, Kind, Model, Table};
use proptest::prelude::*;
use rand::seq::SliceRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::customers::{basis, customers, every, fit_of, numbers, quick, words};

/// Families that draw nothing by lot, so that the order of rows says nothing to them.
const WITHOUT_LOT: [&str; 2] = ["logistic", "scorecard"];

fn settings(word: &str) -> Settings {
    quick(Family::of(word).expect("a family"))
}

fn said(model: &Model, of: &Table) -> Vec<f64> {
    model.probabilities(of, &every(of)).expect("scores")
}

fn farthest(a: &[f64], b: &[f64]) -> f64 {
    a.iter().zip(b).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max)
}

fn mapped(table: &Table, numbers_as: impl Fn(f64) -> f64, words_as: impl Fn(&str, &str) -> String) -> Table {
    let column = |c: &Column| match c.kind {
        Kind::Number => numbers(&c.name, (0..c.len()).map(|row| c.number(row).map(&numbers_as)).collect()),
        _ if c.name == "left" => c.clone(),
        _ => {
            let values: Vec<String> =
                (0..c.len()).map(|row| words_as(&c.name, &c.text(row).expect("a value"))).collect();
            words(&c.name, values.iter().map(String::as_str).collect())
        }
    };
    Table::new(table.columns().iter().map(column).collect()).expect("a table")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4))]

    #[test]
    fn the_order_of_rows_does_not_matter_to_what_draws_nothing_by_lot(seed in 0u64..1_000) {
        let (table, _) = customers(1_200, -1.5, seed);
        let mut order = every(&table);
        order.shuffle(&mut ChaCha8Rng::seed_from_u64(seed));
        let turned = table.take(&order);
        for word in WITHOUT_LOT {
            let (a, b) = (fit_of(&table, &settings(word)), fit_of(&turned, &settings(word)));
            prop_assert!(farthest(&said(&a, &table), &said(&b, &table)) < 1e-8, "{}", word);
        }
    }

    #[test]
    fn the_order_of_columns_does_not_matter(seed in 0u64..1_000) {
        let (table, _) = customers(1_200, -1.5, seed);
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let mut columns = table.columns().to_vec();
        columns.shuffle(&mut rng);
        let turned = Table::new(columns).expect("a table");
        for family in Family::ALL {
            let (a, b) = (fit_of(&table, &quick(family)), fit_of(&turned, &quick(family)));
            prop_assert!(farthest(&said(&a, &table), &said(&b, &turned)) == 0.0, "{}", family.word);
        }
    }

    #[test]
    fn the_zero_and_the_unit_of_numbers_do_not_matter(seed in 0u64..1_000, shift in -40i32..40, power in -4i32..5) {
        let (table, _) = customers(1_200, -1.5, seed);
        // Halves, quarters and so on, so that shifting and scaling are exact.
        let coarse = mapped(&table, |x| (x * 4_096.0).round() / 4_096.0, |_, word| word.to_owned());
        let moved = mapped(&coarse, |x| (x + f64::from(shift)) * 2.0f64.powi(power), |_, word| word.to_owned());
        for family in Family::ALL {
            let (a, b) = (fit_of(&coarse, &quick(family)), fit_of(&moved, &quick(family)));
            let apart = farthest(&said(&a, &coarse), &said(&b, &moved));
            // A network adds in single precision; what rounding leaves grows step by step.
            let allowed = if family.word == "network" { 0.05 } else { 1e-5 };
            prop_assert!(apart < allowed, "{}: {}", family.word, apart);
        }
    }

    #[test]
    fn what_values_are_called_does_not_matter(seed in 0u64..1_000) {
        let (table, _) = customers(1_200, -1.5, seed);
        // Names sort the other way round, and appear in another order: rows stand before them from the last to the
        // first, which are then taken away again.
        let backwards = |word: &str| word.bytes().map(|byte| char::from(219 - byte)).collect::<String>();
        let mut twice: Vec<usize> = every(&table);
        twice.reverse();
        twice.extend(every(&table));
        let renamed = mapped(&table.take(&twice), |x| x, |column, word| {
            format!("{} Größe («{column}»)", backwards(&word.to_lowercase()))
        });
        let renamed = renamed.take(&(table.rows()..2 * table.rows()).collect::<Vec<_>>());
        // Of levels that are equally frequent, nothing but their names can say which the others are held against.
        let is_tied = ["tier", "pair"].iter().any(|name| {
            let column = table.column(name).expect("a column");
            let mut counts = std::collections::HashMap::new();
            (0..column.len()).for_each(|row| *counts.entry(column.text(row)).or_insert(0u32) += 1);
            counts.values().collect::<std::collections::HashSet<_>>().len() < counts.len()
        });
        prop_assume!(!is_tied);
        let prefixed = mapped(&table, |x| x, |column, word| format!("Größe {word} («{column}»)"));
        for family in Family::ALL {
            let fitted = said(&fit_of(&table, &quick(family)), &table);
            let apart = |other: &Table| farthest(&fitted, &said(&fit_of(other, &quick(family)), other));
            prop_assert!(apart(&prefixed) < 1e-9, "{}: {}", family.word, apart(&prefixed));
            // Whatever works on parts of the rows meets levels that are equal there after all, and takes them in the
            // order of their names.
            let allowed = if WITHOUT_LOT.contains(&family.word) { 1e-9 } else { 0.02 };
            prop_assert!(apart(&renamed) < allowed, "{}: {}", family.word, apart(&renamed));
        }
    }

    #[test]
    fn a_row_that_counts_twice_is_a_row_that_stands_twice(seed in 0u64..1_000) {
        let (table, _) = customers(900, -1.0, seed);
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let times: Vec<usize> = (0..900).map(|_| rng.random_range(1..4usize)).collect();
        let weighed = table.with(numbers("times", times.iter().map(|&n| Some(n as f64)).collect()));
        let standing: Vec<usize> = (0..900).flat_map(|row| std::iter::repeat_n(row, times[row])).collect();
        let standing = table.take(&standing);
        let by_weight = Basis { weight: Some("times".into()), ..basis() };
        // Bands and bins are cut by how many rows there are; fillings, scales and
        // coefficients are not.
        for (setting, value) in [("ridge", "0"), ("ridge", "2")] {
            let mut logistic = settings("logistic");
            logistic.set(setting, value).expect("a setting");
            let a = Model::fit(&weighed, &by_weight, &every(&weighed), &logistic, 7, &Unwatched).expect("a model");
            let b = Model::fit(&standing, &basis(), &every(&standing), &logistic, 7, &Unwatched).expect("a model");
            prop_assert!(farthest(&said(&a, &table), &said(&b, &table)) < 1e-8, "{} {}", setting, value);
        }
    }
}
