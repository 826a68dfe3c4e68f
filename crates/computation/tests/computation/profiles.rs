//! Tables described, held against counting by hand.

use pronoia_core::intake::read_table;
use pronoia_core::profile::{ColumnChange, ColumnProfile, Evenly, TableProfile, changes};
use pronoia_core::progress::Unwatched;
use pronoia_core::stats::quantile;
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Column, Kind, Table};
use proptest::prelude::*;

fn numbers(name: &str, values: &[Option<f64>]) -> Column {
    let mut column = ColumnBuilder::new(name, Kind::Number);
    values.iter().for_each(|value| match value {
        Some(x) => column.push_number(*x),
        None => column.push_missing(),
    });
    column.finish()
}

fn words(name: &str, values: &[Option<&str>]) -> Column {
    let mut column = ColumnBuilder::new(name, Kind::Category);
    values.iter().for_each(|value| match value {
        Some(word) => column.push_word(word),
        None => column.push_missing(),
    });
    column.finish()
}

fn dates(name: &str, values: &[i32]) -> Column {
    let mut column = ColumnBuilder::new(name, Kind::Date);
    values.iter().for_each(|&day| column.push_date(day));
    column.finish()
}

/// Numbers as they occur: whole ones, amounts, large and small, some missing.
fn some_numbers() -> impl Strategy<Value = Vec<Option<f64>>> {
    let one = prop_oneof![
        4 => (-50i32..50).prop_map(|x| Some(f64::from(x))),
        3 => (-1e6..1e6f64).prop_map(|x| Some((x * 100.0).round() / 100.0)),
        1 => (-1e-6..1e-6f64).prop_map(Some),
        1 => prop::sample::select(&[f64::MAX, f64::MIN, 1e308, -1e200, 5e-324, -0.0][..]).prop_map(Some),
        1 => Just(None),
    ];
    prop::collection::vec(one, 1..200)
}

