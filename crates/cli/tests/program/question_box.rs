//! The box for questions in SQL, attacked: with words that would get past us, with questions that want much memory,
//! by two servers at once, and on a database that nobody prepared.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use crate::support::{EMAIL, Http, PASSWORD, Server, until};
use pronoia_store::Store;
use pronoia_store::queries::{QueryError, QueryLimits, Unprotected};
use sea_orm::{ConnectOptions, ConnectionTrait, Database, DatabaseConnection, DbBackend, Statement};

const LIMITS: QueryLimits = QueryLimits { time: Duration::from_secs(10), rows: 200, bytes: 4 << 20 };

/// Bookings of a year, ten thousand of them.
fn bookings() -> Vec<u8> {
    let mut csv = String::from("customer,fee,note\n");
    (0..10_000).for_each(|i| csv += &format!("K{i:05},{},note {} {}\n", i % 977, i * 7919 % 10_007, "x".repeat(40)));
    csv.into_bytes()
}

async fn begun(server: &Server, email: &str, name: &str) {
    let http = Http::signed_in(server, email);
    http.follow(&http.upload(&http.csrf(), name, &bookings()).location).await;
    let uploads = server.answer("SELECT max(id)::text FROM upload").await;
    http.follow(&http.submit(&format!("/uploads/{uploads}/accept"), &[]).location).await;
}

/// A connection as the role that questions of a workspace are asked by.
async fn as_reader(server: &Server, workspace: i64) -> DatabaseConnection {
    let of = |column: &str| format!("SELECT {column} FROM question_role WHERE workspace_id = {workspace}");
    let (role, password) = (server.answer(&of("role")).await, server.answer(&of("password")).await);
    let (_, place) = server.database.rsplit_once('@').expect("an address");
    let mut one = ConnectOptions::new(format!("postgres://{role}:{password}@{place}"));
    one.max_connections(1);
    Database::connect(one).await.expect("let in")
}

#[tokio::test(flavor = "multi_thread")]
async fn the_role_of_questions_reaches_nothing_else_even_if_the_words_fail() {
    let server = Server::start().await;
    server.make_account();
    begun(&server, EMAIL, "bookings.csv").await;
    let store = server.store().await;
    let other = store.create_account("other@example.org", PASSWORD, "Another", false).await.expect("a workspace");
    begun(&server, "other@example.org", "secrets of another.csv").await;
    for workspace in [1, other] {
        store.ask(workspace, "SELECT 1", &LIMITS).await.expect("an answer");
    }
    let tables = store.tables(other).await.expect("tables");
    let theirs = tables[0].id;
    let own = store.tables(1).await.expect("tables")[0].id;
    let reader = as_reader(&server, 1).await;
    let ask = |sql: &str| Statement::from_string(DbBackend::Postgres, sql.to_owned());
    let count = format!("SELECT count(*) FROM ask_1.table_{own}");
    assert!(reader.query_one_raw(ask(&count)).await.is_ok(), "its own views are there");
    // Not read-only, as one would have it who got out of the transaction.
    reader.execute_unprepared("SET default_transaction_read_only = off").await.expect("set");
    for sql in [
        "SELECT * FROM public.account",
        "SELECT * FROM public.question_role",
        "SELECT count(*) FROM pg_class",
        "SELECT count(*) FROM pg_namespace",
        "SELECT count(*) FROM pg_attribute",
        "SELECT count(*) FROM pg_roles",
        "SELECT count(*) FROM pg_stat_activity",
        "SELECT count(*) FROM pg_stat_user_tables",
        "SELECT count(*) FROM pg_largeobject_metadata",
        "SELECT count(*) FROM information_schema.tables",
        "SELECT lo_create(4711)",
        "SELECT lo_from_bytea(4711, 'x')",
        "SELECT pg_advisory_lock(7300)",
        "SELECT pg_try_advisory_xact_lock(7300)",
        "SELECT pg_sleep(1)",
        "SELECT set_config('statement_timeout', '0', false)",
        "SELECT current_setting('data_directory')",
        "SELECT query_to_xml('SELECT 1', true, true, '')",
        "SELECT pg_read_file('/etc/passwd')",
        "SELECT nextval('public.account_id_seq')",
        "SELECT pg_notify('x', 'y')",
        "SELECT txid_current()",
        "SELECT pg_database_size(current_database())",
        "CREATE TEMPORARY TABLE x (a int)",
        "CREATE TABLE public.x (a int)",
        "CREATE TABLE ask_1.x (a int)",
        "COPY (SELECT 1) TO PROGRAM 'id'",
        "SET ROLE pronoia_server",
        "SELECT * FROM public.server_lock FOR UPDATE",
        "BEGIN; LOCK TABLE public.server_lock IN ACCESS EXCLUSIVE MODE",
        &format!("BEGIN; LOCK TABLE ask_1.table_{own} IN ACCESS EXCLUSIVE MODE"),
        &format!("SELECT * FROM ask_{other}.table_{theirs}"),
        &format!("SELECT * FROM workspace_{other}.table_{theirs}"),
        &format!("SELECT * FROM workspace_1.table_{own}"),
        &format!("SELECT pg_get_viewdef('ask_1.table_{own}'::regclass)"),
        &format!("SELECT pg_relation_size('ask_1.table_{own}'::regclass)"),
        &format!("SELECT obj_description('ask_1.table_{own}'::regclass)"),
        &format!("SELECT has_column_privilege('ask_1.table_{own}'::regclass, 'fee', 'SELECT')"),
    ] {
        let answered = reader.execute_unprepared(sql).await;
        reader.execute_unprepared("ROLLBACK").await.expect("ended");
        let refused = answered.expect_err(sql).to_string();
        assert!(
            refused.contains("denied") || refused.contains("must be") || refused.contains("not allowed"),
            "{sql}: {refused}"
        );
    }
    // No name that somebody chose stands where it could be found by its number.
    let columns = server.answer("SELECT string_agg(DISTINCT attname, ' ' ORDER BY attname) FROM pg_attribute a \
        JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname LIKE 'ask%'");
    assert_eq!(columns.await, "c1 c2 c3");
    // Whoever changes the role's password locks nobody out.
    let role = server.answer("SELECT role FROM question_role WHERE workspace_id = 1").await;
    reader.execute_unprepared(&format!("ALTER ROLE {role} PASSWORD 'mine now'")).await.expect("its own");
    let answer = store.ask(1, "SELECT count(*) FROM bookings", &LIMITS).await.expect("an answer");
    assert_eq!(answer.rows[0][0].as_deref(), Some("10000"));
}

