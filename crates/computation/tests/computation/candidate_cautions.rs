//! What is looked for in a fitted candidate: planted, it is found; on sound candidates there is silence.

use pronoia_core::cautions::{Caution, CautionedCandidate, Remedy, look_at_candidate};
use pronoia_core::evaluate::Evaluation;
use pronoia_core::learn::{Family, Settings};
use pronoia_core::model::Recipe;
use pronoia_core::progress::Unwatched;
use pronoia_core::study::CautionKind;
use pronoia_core::study::{Basis, StudyState};
use pronoia_core::{EvaluatedModel, Model, Table};

use crate::customers::{basis, customers, every, fit_of, happened, numbers};

fn looked_at(model: &Model, evaluation: &Evaluation, basis: &Basis) -> Vec<Caution> {
    look_at_candidate(&CautionedCandidate { name: "It", model, evaluation, basis })
}

#[test]
fn sound_candidates_of_every_family_raise_nothing() {
    let (table, _) = customers(8_000, -2.0, 51);
    for family in Family::ALL {
        let settings = Settings::of_family(family.word).expect("a family");
        let judged = EvaluatedModel::fit(&table, &basis(), settings, 5, &Unwatched).expect("fitted");
        let found = looked_at(&judged.model, &Evaluation::of(&judged.probability, &judged.event), &basis());
        // Two columns of these customers tell about as much, and a single tree may ask for either.
        let found: Vec<&Caution> = found.iter().filter(|c| c.rule != CautionKind::UnstableTree).collect();
        assert!(found.is_empty(), "{}: {found:?}", family.word);
    }
}

#[test]
fn probabilities_that_do_not_hold_are_found_and_calibration_mends_them() {
    let (table, _) = customers(6_000, -2.0, 52);
    let (fresh, truth) = customers(6_000, -2.0, 53);
    let event = happened(&fresh);
    let model = fit_of(&table, &Settings::of_family("logistic").expect("a family"));
    // The order is right, and everything is said twice as surely as it should be.
    let sure = |p: f64| 1.0 / (1.0 + (-2.2 * (p / (1.0 - p)).ln()).exp());
    let too_sure: Vec<f64> = truth.iter().map(|&p| sure(p)).collect();
    let found = looked_at(&model, &Evaluation::of(&too_sure, &event), &basis());
    let [caution] = &found[..] else { panic!("one caution, not {found:?}") };
    assert_eq!((caution.rule, &caution.remedy), (CautionKind::Uncalibrated, &Remedy::Calibrate));
    assert!(caution.evidence.contains("groups of customers") && caution.evidence.contains("had the event"));
    assert!(looked_at(&model, &Evaluation::of(&truth, &event), &basis()).is_empty(), "the truth holds");
    // One that is calibrated already cannot be mended by doing it again.
    let recipe = Recipe::Calibrated { calibrated: Settings::of_family("logistic").expect("a family") };
    let calibrated = Model::fit(&table, &basis(), &every(&table), recipe, 7, &Unwatched).expect("a model");
    assert!(calibrated.members[0].calibrated.is_some());
    let found = looked_at(&calibrated, &Evaluation::of(&too_sure, &event), &basis());
    assert_eq!(found[0].remedy, Remedy::Retire);
}

#[test]
fn a_recipe_that_is_calibrated_mends_scores_that_are_too_sure() {
    // Few rows and no early end: boosted trees that know their rows by heart.
    let (table, _) = customers(3_000, -1.0, 54);
    let (fresh, _) = customers(10_000, -1.0, 55);
    let event = happened(&fresh);
    let mut boosted = Settings::of_family("boosted").expect("a family");
    for (name, value) in [("early-stopping", "no"), ("trees", "300"), ("learning-rate", "0.3")] {
        boosted.set(name, value).expect("a setting");
    }
    let raised = |recipe: Recipe| {
        let model = Model::fit(&table, &basis(), &every(&table), recipe, 7, &Unwatched).expect("a model");
        let said = model.probabilities(&fresh, &every(&fresh)).expect("scores");
        looked_at(&model, &Evaluation::of(&said, &event), &basis())
    };
    let before = raised(Recipe::One(boosted.clone()));
    assert!(before.iter().any(|c| c.rule == CautionKind::Uncalibrated), "{before:?}");
    assert_eq!(raised(Recipe::Calibrated { calibrated: boosted }), []);
}

#[test]
fn a_tree_whose_top_is_chance_is_found_and_one_whose_top_is_clear_is_not() {
    let twins = |noise: f64| -> Table {
        let (table, _) = customers(2_000, -2.0, 56);
        let straight = table.column("straight").expect("a column");
        // Nearly the same column again: either may come first.
        let mut state = 1u64;
        let mut jitter = move || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (state >> 33) as f64 / (1u64 << 31) as f64 - 0.5
        };
        let values = (0..2_000).map(|row| straight.number(row).map(|x| 4.0 * x + noise * jitter())).collect();
        table.with(numbers("straight", values))
    };
    let tree = Settings::of_family("tree").expect("a family");
    let event = |table: &Table| happened(table);
    let found = |table: &Table, predictors: &[&str]| {
        let basis = Basis { predictors: predictors.iter().map(|&p| p.to_owned()).collect(), ..basis() };
        let model = Model::fit(table, &basis, &every(table), &tree, 7, &Unwatched).expect("a model");
        let said = model.probabilities(table, &every(table)).expect("scores");
        looked_at(&model, &Evaluation::of(&said, &event(table)), &basis)
    };
    let clear = found(&twins(0.0), &["straight", "idle_0", "idle_1"]);
    assert!(clear.iter().all(|c| c.rule != CautionKind::UnstableTree), "{clear:?}");
    let table = twins(0.0);
    let twin: Vec<Option<f64>> = (0..2_000)
        .map(|row| {
            let x = table.column("straight").and_then(|c| c.number(row))?;
            Some(x + table.column("idle_0").and_then(|c| c.number(row))? * 0.2)
        })
        .collect();
    let both = table.with(numbers("twin", twin));
    let doubtful = found(&both, &["straight", "twin", "idle_1"]);
    let caution = doubtful.iter().find(|c| c.rule == CautionKind::UnstableTree).expect("a caution");
    assert!(caution.evidence.contains("straight") && caution.evidence.contains("twin"), "{}", caution.evidence);
    assert_eq!(caution.remedy, Remedy::FitForest);
}

#[test]
fn few_events_are_said_and_judging_every_row_in_turn_ends_it() {
    let (table, _) = customers(400, -2.8, 57);
    let logistic = Settings::of_family("logistic").expect("a family");
    let judged = EvaluatedModel::fit(&table, &basis(), logistic.clone(), 5, &Unwatched).expect("fitted");
    let evaluation = Evaluation::of(&judged.probability, &judged.event);
    let found = looked_at(&judged.model, &evaluation, &basis());
    let caution = found.iter().find(|c| c.rule == CautionKind::FewEvents).expect("a caution");
    assert!(caution.evidence.contains(&format!("{} had the event", evaluation.events)), "{}", caution.evidence);
    let mut state = StudyState::default();
    assert!(caution.concerns(&state));
    caution.remedy.apply(&mut state);
    assert!(caution.remedy.is_taken(&state) && !caution.concerns(&state));
    let mut in_turn = basis();
    in_turn.split = state.split;
    let judged = EvaluatedModel::fit(&table, &in_turn, logistic, 5, &Unwatched).expect("fitted");
    let found = looked_at(&judged.model, &Evaluation::of(&judged.probability, &judged.event), &in_turn);
    assert!(found.iter().all(|c| c.rule != CautionKind::FewEvents), "{found:?}");
}
