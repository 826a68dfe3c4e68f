//! The truths that the generator plants are found again.

use pronoia_core::evaluate::area_under_roc;
use pronoia_core::intake::{MisfitKind, read_table};
use pronoia_core::learn::{Estimator, Settings};
use pronoia_core::model::ModelError;
use pronoia_core::profile::TableProfile;
use pronoia_core::progress::Unwatched;
use pronoia_core::score::{ColumnAnswer, ColumnAnswers, MatchReport, Roll, match_list};
use pronoia_core::study::{self, Basis, ColumnRole, Outcome, Verdict};
use pronoia_core::tune::{SEARCHED, TuningMeasure, TuningPlan, TuningRun};
use pronoia_core::{Kind, Model, Table};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, KNOWN, Member, SEED, members, renewals_as_sent_csv, renewals_csv};

fn outcome() -> Outcome {
    Outcome::is("cancelled", "yes")
}

fn records(people: &[Member]) -> Table {
    read_table(&pronoia_demo::outcome_csv(people), &Unwatched).expect("the records").0
}

fn happened(people: &[Member]) -> Vec<bool> {
    people.iter().map(|m| m.cancelled).collect()
}

/// What is proposed for every column.
fn proposed(people: &[Member], table: &Table) -> Vec<study::ColumnChoice> {
    let rows: Vec<usize> = (0..table.rows()).collect();
    let areas = study::probe::areas(table, &rows, &happened(people));
    let area = |name: &str| areas.iter().find(|a| a.0 == name).map(|a| a.1);
    study::guess(&TableProfile::of(table), "cancelled", area)
}

#[test]
fn the_file_is_understood_without_a_setting() {
    let people = members(3_000, SEED, FIRST_MEMBER);
    let (table, scan) = read_table(&pronoia_demo::outcome_csv(&people), &Unwatched).expect("the records");
    assert_eq!((scan.rejected, scan.misfit_cells, table.rows()), (0, 0, 3_000));
    let kind = |name: &str| table.column(name).expect("column").kind;
    for (name, expected) in [
        ("member_id", Kind::Code),
        ("legacy_ref", Kind::Code),
        ("district", Kind::Code),
        ("newsletter", Kind::YesNo),
        ("joined_on", Kind::Date),
        ("annual_fee", Kind::Number),
        ("fee_rise_pct", Kind::Number),
        ("plan_tier", Kind::Category),
    ] {
        assert_eq!(kind(name), expected, "{name}");
    }
    for (row, m) in people.iter().enumerate() {
        assert_eq!(table.column("annual_fee").expect("fee").number(row), Some(m.annual_fee));
        assert_eq!(table.column("clinic").expect("clinic").text(row).as_deref(), Some(m.clinic));
        assert_eq!(table.column("joined_on").expect("joined").number(row), Some(f64::from(m.joined)));
    }
}

#[test]
fn every_trap_stands_under_the_right_heading() {
    let people = members(8_000, SEED, FIRST_MEMBER);
    let choices = proposed(&people, &records(&people));
    let of = |name: &str| choices.iter().find(|c| c.name == name).expect("a column");
    for name in ["legacy_ref", "currency", "note_code", "exit_survey_sent"] {
        assert_eq!(of(name).stands_under(), Verdict::ShouldNotGoIn, "{name}: {}", of(name).reason);
    }
    assert_eq!(of("days_since_last_login").stands_under(), Verdict::AskedAbout);
    assert_eq!(of("sample_weight").stands_under(), Verdict::AskedAbout);
    assert_eq!(of("member_id").role, ColumnRole::Identifier);
    assert_eq!(of("owner_age_band").role, ColumnRole::Sensitive);
    assert_eq!(of("cancelled").role, ColumnRole::Outcome);
    for name in ["months_since_visit", "declined_claims", "fee_rise_pct", "plan_tier", "newsletter_opens", "district"] {
        assert_eq!(of(name).stands_under(), Verdict::GoesIn, "{name}: {}", of(name).reason);
    }
}

