//! Databases of others: entered, looked at, read from; and everything that keeps them apart.

use std::time::Duration;

use crate::support::{Browser, EMAIL, Http, Server, Wire, plain, until};
use pronoia_core::Kind;
use pronoia_demo::{FIRST_MEMBER, Member, SEED, members, visits, warehouse};
use pronoia_store::sources::{Details, StandIn, StandInTable};
use sea_orm::{ConnectionTrait, Database, DatabaseConnection};

/// A warehouse behind a wire, and a server that may reach it.
struct Begun {
    server: Server,
    http: Http,
    wire: Wire,
    details: Details,
    /// The warehouse as its owner sees it.
    owner: DatabaseConnection,
    people: Vec<Member>,
}

impl Begun {
    async fn new() -> Self {
        let cluster = std::env::var("PRONOIA_TEST_DATABASE").expect("./test sets it");
        let (before, rest) = cluster.rsplit_once(':').expect("a port");
        let (port, _) = rest.split_once('/').expect("a database");
        let wire = Wire::to(port.parse().expect("a port")).await;
        let people = members(400, SEED, FIRST_MEMBER);
        let tables = warehouse(&people, &visits(&people, SEED));
        let tables = tables.each_ref().map(|t| StandInTable {
            name: t.name,
            comment: t.comment,
            columns: t.columns,
            csv: &t.csv,
        });
        let database = format!("warehouse_{}", wire.port);
        let account = format!("reader_{}", wire.port);
        let stand_in = StandIn { name: "Warehouse", database: &database, schema: "care", account: &account };
        let details = stand_in.fill(&format!("{before}:{}/postgres", wire.port), &tables).await.expect("filled");
        let owner = Database::connect(format!("{before}:{port}/{database}")).await.expect("the warehouse");
        let server = Server::start_with(&["--allow-address", &format!("127.0.0.1:{}", wire.port)]).await;
        server.make_account();
        let http = Http::signed_in(&server, EMAIL);
        Self { server, http, wire, details, owner, people }
    }

    /// Enters the warehouse with changes.
    fn enter(&self, changes: &[(&str, &str)]) -> crate::support::Answer {
        let port = self.details.port.to_string();
        let mut fields = vec![
            ("name", self.details.name.as_str()),
            ("host", "127.0.0.1"),
            ("port", &port),
            ("database", &self.details.database),
            ("account", &self.details.account),
            ("password", &self.details.password),
            ("encryption", "offered"),
        ];
        for (field, value) in changes {
            fields.iter_mut().filter(|f| f.0 == *field).for_each(|f| f.1 = value);
        }
        self.http.submit("/sources", &fields)
    }

    /// Asks the source to be read and follows the job.
    async fn read(&self, sql: &str, name: &str) -> crate::support::Answer {
        let answer = self.http.submit("/sources/1/read", &[("sql", sql), ("name", name)]);
        assert_eq!(answer.status, 303, "{}", answer.text);
        self.http.follow(&answer.location).await
    }

    fn look(&self, sql: &str) -> String {
        self.http.submit("/sources/1", &[("sql", sql)]).text
    }

