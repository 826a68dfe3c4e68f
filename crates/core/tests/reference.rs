//! Our figures against those of general-purpose libraries (see `tests/reference/make.py`).

use pronoia_core::drivers::{Count, chance, correlation, entropy, information_value, mutual_information, total};
use pronoia_core::evaluate::{area_under_roc, average_precision, brier, log_loss};
use pronoia_core::intake::read_table;
use pronoia_core::learn::Target;
use pronoia_core::learn::logistic::LogisticSettings;
use pronoia_core::prepare::{Design, Feature};
use pronoia_core::progress::Unwatched;
use serde_json::Value;

const CSV: &[u8] = include_bytes!("../../../tests/reference/churn.csv");
const FIGURES: &str = include_str!("../../../tests/reference/figures.json");

fn figures() -> Value {
    serde_json::from_str(FIGURES).expect("figures")
}

fn numbers(value: &Value) -> Vec<f64> {
    value.as_array().expect("a list").iter().map(|v| v.as_f64().expect("a number")).collect()
}

/// The reference table, columns as they are.
fn design() -> (Design, Vec<bool>) {
    let (table, _) = read_table(CSV, &Unwatched).expect("table");
    let event =
        (0..table.rows()).map(|r| table.column("left").expect("left").text(r).as_deref() == Some("yes")).collect();
    let features = ["calls", "months", "direct", "noise"]
        .map(|name| {
            let column = table.column(name).expect("column");
            // 0.0 and 1.0 are read as an answer; the reference takes them as numbers.
            let value =
                |r| column.number(r).unwrap_or_else(|| column.text(r).expect("a value").parse().expect("a number"));
            Feature::number(name, name, (0..table.rows()).map(value).collect())
        })
        .into();
    (Design::new(features, table.rows()), event)
}

fn close(ours: f64, theirs: f64, within: f64, what: &str) {
    assert!((ours - theirs).abs() <= within, "{what}: {ours} against {theirs}");
}

#[test]
fn logistic_coefficients_errors_and_p_values_agree() {
    let (design, event) = design();
    let fitted = LogisticSettings::default()
        .check()
        .expect("settings")
        .fit(&design, &Target::plain(event.clone()), &Unwatched)
        .expect("a fit");
    let theirs = &figures()["logistic"];
    let (b, se, p) =
        (numbers(&theirs["coefficients"]), numbers(&theirs["standard_errors"]), numbers(&theirs["p_values"]));
    close(fitted.intercept, b[0], 1e-6, "intercept");
    close(fitted.intercept_se.expect("an error"), se[0], 1e-6, "its error");
    for (i, c) in fitted.coefficients.iter().enumerate() {
        close(c.value, b[i + 1], 1e-6, &c.feature);
        close(c.se.expect("an error"), se[i + 1], 1e-6, "error");
        close(c.p.expect("a p-value"), p[i + 1], 1e-6, "p");
    }
    close(fitted.log_likelihood, theirs["log_likelihood"].as_f64().expect("a number"), 1e-6, "log likelihood");
}

#[test]
fn ridge_coefficients_agree_and_carry_no_errors() {
    let (design, event) = design();
    let theirs = &figures()["ridge"];
    let settings = LogisticSettings { ridge: theirs["penalty"].as_f64().expect("a penalty") };
    let fitted =
        settings.check().expect("settings").fit(&design, &Target::plain(event.clone()), &Unwatched).expect("a fit");
    close(fitted.intercept, theirs["intercept"].as_f64().expect("a number"), 1e-6, "intercept");
    for (c, b) in fitted.coefficients.iter().zip(numbers(&theirs["coefficients"])) {
        close(c.value, b, 1e-6, &c.feature);
        assert_eq!((c.se, c.p), (None, None), "a penalised fit has no standard errors");
    }
}

#[test]
fn measures_agree_with_ties_and_weights() {
    let (_, event) = design();
    let theirs = &figures()["measures"];
    let (score, weight) = (numbers(&theirs["score"]), numbers(&theirs["weight"]));
    type Measure = fn(&[f64], &[bool], Option<&[f64]>) -> f64;
    let measures: [(&str, Measure); 4] = [
        ("area_under_roc", area_under_roc),
        ("average_precision", average_precision),
        ("log_loss", log_loss),
        ("brier", brier),
    ];
    for (name, measure) in measures {
        close(measure(&score, &event, None), theirs[name].as_f64().expect("a number"), 1e-9, name);
        let weighted = theirs[format!("{name}_weighted")].as_f64().expect("a number");
        close(measure(&score, &event, Some(&weight)), weighted, 1e-9, name);
    }
}

#[test]
fn measures_of_association_agree() {
    let theirs = &figures()["association"];
    let counts: Vec<Count> = numbers(&theirs["rows"])
        .into_iter()
        .zip(numbers(&theirs["events"]))
        .map(|(rows, events)| Count { rows: rows as u64, events: events as u64 })
        .collect();
    let their = |name: &str| theirs[name].as_f64().expect("a number");
    let bits = mutual_information(&counts);
    close(bits, their("mutual_information_bits"), 1e-9, "mutual information");
    close(entropy(total(&counts)), their("entropy_bits"), 1e-9, "entropy");
    close(information_value(&counts), their("information_value"), 1e-9, "information value");
    close(chance(bits, total(&counts).rows, 3), their("chance"), 1e-9, "chance");
    for (count, interval) in counts.iter().zip(theirs["wilson"].as_array().expect("intervals")) {
        let (low, high) = count.interval();
        close(low, numbers(interval)[0], 1e-9, "lower end");
        close(high, numbers(interval)[1], 1e-9, "upper end");
    }
    let (table, _) = read_table(CSV, &Unwatched).expect("table");
    let (months, left) = (table.column("months").expect("months"), table.column("left").expect("left"));
    let pairs =
        (0..table.rows()).map(|r| (months.number(r).expect("a number"), left.text(r).as_deref() == Some("yes")));
    close(correlation(pairs).expect("both vary"), their("correlation"), 1e-9, "correlation");
}