#[test]
fn planted_drivers_have_the_right_sign_and_idle_columns_none() {
    let people = members(24_000, SEED, FIRST_MEMBER);
    let table = records(&people);
    let choices = proposed(&people, &table);
    let predictors: Vec<String> =
        choices.iter().filter(|c| c.stands_under() == Verdict::GoesIn).map(|c| c.name.clone()).collect();
    let rows: Vec<usize> = (0..table.rows()).collect();
    let settings = Settings::of_family("logistic").expect("family");
    let model = Model::fit(&table, &Basis::plain(outcome(), predictors.clone()), &rows, &settings, 1, &Unwatched)
        .expect("a fit");
    let Estimator::Logistic(fitted) = &model.members[0].estimator else { panic!("logistic") };
    let of = |name: &str| fitted.coefficients.iter().find(|c| c.feature == name).expect("a coefficient");
    for driver in ["months_since_visit", "declined_claims", "fee_rise_pct", "payment_method is invoice"] {
        let c = of(driver);
        assert!(c.value > 0.0 && c.p.expect("a p-value") < 1e-6, "{driver}: {c:?}");
    }
    for idle in ["newsletter_opens", "call_minutes"] {
        let c = of(idle);
        assert!(c.value.abs() < 3.3 * c.se.expect("an error"), "{idle}: {c:?}");
    }
}

#[test]
fn a_fitted_model_comes_near_the_best_that_is_possible() {
    let people = members(24_000, SEED, FIRST_MEMBER);
    let table = records(&people);
    let predictors: Vec<String> = proposed(&people, &table)
        .iter()
        .filter(|c| c.stands_under() == Verdict::GoesIn)
        .map(|c| c.name.clone())
        .collect();
    let fresh = members(20_000, SEED + 9, FIRST_RENEWAL);
    let list = records(&fresh);
    let truth: Vec<f64> = fresh.iter().map(|m| m.true_probability).collect();
    let event = happened(&fresh);
    let rows: Vec<usize> = (0..table.rows()).collect();
    let all: Vec<usize> = (0..list.rows()).collect();
    let area = |family: &str| {
        let settings = Settings::of_family(family).expect("family");
        let model = Model::fit(&table, &Basis::plain(outcome(), predictors.clone()), &rows, &settings, 1, &Unwatched)
            .expect("a fit");
        area_under_roc(&model.probabilities(&list, &all).expect("scores"), &event, None)
    };
    let best = area_under_roc(&truth, &event, None);
    let (logistic, boosted) = (area("logistic"), area("boosted"));
    println!("truth {best:.4}, logistic {logistic:.4}, boosted {boosted:.4}");
    // The best general-purpose library reaches 0.7168 on these very rows with its defaults.
    assert!(boosted > 0.7168, "boosted {boosted}");
    assert!(boosted > best - 0.025, "boosted {boosted}, best {best}");
    assert!(boosted > logistic + 0.01 && logistic > 0.70, "logistic {logistic}, boosted {boosted}");
}

