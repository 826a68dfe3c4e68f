//! Models carried elsewhere give the same probabilities there: the formula itself, PostgreSQL, a
//! reader of the JSON form in another language, and, in the long run of tests, PMML and ONNX engines,
//! DuckDB and Spark.

use std::path::Path;
use std::process::Command;

use pronoia_core::export::{ExportForm, ModelFormula, Refusal};
use pronoia_core::expression::SqlDialect;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::model::{Ensemble, Mix, Recipe};
use pronoia_core::prepare::{Encoder, Imputation, PreparationStep, StepAction};
use pronoia_core::progress::Unwatched;
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::table::ColumnValues;
use pronoia_core::write::FileFormat;
use pronoia_core::{Kind, Model, Table};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv};
use sea_orm::{ConnectionTrait, Database, Statement};

use crate::support::python;

/// Predictors of every kind, some of them made by steps.
const PREDICTORS: [&str; 18] = [
    "species",
    "plan_tier",
    "tenure_months",
    "months_since_visit",
    "declined_claims",
    "fee_rise_pct",
    "annual_fee",
    "payment_method",
    "district",
    "newsletter",
    "pets",
    "clinic",
    "monthly fee",
    "joined early",
    "days until renewal",
    "species and tier",
    "alike",
    "call_minutes",
];

fn steps() -> Vec<PreparationStep> {
    let column = |name: &str| name.to_owned();
    let derive = |name: &str, expression: &str| StepAction::Derive { name: name.into(), expression: expression.into() };
    let actions = vec![
        derive("monthly fee", "ROUND(annual_fee / NULLIF(pets, 2)) / 12"),
        derive("species and tier", "species || ' & ' || plan_tier"),
        derive("alike", "CASE WHEN moved_home <> weekend_visits THEN 1 WHEN species = plan_tier THEN 2 ELSE 3 END"),
        derive("days until renewal", "renewal_on - joined_on + EXTRACT(MONTH FROM joined_on + 10.5)"),
        derive(
            "joined early",
            "joined_on < DATE '2021-06-01' AND NOT (plan_tier = 'Basic' AND months_since_visit > 6) OR EXTRACT(DOW FROM joined_on) = 0",
        ),
        StepAction::Fill { column: column("months_since_visit"), with: Imputation::Median, flag: true },
        StepAction::Fill { column: column("plan_tier"), with: Imputation::MostFrequent, flag: false },
        StepAction::Cap { column: column("annual_fee"), share: 0.02 },
        StepAction::Log { column: column("call_minutes") },
        StepAction::Power { column: column("tenure_months") },
        StepAction::AsCode { column: column("declined_claims") },
        StepAction::GroupRare { column: column("clinic"), fewest: 60 },
        StepAction::Encode { column: column("district"), encoder: Encoder::TargetMean },
        StepAction::Bands { column: column("fee_rise_pct"), bands: 6 },
        StepAction::Standardise { column: column("pets") },
    ];
    actions.into_iter().map(|action| PreparationStep { action, off: false }).collect()
}

fn records(rows: usize, seed: u64, first: u32) -> Table {
    read_table(&outcome_csv(&members(rows, seed, first)), &Unwatched).expect("the records").0
}

/// Customers with values that no model has seen, and with gaps where there were none.
fn strangers(rows: usize) -> Table {
    let mut table = records(rows, SEED + 5, FIRST_RENEWAL);
    for (name, every) in [("species", 7), ("plan_tier", 11), ("payment_method", 13), ("clinic", 17)] {
        let column = table.column(name).expect("a column").clone();
        let text = |row: usize| match row % every {
            0 => Some("it's \"never\" seen \\ ü".to_owned()),
            1 => None,
            _ => column.text(row),
        };
        let texts: Vec<Option<String>> = (0..rows).map(text).collect();
        let words = pronoia_core::table::Words::from_rows(texts.iter().map(Option::as_deref));
        table = table.with(pronoia_core::Column {
            name: name.into(),
            kind: column.kind,
            values: ColumnValues::Words(words),
        });
    }
    for (name, every) in [("annual_fee", 19), ("tenure_months", 23), ("declined_claims", 5)] {
        let column = table.column(name).expect("a column").clone();
        let number = |row: usize| match row % every {
            0 => None,
            1 => Some(-3.0),
            2 => Some(1.0e6),
            _ => column.number(row),
        };
        let values = ColumnValues::Numbers((0..rows).map(number).collect());
        table = table.with(pronoia_core::Column { name: name.into(), kind: Kind::Number, values });
    }
    table
}

fn settings(word: &str, changes: &[(&str, &str)]) -> Settings {
    let mut settings = Settings::of_family(word).expect("a family");
    changes.iter().for_each(|(name, value)| settings.set(name, value).expect("a setting"));
    settings
}

