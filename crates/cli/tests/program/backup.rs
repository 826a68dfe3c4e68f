//! Backups: all of it, as it was at one moment, whole or not at all.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::{Command, Output};
use std::time::Instant;

use crate::support::study::{Study, queued};
use crate::support::{Cluster, EMAIL, Http, PASSWORD, Server, new_database, open_folder, plain, until};
use pronoia_core::learn::Settings;
use pronoia_demo::{FIRST_MEMBER, SEED, members};
use sea_orm::{ConnectOptions, ConnectionTrait, Database, DbBackend, Statement};

fn run(verb: &str, file: &Path, database: &str, uploads: &Path) -> Output {
    Command::new(env!("CARGO_BIN_EXE_pronoia"))
        .args([verb, "--uploads"])
        .args([uploads, file])
        .env("DATABASE_URL", database)
        .output()
        .expect("the program runs")
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

/// Every table of a database with its number of rows and what they are, but for what is not kept.
async fn contents(database: &str) -> BTreeMap<String, String> {
    let connection = Database::connect(database).await.expect("the database");
    let ask = |sql: String| Statement::from_string(DbBackend::Postgres, sql);
    let tables = "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
        WHERE c.relkind = 'r' AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema' ORDER BY 1";
    let mut found = BTreeMap::new();
    for row in connection.query_all_raw(ask(tables.into())).await.expect("tables") {
        let table: String = row.try_get_by_index(0).expect("a name");
        if ["public.session", "public.sign_in_guard", "public.question_role"].contains(&table.as_str()) {
            continue;
        }
        // Where a file lies is another place.
        let what = if table == "public.upload" { "(to_jsonb(t) - 'path')::text" } else { "t::text" };
        let sql = format!(
            "SELECT count(*) || ' ' || coalesce(md5(string_agg({what}, '|' ORDER BY {what})), '') FROM {table} t"
        );
        let row = connection.query_one_raw(ask(sql)).await.expect("rows").expect("a row");
        found.insert(table, row.try_get_by_index(0).expect("text"));
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_comes_back_into_an_empty_cluster_as_it_was() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.looked_at().await;
    study.fitted("logistic").await;
    assert_eq!(study.post("decide", &[("save_rate", "60")]), 303);
    // A question makes a role and views, which are made again where they are needed.
    assert_eq!(study.http.submit("/query", &[("sql", "SELECT count(*) FROM members")]).status, 200);
    // A file that waits to be looked at, with a name of many kinds of letters.
    let sent = study.http.upload(&study.http.csrf(), "Kündigungen 中.csv", b"a;b\n1;2\n3;4\n");
    study.http.follow(&sent.location).await;
    // And a fit that runs while the backup is taken.
    let mut settings = Settings::of_family("boosted").expect("a family");
    for (name, value) in [("trees", "1200"), ("early-stopping", "false"), ("learning-rate", "0.01")] {
        settings.set(name, value).expect("a setting");
    }
    let basis = study.state().await.basis().expect("a basis");
    let (model, job) = queued(&study.store, (1, study.id), &settings, &basis).await;
    until("it runs", || async { (study.store.job(1, job).await.ok()?.state == "running").then_some(()) }).await;

    let folder = open_folder();
    let file = folder.path().join("kept.backup");
    let uploads = study.server.folder.path().join("uploads");
    let taken = run("backup", &file, &study.server.database, &uploads);
    assert!(taken.status.success(), "{}", said(&taken));
    let Study { mut server, .. } = study;
    // The fit goes on meanwhile, so that the two are compared as they stand before anybody works on.
    server.kill();
    let twice = run("backup", &file, &server.database, &uploads);
    assert!(!twice.status.success() && said(&twice).contains("is there already"), "{}", said(&twice));
    let second = folder.path().join("second.backup");
    assert!(run("backup", &second, &server.database, &uploads).status.success());

    let cluster = Cluster::start("");
    let into = folder.path().join("uploads");
    let restored = run("restore", &second, &cluster.url, &into);
    assert!(restored.status.success(), "{}", said(&restored));
    assert!(said(&restored).is_empty(), "{}", said(&restored));
    let (before, after) = (contents(&server.database).await, contents(&cluster.url).await);
    assert_eq!(before.len(), after.len());
    for (table, rows) in &before {
        assert_eq!(after.get(table), Some(rows), "{table}");
    }
    assert!(before.len() > 25 && before.contains_key("workspace_1.table_1"), "{:?}", before.keys());

    // It is worked on there as before, by whoever signs in again; the fit is done.
    let again = Server::over(cluster.url.clone(), folder, &[]).await;
    let http = Http::signed_in_with(&again, EMAIL, PASSWORD);
    assert!(plain(&http.get("/studies/1/decide").text).contains("save"), "the policy stands");
    let asked = plain(&http.submit("/query", &[("sql", "SELECT count(*) FROM members")]).text);
    assert!(asked.contains("2 000"), "{asked}");
    let waiting = http.get("/uploads/2").text;
    assert!(waiting.contains("Kündigungen 中.csv") && http.submit("/uploads/2/accept", &[]).status == 303, "{waiting}");
    let store = again.store().await;
    let ended = until("the fit ends", || async {
        let job = store.job(1, job).await.expect("the job");
        (!["queued", "running"].contains(&job.state.as_str())).then_some(job)
    })
    .await;
    assert_eq!(ended.state, "done", "{:?}", ended.outcome);
    assert!(store.model(model).await.expect("the model").fitted().is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_backup_or_a_database_in_use_is_refused_and_nothing_is_touched() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    http.follow(&http.upload(&http.csrf(), "small.csv", b"a;b\n1;2\n3;4\n").location).await;
    let (folder, uploads) = (open_folder(), server.folder.path().join("uploads"));
    let at = |name: &str| folder.path().join(name);
    assert!(run("backup", &at("whole"), &server.database, &uploads).status.success());
    let whole = std::fs::read(at("whole")).expect("read");
    let empty = new_database(&server.database).await;
    let into = at("uploads");
    let refused = |name: &str, bytes: &[u8]| {
        std::fs::write(at(name), bytes).expect("written");
        let output = run("restore", &at(name), &empty, &into);
        assert!(!output.status.success(), "{name}");
        let said = said(&output);
        assert!(said.lines().count() == 1 && said.contains("no whole backup"), "{name}: {said}");
    };
    refused("no archive", b"it is something else");
    refused("broken off", &whole[..whole.len() / 2]);
    refused("nothing", b"");
    for part in 1..8 {
        let mut bytes = whole.clone();
        let at = whole.len() * part / 8;
        bytes[at] ^= 0x10;
        refused(&format!("damaged at {at}"), &bytes);
    }
    assert!(contents(&empty).await.is_empty() && !into.exists(), "nothing was touched");

    let output = run("restore", &at("whole"), &server.database, &into);
    assert!(!output.status.success() && said(&output).contains("is not empty"), "{}", said(&output));
    // A file that is there already is not written over, and then the database is not filled either.
    std::fs::create_dir(&into).expect("made");
    let name = std::fs::read_dir(&uploads).expect("files").next().expect("one").expect("read").file_name();
    std::fs::write(into.join(&name), "another's").expect("written");
    let output = run("restore", &at("whole"), &empty, &into);
    assert!(!output.status.success() && said(&output).contains("is another file"), "{}", said(&output));
    assert_eq!(std::fs::read_to_string(into.join(&name)).expect("read"), "another's");
    assert!(contents(&empty).await.is_empty());
    std::fs::remove_file(into.join(&name)).expect("removed");
    let begun = Instant::now();
    let output = run("restore", &at("whole"), &empty, &into);
    let takes = begun.elapsed();
    assert!(output.status.success(), "{}", said(&output));
    assert_eq!(contents(&empty).await, contents(&server.database).await);

    // Whoever is killed in the middle of it leaves nothing half-made, and runs it again.
    for part in [0.2, 0.5, 0.8] {
        let (empty, into) = (new_database(&server.database).await, folder.path().join(format!("killed {part}")));
        let mut restoring = Command::new(env!("CARGO_BIN_EXE_pronoia"))
            .args(["restore".as_ref(), "--uploads".as_ref(), into.as_os_str(), at("whole").as_os_str()])
            .env("DATABASE_URL", &empty)
            .stderr(std::process::Stdio::null())
            .spawn()
            .expect("the program runs");
        tokio::time::sleep(takes.mul_f64(part)).await;
        restoring.kill().expect("killed");
        restoring.wait().expect("ended");
        // What it had begun in the database ends with it.
        let others =
            "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()";
        let mut one = ConnectOptions::new(&empty);
        one.max_connections(1);
        let connection = Database::connect(one).await.expect("the database");
        until("nobody is at it any more", || async {
            let asked = Statement::from_string(DbBackend::Postgres, others);
            let row = connection.query_one_raw(asked).await.ok()??;
            (row.try_get_by_index::<i64>(0).ok()? == 0).then_some(())
        })
        .await;
        connection.close().await.expect("closed");
        let present = contents(&empty).await;
        if !present.contains_key("public.study") {
            assert!(present.is_empty(), "{part}: {:?}", present.keys());
            let again = run("restore", &at("whole"), &empty, &into);
            assert!(again.status.success(), "{part}: {}", said(&again));
        }
        assert_eq!(contents(&empty).await, contents(&server.database).await, "{part}");
    }

    let nowhere = run("backup", &at("further"), "postgres://nobody:x@127.0.0.1:1/none", &uploads);
    assert!(said(&nowhere).contains("No PostgreSQL server answers at 127.0.0.1:1"), "{}", said(&nowhere));
    let none = run("backup", &at("further"), &new_database(&server.database).await, &uploads);
    assert!(said(&none).contains("nothing to back up"), "{}", said(&none));
    assert!(!at("further").exists());
}
