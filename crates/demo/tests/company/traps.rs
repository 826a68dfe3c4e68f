//! Each trap that the generator plants is raised, and what a leak is worth is known.

use pronoia_core::cautions::{Caution, CautionInput, look};
use pronoia_core::evaluate::area_under_roc;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::profile::TableProfile;
use pronoia_core::progress::Unwatched;
use pronoia_core::question::Question;
use pronoia_core::split::Split;
use pronoia_core::study::CautionKind;
use pronoia_core::study::{self, Basis, Outcome, StudyState};
use pronoia_core::{Model, Table};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, Member, SEED, members};

const MEMBERS: usize = 24_000;

/// Members whom nobody has seen, to measure areas on.
const FRESH: usize = 40_000;

fn outcome() -> Outcome {
    Outcome::is("cancelled", "yes")
}

fn records(people: &[Member]) -> Table {
    read_table(&pronoia_demo::outcome_csv(people), &Unwatched).expect("the records").0
}

/// A study of the members as it is proposed, dealt out as usual.
fn study_of(table: &Table) -> (StudyState, Split, Vec<Option<bool>>) {
    let happened = outcome().read(table).expect("the outcome");
    let mut state = StudyState { outcome: Some(outcome()), ..StudyState::default() };
    let dealt = state.split.deal(table, &happened).expect("parts");
    let event: Vec<bool> = dealt.training.iter().map(|&row| happened[row] == Some(true)).collect();
    let areas = study::probe::areas(table, &dealt.training, &event);
    let area = |name: &str| areas.iter().find(|a| a.0 == name).map(|a| a.1);
    state.columns = study::guess(&TableProfile::of(table), "cancelled", area);
    (state, dealt, happened)
}

fn cautions(table: &Table, question: Question) -> Vec<Caution> {
    let (state, dealt, happened) = study_of(table);
    let profile = TableProfile::of(table);
    look(&CautionInput { table, happened: &happened, dealt: &dealt, profile: &profile, state: &state, question })
}

#[test]
fn every_planted_trap_is_raised_and_nothing_else() {
    let table = records(&members(MEMBERS, SEED, FIRST_MEMBER));
    let raised = cautions(&table, Question::Churn);
    let mut found: Vec<(&str, CautionKind)> = raised.iter().map(|c| (c.about.as_str(), c.rule)).collect();
    found.sort_by_key(|f| f.0);
    assert_eq!(
        found,
        [
            ("currency", CautionKind::NoInformation),
            ("days_since_last_login", CautionKind::KnownAfterwards),
            ("exit_survey_sent", CautionKind::KnownAfterwards),
            ("legacy_ref", CautionKind::NoInformation),
            ("note_code", CautionKind::NoInformation),
            ("retired_discount", CautionKind::StandIn),
        ],
        "{raised:#?}"
    );
    let evidence = |name: &str| &raised.iter().find(|c| c.about == name).expect("a caution").evidence;
    // 0.5 + (0.96 − 0.01) / 2 = 0.975 is what the generator's rates of sending give.
    assert!(
        evidence("exit_survey_sent").contains("98 of 100 pairs")
            || evidence("exit_survey_sent").contains("97 of 100 pairs")
    );
    assert!(evidence("retired_discount").contains("of owner_age_band"));
}

#[test]
fn members_with_several_rows_would_be_noticed() {
    let mut people = members(4_000, SEED, FIRST_MEMBER);
    for at in 0..400 {
        people[2_000 + at].id = people[at].id;
    }
    let raised = cautions(&records(&people), Question::Churn);
    let repeated = raised.iter().find(|c| c.rule == CautionKind::RepeatedCustomers).expect("a caution");
    assert_eq!(repeated.about, "member_id");
    assert!(
        repeated.evidence.contains("Of 3\u{202f}600 customers")
            && repeated.evidence.contains(", 400 have several rows")
    );
}

/// Log-odds that the generator itself would give somebody who knows the column.
fn knowing(m: &Member, column: &str) -> f64 {
    let prior = (m.true_probability / (1.0 - m.true_probability)).ln();
    match column {
        "exit_survey_sent" if m.exit_survey => prior + (0.96f64 / 0.01).ln(),
        "exit_survey_sent" => prior + (0.04f64 / 0.99).ln(),
        // Days of those who stay fall off as exp(−d / 25); of those who left, up to 30 are added evenly.
        "days_since_last_login" => {
            let days = f64::from(m.days_since_login);
            let left = |d: f64| 1.0 - (-d / 25.0).exp();
            let shifted = |d: f64| {
                let steps = 300;
                (0..steps).map(|i| left((d - 30.0 * (f64::from(i) + 0.5) / f64::from(steps)).max(0.0))).sum::<f64>()
                    / f64::from(steps)
            };
            prior + ((shifted(days + 1.0) - shifted(days)) / (left(days + 1.0) - left(days))).ln()
        }
        _ => prior,
    }
}

/// The area on members nobody has seen falls by what the generator says when a leak is left out.
#[test]
fn leaving_a_leak_out_takes_away_what_the_generator_predicts() {
    let people = members(MEMBERS, SEED, FIRST_MEMBER);
    let table = records(&people);
    let (state, dealt, _) = study_of(&table);
    let basis = state.basis().expect("an outcome");
    let known: Vec<String> = basis
        .predictors
        .iter()
        .filter(|name| {
            !["exit_survey_sent", "days_since_last_login", "legacy_ref", "currency"].contains(&name.as_str())
        })
        .cloned()
        .collect();
    let fresh = members(FRESH, SEED + 9, FIRST_RENEWAL);
    let later = records(&fresh);
    let every: Vec<usize> = (0..FRESH).collect();
    let event: Vec<bool> = fresh.iter().map(|m| m.cancelled).collect();
    let settings = Settings::of_family("boosted").expect("a family");
    let fitted = |extra: &[&str]| {
        let predictors: Vec<String> = known.iter().cloned().chain(extra.iter().map(|e| (*e).to_owned())).collect();
        let basis = Basis::plain(outcome(), predictors);
        let model = Model::fit(&table, &basis, &dealt.training, &settings, 1, &Unwatched).expect("a model");
        area_under_roc(&model.probabilities(&later, &every).expect("probabilities"), &event, None)
    };
    let predicted = |column: &str| {
        let log_odds: Vec<f64> = fresh.iter().map(|m| knowing(m, column)).collect();
        area_under_roc(&log_odds, &event, None)
    };
    // What a model has not learned without the leak it lacks with it too, or less.
    let (without, truth) = (fitted(&[]), predicted(""));
    assert!((without - truth).abs() < 0.035, "{without:.4} against {truth:.4}");
    for leak in ["exit_survey_sent", "days_since_last_login"] {
        let (with, said) = (fitted(&[leak]), predicted(leak));
        println!(
            "{leak}: left out, the area falls from {with:.4} to {without:.4}; the generator says {said:.4} to {truth:.4}"
        );
        assert!((with - said).abs() < 0.035 && with - without > 0.8 * (said - truth), "{leak}: {with:.4}, {said:.4}");
    }
}
