//! Curves and measures of a model, held against their definitions row by row.

use pronoia_core::evaluate::delong::{self, Area};
use pronoia_core::evaluate::{
    Confusion, CurvePoint, Evaluation, area_under_roc, average_precision, brier, calibration_groups, gain_curve,
    kolmogorov_smirnov, log_loss, precision_recall_curve, roc_curve, score_distribution,
};
use proptest::prelude::*;

/// Probabilities on a coarse grid, so that many are equal, with at least two rows of either outcome.
fn judged() -> impl Strategy<Value = (Vec<f64>, Vec<bool>)> {
    prop::collection::vec((0u8..=20, any::<bool>()), 4..120)
        .prop_map(|rows| rows.into_iter().map(|(p, e)| (f64::from(p) / 20.0, e)).unzip())
        .prop_filter("two rows of either outcome", |(_, event): &(Vec<f64>, Vec<bool>)| {
            let events = event.iter().filter(|&&e| e).count();
            events >= 2 && event.len() - events >= 2
        })
}

fn events(event: &[bool]) -> f64 {
    event.iter().filter(|&&e| e).count() as f64
}

/// The share of pairs of an event and another row in which the event stands above, ties counting half.
fn share_of_pairs(score: &[f64], event: &[bool]) -> f64 {
    let (mut won, mut pairs) = (0.0, 0.0);
    for (i, _) in event.iter().enumerate().filter(|(_, e)| **e) {
        for (j, _) in event.iter().enumerate().filter(|(_, e)| !**e) {
            pairs += 1.0;
            won += if score[i] > score[j] {
                1.0
            } else if score[i] == score[j] {
                0.5
            } else {
                0.0
            };
        }
    }
    won / pairs
}

fn trapezoids(points: &[CurvePoint]) -> f64 {
    points.windows(2).map(|w| (w[1].x - w[0].x) * (w[0].y + w[1].y) / 2.0).sum()
}

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() < 1e-12
}