    fn files_left(&self) -> usize {
        std::fs::read_dir(self.server.folder.path().join("uploads")).map_or(0, Iterator::count)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_warehouse_is_entered_looked_at_and_read_in_a_browser() {
    let _beside = crate::ALONE.read().await;
    let begun = Begun::new().await;
    let browser = Browser::open().await;
    browser.sign_in(&begun.server).await;
    browser.click("a[href='/sources']").await;
    for (field, value) in [
        ("name", "Warehouse"),
        ("host", "127.0.0.1"),
        ("port", begun.details.port.to_string().as_str()),
        ("database", begun.details.database.as_str()),
        ("account", begun.details.account.as_str()),
        ("password", "not the current password"),
    ] {
        browser.see_element(".source-form").await;
        browser.fill(&format!(".source-form [name={field}]"), value).await;
    }
    browser.click("[name=encryption] option[value=offered]").await;
    browser.is_accessible("the form for a database").await;
    browser.click(".source-form .button").await;
    browser.see("#wrong", "does not let").await;
    browser.see("#sheet", "None yet").await;
    browser.fill(".source-form [name=password]", &begun.details.password).await;
    browser.click(".source-form .button").await;
    browser.see("h1", "2 tables of Warehouse").await;
    browser.see("#sheet", "care.members about 400 rows").await;
    browser.is_accessible("what a database offers").await;
    browser.click(".askable[open] button").await;
    browser.see("h1", "Warehouse. The first 50 rows").await;
    browser.is_accessible("the first rows of a database's table").await;
    browser.click(".keep-answer .button").await;
    browser.see("h2", "Detected columns").await;
    browser.click(".heading-action .button").await;
    browser.see("h1", "400 customers in members").await;
    browser.see(".lead", "read from Warehouse with “SELECT * FROM care.members”").await;
    browser.close().await;

    // What is in the table is what the generator made.
    let store = begun.server.store().await;
    let table = store.tables(1).await.expect("tables").remove(0);
    let rows = store.columns(&table, None).await.expect("rows");
    let column = |name: &str| rows.column(name).expect(name);
    let kind = |name: &str| column(name).kind;
    assert_eq!(kind("joined_on"), Kind::Date);
    assert_eq!(kind("newsletter"), Kind::YesNo);
    assert_eq!(kind("annual_fee"), Kind::Number);
    assert_eq!(kind("district"), Kind::Code, "digits that are no quantity");
    for (at, member) in begun.people.iter().enumerate() {
        let fee = (member.annual_fee * 100.0).round() / 100.0;
        assert_eq!(column("annual_fee").number(at), Some(fee));
        assert_eq!(column("months_since_visit").number(at), member.months_since_visit.map(f64::from));
        assert_eq!(column("cancelled").text(at).as_deref(), Some(if member.cancelled { "yes" } else { "no" }));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_type_arrives_or_is_named_as_left_out() {
    let _beside = crate::ALONE.read().await;
    let begun = Begun::new().await;
    begun
        .owner
        .execute_unprepared(&format!(
            "CREATE TYPE care.mood AS ENUM ('glad', 'so-so'); \
             CREATE TABLE care.odd (\"Größe\" numeric(30, 10), big bigint, at timestamptz, day date, ok boolean, \
             mood care.mood, who uuid, what jsonb, many integer[], raw bytea, money numeric); \
             INSERT INTO care.odd SELECT i / 8.0, 9007199254740993 + i, '2026-03-01 23:30:00+01'::timestamptz + i * interval '1 day', \
             CASE WHEN i % 7 = 0 THEN 'infinity'::date ELSE date '2024-02-28' + i END, i % 2 = 0, \
             CASE WHEN i % 3 = 0 THEN 'glad'::care.mood ELSE 'so-so' END, gen_random_uuid(), '{{\"a\": 1}}', ARRAY[i, 2], '\\x00ff', \
             CASE WHEN i % 5 = 0 THEN NULL ELSE i END FROM generate_series(1, 60) AS i; \
             GRANT SELECT ON care.odd TO {}",
            begun.details.account
        ))
        .await
        .expect("made");
    assert_eq!(begun.enter(&[]).status, 303);
    let sql = "SELECT *, big AS \"Größe\" FROM care.odd ORDER BY big -- all of it";
    assert!(begun.read(sql, "odd things").await.text.contains("Größe"));
    begun.http.follow(&begun.http.submit("/uploads/1/accept", &[]).location).await;
    let store = begun.server.store().await;
    let table = store.tables(1).await.expect("tables").remove(0);
    let said = plain(&begun.http.get(&format!("/tables/{}", table.id)).text);
    assert!(said.contains("without raw (bytes)"), "{said}");
    let rows = store.columns(&table, None).await.expect("rows");
    let words =
        |name: &str| -> Vec<Option<String>> { (0..60).map(|row| rows.column(name).expect(name).text(row)).collect() };
    assert_eq!(rows.column("Größe").expect("sizes").number(3), Some(0.5));
    assert_eq!(words("big")[0].as_deref(), Some("9007199254740994"), "no digit of a long number is lost");
    assert_eq!(words("at")[0].as_deref(), Some("2026-03-02"), "the day in UTC");
    assert_eq!(words("day")[6], None, "a day that never comes is missing");
    assert_eq!(words("day")[0].as_deref(), Some("2024-02-29"));
    assert_eq!(words("mood")[2].as_deref(), Some("glad"));
    assert_eq!(words("money")[4], None);
    assert_eq!(words("many")[0].as_deref(), Some("{1,2}"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_is_asked_for_reading_only_and_errors_stand_under_their_word() {
    let _beside = crate::ALONE.read().await;
    let begun = Begun::new().await;
    begun
        .owner
        .execute_unprepared(&format!(
            "CREATE FUNCTION care.wipe() RETURNS integer LANGUAGE sql SECURITY DEFINER AS 'DELETE FROM care.visits; SELECT 1'; \
             CREATE TABLE care.pictures (picture bytea); INSERT INTO care.pictures VALUES ('x'); \
             GRANT SELECT ON care.pictures TO {0}; GRANT DELETE ON care.visits TO {0}",
            begun.details.account
        ))
        .await
        .expect("made");
    assert_eq!(begun.enter(&[]).status, 303);
    // An account that could change something is told apart, for as long as it could.
    for page in ["/sources", "/sources/1"] {
        let page = plain(&begun.http.get(page).text);
        assert!(
            page.contains(&format!("{} may change 1 table", begun.details.account))
                || page.contains("which may change 1 table"),
            "{page}"
        );
    }
    for (sql, says) in [
        ("SELECT costs FROM care.visits", "<mark>costs</mark>"),
        ("SELECT care.wipe()", "<mark>care.wipe</mark>"),
        (
            "SELECT $€$,' $€$ AS x) TO STDOUT; ROLLBACK; BEGIN READ WRITE; DELETE FROM care.visits; COMMIT; BEGIN; COPY (SELECT 1 --'",
            "The query failed",
        ),
        ("SELECT relname FROM pg_class", "<mark>pg_class</mark>"),
        ("SELECT v.to_json FROM care.visits v", "<mark>to_json</mark>"),
        ("WITH gone AS (DELETE FROM care.visits RETURNING 1) SELECT * FROM gone", "Only a SELECT"),
        ("SELECT 1; SELECT 2", "second statement"),
        ("SELECT pg_sleep(60)", "<mark>pg_sleep</mark>"),
        // Long to compute, and nothing of it is ever written to a disk.
        (
            "SELECT a.visit_id FROM care.visits a, care.visits b, care.visits c, care.visits d WHERE a.cost + b.cost + c.cost + d.cost < 0",
            "stopped after 10 seconds",
        ),
    ] {
        let page = begun.look(sql);
        assert!(page.contains(says), "{sql}: {}", plain(&page));
    }
    for (sql, says) in [
        ("SELECT costs FROM care.visits", "There is no column"),
        ("SELECT care.wipe()", "There is no function"),
        ("DELETE FROM care.visits", "Only a SELECT"),
        ("SELECT 1 / (visit_id - 7) FROM care.visits", "Division by zero"),
        ("SELECT 'x'::bytea", "cannot be cast"),
        ("SELECT * FROM care.pictures", "No column of the answer"),
    ] {
        let page = begun.read(sql, "never").await.text;
        assert!(page.contains(says), "{sql}: {}", plain(&page));
    }
    assert_eq!(begun.files_left(), 0, "nothing lies about");
    let answer = begun.http.submit("/sources/1/read", &[("sql", "SELECT 1"), ("name", " ")]);
    assert_eq!(answer.status, 422);
    let count = begun.owner.query_one_raw(sea_orm::Statement::from_string(
        sea_orm::DbBackend::Postgres,
        "SELECT count(*) AS n FROM care.visits",
    ));
    let left: i64 = count.await.expect("asked").expect("a row").try_get("", "n").expect("a count");
    assert!(left > 0, "every visit is still there");
    let revoked = format!("REVOKE DELETE ON care.visits FROM {}", begun.details.account);
    begun.owner.execute_unprepared(&revoked).await.expect("revoked");
    assert!(!plain(&begun.http.get("/sources/1").text).contains("may change"), "what it may do is looked at each time");
    assert!(!plain(&begun.http.get("/sources").text).contains("may change"));
}

#[tokio::test(flavor = "multi_thread")]
async fn only_allowed_addresses_are_reached_and_never_our_own() {
    let _beside = crate::ALONE.read().await;
    let begun = Begun::new().await;
    let own = begun.server.database.rsplit_once(':').and_then(|(_, rest)| rest.split_once('/')).expect("a port").0;
    for (changes, says) in [
        (vec![("port", own)], "keeps its own things"),
        (vec![("host", "localhost"), ("port", own)], "keeps its own things"),
        (vec![("port", "5"), ("host", "::1")], "lies on the machine"),
        (vec![("port", "22")], "lies on the machine"),
        (vec![("host", "0.0.0.0")], "lies on the machine"),
        (vec![("host", "169.254.169.254")], "lies on the machine"),
        (vec![("host", "/var/run/postgresql")], "is not the name or the address"),
        (vec![("host", "nowhere.invalid")], "is not known"),
        (vec![("port", "70000")], "is no port"),
        (vec![("port", "0")], "is no port"),
        (vec![("password", "wrong")], "does not let"),
        (vec![("account", "nobody")], "does not let"),
        (vec![("database", "nothing")], "There is no database"),
        (vec![("encryption", "required")], "cannot be encrypted"),
        (vec![("encryption", "none")], "no kind of encryption"),
        (vec![("name", "")], "Give the name"),
    ] {
        let answer = begun.enter(&changes);
        assert_eq!(answer.status, 422, "{changes:?}");
        assert!(plain(&answer.text).contains(says), "{changes:?}: {}", plain(&answer.text));
        assert!(!answer.text.contains(&begun.details.password), "the password is not sent back");
    }
    assert!(begun.server.store().await.sources(1).await.expect("sources").is_empty(), "nothing was kept");
    assert_eq!(begun.enter(&[]).status, 303);
    assert!(plain(&begun.enter(&[]).text).contains("There is a source “Warehouse” already"));

    // Somebody of another workspace finds nothing there.
    let store = begun.server.store().await;
    store.create_account("ben@example.org", crate::support::PASSWORD, "Another", false).await.expect("an account");
    let ben = Http::signed_in(&begun.server, "ben@example.org");
    assert_eq!(ben.get("/sources/1").status, 404);
    assert_eq!(ben.submit("/sources/1/remove", &[]).status, 404);
    assert_eq!(ben.submit("/sources/1/read", &[("sql", "SELECT 1"), ("name", "x")]).status, 404);
    assert_eq!(begun.http.post("/sources/1/remove", &[("csrf", "forged")]).status, 403);
    assert_eq!(begun.http.submit("/sources/1/remove", &[]).status, 303);
    assert_eq!(begun.http.get("/sources/1").status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_lies_sealed_for_its_own_address_and_key() {
    let _beside = crate::ALONE.read().await;
    let mut begun = Begun::new().await;
    assert_eq!(begun.enter(&[]).status, 303);
    let store = begun.server.store().await;
    let source = store.source(1, 1).await.expect("the source");
    let password = begun.details.password.as_bytes();
    assert!(!source.sealed.windows(8).any(|part| password.windows(8).any(|p| p == part)), "not in the clear");
    assert!(!format!("{source:?}").contains("sealed"));

    // Whoever can write into the database cannot send the password elsewhere.
    let db = Database::connect(&begun.server.database).await.expect("the database");
    db.execute_unprepared("UPDATE source SET host = 'localhost'").await.expect("moved");
    assert!(plain(&begun.http.get("/sources/1").text).contains("sealed with another key"));
    db.execute_unprepared("UPDATE source SET host = '127.0.0.1'").await.expect("moved back");
    assert!(plain(&begun.http.get("/sources/1").text).contains("2 tables of Warehouse"));

    // With another key the source stays, and says what to do.
    begun.server.kill();
    let key = begun.server.folder.path().join("key");
    let kept = std::fs::read(&key).expect("a key");
    std::fs::remove_file(&key).expect("lost");
    begun.server.run().await;
    assert!(plain(&begun.http.get("/sources/1").text).contains("Remove the source and enter it again"));
    begun.server.kill();
    std::fs::write(&key, kept).expect("put back");
    begun.server.run().await;
    assert!(plain(&begun.http.get("/sources/1").text).contains("2 tables of Warehouse"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_goes_away_or_is_stopped_leaves_nothing() {
    let _alone = crate::ALONE.write().await;
    let begun = Begun::new().await;
    assert_eq!(begun.enter(&[]).status, 303);
    let endless =
        "SELECT a.visit_id, lpad('x', 200) AS t FROM care.visits a CROSS JOIN care.visits b CROSS JOIN care.visits c";
    let store = begun.server.store().await;
    let running = |id: i64| {
        let store = &store;
        async move {
            until("rows arrive", || async {
                let job = store.job(1, id).await.ok()?;
                job.stage.contains("rows fetched").then_some(())
            })
            .await;
        }
    };
    let started = |name: &str| -> i64 {
        let answer = begun.http.submit("/sources/1/read", &[("sql", endless), ("name", name)]);
        answer.location.rsplit('/').next().expect("a job").parse().expect("a number")
    };
    let stopped = started("stopped");
    running(stopped).await;
    let asked = std::time::Instant::now();
    begun.http.submit(&format!("/jobs/{stopped}/cancel"), &[]);
    until("it stops", || async { (store.job(1, stopped).await.ok()?.state == "stopped").then_some(()) }).await;
    assert!(asked.elapsed() < Duration::from_secs(2), "{:?}", asked.elapsed());
    assert_eq!(begun.files_left(), 0);

    let cut = started("cut");
    running(cut).await;
    begun.wire.cut().await;
    let job = until("it ends", || async {
        let job = store.job(1, cut).await.ok()?;
        (job.state == "failed").then_some(job)
    })
    .await;
    assert!(job.outcome.expect("a reason").contains("broke off"), "says what happened");
    assert_eq!(begun.files_left(), 0);
    let page = begun.http.get("/sources/1");
    assert_eq!(page.status, 200);
    assert!(plain(&page.text).contains("Warehouse cannot be reached"));
    begun.wire.mend();
    assert!(plain(&begun.http.get("/sources/1").text).contains("2 tables of Warehouse"));
    assert!(store.waiting_uploads(1).await.expect("uploads").is_empty());
}
