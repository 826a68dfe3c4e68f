//! Pairs of columns on a scorecard: found where they say something, and nowhere else.

use pronoia_core::evaluate::area_under_roc;
use pronoia_core::learn::scorecard::Scorecard;
use pronoia_core::learn::{Estimator, Settings};
use pronoia_core::progress::Unwatched;
use pronoia_core::study::Basis;
use pronoia_core::{Column, Model, Table};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::customers::{every, happened, numbers, outcome, words};

const COLUMNS: [&str; 7] = ["moved", "weekend", "age", "fee", "visits", "clinic", "letter"];

/// Customers of whom those leave who moved or came on weekends, but not both, and those of an age
/// in the middle whose fee is high; by itself, next to nothing says anything.
fn customers(n: usize, together: f64, seed: u64) -> (Table, Vec<f64>) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut drawn = || (0..n).map(|_| rng.random::<f64>()).collect::<Vec<f64>>();
    let (moved, weekend, age, fee, visits, clinic, letter, out) =
        (drawn(), drawn(), drawn(), drawn(), drawn(), drawn(), drawn(), drawn());
    let yes = |x: f64| if x < 0.5 { "yes" } else { "no" };
    let truth = (0..n).map(|i| {
        let xor = f64::from(u8::from((moved[i] < 0.5) != (weekend[i] < 0.5))) - 0.5;
        let product = (age[i] - 0.5) * (fee[i] - 0.5) * 8.0;
        1.0 / (1.0 + (1.2 - together * (2.0 * xor + product)).exp())
    });
    let truth: Vec<f64> = truth.collect();
    let left: Vec<&str> = truth.iter().zip(&out).map(|(p, x)| if x < p { "yes" } else { "no" }).collect();
    let towns = ["Ash", "Birch", "Elm", "Oak", "Yew"];
    let columns: Vec<Column> = vec![
        words("moved", moved.iter().map(|&x| yes(x)).collect()),
        words("weekend", weekend.iter().map(|&x| yes(x)).collect()),
        numbers("age", age.iter().map(|&x| Some(x)).collect()),
        numbers("fee", fee.iter().map(|&x| (x < 0.97).then_some(x)).collect()),
        numbers("visits", visits.iter().map(|&x| Some((x * 6.0).floor())).collect()),
        words("clinic", clinic.iter().map(|&x| towns[(x * 5.0) as usize]).collect()),
        words("letter", letter.iter().map(|&x| yes(x)).collect()),
        words("left", left),
    ];
    (Table::new(columns).expect("a table"), truth)
}

fn fitted(table: &Table, pairs: &str) -> Model {
    let mut settings = Settings::of_family("scorecard").expect("a family");
    settings.set("pairs", pairs).expect("a setting");
    let basis = Basis::plain(outcome(), COLUMNS.map(str::to_owned));
    Model::fit(table, &basis, &every(table), &settings, 1, &Unwatched).expect("a model")
}

fn card(model: &Model) -> &Scorecard {
    let Estimator::Scorecard(card) = &model.members[0].estimator else { panic!("a scorecard") };
    card
}

fn area(model: &Model, of: &Table) -> f64 {
    area_under_roc(&model.probabilities(of, &every(of)).expect("scores"), &happened(of), None)
}

#[test]
fn what_says_something_only_together_is_found_and_nothing_else() {
    let ((table, _), (fresh, truth)) = (customers(6_000, 1.0, 1), customers(20_000, 1.0, 2));
    let (alone, together) = (fitted(&table, "0"), fitted(&table, "10"));
    let mut found: Vec<&[String; 2]> = card(&together).pairs.iter().map(|pair| &pair.columns).collect();
    found.sort();
    assert_eq!(found, [&["age", "fee"].map(String::from), &["moved", "weekend"].map(String::from)]);
    assert!(area(&alone, &fresh) < 0.55, "{}", area(&alone, &fresh));
    let (reached, best) = (area(&together, &fresh), area_under_roc(&truth, &happened(&fresh), None));
    // Cells make steps of what has none: that costs less than a twentieth of what can be told.
    assert!(reached - 0.5 > 0.95 * (best - 0.5), "{reached} of {best}");
    assert_eq!(card(&fitted(&table, "1")).pairs.len(), 1, "no more than asked for");
}

#[test]
fn chance_puts_no_pair_on_the_card() {
    let found: usize = (0..30).map(|seed| card(&fitted(&customers(2_000, 0.0, 100 + seed).0, "10")).pairs.len()).sum();
    assert!(found <= 1, "{found} in 30 tables, where one in a hundred tables should have one");
}

#[test]
fn points_add_up_with_pairs_and_threads_do_not_matter() {
    let table = customers(3_000, 1.0, 5).0;
    let model = fitted(&table, "10");
    let design = model.members[0].preparation.apply(&table, &every(&table)).expect("prepared");
    let card = card(&model);
    assert!(!card.pairs.is_empty());
    let mut points = vec![0.0; table.rows()];
    for column in &card.columns {
        let said = column.bands.evidence(&design.features()[column.feature].values, design.rows());
        points.iter_mut().zip(said).for_each(|(sum, e)| *sum += card.points_of(column.weight, e));
    }
    for pair in &card.pairs {
        points.iter_mut().zip(pair.evidence(&design)).for_each(|(sum, e)| *sum += card.points_of(pair.weight, e));
    }
    for (points, log_odds) in points.iter().zip(card.log_odds(&design)) {
        assert!((points - card.points(log_odds)).abs() < 1e-9);
    }
    for threads in [1, 2, 4] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
        let again = pool.install(|| fitted(&table, "10"));
        assert_eq!(again.to_bytes().expect("saved"), model.to_bytes().expect("saved"), "{threads} threads");
    }
}

#[test]
fn customers_unlike_any_seen_fall_into_a_cell_too() {
    let table = customers(3_000, 1.0, 7).0;
    let model = fitted(&table, "10");
    let strange = customers(50, 1.0, 8)
        .0
        .with(words("moved", vec!["perhaps"; 50]))
        .with(numbers("fee", vec![None; 50]))
        .with(numbers("age", vec![Some(1e12); 50]));
    let said = model.probabilities(&strange, &every(&strange)).expect("scores");
    assert!(said.iter().all(|p| *p > 0.0 && *p < 1.0), "{said:?}");
}
