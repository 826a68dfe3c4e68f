//! Our figures against those of general-purpose libraries (see `tests/reference/make.py`).

use pronoia_core::calibrate::{Calibration, CalibrationMap};
use pronoia_core::evaluate::{
    Confusion, area_under_roc, average_precision, brier, delong, kolmogorov_smirnov, log_loss,
};
use pronoia_core::intake::read_table;
use pronoia_core::learn::logistic::{Logistic, LogisticSettings};
use pronoia_core::learn::setting::Tunable;
use pronoia_core::learn::{Estimator, Settings, Target};
use pronoia_core::prepare::{Design, Feature};
use pronoia_core::progress::Unwatched;
use pronoia_core::stats::{
    Count, correlation, entropy, information_value, likelihood_ratio_p_value, mutual_information, total,
};
use serde_json::Value;

const CSV: &[u8] = include_bytes!("../../../../tests/reference/churn.csv");
const FIGURES: &str = include_str!("../../../../tests/reference/figures.json");

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
    let settings = LogisticSettings { ridge: theirs["penalty"].as_f64().expect("a penalty"), lasso: 0.0 };
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
    let measures: [(&str, Measure); 5] = [
        ("kolmogorov_smirnov", kolmogorov_smirnov),
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
fn counts_at_a_cut_off_agree() {
    let (_, event) = design();
    let theirs = &figures()["measures"];
    let counts = Confusion::at(&numbers(&theirs["score"]), &event, 0.3);
    close(counts.matthews(), theirs["matthews_at_0.3"].as_f64().expect("a number"), 1e-9, "Matthews");
    close(counts.f1(), theirs["f1_at_0.3"].as_f64().expect("a number"), 1e-9, "F1");
}

#[test]
fn areas_are_as_sure_as_their_definition_says() {
    let (_, event) = design();
    let figures = figures();
    let score = numbers(&figures["measures"]["score"]);
    let truth = numbers(&figures["isotonic"]["score"]);
    let their = |name: &str| figures["delong"][name].as_f64().expect("a number");
    close(delong::area(&score, &event).expect("both outcomes").se, their("error"), 1e-9, "standard error");
    let apart = delong::difference(&score, &truth, &event).expect("both outcomes");
    close(apart.value, their("difference"), 1e-9, "difference");
    close(apart.se, their("difference_error"), 1e-9, "its standard error");
    let itself = delong::difference(&score, &score, &event).expect("both outcomes");
    assert_eq!((itself.value, itself.chance()), (0.0, 1.0), "no model differs from itself");
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
    close(likelihood_ratio_p_value(bits, total(&counts).rows, 3), their("chance"), 1e-9, "chance");
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

fn penalised(ridge: f64, lasso: f64) -> Logistic {
    let (design, event) = design();
    let settings = LogisticSettings { ridge, lasso };
    settings.check().expect("settings").fit(&design, &Target::plain(event), &Unwatched).expect("a fit")
}

#[test]
fn lasso_and_elastic_net_agree_and_set_the_idle_column_to_nothing() {
    let (figures, number) = (figures(), |v: &Value| v.as_f64().expect("a number"));
    let (lasso, elastic) = (&figures["lasso"], &figures["elastic_net"]);
    let fitted = [
        (penalised(0.0, number(&lasso["penalty"])), lasso),
        (penalised(number(&elastic["ridge"]), number(&elastic["lasso"])), elastic),
    ];
    for (ours, theirs) in fitted {
        let theirs = numbers(&theirs["coefficients"]);
        close(ours.intercept, theirs[0], 1e-6, "intercept");
        for (c, b) in ours.coefficients.iter().zip(&theirs[1..]) {
            close(c.value, *b, 1e-6, &c.feature);
        }
        assert_eq!(ours.coefficients[3].value, 0.0, "exactly nothing");
        assert_eq!(ours.coefficients[0].se, None, "a penalised fit has no standard errors");
    }
}

/// Fits a family with one setting to the design, and scores it.
fn scored(family: &str, settings: &[(&str, &str)], design: &Design, event: &[bool]) -> (Estimator, Vec<f64>) {
    let mut asked = Settings::of_family(family).expect("a family");
    settings.iter().for_each(|(name, value)| asked.set(name, value).expect("a setting"));
    let fitted = asked.fit(design, &Target::plain(event.to_vec()), 1, &Unwatched).expect("a fit").estimator;
    let scores = fitted.log_odds(design);
    (fitted, scores)
}

#[test]
fn the_support_vector_machine_agrees() {
    let (design, event) = design();
    let figures = figures();
    let theirs = numbers(&figures["svm"]["coefficients"]);
    let cost = figures["svm"]["cost"].to_string();
    let (Estimator::Svm(svm), _) = scored("svm", &[("cost", &cost)], &design, &event) else { panic!("another family") };
    close(svm.intercept, theirs[0], 1e-6, "intercept");
    for ((name, ours), theirs) in svm.coefficients.iter().zip(&theirs[1..]) {
        close(*ours, *theirs, 1e-6, name);
    }
}

#[test]
fn naive_bayes_with_normal_numbers_agrees() {
    let (design, event) = design();
    let (_, scores) = scored("bayes", &[("numbers", "normal")], &design, &event);
    for (ours, theirs) in scores.iter().zip(numbers(&figures()["bayes"]["log_odds"])) {
        close(*ours, theirs, 1e-9 * (1.0 + theirs.abs()), "log-odds");
    }
}

#[test]
fn a_tree_makes_the_same_groups() {
    let (_, event) = design();
    let theirs = &figures()["tree"];
    let rows: Vec<Vec<f64>> = theirs["rows"].as_array().expect("rows").iter().map(numbers).collect();
    let features =
        (0..rows[0].len()).map(|at| Feature::number("x", "x", rows.iter().map(|row| row[at]).collect())).collect();
    let design = Design::new(features, rows.len());
    let settings = [("leaves", "9"), ("rows-per-leaf", "20"), ("prune", "no")];
    let (Estimator::Tree(tree), _) = scored("tree", &settings, &design, &event) else { panic!("another family") };
    for (row, theirs) in numbers(&theirs["rate"]).into_iter().enumerate() {
        let [others, events] = tree.counts[tree.tree.leaf_of(&design, row)];
        close(events / (others + events), theirs, 1e-9, "event rate of the group");
    }
}

#[test]
fn isotonic_rates_agree_but_for_the_row_that_is_added() {
    let (_, event) = design();
    let theirs = &figures()["isotonic"];
    let (score, rate) = (numbers(&theirs["score"]), numbers(&theirs["rate"]));
    let map = Calibration::fit(CalibrationMap::Isotonic, &score, &Target::plain(event.clone())).expect("both outcomes");
    let Some(Calibration::Steps(steps)) = map else { panic!("another map") };
    let overall = event.iter().filter(|&&e| e).count() as f64 / event.len() as f64;
    let mut blocks: Vec<(f64, f64)> = Vec::new();
    for r in {
        let mut order: Vec<usize> = (0..score.len()).collect();
        order.sort_by(|&a, &b| score[a].total_cmp(&score[b]));
        order.into_iter().map(|at| rate[at]).collect::<Vec<_>>()
    } {
        match blocks.last_mut() {
            Some(last) if (last.0 - r).abs() < 1e-12 => last.1 += 1.0,
            _ => blocks.push((r, 1.0)),
        }
    }
    assert_eq!(steps.log_odds.len(), blocks.len());
    let mut least = f64::NEG_INFINITY;
    for (ours, (rate, rows)) in steps.log_odds.iter().zip(blocks) {
        let p = (rate * rows + overall) / (rows + 1.0);
        least = least.max((p / (1.0 - p)).ln());
        close(*ours, least, 1e-9, "log-odds of a block");
    }
}
