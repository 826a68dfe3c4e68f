//! Questions in SQL: answered, refused where they are wrong, and kept within their bounds.

use std::time::{Duration, Instant};

use crate::support::{Browser, EMAIL, Http, Server, plain};
use pronoia_store::Store;
use pronoia_store::queries::{QueryError, QueryLimits};

const LIMITS: QueryLimits = QueryLimits { time: Duration::from_secs(10), rows: 50, bytes: 1 << 20 };

/// A table of two hundred bookings, with names that are no plain SQL.
fn bookings() -> Vec<u8> {
    let mut csv = String::from("Kunde,fee,Öffnung,order\n");
    for i in 0..200 {
        csv += &format!("K{i:03},{},{},\"a, \"\"{}\"\"\"\n", i * 3, if i % 4 == 0 { "ja" } else { "nein" }, i % 5);
    }
    csv.into_bytes()
}

async fn begun() -> (Server, Http, Store) {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    http.follow(&http.upload(&http.csrf(), "Bookings 2026.csv", &bookings()).location).await;
    http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
    let store = server.store().await;
    (server, http, store)
}

/// The lines of an answer.
async fn lines(store: &Store, sql: &str) -> Vec<String> {
    let answer = store.ask(1, sql, &LIMITS).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
    let missing = |value: Option<String>| value.unwrap_or_else(|| "-".into());
    let rows = answer.rows.into_iter().map(|row| row.into_iter().map(missing).collect::<Vec<_>>().join("|"));
    std::iter::once(answer.columns.join("|")).chain(rows).collect()
}

