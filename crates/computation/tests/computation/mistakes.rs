//! The list of mistakes is whole, each is answered, and each answer is shown by a test.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use pronoia_core::cautions::{MISTAKES, MistakeStatus};
use pronoia_core::decide::{Churn, CutOff, Economics, Order, Rule as Policy};
use pronoia_core::study::CautionKind;

fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Every file with this ending below a folder.
fn files(folder: &Path, ending: &str) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path()) {
        if entry.is_dir() {
            found.extend(files(&entry, ending));
        } else if entry.extension().is_some_and(|e| e == ending) {
            found.push(entry);
        }
    }
    found
}

#[test]
fn every_mistake_is_answered_and_every_rule_is_an_answer_to_one() {
    let mut rules = HashSet::new();
    for mistake in &MISTAKES {
        assert!(!mistake.what.is_empty() && !mistake.answers.is_empty(), "{mistake:?}");
        for answer in mistake.answers {
            match answer {
                MistakeStatus::Raised(rule) => assert!(rules.insert(*rule), "{rule:?} answers two"),
                MistakeStatus::CannotBe(how) | MistakeStatus::SaidAt(_, how) => assert!(how.len() > 20, "{mistake:?}"),
            }
        }
    }
    assert_eq!(rules.len(), CautionKind::ALL.len());
}

/// Names of tests, and of files of tests.
fn tests() -> HashSet<String> {
    let mut names = HashSet::new();
    for path in files(&project().join("crates"), "rs") {
        let source = std::fs::read_to_string(&path).expect("a source");
        // What follows an attribute of a test, or stands within proptest's, is one.
        for (at, _) in source.match_indices("#[test]").chain(source.match_indices("#[tokio::test")) {
            let name = source[at..].split("fn ").nth(1).and_then(|rest| rest.split('(').next()).expect("a name");
            names.insert(name.to_owned());
            names.insert(path.file_stem().expect("a name").to_string_lossy().into_owned());
        }
    }
    names
}

/// The tests that a row of a document names in its last column.
fn named(row: &str) -> Vec<&str> {
    let last = row.trim_end().trim_end_matches('|').rsplit_once('|').expect("columns").1;
    last.split('`').skip(1).step_by(2).filter(|name| !name.starts_with("./")).collect()
}

#[test]
fn every_answer_is_shown_by_tests_that_are_there() {
    let text = std::fs::read_to_string(project().join("docs/cautions.md")).expect("the table");
    let rows: Vec<&str> = text.lines().filter(|line| line.starts_with("| ") && !line.starts_with("| #")).collect();
    assert_eq!(rows.len(), MISTAKES.len());
    let tests = tests();
    for (at, row) in rows.iter().enumerate() {
        assert!(row.starts_with(&format!("| {} |", at + 1)), "{row}");
        assert!(!named(row).is_empty(), "{row}");
        for name in named(row) {
            assert!(tests.contains(name), "no test is called {name}");
        }
    }
}

#[test]
fn what_holds_of_security_is_shown_by_tests_that_are_there() {
    let text = std::fs::read_to_string(project().join("docs/security.md")).expect("the table");
    let holds = text.split("## What holds").nth(1).expect("the table").split("\n## ").next().expect("its end");
    let rows: Vec<&str> = holds.lines().filter(|line| line.starts_with("| V")).collect();
    assert!(rows.len() > 30, "{}", rows.len());
    let tests = tests();
    for row in rows {
        assert!(!named(row).is_empty() || row.contains("`./test`"), "{row}");
        for name in named(row) {
            assert!(tests.contains(name), "no test, and no file of tests, is called {name}: {row}");
        }
    }
}

#[test]
fn every_line_is_a_sentence_and_none_is_proposed_at_one_half_by_itself() {
    let lines = [
        CutOff::Least(0.5),
        CutOff::Customers(40.0),
        CutOff::Share(0.2),
        CutOff::Budget(900.0),
        CutOff::Precision(0.4),
    ];
    for (line, figure) in lines.into_iter().zip(["0.5", "40", "20", "900", "40"]) {
        for by in [Order::Probability, Order::Gain, Order::GainPerCost] {
            let rule = Policy { by, line, limits: Vec::new(), refer_from: None };
            let words = rule.in_words();
            assert!(words.contains(figure) && words.split(' ').count() >= 3, "{words}");
        }
    }
    // Where the proposed line lies is told by the amounts alone: half only where an act costs half of what it saves.
    let breaks_even = |contact: f64| {
        let churn = Churn {
            value_kept: 100.0,
            years: 1.0,
            discount: 0.0,
            save_rate: 1.0,
            offer_cost: 0.0,
            stayers_take: 0.0,
            contact_cost: contact,
        };
        Economics::Churn(churn).payoffs().gain().break_even()
    };
    let least: Vec<f64> = [10.0, 25.0, 60.0].map(breaks_even).into_iter().flatten().collect();
    assert_eq!(least.len(), 3);
    assert!(least.iter().zip([0.10, 0.25, 0.60]).all(|(found, share)| (found - share).abs() < 1e-9), "{least:?}");
}

#[test]
fn no_sentence_speaks_of_causes() {
    let project = project();
    let mut written = files(&project.join("crates/web/templates"), "html");
    for folder in
        ["data/src/drivers", "core/src/explain", "core/src/cautions", "web/src/pages/drivers", "web/src/pages/decide"]
    {
        written.extend(files(&project.join("crates").join(folder), "rs"));
    }
    assert!(written.len() > 60, "{}", written.len());
    let claims = [
        "causes",
        "caused",
        "causal",
        "due to",
        "brings about",
        "leads to more",
        "leads to less",
        "effect on the outcome",
    ];
    let denials = ["not the cause of the outcome", "never causes", "need not be causal"];
    for path in written {
        let text = std::fs::read_to_string(&path).expect("a text");
        let shown = text.lines().filter(|line| !line.trim_start().starts_with("//"));
        for line in shown.filter(|line| !denials.iter().any(|denial| line.contains(denial))) {
            let lower = line.to_lowercase();
            let claim = claims.iter().find(|claim| lower.contains(*claim));
            assert!(claim.is_none(), "{}: {line}", path.display());
        }
    }
}
