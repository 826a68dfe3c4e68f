//! Who is judged on what: by lot, by time, as the records say, and together.

use std::collections::{HashMap, HashSet};

use pronoia_core::split::{Split, SplitError, SplitMethod, SplitPlan, folds};
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Column, Kind, Table};
use proptest::prelude::*;

fn dates(days: &[Option<i32>]) -> Column {
    let mut column = ColumnBuilder::new("day", Kind::Date);
    for day in days {
        match day {
            Some(day) => column.push_date(*day),
            None => column.push_missing(),
        }
    }
    column.finish()
}

fn words(name: &str, values: &[&str]) -> Column {
    let mut column = ColumnBuilder::new(name, Kind::Category);
    values.iter().for_each(|value| if value.is_empty() { column.push_missing() } else { column.push_word(value) });
    column.finish()
}

fn every(dealt: &Split) -> Vec<usize> {
    let mut all = [dealt.training.clone(), dealt.validation.clone(), dealt.test.clone()].concat();
    all.sort_unstable();
    all
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]

    #[test]
    fn by_time_nobody_in_an_earlier_part_is_later(days in proptest::collection::vec(proptest::option::of(0i32..900), 200..600)) {
        let happened: Vec<Option<bool>> = (0..days.len()).map(|i| (i % 11 != 0).then_some(i % 3 == 0)).collect();
        let table = Table::new(vec![dates(&days)]).expect("a table");
        let plan = SplitPlan { by: SplitMethod::Newest { column: "day".into() }, ..SplitPlan::default() };
        let dealt = plan.deal(&table, &happened).expect("parts");
        let known: Vec<usize> = (0..days.len()).filter(|&row| happened[row].is_some()).collect();
        prop_assert_eq!(every(&dealt), known);
        let range = |rows: &[usize]| {
            let dated: Vec<i32> = rows.iter().filter_map(|&row| days[row]).collect();
            (dated.iter().min().copied(), dated.iter().max().copied())
        };
        let (training, validation, test) = (range(&dealt.training), range(&dealt.validation), range(&dealt.test));
        prop_assert!(training.1 < validation.0 && validation.1 < test.0);
        prop_assert!(dealt.test.iter().chain(&dealt.validation).all(|&row| days[row].is_some()));
    }

    #[test]
    fn rows_that_belong_together_are_in_one_part(keys in proptest::collection::vec(0u32..150, 300..700), seed: u64, by_time: bool) {
        let named: Vec<String> = keys.iter().map(|k| if *k == 0 { String::new() } else { format!("m{k}") }).collect();
        let named: Vec<&str> = named.iter().map(String::as_str).collect();
        let days: Vec<Option<i32>> = (0..keys.len()).map(|i| Some((i * 37 % 500) as i32)).collect();
        let table = Table::new(vec![words("member", &named), dates(&days)]).expect("a table");
        let happened: Vec<Option<bool>> = (0..keys.len()).map(|i| Some(i % 4 == 0)).collect();
        let by = if by_time { SplitMethod::Newest { column: "day".into() } } else { SplitMethod::AtRandom };
        let plan = SplitPlan { seed, by, together: Some("member".into()), ..SplitPlan::default() };
        let Ok(dealt) = plan.deal(&table, &happened) else { return Ok(()) };
        prop_assert_eq!(every(&dealt).len(), keys.len());
        let mut part_of: HashMap<u32, HashSet<usize>> = HashMap::new();
        for (part, rows) in [&dealt.training, &dealt.validation, &dealt.test].into_iter().enumerate() {
            for &row in rows.iter().filter(|&&row| keys[row] != 0) {
                part_of.entry(keys[row]).or_default().insert(part);
            }
        }
        prop_assert!(part_of.values().all(|parts| parts.len() == 1));

        let rows = dealt.unsealed();
        let event: Vec<bool> = rows.iter().map(|&row| happened[row] == Some(true)).collect();
        let of_row = plan.folds_of(&table, &rows, &event, (4, seed)).expect("folds");
        let mut fold_of: HashMap<u32, HashSet<usize>> = HashMap::new();
        for (&row, fold) in rows.iter().zip(of_row).filter(|&(&row, _)| keys[row] != 0) {
            fold_of.entry(keys[row]).or_default().insert(fold);
        }
        prop_assert!(fold_of.values().all(|folds| folds.len() == 1), "a customer is never judged by his own rows");
    }

    #[test]
    fn every_fold_has_its_share_of_events(event in proptest::collection::vec(any::<bool>(), 10..400), k in 2usize..8, seed: u64) {
        let of_row = folds(&event, k, seed);
        for side in [true, false] {
            let all = event.iter().filter(|&&e| e == side).count();
            for fold in 0..k {
                let found = of_row.iter().zip(&event).filter(|&(f, e)| *f == fold && *e == side).count();
                prop_assert!((found as f64 - all as f64 / k as f64).abs() <= 1.0);
            }
        }
    }
}

#[test]
fn the_parts_are_those_that_the_records_name() {
    let parts: Vec<&str> = (0..300).map(|i| ["train", "train", "check", "final"][i % 4]).collect();
    let table = Table::new(vec![words("part", &parts)]).expect("a table");
    let happened: Vec<Option<bool>> = (0..300).map(|i| Some(i % 7 < 3)).collect();
    let given = |validation: Option<&str>| SplitPlan {
        by: SplitMethod::Given {
            column: "part".into(),
            validation: validation.map(str::to_owned),
            test: "final".into(),
        },
        ..SplitPlan::default()
    };
    let dealt = given(Some("check")).deal(&table, &happened).expect("parts");
    assert!(dealt.test.iter().all(|&row| parts[row] == "final") && dealt.test.len() == 75);
    assert!(dealt.validation.iter().all(|&row| parts[row] == "check") && dealt.validation.len() == 75);
    // Without a value for it, a quarter of the rest is drawn to choose on.
    let drawn = given(None).deal(&table, &happened).expect("parts");
    assert_eq!(drawn.test, dealt.test);
    assert!((drawn.validation.len() as i64 - 56).abs() <= 1, "{}", drawn.validation.len());
    let lost = given(None).deal(&Table::new(Vec::new()).expect("a table"), &happened).expect_err("no such column");
    assert!(matches!(lost, SplitError::NoColumn(_)) && lost.to_string().contains("“part”"), "{lost}");
}

#[test]
fn time_that_does_not_tell_customers_apart_is_refused() {
    let table = Table::new(vec![dates(&[Some(3); 200])]).expect("a table");
    let happened: Vec<Option<bool>> = (0..200).map(|i| Some(i % 2 == 0)).collect();
    let plan = SplitPlan { by: SplitMethod::Newest { column: "day".into() }, ..SplitPlan::default() };
    let refused = plan.deal(&table, &happened).expect_err("one day only").to_string();
    assert!(refused.contains("split at random instead"), "{refused}");
}
