//! After every way of balancing, probabilities hold on customers nobody has seen.

use std::collections::HashSet;

use pronoia_core::balance::{Balance, BalanceMethod};
use pronoia_core::calibrate::{Calibration, CalibrationMap};
use pronoia_core::intake::read_table;
use pronoia_core::learn::{Settings, Target};
use pronoia_core::progress::Unwatched;
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::{Kind, Model, Table};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, Member, SEED, members};

const PREDICTORS: [&str; 9] = [
    "species",
    "plan_tier",
    "tenure_months",
    "months_since_visit",
    "declined_claims",
    "fee_rise_pct",
    "payment_method",
    "weekend_visits",
    "moved_home",
];

fn records(people: &[Member]) -> Table {
    read_table(&pronoia_demo::outcome_csv(people), &Unwatched).expect("the records").0
}

fn basis(balance: Balance) -> Basis {
    let outcome = Outcome::is("cancelled", "yes");
    Basis { balance, ..Basis::plain(outcome, PREDICTORS.map(str::to_owned)) }
}

/// Mean and slope of the probabilities of fresh customers, against what happened.
#[test]
fn the_mean_and_the_slope_of_probabilities_hold() {
    let slow = std::env::var("PRONOIA_TEST_SLOW").is_ok();
    let (fitted_to, drawn) = (24_000, if slow { 100_000 } else { 40_000 });
    let (past, fresh) = (members(fitted_to, SEED, FIRST_MEMBER), members(drawn, SEED + 9, FIRST_RENEWAL));
    let (table, later) = (records(&past), records(&fresh));
    let rows: Vec<usize> = (0..fitted_to).collect();
    let event: Vec<bool> = fresh.iter().map(|m| m.cancelled).collect();
    let rate = |people: &[Member]| people.iter().filter(|m| m.cancelled).count() as f64 / people.len() as f64;
    let (known, truth) = (rate(&past), rate(&fresh));
    // Both rates are counted from a draw, and so is their difference.
    let variance = known * (1.0 - known) / fitted_to as f64 + truth * (1.0 - truth) / drawn as f64;
    for family in ["logistic", "boosted"] {
        let mut settings = Settings::of_family(family).expect("a family");
        if family == "boosted" {
            settings.set("trees", "120").expect("a setting");
            settings.set("learning-rate", "0.1").expect("a setting");
        }
        // Trees take their time: in every run they are balanced in one way, in the long one in all.
        let all = BalanceMethod::ALL.into_iter().filter(|m| *m != BalanceMethod::AsTheyAre);
        for method in all.filter(|m| slow || family == "logistic" || *m == BalanceMethod::SyntheticRows) {
            let chosen = basis(Balance { method, share: 0.5 });
            let model = Model::fit(&table, &chosen, &rows, &settings, 5, &Unwatched).expect("a model");
            let every: Vec<usize> = (0..drawn).collect();
            let probability = model.probabilities(&later, &every).expect("probabilities");
            let mean = probability.iter().sum::<f64>() / drawn as f64;
            let off = (mean - truth) / variance.sqrt();
            assert!(off.abs() < 3.0, "{family} {method:?}: mean {mean:.4}, rate {truth:.4}, {off:.1} standard errors");
            let log_odds: Vec<f64> = probability.iter().map(|p| (p / (1.0 - p)).ln()).collect();
            let line =
                Calibration::fit(CalibrationMap::Sigmoid, &log_odds, &Target::plain(event.clone())).expect("a line");
            let Some(Calibration::Line { slope, .. }) = line else { panic!("{line:?}") };
            println!("{family} {method:?}: mean off by {off:.2} standard errors, slope {slope:.3}");
            assert!((0.9..=1.1).contains(&slope), "{family} {method:?}: slope {slope:.3}");
        }
    }
}

#[test]
fn made_up_rows_keep_to_the_kinds_of_their_columns() {
    let past = members(4_000, SEED, FIRST_MEMBER);
    let table = records(&past);
    let rows: Vec<usize> = (0..table.rows()).collect();
    let event: Vec<bool> = past.iter().map(|m| m.cancelled).collect();
    let names: Vec<String> = table.columns().iter().map(|c| c.name.clone()).collect();
    let balance = Balance { method: BalanceMethod::SyntheticRows, share: 0.4 };
    let made = balance.apply(&table, &names, &rows, &event, 3).synthetic.expect("made-up rows");
    let events = event.iter().filter(|&&e| e).count();
    let share = (events + made.parents.len()) as f64 / (event.len() + made.parents.len()) as f64;
    assert!((share - 0.4).abs() < 1e-3, "{share}");
    assert!(made.parents.iter().flatten().all(|&parent| event[parent]));
    for column in table.columns() {
        let new = made.table.column(&column.name).expect("the same columns");
        assert_eq!((new.kind, new.len()), (column.kind, made.parents.len()));
        let there: HashSet<Option<String>> = rows.iter().map(|&row| column.text(row)).collect();
        for (at, &[a, b]) in made.parents.iter().enumerate() {
            match column.kind {
                Kind::Number | Kind::Date => {
                    let Some(x) = new.number(at) else { continue };
                    let ends = [column.number(a), column.number(b)];
                    let low = ends.iter().flatten().copied().fold(f64::INFINITY, f64::min);
                    let high = ends.iter().flatten().copied().fold(f64::NEG_INFINITY, f64::max);
                    assert!((low..=high).contains(&x), "{}: {x} is not between {low} and {high}", column.name);
                }
                // Never a mixture: the value of one of the two, and one that occurs.
                _ => {
                    let value = new.text(at);
                    assert!(value == column.text(a) || value == column.text(b), "{}: {value:?}", column.name);
                    assert!(there.contains(&value), "{}: {value:?} occurs nowhere", column.name);
                }
            }
        }
    }
    // Counts of claims and pets stay whole.
    for name in ["declined_claims", "pets", "tenure_months"] {
        let column = made.table.column(name).expect("a column");
        assert!((0..column.len()).filter_map(|row| column.number(row)).all(|x| x.fract() == 0.0), "{name}");
    }
}

#[test]
fn balancing_sees_only_the_rows_it_is_handed() {
    let past = members(3_000, SEED, FIRST_MEMBER);
    let table = records(&past);
    let mut other = past.clone();
    for m in &mut other[2_000..] {
        (m.species, m.tenure, m.cancelled) = ("rabbit", 1, !m.cancelled);
    }
    let other = records(&other);
    let rows: Vec<usize> = (0..2_000).collect();
    let settings = Settings::of_family("logistic").expect("a family");
    for method in BalanceMethod::ALL {
        let chosen = basis(Balance { method, share: 0.5 });
        let fitted = |table: &Table| Model::fit(table, &chosen, &rows, &settings, 1, &Unwatched).expect("a model");
        assert_eq!(fitted(&table), fitted(&other), "{method:?}");
    }
}
