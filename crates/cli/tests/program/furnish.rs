//! Writes what this version keeps into `tests/upgrade/VERSION/`, for every later one to open:
//! `cargo test --package pronoia-cli --test program -- --ignored what_this_version_keeps`, once for a version that is released.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::support::study::Study;
use crate::support::{EMAIL, Http, pronoia};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv, renewals_csv, renewed, renewed_csv};

/// Every family of classifiers, with settings that keep its model small.
const FAMILIES: [(&str, &[&str]); 9] = [
    ("logistic", &[]),
    ("scorecard", &[]),
    ("tree", &[]),
    ("forest", &["trees=20"]),
    ("boosted", &["trees=30"]),
    ("network", &["units=8"]),
    ("bayes", &[]),
    ("neighbours", &[]),
    ("svm", &[]),
];

/// What a page shows once, such as a key or a link.
fn shown(page: &str, before: &str) -> String {
    let after = page.split(before).nth(1).unwrap_or_else(|| panic!("no {before}: {page}"));
    after.split(['<', '"']).next().expect("its end").to_owned()
}

/// Sends a form, and waits for the job that it begins.
async fn done(http: &Http, path: &str, fields: &[(&str, &str)]) {
    let sent = http.submit(path, fields);
    assert_eq!(sent.status, 303, "{path}: {}", crate::support::plain(&sent.text));
    http.follow(&sent.location).await;
}

