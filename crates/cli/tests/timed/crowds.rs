//! Many who ask for much, or say nothing: pages of others are answered all the same.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use crate::support::study::Study;
use crate::support::{EMAIL, Http, PASSWORD, Server, plain, until};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv, renewals_csv};
use sea_orm::{ConnectionTrait, Database, TransactionTrait};

/// Sends the beginning of a request.
fn begun(server: &Server, text: &str) -> TcpStream {
    let mut stream = TcpStream::connect(server.url.trim_start_matches("http://")).expect("a connection");
    stream.write_all(text.as_bytes()).expect("sent");
    stream
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thousand_silent_forms_do_not_stop_the_sign_in() {
    let _beside = crate::ALONE.read().await;
    let server = Server::start_with(&["--patience-seconds", "3"]).await;
    server.make_account();
    let form = "POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: 100\r\n\r\nemail=";
    let mut silent: Vec<TcpStream> = (0..1_050).map(|_| begun(&server, form)).collect();
    let asked = Instant::now();
    Http::signed_in(&server, EMAIL);
    assert!(asked.elapsed() < Duration::from_secs(3), "{:?}", asked.elapsed());
    // None of them is kept for long.
    for stream in &mut silent {
        stream.set_read_timeout(Some(Duration::from_secs(20))).expect("set");
        let mut answer = String::new();
        // Those that made room for others were cut off.
        let _ = stream.read_to_string(&mut answer);
        assert!(answer.is_empty() || answer.starts_with("HTTP/1.1 4"), "{answer}");
    }
    assert!(asked.elapsed() < Duration::from_secs(30), "{:?}", asked.elapsed());
    // Whoever sends a byte now and then has no more time than others.
    let mut slow = begun(&server, form);
    let asked = Instant::now();
    slow.set_read_timeout(Some(Duration::from_millis(200))).expect("set");
    let over = loop {
        let sent = slow.write_all(b"x");
        // What is read is the end, or the answer.
        if sent.is_err() || slow.read(&mut [0; 1]).is_ok() || asked.elapsed() > Duration::from_secs(20) {
            break asked.elapsed();
        }
    };
    assert!(over < Duration::from_secs(15), "{over:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn abandoned_exports_and_previews_leave_the_pages_of_others_alone() {
    let _alone = crate::ALONE.write().await;
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    assert_eq!(study.post("decide", &[("line", "0.2")]), 303);
    study.scored("renewals.csv", &renewals_csv(&members(20_000, SEED + 1, FIRST_RENEWAL))).await;
    let sent = study.http.upload(&study.http.csrf(), "more.csv", &outcome_csv(&members(20_000, SEED, FIRST_MEMBER)));
    study.http.follow(&sent.location).await;
    let upload = study.server.answer("SELECT max(id)::text FROM upload").await;
    study.http.follow(&study.http.submit(&format!("/uploads/{upload}/accept"), &[]).location).await;
    let more = study.server.answer("SELECT max(id)::text FROM record_table").await;
    study.store.create_account("other@example.org", PASSWORD, "Another", false).await.expect("made");
    let other = Http::signed_in(&study.server, "other@example.org");
    other.get("/");

    let ask = |path: &str| {
        let text = format!("GET {path} HTTP/1.1\r\nHost: x\r\nCookie: {}\r\n\r\n", study.http.cookie);
        begun(&study.server, &text)
    };
    let list = format!("/studies/{}/lists/1/scored.xlsx", study.id);
    let preview = format!("/tables/{more}/join?with={more}&first_key=member_id&second_key=member_id");
    let exports: Vec<TcpStream> = (0..24).map(|_| ask(&list)).collect();
    let previews: Vec<TcpStream> = (0..20).map(|_| ask(&preview)).collect();
    let mut times = Vec::new();
    let page = |times: &mut Vec<Duration>| {
        let asked = Instant::now();
        assert_eq!(other.get("/").status, 200);
        times.push(asked.elapsed());
    };
    (0..10).for_each(|_| page(&mut times));
    // They leave.
    drop((exports, previews));
    (0..30).for_each(|_| page(&mut times));
    times.sort_unstable();
    let (p90, slowest) = (times[times.len() * 9 / 10], times[times.len() - 1]);
    println!("p90 {p90:?}, slowest {slowest:?}");
    assert!(p90 < Duration::from_millis(300), "{times:?}");
    // Whoever comes while others wait is told so, and served soon after.
    let crowd: Vec<_> = std::thread::scope(|scope| {
        let all: Vec<_> = (0..16).map(|_| scope.spawn(|| study.http.status(&list))).collect();
        all.into_iter().map(|one| one.join().expect("answered")).collect()
    });
    assert!(crowd.iter().all(|status| [200, 503].contains(status)), "{crowd:?}");
    let (served, told) = (crowd.iter().filter(|s| **s == 200).count(), crowd.iter().filter(|s| **s == 503).count());
    assert!(served >= 2 && told >= 1, "{crowd:?}");
    until("the next one is served", || async { (study.http.status(&list) == 200).then_some(()) }).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_row_that_somebody_holds_is_not_waited_for_long() {
    let _alone = crate::ALONE.write().await;
    let study = Study::begun(&members(400, SEED, FIRST_MEMBER), "yes").await;
    study.looked_at().await;
    let database = Database::connect(&study.server.database).await.expect("the database");
    let transaction = database.begin().await.expect("begun");
    transaction.execute_unprepared("UPDATE study SET title = title").await.expect("held");
    let asked = Instant::now();
    let refused = study.http.submit(&format!("/studies/{}/prepare/leave-out", study.id), &[]);
    assert!(asked.elapsed() < Duration::from_secs(5), "{:?}", asked.elapsed());
    assert_eq!(refused.status, 503, "{}", plain(&refused.text));
    assert_eq!(refused.headers["retry-after"], "3");
    let says = plain(&refused.text);
    assert!(says.contains("Busy, try again") && says.contains("Somebody else is changing the same"), "{says}");
    transaction.rollback().await.expect("let go");
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
}
