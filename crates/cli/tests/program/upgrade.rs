//! What earlier versions kept is opened: databases, backups, models, policies, amounts, answers to programs.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::support::{EMAIL, Http, Server, new_database, open_folder, pronoia, until};
use pronoia_core::Table;
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use pronoia_core::study::ChosenPolicy;
use serde_json::Value;

/// A version whose things are there.
fn version(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/upgrade").join(name)
}

fn read(path: impl AsRef<Path>) -> Vec<u8> {
    std::fs::read(&path).unwrap_or_else(|e| panic!("{}: {e}", path.as_ref().display()))
}

fn json(bytes: &[u8]) -> Value {
    serde_json::from_slice(bytes).expect("JSON")
}

fn table(bytes: &[u8]) -> Table {
    read_table(bytes, &Unwatched).expect("a table").0
}

/// Every column that was there is there, with the same values; there may be more.
fn holds(now: &Table, then: &Table, what: &str) {
    assert_eq!(now.rows(), then.rows(), "{what}");
    for (name, _) in then.kinds() {
        let is = now.column(&name).unwrap_or_else(|| panic!("{what}: {name} is gone"));
        let was = then.column(&name).expect("it was there");
        for row in 0..then.rows() {
            match (is.number(row), was.number(row)) {
                (Some(is), Some(was)) => assert!((is - was).abs() <= 1e-9, "{what}: {name} {row}: {is} {was}"),
                _ => assert_eq!(is.text(row), was.text(row), "{what}: {name} {row}"),
            }
        }
    }
}

/// A sentence of 0.1.0 in the terms of this version.
fn in_words_of_today(then: &str) -> String {
    match then {
        "where gain above 0" => "where incremental profit above 0".into(),
        "A kept customer, a year" => "Customer margin a year".into(),
        "For how many years" => "Horizon, years".into(),
        "The offer keeps a leaver" => "Save rate".into(),
        "The offer, if taken" => "Cost of the offer, if taken".into(),
        "Stayers who take it too" => "Take-up by stayers".into(),
        "Making the offer" => "Cost of contact".into(),
        other => other.into(),
    }
}

/// Every field that was there is there, with the same value; there may be more.
fn keeps(now: &Value, then: &Value, at: &str) {
    match (now, then) {
        (Value::Object(now), Value::Object(then)) => {
            for (name, value) in then {
                keeps(now.get(name).unwrap_or_else(|| panic!("{at}.{name} is gone")), value, &format!("{at}.{name}"));
            }
        }
        (Value::Array(now), Value::Array(then)) => {
            assert_eq!(now.len(), then.len(), "{at}");
            now.iter().zip(then).enumerate().for_each(|(i, (now, then))| keeps(now, then, &format!("{at}[{i}]")));
        }
        (Value::Number(now), Value::Number(then)) => {
            let (now, then) = (now.as_f64().expect("a number"), then.as_f64().expect("a number"));
            assert!((now - then).abs() <= 1e-9 * then.abs().max(1.0), "{at}: {now} {then}");
        }
        (Value::String(now), Value::String(then)) => assert_eq!(*now, in_words_of_today(then), "{at}"),
        (now, then) => assert_eq!(now, then, "{at}"),
    }
}

