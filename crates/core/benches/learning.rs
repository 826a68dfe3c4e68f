//! How long classifiers take to be fitted and to score on a table that
//! `bench/learning.sh` makes; it puts the figures beside those of others. With
//! `PRONOIA_BENCH_READ_ONLY` the table is only read, and the seconds are said.

use std::collections::BTreeMap;
use std::time::Instant;

use pronoia_core::evaluate::{area_under_roc, log_loss};
use pronoia_core::explain::{ExplainedCustomers, Reasons};
use pronoia_core::intake::Intake;
use pronoia_core::learn::{Estimator, Settings, Target};
use pronoia_core::prepare::{Design, Preparation, TrainingRows};
use pronoia_core::progress::Unwatched;
use pronoia_core::stats::sigmoid;
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::{Model, Table};

/// Rows that the model whose reasons are found is fitted to, and customers who are explained.
const EXPLAINED_FIT: usize = 200_000;
const EXPLAINED: usize = 10_000;

/// Rows that the forest is fitted to.
const FOREST_ROWS: usize = 100_000;

fn timed<T>(work: impl FnOnce() -> T) -> (f64, T) {
    let begun = Instant::now();
    let result = work();
    (begun.elapsed().as_secs_f64(), result)
}

fn settings(family: &str, set: &[(&str, &str)]) -> Settings {
    let mut settings = Settings::of_family(family).expect("a family");
    set.iter().for_each(|(name, value)| settings.set(name, value).expect("a setting"));
    settings
}

/// The most memory that this process has used, in MB.
fn memory() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmHWM")).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|kb| kb.parse::<f64>().ok()).unwrap_or(f64::NAN) / 1_024.0
}

struct Rows {
    table: Table,
    predictors: Vec<String>,
    event: Vec<bool>,
    fitted: Vec<usize>,
    held: Vec<usize>,
}

impl Rows {
    fn events(&self, rows: &[usize]) -> Vec<bool> {
        rows.iter().map(|&row| self.event[row]).collect()
    }

    /// What a family learns from some rows, and all rows as it sees them.
    fn prepared(&self, settings: &Settings, rows: &[usize]) -> (Design, Design) {
        let event = self.events(rows);
        let training = TrainingRows { rows, event: &event, weight: None };
        let (preparation, design) =
            Preparation::fit(&self.table, &[], &self.predictors, &training, settings.encoding()).expect("prepared");
        (design, preparation.apply(&self.table, &self.held).expect("applied"))
    }

    fn fit(&self, settings: &Settings, design: &Design, rows: &[usize]) -> (f64, Estimator) {
        let target = Target::plain(self.events(rows));
        timed(|| settings.fit(design, &target, 1, &Unwatched).expect("a fit").estimator)
    }
}

fn main() {
    let path = std::env::var("PRONOIA_BENCH_TABLE").expect("PRONOIA_BENCH_TABLE names a table");
    let intake = Intake { open: || std::fs::File::open(&path), size: 0, sheet: None };
    let (seconds, (table, _)) = timed(|| intake.table(|_| {}, &Unwatched).expect("a table"));
    if std::env::var_os("PRONOIA_BENCH_READ_ONLY").is_some() {
        return println!("{seconds:.3}");
    }
    let mut work: BTreeMap<&str, (f64, Option<f64>)> = BTreeMap::from([("read CSV", (seconds, None))]);
    let outcome = table.column("left").expect("an outcome");
    let event: Vec<bool> = (0..table.rows()).map(|row| outcome.text(row).as_deref() == Some("yes")).collect();
    let predictors = table.columns().iter().map(|c| c.name.clone()).filter(|name| name != "left").collect();
    let (held, fitted) = (0..table.rows()).partition(|row| row % 5 == 4);
    let rows = Rows { table, predictors, event, fitted, held };
    let held = rows.events(&rows.held);

    let boosted = settings(
        "boosted",
        &[
            ("trees", "200"),
            ("leaves", "31"),
            ("learning-rate", "0.1"),
            ("rows-per-leaf", "20"),
            ("early-stopping", "no"),
        ],
    );
    let (design, others) = rows.prepared(&boosted, &rows.fitted);
    let (seconds, estimator) = rows.fit(&boosted, &design, &rows.fitted);
    let memory = memory();
    let area = area_under_roc(&estimator.log_odds(&others), &held, None);
    work.insert("boosted trees, fit", (seconds, Some(area)));
    let (seconds, _) = timed(|| (estimator.log_odds(&design), estimator.log_odds(&others)));
    work.insert("boosted trees, score all", (seconds, Some(area)));
    drop((design, others, estimator));

    let part = &rows.fitted[..EXPLAINED_FIT.min(rows.fitted.len())];
    let basis = Basis::plain(Outcome::is("left", "yes"), rows.predictors.clone());
    let model = Model::fit(&rows.table, &basis, part, &boosted, 1, &Unwatched).expect("a model");
    let explained = &rows.held[..EXPLAINED.min(rows.held.len())];
    let customers = ExplainedCustomers { table: &rows.table, rows: explained };
    let (seconds, _) = timed(|| Reasons::of(&model, customers, customers, 1).expect("reasons"));
    work.insert("exact reasons, 10 000 customers", (seconds, None));
    drop(model);

    let logistic = settings("logistic", &[]);
    let (design, others) = rows.prepared(&logistic, &rows.fitted);
    let (seconds, estimator) = rows.fit(&logistic, &design, &rows.fitted);
    let told: Vec<f64> = estimator.log_odds(&others).into_iter().map(sigmoid).collect();
    work.insert("logistic regression", (seconds, Some(log_loss(&told, &held, None))));
    drop((design, others));

    let forest = settings("forest", &[("trees", "200")]);
    let part = &rows.fitted[..FOREST_ROWS.min(rows.fitted.len())];
    let (design, others) = rows.prepared(&forest, part);
    let (seconds, estimator) = rows.fit(&forest, &design, part);
    let area = area_under_roc(&estimator.log_odds(&others), &held, None);
    work.insert("random forest, 100 000 rows", (seconds, Some(area)));

    let out = serde_json::json!({ "rows": rows.event.len(), "memory": memory, "work": work });
    let to = std::env::var("PRONOIA_BENCH_OUT").expect("PRONOIA_BENCH_OUT names a file");
    std::fs::write(to, out.to_string()).expect("written");
}