proptest! {
    #[test]
    fn every_point_of_a_curve_is_what_its_cut_off_counts((p, event) in judged()) {
        let (all, others) = (events(&event), event.len() as f64 - events(&event));
        let roc = roc_curve(&p, &event);
        let gain = gain_curve(&p, &event);
        let precision_recall = precision_recall_curve(&p, &event);
        prop_assert_eq!((roc[0].x, roc[0].y), (0.0, 0.0));
        let end = roc[roc.len() - 1];
        prop_assert_eq!((end.x, end.y), (1.0, 1.0));
        for point in &roc {
            let counts = Confusion::at(&p, &event, point.cut_off);
            prop_assert!(near(point.x, counts.false_alarms as f64 / others) && near(point.y, counts.recall()));
        }
        for point in &gain {
            let counts = Confusion::at(&p, &event, point.cut_off);
            prop_assert!(near(point.x, counts.acted() as f64 / p.len() as f64) && near(point.y, counts.hits as f64 / all));
        }
        for point in &precision_recall {
            let counts = Confusion::at(&p, &event, point.cut_off);
            prop_assert!(near(point.x, counts.recall()) && near(point.y, counts.precision()));
        }
        for curve in [&roc, &gain] {
            prop_assert!(curve.windows(2).all(|w| w[0].x <= w[1].x && w[0].y <= w[1].y && w[0].cut_off > w[1].cut_off));
        }
    }

    #[test]
    fn the_area_is_that_below_the_curve_and_the_share_of_pairs((p, event) in judged()) {
        let area = area_under_roc(&p, &event, None);
        prop_assert!(near(area, trapezoids(&roc_curve(&p, &event))));
        prop_assert!(near(area, share_of_pairs(&p, &event)));
        let turned: Vec<f64> = p.iter().map(|p| 1.0 - p).collect();
        prop_assert!(near(area_under_roc(&turned, &event, None), 1.0 - area), "the other way round");
        let other: Vec<bool> = event.iter().map(|e| !e).collect();
        prop_assert!(near(area_under_roc(&turned, &other, None), area), "both the other way round");
    }

    #[test]
    fn the_greatest_gap_and_the_average_precision_are_those_of_the_curves((p, event) in judged()) {
        let gap = roc_curve(&p, &event).iter().map(|point| (point.y - point.x).abs()).fold(0.0, f64::max);
        prop_assert!(near(kolmogorov_smirnov(&p, &event, None), gap));
        let curve = precision_recall_curve(&p, &event);
        let mut before = 0.0;
        let mut sum = 0.0;
        for point in &curve {
            sum += (point.x - before) * point.y;
            before = point.x;
        }
        prop_assert!(near(average_precision(&p, &event, None), sum));
        let last = curve[curve.len() - 1];
        prop_assert!(near(last.x, 1.0) && near(last.y, events(&event) / event.len() as f64), "everybody is acted on");
    }

    #[test]
    fn a_weight_counts_as_so_many_rows((p, event) in judged(), seed in prop::collection::vec(1usize..4, 120)) {
        let weight: Vec<f64> = seed[..p.len()].iter().map(|&w| w as f64).collect();
        let rows: Vec<usize> = (0..p.len()).flat_map(|row| vec![row; seed[row]]).collect();
        let repeated: (Vec<f64>, Vec<bool>) = rows.iter().map(|&row| (p[row], event[row])).unzip();
        for measure in [area_under_roc, average_precision, kolmogorov_smirnov, log_loss, brier] {
            let (weighted, counted) = (measure(&p, &event, Some(&weight)), measure(&repeated.0, &repeated.1, None));
            prop_assert!((weighted - counted).abs() < 1e-10, "{weighted} {counted}");
        }
        let alike = vec![2.5; p.len()];
        for measure in [area_under_roc, average_precision, kolmogorov_smirnov, log_loss, brier] {
            prop_assert!((measure(&p, &event, Some(&alike)) - measure(&p, &event, None)).abs() < 1e-10);
        }
    }

    #[test]
    fn groups_hold_every_row_once_and_never_part_equal_probabilities((p, event) in judged()) {
        let groups = calibration_groups(&p, &event);
        prop_assert!(groups.len() <= 10 && !groups.is_empty());
        prop_assert_eq!(groups.iter().map(|g| g.rows).sum::<u64>(), p.len() as u64);
        prop_assert_eq!(groups.iter().map(|g| g.events).sum::<u64>() as f64, events(&event));
        let said: f64 = groups.iter().map(|g| g.mean_probability * g.rows as f64).sum();
        prop_assert!((said - p.iter().sum::<f64>()).abs() < 1e-9);
        prop_assert!(groups.windows(2).all(|w| w[0].mean_probability < w[1].mean_probability));
        let mut sorted = p.clone();
        sorted.sort_unstable_by(f64::total_cmp);
        let mut end = 0;
        for group in &groups[..groups.len() - 1] {
            end += group.rows as usize;
            prop_assert!(sorted[end - 1] < sorted[end], "equal probabilities are in one group");
        }
        for group in &groups {
            let (low, high) = group.interval();
            prop_assert!(low >= 0.0 && low <= group.rate() + 1e-12 && high >= group.rate() - 1e-12 && high <= 1.0 + 1e-12);
        }
    }

    #[test]
    fn bars_hold_every_row_at_its_place((p, event) in judged()) {
        let found = score_distribution(&p, &event);
        prop_assert_eq!(found.events.iter().sum::<u64>() as f64, events(&event));
        prop_assert_eq!(found.others.iter().chain(&found.events).sum::<u64>(), p.len() as u64);
        let most = p.iter().copied().fold(0.0, f64::max);
        prop_assert!(found.up_to >= most.max(0.1) - 1e-12 && found.up_to <= 1.0);
        let bars = found.others.len() as f64;
        let above = (0..found.others.len()).map(|at| found.others[at] + found.events[at]).enumerate();
        let reach = above.filter(|(_, rows)| *rows > 0).map(|(at, _)| at).max().unwrap_or(0);
        prop_assert!((reach as f64) <= most / found.up_to * bars && most / found.up_to * bars <= reach as f64 + 1.0 + 1e-9);
    }

    #[test]
    fn the_error_of_an_area_is_that_of_its_placements((p, event) in judged()) {
        let found = delong::area(&p, &event).expect("two of either");
        prop_assert!(near(found.value, share_of_pairs(&p, &event)));
        // The definition: the variance of the mean placement of events, plus that of the others.
        let side = |wanted: bool| -> Vec<f64> { p.iter().zip(&event).filter(|s| *s.1 == wanted).map(|s| *s.0).collect() };
        let (with, without) = (side(true), side(false));
        let above = |a: f64, b: f64| if a > b { 1.0 } else if a == b { 0.5 } else { 0.0 };
        let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
        let spread = |values: Vec<f64>| {
            let middle = mean(&values);
            values.iter().map(|v| (v - middle).powi(2)).sum::<f64>() / (values.len() as f64 - 1.0) / values.len() as f64
        };
        let of_events = with.iter().map(|&a| mean(&without.iter().map(|&b| above(a, b)).collect::<Vec<_>>())).collect();
        let of_others = without.iter().map(|&b| mean(&with.iter().map(|&a| above(a, b)).collect::<Vec<_>>())).collect();
        prop_assert!((found.se - (spread(of_events) + spread(of_others)).sqrt()).abs() < 1e-9);
        let (low, high) = found.interval();
        prop_assert!(low <= found.value && found.value <= high);
    }

    #[test]
    fn differences_of_areas_turn_round_and_vanish_between_equals((p, event) in judged(), other in prop::collection::vec(0u8..=20, 120)) {
        let q: Vec<f64> = other[..p.len()].iter().map(|&x| f64::from(x) / 20.0).collect();
        let (there, back) = (delong::difference(&p, &q, &event).expect("both"), delong::difference(&q, &p, &event).expect("both"));
        prop_assert!(near(there.value, -back.value) && near(there.se, back.se));
        let (a, b) = (area_under_roc(&p, &event, None), area_under_roc(&q, &event, None));
        prop_assert!(near(there.value, a - b));
        let same = delong::difference(&p, &p, &event).expect("both");
        prop_assert_eq!((same.value, same.se, same.chance()), (0.0, 0.0, 1.0));
        let squared: Vec<f64> = p.iter().map(|p| p * p).collect();
        let monotone = delong::difference(&p, &squared, &event).expect("both");
        prop_assert_eq!((monotone.value, monotone.se), (0.0, 0.0), "the same order is the same area");
        let mean = delong::over_mean(&p, &[q.clone(), p.clone()], &event).expect("others");
        prop_assert!(near(mean.value, (a - b) / 2.0));
        prop_assert!((0.0..=1.0).contains(&there.chance()));
    }

    #[test]
    fn counts_at_a_cut_off_agree_with_one_another((p, event) in judged(), cut_off in 0.0..1.0f64) {
        let counts = Confusion::at(&p, &event, cut_off);
        prop_assert_eq!(counts.rows(), p.len() as u64);
        prop_assert_eq!(counts.hits + counts.missed, events(&event) as u64);
        let (precision, recall) = (counts.precision(), counts.recall());
        if counts.hits > 0 {
            prop_assert!(near(counts.f1(), 2.0 * precision * recall / (precision + recall)));
        } else {
            prop_assert_eq!(counts.f1(), 0.0);
        }
        // The coefficient is the correlation of two columns of noughts and ones.
        let n = p.len() as f64;
        let acted: Vec<f64> = p.iter().map(|&p| f64::from(u8::from(p >= cut_off))).collect();
        let happened: Vec<f64> = event.iter().map(|&e| f64::from(u8::from(e))).collect();
        let mean = |x: &[f64]| x.iter().sum::<f64>() / n;
        let moment = |x: &[f64], y: &[f64]| x.iter().zip(y).map(|(a, b)| (a - mean(x)) * (b - mean(y))).sum::<f64>();
        let both = (moment(&acted, &acted) * moment(&happened, &happened)).sqrt();
        let expected = if both > 1e-9 { moment(&acted, &happened) / both } else { 0.0 };
        prop_assert!((counts.matthews() - expected).abs() < 1e-9);
    }

    #[test]
    fn an_evaluation_is_written_down_and_read_back_and_finds_more_among_more((p, event) in judged()) {
        let found = Evaluation::of(&p, &event);
        let text = serde_json::to_string(&found).expect("written");
        prop_assert_eq!(&serde_json::from_str::<Evaluation>(&text).expect("read"), &found);
        prop_assert!(near(found.mean_probability, p.iter().sum::<f64>() / p.len() as f64));
        prop_assert!(near(found.accuracy_of_no(), 1.0 - events(&event) / event.len() as f64));
        let shares: Vec<f64> = (0..=20).map(|at| found.recall_at(f64::from(at) / 20.0)).collect();
        prop_assert!(shares.windows(2).all(|w| w[0] <= w[1] + 1e-12), "{shares:?}");
        prop_assert!(shares[0] == 0.0 && near(shares[20], 1.0), "{shares:?}");
    }
}