/// Everything that a version kept in a database, as its users come upon it.
async fn opens(server: &Server, from: &Path) {
    let http = Http::signed_in(server, EMAIL);
    let keys = json(&read(from.join("keys.json")));
    for page in [
        "/",
        "/tables/1",
        "/query",
        "/sources",
        "/people",
        "/programs",
        "/erasure",
        "/away",
        "/account",
        "/studies/1/ledger",
        "/studies/1/records",
        "/studies/1/drivers",
        "/studies/1/prepare",
        "/studies/1/prepare/cautions",
        "/studies/1/prepare/split",
        "/studies/1/prepare/steps",
        "/studies/1/train",
        "/studies/1/compare",
        "/studies/1/decide",
        "/studies/1/decide/customer",
        "/studies/1/decide/sheet",
        "/studies/1/lists",
        "/studies/1/lists/1",
        "/studies/1/campaigns/1",
        "/studies/1/live",
        "/studies/1/forms",
        "/studies/1/statement",
        keys["link"].as_str().expect("a link"),
    ] {
        assert_eq!(http.get(page).status, 200, "{page}");
    }
    holds(&table(&http.bytes("/studies/1/lists/1/scored.csv")), &table(&read(from.join("scored.csv"))), "the list");
    assert_eq!(http.get("/studies/1/ledger/remarks/1").text, "a note");
    let published = server.answer("SELECT count(*)::text FROM published_1.renewals_scored").await;
    assert_eq!(published, "60", "what others read is still there");

    // Programs get the answers that they got.
    let call = |key: &str, path: &str, body: Option<&[u8]>| -> Value {
        let authorization = format!("Bearer {}", keys[key].as_str().expect("a key"));
        let mut request = ureq::http::Request::builder().uri(format!("{}{path}", server.url));
        request = request.method(if body.is_some() { "POST" } else { "GET" });
        request = request.header("authorization", &authorization).header("content-type", "application/json");
        let request = request.body(body.unwrap_or_default().to_vec()).expect("a request");
        let mut answer = ureq::Agent::new_with_defaults().run(request).expect("an answer");
        json(&answer.body_mut().read_to_vec().expect("a body"))
    };
    let request = read(from.join("api/score.request.json"));
    let scored = call("release_key", "/api/v1/releases/members/score", Some(&request));
    keeps(&scored, &json(&read(from.join("api/score.json"))), "score");
    for (name, path) in
        [("tables", "tables"), ("studies", "studies"), ("study", "studies/1"), ("lists", "studies/1/lists")]
    {
        let now = call("program_key", &format!("/api/v1/{path}"), None);
        keeps(&now, &json(&read(from.join(format!("api/{name}.json")))), name);
    }
    let (now, then) = (call("program_key", "/api/v1/openapi.json", None), json(&read(from.join("api/openapi.json"))));
    for (path, methods) in then["paths"].as_object().expect("paths") {
        for method in methods.as_object().expect("methods").keys() {
            assert!(now["paths"][path][method].is_object(), "{method} {path} is gone");
        }
    }

    // What was under way when the server was killed is done.
    until("the work that was begun is done", || async {
        let open = server.answer("SELECT count(*)::text FROM job WHERE state IN ('queued', 'running')").await;
        (open == "0").then_some(())
    })
    .await;
    let begun = server.answer("SELECT state FROM job WHERE attempts > 1").await;
    assert_eq!(begun, "done", "at its second attempt");
    // And the work goes on: the same customers once more, by the same policy, with the same decisions.
    let sent = http.upload_list(1, "renewals.csv", &read(from.join("renewals.csv")));
    http.follow(&sent.location).await;
    let again = http.submit("/studies/1/lists/2/score", &[]);
    assert_eq!(again.status, 303, "{}", again.text);
    http.follow(&again.location).await;
    holds(&table(&http.bytes("/studies/1/lists/2/scored.csv")), &table(&read(from.join("scored.csv"))), "scored again");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_of_0_1_0_is_opened_with_all_that_is_in_it() {
    let from = version("0.1.0");
    let base = std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server; ./test sets it");
    let database = new_database(&base).await;
    let filled = Command::new("bash")
        .args([
            "-c",
            "set -o pipefail; gzip -dc \"$2\" | psql --quiet -v ON_ERROR_STOP=1 --single-transaction \"$1\" >/dev/null",
            "bash",
        ])
        .arg(&database)
        .arg(from.join("database.sql.gz"))
        .status()
        .expect("bash runs");
    assert!(filled.success());
    let server = Server::over(database, open_folder(), &[]).await;
    opens(&server, &from).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_of_0_1_0_is_restored() {
    let from = version("0.1.0");
    let base = std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server; ./test sets it");
    let (database, folder) = (new_database(&base).await, open_folder());
    let backup = from.join("all.backup");
    let uploads = folder.path().join("uploads");
    let words = ["restore", "--uploads", uploads.to_str().expect("a path"), backup.to_str().expect("a path")];
    pronoia(folder.path(), &words, &database);
    let server = Server::over(database, folder, &[]).await;
    opens(&server, &from).await;
    // The file that waits came along, and can be accepted.
    let http = Http::signed_in(&server, EMAIL);
    let waiting = server.answer("SELECT max(id)::text FROM upload WHERE state = 'ready'").await;
    let accepted = http.submit(&format!("/uploads/{waiting}/accept"), &[]);
    assert_eq!(accepted.status, 303, "{}", accepted.text);
    let page = http.follow(&accepted.location).await;
    assert!(page.text.contains("later"), "{}", page.text);
}

#[test]
fn models_policies_and_amounts_of_0_1_0_are_read_and_come_to_the_same() {
    let from = version("0.1.0");
    let folder = tempfile::tempdir().expect("a folder");
    let place = |name: &str| from.join(name).to_str().expect("a path").to_owned();
    let mut families = 0;
    for file in std::fs::read_dir(from.join("models")).expect("models") {
        let path = file.expect("a file").path();
        if path.extension().is_none_or(|extension| extension != "json") {
            continue;
        }
        families += 1;
        let (model, then) = (path.to_str().expect("a path").to_owned(), path.with_extension("csv"));
        let mut words = vec!["score".to_owned(), place("renewals.csv"), "--model".into(), model.clone()];
        words.extend(["--out".into(), "scored.csv".into()]);
        if !model.ends_with("blend.json") {
            words.extend(["--reasons".into(), "2".into()]);
        }
        pronoia(folder.path(), &words.iter().map(String::as_str).collect::<Vec<_>>(), "");
        holds(&table(&read(folder.path().join("scored.csv"))), &table(&read(then)), &model);
    }
    assert_eq!(families, 10);

    let (members, model, economics) = (place("members.csv"), place("models/scorecard.json"), place("economics.toml"));
    let words = ["decide", &members, "--model", &model, "--economics", &economics, "--json", "decided.json"];
    pronoia(folder.path(), &words, "");
    keeps(&json(&read(folder.path().join("decided.json"))), &json(&read(from.join("decided.json"))), "decided");

    let then = json(&read(from.join("policy.json")));
    let policy: ChosenPolicy = serde_json::from_value(then.clone()).expect("a policy");
    keeps(&serde_json::to_value(&policy).expect("written"), &then, "policy");
}
