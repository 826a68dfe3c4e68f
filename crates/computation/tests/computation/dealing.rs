//! Rows dealt out by lot and evened out: shares, seeds, refusals, and what counts as the same customer.

use pronoia_core::balance::{Balance, BalanceMethod, Balanced};
use pronoia_core::split::{Alike, Fold, SplitError, SplitMethod, SplitPlan, folds};
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Column, Kind, Table};
use proptest::prelude::*;

fn numbers(name: &str, values: impl Iterator<Item = f64>) -> Column {
    let mut column = ColumnBuilder::new(name, Kind::Number);
    values.for_each(|value| column.push_number(value));
    column.finish()
}

fn empty() -> Table {
    Table::new(Vec::new()).expect("a table")
}

/// Outcomes, some of which nobody knows.
fn outcomes() -> impl Strategy<Value = Vec<Option<bool>>> {
    prop::collection::vec(prop_oneof![1 => Just(None), 3 => Just(Some(true)), 6 => Just(Some(false))], 60..500)
        .prop_filter("enough of either", |all| {
            all.iter().filter(|e| **e == Some(true)).count() >= 10
                && all.iter().filter(|e| **e == Some(false)).count() >= 10
        })
}

/// How much each outcome counts after balancing: the rarer, the other.
fn weights(balanced: &Balanced, event: &[bool], rarer: bool) -> (f64, f64) {
    let mut sums = (0.0, 0.0);
    for &row in &balanced.kept {
        let weight = balanced.weight.as_ref().map_or(1.0, |weights| weights[row]);
        if event[row] == rarer { sums.0 += weight } else { sums.1 += weight }
    }
    let made = balanced.synthetic.as_ref().map_or(0, |made| made.table.rows());
    (sums.0 + made as f64, sums.1)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]

    #[test]
    fn by_lot_every_part_has_its_share_of_either_outcome(
        happened in outcomes(), training in 0.3..0.7f64, validation in 0.1..0.25f64, seed: u64,
    ) {
        let plan = SplitPlan { training, validation, seed, ..SplitPlan::default() };
        let dealt = plan.deal(&empty(), &happened).expect("parts");
        prop_assert_eq!(&dealt, &plan.deal(&empty(), &happened).expect("parts"), "the same again");
        let mut all = [&dealt.training[..], &dealt.validation, &dealt.test].concat();
        all.sort_unstable();
        let known: Vec<usize> = (0..happened.len()).filter(|&row| happened[row].is_some()).collect();
        prop_assert_eq!(all, known, "everybody of whom it is known, once");
        for side in [true, false] {
            let of = |rows: &[usize]| rows.iter().filter(|&&row| happened[row] == Some(side)).count() as f64;
            let n = happened.iter().filter(|e| **e == Some(side)).count() as f64;
            prop_assert!((of(&dealt.training) - n * training).abs() <= 0.5 + 1e-9);
            prop_assert!((of(&dealt.test) - n * (1.0 - training - validation)).abs() <= 0.5 + 1e-9);
        }
        for rows in [&dealt.training, &dealt.validation, &dealt.test] {
            prop_assert!(rows.windows(2).all(|w| w[0] < w[1]), "in the order of the records");
        }
        prop_assert_eq!(plan.judged(dealt.clone()), dealt.validation.clone());
        prop_assert_eq!(plan.fitted_to(dealt.clone()), dealt.training.clone());
        let crossed = SplitPlan { folds: Some(5), ..plan };
        prop_assert_eq!(crossed.judged(dealt.clone()), dealt.unsealed());
    }

    #[test]
    fn in_turns_everybody_is_judged_once_and_never_learned_from_then(event in prop::collection::vec(any::<bool>(), 6..200), k in 2usize..6, seed: u64) {
        let of_row = folds(&event, k, seed);
        let mut judged = vec![0; event.len()];
        for turn in Fold::of(&of_row) {
            prop_assert_eq!(turn.judged.len() + turn.learned.len(), event.len());
            prop_assert!(turn.judged.iter().all(|row| !turn.learned.contains(row)));
            turn.judged.iter().for_each(|&row| judged[row] += 1);
            let places: Vec<usize> = (0..event.len()).collect();
            prop_assert_eq!(&turn.of_judged(&places), &turn.judged);
            prop_assert_eq!(&turn.of_learned(&places), &turn.learned);
            let mut told = vec![usize::MAX; event.len()];
            turn.put(turn.judged.iter().copied(), &mut told);
            prop_assert!(turn.judged.iter().all(|&row| told[row] == row) && turn.learned.iter().all(|&row| told[row] == usize::MAX));
        }
        prop_assert!(judged.iter().all(|times| *times == 1));
    }

    #[test]
    fn the_rarer_outcome_counts_as_much_as_was_asked(
        event in prop::collection::vec(prop::bool::weighted(0.15), 100..400), share in 0.05..=0.5f64, seed: u64,
        method in prop::sample::select(&[BalanceMethod::Weights, BalanceMethod::OverSampling, BalanceMethod::UnderSampling, BalanceMethod::SyntheticRows][..]),
    ) {
        let events = event.iter().filter(|&&e| e).count();
        prop_assume!(events >= 8 && events * 2 < event.len());
        let table = Table::new(vec![numbers("x", (0..event.len()).map(|row| (row * 37 % 101) as f64))]).expect("a table");
        let rows: Vec<usize> = (0..event.len()).collect();
        let balance = Balance { method, share };
        let balanced = balance.apply(&table, &["x".into()], &rows, &event, seed);
        let (rarer, others) = weights(&balanced, &event, true);
        let before = events as f64 / event.len() as f64;
        let found = rarer / (rarer + others);
        if share <= before {
            prop_assert!((found - before).abs() < 1e-12 && balanced.synthetic.is_none(), "{method:?}: it is not rarer than asked for");
        } else {
            prop_assert!((found - share).abs() < 0.02, "{method:?}: {found} instead of {share}");
        }
        let again = balance.apply(&table, &["x".into()], &rows, &event, seed);
        prop_assert_eq!((&balanced.kept, &balanced.weight), (&again.kept, &again.weight));
        prop_assert!(event.iter().enumerate().filter(|(_, e)| **e).all(|(row, _)| balanced.kept.contains(&row)), "no event is given up");
        if method != BalanceMethod::UnderSampling {
            prop_assert_eq!(balanced.kept.len(), event.len(), "and nobody else");
        }
        if method == BalanceMethod::Weights {
            prop_assert!((rarer + others - event.len() as f64).abs() < 1e-6, "all together count as many as there are");
        }
    }

    #[test]
    fn rows_are_told_to_be_alike_where_they_are(values in prop::collection::vec(0u8..6, 60..200), seed: u64) {
        let happened: Vec<Option<bool>> = (0..values.len()).map(|row| Some(row % 3 == 0)).collect();
        let dealt = SplitPlan { seed, ..SplitPlan::default() }.deal(&empty(), &happened).expect("parts");
        let column = numbers("x", values.iter().map(|&x| f64::from(x) * 10.0));
        let found = Alike::of(&[&column], &dealt);
        let known: Vec<u8> = dealt.training.iter().map(|&row| values[row]).collect();
        let judged = || dealt.validation.iter().chain(&dealt.test);
        prop_assert_eq!(found.judged, judged().count() as u64);
        prop_assert_eq!(found.alike, judged().filter(|&&row| known.contains(&values[row])).count() as u64);
        let mut told_apart = ColumnBuilder::new("id", Kind::Category);
        (0..values.len()).for_each(|row| told_apart.push_word(&format!("M{row}")));
        let told_apart = told_apart.finish();
        prop_assert_eq!(Alike::of(&[&column, &told_apart], &dealt).alike, 0, "one column that tells them apart is enough");
    }
}

