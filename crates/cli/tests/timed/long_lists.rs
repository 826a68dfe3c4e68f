//! Lists that are longer than what is held of them at a time.

use std::time::{Duration, Instant};

use crate::support::study::Study;
use crate::support::until;
use pronoia_core::intake::read_table;
use pronoia_core::profile::TableProfile;
use pronoia_core::progress::Unwatched;
use pronoia_core::score::{By, ColumnAnswers, Extras, ListPart, Scoring, ScoringSummary, match_list};
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Column, Kind, Model, Table};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, renewals_csv};
use pronoia_store::record_table;
use pronoia_store::records::{Label, ScoredList, SealedFor, TableSource};

/// Customers that are put below each other until a list is long enough.
const CUSTOMERS: usize = 25_000;

/// Columns of a list.
const COLUMNS: usize = 30;

/// Work at a list over the computation, the reading and the writing that it consists of.
const OVERHEAD: f64 = 1.5;

/// Memory that a list ten times as long may take more, since more threads get to work on it. The rows
/// themselves would take twice as much, and thirty times in the slow run.
const GROWTH: u64 = 128 << 20;

/// Customers with as many columns as a list has.
fn customers() -> Table {
    let read = read_table(&renewals_csv(&members(CUSTOMERS, SEED + 1, FIRST_RENEWAL)), &Unwatched);
    let mut table = read.expect("a table").0;
    for at in table.columns().len()..COLUMNS {
        let mut column = ColumnBuilder::new(format!("more {at}"), Kind::Number);
        (0..table.rows()).for_each(|row| column.push_number((row * at % 977) as f64 / 8.0));
        table = table.with(column.finish());
    }
    table
}

/// Writes the same rows below each other into a table, as a scored list if they are one; how long
/// that took.
async fn written(
    study: &Study,
    name: &str,
    parts: impl Iterator<Item = &Table>,
    sealed_for: SealedFor,
) -> (record_table::Model, Duration) {
    let mut parts = parts.peekable();
    let shape = parts.peek().expect("rows").kinds();
    let profile = TableProfile::of(parts.peek().expect("rows"));
    let begun = Instant::now();
    let mut importer = study.store.begin_import(1, &shape).await.expect("begun");
    for part in parts {
        importer.add(part).await.expect("added");
    }
    let source = TableSource { sentence: "a test".into(), rejected: 0, misfit_cells: 0 };
    let label = Label { name, source: &source, is_list: false };
    let id = importer.seal(label, &profile, sealed_for).await.expect("sealed");
    (study.store.table(1, id).await.expect("the table"), begun.elapsed())
}

/// Follows a job for as long as it gets on; how long it took.
async fn done(study: &Study, job: &str) -> Duration {
    let id: i64 = job.rsplit('/').next().and_then(|id| id.parse().ok()).expect("a job");
    let mut share = -1.0;
    loop {
        let job = until("the job gets on", || async {
            let job = study.store.job(1, id).await.ok()?;
            (job.share != share || !matches!(job.state.as_str(), "queued" | "running")).then_some(job)
        })
        .await;
        share = job.share;
        match (job.state.as_str(), job.started_at, job.finished_at) {
            ("queued" | "running", _, _) => {}
            ("done", Some(started), Some(finished)) => return (finished - started).to_std().expect("later"),
            _ => panic!("{} {:?}", job.state, job.outcome),
        }
    }
}

