//! A search finds what is better than proposed, and the same again.

use pronoia_core::decide::Payoff;
use pronoia_core::evaluate::log_loss;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::model::ModelError;
use pronoia_core::progress::Unwatched;
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::tune::{Ended, TriedCandidate, TuningMeasure, TuningPlan, TuningRun};
use pronoia_core::{Model, Table};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// Many columns of which few matter, and few rows: a plain fit learns noise by heart.
fn customers(rows: usize, seed: u64) -> Table {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let names: Vec<String> = (0..30).map(|i| format!("x{i}")).collect();
    let mut csv = format!("{},left\n", names.join(","));
    for _ in 0..rows {
        let x: Vec<f64> = (0..30).map(|_| rng.random::<f64>() * 2.0 - 1.0).collect();
        let eta = -1.0 + 1.5 * x[0] - 1.2 * x[1] + 0.8 * x[2];
        let left = rng.random::<f64>() < 1.0 / (1.0 + (-eta).exp());
        let written: Vec<String> = x.iter().map(|v| format!("{v:.4}")).collect();
        csv += &format!("{},{}\n", written.join(","), if left { "yes" } else { "no" });
    }
    read_table(csv.as_bytes(), &Unwatched).expect("a table").0
}

fn basis() -> Basis {
    Basis::plain(Outcome::is("left", "yes"), (0..30).map(|i| format!("x{i}")).collect::<Vec<_>>())
}

fn plan(families: &[&str], most: usize) -> TuningPlan {
    let families = families.iter().map(|f| (*f).to_owned()).collect();
    TuningPlan { families, measure: TuningMeasure::LogLoss, most, minutes: None, seed: 9 }
}

/// What was tried is not needed by anybody.
fn forgotten(_: &TuningRun) -> Result<(), ModelError> {
    Ok(())
}

fn searched(table: &Table, plan: TuningPlan) -> TuningRun {
    let mut search = TuningRun::new(plan).expect("a search");
    let rows: Vec<usize> = (0..table.rows()).collect();
    search.run((table, &basis(), &rows), &Unwatched, &mut forgotten).expect("it ends");
    search
}

#[test]
fn it_finds_a_penalty_that_tells_fresh_customers_better_than_none() {
    let (table, fresh) = (customers(600, 1), customers(8_000, 2));
    let search = searched(&table, plan(&["logistic"], 20));
    let best = search.best().expect("a best");
    assert!(best.loss() < search.tried[0].loss(), "{} against {}", best.loss(), search.tried[0].loss());
    let every = |t: &Table| (0..t.rows()).collect::<Vec<usize>>();
    let event: Vec<bool> =
        basis().outcome.read(&fresh).expect("the outcome").into_iter().map(|e| e == Some(true)).collect();
    let on_fresh = |settings: &Settings| {
        let model = Model::fit(&table, &basis(), &every(&table), settings, 1, &Unwatched).expect("a model");
        log_loss(&model.probabilities(&fresh, &every(&fresh)).expect("scores"), &event, None)
    };
    let (found, proposed) = (on_fresh(&best.settings), on_fresh(&search.tried[0].settings));
    assert!(found < proposed - 0.005, "{found:.4} against {proposed:.4}");
}

#[test]
fn broken_off_anywhere_it_goes_on_as_if_it_had_not_been() {
    let table = customers(300, 3);
    let whole = searched(&table, plan(&["logistic", "bayes", "scorecard"], 12));
    let settings = |s: &TuningRun| s.tried.iter().map(|t| (t.settings.clone(), t.by_fold.clone())).collect::<Vec<_>>();
    for cut in [0, 2, 3, 7] {
        // Saved while it runs, and read again as by a server that was killed right then.
        let rows: Vec<usize> = (0..table.rows()).collect();
        let mut search = TuningRun { tried: Vec::new(), ..whole.clone() };
        let mut saved = serde_json::to_string(&search).expect("saved");
        let mut keep = |so_far: &TuningRun| {
            if so_far.tried.len() <= cut {
                saved = serde_json::to_string(so_far).expect("saved");
                return Ok(());
            }
            Err(ModelError::Population("the server is gone".into()))
        };
        assert!(search.run((&table, &basis(), &rows), &Unwatched, &mut keep).is_err(), "broken off");
        let mut again: TuningRun = serde_json::from_str(&saved).expect("read");
        assert_eq!(again.tried.len(), cut);
        again.run((&table, &basis(), &rows), &Unwatched, &mut forgotten).expect("it ends");
        assert_eq!(settings(&again), settings(&whole), "cut after {cut}");
    }
    for threads in [1, 4] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
        let again = pool.install(|| searched(&table, plan(&["logistic", "bayes", "scorecard"], 12)));
        assert_eq!(settings(&again), settings(&whole), "{threads} threads");
    }
}