/// In the long run of tests all families take part, and fresh rows are so many that chance has no say.
#[test]
fn a_search_finds_a_model_within_reach_of_the_best_that_is_possible() {
    let slow = std::env::var("PRONOIA_TEST_SLOW").is_ok();
    let people = members(24_000, SEED, FIRST_MEMBER);
    let table = records(&people);
    let predictors = proposed(&people, &table).into_iter().filter(|c| c.stands_under() == Verdict::GoesIn);
    let basis = Basis::plain(outcome(), predictors.map(|c| c.name).collect::<Vec<_>>());
    let plan = TuningPlan {
        families: if slow { SEARCHED.map(str::to_owned).to_vec() } else { vec!["scorecard".into()] },
        measure: TuningMeasure::LogLoss,
        most: if slow { 40 } else { 12 },
        minutes: None,
        seed: 1,
    };
    let rows: Vec<usize> = (0..table.rows()).collect();
    let mut search = TuningRun::new(plan).expect("a plan");
    search.run((&table, &basis, &rows), &Unwatched, &mut |_| Ok::<_, ModelError>(())).expect("searched");
    let found = &search.found().expect("a candidate").0.settings;
    let model = Model::fit(&table, &basis, &rows, found, 1, &Unwatched).expect("a fit");

    let fresh = members(if slow { 200_000 } else { 60_000 }, SEED + 9, FIRST_RENEWAL);
    let list = records(&fresh);
    let event = happened(&fresh);
    let truth: Vec<f64> = fresh.iter().map(|m| m.true_probability).collect();
    let said = model.probabilities(&list, &(0..list.rows()).collect::<Vec<_>>()).expect("scores");
    let [reached, best] = [said, truth].map(|probability| area_under_roc(&probability, &event, None));
    println!("{found:?} reaches {reached:.4}; the truth {best:.4}");
    assert!(reached > best - 0.005, "{found:?}: {reached:.4}, best {best:.4}");
    let Estimator::Scorecard(card) = &model.members[0].estimator else { panic!("a scorecard: {found:?}") };
    let mut pairs: Vec<String> = card.pairs.iter().map(|pair| pair.columns.join(" and ")).collect();
    pairs.sort();
    assert_eq!(pairs, ["species and plan_tier", "weekend_visits and moved_home"], "the two that were planted");
}

/// A model of everything that a study keeps.
fn of_everything(people: &[Member]) -> Model {
    let table = records(people);
    let predictors: Vec<String> = proposed(people, &table)
        .into_iter()
        .filter(|choice| choice.role == ColumnRole::Predictor)
        .filter(|choice| !["days_since_last_login", "exit_survey_sent", "legacy_ref"].contains(&choice.name.as_str()))
        .map(|choice| choice.name)
        .collect();
    assert!(predictors.len() >= 16 && predictors.iter().any(|name| name == "pets"), "{predictors:?}");
    let rows: Vec<usize> = (0..table.rows()).collect();
    let settings = Settings::of_family("logistic").expect("family");
    Model::fit(&table, &Basis::plain(outcome(), predictors), &rows, &settings, 1, &Unwatched).expect("a fit")
}

fn list(bytes: &[u8]) -> Table {
    read_table(bytes, &Unwatched).expect("the list").0
}

fn remarks(report: &MatchReport) -> Vec<(String, String)> {
    let said = report.inputs.iter().map(|input| (input.name.clone(), input.remarks().join("; ")));
    said.filter(|(_, remarks)| !remarks.is_empty()).collect()
}

#[test]
fn the_clean_list_matches_without_a_remark() {
    let model = of_everything(&members(6_000, SEED, FIRST_MEMBER));
    for (n, seed) in [(500, SEED + 1), (3_000, SEED + 1), (3_000, SEED + 61)] {
        let list = list(&renewals_csv(&members(n, seed, FIRST_RENEWAL)));
        let (report, _) = match_list(&model, &[], &list, &ColumnAnswers::new());
        assert!(report.is_complete());
        assert!(report.is_clean(), "{n} {seed}: {:?}", remarks(&report));
        assert!(list.column("cancelled").is_none() && list.column("exit_survey_sent").is_none());
    }
}

