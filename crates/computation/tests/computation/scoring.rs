//! Lists as they really come: renamed, incomplete, with values that nobody has seen.

use pronoia_core::decide::{Amount, CutOff, Economics, Offers, Order, Policy, Population, Rule};
use pronoia_core::expression::Expression;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::prepare::{PreparationStep, StepAction};
use pronoia_core::progress::Unwatched;
use pronoia_core::question::Question;
use pronoia_core::score::{
    BAND, By, ColumnAnswer, ColumnAnswers, ColumnPairing, DECISION, Extras, GAIN, ListPart, MatchReport, Matching,
    OTHER_PROBABILITY, PROBABILITY, REASONS, REMARK, Roll, ScoredCustomers, Scoring, ScoringSummary, columns_of_policy,
    match_list,
};
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::write::FileFormat;
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

/// A list matched by its names alone.
fn matched(model: &Model, list: &Table) -> (MatchReport, Table) {
    match_list(model, &[], list, &ColumnAnswers::new())
}

fn scored(model: &Model, list: &Table, by: Option<By>, extras: Extras) -> Result<ScoredCustomers, String> {
    Scoring { model, by, extras, tenths: &[0.6, 0.4] }.of(list, &matched(model, list).1, &[])
}

fn remarks(report: &MatchReport, column: &str) -> String {
    report.inputs.iter().find(|i| i.name == column).expect("an input").remarks().join("; ")
}

#[test]
fn a_clean_list_has_no_remarks_and_names_what_is_not_used() {
    let list = table("id,Annual Fee,plan,district\nx1,150,Plus,012\nx2,160,Basic,013\n");
    let (report, matched) = matched(&model("logistic"), &list);
    assert!(report.is_complete() && report.inputs.iter().all(|i| i.remarks().is_empty()), "{report:?}");
    assert_eq!(report.unused, ["id"]);
    assert_eq!(matched.columns().len(), 3);
}

#[test]
fn names_that_differ_in_case_and_spacing_are_found_and_said() {
    let list = table("annual_fee,PLAN,district\n150,Plus,012\n160,Basic,013\n");
    let (report, _) = matched(&model("logistic"), &list);
    assert!(report.is_complete());
    assert!(remarks(&report, "Annual Fee").contains("read from “annual_fee”"));
    let renamed = table("annual_fee,PLAN,district\n150,Plus,012\n160,Basic,013\n");
    let own = table("Annual Fee,plan,district\n150,Plus,012\n160,Basic,013\n");
    for family in ["logistic", "boosted"] {
        let model = model(family);
        let of = |list: &Table| model.probabilities(&matched(&model, list).1, &[0, 1]).expect("scores");
        assert_eq!(of(&renamed), of(&own), "{family}");
    }
}

#[test]
fn everything_out_of_the_ordinary_is_counted() {
    let list = table(
        "Annual Fee,plan,district\n150,Platinum,012\n9000,Plus,013\n-4,Platinum,999\n,Plus,012\nabout ten,Basic,013\n",
    );
    let (report, _) = matched(&model("logistic"), &list);
    assert!(report.is_complete());
    let plan = remarks(&report, "plan");
    assert!(plan.contains("2 rows hold a value never seen in training: “Platinum”"), "{plan}");
    let fee = remarks(&report, "Annual Fee");
    assert!(fee.contains("1 value is not a number") && fee.contains("2 rows lie far outside the 100 to 299"), "{fee}");
    assert!(remarks(&report, "district").contains("“999”"));
}

#[test]
fn a_missing_column_is_named_and_nothing_is_scored() {
    let list = table("plan,district\nPlus,012\nBasic,013\n");
    let model = model("logistic");
    let (report, _) = matched(&model, &list);
    assert_eq!(report.lacking(), ["Annual Fee"]);
    let refused = scored(&model, &list, None, Extras::default()).expect_err("not scored");
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
    let (report, matched) = matched(&model("boosted"), &list);
    assert!(report.is_complete());
    assert_eq!(matched.column("district").expect("district").kind.storage(), Kind::Code.storage());
}

