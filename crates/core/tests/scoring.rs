//! Lists as they really come: renamed, incomplete, with values that nobody has seen.

use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::progress::Unwatched;
use pronoia_core::score::{By, DECISION, MatchReport, PROBABILITY, match_list, scored, to_csv};
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::{Kind, Model, Table};
use proptest::prelude::*;

fn table(text: &str) -> Table {
    read_table(text.as_bytes(), &Unwatched).expect("a table").0
}

/// Records in which the plan and the fee matter.
fn records() -> Table {
    let mut text = String::from("id,Annual Fee,plan,district,left\n");
    for i in 0..900u32 {
        let plan = ["Basic", "Plus", "Complete"][(i % 3) as usize];
        let left = if (i * 7919) % 10 < 2 + 3 * (i % 3) { "yes" } else { "no" };
        text += &format!("c{i},{},{plan},{:03},{left}\n", 100 + i % 200, 10 + i % 40);
    }
    table(&text)
}

fn model(family: &str) -> Model {
    let records = records();
    let rows: Vec<usize> = (0..records.rows()).collect();
    let outcome = Outcome::is("left", "yes");
    let predictors = ["Annual Fee", "plan", "district"].map(str::to_owned);
    let settings = Settings::of_family(family).expect("family");
    Model::fit(&records, &Basis::plain(outcome, predictors), &rows, &settings, 1, &Unwatched).expect("a fit")
}

fn remarks(report: &MatchReport, column: &str) -> String {
    report.inputs.iter().find(|i| i.name == column).expect("an input").remarks().join("; ")
}

#[test]
fn a_clean_list_has_no_remarks_and_names_what_is_not_used() {
    let list = table("id,Annual Fee,plan,district\nx1,150,Plus,012\nx2,160,Basic,013\n");
    let (report, matched) = match_list(&model("logistic"), &list);
    assert!(report.is_complete() && report.inputs.iter().all(|i| i.remarks().is_empty()), "{report:?}");
    assert_eq!(report.unused, ["id"]);
    assert_eq!(matched.columns().len(), 3);
}

#[test]
fn names_that_differ_in_case_and_spacing_are_found_and_said() {
    let list = table("annual_fee,PLAN,district\n150,Plus,012\n160,Basic,013\n");
    let (report, _) = match_list(&model("logistic"), &list);
    assert!(report.is_complete());
    assert!(remarks(&report, "Annual Fee").contains("read from “annual_fee”"));
    let renamed = table("annual_fee,PLAN,district\n150,Plus,012\n160,Basic,013\n");
    let own = table("Annual Fee,plan,district\n150,Plus,012\n160,Basic,013\n");
    for family in ["logistic", "boosted"] {
        let model = model(family);
        let of = |list: &Table| model.probabilities(&match_list(&model, list).1, &[0, 1]).expect("scores");
        assert_eq!(of(&renamed), of(&own), "{family}");
    }
}

#[test]
fn everything_out_of_the_ordinary_is_counted() {
    let list = table(
        "Annual Fee,plan,district\n150,Platinum,012\n9000,Plus,013\n-4,Platinum,999\n,Plus,012\nabout ten,Basic,013\n",
    );
    let (report, _) = match_list(&model("logistic"), &list);
    assert!(report.is_complete());
    let plan = remarks(&report, "plan");
    assert!(plan.contains("2 rows hold a value never seen in training: “Platinum”"), "{plan}");
    let fee = remarks(&report, "Annual Fee");
    assert!(fee.contains("1 value is not a number") && fee.contains("2 rows lie outside the 100 to 299"), "{fee}");
    assert!(remarks(&report, "district").contains("“999”"));
}

#[test]
fn a_missing_column_is_named_and_nothing_is_scored() {
    let list = table("plan,district\nPlus,012\nBasic,013\n");
    let model = model("logistic");
    let (report, matched) = match_list(&model, &list);
    assert_eq!(report.lacking(), ["Annual Fee"]);
    let refused = scored(&model, &list, &matched, None).expect_err("not scored");
    assert!(refused.contains("Annual Fee"), "{refused}");
}

#[test]
fn codes_that_lost_their_zeros_to_a_number_are_read_as_codes() {
    // All digits and no leading zero: by itself this column would be a number.
    let list = table("Annual Fee,plan,place\n150,Plus,12\n160,Basic,13\n");
    let mut columns = list.columns().to_vec();
    columns[2].name = "district".into();
    assert_eq!(columns[2].kind, Kind::Number);
    let list = Table::new(columns).expect("columns");
    let (report, matched) = match_list(&model("boosted"), &list);
    assert!(report.is_complete());
    assert_eq!(matched.column("district").expect("district").kind.storage(), Kind::Code.storage());
}

#[test]
fn the_scored_list_keeps_its_columns_and_adds_two() {
    let list = table("id,Annual Fee,plan,district\nx1,150,Plus,012\nx2,160,Basic,013\nx3,170,Complete,014\n");
    let model = model("logistic");
    let (_, matched) = match_list(&model, &list);
    let (table, acted) = scored(&model, &list, &matched, Some(By::CutOff(0.35))).expect("scored");
    let names: Vec<&str> = table.columns().iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["id", "Annual Fee", "plan", "district", PROBABILITY, DECISION]);
    let decisions = (0..3).filter(|&r| table.column(DECISION).expect("decision").text(r).as_deref() == Some("act"));
    assert_eq!(decisions.count() as u64, acted);
    // Scored again, the old scores are replaced and not doubled.
    let (again, _) = scored(&model, &table, &match_list(&model, &table).1, None).expect("scored");
    assert_eq!(again.columns().len(), 5);
    let csv = String::from_utf8(to_csv(&table).expect("csv")).expect("text");
    assert!(
        csv.starts_with("id,Annual Fee,plan,district,pronoia_probability,pronoia_decision\nx1,150,Plus,012,0."),
        "{csv}"
    );
}

/// Both families, fitted once for all cases.
static MODELS: std::sync::LazyLock<[Model; 2]> = std::sync::LazyLock::new(|| ["logistic", "boosted"].map(model));

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn one_customer_and_many_are_scored_the_same(fees in proptest::collection::vec(50u32..400, 2..40)) {
        let mut text = String::from("Annual Fee,plan,district\n");
        for (i, fee) in fees.iter().enumerate() {
            text += &format!("{fee},{},{:03}\n", ["Basic", "Plus", "Complete", "Other"][i % 4], 10 + i);
        }
        let list = table(&text);
        for model in MODELS.iter() {
            let (_, matched) = match_list(model, &list);
            let all: Vec<usize> = (0..list.rows()).collect();
            let together = model.probabilities(&matched, &all).expect("scores");
            for row in all {
                let alone = model.probabilities(&matched, &[row]).expect("a score");
                prop_assert_eq!(alone[0], together[row]);
            }
        }
    }
}