#[test]
fn everything_that_is_wrong_with_the_list_as_sent_is_reported_and_nothing_else() {
    let people = members(6_000, SEED, FIRST_MEMBER);
    let model = of_everything(&people);
    let fresh = members(2_800, SEED + 1, FIRST_RENEWAL);
    let sent = list(&renewals_as_sent_csv(&fresh, &people[..KNOWN]));
    let (report, _) = match_list(&model, &[], &sent, &ColumnAnswers::new());
    assert_eq!(report.lacking(), ["months_since_visit", "pets"]);
    let input = |name: &str| report.inputs.iter().find(|input| input.name == name).expect("needed");
    assert_eq!(input("months_since_visit").suggestion(), Some("Months since last visit"));
    assert_eq!(input("pets").suggestion(), None);
    let planted = |of: fn(usize) -> bool| (KNOWN..3_000).filter(|i| of(*i)).count() as u64;
    assert_eq!(input("plan_tier").unseen, [("Premium".to_owned(), planted(|i| i % 40 == 11))]);
    assert_eq!(input("annual_fee").out_of_range, planted(|i| i % 150 == 31));
    let drift = input("fee_rise_pct").drift.clone().expect("compared");
    assert!(drift.is_far() && drift.part.2 < drift.part.1 || drift.psi > 1.0, "{drift:?}");
    let said: Vec<String> = remarks(&report).into_iter().map(|(name, _)| name).collect();
    assert_eq!(said, ["plan_tier", "months_since_visit", "fee_rise_pct", "annual_fee", "pets"]);
    let by = ["member_id".to_owned()];
    let same = Roll::of(&records(&people), &by).and_then(|roll| roll.find(&sent)).expect("identified");
    let expected: Vec<Option<usize>> = (0..3_000).map(|row| (row < KNOWN).then_some(row)).collect();
    assert_eq!(same, expected);

    // Taken as suggested, customers are scored as they are on a clean list without the column that is missing.
    let answers: ColumnAnswers = [
        ("months_since_visit".into(), ColumnAnswer::Column("Months since last visit".into())),
        ("pets".into(), ColumnAnswer::Nothing),
    ]
    .into();
    let (report, columns) = match_list(&model, &[], &sent, &answers);
    assert!(report.is_complete());
    let all: Vec<Member> = people[..KNOWN].iter().chain(&fresh).cloned().collect();
    let clean = list(&renewals_csv(&all));
    let without = Table::new(clean.columns().iter().filter(|c| c.name != "pets").cloned().collect()).expect("columns");
    let answers: ColumnAnswers = [("pets".into(), ColumnAnswer::Nothing)].into();
    let (_, expected) = match_list(&model, &[], &without, &answers);
    let every: Vec<usize> = (0..3_000).collect();
    let told = |columns: &Table| model.probabilities(columns, &every).expect("scores");
    let (sent, clean) = (told(&columns), told(&expected));
    let untouched = |row: &usize| {
        let rise = all[*row].fee_rise.is_none_or(|rise| rise >= 4.0);
        rise && (*row < KNOWN || (row % 40 != 11 && row % 150 != 31))
    };
    let compared: Vec<usize> = every.iter().copied().filter(untouched).collect();
    assert!(compared.len() > 1_000);
    assert!(compared.iter().all(|&row| sent[row] == clean[row]));
}

#[test]
fn every_damage_is_found_where_it_is() {
    let people = members(2_000, SEED, FIRST_MEMBER);
    let (table, scan) = read_table(&pronoia_demo::damaged_csv(&people), &Unwatched).expect("what is left");
    let at = |line: u64| scan.misfits.iter().find(|m| m.line == line).map(|m| &m.kind);
    assert!(matches!(at(58), Some(MisfitKind::NulByte)), "{:?}", scan.misfits);
    assert!(matches!(at(119), Some(MisfitKind::Ragged { found: 28, expected: 29 })));
    assert!(matches!(at(334), Some(MisfitKind::Ragged { found: 30, .. })));
    assert!(matches!(at(905), Some(MisfitKind::Ragged { .. })));
    assert!(matches!(at(701), Some(MisfitKind::Cell { .. })));
    assert!(
        scan.misfits.iter().any(|m| m.kind == MisfitKind::OpenQuote && m.line == 1_962),
        "{:?}",
        scan.misfits.last()
    );
    assert_eq!(table.rows() as u64, scan.rows);
    assert_eq!(scan.misfits.len(), 6);
}