#[test]
fn another_seed_deals_otherwise_and_what_cannot_be_is_refused_in_words() {
    let happened: Vec<Option<bool>> = (0..400).map(|row| Some(row % 5 == 0)).collect();
    let plan = |change: fn(&mut SplitPlan)| {
        let mut plan = SplitPlan::default();
        change(&mut plan);
        plan.deal(&empty(), &happened)
    };
    assert_ne!(plan(|p| p.seed = 1), plan(|p| p.seed = 2));
    for shares in [(0.0, 0.2), (0.6, 0.0), (0.8, 0.2), (0.9, 0.3), (-0.1, 0.5), (f64::NAN, 0.2)] {
        let plan = SplitPlan { training: shares.0, validation: shares.1, ..SplitPlan::default() };
        assert!(matches!(plan.deal(&empty(), &happened), Err(SplitError::Shares { .. })), "{shares:?}");
    }
    for folds in [0, 1, 2, 21] {
        let plan = SplitPlan { folds: Some(folds), ..SplitPlan::default() };
        let refused = plan.deal(&empty(), &happened).expect_err("too few or too many");
        assert_eq!(refused.to_string(), "Use 3 to 20 folds.");
    }
    let gone = plan(|p| p.by = SplitMethod::Newest { column: "day".into() }).expect_err("no such column");
    assert!(gone.to_string().contains("“day”"), "{gone}");
    let gone = plan(|p| p.together = Some("member".into())).expect_err("no such column");
    assert!(gone.to_string().contains("“member”"), "{gone}");
    let never = SplitPlan::default().deal(&empty(), &[Some(false); 90]).expect_err("no event");
    assert!(never.to_string().contains("never occurs; choose another"), "{never}");
    let few = SplitPlan::default()
        .deal(&empty(), &[vec![Some(false); 90], vec![Some(true); 2]].concat())
        .expect_err("two events");
    assert!(few.to_string().contains("Import more rows"), "{few}");
}

#[test]
fn a_share_that_makes_no_sense_is_refused_and_words_are_read_back() {
    for share in [0.0, -0.2, 0.51, 1.0, f64::NAN] {
        assert!(Balance { method: BalanceMethod::Weights, share }.check().is_err(), "{share}");
    }
    assert!(Balance { method: BalanceMethod::Weights, share: 0.5 }.check().is_ok());
    for method in BalanceMethod::ALL {
        assert_eq!(method.word().parse::<BalanceMethod>(), Ok(method));
        assert!(!method.description().is_empty());
    }
    assert!("doubling".parse::<BalanceMethod>().expect_err("no such way").contains("doubling"));
    assert!(Balance::default().is_off());
}