#[test]
fn the_scored_list_keeps_its_columns_and_adds_two() {
    let list = table("id,Annual Fee,plan,district\nx1,150,Plus,012\nx2,160,Basic,013\nx3,170,Complete,014\n");
    let model = model("logistic");
    let ScoredCustomers { table, account } =
        scored(&model, &list, Some(By::CutOff(0.35)), Extras::default()).expect("scored");
    let names: Vec<&str> = table.columns().iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["id", "Annual Fee", "plan", "district", PROBABILITY, DECISION]);
    let decisions = (0..3).filter(|&r| table.column(DECISION).expect("decision").text(r).as_deref() == Some("act"));
    assert_eq!((decisions.count() as u64, 3), (account.acted, account.rows));
    // Scored again, the old scores are replaced and not doubled.
    let again = scored(&model, &table, None, Extras::default()).expect("scored").table;
    assert_eq!(again.columns().len(), 5);
    let csv = String::from_utf8(file(FileFormat::Csv, &table)).expect("text");
    assert!(
        csv.starts_with("id,Annual Fee,plan,district,pronoia_probability,pronoia_decision\nx1,150,Plus,012,0."),
        "{csv}"
    );
}

fn file(form: FileFormat, table: &Table) -> Vec<u8> {
    let mut bytes = Vec::new();
    form.write(table, &mut bytes).expect("a file");
    bytes
}

#[test]
fn what_was_said_about_columns_holds_and_nothing_is_a_value_too() {
    let model = model("logistic");
    let list = table("id,yearly price,plan\nx1,150,Plus\nx2,160,Basic\n");
    let (report, _) = matched(&model, &list);
    assert_eq!(report.lacking(), ["Annual Fee", "district"]);
    let answers: ColumnAnswers = [
        ("Annual Fee".into(), ColumnAnswer::Column("yearly price".into())),
        ("district".into(), ColumnAnswer::Nothing),
    ]
    .into();
    let (report, columns) = match_list(&model, &[], &list, &answers);
    assert!(report.is_complete() && report.unused == ["id"], "{report:?}");
    assert_eq!(report.inputs[0].paired, ColumnPairing::Said("yearly price".into()));
    assert!(remarks(&report, "district").contains("missing for everybody"));
    let renamed = table("id,Annual Fee,plan,district\nx1,150,Plus,\nx2,160,Basic,\n");
    let (_, own) = matched(&model, &renamed);
    let told = |columns: &Table| model.probabilities(columns, &[0, 1]).expect("scores");
    assert_eq!(told(&columns), told(&own), "as if the list had come so");
}

/// A policy that keeps half of the fee of everybody whom an offer keeps.
fn policy(columns: &Table) -> Policy {
    let fee = Amount::typed("\"half fee\"", &Expression::columns_of(columns)).expect("a formula");
    let mut policy = Policy {
        economics: Economics::usual(Question::Churn).chosen().with("value_kept", fee),
        offers: Offers::default(),
        rule: Rule::value_aware(),
    };
    let rows: Vec<usize> = (0..columns.rows()).collect();
    policy.worked_out(columns, &rows).expect("amounts");
    policy
}

#[test]
fn amounts_may_rest_on_columns_that_steps_make_and_on_customers_without_one() {
    let derive = StepAction::Derive { name: "half fee".into(), expression: "0.5 * \"Annual Fee\"".into() };
    let keep = StepAction::Filter { condition: "\"Annual Fee\" > 120".into() };
    let steps = [derive, keep].map(|action| PreparationStep { action, off: false });
    let known = records();
    let kinds: Vec<(String, Kind)> = known.columns().iter().map(|c| (c.name.clone(), c.kind)).collect();
    let half: Vec<f64> =
        (0..known.rows()).map(|i| known.column("Annual Fee").expect("a fee").number(i).expect("one") / 2.0).collect();
    let mut column = pronoia_core::table::ColumnBuilder::new("half fee", Kind::Number);
    half.iter().for_each(|&x| column.push_number(x));
    let policy = policy(&known.with(column.finish()));
    assert_eq!(columns_of_policy(&policy, &steps, &kinds).expect("read"), ["Annual Fee"]);

    let model = model("logistic");
    let list = table("Annual Fee,plan,district\n150,Plus,012\n-90,Basic,013\n,Basic,013\n");
    let population = Population::default();
    let by = By::Policy { policy: &policy, population: &population, steps: &steps };
    let extras = Extras { gain: true, ..Extras::default() };
    let found = scored(&model, &list, Some(by), extras).expect("scored");
    assert_eq!(found.account.lacking, 2, "half of minus 90 is no value of a kept customer, and nothing is none");
    let mean = half.iter().sum::<f64>() / half.len() as f64;
    let number = |name: &str, row: usize| found.table.column(name).expect("there").number(row).expect("a number");
    let mut gained = 0.0;
    for (row, value) in [75.0, mean, mean].into_iter().enumerate() {
        let p = number(PROBABILITY, row);
        let gain = p * (0.25 * (value - 25.0) - 2.0) - (1.0 - p) * (0.3 * 25.0 + 2.0);
        assert!((number(GAIN, row) - gain).abs() < 1e-9, "{row}");
        let acts = found.table.column(DECISION).expect("decided").text(row).as_deref() == Some("act");
        assert_eq!(acts, gain > 0.0);
        gained += if acts { gain } else { 0.0 };
    }
    assert!((found.account.gain.expect("a gain") - gained).abs() < 1e-9);
}