/// Matches a table to the policy kept and scores it: its list, and how long scoring took.
async fn scored(study: &Study, table: &record_table::Model) -> (i64, Duration) {
    let sent = study.http.submit(&format!("/studies/{}/lists", study.id), &[("table", &table.id.to_string())]);
    assert_eq!(sent.status, 303, "{}", sent.text);
    done(study, &sent.location).await;
    let list = study.store.lists(study.id).await.expect("lists")[0].id;
    let extras = [("gain", "yes"), ("band", "yes")];
    let sent = study.http.submit(&format!("/studies/{}/lists/{list}/score", study.id), &extras);
    assert_eq!(sent.status, 303, "{}", sent.text);
    (list, done(study, &sent.location).await)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_list_is_scored_as_a_whole_in_the_memory_of_a_short_one() {
    let _alone = crate::ALONE.write().await;
    let slow = std::env::var("PRONOIA_TEST_SLOW").is_ok();
    let times = if slow { 40 } else { 2 };
    let study = Study::begun(&members(4_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("boosted").await;
    // A rule that counts customers: the whole list has to be met before anybody is decided on.
    let acted = (CUSTOMERS * times / 10).to_string();
    let rule = [("value_kept", "0.8 * annual_fee"), ("by", "gain"), ("line", &acted), ("line_as", "count")];
    assert_eq!(study.post("decide", &rule), 303);

    let part = customers();
    let (table, _) = written(&study, "short", std::iter::repeat_n(&part, times), SealedFor::Itself).await;
    let (list, _) = scored(&study, &table).await;
    let short = study.server.peak_memory();

    // What the core makes of the same rows, all at once.
    let list = study.store.list(list).await.expect("the list");
    let (chosen, row) =
        (list.decided_by().expect("chosen"), study.store.model(list.model_id).await.expect("the model"));
    let (model, basis, judged): (Model, _, _) =
        (row.fitted().expect("fitted"), row.fitted_on().expect("basis"), row.ranked().expect("judged"));
    let shift = chosen.population.shift();
    let tenths: Vec<f64> = judged.expect("judged").tenths().into_iter().map(|p| shift.there(p)).collect();
    let by = By::Policy { policy: &chosen.policy, population: &chosen.population, steps: &basis.steps };
    let extras = Extras { gain: true, band: true, ..Extras::default() };
    let scoring = Scoring { model: &model, by: Some(by), extras, tenths: &tenths };
    let begun = Instant::now();
    let of_policy = chosen.policy.inputs();
    let matched = match_list(&model, &of_policy, &part, &ColumnAnswers::new()).1;
    let mut ahead = scoring.ahead(CUSTOMERS * times);
    (0..times).for_each(|_| ahead.meet(&scoring, &matched, &[]).expect("met"));
    let settled = ahead.settled();
    let (mut account, mut expected) = (ScoringSummary::default(), Vec::new());
    for _ in 0..times {
        let of = ListPart { list: &part, matched: &matched, before: account.rows, known: &[], suppressed: &[] };
        let scored = scoring.part(of, &settled).expect("scored");
        account.add(&scored.account);
        expected.push(scored.table);
    }
    let computing = begun.elapsed();

    let scored_table = study.store.table(1, list.scored_id.expect("scored")).await.expect("the table");
    assert_eq!((scored_table.rows, list.acted), ((CUSTOMERS * times) as i64, Some(account.acted as i64)));
    assert!(account.acted > 0 && account.acted <= (CUSTOMERS * times / 10) as u64, "{account:?}");
    let gain = account.gain.expect("a gain");
    assert!((list.gain.expect("a gain") / gain - 1.0).abs() < 1e-9, "{gain} {:?}", list.gain);
    let mut parts = study.store.parts(&scored_table, None, CUSTOMERS).await.expect("rows");
    let (mut at, mut begun, mut reading) = (0, Instant::now(), Duration::ZERO);
    while let Some(rows) = parts.next().await.expect("rows") {
        reading += begun.elapsed();
        for row in 0..rows.rows() {
            let (there, of) = (&expected[(at + row) / CUSTOMERS], (at + row) % CUSTOMERS);
            for (found, column) in rows.columns().iter().zip(there.columns()) {
                assert!(same(found, row, column, of), "{} of row {}", column.name, at + row);
            }
        }
        at += rows.rows();
        begun = Instant::now();
    }
    assert_eq!(at, CUSTOMERS * times);
    let of_list = ScoredList {
        list: list.id,
        acted: account.acted,
        gain: account.gain,
        lacking: account.lacking,
        suppressed: account.suppressed,
    };
    let (_, writing) = written(&study, "again", expected.iter(), SealedFor::List(of_list)).await;
    drop(expected);

    // Ten times as long, by the same rule and by one that counts nobody.
    let (table, _) = written(&study, "long", std::iter::repeat_n(&part, times * 10), SealedFor::Itself).await;
    let cannot_be_helped = 10 * (computing + reading + writing);
    println!(
        "{} rows, {COLUMNS} columns: computing {:.1?}, reading {:.1?}, writing {:.1?}",
        table.rows,
        computing * 10,
        reading * 10,
        writing * 10
    );
    // Whatever else the machine does may hold one of three up, and not all.
    let mut least = Duration::MAX;
    for line in ["0", "1", "2"] {
        let by_gain = [("value_kept", "0.8 * annual_fee"), ("by", "gain"), ("line", line), ("line_as", "gain")];
        assert_eq!(study.post("decide", &by_gain), 303);
        let (_, took) = scored(&study, &table).await;
        println!(
            "scored in {took:.1?}, {:.2} of that; at most {} MB, of a tenth of the rows {} MB",
            took.as_secs_f64() / cannot_be_helped.as_secs_f64(),
            study.server.peak_memory() >> 20,
            short >> 20
        );
        least = least.min(took);
        if least <= cannot_be_helped.mul_f64(OVERHEAD) {
            break;
        }
    }
    assert!(least <= cannot_be_helped.mul_f64(OVERHEAD), "{least:?}, {cannot_be_helped:?} at least");
    if slow {
        assert_eq!(study.post("decide", &rule), 303);
        let (_, took) = scored(&study, &table).await;
        println!("scored in {took:.1?} by a rule that counts; at most {} MB", study.server.peak_memory() >> 20);
    }
    let long = study.server.peak_memory();
    assert!(long <= short + GROWTH, "{} MB became {} MB", short >> 20, long >> 20);
}

fn same(a: &Column, row: usize, b: &Column, of: usize) -> bool {
    match (a.number(row), b.number(of)) {
        (Some(x), Some(y)) => x.to_bits() == y.to_bits(),
        _ => a.text(row) == b.text(of),
    }
}
