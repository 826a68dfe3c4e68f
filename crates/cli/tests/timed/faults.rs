//! What goes wrong around the program: nothing is lost, nothing is half-made, and the pages say what is
//! the matter.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use crate::support::study::{Study, queued};
use crate::support::{Cluster, EMAIL, Http, PASSWORD, Server, SmallDisk, new_database, open_folder, plain, until};
use pronoia_core::learn::Settings;
use pronoia_demo::{FIRST_MEMBER, SEED, members};
use pronoia_store::Store;

/// A fit that takes some seconds.
fn long_fit() -> Settings {
    let mut settings = Settings::of_family("boosted").expect("a family");
    for (name, value) in [("trees", "1200"), ("early-stopping", "false"), ("learning-rate", "0.01")] {
        settings.set(name, value).expect("a setting");
    }
    settings
}

async fn ended(store: &Store, job: i64) -> (String, String) {
    until("the job ends", || async {
        let job = store.job(1, job).await.ok()?;
        let open = ["queued", "running"].contains(&job.state.as_str());
        (!open).then(|| (job.state, job.outcome.unwrap_or_default()))
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn postgresql_is_stopped_and_started_under_use() {
    let _beside = crate::ALONE.read().await;
    let mut cluster = Cluster::start("");
    let database = new_database(&cluster.url).await;
    let server = Server::over(database, open_folder(), &[]).await;
    let study = Study::begun_on(server, &members(4_000, SEED, FIRST_MEMBER), "yes").await;
    study.looked_at().await;
    let basis = study.state().await.basis().expect("a basis");
    let (model, job) = queued(&study.store, (1, study.id), &long_fit(), &basis).await;
    until("it runs", || async { (study.store.job(1, job).await.ok()?.share > 0.05).then_some(()) }).await;
    let before = study.store.ledger(study.id).await.expect("the ledger").len();

    cluster.stop();
    let csrf = "0".repeat(64);
    let page = study.http.get(&format!("/studies/{}/prepare", study.id));
    assert!(page.status == 503 && page.text.contains("The database is away"), "{}", page.text);
    let sent = study.http.post(&format!("/studies/{}/decide", study.id), &[("csrf", &csrf)]);
    assert_eq!(sent.status, 503, "{}", sent.text);
    assert_eq!(study.http.get("/health").status, 503);
    cluster.start_again();

    until("the page is back", || async { (study.http.get("/").status == 200).then_some(()) }).await;
    assert_eq!(ended(&study.store, job).await.0, "done");
    assert!(study.store.model(model).await.expect("the model").fitted().is_ok());
    let ledger = study.store.ledger(study.id).await.expect("the ledger");
    assert_eq!(ledger.len(), before + 1, "the fit is entered once, and nothing else is: {ledger:?}");
    assert_eq!(study.post("prepare/leave-out", &[]), 303, "work goes on");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_under_the_database_is_said_and_nothing_is_half_there() {
    let _beside = crate::ALONE.read().await;
    let Some(cluster) = Cluster::on_small_disk(200) else {
        eprintln!("not run: this user may mount no disk");
        return;
    };
    let server = Server::over(new_database(&cluster.url).await, open_folder(), &[]).await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let store = server.store().await;
    let bytes = pronoia_demo::renewals_csv(&members(120_000, SEED, FIRST_MEMBER));
    http.follow(&http.upload(&http.csrf(), "many.csv", &bytes).location).await;
    let ballast = cluster.disk().fill_but(8 << 20);
    let refused = http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
    let text = plain(&refused.text);
    assert!(text.contains("The disk under the database is full"), "{text}");
    assert!(store.tables(1).await.expect("tables").is_empty(), "no part of it is there");
    assert_eq!(http.get("/").status, 200, "what is there can be looked at");
    std::fs::remove_file(ballast).expect("freed");
    let again = http.follow(&http.upload(&http.csrf(), "many.csv", &bytes).location).await;
    assert_eq!(again.status, 200);
    http.follow(&http.submit("/uploads/2/accept", &[]).location).await;
    let tables = store.tables(1).await.expect("tables");
    assert_eq!((tables.len(), tables[0].rows), (1, 120_000));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_under_uploads_is_said_and_the_place_is_free_again() {
    let _beside = crate::ALONE.read().await;
    let folder = open_folder();
    let uploads = folder.path().join("uploads");
    let Some(_disk) = SmallDisk::at(&uploads, 2) else {
        eprintln!("not run: this user may mount no disk");
        return;
    };
    let base = std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server");
    let server = Server::over(new_database(&base).await, folder, &[]).await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let bytes = pronoia_demo::renewals_csv(&members(40_000, SEED, FIRST_MEMBER));
    assert!(bytes.len() > 3 << 20);
    let sent = http.upload(&http.csrf(), "many.csv", &bytes);
    assert!(sent.status == 507 && sent.text.contains("The disk that uploads lie on is full"), "{}", sent.text);
    assert_eq!(std::fs::read_dir(&uploads).expect("the folder").count(), 0, "nothing of it is left");
    let sent = http.upload(&http.csrf(), "few.csv", b"a;b\n1;2\n3;4\n");
    assert_eq!(http.follow(&sent.location).await.status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_that_does_not_fit_on_the_disk_leaves_no_file_and_says_so() {
    let _beside = crate::ALONE.read().await;
    let folder = open_folder();
    let uploads = folder.path().join("uploads");
    let Some(disk) = SmallDisk::at(&uploads, 4) else {
        eprintln!("not run: this user may mount no disk");
        return;
    };
    let base = std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server");
    let server = Server::over(new_database(&base).await, folder, &[]).await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let sql = "SELECT i, 'a value that takes some place ' || i AS words FROM generate_series(1, 200000) AS i";
    let sent = http.submit("/query/keep", &[("sql", sql), ("name", "many")]);
    assert!(sent.status == 507 && sent.text.contains("The disk that uploads lie on is full"), "{}", sent.text);
    let sent = http.submit("/query/answer.csv", &[("sql", sql)]);
    assert!(sent.status == 507 && sent.text.contains("The disk that uploads lie on is full"), "{}", sent.text);
    assert_eq!(std::fs::read_dir(&uploads).expect("the folder").count(), 0, "nothing of it is left");
    assert_eq!(server.answer("SELECT count(*)::text FROM upload").await, "0");
    let kept =
        http.submit("/query/keep", &[("sql", "SELECT i, i AS j FROM generate_series(1, 9) AS i"), ("name", "few")]);
    assert_eq!(http.follow(&kept.location).await.status, 200, "what fits is kept");
    drop(disk);
}

/// Sends the beginning of a request and nothing more; what is answered, and after how long.
fn begun_only(server: &Server, text: &str) -> (String, Duration) {
    let address = server.url.strip_prefix("http://").expect("an address");
    let mut stream = TcpStream::connect(address).expect("connected");
    let begun = Instant::now();
    stream.write_all(text.as_bytes()).expect("sent");
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    (answer, begun.elapsed())
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_sends_nothing_more_holds_nobody_up_and_is_let_go() {
    let _alone = crate::ALONE.write().await;
    let base = std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server");
    let server = Server::over(new_database(&base).await, open_folder(), &["--patience-seconds", "2"]).await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let upload = format!(
        "POST /uploads HTTP/1.1\r\nHost: x\r\nCookie: {}\r\nContent-Type: multipart/form-data; boundary=cut\r\nContent-Length: 100000\r\n\r\n\
         --cut\r\nContent-Disposition: form-data; name=\"csrf\"\r\n\r\n{}\r\n--cut\r\nContent-Disposition: form-data; name=\"file\"; filename=\"slow.csv\"\r\n\r\na;b\n1;2\n",
        http.cookie,
        http.csrf()
    );
    // Many times as many as there are threads that answer.
    std::thread::scope(|scope| {
        let idle: Vec<_> =
            (0..40).map(|_| scope.spawn(|| begun_only(&server, "GET / HTTP/1.1\r\nHost: x\r\n"))).collect();
        let slow: Vec<_> = (0..20).map(|_| scope.spawn(|| begun_only(&server, &upload))).collect();
        let begun = Instant::now();
        assert_eq!(http.get("/").status, 200);
        assert!(begun.elapsed() < Duration::from_secs(2), "others are answered meanwhile: {:?}", begun.elapsed());
        for idle in idle {
            let (_, after) = idle.join().expect("ended");
            assert!(after < Duration::from_secs(20), "{after:?}");
        }
        for slow in slow {
            let (answer, after) = slow.join().expect("ended");
            assert!(answer.contains("nothing came for 2 seconds"), "{after:?}: {answer}");
        }
    });
    let uploads = server.folder.path().join("uploads");
    assert_eq!(std::fs::read_dir(uploads).expect("the folder").count(), 0, "nothing of them is left");
    assert!(server.store().await.waiting_uploads(1).await.expect("uploads").is_empty());
}

/// Moves every moment that is written down, as if the clock had been set by so many days since.
async fn clock_set(server: &Server, days: i32) {
    let sql = format!(
        "DO $$ DECLARE c record; BEGIN FOR c IN SELECT table_name t, column_name n FROM information_schema.columns \
         WHERE table_schema = 'public' AND data_type = 'timestamp with time zone' LOOP \
         EXECUTE format('UPDATE %I SET %I = %I - make_interval(days => {days})', c.t, c.n, c.n); END LOOP; END $$"
    );
    server.run_sql(&sql).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_is_set_stops_no_work_and_breaks_no_page() {
    let _beside = crate::ALONE.read().await;
    let mut study = Study::begun(&members(4_000, SEED, FIRST_MEMBER), "yes").await;
    study.looked_at().await;
    study.fitted("logistic").await;
    for (days, what) in [(-3, "back"), (6, "on")] {
        let basis = study.state().await.basis().expect("a basis");
        let (_, job) = queued(&study.store, (1, study.id), &long_fit(), &basis).await;
        until("it runs", || async { (study.store.job(1, job).await.ok()?.share > 0.05).then_some(()) }).await;
        study.server.kill();
        clock_set(&study.server, days).await;
        study.server.run().await;
        // Sessions of a day that is over are over; the others stand.
        if days > 0 {
            assert_eq!(study.http.get("/").location, "/sign-in");
            study.http = Http::signed_in_with(&study.server, EMAIL, PASSWORD);
        }
        for page in ["records", "prepare", "train", "compare", "decide", "lists", "live", "ledger", "statement"] {
            let answer = study.http.get(&format!("/studies/{}/{page}", study.id));
            assert_eq!(answer.status, 200, "clock set {what}: {page}: {}", answer.text);
        }
        let running = study.http.get(&format!("/jobs/{job}"));
        assert!([200, 303].contains(&running.status), "{}", running.text);
        assert_eq!(ended(&study.store, job).await.0, "done", "clock set {what}: taken up again");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_half_made_when_the_server_is_killed_are_made_by_the_next() {
    let _beside = crate::ALONE.read().await;
    use sea_orm::{ConnectionTrait, Database, TransactionTrait};
    let base = std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server");
    let database = new_database(&base).await;
    // Somebody else is about to make a table of the name of the last one, so that making the tables waits.
    let other = Database::connect(&database).await.expect("the database");
    let held = other.begin().await.expect("begun");
    held.execute_unprepared("CREATE TABLE ledger_remark (id bigint)").await.expect("made");
    let folder = open_folder();
    let start = || {
        std::process::Command::new(env!("CARGO_BIN_EXE_pronoia"))
            .args(["serve", "--port", "1", "--key"])
            .arg(folder.path().join("key"))
            .env("DATABASE_URL", &database)
            .stderr(std::process::Stdio::null())
            .spawn()
            .expect("it starts")
    };
    let mut process = start();
    until("it waits in the middle", || async {
        let waiting = "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock' AND query LIKE '%ledger_remark%'";
        let asked = sea_orm::Statement::from_string(sea_orm::DbBackend::Postgres, waiting);
        let row = other.query_one_raw(asked).await.ok()??;
        (row.try_get_by_index::<i64>(0).ok()? == 1).then_some(())
    })
    .await;
    process.kill().expect("killed");
    process.wait().expect("ended");
    held.rollback().await.expect("given up");
    // Two that start at once over what is left do not stumble over each other.
    let (one, two) = tokio::join!(
        Server::over(database.clone(), open_folder(), &[]),
        Server::over(database.clone(), open_folder(), &[])
    );
    one.make_account();
    assert_eq!(Http::signed_in(&two, EMAIL).get("/").status, 200);
    let steps = one.answer("SELECT string_agg(version, ' ' ORDER BY version) FROM seaql_migrations").await;
    let schema = concat!(env!("CARGO_MANIFEST_DIR"), "/../store/src/schema");
    let written = std::fs::read_dir(schema).expect("the steps").count();
    assert_eq!(steps.split(' ').count(), written, "{steps}");
}