proptest! {
    #[test]
    fn figures_of_a_number_are_those_counted_by_hand(values in some_numbers()) {
        let found = ColumnProfile::of(&numbers("x", &values));
        let mut known: Vec<f64> = values.iter().flatten().copied().collect();
        known.sort_unstable_by(f64::total_cmp);
        prop_assert_eq!(found.missing, (values.len() - known.len()) as u64);
        let mut different = known.clone();
        different.dedup();
        prop_assert_eq!(found.distinct, different.len() as u64);
        let Some(n) = found.numbers else {
            prop_assert!(known.is_empty());
            return Ok(());
        };
        let rows = known.len() as f64;
        let mean = known.iter().sum::<f64>() / rows;
        prop_assert!(!mean.is_finite() || (n.mean - mean).abs() <= 1e-9 * mean.abs().max(1.0));
        prop_assert_eq!((n.min, n.max), (known[0], known[known.len() - 1]));
        prop_assert!(n.min <= n.lower_quartile && n.lower_quartile <= n.median && n.median <= n.upper_quartile && n.upper_quartile <= n.max);
        let below = known.iter().filter(|&&x| x < n.median).count();
        let above = known.iter().filter(|&&x| x > n.median).count();
        prop_assert!(below * 2 <= known.len() && above * 2 <= known.len(), "half on either side");
        prop_assert!(n.mean.is_finite() && n.sd.is_finite());
        if known.len() > 1 && n.max - n.min < 1e150 {
            let squares: f64 = known.iter().map(|x| (x - mean).powi(2)).sum();
            prop_assert!((n.sd.powi(2) * (rows - 1.0) - squares).abs() <= 1e-6 * squares.max(1.0));
        }
    }

    #[test]
    fn bars_cover_all_that_there_is_and_hold_it_once(values in some_numbers()) {
        let known: Vec<f64> = values.iter().flatten().copied().collect();
        let Some(n) = ColumnProfile::of(&numbers("x", &values)).numbers else { return Ok(()) };
        prop_assert_eq!(n.edges.len(), n.bars.len() + 1);
        prop_assert_eq!(n.bars.iter().sum::<u64>(), known.len() as u64);
        prop_assert!(n.bars.len() <= 30, "{} bars", n.bars.len());
        let slack = 1e-9 * n.max.abs().max(n.min.abs()).max(1e-300);
        prop_assert!(n.edges[0] <= n.min + slack && n.max <= n.edges[n.edges.len() - 1] + slack);
        let width = n.edges.windows(2).map(|w| w[1] - w[0]).fold(0.0, f64::max);
        prop_assert!(n.edges.iter().all(|edge| edge.is_finite()));
        // The last may be cut off at the largest number that there is.
        let whole = n.edges.windows(2).filter(|w| w[0] > f64::MIN && w[1] < f64::MAX);
        prop_assert!(whole.into_iter().all(|w| (w[1] - w[0] - width).abs() <= 1e-6 * width.abs() + slack), "equally wide");
        // A value that does not lie at an edge is in the bar that it lies in.
        for (at, bar) in n.bars.iter().enumerate() {
            let (low, high) = (n.edges[at], n.edges[at + 1]);
            let margin = 1e-6 * width;
            let inside = known.iter().filter(|&&x| x > low + margin && x < high - margin).count() as u64;
            let around = known.iter().filter(|&&x| x > low - margin && x < high + margin).count() as u64;
            prop_assert!(width == 0.0 || (inside <= *bar && *bar <= around), "bar {at}: {inside} {bar} {around}");
        }
    }

    #[test]
    fn values_are_ranked_by_how_often_they_occur(drawn in prop::collection::vec(prop::option::weighted(0.9, 0usize..15), 1..200)) {
        const NAMES: [&str; 15] = ["a", "b", "ß", "Ä", "é", "c d", "0", "-", "'", "NULL", "x,y", "\u{202e}", "z", "Z", "zz"];
        let values: Vec<Option<&str>> = drawn.iter().map(|at| at.map(|at| NAMES[at])).collect();
        let found = ColumnProfile::of(&words("plan", &values));
        let count = |word: &str| values.iter().filter(|value| **value == Some(word)).count() as u64;
        prop_assert_eq!(found.missing, values.iter().filter(|value| value.is_none()).count() as u64);
        prop_assert_eq!(found.distinct, NAMES.iter().filter(|name| count(name) > 0).count() as u64);
        prop_assert!(found.top.len() <= 10 && found.top.len() as u64 == found.distinct.min(10));
        prop_assert!(found.top.iter().all(|(value, rows)| count(value) == *rows));
        prop_assert!(found.top.windows(2).all(|w| w[0].1 > w[1].1 || (w[0].1 == w[1].1 && w[0].0 < w[1].0)));
        let least = found.top.last().map_or(0, |last| last.1);
        let listed = |name: &str| found.top.iter().any(|(value, _)| value == name);
        prop_assert!(NAMES.iter().filter(|name| !listed(name)).all(|name| count(name) <= least), "none that is more frequent is left out");
    }

    #[test]
    fn a_table_in_parts_is_described_as_the_whole(values in some_numbers(), cuts in prop::collection::vec(any::<prop::sample::Index>(), 0..4)) {
        let plan: Vec<Option<&str>> = (0..values.len()).map(|row| [Some("Basic"), None, Some("Plus")][row * 7 % 3]).collect();
        let whole = Table::new(vec![numbers("x", &values), words("plan", &plan)]).expect("a table");
        let mut at: Vec<usize> = cuts.iter().map(|cut| cut.index(values.len() + 1)).chain([0, values.len()]).collect();
        at.sort_unstable();
        let parts: Vec<Table> = at.windows(2).map(|w| whole.take(&(w[0]..w[1]).collect::<Vec<_>>())).collect();
        prop_assert_eq!(TableProfile::of_parts(&parts), TableProfile::of(&whole));
        let text = serde_json::to_string(&TableProfile::of(&whole)).expect("written");
        prop_assert_eq!(serde_json::from_str::<TableProfile>(&text).expect("read"), TableProfile::of(&whole));
    }

    #[test]
    fn rows_that_say_the_same_are_counted(rows in prop::collection::vec((0u8..3, 0u8..3, prop::option::of(0u8..2)), 1..80)) {
        let x: Vec<Option<f64>> = rows.iter().map(|row| Some(f64::from(row.0))).collect();
        let y: Vec<Option<&str>> = rows.iter().map(|row| Some(["a", "b", "c"][usize::from(row.1)])).collect();
        let z: Vec<Option<f64>> = rows.iter().map(|row| row.2.map(f64::from)).collect();
        let table = Table::new(vec![numbers("x", &x), words("y", &y), numbers("z", &z)]).expect("a table");
        let mut different = rows.clone();
        different.sort_unstable();
        different.dedup();
        prop_assert_eq!(TableProfile::of(&table).repeated, (rows.len() - different.len()) as u64);
    }

    #[test]
    fn nothing_has_changed_between_a_table_and_itself_in_another_order(values in some_numbers(), seed: u64) {
        let plan: Vec<Option<&str>> = (0..values.len()).map(|row| [Some("Basic"), None, Some("Plus")][row * 5 % 3]).collect();
        let day: Vec<i32> = (0..values.len()).map(|row| 20_000 + (row * 37 % 400) as i32).collect();
        let table = Table::new(vec![numbers("x", &values), words("plan", &plan), dates("day", &day)]).expect("a table");
        let mut order: Vec<usize> = (0..values.len()).collect();
        order.sort_by_key(|&row| (row as u64).wrapping_mul(seed | 1).rotate_left(17));
        let again = table.take(&order);
        prop_assert_eq!(changes(&TableProfile::of(&table), &TableProfile::of(&again)), []);
    }

    #[test]
    fn a_quantile_lies_between_its_neighbours(mut values in prop::collection::vec(-1e3..1e3f64, 1..60), share in 0.0..=1.0f64) {
        values.sort_unstable_by(f64::total_cmp);
        let found = quantile(&values, share);
        let below = values.iter().filter(|&&x| x <= found + 1e-9).count() as f64;
        let above = values.iter().filter(|&&x| x >= found - 1e-9).count() as f64;
        let last = values.len() as f64 - 1.0;
        prop_assert!(below >= (share * last).floor() + 1.0 && above >= ((1.0 - share) * last).floor() + 1.0 - 1e-9);
        prop_assert_eq!((quantile(&values, 0.0), quantile(&values, 1.0)), (values[0], values[values.len() - 1]));
    }
}