fn fitted(recipe: impl Into<Recipe>) -> Model {
    let table = records(4_000, SEED, FIRST_MEMBER);
    let predictors = PREDICTORS.map(str::to_owned).to_vec();
    let basis = Basis { steps: steps(), ..Basis::plain(Outcome::is("cancelled", "yes"), predictors) };
    let rows: Vec<usize> = (0..table.rows()).collect();
    Model::fit(&table, &basis, &rows, recipe, 3, &Unwatched).expect("a model")
}

/// One model of every family that can be carried, and a blend.
fn models() -> Vec<(&'static str, Model)> {
    let boosted = settings("boosted", &[("trees", "60"), ("early-stopping", "no")]);
    let one = |word: &'static str, changes: &[(&str, &str)]| (word, fitted(settings(word, changes)));
    let blend =
        Ensemble::new(Mix::Stacked, vec![settings("scorecard", &[]), boosted.clone(), settings("logistic", &[])]);
    vec![
        one("logistic", &[]),
        one("scorecard", &[("pairs", "2")]),
        one("tree", &[]),
        one("forest", &[("trees", "60"), ("rows-per-leaf", "40")]),
        ("boosted", fitted(boosted)),
        one("network", &[("networks", "2"), ("units", "8"), ("epochs", "4")]),
        one("bayes", &[]),
        one("svm", &[]),
        ("calibrated", fitted(Recipe::Calibrated { calibrated: settings("boosted", &[("trees", "40")]) })),
        ("blend", fitted(Recipe::Blend(blend.expect("a blend")))),
    ]
}

/// How far a family may be off: networks compute in single precision.
fn tolerance(name: &str) -> f64 {
    if name == "network" { 1e-6 } else { 1e-9 }
}

fn greatest(found: &[f64], expected: &[f64]) -> f64 {
    assert_eq!(found.len(), expected.len());
    let apart = |(a, b): (&f64, &f64)| if (a - b).is_nan() { f64::INFINITY } else { (a - b).abs() };
    found.iter().zip(expected).map(apart).fold(0.0, f64::max)
}

fn probabilities(model: &Model, table: &Table) -> Vec<f64> {
    model.probabilities(table, &(0..table.rows()).collect::<Vec<_>>()).expect("probabilities")
}

fn written(model: &Model, form: ExportForm) -> String {
    let formula = ModelFormula::of(model).expect("a formula");
    String::from_utf8(form.write(&formula).expect("written").bytes).expect("text")
}

/// A row as the values of an INSERT.
fn values(table: &Table, row: usize) -> String {
    let of = |column: &pronoia_core::Column| match column.text(row) {
        None => "NULL".into(),
        Some(text) => format!("'{}'", text.replace('\'', "''")),
    };
    let values: Vec<String> = table.columns().iter().map(of).collect();
    format!("({row}, {})", values.join(", "))
}

/// What a database gives that the customers were brought into.
async fn by_database(table: &Table, queries: &[String]) -> Vec<Vec<f64>> {
    let url = std::env::var("PRONOIA_TEST_DATABASE").expect("./test says where the database is");
    let mut options = sea_orm::ConnectOptions::new(url);
    options.max_connections(1).sqlx_logging(false);
    let db = Database::connect(options).await.expect("a connection");
    let kind = |kind: Kind| match kind {
        Kind::Number => "double precision",
        Kind::Date => "date",
        _ => "text",
    };
    let columns: Vec<String> = table.columns().iter().map(|c| format!("\"{}\" {}", c.name, kind(c.kind))).collect();
    let run = async |sql: String| {
        db.execute_unprepared(&sql).await.expect("the statement runs");
    };
    run(format!("CREATE TEMPORARY TABLE customers (row_number integer, {})", columns.join(", "))).await;
    let rows: Vec<usize> = (0..table.rows()).collect();
    for some in rows.chunks(1_000) {
        let values: Vec<String> = some.iter().map(|&row| values(table, row)).collect();
        run(format!("INSERT INTO customers VALUES {}", values.join(", "))).await;
    }
    let mut found = Vec::new();
    for query in queries {
        let sql = format!(
            "SELECT row_number, pronoia_probability FROM ({}) AS scored ORDER BY 1",
            query.trim_end().trim_end_matches(';')
        );
        let answered = db.query_all_raw(Statement::from_string(sea_orm::DbBackend::Postgres, sql)).await;
        let rows = answered.unwrap_or_else(|e| panic!("{e}, asked {query}"));
        let number = |row: &sea_orm::QueryResult| row.try_get_by_index::<Option<f64>>(1).expect("a number");
        found.push(rows.iter().map(|row| number(row).unwrap_or(f64::NAN)).collect());
    }
    found
}

