//! Several models asked together: what each counts for, and what that is worth.

use pronoia_core::Model;
use pronoia_core::evaluate::log_loss;
use pronoia_core::learn::{Family, Settings};
use pronoia_core::model::{Ensemble, Mix, Recipe};
use pronoia_core::progress::Unwatched;

use crate::customers::{basis, customers, every, fit_of, happened, quick};

fn of(words: &[&str], mix: Mix) -> Recipe {
    let members = words.iter().map(|word| quick(Family::of(word).expect("a family"))).collect();
    Recipe::Blend(Ensemble::new(mix, members).expect("a blend"))
}

fn blended(recipe: &Recipe, rows: usize, seed: u64) -> Model {
    let (table, _) = customers(rows, -2.5, seed);
    Model::fit(&table, &basis(), &every(&table), recipe, 7, &Unwatched).expect("a blend")
}

#[test]
fn together_they_tell_at_least_as_well_as_the_best_of_them() {
    let (fresh, _) = customers(20_000, -2.5, 99);
    let event = happened(&fresh);
    let (table, _) = customers(5_000, -2.5, 1);
    let words = ["logistic", "scorecard", "boosted"];
    let loss = |model: &Model| log_loss(&model.probabilities(&fresh, &every(&fresh)).expect("scores"), &event, None);
    let alone = words.map(|word| loss(&fit_of(&table, &quick(Family::of(word).expect("a family")))));
    let best = alone.into_iter().fold(f64::INFINITY, f64::min);
    let stacked = blended(&of(&words, Mix::Stacked), 5_000, 1);
    let told = stacked.blended.as_ref().expect("a blend");
    assert!(loss(&stacked) < best + 0.0005, "{} against {alone:?}", loss(&stacked));
    // What it promises of itself, on rows that nothing had met, it keeps.
    assert!((told.loss - loss(&stacked)).abs() < 0.015, "{} promised, {} found", told.loss, loss(&stacked));
    assert!(told.shares.iter().all(|&share| share >= 0.0) && told.rows == 5_000);
    let average = blended(&of(&words, Mix::Average), 5_000, 1);
    let shares = &average.blended.as_ref().expect("a blend").shares;
    assert!(shares.windows(2).all(|pair| pair[0] == pair[1]), "{shares:?}");
    assert!(loss(&average) < alone.into_iter().fold(0.0, f64::max), "better than the worst");
}

#[test]
fn a_member_that_tells_nothing_more_counts_for_nothing() {
    // A tree of two leaves knows less than boosted trees, and nothing else.
    let mut stump = Settings::of_family("tree").expect("a family");
    stump.set("leaves", "2").expect("a setting");
    let boosted = Settings::of_family("boosted").expect("a family");
    let recipe = Recipe::Blend(Ensemble::new(Mix::Stacked, vec![boosted, stump]).expect("a blend"));
    let model = blended(&recipe, 8_000, 3);
    let told = model.blended.expect("a blend");
    assert!(told.shares[1] < 0.25 && told.shares[0] > 0.75, "{told:?}");
    assert!(told.losses[0] < told.losses[1]);
}

#[test]
fn a_blend_is_saved_read_back_and_the_same_for_any_number_of_threads() {
    let recipe = of(&["scorecard", "forest", "bayes"], Mix::Stacked);
    let bytes = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
        pool.install(|| blended(&recipe, 2_000, 5).to_bytes().expect("bytes"))
    };
    let one = bytes(1);
    assert!(one == bytes(3));
    let model = Model::from_bytes(&one).expect("a model");
    let (table, _) = customers(500, -2.5, 6);
    let p = model.probabilities(&table, &every(&table)).expect("scores");
    let again = blended(&recipe, 2_000, 5).probabilities(&table, &every(&table)).expect("scores");
    assert_eq!(p, again);
    let names: Vec<&str> = model.inputs().map(|input| input.name.as_str()).collect();
    assert_eq!(names.len(), 7, "every column once: {names:?}");
}

#[test]
fn one_model_or_the_same_twice_is_no_blend() {
    let scorecard = || Settings::of_family("scorecard").expect("a family");
    let refused = |members| Ensemble::new(Mix::Average, members).expect_err("no blend");
    assert!(refused(vec![scorecard()]).contains("2 to 8 members; 1 were chosen"));
    assert!(refused(vec![scorecard(), scorecard()]).contains("scorecard with the same settings"));
    assert!("median".parse::<Mix>().expect_err("no mix").contains("average or stacked"));
}

#[test]
fn what_is_written_down_of_a_recipe_is_read_as_it_was() {
    let one = Recipe::One(Settings::of_family("boosted").expect("a family"));
    let calibrated = Recipe::Calibrated { calibrated: Settings::of_family("logistic").expect("a family") };
    for recipe in [one, calibrated, of(&["logistic", "svm"], Mix::Average)] {
        let text = serde_json::to_string(&recipe).expect("text");
        assert_eq!(serde_json::from_str::<Recipe>(&text).expect("a recipe"), recipe, "{text}");
    }
}
