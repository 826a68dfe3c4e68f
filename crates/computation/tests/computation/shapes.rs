//! How well every family tells tables of different shape, with its defaults, against general-purpose
//! Python libraries with theirs (`tests/reference/tables.py`).

use std::path::Path;

use pronoia_core::evaluate::area_under_roc;
use pronoia_core::intake::read_table;
use pronoia_core::learn::{Family, Settings};
use pronoia_core::model::{ModelError, Recipe};
use pronoia_core::progress::Unwatched;
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::tune::{SEARCHED, TuningMeasure, TuningPlan, TuningRun};
use pronoia_core::{Model, Table};
use serde_json::Value;

/// How far a family may stay behind the best library of its kind, in area under ROC.
const BEHIND: f64 = 0.005;

/// Tables and what each is like. The first three are looked at in every run, all in the long one.
const TABLES: [(&str, &str); 8] = [
    ("tumours", "few rows and many columns, real"),
    ("affairs", "counts and grades, real"),
    ("categories", "many categories of many values"),
    ("wide", "few rows and eighty columns"),
    ("rare", "events in one of a hundred rows"),
    ("gaps", "many values missing, and not by chance"),
    ("interactions", "columns that matter only together"),
    ("linear", "straight effects only"),
];

struct Shape {
    table: Table,
    basis: Basis,
    fitted: Vec<usize>,
    held: Vec<usize>,
    event: Vec<bool>,
}

impl Shape {
    fn read(name: &str) -> Self {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/reference/tables").join(name);
        let bytes = std::fs::read(path.with_extension("parquet")).expect("the table");
        let (table, _) = read_table(&bytes, &Unwatched).expect("a table");
        let part = table.column("part").expect("parts");
        let (fitted, held): (Vec<usize>, Vec<usize>) =
            (0..table.rows()).partition(|&row| part.text(row).as_deref() == Some("fitted"));
        let outcome = Outcome::is("event", "yes");
        let happened = outcome.read(&table).expect("outcomes");
        let event = held.iter().map(|&row| happened[row] == Some(true)).collect();
        let names = table.columns().iter().map(|c| c.name.clone());
        let predictors: Vec<String> = names.filter(|name| name != "part" && name != "event").collect();
        Self { basis: Basis::plain(outcome, predictors), table, fitted, held, event }
    }

    fn area(&self, recipe: impl Into<Recipe>) -> f64 {
        let model = Model::fit(&self.table, &self.basis, &self.fitted, recipe, 1, &Unwatched).expect("a model");
        let said = model.probabilities(&self.table, &self.held).expect("scores");
        area_under_roc(&said, &self.event, None)
    }
}

fn theirs() -> Value {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/reference/tables.json");
    serde_json::from_slice(&std::fs::read(path).expect("figures")).expect("figures")
}

#[test]
fn defaults_stay_within_reach_of_the_best_library_of_every_family_on_tables_of_every_shape() {
    let figures = theirs();
    let mut behind = Vec::new();
    let slow = std::env::var("PRONOIA_TEST_SLOW").is_ok();
    for (name, shape) in TABLES.into_iter().take(if slow { TABLES.len() } else { 3 }) {
        let table = Shape::read(name);
        for family in Family::ALL {
            // No library has a scorecard.
            let Some(theirs) = figures[name][family.word].as_f64() else { continue };
            let ours = table.area(Settings::of_family(family.word).expect("a family"));
            println!("{name:13} {:11} {ours:.4} against {theirs:.4}  {:+.4}", family.word, ours - theirs);
            if ours < theirs - BEHIND {
                behind.push(format!("{name} ({shape}), {}: {ours:.4} against {theirs:.4}", family.word));
            }
        }
    }
    assert!(behind.is_empty(), "{behind:#?}");
}

/// A search finds a model that none of the libraries is ahead of. One table, and all
/// of them in the long run of tests.
#[test]
fn what_a_search_finds_is_at_or_above_every_library() {
    let figures = theirs();
    let slow = std::env::var("PRONOIA_TEST_SLOW").is_ok();
    for (name, shape) in TABLES.into_iter().filter(|t| slow || t.0 == "tumours") {
        let table = Shape::read(name);
        let plan = TuningPlan {
            families: SEARCHED.map(str::to_owned).to_vec(),
            measure: TuningMeasure::LogLoss,
            most: if slow { 60 } else { 12 },
            minutes: None,
            seed: 1,
        };
        let mut search = TuningRun::new(plan).expect("a plan");
        search
            .run((&table.table, &table.basis, &table.fitted), &Unwatched, &mut |_| Ok::<_, ModelError>(()))
            .expect("searched");
        let (found, _) = search.found().expect("a candidate");
        let ours = table.area(&found.settings);
        let theirs = figures[name].as_object().expect("figures").values().filter_map(Value::as_f64).fold(0.0, f64::max);
        println!("{name:13} {:11} {ours:.4} against {theirs:.4}", found.settings.family().word);
        assert!(ours >= theirs - BEHIND, "{name} ({shape}): {ours:.4} by {:?}, against {theirs:.4}", found.settings);
    }
}
