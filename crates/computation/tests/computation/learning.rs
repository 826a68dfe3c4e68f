//! Families on tables whose truth is known.

use pronoia_core::evaluate::{area_under_roc, log_loss};
use pronoia_core::intake::read_table;
use pronoia_core::learn::Target;
use pronoia_core::learn::logistic::{LogisticSettings, Rescue};
use pronoia_core::learn::setting::Tunable;
use pronoia_core::learn::{Estimator, FitError, Settings};
use pronoia_core::prepare::{Design, Encoding, Feature, Preparation, TrainingRows};
use pronoia_core::progress::Unwatched;
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Column, Kind, Model, Table};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

fn numbers(name: &str, values: impl IntoIterator<Item = Option<f64>>) -> Column {
    let mut builder = ColumnBuilder::new(name, Kind::Number);
    for value in values {
        match value {
            Some(x) => builder.push_number(x),
            None => builder.push_missing(),
        }
    }
    builder.finish()
}

fn words(name: &str, values: impl IntoIterator<Item = &'static str>) -> Column {
    let mut builder = ColumnBuilder::new(name, Kind::Category);
    values.into_iter().for_each(|v| builder.push_word(v));
    builder.finish()
}

/// A table in which a bend, a category and a gap matter, and its true probabilities.
fn bent(n: usize, seed: u64) -> (Table, Vec<f64>) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let (mut x, mut noise, mut tier, mut truth, mut left) = (vec![], vec![], vec![], vec![], vec![]);
    for _ in 0..n {
        let value = rng.random::<f64>() * 4.0 - 2.0;
        let gap = rng.random::<f64>() < 0.15;
        let level = ["Basic", "Plus", "Complete", "Gone"][rng.random_range(0..4)];
        let eta = -2.5 + if gap { 2.0 } else { 1.2 * value * value } + if level == "Plus" { 1.0 } else { 0.0 };
        let p = 1.0 / (1.0 + (-eta).exp());
        x.push((!gap).then_some(value));
        noise.push(Some(rng.random::<f64>()));
        tier.push(level);
        truth.push(p);
        left.push(if rng.random::<f64>() < p { "yes" } else { "no" });
    }
    let columns = vec![numbers("x", x), numbers("noise", noise), words("tier", tier), words("left", left)];
    (Table::new(columns).expect("columns"), truth)
}

fn outcome() -> Outcome {
    Outcome::is("left", "yes")
}

fn fit(table: &Table, family: &str, seed: u64) -> Model {
    let settings = Settings::of_family(family).expect("family");
    let predictors = ["x", "noise", "tier"].map(str::to_owned);
    let rows: Vec<usize> = (0..table.rows()).collect();
    Model::fit(table, &Basis::plain(outcome(), predictors), &rows, &settings, seed, &Unwatched).expect("a fit")
}

fn happened(table: &Table) -> Vec<bool> {
    outcome().read(table).expect("outcome").into_iter().map(|e| e == Some(true)).collect()
}

#[test]
fn boosted_trees_come_close_to_the_truth_and_logistic_misses_the_bend() {
    let (table, _) = bent(6_000, 1);
    let (fresh, truth) = bent(20_000, 2);
    let event = happened(&fresh);
    let all: Vec<usize> = (0..fresh.rows()).collect();
    let loss =
        |family: &str| log_loss(&fit(&table, family, 7).probabilities(&fresh, &all).expect("scores"), &event, None);
    let (best, boosted, logistic) = (log_loss(&truth, &event, None), loss("boosted"), loss("logistic"));
    assert!(boosted < best + 0.012, "boosted {boosted}, truth {best}");
    assert!(logistic > boosted + 0.02, "logistic {logistic}, boosted {boosted}");
}

#[test]
fn boosting_does_not_overfit_a_thousand_rows_of_noise() {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let column = |name: &str, rng: &mut ChaCha8Rng| {
        numbers(name, (0..1_000).map(|_| Some(rng.random::<f64>())).collect::<Vec<_>>())
    };
    let x = column("x", &mut rng);
    let noise = column("noise", &mut rng);
    let tier = words("tier", (0..1_000).map(|i| if i % 3 == 0 { "a" } else { "b" }));
    let left =
        words("left", (0..1_000).map(|_| if rng.random::<f64>() < 0.2 { "yes" } else { "no" }).collect::<Vec<_>>());
    let table = Table::new(vec![x, noise, tier, left]).expect("columns");
    let model = fit(&table, "boosted", 3);
    let Estimator::Boosted(boosted) = &model.members[0].estimator else { panic!("boosted") };
    assert!(boosted.trees.len() < 40, "{} trees of noise", boosted.trees.len());
}

#[test]
fn held_out_rows_never_reach_the_preparation() {
    let (table, _) = bent(1_000, 4);
    let training: Vec<usize> = (0..600).collect();
    let predictors = ["x", "noise", "tier"].map(str::to_owned);
    let mut spoiled: Vec<Column> = table.columns().to_vec();
    spoiled[0] = numbers("x", (0..1_000).map(|r| if r < 600 { table.columns()[0].number(r) } else { Some(1e9) }));
    let tier = |r: usize| if r < 600 { table.columns()[2].text(r) } else { None };
    let mut builder = ColumnBuilder::new("tier", Kind::Category);
    for row in 0..1_000 {
        builder.push_word(tier(row).as_deref().unwrap_or("never seen"));
    }
    spoiled[2] = builder.finish();
    let spoiled = Table::new(spoiled).expect("columns");
    for encoding in [Encoding::Indicators, Encoding::Native, Encoding::Standardised] {
        let fitted = |t: &Table| {
            let event = vec![false; training.len()];
            let training = TrainingRows { rows: &training, event: &event, weight: None };
            Preparation::fit(t, &[], &predictors, &training, encoding).expect("a preparation").0
        };
        assert_eq!(fitted(&table), fitted(&spoiled));
    }
}