#[test]
fn with_one_outcome_only_nothing_is_claimed() {
    let (p, event) = ([0.2, 0.4, 0.9], [false, false, false]);
    let found = Evaluation::of(&p, &event);
    assert!(found.area_under_roc.is_nan() && found.area_error.is_none() && found.area().is_none());
    assert_eq!(found.kolmogorov_smirnov, None);
    assert_eq!(delong::area(&p, &event), None);
    assert_eq!(delong::difference(&p, &p, &event), None);
    assert_eq!(delong::over_mean(&p, &[], &[true, true, false]), None, "over nobody");
    assert!(found.log_loss.is_finite() && found.brier.is_finite());
    let none = Confusion::at(&[], &[], 0.5);
    assert_eq!(
        (none.accuracy(), none.precision(), none.recall(), none.f1(), none.matthews()),
        (0.0, 0.0, 0.0, 0.0, 0.0)
    );
}

#[test]
fn the_loss_is_least_where_what_is_said_is_true() {
    // Of a hundred rows thirty have the event: no other probability for all of them costs less.
    let event: Vec<bool> = (0..100).map(|row| row < 30).collect();
    let all = |p: f64| vec![p; 100];
    for other in [0.05, 0.2, 0.29, 0.31, 0.4, 0.9] {
        assert!(log_loss(&all(0.3), &event, None) < log_loss(&all(other), &event, None), "{other}");
        assert!(brier(&all(0.3), &event, None) < brier(&all(other), &event, None), "{other}");
    }
    assert!((brier(&all(0.3), &event, None) - 0.21).abs() < 1e-12);
}

#[test]
fn a_difference_is_put_down_to_chance_as_often_as_it_should() {
    let certain = Area { value: 0.1, se: 0.0 };
    assert_eq!((certain.chance(), Area { value: 0.0, se: 0.0 }.chance()), (0.0, 1.0));
    let two = Area { value: 0.0196, se: 0.01 };
    assert!((two.chance() - 0.05).abs() < 1e-4, "{}", two.chance());
    assert!(two.interval().0.abs() < 1e-4, "an interval that just reaches nothing is a chance of one in twenty");
}