/// What the published reader of the JSON form gives.
fn by_reader(folder: &Path, table: &Table, formula: &str) -> Vec<f64> {
    let (at, list) = (folder.join("formula.json"), folder.join("customers.jsonl"));
    std::fs::write(&at, formula).expect("written");
    let line = |row: usize| {
        let value = |column: &pronoia_core::Column| match &column.values {
            ColumnValues::Numbers(_) => column.number(row).map_or(serde_json::Value::Null, Into::into),
            _ => column.text(row).map_or(serde_json::Value::Null, Into::into),
        };
        let object: serde_json::Map<_, _> = table.columns().iter().map(|c| (c.name.clone(), value(c))).collect();
        serde_json::Value::Object(object).to_string()
    };
    let lines: Vec<String> = (0..table.rows()).map(line).collect();
    std::fs::write(&list, lines.join("\n")).expect("written");
    let reader = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/portable/score.mjs");
    let ran = Command::new("node").arg(reader).arg(&at).arg(&list).output().expect("node runs");
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    let said = String::from_utf8(ran.stdout).expect("text");
    said.lines().map(|line| line.parse().expect("a probability")).collect()
}

#[tokio::test]
async fn every_form_gives_the_probabilities_of_the_model() {
    let slow = std::env::var("PRONOIA_TEST_SLOW").is_ok();
    let table = strangers(if slow { 10_000 } else { 1_500 });
    let models = models();
    let expected: Vec<Vec<f64>> = models.iter().map(|(_, model)| probabilities(model, &table)).collect();
    let folder = tempfile::tempdir().expect("a folder");
    let mut queries = Vec::new();
    for ((name, model), expected) in models.iter().zip(&expected) {
        let formula = ModelFormula::of(model).expect("a formula");
        let own = greatest(&formula.probabilities(&table).expect("probabilities"), expected);
        let checked = formula.checked(model, &table).expect("the same");
        assert!(own < tolerance(name) && checked.difference == own, "{name}: {own:e} by its own formula");
        let read = greatest(&by_reader(folder.path(), &table, &written(model, ExportForm::Json)), expected);
        assert!(read < tolerance(name), "{name}: {read:e} by the reader of its JSON form");
        println!("{name} formula {own:.1e} json {read:.1e}");
        queries.extend(
            [SqlDialect::PostgreSql, SqlDialect::Standard].map(|dialect| written(model, ExportForm::Sql(dialect))),
        );
    }
    let found = by_database(&table, &queries).await;
    for (at, (name, _)) in models.iter().enumerate() {
        for (found, dialect) in found[at * 2..].iter().zip(["postgresql", "standard"]) {
            let apart = greatest(found, &expected[at]);
            assert!(apart < tolerance(name), "{name}: {apart:e} by {dialect} SQL");
            println!("{name} {dialect} {apart:.1e}");
        }
    }
    // Two of the engines take seconds; those that need a virtual machine of their own are asked under --slow.
    let engines: &[&str] = if slow { &["onnx", "duckdb", "pmml", "spark"] } else { &["onnx", "duckdb"] };
    if let Some(python) = python() {
        by_engines((&python, engines), folder.path(), &table, &models, &expected);
    }
}

/// What engines give that know nothing of Pronoia.
fn by_engines(
    (python, engines): (&str, &[&str]),
    folder: &Path,
    table: &Table,
    models: &[(&str, Model)],
    expected: &[Vec<f64>],
) {
    let numbers: ColumnValues = ColumnValues::Numbers((0..table.rows()).map(|row| Some(row as f64)).collect());
    let table = table.with(pronoia_core::Column { name: "row_number".into(), kind: Kind::Number, values: numbers });
    let list = folder.join("customers.parquet");
    let mut file = std::fs::File::create(&list).expect("a file");
    FileFormat::Parquet.write(&table, &mut file).expect("written");
    for ((name, model), expected) in models.iter().zip(expected) {
        let formula = ModelFormula::of(model).expect("a formula");
        for form in [
            ExportForm::Pmml,
            ExportForm::Onnx,
            ExportForm::Sql(SqlDialect::DuckDb),
            ExportForm::Sql(SqlDialect::Spark),
        ] {
            let word = if form.ending() == "sql" { format!("{}.sql", form.word()) } else { form.word().to_owned() };
            let bytes = form.write(&formula).expect("written").bytes;
            std::fs::write(folder.join(format!("{name}.{word}")), bytes).expect("written");
        }
        let lines: Vec<String> = expected.iter().map(f64::to_string).collect();
        std::fs::write(folder.join(format!("{name}.probabilities")), lines.join("\n")).expect("written");
    }
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/portable/round_trip.py");
    let ran = Command::new(python).arg(script).arg(folder).args(engines).output().expect("Python runs");
    let said = String::from_utf8_lossy(&ran.stdout);
    assert!(ran.status.success(), "{said}{}", String::from_utf8_lossy(&ran.stderr));
    println!("{said}");
    assert_eq!(said.lines().count(), engines.len() * models.len(), "{said}");
    for line in said.lines() {
        let [name, form, apart] = line.split(' ').collect::<Vec<_>>()[..] else { panic!("{line}") };
        // What trees say is handed on in single precision there.
        let allowed = if form == "onnx" { 1e-6 } else { tolerance(name) };
        assert!(apart.parse::<f64>().expect("a number") < allowed, "{line}");
    }
}