#[test]
fn separable_data_are_detected_said_and_penalised() {
    let x: Vec<f64> = (0..200).map(|i| f64::from(i) / 20.0 - 5.0).collect();
    let event: Vec<bool> = x.iter().map(|v| *v > 0.0).collect();
    let design = Design::new(vec![Feature::number("x", "x", x)], 200);
    let fitted = LogisticSettings::default()
        .check()
        .expect("settings")
        .fit(&design, &Target::plain(event.clone()), &Unwatched)
        .expect("a fit");
    assert_eq!(fitted.rescue, Some(Rescue::Separated));
    assert!(fitted.ridge > 0.0 && fitted.coefficients[0].se.is_none());
    assert_eq!(area_under_roc(&fitted.log_odds(&design), &event, None), 1.0);
}

#[test]
fn columns_that_say_the_same_are_detected() {
    let mut rng = ChaCha8Rng::seed_from_u64(8);
    let x: Vec<f64> = (0..400).map(|_| rng.random::<f64>()).collect();
    let event: Vec<bool> = x.iter().map(|v| rng.random::<f64>() < *v).collect();
    let twice: Vec<f64> = x.iter().map(|v| 2.0 * v).collect();
    let design = Design::new(vec![Feature::number("x", "x", x), Feature::number("twice", "twice", twice)], 400);
    let fitted = LogisticSettings::default()
        .check()
        .expect("settings")
        .fit(&design, &Target::plain(event.clone()), &Unwatched)
        .expect("a fit");
    assert_eq!(fitted.rescue, Some(Rescue::Collinear));
}

#[test]
fn settings_out_of_range_are_named() {
    let mut boosted = Settings::of_family("boosted").expect("family");
    let refused = boosted.set("learning-rate", "3").expect_err("too fast").to_string();
    assert!(refused.contains("learning-rate") && refused.contains("above 0 and at most 1"), "{refused}");
    assert!(matches!(boosted.set("depth", "3"), Err(FitError::UnknownSetting { .. })));
    assert!(boosted.set("trees", "many").is_err());
}

/// Rows with a whole weight beside the same rows repeated as often.
fn weighed_and_repeated() -> (Table, Table) {
    let mut rng = ChaCha8Rng::seed_from_u64(21);
    let (mut weighed, mut repeated) = (String::from("x,plan,n,left\n"), String::from("x,plan,n,left\n"));
    for i in 0..900 {
        let x: f64 = rng.random::<f64>() * 4.0 - 2.0;
        let plan = ["A", "B", "C"][rng.random_range(0..3)];
        let left = rng.random::<f64>() < 1.0 / (1.0 + (-(x - 0.5)).exp());
        let row = format!("{x:.4},{plan},{},{}\n", i % 4, if left { "yes" } else { "no" });
        weighed += &row;
        (0..i % 4).for_each(|_| repeated += &row);
    }
    let read = |csv: &str| read_table(csv.as_bytes(), &Unwatched).expect("a table").0;
    (read(&weighed), read(&repeated))
}

#[test]
fn a_case_weight_counts_as_so_many_rows() {
    let (weighed, repeated) = weighed_and_repeated();
    let plain = Basis::plain(outcome(), ["x".to_owned(), "plan".to_owned()]);
    let basis = Basis { weight: Some("n".into()), ..plain.clone() };
    let every = |table: &Table| (0..table.rows()).collect::<Vec<usize>>();
    let settings = Settings::of_family("logistic").expect("a family");
    let fit = |table: &Table, basis: &Basis| {
        Model::fit(table, basis, &every(table), &settings, 1, &Unwatched).expect("a model")
    };
    let (a, b) = (fit(&weighed, &basis), fit(&repeated, &plain));
    let rows = every(&weighed);
    let (p, q) = (a.probabilities(&weighed, &rows).expect("scores"), b.probabilities(&weighed, &rows).expect("scores"));
    assert!(p.iter().zip(&q).all(|(p, q)| (p - q).abs() < 1e-8), "weights are repetitions");
    // Rows that count nothing are not fitted to at all.
    assert_eq!(a.rows, rows.iter().filter(|r| *r % 4 != 0).count() as u64);
    let refused =
        Model::fit(&weighed, &Basis { weight: Some("x".into()), ..plain.clone() }, &rows, &settings, 1, &Unwatched);
    assert!(refused.expect_err("weights below 0").to_string().contains("is not a weight"));
    // Trees meet the same totals: on average their probabilities are the weighted rate.
    let boosted = Settings::of_family("boosted").expect("a family");
    let model = Model::fit(&weighed, &basis, &rows, &boosted, 1, &Unwatched).expect("a model");
    let probability = model.probabilities(&weighed, &rows).expect("scores");
    let happened = outcome().read(&weighed).expect("the outcome");
    let weight = |row: usize| (row % 4) as f64;
    let total: f64 = rows.iter().map(|&r| weight(r)).sum();
    let mean = rows.iter().map(|&r| weight(r) * probability[r]).sum::<f64>() / total;
    let rate = rows.iter().filter(|&&r| happened[r] == Some(true)).map(|&r| weight(r)).sum::<f64>() / total;
    assert!((mean - rate).abs() < 0.02, "{mean} {rate}");
}