#[test]
fn what_else_there_is_to_say_is_written_beside() {
    let list = table("id,Annual Fee,plan,district\nx1,150,Platinum,012\nx2,900,Basic,013\nx3,170,Complete,014\n");
    let extras = Extras { other_probability: true, gain: false, band: true, reasons: 2, remarks: true };
    for family in ["logistic", "boosted"] {
        let model = model(family);
        let scoring = Scoring { model: &model, by: Some(By::CutOff(0.4)), extras, tenths: &[0.6, 0.4] };
        let table = scoring.of(&list, &matched(&model, &list).1, &[false, false, true]).expect("scored").table;
        let text = |name: &str, row: usize| table.column(name).expect("there").text(row);
        for row in 0..3 {
            let p = table.column(PROBABILITY).expect("there").number(row).expect("a number");
            let other = table.column(OTHER_PROBABILITY).expect("there").number(row).expect("a number");
            assert_eq!(p + other, 1.0);
            let band = if p >= 0.6 {
                "1"
            } else if p >= 0.4 {
                "2"
            } else {
                "3"
            };
            assert_eq!(text(BAND, row).as_deref(), Some(band), "{p}");
            let reasons = text(REASONS, row).unwrap_or_default();
            assert!(reasons.contains(" = ") && reasons.split("; ").count() <= 2, "{reasons}");
        }
        assert!(text(REASONS, 2).expect("reasons").contains("plan = Complete (+"), "{:?}", text(REASONS, 2));
        assert_eq!(text(REMARK, 0).as_deref(), Some("plan “Platinum” never seen"));
        assert_eq!(text(REMARK, 1).as_deref(), Some("Annual Fee 900 out of range"));
        assert_eq!(text(REMARK, 2).as_deref(), Some("was in training"));
    }
}

#[test]
fn every_form_of_file_is_read_back_as_it_was() {
    let list =
        table("id,Annual Fee,plan,since\n007,150.25,Plus,2024-02-29\n008,,\"a, \"\"b\"\" ü\",1999-12-31\n009,-3,,\n");
    for form in FileFormat::ALL {
        let (read, scan) = read_table(&file(form, &list), &Unwatched).expect("read back");
        assert_eq!((scan.rejected, scan.misfit_cells), (0, 0), "{form:?}");
        for column in list.columns() {
            let there = read.column(&column.name).unwrap_or_else(|| panic!("{form:?}: {}", column.name));
            for row in 0..list.rows() {
                assert_eq!(there.text(row), column.text(row), "{form:?} {} {row}", column.name);
            }
        }
    }
    // In parts, row by row, every form is the same file.
    for form in FileFormat::ALL {
        let mut bytes = Vec::new();
        let mut rows = form.begin(&list.kinds(), 3, &mut bytes).expect("begun");
        (0..3).for_each(|row| rows.add(&list.take(&[row])).expect("added"));
        rows.finish().expect("finished");
        let (read, _) = read_table(&bytes, &Unwatched).expect("read back");
        assert_eq!(cells(&read), cells(&read_table(&file(form, &list), &Unwatched).expect("read back").0), "{form:?}");
    }
    let formula = table("note,fee\n\"=HYPERLINK(\"\"x\"\")\",1\n-2+3,2\n");
    assert!(String::from_utf8_lossy(&file(FileFormat::Csv, &formula)).contains("'=HYPERLINK"));
    let (read, _) = read_table(&file(FileFormat::Xlsx, &formula), &Unwatched).expect("read back");
    assert_eq!(read.column("note").expect("there").text(0).as_deref(), Some("=HYPERLINK(\"x\")"), "text, not run");
}