#[tokio::test(flavor = "multi_thread")]
async fn questions_are_off_on_a_database_that_was_not_prepared_unless_that_is_accepted_by_name() {
    let mut server = Server::start().await;
    server.make_account();
    server.kill();
    // The same database as a superuser sees it, with what everybody may do by default.
    server.database = server.database.replacen("//pronoia_server:", "//pronoia:", 1);
    server.run_sql("GRANT SELECT ON pg_catalog.pg_class TO PUBLIC; GRANT EXECUTE ON FUNCTION pg_sleep(double precision) TO PUBLIC").await;
    let name = server.database.rsplit_once('/').expect("a name").1.to_owned();
    server.run_sql(&format!("ALTER DATABASE {name} RESET temp_file_limit")).await;
    server.run().await;
    let http = Http::signed_in(&server, EMAIL);
    let page = http.get("/query").text;
    for says in [
        "SQL is off",
        "as a superuser",
        "advisory locks",
        "names of all tables",
        "temporary files",
        "deploy/prepare_database.sql",
    ] {
        assert!(page.contains(says), "{says}: {page}");
    }
    assert!(server.said().contains("Questions in SQL are off"), "the log says so, too");
    let asked = http.submit("/query", &[("sql", "SELECT 41 + 1 AS n")]);
    assert!(asked.text.contains("The query was refused") && !asked.text.contains("<td>42"), "{}", asked.text);
    let store = server.store().await;
    assert_eq!(store.unprotected().await.expect("looked at"), Unprotected::ALL);
    assert!(store.ask(1, "SELECT 1", &LIMITS).await.is_err());
    store.accept_unprotected(&Unprotected::ALL[..3]);
    let still = store.ask(1, "SELECT 1", &LIMITS).await.expect_err("one is missing").to_string();
    assert!(still.contains("temporary-files") && !still.contains("superuser"), "{still}");
    store.accept_unprotected(&Unprotected::ALL);
    assert_eq!(store.ask(1, "SELECT 1 AS one", &LIMITS).await.expect("accepted").columns, ["one"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_servers_share_the_roles_and_answer_every_question() {
    let server = Server::start().await;
    server.make_account();
    begun(&server, EMAIL, "bookings.csv").await;
    let first = server.store().await;
    let other = first.create_account("other@example.org", PASSWORD, "Another", false).await.expect("a workspace");
    begun(&server, "other@example.org", "bookings.csv").await;
    let stores = [first, server.store().await];
    let most = if std::env::var_os("PRONOIA_TEST_SLOW").is_some() { 2_000 } else { 120 };
    let asked = Arc::new(AtomicU64::new(0));
    let mut asking = Vec::new();
    for (at, store) in (0..4).map(|i| (i, stores[i % 2].clone())) {
        let asked = Arc::clone(&asked);
        let workspace = if at < 2 { 1 } else { other };
        asking.push(tokio::spawn(async move {
            while asked.fetch_add(1, Ordering::Relaxed) < most {
                let answer = store.ask(workspace, "SELECT count(*), max(customer) FROM bookings", &LIMITS).await;
                let answer = answer.unwrap_or_else(|e| panic!("{e}"));
                assert_eq!(answer.rows[0][0].as_deref(), Some("10000"));
            }
        }));
    }
    // Meanwhile tables come and go, and a role is lost.
    let http = Http::signed_in(&server, EMAIL);
    for round in 0..3 {
        let sent = http.upload(&http.csrf(), &format!("more {round}.csv"), b"a,b\n1,2\n3,4\n");
        http.follow(&sent.location).await;
        let uploads = server.answer("SELECT max(id)::text FROM upload").await;
        http.follow(&http.submit(&format!("/uploads/{uploads}/accept"), &[]).location).await;
        let table = server.answer("SELECT max(id)::text FROM record_table").await;
        let answer = stores[round % 2].ask(1, &format!("SELECT sum(a) FROM \"more {round}\""), &LIMITS).await;
        assert_eq!(answer.expect("an answer").rows[0][0].as_deref(), Some("4"));
        assert_eq!(http.submit(&format!("/tables/{table}/away"), &[]).status, 303);
    }
    for task in asking {
        task.await.expect("every question has its answer");
    }
}

/// Memory that nobody else has, in bytes, of the processes that answer questions and of the server.
async fn memory(admin: &DatabaseConnection, server: &Server) -> u64 {
    let sql = "SELECT pid FROM pg_stat_activity WHERE application_name = 'pronoia question'";
    let rows = admin.query_all_raw(Statement::from_string(DbBackend::Postgres, sql)).await.expect("activity");
    let backends = rows.iter().map(|row| row.try_get_by_index::<i32>(0).expect("a process") as u32);
    let own = |pid: u32| -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("RssAnon:"));
        line.and_then(|l| l.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()).unwrap_or(0) << 10
    };
    backends.map(own).sum::<u64>() + own(server.process_id())
}

#[tokio::test(flavor = "multi_thread")]
async fn four_askers_want_much_memory_and_get_little() {
    let server = Server::start().await;
    server.make_account();
    begun(&server, EMAIL, "bookings.csv").await;
    let doubled = |times: usize| {
        let steps: Vec<String> =
            (1..times).map(|n| format!(", d{n} AS (SELECT x || x AS x FROM d{})", n - 1)).collect();
        format!(
            "WITH d0 AS (SELECT note AS x FROM bookings LIMIT 3){} SELECT length(x) FROM d{}",
            steps.concat(),
            times - 1
        )
    };
    let greedy = [
        doubled(30),
        format!("SELECT {} FROM bookings a, bookings b", vec!["count(DISTINCT a.note || b.note)"; 30].join(", ")),
        "SELECT replace(replace(replace(note, 'x', 'yyyyyyyyyyyyyyyyyyyy'), 'y', 'zzzzzzzzzzzzzzzzzzzzzzzz'), 'z', 'aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa') FROM bookings".to_owned(),
        "SELECT a.note, b.note, a.note || b.note AS c FROM bookings a, bookings b ORDER BY c".to_owned(),
        "SELECT note, count(*) FROM (SELECT a.note || b.customer AS note FROM bookings a, bookings b) x GROUP BY note".to_owned(),
        "SELECT DISTINCT lpad(note, 10000) || customer || i::text FROM bookings, generate_series(1, 100000) i".to_owned(),
        "SELECT sum(fee) OVER (ORDER BY note || i::text), lag(note, 5000) OVER (ORDER BY i) FROM bookings, generate_series(1, 1000) i".to_owned(),
        "SELECT note FROM bookings WHERE note ~ '((a{9}){9}){9}(b{9}|c{1,9})'".to_owned(),
    ];
    let http = Http::signed_in(&server, EMAIL);
    assert_eq!(http.submit("/query", &[("sql", "SELECT count(*) FROM bookings")]).status, 200);
    let admin = Database::connect(server.database.replacen("//pronoia_server:", "//pronoia:", 1)).await.expect("admin");
    let before = memory(&admin, &server).await;
    let peak = AtomicU64::new(0);
    // Each question is asked by one of them, and in the long run by each.
    let slow = std::env::var_os("PRONOIA_TEST_SLOW").is_some();
    let askers: Vec<_> = (0..4)
        .map(|asker| {
            let (http, greedy, csrf) = (http.again_signed_in(), greedy.clone(), http.csrf());
            let most = if slow { greedy.len() } else { 2 };
            std::thread::spawn(move || {
                for at in 0..most {
                    let sql = &greedy[(at + asker * 2) % greedy.len()];
                    let answer = http.post("/query", &[("csrf", &csrf), ("sql", sql)]);
                    assert!(answer.status == 200 || answer.status == 503, "{sql}: {}", answer.text);
                }
            })
        })
        .collect();
    let begun = Instant::now();
    while !askers.iter().all(std::thread::JoinHandle::is_finished) {
        peak.fetch_max(memory(&admin, &server).await, Ordering::Relaxed);
        assert!(begun.elapsed() < Duration::from_secs(300), "the questions do not come to an end");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    askers.into_iter().for_each(|asker| asker.join().expect("asked"));
    let grown = peak.load(Ordering::Relaxed).saturating_sub(before);
    println!("memory grew by {} MB", grown >> 20);
    assert!(grown < 200 << 20, "memory grew by {} MB", grown >> 20);
    let left = || async { (memory(&admin, &server).await < before + (64 << 20)).then_some(()) };
    until("the memory is given back", left).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_gives_up_leaves_no_question_running() {
    let server = Server::start().await;
    server.make_account();
    let store = server.store().await;
    store.ask(1, "SELECT 1", &LIMITS).await.expect("an answer");
    let endless = "SELECT count(*) FROM generate_series(1, 1000000) a, generate_series(1, 1000000) b";
    let long = QueryLimits { time: Duration::from_secs(600), ..LIMITS };
    let asking = {
        let store = store.clone();
        tokio::spawn(async move { store.ask(1, endless, &long).await })
    };
    let running = || async {
        let sql = "SELECT count(*)::text FROM pg_stat_activity WHERE application_name = 'pronoia question' AND datname = current_database() AND state = 'active'";
        server.answer(sql).await
    };
    until("it is asked", || async { (running().await == "1").then_some(()) }).await;
    asking.abort();
    until("it is given up", || async { (running().await == "0").then_some(()) }).await;
    // And a question that its own time limit does not end is ended from outside.
    let brief = QueryLimits { time: Duration::from_millis(300), ..LIMITS };
    let ended = store.ask(1, endless, &brief).await;
    assert!(matches!(&ended, Err(QueryError::Question { sentence, .. }) if sentence.contains("stopped")), "{ended:?}");
}

/// Many askers at once are served or told to come again; none holds up pages.
#[tokio::test(flavor = "multi_thread")]
async fn a_crowd_of_askers_is_told_to_come_again() {
    let server = Server::start().await;
    server.make_account();
    let store: Store = server.store().await;
    let slow = "SELECT count(*) FROM generate_series(1, 100000) a, generate_series(1, 100000) b";
    let brief = QueryLimits { time: Duration::from_secs(1), ..LIMITS };
    let asking: Vec<_> = (0..30)
        .map(|_| {
            let store = store.clone();
            tokio::spawn(async move { store.ask(1, slow, &brief).await })
        })
        .collect();
    let (mut stopped, mut busy) = (0, 0);
    for task in asking {
        match task.await.expect("answered") {
            Err(QueryError::Question { .. }) => stopped += 1,
            Err(QueryError::Store(e)) if e.to_string().contains("Try again in a moment") => busy += 1,
            other => panic!("{other:?}"),
        }
    }
    assert_eq!((stopped, busy), (12, 18), "four at a time, eight wait");
}
