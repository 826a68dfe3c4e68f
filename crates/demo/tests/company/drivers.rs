//! What the generator plants goes with the outcome, and what it does not plant does not.

use pronoia_core::drivers::{Drivers, Members, PairMap, Segment, group_totals};
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use pronoia_core::{Kind, Table};
use pronoia_demo::{FIRST_MEMBER, Member, SEED, members};

/// Columns that no study would let in.
const KEPT_ASIDE: [&str; 6] =
    ["cancelled", "member_id", "legacy_ref", "exit_survey_sent", "days_since_last_login", "currency"];

fn looked_at(people: &[Member]) -> (Table, Vec<usize>, Vec<bool>, Drivers) {
    let (table, _) = read_table(&pronoia_demo::outcome_csv(people), &Unwatched).expect("the records");
    let rows: Vec<usize> = (0..table.rows()).collect();
    let event: Vec<bool> = people.iter().map(|m| m.cancelled).collect();
    let names: Vec<String> =
        table.columns().iter().map(|c| c.name.clone()).filter(|n| !KEPT_ASIDE.contains(&n.as_str())).collect();
    let found = Drivers::of(&table, &names, &names, (&rows, &event), 7, &Unwatched).expect("drivers");
    (table, rows, event, found)
}

#[test]
fn planted_drivers_are_found_and_idle_columns_are_not_believed() {
    let people = members(14_400, SEED, FIRST_MEMBER);
    let (_, _, event, found) = looked_at(&people);
    assert_eq!(found.all.events, event.iter().filter(|&&e| e).count() as u64);
    let driver = |name: &str| found.columns.iter().find(|d| d.column == name).expect("a column");
    for name in ["months_since_visit", "declined_claims", "fee_rise_pct", "tenure_months"] {
        assert!(driver(name).believed, "{name} {:?}", driver(name).chance);
    }
    for name in ["newsletter_opens", "call_minutes", "newsletter", "note_code", "weekend_visits"] {
        assert!(!driver(name).believed, "{name} {:?}", driver(name).chance);
    }
    assert!(driver("declined_claims").correlation.expect("a number") > 0.1);
    // The rate falls with tenure and rises again: no straight line says so.
    let rates: Vec<f64> = driver("tenure_months").groups.iter().map(|g| g.count.rate()).collect();
    let (least, _) = rates.iter().enumerate().min_by(|a, b| a.1.total_cmp(b.1)).expect("rates");
    assert!(least > 0 && least < rates.len() - 1, "{rates:?}");
    assert!(driver("district").kind == Kind::Code && driver("district").groups.len() <= 41);
}

#[test]
fn groups_hold_everyone_once() {
    let people = members(3_000, SEED, FIRST_MEMBER);
    let (table, rows, event, found) = looked_at(&people);
    for driver in &found.columns {
        let column = table.column(&driver.column).expect("a column");
        let all: u64 = driver.groups.iter().map(|g| g.count.rows).sum();
        assert_eq!(all, 3_000, "{}", driver.column);
        for group in &driver.groups {
            let inside: Vec<usize> = rows.iter().copied().filter(|&r| group.members.contain(column, r)).collect();
            let events = inside.iter().filter(|&&r| event[r]).count() as u64;
            assert_eq!((inside.len() as u64, events), (group.count.rows, group.count.events), "{}", driver.column);
        }
    }
}

#[test]
fn columns_that_matter_together_are_the_most_striking_pairs() {
    let people = members(14_400, SEED, FIRST_MEMBER);
    let (_, _, _, found) = looked_at(&people);
    let named = |map: &PairMap| (map.down.clone(), map.across.clone());
    let pairs: Vec<_> = found.pairs.iter().map(named).collect();
    let planted = [("weekend_visits", "moved_home"), ("species", "plan_tier")];
    for (down, across) in planted {
        assert!(pairs[..2].contains(&(down.into(), across.into())), "{pairs:?}");
    }
    let map = found.pairs.iter().find(|m| m.down == "weekend_visits").expect("the pair");
    let rate = |a: &str, b: &str| {
        let at = |groups: &[pronoia_core::drivers::RateGroup], v: &str| {
            groups.iter().position(|g| g.members == Members::Value(v.into())).expect("a value")
        };
        map.cell(at(&map.down_groups, a), at(&map.across_groups, b)).rate()
    };
    assert!(rate("yes", "no") > rate("yes", "yes") * 1.3 && rate("no", "yes") > rate("no", "no") * 1.3);
}

#[test]
fn segments_divide_everyone_and_the_first_split_stands_firm() {
    let people = members(14_400, SEED, FIRST_MEMBER);
    let (.., found) = looked_at(&people);
    fn check(segment: &Segment) {
        if segment.parts.is_empty() {
            return;
        }
        let sum = segment.parts.iter().fold((0, 0), |s, p| (s.0 + p.count.rows, s.1 + p.count.events));
        assert_eq!(sum, (segment.count.rows, segment.count.events));
        assert!(segment.parts.iter().all(|p| p.condition().is_some_and(|c| !c.is_empty())));
        segment.parts.iter().for_each(check);
    }
    let all = &found.segments.all;
    check(all);
    let first = all.parts[0].column.as_deref().expect("a split");
    assert!(["declined_claims", "months_since_visit"].contains(&first), "{first}");
    assert!(all.parts[0].stability > 50.0, "{}", all.parts[0].stability);
    assert!(all.parts[0].count.rate() > all.parts[1].count.rate());
    let again = looked_at(&people).3;
    assert_eq!(again, found, "the same rows give the same answer");
}

#[test]
fn totals_add_up_to_the_whole() {
    let people = members(2_000, SEED, FIRST_MEMBER);
    let (table, rows, event, _) = looked_at(&people);
    let (fee, tier) = (table.column("annual_fee").expect("fee"), table.column("plan_tier").expect("tier"));
    let totals = group_totals(fee, tier, &rows, &event, 12);
    let sum: f64 = totals.iter().map(|t| t.sum).sum();
    let lost: f64 = totals.iter().map(|t| t.of_events).sum();
    assert!((sum - people.iter().map(|m| m.annual_fee).sum::<f64>()).abs() < 1e-6);
    assert!((lost - people.iter().filter(|m| m.cancelled).map(|m| m.annual_fee).sum::<f64>()).abs() < 1e-6);
}