#[test]
fn a_sheet_that_is_too_small_is_said_before_anything_is_written() {
    let mut bytes = Vec::new();
    let columns = [("x".to_owned(), Kind::Number)];
    assert!(FileFormat::Xlsx.begin(&columns, 1_048_575, &mut bytes).is_ok());
    let refused = FileFormat::Xlsx.begin(&columns, 1_048_576, &mut bytes).err().expect("too long").to_string();
    assert!(refused.contains("Take CSV or Parquet") && bytes.is_empty(), "{refused}");
}

#[test]
fn customers_of_the_records_are_found_again() {
    let records = records();
    let list = records.take(&[5, 17, 800]);
    let by = ["id".to_owned()];
    let roll = Roll::of(&records, &by).expect("identified");
    assert_eq!(roll.find(&list).expect("found"), [Some(5), Some(17), Some(800)]);
    let strangers = table("id,Annual Fee\nz1,150\nz2,151\n");
    assert_eq!(roll.find(&strangers).expect("found"), [None, None]);
}

/// Both families, fitted once for all cases.
static MODELS: std::sync::LazyLock<[Model; 2]> = std::sync::LazyLock::new(|| ["logistic", "boosted"].map(model));

/// A list in which many are alike, some lack something and some are new.
fn customers(seeds: &[(u32, u8)]) -> Table {
    let mut text = String::from("id,annual_fee,plan,district\n");
    for (at, (fee, plan)) in seeds.iter().enumerate() {
        let fee = if fee % 17 == 0 { String::new() } else { fee.to_string() };
        text +=
            &format!("m{at},{fee},{},{:03}\n", ["Basic", "Plus", "Complete", "Other"][*plan as usize], 10 + fee.len());
    }
    table(&text)
}

/// Rules that count nobody, customers, money, and how many of them have the event.
fn rules() -> Vec<Rule> {
    let rule = |by, line, limits| Rule { by, line, limits, refer_from: Some(0.2) };
    vec![
        Rule::value_aware(),
        Rule::cut_off(0.4),
        rule(Order::Probability, CutOff::Customers(7.0), vec![]),
        rule(Order::GainPerCost, CutOff::Budget(60.0), vec![CutOff::Share(0.5)]),
        rule(Order::Gain, CutOff::Precision(0.4), vec![CutOff::Customers(20.0)]),
    ]
}

