//! Whatever is sent, nothing panics and no answer is an error of ours. In every run for some seconds;
//! with `PRONOIA_TEST_SLOW` for ten minutes each.

use std::time::{Duration, Instant};

use crate::support::study::Study;
use crate::support::{EMAIL, Http, Server};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv, renewals_csv};
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

fn end() -> Instant {
    let seconds = if std::env::var("PRONOIA_TEST_SLOW").is_ok() { 600 } else { 5 };
    Instant::now() + Duration::from_secs(seconds)
}

/// Something that was right once, changed in a few places: bytes turned, taken out, doubled, or replaced
/// by words that mean something here.
fn damaged(rng: &mut ChaCha8Rng, whole: &[u8], words: &[&str]) -> Vec<u8> {
    let mut bytes = whole.to_vec();
    for _ in 0..rng.random_range(1..8u8) {
        let at = rng.random_range(0..=bytes.len());
        let to = rng.random_range(at..=bytes.len().min(at + 40));
        match rng.random_range(0..6u8) {
            0 if at < bytes.len() => bytes[at] ^= 1 << rng.random_range(0..8u8),
            1 => drop(bytes.drain(at..to)),
            2 => {
                let part = bytes[at..to].to_vec();
                let place = rng.random_range(0..=bytes.len());
                drop(bytes.splice(place..place, part));
            }
            3 => drop(bytes.splice(at..at, words.choose(rng).expect("words").bytes())),
            4 => drop(bytes.splice(at..to, words.choose(rng).expect("words").bytes())),
            _ => drop(bytes.splice(at..at, [rng.random::<u8>(), 0])),
        }
    }
    bytes
}

/// Bytes as they stand in an address.
fn encoded(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("%{byte:02X}")).collect()
}

fn nothing_broke(server: &Server, what: &str, times: usize) {
    let said = server.said();
    assert!(!said.contains("panicked") && !said.contains("broke off"), "{said}");
    println!("{what}: {times} times");
    assert!(times > 3, "{what}: only {times}");
}

const SQL: [&str; 26] = [
    "CASE WHEN",
    "END",
    "NULL",
    "((((((((",
    "))))",
    "'",
    "\"",
    "--",
    ";",
    "/*",
    "1e999",
    "0/0",
    "-9223372036854775808",
    "SELECT",
    "FROM members",
    "WHERE",
    "GROUP BY",
    "pg_sleep(9)",
    "generate_series(1, 1000000000)",
    "||",
    "LIKE '%'",
    "CAST(",
    "AS integer)",
    "EXTRACT(year FROM",
    "\u{202e}",
    "ünï",
];

#[tokio::test(flavor = "multi_thread")]
async fn files() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let people = members(60, SEED, FIRST_MEMBER);
    let mut seeds: Vec<(String, Vec<u8>)> = pronoia_demo::files()
        .expect("files")
        .into_iter()
        .filter(|(_, bytes)| bytes.len() < 3_000_000)
        .map(|(name, bytes)| (name.to_owned(), bytes))
        .collect();
    seeds.push(("members.csv".into(), outcome_csv(&people)));
    seeds.push(("renewals.csv".into(), renewals_csv(&people)));
    seeds.push(("lines.jsonl".into(), b"{\"a\":1,\"b\":\"x\"}\n{\"a\":2,\"b\":null}\n".to_vec()));
    let words = [
        ",",
        ";",
        "\t",
        "\"",
        "\n",
        "\r\n",
        "NULL",
        "NaN",
        "1e308",
        "\u{feff}",
        "{",
        "}",
        "[[",
        "PAR1",
        "ARROW1",
        "PK\u{3}\u{4}",
    ];
    let (end, mut times) = (end(), 0);
    let csrf = http.csrf();
    let store = server.store().await;
    while Instant::now() < end {
        let mut rng = ChaCha8Rng::seed_from_u64(times as u64);
        let (name, bytes) = seeds.choose(&mut rng).expect("seeds");
        let name = if rng.random::<f64>() < 0.2 { format!("{}.csv", &name[..3]) } else { name.clone() };
        let sent = http.upload(&csrf, &name, &damaged(&mut rng, bytes, &words));
        assert!(sent.status < 500, "{times} {name}: {}", sent.text);
        if sent.status == 303 {
            let seen = http.follow(&sent.location).await;
            assert!(seen.status < 500, "{times} {name}: {}", seen.text);
            if let Some(upload) =
                store.waiting_uploads(1).await.expect("uploads").first().filter(|u| u.state == "ready")
            {
                let accepted = http.submit(&format!("/uploads/{}/accept", upload.id), &[]);
                assert!(accepted.status < 500, "{times} {name}: {}", accepted.text);
                if accepted.status == 303 {
                    let made = http.follow(&accepted.location).await;
                    assert!(made.status < 500, "{times} {name}: {}", made.text);
                }
            }
        }
        times += 1;
        // The page of what waits does not grow without end.
        server.run_sql("DELETE FROM upload").await;
    }
    nothing_broke(&server, "files", times);
}