/// Calls of programs, with their answers.
fn call(study: &Study, key: &str, path: &str, body: Option<&str>) -> String {
    let authorization = format!("Bearer {key}");
    let mut request = ureq::http::Request::builder().uri(format!("{}{path}", study.server.url));
    request = request.method(if body.is_some() { "POST" } else { "GET" });
    request = request.header("authorization", &authorization).header("content-type", "application/json");
    let request = request.body(body.unwrap_or_default().to_owned()).expect("a request");
    let mut answer = ureq::Agent::new_with_defaults().run(request).expect("an answer");
    answer.body_mut().read_to_string().expect("text")
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "writes files that are committed"]
async fn what_this_version_keeps_is_written_down() {
    let version = env!("CARGO_PKG_VERSION");
    let folder: PathBuf = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/upgrade").join(version);
    for inside in ["models", "api"] {
        std::fs::create_dir_all(folder.join(inside)).expect("a folder");
    }
    let keep = |name: &str, bytes: &[u8]| std::fs::write(folder.join(name), bytes).expect("written");

    let people = members(700, SEED, FIRST_MEMBER);
    let fresh = members(60, SEED + 1, FIRST_RENEWAL);
    keep("members.csv", &outcome_csv(&people));
    keep("renewals.csv", &renewals_csv(&fresh));

    // The command line: models of every family, what they say, and a decision by amounts from a file.
    std::fs::copy(concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/economics.toml"), folder.join("economics.toml"))
        .expect("copied");
    for (family, settings) in FAMILIES {
        let model = format!("models/{family}.json");
        let scored = format!("models/{family}.csv");
        let mut arguments = vec!["fit", "members.csv", "--outcome", "cancelled", "--event", "yes", "--seed", "3"];
        arguments.extend(["--leave-out", "exit_survey_sent,days_since_last_login,joined_on,renewal_on"]);
        arguments.extend(["--family", family, "--holdout", "0.3", "--model", &model]);
        settings.iter().for_each(|setting| arguments.extend(["--set", setting]));
        pronoia(&folder, &arguments, "");
        pronoia(&folder, &["score", "renewals.csv", "--model", &model, "--out", &scored, "--reasons", "2"], "");
    }
    let mut blend = vec!["blend", "members.csv", "--outcome", "cancelled", "--event", "yes", "--seed", "3"];
    blend.extend(["--leave-out", "exit_survey_sent,days_since_last_login,joined_on,renewal_on", "--holdout", "0.3"]);
    blend.extend(["--with", "models/scorecard.json", "--with", "models/boosted.json", "--mix", "stacked"]);
    blend.extend(["--model", "models/blend.json"]);
    pronoia(&folder, &blend, "");
    pronoia(&folder, &["score", "renewals.csv", "--model", "models/blend.json", "--out", "models/blend.csv"], "");
    let model = "models/scorecard.json";
    let decide = ["decide", "members.csv", "--model", model, "--economics", "economics.toml", "--json", "decided.json"];
    pronoia(&folder, &decide, "");

    // A workspace with one of everything.
    let study = Study::begun(&people, "yes").await;
    let http = &study.http;
    assert_eq!(
        http.submit("/tables/1/meaning", &[("column", "annual_fee"), ("words", "What a year costs")]).status,
        303
    );
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    for family in ["scorecard", "logistic", "neighbours"] {
        study.fitted(family).await;
    }
    let amounts = [("value_kept", "0.8 * annual_fee"), ("save_rate", "40"), ("by", "gain"), ("line", "0")];
    assert_eq!(study.post("decide", &amounts), 303);
    let opted_out: String = fresh.iter().step_by(9).map(|m| format!("{},letter\n", m.id)).collect();
    let sent = http.upload(&http.csrf(), "opt_outs.csv", format!("member_id,how\n{opted_out}").as_bytes());
    http.follow(&sent.location).await;
    done(http, "/uploads/2/accept", &[]).await;
    let by = [("table", "opt_outs"), ("column", "member_id")];
    assert_eq!(study.post("lists/do-not-contact", &by), 303);
    study.scored("renewals.csv", &renewals_csv(&fresh)).await;
    let of_list = |rest: &str| format!("/studies/{}/lists/1/{rest}", study.id);
    done(http, &of_list("publish"), &[]).await;
    let campaign = [("name", "Fee holiday"), ("control", "5"), ("acts", "letter, call"), ("seed", "7")];
    done(http, &of_list("campaign"), &campaign).await;
    assert_eq!(study.post("live", &[("name", "members")]), 303);
    let page =
        http.submit(&format!("/studies/{}/live/1/keys", study.id), &[("name", "billing"), ("per_minute", "600")]);
    let release_key = shown(&page.text, "data-new-key>");
    let page = http.submit("/programs", &[("name", "the nightly job")]).text;
    let program_key = shown(&page, "data-new-key>");
    let page =
        http.submit(&format!("/studies/{}/statement/links", study.id), &[("name", "the auditor"), ("days", "90")]);
    let link = format!("/shared/{}", shown(&page.text, "/shared/"));
    assert_eq!(http.submit("/people", &[("name", "Mara"), ("role", "analyst")]).status, 200);
    let remarked = http.remark(
        &format!("/studies/{}/ledger/1/remark", study.id),
        "Asked the branch",
        Some(("note.txt", b"a note")),
    );
    assert_eq!(remarked.status, 303);
    // A second version of the records, a file that waits, a table that is archived.
    let sent = http.upload(&http.csrf(), "members.csv", &outcome_csv(&members(720, SEED, FIRST_MEMBER)));
    http.follow(&sent.location).await;
    let uploads: i64 = study.server.answer("SELECT max(id)::text FROM upload").await.parse().expect("a number");
    done(http, &format!("/uploads/{uploads}/accept"), &[]).await;
    let later = renewed(&fresh, &[], SEED);
    let sent = http.upload(&http.csrf(), "later.csv", &renewed_csv(&later));
    http.follow(&sent.location).await;
    study.looked_at().await;

    let put = |name: &str, text: String| keep(name, text.as_bytes());
    let csv = http.bytes(&of_list("scored.csv"));
    keep("scored.csv", &csv);
    put("policy.json", study.server.answer("SELECT jsonb_pretty(state -> 'policy') FROM study").await);
    let text = String::from_utf8(renewals_csv(&fresh)).expect("text");
    let names: Vec<&str> = text.lines().next().expect("names").split(',').collect();
    let of_line = |line: &str| -> serde_json::Value {
        names.iter().zip(line.split(',')).map(|(name, value)| ((*name).to_owned(), serde_json::json!(value))).collect()
    };
    let customers: Vec<serde_json::Value> = text.lines().skip(1).take(20).map(of_line).collect();
    let body = serde_json::json!({ "customers": customers }).to_string();
    put("api/score.request.json", body.clone());
    put("api/score.json", call(&study, &release_key, "/api/v1/releases/members/score", Some(&body)));
    for (name, path) in [
        ("tables", "/api/v1/tables"),
        ("studies", "/api/v1/studies"),
        ("study", "/api/v1/studies/1"),
        ("lists", "/api/v1/studies/1/lists"),
        ("openapi", "/api/v1/openapi.json"),
    ] {
        put(&format!("api/{name}.json"), call(&study, &program_key, path, None));
    }
    let keys = serde_json::json!({
        "email": EMAIL, "release_key": release_key, "program_key": program_key, "link": link,
    });
    put("keys.json", serde_json::to_string_pretty(&keys).expect("written"));

    let Study { mut server, store, .. } = study;
    drop(store);
    server.kill();
    // Work that was under way, as a server leaves it that is killed.
    server.run_sql("INSERT INTO job (workspace_id, study_id, title, work, state, attempts, worker, heartbeat_at, started_at) \
        VALUES (1, 1, 'Looking for what goes with the outcome', '{\"do\": \"drivers\", \"study\": 1}', 'running', 1, 'gone', \
        now() - interval '1 day', now() - interval '1 day')").await;
    let uploads = server.folder.path().join("uploads");
    let backup = folder.join("all.backup");
    let _ = std::fs::remove_file(&backup);
    pronoia(&folder, &["backup", "--uploads", uploads.to_str().expect("a path"), "all.backup"], &server.database);
    let dump = Command::new("bash")
        .args(["-c", "pg_dump --no-owner --no-privileges --exclude-schema='ask_*' \"$1\" | gzip -9n > \"$2\"", "bash"])
        .arg(&server.database)
        .arg(folder.join("database.sql.gz"))
        .status()
        .expect("bash runs");
    assert!(dump.success());
}