/// Every column of two tables, cell by cell.
fn cells(table: &Table) -> Vec<(String, Vec<Option<String>>)> {
    table.columns().iter().map(|c| (c.name.clone(), (0..c.len()).map(|row| c.text(row)).collect())).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn a_list_in_parts_is_matched_and_scored_as_the_whole(
        seeds in proptest::collection::vec((90u32..500, 0u8..4), 1..90),
        at_a_time in 1usize..40,
        rule in 0usize..5,
        first in 0usize..2,
    ) {
        let (model, list) = (&MODELS[first], customers(&seeds));
        let (whole_report, whole) = matched(model, &list);
        let mut policy = Policy {
            economics: Economics::usual(Question::Churn).chosen(),
            offers: Offers::default(),
            rule: rules()[rule].clone(),
        };
        let all: Vec<usize> = (0..list.rows()).collect();
        policy.worked_out(&whole, &all).expect("amounts");
        let population = Population::default();
        let by = Some(By::Policy { policy: &policy, population: &population, steps: &[] });
        let extras = Extras { other_probability: true, gain: true, band: true, reasons: 3, remarks: true };
        let scoring = Scoring { model, by, extras, tenths: &[0.6, 0.4] };
        let known: Vec<bool> = all.iter().map(|row| row % 5 == 0).collect();
        let expected = scoring.of(&list, &whole, &known).expect("scored");

        let columns: Vec<(String, Kind)> = list.columns().iter().map(|c| (c.name.clone(), c.kind)).collect();
        let mut matching = Matching::of(model, &[], &columns, &ColumnAnswers::new());
        let mut ahead = scoring.ahead(list.rows());
        for rows in all.chunks(at_a_time) {
            let part = list.take(rows);
            let read = matching.read(&part);
            matching.meet(&part, &read);
            ahead.meet(&scoring, &read, &[]).expect("met");
        }
        let settled = ahead.settled();
        let (mut account, mut parts) = (ScoringSummary::default(), Vec::new());
        for rows in all.chunks(at_a_time) {
            let part = list.take(rows);
            let (before, known) = (rows[0] as u64, &known[rows[0]..rows[0] + rows.len()]);
            let part = ListPart { list: &part, matched: &matching.read(&part), before, known, suppressed: &[] };
            let scored = scoring.part(part, &settled).expect("scored");
            account.add(&scored.account);
            parts.push(cells(&scored.table));
        }
        for (at, (name, cells)) in cells(&expected.table).into_iter().enumerate() {
            let found: Vec<Option<String>> = parts.iter().flat_map(|part| part[at].1.clone()).collect();
            prop_assert_eq!(found, cells, "{} in parts of {}", name, at_a_time);
        }
        let (gain, whole_gain) = (account.gain.expect("a gain"), expected.account.gain.expect("a gain"));
        prop_assert!((gain - whole_gain).abs() < 1e-9 * (1.0 + whole_gain.abs()));
        prop_assert_eq!(ScoringSummary { gain: expected.account.gain, ..account }, expected.account);
        prop_assert_eq!(matching.report(), whole_report);
    }

    #[test]
    fn whoever_is_not_to_be_contacted_is_left_alone_and_takes_nobodys_place(
        seeds in proptest::collection::vec((90u32..500, 0u8..4), 6..90),
        rule in prop::sample::select(&[0usize, 1, 2, 4][..]),
        first in 0usize..2,
        every in 2usize..5,
    ) {
        let (model, list) = (&MODELS[first], customers(&seeds));
        let (_, read) = matched(model, &list);
        let mut policy = Policy {
            economics: Economics::usual(Question::Churn).chosen(),
            offers: Offers::default(),
            rule: rules()[rule].clone(),
        };
        let all: Vec<usize> = (0..list.rows()).collect();
        policy.worked_out(&read, &all).expect("amounts");
        let population = Population::default();
        let by = Some(By::Policy { policy: &policy, population: &population, steps: &[] });
        let scoring = Scoring { model, by, extras: Extras::usual(), tenths: &[] };
        let suppressed: Vec<bool> = all.iter().map(|row| row % every == 0).collect();
        let mut ahead = scoring.ahead(list.rows());
        ahead.meet(&scoring, &read, &suppressed).expect("met");
        let part = ListPart { list: &list, matched: &read, before: 0, known: &[], suppressed: &suppressed };
        let scored = scoring.part(part, &ahead.settled()).expect("scored");

        // The others are decided on as if those were not there.
        let others: Vec<usize> = all.iter().copied().filter(|&row| !suppressed[row]).collect();
        let (fewer, fewer_read) = (list.take(&others), read.take(&others));
        let alone = scoring.of(&fewer, &fewer_read, &[]).expect("scored");
        let decisions = |table: &Table| -> Vec<Option<String>> {
            let column = table.column(DECISION).expect("decisions");
            (0..table.rows()).map(|row| column.text(row)).collect()
        };
        let (found, expected) = (decisions(&scored.table), decisions(&alone.table));
        for (at, &row) in others.iter().enumerate() {
            prop_assert_eq!(&found[row], &expected[at], "customer {}", row);
        }
        let remarks = scored.table.column(REMARK).expect("remarks");
        for row in all.into_iter().filter(|&row| suppressed[row]) {
            prop_assert_eq!(found[row].as_deref(), Some("leave"));
            prop_assert!(remarks.text(row).expect("said").starts_with("not to be contacted"));
        }
        prop_assert_eq!(scored.account.acted, alone.account.acted);
        prop_assert_eq!(scored.account.suppressed, suppressed.iter().filter(|s| **s).count() as u64);
    }

    #[test]
    fn one_customer_and_many_are_scored_the_same(fees in proptest::collection::vec(50u32..400, 2..40)) {
        let mut text = String::from("Annual Fee,plan,district\n");
        for (i, fee) in fees.iter().enumerate() {
            text += &format!("{fee},{},{:03}\n", ["Basic", "Plus", "Complete", "Other"][i % 4], 10 + i);
        }
        let list = table(&text);
        for model in MODELS.iter() {
            let (_, matched) = matched(model, &list);
            let all: Vec<usize> = (0..list.rows()).collect();
            let together = model.probabilities(&matched, &all).expect("scores");
            for row in all {
                let alone = model.probabilities(&matched, &[row]).expect("a score");
                prop_assert_eq!(alone[0], together[row]);
            }
        }
    }
}