#[test]
fn what_cannot_be_told_from_the_best_and_is_easier_to_read_is_taken() {
    let tried = |word: &str, by_fold: [f64; 4]| {
        let settings = Settings::of_family(word).expect("a family");
        TriedCandidate { settings, by_fold: by_fold.to_vec(), seconds: 1.0, failed: None }
    };
    let of = |tried: Vec<TriedCandidate>| TuningRun {
        tried,
        ..TuningRun::new(plan(&["logistic", "network"], 9)).expect("a search")
    };
    let network = tried("network", [0.50, 0.40, 0.45, 0.47]);
    let taken = |search: &TuningRun| search.found().expect("something").0.settings.family().word;
    // Behind by 0.002 ± 0.0025: that may be chance. Behind by 0.002 in every part: that is none.
    let near = of(vec![tried("logistic", [0.508, 0.397, 0.454, 0.469]), network.clone()]);
    assert_eq!((taken(&near), near.best().expect("the best").settings.family().word), ("logistic", "network"));
    let (_, behind) = near.found().expect("something");
    assert!((behind.by - 0.002).abs() < 1e-12 && (behind.error - 0.002_483).abs() < 1e-6, "{behind:?}");
    let far = of(vec![tried("logistic", [0.502, 0.402, 0.452, 0.472]), network.clone()]);
    assert_eq!(taken(&far), "network");
    let given_up = of(vec![TriedCandidate { by_fold: vec![0.1], ..tried("logistic", [0.0; 4]) }, network]);
    assert_eq!(taken(&given_up), "network", "what was given up is never taken");
    assert!(of(Vec::new()).found().is_none());
}

#[test]
fn it_ends_when_its_budget_is_spent_or_more_does_not_help() {
    let table = customers(200, 5);
    let mut search = searched(&table, plan(&["bayes"], 3));
    assert_eq!((search.tried.len(), search.ended(0.0)), (3, Some(Ended::Candidates)));
    search.plan.most = 1_000;
    search.plan.minutes = Some(5.0);
    assert_eq!((search.ended(4.9), search.ended(5.0)), (None, Some(Ended::Time)));
    search.plan.minutes = None;
    let rows: Vec<usize> = (0..table.rows()).collect();
    let ended = search.run((&table, &basis(), &rows), &Unwatched, &mut forgotten).expect("it ends");
    assert_eq!(ended, Ended::NothingMore);
    assert!(search.tried.len() < 200, "{}", search.tried.len());
    for (families, most, minutes) in
        [(vec![], 3, None), (vec!["oracle"], 3, None), (vec!["bayes"], 0, None), (vec!["bayes"], 3, Some(0.0))]
    {
        assert!(
            TuningRun::new(TuningPlan { minutes, ..plan(&families, most) }).is_err(),
            "{families:?} {most} {minutes:?}"
        );
    }
}

#[test]
fn money_is_counted_at_the_best_cut_off_without_parting_equals() {
    let measure = TuningMeasure::Profit(Payoff { event: 10.0, other: -3.0 });
    let (event, p) = ([true, false, true, false, false], [0.9, 0.5, 0.5, 0.2, 0.1]);
    // The first three bring 10 − 3 + 10 = 17; the second and third cannot be parted.
    assert!((measure.loss(&p, &event) + 17.0 * 200.0).abs() < 1e-9);
    assert_eq!(measure.loss(&[0.9, 0.1], &[false, false]), 0.0, "where nothing pays, nothing is lost");
}