#[tokio::test(flavor = "multi_thread")]
async fn expressions() {
    let study = Study::begun(&members(400, SEED, FIRST_MEMBER), "yes").await;
    let seeds = [
        "CASE WHEN tenure_months < 12 AND species = 'cat' THEN 1 ELSE 0 END",
        "annual_fee / nullif(visits_last_year, 0) + 2 * fee_rise_pct",
        "EXTRACT(year FROM renewal_on) - 2000",
        "coalesce(species, 'none') || '-' || plan_tier",
        "NOT (declined_claims IN (1, 2, 3) OR months_since_visit BETWEEN 2 AND 9)",
        "CAST(member_id AS integer) % 7",
    ];
    let (end, mut times) = (end(), 0);
    while Instant::now() < end {
        let mut rng = ChaCha8Rng::seed_from_u64(times as u64);
        let seed = seeds.choose(&mut rng).expect("seeds");
        let text = encoded(&damaged(&mut rng, seed.as_bytes(), &SQL));
        let is_condition = rng.random::<bool>();
        let path = format!("/studies/{}/prepare/expression?sql={text}&condition={is_condition}", study.id);
        let seen = study.http.get(&path);
        assert!(seen.status < 500, "{path}: {}", seen.text);
        times += 1;
    }
    nothing_broke(&study.server, "expressions", times);
}

#[tokio::test(flavor = "multi_thread")]
async fn questions() {
    let study = Study::begun(&members(400, SEED, FIRST_MEMBER), "yes").await;
    let seeds = [
        "SELECT species, count(*) FROM members GROUP BY species ORDER BY 2 DESC",
        "SELECT * FROM members WHERE annual_fee > 100 LIMIT 5",
        "WITH m AS (SELECT tenure_months AS t FROM members) SELECT avg(t), min(t), max(t) FROM m",
        "SELECT a.species FROM members a JOIN members b ON a.member_id = b.member_id WHERE a.cancelled = 'yes'",
    ];
    let (end, mut times) = (end(), 0);
    while Instant::now() < end {
        let mut rng = ChaCha8Rng::seed_from_u64(times as u64);
        let seed = seeds.choose(&mut rng).expect("seeds");
        let text = String::from_utf8_lossy(&damaged(&mut rng, seed.as_bytes(), &SQL)).into_owned();
        for path in ["/query", "/query/answer.csv"] {
            let seen = study.http.submit(path, &[("sql", &text)]);
            assert!(seen.status < 500, "{path} {text}: {}", seen.text);
        }
        times += 1;
    }
    nothing_broke(&study.server, "questions", times);
}

#[tokio::test(flavor = "multi_thread")]
async fn bodies_of_programs() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("logistic").await;
    assert_eq!(study.post("decide", &[("save_rate", "60")]), 303);
    assert_eq!(study.post("live", &[("name", "renewals")]), 303);
    let shown = |page: &str| {
        let key = page.split("data-new-key>").nth(1).and_then(|rest| rest.split('<').next());
        key.unwrap_or_else(|| panic!("{page}")).to_owned()
    };
    let release = study.page("live");
    let release = release.split("id=\"release-").nth(1).and_then(|rest| rest.split('"').next()).expect("a release");
    let address = format!("/studies/{}/live/{release}/keys", study.id);
    let of_release = shown(&study.http.submit(&address, &[("name", "fuzz"), ("per_minute", "100000")]).text);
    let of_work = shown(&study.http.submit("/programs", &[("name", "fuzz")]).text);
    let csv = renewals_csv(&members(3, SEED + 1, FIRST_RENEWAL));
    let text = String::from_utf8(csv.clone()).expect("text");
    let mut lines = text.lines().map(|line| line.split(','));
    let (names, values) = (lines.next().expect("names"), lines.next().expect("a customer"));
    let customer: serde_json::Value =
        names.zip(values).map(|(name, value)| (name.to_owned(), serde_json::json!(value))).collect();
    let json = |value: serde_json::Value| value.to_string().into_bytes();
    let id = study.id;
    let seeds = [
        (
            "/api/v1/releases/renewals/score".to_owned(),
            "application/json",
            json(serde_json::json!({ "customers": [customer] })),
        ),
        ("/api/v1/releases/renewals/score".to_owned(), "text/csv", csv),
        (
            "/api/v1/studies".to_owned(),
            "application/json",
            json(
                serde_json::json!({ "table": 1, "title": "Who?", "question": "churn", "outcome": "cancelled", "event": "yes" }),
            ),
        ),
        (
            format!("/api/v1/studies/{id}/fits"),
            "application/json",
            json(serde_json::json!({ "family": "bayes", "settings": {} })),
        ),
        (format!("/api/v1/studies/{id}/lists"), "application/json", json(serde_json::json!({ "table": 1 }))),
        ("/api/v1/files/1/accept".to_owned(), "application/json", json(serde_json::json!({ "columns": [] }))),
    ];
    let words = [
        "null",
        "-1",
        "1e400",
        "[]",
        "{}",
        "\"",
        "\\u0000",
        "\\ud800",
        "99999999999999999999",
        "true",
        ",",
        ":",
        "[[[[[[[[",
        "{\"a\":",
    ];
    let (end, mut times) = (end(), 0);
    while Instant::now() < end {
        let mut rng = ChaCha8Rng::seed_from_u64(times as u64);
        let (path, media_type, body) = seeds.choose(&mut rng).expect("seeds");
        let key = if path.contains("releases") { &of_release } else { &of_work };
        let authorization = format!("Bearer {key}");
        let headers = [("content-type", *media_type), ("authorization", authorization.as_str())];
        let body = damaged(&mut rng, body, &words);
        let answer = study.http.call(path, &headers, &body);
        assert!(answer.status < 500, "{path} {}: {}", String::from_utf8_lossy(&body), answer.text);
        times += 1;
        if times % 200 == 0 {
            study.server.run_sql("DELETE FROM job WHERE state = 'queued'").await;
        }
    }
    nothing_broke(&study.server, "bodies of programs", times);
}