/// What is said against a question, and the word it is said of.
async fn refused(store: &Store, sql: &str) -> (String, String) {
    match store.ask(1, sql, &LIMITS).await {
        Err(QueryError::Question { sentence, place }) => {
            let place = place.unwrap_or(0..0);
            (sentence, sql.chars().skip(place.start).take(place.len()).collect())
        }
        other => panic!("{sql}: {other:?}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_answer_by_their_own_names() {
    let (_server, _http, store) = begun().await;
    let readable = store.readable(1).await.expect("tables");
    assert_eq!(readable[0].name, "\"Bookings 2026\"");
    assert_eq!(readable[0].columns, ["\"Kunde\"", "fee", "\"Öffnung\"", "\"order\""]);
    let sql = "SELECT \"Öffnung\", count(*) AS n, sum(fee) FROM \"Bookings 2026\" GROUP BY 1 ORDER BY 1; -- by hour\n";
    assert_eq!(
        lines(&store, sql.trim_end_matches("-- by hour\n")).await,
        ["Öffnung|n|sum", "ja|50|14700", "nein|150|45000"]
    );
    assert_eq!(lines(&store, "SELECT NULL AS x, '' AS y -- nothing").await, ["x|y", "-|"]);
    let with = "WITH dear AS (SELECT * FROM \"Bookings 2026\" WHERE fee > 590) SELECT \"order\" FROM dear ORDER BY fee";
    assert_eq!(lines(&store, with).await, ["order", "a, \"2\"", "a, \"3\"", "a, \"4\""]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mistake_is_told_of_the_word_that_is_wrong() {
    let (_server, http, store) = begun().await;
    for (sql, word, says) in [
        ("SELECT fees FROM \"Bookings 2026\"", "fees", "There is no column “fees” here. Perhaps fee is meant."),
        ("SELECT 'é', fee FROM bookings", "bookings", "There is no table “bookings”"),
        ("SELECT fee FROM \"Bookings 2026\" WHERE \"Öffnung\" + 1 > 2", "+", "operator does not exist"),
        ("SELECT nothing(fee) FROM \"Bookings 2026\"", "nothing", "There is no function “nothing”"),
        ("SELECT fee\nFROM \"Bookings 2026\"\nWERE fee > 3", "fee", "It cannot be read"),
        ("SELECT 1 / 0", "", "Division by zero."),
    ] {
        let (sentence, marked) = refused(&store, sql).await;
        assert!(sentence.to_lowercase().contains(&says.to_lowercase()), "{sql}: {sentence}");
        if !word.is_empty() {
            assert_eq!(marked, word, "{sql}: {sentence}");
        }
    }
    let page = plain(&http.submit("/query", &[("sql", "SELECT fees FROM \"Bookings 2026\"")]).text);
    assert!(page.contains("<mark>fees</mark>") && page.contains("The query failed"), "{page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_beyond_the_workspace_is_reached() {
    let (server, _http, store) = begun().await;
    // A second workspace with a table of its own.
    let other = store.create_account("other@example.org", "a long enough password", "Another", false).await;
    let workspace = other.expect("a workspace");
    assert_ne!(workspace, 1);
    for sql in [
        "SELECT 1; SELECT 2",
        "DELETE FROM \"Bookings 2026\"",
        "WITH gone AS (DELETE FROM \"Bookings 2026\" RETURNING 1) SELECT * FROM gone",
        "SELECT * INTO copy FROM \"Bookings 2026\"",
        "SELECT * FROM \"Bookings 2026\" FOR UPDATE",
        "SELECT * FROM account",
        "SELECT * FROM public.account",
        "SELECT * FROM workspace_1.table_1",
        "SELECT * FROM ask_2.anything",
        "SELECT pg_sleep(100)",
        "SELECT pg_read_file('/etc/passwd')",
        "SELECT set_config('role', 'pronoia', false)",
        "SELECT * FROM pg_authid",
        "SELECT * FROM information_schema.tables",
        "SELECT query_to_xml('SELECT * FROM account', true, true, '')",
        "SELECT lo_import('/etc/passwd')",
        "SELECT 1) TO PROGRAM 'id' --",
    ] {
        let (sentence, _) = refused(&store, sql).await;
        assert!(!sentence.is_empty(), "{sql}");
    }
    assert_eq!(lines(&store, "SELECT count(*) FROM \"Bookings 2026\"").await[1], "200", "nothing was changed");
    // The other workspace does not see this one's tables.
    let unseen = store.ask(workspace, "SELECT * FROM \"Bookings 2026\"", &LIMITS).await;
    assert!(matches!(unseen, Err(QueryError::Question { .. })), "{unseen:?}");
    drop(server);
}

#[tokio::test(flavor = "multi_thread")]
async fn time_rows_and_bytes_have_their_limits() {
    let (_server, http, store) = begun().await;
    let endless = "SELECT count(*) FROM generate_series(1, 100000) a, generate_series(1, 100000) b";
    let hasty = QueryLimits { time: Duration::from_millis(300), ..LIMITS };
    let begun = Instant::now();
    let stopped = store.ask(1, endless, &hasty).await.expect_err("too long").to_string();
    assert!(stopped.contains("It was stopped after") && begun.elapsed() < Duration::from_secs(5), "{stopped}");
    let answer = store.ask(1, "SELECT i, E'two\\nlines' FROM generate_series(1, 3000000) i", &LIMITS).await;
    let answer = answer.expect("an answer");
    assert_eq!((answer.cut, answer.rows.len()), (true, 50));
    assert_eq!(answer.rows[49], [Some("50".to_owned()), Some("two\nlines".to_owned())]);
    let wide = QueryLimits { bytes: 10_000, rows: 1_000_000, ..LIMITS };
    let answer = store.ask(1, "SELECT lpad('x', 500) FROM generate_series(1, 1000)", &wide).await.expect("some");
    assert!(answer.cut && answer.rows.len() == 19, "{}", answer.rows.len());
    // Afterwards the next question is answered as ever.
    assert_eq!(lines(&store, "SELECT 1 AS one").await, ["one", "1"]);
    let long = http.submit("/query", &[("sql", &"x".repeat(9_000))]);
    assert!(long.status == 200 && long.text.contains("at most 8000 characters"), "{}", long.text);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_is_kept_as_a_table() {
    let (server, http, store) = begun().await;
    let sql = "SELECT \"Kunde\", fee * 2 AS double_fee FROM \"Bookings 2026\" WHERE \"Öffnung\" = 'ja'";
    assert_eq!(http.submit("/query/keep", &[("sql", sql), ("name", " ")]).status, 422);
    assert_eq!(http.submit("/query/keep", &[("sql", "SELECT x"), ("name", "x")]).status, 422);
    let kept = http.submit("/query/keep", &[("sql", sql), ("name", "dear & open")]);
    assert_eq!(kept.status, 303);
    http.follow(&kept.location).await;
    http.follow(&http.submit("/uploads/2/accept", &[]).location).await;
    let tables = store.tables(1).await.expect("tables");
    assert_eq!((tables[0].name.as_str(), tables[0].rows), ("dear & open", 50));
    assert_eq!(lines(&store, "SELECT sum(double_fee) FROM \"dear & open\"").await[1], "29400");

    let b = Browser::open().await;
    b.sign_in(&server).await;
    b.go(&format!("{}/query", server.url)).await;
    b.fill("#sql", "SELECT \"Kunde\", fees FROM \"Bookings 2026\"").await;
    b.click(".ask-records .button").await;
    b.see("[role=alert] mark", "fees").await;
    b.is_accessible("a question that is wrong").await;
    b.script("document.querySelector('#sql').value = 'SELECT \"Kunde\", fee FROM \"Bookings 2026\" ORDER BY fee DESC'")
        .await;
    b.click(".ask-records .button").await;
    b.see(".rows tbody tr", "597").await;
    b.is_accessible("an answer").await;
    b.close().await;
}

/// Questions that two parsers read differently, so that the database would run what the guard took for a text.
const BREAKING_OUT: [&str; 3] = [
    "SELECT $€$,' $€$ AS x) TO STDOUT; ROLLBACK; BEGIN READ WRITE; SELECT lo_create(4711); COMMIT; BEGIN; COPY (SELECT 1 --'",
    "SELECT $é1$,' $é1$ AS x) TO STDOUT; ROLLBACK; BEGIN READ WRITE; SELECT lo_create(4711); COMMIT; BEGIN; COPY (SELECT 1 --'",
    "SELECT lo_create(4711)",
];

#[tokio::test(flavor = "multi_thread")]
async fn nobody_gets_out_of_the_question_box() {
    let (server, http, store) = begun().await;
    for sql in BREAKING_OUT {
        let answered = store.ask(1, sql, &LIMITS).await;
        let made = server.answer("SELECT count(*)::text FROM pg_largeobject_metadata").await;
        assert_eq!(made, "0", "{sql}: {answered:?}");
    }
    drop(http);
}
