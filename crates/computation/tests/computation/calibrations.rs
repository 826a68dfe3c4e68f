//! Maps from scores to probabilities: what they undo, what they never do, and how one is chosen.

use pronoia_core::calibrate::{Calibration, CalibrationMap};
use pronoia_core::learn::{FitError, Target};
use pronoia_core::split::folds;
use proptest::prelude::*;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

const MAPS: [CalibrationMap; 3] = [CalibrationMap::Sigmoid, CalibrationMap::Beta, CalibrationMap::Isotonic];

fn sigmoid(log_odds: f64) -> f64 {
    1.0 / (1.0 + (-log_odds).exp())
}

/// True log-odds, and outcomes drawn by them.
fn customers(rows: usize, seed: u64) -> (Vec<f64>, Vec<bool>) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let log_odds: Vec<f64> =
        (0..rows).map(|_| -1.5 + 3.0 * (rng.random::<f64>() + rng.random::<f64>() - 1.0)).collect();
    let event = log_odds.iter().map(|&eta| rng.random::<f64>() < sigmoid(eta)).collect();
    (log_odds, event)
}

fn loss(log_odds: impl Iterator<Item = f64>, event: &[bool]) -> f64 {
    let each = |(eta, &e): (f64, &bool)| -if e { sigmoid(eta).ln() } else { sigmoid(-eta).ln() };
    log_odds.zip(event).map(each).sum::<f64>() / event.len() as f64
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn no_map_ever_turns_two_customers_round(
        rows in prop::collection::vec((-6.0..6.0f64, any::<bool>()), 30..200), kind in prop::sample::select(&MAPS[..]),
    ) {
        let (score, event): (Vec<f64>, Vec<bool>) = rows.into_iter().unzip();
        prop_assume!(event.contains(&true) && event.contains(&false));
        let map = Calibration::fit(kind, &score, &Target::plain(event.clone())).expect("both outcomes").expect("a map");
        let mut sorted = score.clone();
        sorted.extend([-40.0, 40.0, 0.0]);
        sorted.sort_unstable_by(f64::total_cmp);
        let mapped: Vec<f64> = sorted.iter().map(|&eta| map.apply(eta)).collect();
        prop_assert!(mapped.iter().all(|eta| eta.is_finite()), "nobody is certain: {mapped:?}");
        prop_assert!(mapped.windows(2).all(|w| w[0] <= w[1] + 1e-9), "{kind:?} {mapped:?}");
        let text = serde_json::to_string(&map).expect("written");
        prop_assert_eq!(serde_json::from_str::<Calibration>(&text).expect("read"), map);
    }

    #[test]
    fn a_map_says_on_average_what_happened(
        rows in prop::collection::vec((-4.0..4.0f64, any::<bool>()), 40..200), kind in prop::sample::select(&MAPS[..2]),
    ) {
        let (score, event): (Vec<f64>, Vec<bool>) = rows.into_iter().unzip();
        prop_assume!(event.contains(&true) && event.contains(&false));
        let map = Calibration::fit(kind, &score, &Target::plain(event.clone())).expect("both outcomes").expect("a map");
        let said = score.iter().map(|&eta| sigmoid(map.apply(eta))).sum::<f64>() / score.len() as f64;
        let happened = event.iter().filter(|&&e| e).count() as f64 / event.len() as f64;
        // Whatever is fitted by likelihood with a constant adds up; separable rows are held in by a penalty.
        prop_assert!((said - happened).abs() < 0.02, "{kind:?}: {said} {happened}");
    }

    #[test]
    fn a_row_that_counts_twice_counts_as_two(
        rows in prop::collection::vec((-3i8..3, any::<bool>(), 1usize..4), 30..120), kind in prop::sample::select(&MAPS[..]),
    ) {
        let score: Vec<f64> = rows.iter().map(|row| f64::from(row.0)).collect();
        let event: Vec<bool> = rows.iter().map(|row| row.1).collect();
        prop_assume!(event.contains(&true) && event.contains(&false));
        let weighted = Target { weight: Some(rows.iter().map(|row| row.2 as f64).collect()), ..Target::plain(event.clone()) };
        let many: Vec<usize> = rows.iter().enumerate().flat_map(|(at, row)| vec![at; row.2]).collect();
        let repeated = Target::plain(many.iter().map(|&at| event[at]).collect());
        let all: Vec<f64> = many.iter().map(|&at| score[at]).collect();
        let one = Calibration::fit(kind, &score, &weighted).expect("both outcomes").expect("a map");
        let other = Calibration::fit(kind, &all, &repeated).expect("both outcomes").expect("a map");
        for eta in [-3.0, -1.0, 0.0, 0.5, 2.0] {
            prop_assert!((one.apply(eta) - other.apply(eta)).abs() < 1e-4, "{kind:?} at {eta}");
        }
    }
}

