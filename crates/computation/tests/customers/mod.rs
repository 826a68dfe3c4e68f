//! Made-up customers whose truth is known, and models fitted to them.

#![allow(dead_code, reason = "every test uses some of it")]

use pronoia_core::learn::{Family, Settings};
use pronoia_core::progress::Unwatched;
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Column, Kind, Model, Table};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

pub fn outcome() -> Outcome {
    Outcome::is("left", "yes")
}

pub fn column<T>(name: &str, kind: Kind, values: Vec<T>, push: impl Fn(&mut ColumnBuilder, T)) -> Column {
    let mut builder = ColumnBuilder::new(name, kind);
    values.into_iter().for_each(|value| push(&mut builder, value));
    builder.finish()
}

pub fn numbers(name: &str, values: Vec<Option<f64>>) -> Column {
    column(name, Kind::Number, values, |b, x| match x {
        Some(x) => b.push_number(x),
        None => b.push_missing(),
    })
}

pub fn words(name: &str, values: Vec<&str>) -> Column {
    column(name, Kind::Category, values, |b, word| b.push_word(word))
}

/// Customers of whom so many leave; a straight effect, a bend, a category, a
/// gap, a pair that acts together and three columns that tell nothing.
pub fn customers(n: usize, base: f64, seed: u64) -> (Table, Vec<f64>) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut draw = |n: usize| -> Vec<f64> { (0..n).map(|_| rng.random::<f64>()).collect() };
    let (straight, bent, tier, gap, pair, out) = (draw(n), draw(n), draw(n), draw(n), draw(n), draw(n));
    let idle: Vec<Vec<f64>> = (0..3).map(|_| draw(n)).collect();
    let tiers = ["Basic", "Plus", "Complete", "Old"];
    let level = |i: usize| tiers[(tier[i] * 4.0) as usize];
    let is_missing = |i: usize| gap[i] < 0.15;
    let truth: Vec<f64> = (0..n)
        .map(|i| {
            let together = if level(i) == "Plus" && pair[i] > 0.5 { 1.2 } else { 0.0 };
            let bend = if is_missing(i) { 0.8 } else { 6.0 * (bent[i] - 0.5) * (bent[i] - 0.5) };
            let eta = base + 1.6 * straight[i] + bend + together;
            1.0 / (1.0 + (-eta).exp())
        })
        .collect();
    let left = (0..n).map(|i| if out[i] < truth[i] { "yes" } else { "no" }).collect();
    let mut columns = vec![
        numbers("straight", straight.into_iter().map(Some).collect()),
        numbers("bent", (0..n).map(|i| (!is_missing(i)).then_some(bent[i])).collect()),
        words("tier", (0..n).map(level).collect()),
        words("pair", pair.iter().map(|&x| if x > 0.5 { "high" } else { "low" }).collect()),
        words("left", left),
    ];
    for (at, values) in idle.into_iter().enumerate() {
        columns.push(numbers(&format!("idle_{at}"), values.into_iter().map(Some).collect()));
    }
    (Table::new(columns).expect("columns"), truth)
}

pub const PREDICTORS: [&str; 7] = ["straight", "bent", "tier", "pair", "idle_0", "idle_1", "idle_2"];

pub fn basis() -> Basis {
    Basis::plain(outcome(), PREDICTORS.map(str::to_owned))
}

pub fn every(table: &Table) -> Vec<usize> {
    (0..table.rows()).collect()
}

/// Settings of a family that fit quickly.
pub fn quick(family: Family) -> Settings {
    let mut settings = Settings::of_family(family.word).expect("a family");
    let faster: &[(&str, &str)] = match family.word {
        "boosted" => &[("trees", "60")],
        "forest" => &[("trees", "24")],
        "network" => &[("epochs", "6"), ("networks", "2"), ("units", "8")],
        "neighbours" => &[("most-rows", "800")],
        _ => &[],
    };
    faster.iter().for_each(|(name, value)| settings.set(name, value).expect("a setting"));
    settings
}

pub fn fit_of(table: &Table, settings: &Settings) -> Model {
    Model::fit(table, &basis(), &every(table), settings, 7, &Unwatched).expect("a model")
}

pub fn happened(table: &Table) -> Vec<bool> {
    outcome().read(table).expect("the outcome").into_iter().map(|e| e == Some(true)).collect()
}