#[test]
fn a_long_table_met_in_parts_is_described_by_rows_drawn_evenly() {
    let part = |from: usize| {
        let values: Vec<Option<f64>> = (from..from + 1_000).map(|row| Some(row as f64)).collect();
        Table::new(vec![numbers("row", &values)]).expect("a table")
    };
    let mut evenly = Evenly::up_to(2_000);
    let mut whole = Evenly::whole();
    for at in 0..50 {
        evenly.meet(part(at * 1_000));
        whole.meet(part(at * 1_000));
    }
    let (drawn, all) = (evenly.described(), whole.described());
    assert_eq!((drawn.rows, all.rows), (50_000, 50_000), "however many are looked at, all are counted");
    assert!((1_000..=4_000).contains(&drawn.described()), "{}", drawn.described());
    assert_eq!(all.described(), 50_000);
    let figures = |profile: &TableProfile| profile.columns[0].numbers.clone().expect("numbers");
    let (some, every) = (figures(&drawn), figures(&all));
    for (a, b) in [
        (some.mean, every.mean),
        (some.median, every.median),
        (some.sd, every.sd),
        (some.upper_quartile, every.upper_quartile),
    ] {
        assert!((a - b).abs() < 0.01 * 50_000.0, "{a} {b}");
    }
}

#[test]
fn a_table_without_rows_and_columns_without_values_are_described() {
    let none = Table::new(vec![numbers("x", &[]), words("plan", &[])]).expect("a table");
    let found = TableProfile::of(&none);
    assert_eq!((found.rows, found.repeated, found.unlike.len()), (0, 0, 0));
    assert!(found.columns.iter().all(|c| c.numbers.is_none() && c.distinct == 0 && c.mode().is_none()));
    let gaps = Table::new(vec![numbers("x", &[None, None]), words("plan", &[None, None])]).expect("a table");
    let found = TableProfile::of(&gaps);
    assert!(found.columns.iter().all(|c| c.missing == 2 && c.distinct == 0));
    let one = ColumnProfile::of(&numbers("x", &[Some(7.5)]));
    let n = one.numbers.expect("a number");
    assert_eq!((n.sd, n.min, n.median, n.max, n.bars.iter().sum::<u64>()), (0.0, 7.5, 7.5, 7.5, 1));
}