#[test]
fn a_distortion_of_its_own_kind_is_undone() {
    let (truth, event) = customers(60_000, 1);
    let target = Target::plain(event.clone());
    let best = loss(truth.iter().copied(), &event);
    // Twice too sure and shifted; bent at one end; squeezed in steps.
    type Distortion = (&'static str, fn(f64) -> f64, CalibrationMap);
    let distortions: [Distortion; 3] = [
        ("too sure", |eta| 2.0 * eta + 1.0, CalibrationMap::Sigmoid),
        (
            "bent",
            |eta| {
                let p = sigmoid(eta).powf(2.5);
                (p / (1.0 - p)).ln()
            },
            CalibrationMap::Beta,
        ),
        ("in steps", |eta| eta.powi(3) + 4.0, CalibrationMap::Isotonic),
    ];
    for (name, distort, kind) in distortions {
        let score: Vec<f64> = truth.iter().map(|&eta| distort(eta)).collect();
        let map = Calibration::fit(kind, &score, &target).expect("both outcomes").expect("a map");
        let (before, after) =
            (loss(score.iter().copied(), &event), loss(score.iter().map(|&eta| map.apply(eta)), &event));
        println!("{name}: log loss {before:.4} before, {after:.4} after, {best:.4} at best");
        assert!(before > best + 0.02, "{name} is a distortion");
        assert!(after < best + 0.001, "{name} is undone");
        let (fresh, later) = customers(60_000, 2);
        let fresh: Vec<f64> = fresh.iter().map(|&eta| map.apply(distort(eta))).collect();
        let off = fresh.iter().map(|&eta| sigmoid(eta)).sum::<f64>() / 60_000.0
            - later.iter().filter(|&&e| e).count() as f64 / 60_000.0;
        assert!(off.abs() < 0.006, "{name}: on fresh customers, too, {off}");
    }
}

#[test]
fn scores_that_hold_already_are_left_or_hardly_touched() {
    let (truth, event) = customers(20_000, 3);
    let target = Target::plain(event.clone());
    let (map, chosen) = Calibration::choose(&truth, &target, &folds(&event, 5, 1)).expect("both outcomes");
    assert_eq!(chosen.losses.len(), 4, "all are tried: {chosen:?}");
    assert_eq!(chosen.rows, 20_000);
    let kept = chosen.loss(chosen.kind).expect("it was tried");
    assert!(chosen.losses.iter().all(|(_, loss)| *loss >= kept), "the one that tells other rows best is kept");
    assert!(chosen.loss(CalibrationMap::AsTheyAre).expect("tried") - kept < 0.0005, "{chosen:?}");
    for eta in [-3.0, -1.5, 0.0, 1.0] {
        let mapped = map.as_ref().map_or(eta, |map| map.apply(eta));
        assert!((sigmoid(mapped) - sigmoid(eta)).abs() < 0.03, "{eta}: {mapped}");
    }
}

#[test]
fn with_few_events_no_more_than_a_line_is_believed() {
    let (truth, event) = customers(120, 4);
    let target = Target::plain(event.clone());
    let (_, chosen) = Calibration::choose(&truth, &target, &folds(&event, 5, 1)).expect("both outcomes");
    let tried: Vec<CalibrationMap> = chosen.losses.iter().map(|(kind, _)| *kind).collect();
    assert_eq!(tried, [CalibrationMap::AsTheyAre, CalibrationMap::Sigmoid]);
}

#[test]
fn scores_that_tell_nothing_or_the_opposite_become_the_rate() {
    let (truth, event) = customers(5_000, 5);
    let rate = event.iter().filter(|&&e| e).count() as f64 / 5_000.0;
    let target = Target::plain(event);
    let turned: Vec<f64> = truth.iter().map(|eta| -eta).collect();
    for (score, kinds) in [(vec![0.7; 5_000], &MAPS[..]), (turned, &MAPS[..2])] {
        for &kind in kinds {
            let map = Calibration::fit(kind, &score, &target).expect("both outcomes").expect("a map");
            for eta in [-2.0, 0.7, 2.0] {
                assert!(
                    (sigmoid(map.apply(eta)) - rate).abs() < 0.02,
                    "{kind:?} at {eta}: {}",
                    sigmoid(map.apply(eta))
                );
            }
        }
    }
}

#[test]
fn one_outcome_alone_is_refused() {
    let target = Target::plain(vec![false; 50]);
    for kind in MAPS {
        let refused = Calibration::fit(kind, &[0.0; 50], &target).expect_err("nothing to learn");
        assert!(matches!(refused, FitError::OneSided { rows: 50 }), "{refused:?}");
    }
    assert_eq!(
        Calibration::fit(CalibrationMap::AsTheyAre, &[0.0, 1.0], &Target::plain(vec![true, false])).expect("both"),
        None
    );
}
