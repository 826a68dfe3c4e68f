//! Customers who were not watched for long enough have no outcome yet, and no model takes them for loyal.

use std::fmt::Write;

use crate::support::study::Study;
use crate::support::{EMAIL, Http, Server, plain};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// How long a customer is watched, and the share that leaves in that time.
const DAYS: u32 = 90;
const LEAVES: f64 = 0.3;

/// So many customers who joined during 2025, of whom records know until its last day: whoever leaves does
/// so on one of the days of their window.
fn joiners(count: usize) -> String {
    let mut rng = ChaCha8Rng::seed_from_u64(7);
    let first = chrono::NaiveDate::from_ymd_opt(2025, 1, 1).expect("a day");
    let mut out = String::from("customer,joined,fee,left\n");
    for customer in 0..count {
        let joined = rng.random_range(0..365u32);
        let fee = rng.random_range(50..250u32);
        // Dear plans are left more often, for something to be learned.
        let leaves = rng.random_bool(LEAVES + if fee > 150 { 0.1 } else { -0.1 });
        let has_left = leaves && joined + rng.random_range(1..=DAYS) < 365;
        let day = first + chrono::Days::new(u64::from(joined));
        let left = if has_left { "yes" } else { "no" };
        writeln!(out, "C{customer:05},{day},{fee},{left}").expect("written");
    }
    out
}

async fn begun() -> Study {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let sent = http.upload(&http.csrf(), "joiners.csv", joiners(8_000).as_bytes());
    http.follow(&sent.location).await;
    http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
    let store = server.store().await;
    let table = store.tables(1).await.expect("tables")[0].id.to_string();
    http.submit("/studies", &[("table", &table), ("title", "Who leaves early?"), ("question", "churn")]);
    let study = Study { id: store.studies(1).await.expect("studies")[0].id, http, store, server };
    assert_eq!(study.post("prepare/outcome", &[("column", "left"), ("event", "yes")]), 303);
    study
}

async fn rate(study: &Study) -> f64 {
    let (events, known) = study.state().await.counted.expect("counted");
    events as f64 / known as f64
}

#[tokio::test(flavor = "multi_thread")]
async fn the_true_rate_is_found_once_those_who_came_late_are_left_aside() {
    let study = begun().await;
    assert!(rate(&study).await < LEAVES - 0.02, "who came late is taken for loyal: {}", rate(&study).await);
    let page = study.page("prepare");
    assert!(page.contains("The outcome of every customer counts"), "{page}");
    let form = study.page("prepare?change=window");
    assert!(form.contains("records until") && form.contains("value=\"2025-12-31\""), "{form}");

    let window = [("from", "joined"), ("days", "90"), ("until", "2025-12-31")];
    assert_eq!(study.post("prepare/window", &window), 303);
    let found = rate(&study).await;
    assert!((found - LEAVES).abs() < 0.015, "{found}");
    let page = study.page("prepare");
    assert!(page.contains("Customers count where 90 days from joined had passed by 2025-12-31"), "{page}");
    assert!(page.contains("whose outcome is not known, or not yet, are excluded"), "{page}");
    assert!(study.page("ledger").contains("Event: left is “yes”, where 90 days from joined had passed"));

    // Nobody who came late is fitted to or judged on, and another event is watched for as long.
    study.fitted("logistic").await;
    let model = study.store.candidates(study.id, &[]).await.expect("models").remove(0);
    let (_, known) = study.state().await.counted.expect("counted");
    let judged = model.judged().expect("stored").expect("judged");
    assert!((judged.rows as f64 - known as f64 * 0.2).abs() < 2.0, "{} of {known}", judged.rows);
    assert!((judged.events as f64 / judged.rows as f64 - found).abs() < 0.01);
    assert_eq!(study.post("prepare/outcome", &[("column", "left"), ("event", "no")]), 303);
    assert!((rate(&study).await - (1.0 - found)).abs() < 1e-9);

    // It can be taken back, and be done without.
    let (entry, _) = study.newest().await;
    assert_eq!(study.post("take-back", &[("entry", &entry.to_string()), ("back", "prepare")]), 303);
    assert!((rate(&study).await - found).abs() < 1e-9);
    assert_eq!(study.post("prepare/window", &[("from", ""), ("days", ""), ("until", "")]), 303);
    assert_eq!(study.state().await.outcome.expect("one").window, None);
    assert!(study.page("prepare").contains("The outcome of every customer counts"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_window_that_cannot_be_is_refused_and_changes_nothing() {
    let study = begun().await;
    let before = study.state().await;
    for (from, days, until, says) in [
        ("joined", "ninety", "2025-12-31", "Give the length of the window in whole days"),
        ("joined", "0", "2025-12-31", "A window lasts 1 to"),
        ("joined", "90", "the end", "Give the last day of the records"),
        ("joined", "90", "2025-02-01", "Nobody was observed for 90 days"),
        ("fee", "90", "2025-12-31", "“fee” holds no dates"),
        ("gone", "90", "2025-12-31", "There is no column called “gone”"),
    ] {
        let fields = [("from", from), ("days", days), ("until", until)];
        let refused = study.http.submit(&format!("/studies/{}/prepare/window", study.id), &fields);
        assert!(refused.status == 422 && plain(&refused.text).contains(says), "{says}: {}", refused.text);
    }
    assert_eq!(study.state().await.outcome, before.outcome);
    study.idle().await;
}