#[test]
fn what_a_form_cannot_carry_is_refused_with_the_reason() {
    let neighbours = fitted(settings("neighbours", &[]));
    let refused = ModelFormula::of(&neighbours).expect_err("refused");
    assert!(matches!(refused, Refusal::HoldsCustomers), "{refused}");

    let derive = |expression: &str| {
        let table = records(1_500, SEED, FIRST_MEMBER);
        let action = StepAction::Derive { name: "made".into(), expression: expression.into() };
        let basis = Basis {
            steps: vec![
                PreparationStep { action: StepAction::AsCode { column: "pets".into() }, off: false },
                PreparationStep { action, off: false },
            ],
            ..Basis::plain(Outcome::is("cancelled", "yes"), ["made".to_owned(), "tenure_months".into()].to_vec())
        };
        let rows: Vec<usize> = (0..table.rows()).collect();
        Model::fit(&table, &basis, &rows, settings("logistic", &[]), 3, &Unwatched).expect("a model")
    };
    let letters = ModelFormula::of(&derive("LENGTH(clinic)")).expect("a formula");
    let refused = ExportForm::Onnx.write(&letters).expect_err("refused").to_string();
    assert!(refused.contains("“made” works on the letters of text, which ONNX cannot do"), "{refused}");
    assert!(ExportForm::Pmml.write(&letters).is_ok() && ExportForm::Json.write(&letters).is_ok());
    let refused = ModelFormula::of(&derive("pets || plan_tier")).expect_err("refused").to_string();
    assert!(refused.contains("“made” reads the text of “pets”, which is a number read as a code"), "{refused}");

    let grown = fitted(settings("forest", &[("trees", "600"), ("rows-per-leaf", "5")]));
    let formula = ModelFormula::of(&grown).expect("a formula");
    let refused = ExportForm::Sql(SqlDialect::PostgreSql).write(&formula).expect_err("refused").to_string();
    assert!(refused.contains("leaves, and as SQL at most 60000 are written"), "{refused}");
    assert!(ExportForm::Onnx.write(&formula).is_ok());
}

#[test]
fn the_command_line_writes_every_form_and_compares_it_first() {
    let folder = tempfile::tempdir().expect("a folder");
    let at = |name: &str| folder.path().join(name).to_str().expect("a path").to_owned();
    std::fs::write(at("members.csv"), outcome_csv(&members(2_000, SEED, FIRST_MEMBER))).expect("written");
    let pronoia = |arguments: &[&str]| {
        let ran = Command::new(env!("CARGO_BIN_EXE_pronoia")).args(arguments).output().expect("the program runs");
        (ran.status.code(), String::from_utf8_lossy(&ran.stdout).into_owned() + &String::from_utf8_lossy(&ran.stderr))
    };
    let fit = ["fit", &at("members.csv"), "--outcome", "cancelled", "--event", "yes", "--model", &at("model.json")];
    assert_eq!(pronoia(&[&fit[..], &["--family", "scorecard"]].concat()).0, Some(0));
    for form in ExportForm::ALL {
        let out = at(&format!("model.{}", form.ending()));
        let export = ["export", "--model", &at("model.json"), "--format", form.word(), "--out", &out];
        let (code, said) = pronoia(&[&export[..], &["--check", &at("members.csv")]].concat());
        assert_eq!(code, Some(0), "{said}");
        assert!(said.contains("Compared on 2000 customers") && said.contains("never evaluated"), "{said}");
        assert!(std::fs::metadata(&out).expect("a file").len() > 1_000, "{}", form.word());
    }
    let (code, said) = pronoia(&["export", "--model", &at("model.json"), "--format", "abacus", "--out", &at("x")]);
    assert!(code == Some(2) && said.contains("There is no form “abacus”"), "{said}");
    assert!(!folder.path().join("x").exists());
    let (code, schema) = pronoia(&["export", "--schema"]);
    let schema: serde_json::Value = serde_json::from_str(&schema).expect("a schema in JSON");
    assert!(code == Some(0) && schema["title"] == "Pronoia formula");
}
