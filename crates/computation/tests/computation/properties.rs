//! What must hold whatever the data.

use pronoia_core::Table;
use pronoia_core::decide::{
    Best, COLUMNS, CustomerPayoffs, Payoff, Payoffs, Population, ProfitCurve, ROWS, Ranking, Thousand,
};
use pronoia_core::evaluate::{Confusion, area_under_roc};
use pronoia_core::split::{SplitError, SplitPlan};
use proptest::prelude::*;

/// Probabilities with many ties, and outcomes.
fn judged() -> impl Strategy<Value = (Vec<f64>, Vec<bool>)> {
    proptest::collection::vec((0u32..60, any::<bool>()), 12..700)
        .prop_map(|rows| rows.into_iter().map(|(p, e)| (f64::from(p) / 60.0, e)).unzip())
}

fn no_columns() -> Table {
    Table::new(Vec::new()).expect("a table without columns")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]

    #[test]
    fn every_row_is_in_one_part_and_rates_are_equal(events in 30usize..300, others in 30usize..900, seed: u64) {
        let event: Vec<bool> = (0..events + others).map(|i| i % (events + others) < events).collect();
        let plan = SplitPlan { seed, ..SplitPlan::default() };
        let happened: Vec<Option<bool>> = event.iter().map(|&e| Some(e)).collect();
        let dealt = plan.deal(&no_columns(), &happened).expect("parts");
        let mut all = [dealt.training.clone(), dealt.validation.clone(), dealt.test.clone()].concat();
        all.sort_unstable();
        prop_assert_eq!(all, (0..event.len()).collect::<Vec<_>>());
        for (rows, share) in [(&dealt.training, 0.6), (&dealt.validation, 0.2), (&dealt.test, 0.2)] {
            for (side, n) in [(true, events), (false, others)] {
                let found = rows.iter().filter(|&&row| event[row] == side).count();
                prop_assert!((found as f64 - n as f64 * share).abs() <= 1.0, "{} {}", found, n);
            }
        }
        prop_assert_eq!(dealt, plan.deal(&no_columns(), &happened).expect("the same parts"));
    }

    #[test]
    fn a_ranking_counts_what_a_cut_off_counts((p, e) in judged()) {
        let ranking = Ranking::of(&p, &e).expect("rows");
        for (at, stand) in ranking.stands.iter().enumerate() {
            let counted = Confusion::at(&p, &e, stand.cut_off);
            prop_assert_eq!(counted, ranking.confusion(at));
            prop_assert_eq!(ranking.position_of(stand.cut_off), at);
        }
    }

    #[test]
    fn the_best_point_is_the_best_by_brute_force((p, e) in judged(), gain in 1.0f64..50.0, loss in -50.0f64..-1.0) {
        let ranking = Ranking::of(&p, &e).expect("rows");
        let payoffs = Payoffs { act: Payoff { event: gain, other: loss }, ..Payoffs::default() };
        let curve = ProfitCurve::of(&ranking, &CustomerPayoffs::Same(payoffs), &Population::of(e.len() as f64), 1).points;
        let best = curve[Best::of(&curve).at].profit;
        let mut brute = 0.0f64;
        for cut_off in &p {
            let c = Confusion::at(&p, &e, *cut_off);
            brute = brute.max(gain * c.hits as f64 + loss * c.false_alarms as f64);
        }
        prop_assert!((best - brute).abs() < 1e-6 * (1.0 + brute.abs()), "{} {}", best, brute);
        let found = Best::of(&curve);
        prop_assert!(found.from <= found.at && found.at <= found.to);
        for end in [found.from, found.to] {
            prop_assert!(curve[end].profit >= 0.97 * best - 1e-9);
        }
        for outside in curve[..found.from].iter().chain(&curve[found.to + 1..]) {
            prop_assert!(outside.profit < 0.97 * best);
        }
    }

    #[test]
    fn a_thousand_marks_have_the_right_counts((p, e) in judged()) {
        let ranking = Ranking::of(&p, &e).expect("rows");
        let drawn = Thousand::of(&ranking);
        prop_assert_eq!(drawn.marks.len(), COLUMNS);
        let filled: usize = drawn.marks.iter().flatten().filter(|m| **m).count();
        let exact = ranking.events as f64 * (COLUMNS * ROWS) as f64 / ranking.rows as f64;
        prop_assert!((filled as f64 - exact).abs() <= 1.0, "{} {}", filled, exact);
    }

    #[test]
    fn area_does_not_depend_on_order_or_scale((p, e) in judged(), shift in -5.0f64..5.0) {
        let area = area_under_roc(&p, &e, None);
        let moved: Vec<f64> = p.iter().rev().map(|x| (x * 3.0 + shift).exp()).collect();
        let turned: Vec<bool> = e.iter().rev().copied().collect();
        let again = area_under_roc(&moved, &turned, None);
        prop_assert!(area.is_nan() && again.is_nan() || (area - again).abs() < 1e-12);
    }
}

#[test]
fn a_part_without_events_is_refused_in_words() {
    let mut event = vec![Some(false); 500];
    event[3] = Some(true);
    let refused = SplitPlan::default().deal(&no_columns(), &event).expect_err("one event cannot be in three parts");
    assert!(matches!(refused, SplitError::OneSided { .. }), "{refused}");
    let never = SplitPlan::default().deal(&no_columns(), &[Some(false); 500]).expect_err("no event").to_string();
    assert!(never.contains("never occurs"), "{never}");
}

proptest! {
    #[test]
    fn a_table_in_parts_is_described_as_the_whole(rows in proptest::collection::vec((proptest::option::of(-50i32..50), "[a-d]{1,2}"), 2..120), cut in 1usize..40) {
        let mut csv = String::from("n,word,day\n");
        for (i, (n, word)) in rows.iter().enumerate() {
            let n = n.map_or(String::new(), |n| (f64::from(n) / 4.0).to_string());
            csv += &format!("{n},{word},2024-01-{:02}\n", i % 28 + 1);
        }
        let (whole, _) = pronoia_core::intake::read_table(csv.as_bytes(), &pronoia_core::progress::Unwatched).expect("a table");
        let all: Vec<usize> = (0..whole.rows()).collect();
        let parts: Vec<_> = all.chunks(cut).map(|rows| whole.take(rows)).collect();
        prop_assert_eq!(pronoia_core::profile::TableProfile::of_parts(&parts), pronoia_core::profile::TableProfile::of(&whole));
    }
}