fn profile(head: &str, row: impl Fn(usize) -> String) -> TableProfile {
    let rows: String = (0..200).map(|i| row(i) + "\n").collect();
    TableProfile::of(&read_table(format!("{head}\n{rows}").as_bytes(), &Unwatched).expect("a table").0)
}

fn told(changes: &[ColumnChange]) -> Vec<String> {
    changes.iter().map(|c| format!("{}{} {}", if c.breaks { "! " } else { "" }, c.column, c.what)).collect()
}

#[test]
fn every_difference_is_told_and_nothing_else() {
    let yes = |on: bool| if on { "yes" } else { "no" };
    let tier = |i: usize| ["Basic", "Plus"][i % 2];
    let before = profile("id,fee,tier,left,old,note,gap", |i| {
        format!("A{i},{},{},{},x{},7,{i}", 100 + i % 50, tier(i), yes(i % 5 == 0), i % 3)
    });
    let after = profile("id,fee,tier,left,note,gap,fresh", |i| {
        let tier = if i % 10 == 0 { "Gold" } else { tier(i) };
        let gap = if i % 2 == 0 { String::new() } else { i.to_string() };
        format!("A{i},{},{tier},{},words {i} here,{gap},{}", 100 + i % 80, yes(i % 2 == 0), i * 2)
    });
    assert_eq!(
        told(&changes(&before, &after)),
        [
            "! old is gone",
            "! note was a number, is a text",
            "fee 100 to 179, was 100 to 149; in the middle 133, was 124.5",
            "tier new values: “Gold” in 10.0\u{202f}%",
            "left “no” in 50.0\u{202f}%, was 80.0\u{202f}%",
            "gap missing in 50.0\u{202f}%, was 0.0\u{202f}%",
            "fresh is new: number",
        ]
    );
    assert_eq!(changes(&before, &before), []);
}

#[test]
fn rows_that_repeat_or_stand_out_are_found() {
    let mut csv = String::from("id,fee,tier\n");
    for i in 0..3_000 {
        let (fee, tier) = match i {
            77 => (98_000, "Basic"),
            1_500 => (i % 90, "Emperor"),
            _ => (100 + i % 90, ["Basic", "Plus"][i % 2]),
        };
        csv += &format!("A{i},{fee},{tier}\n");
    }
    csv += "A5,105,Plus\nA5,105,Plus\n";
    let table = read_table(csv.as_bytes(), &Unwatched).expect("a table").0;
    let profile = TableProfile::of(&table);
    assert_eq!(profile.repeated, 2);
    let found: Vec<(u64, &str)> = profile.unlike.iter().map(|u| (u.row, u.why.as_str())).collect();
    assert_eq!(
        found,
        [(78, "fee 98\u{202f}000 (half of all: 121.2 to 167)"), (1_501, "tier “Emperor” (1 of 3\u{202f}002 rows)"),]
    );
}
