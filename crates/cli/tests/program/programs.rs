//! A program with a key does the work of a workspace, from a file to a scored list, and nobody else's.

use std::collections::HashMap;

use crate::support::study::Study;
use crate::support::{EMAIL, Http, PASSWORD, Server, plain, until};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv, renewals_csv};
use serde_json::{Value, json};

/// A program with its key.
struct Program<'s> {
    server: &'s Server,
    key: String,
}

/// What came back.
struct Answer {
    status: u16,
    media_type: String,
    tag: String,
    text: String,
}

impl Answer {
    fn json(&self) -> Value {
        serde_json::from_str(&self.text).unwrap_or_else(|e| panic!("{e}: {}", self.text))
    }

    /// The sentence that is told instead of an answer.
    fn problem(&self) -> String {
        self.json()["error"].as_str().unwrap_or_else(|| panic!("{}", self.text)).to_owned()
    }
}

impl Program<'_> {
    fn call(&self, method: &str, path: &str, media_type: &str, body: &[u8]) -> Answer {
        self.call_with(method, path, &[("content-type", media_type)], body)
    }

    fn call_with(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let config = ureq::Agent::config_builder().http_status_as_error(false).build();
        let mut request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("{}/api/v1{path}", self.server.url))
            .header("authorization", format!("Bearer {}", self.key));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let mut answer = ureq::Agent::new_with_config(config)
            .run(request.body(body.to_vec()).expect("a request"))
            .expect("an answer");
        let header = |name: &str| {
            answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned()
        };
        let (media_type, tag) = (header("content-type"), header("etag"));
        let text = answer.body_mut().with_config().limit(100_000_000).read_to_string().expect("text");
        Answer { status: answer.status().as_u16(), media_type, tag, text }
    }

    fn get(&self, path: &str) -> Answer {
        self.call("GET", path, "application/json", b"")
    }

    fn post(&self, path: &str, body: &Value) -> Answer {
        self.call("POST", path, "application/json", body.to_string().as_bytes())
    }

    /// Waits for the job that an answer tells of.
    async fn done(&self, answer: Answer) -> Value {
        assert_eq!(answer.status, 202, "{}", answer.text);
        let job = answer.json()["job"].as_i64().expect("a job");
        until("the job ends", || async {
            let job = self.get(&format!("/jobs/{job}")).json();
            assert_ne!(job["state"], "failed", "{job}");
            (job["state"] == "done").then_some(())
        })
        .await;
        answer.json()
    }
}

/// A workspace, and the key of a program that works in it.
fn key(http: &Http) -> String {
    let page = http.submit("/programs", &[("name", "the nightly job")]).text;
    let key = page.split("data-new-key>").nth(1).and_then(|rest| rest.split('<').next()).expect("a key").to_owned();
    assert!(key.starts_with("pw_") && key.len() == 51, "{key}");
    assert!(!http.get("/programs").text.contains(&key), "shown once");
    key
}

async fn begun() -> (Server, Http, String) {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let key = key(&http);
    (server, http, key)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_takes_records_all_the_way_to_a_scored_list() {
    let (server, http, key) = begun().await;
    let program = Program { server: &server, key };
    let csv = outcome_csv(&members(2_500, SEED, FIRST_MEMBER));
    let sent = program.done(program.call("POST", "/files?name=members.csv", "application/octet-stream", &csv)).await;
    let file = sent["file"].as_i64().expect("a file");
    let understood = program.get(&format!("/files/{file}")).json();
    assert_eq!((understood["state"].as_str(), understood["rows"].as_u64()), (Some("ready"), Some(2_500)));
    program.done(program.post(&format!("/files/{file}/accept"), &json!({}))).await;
    let table = program.get(&format!("/files/{file}")).json()["table"].as_i64().expect("a table");
    let tables = program.get("/tables").json();
    assert_eq!((tables[0]["id"].as_i64(), tables[0]["rows"].as_i64()), (Some(table), Some(2_500)));
    assert!(program.post(&format!("/files/{file}/accept"), &json!({})).problem().contains("accepted already"));

    let mut asked = json!({"table": table, "title": "Who will cancel?", "question": "churn", "outcome": "cancelled", "event": "perhaps"});
    let refused = program.post("/studies", &asked);
    assert_eq!(refused.status, 422, "{}", refused.text);
    assert_eq!(program.get("/studies").json(), json!([]), "nothing half-made");
    asked["event"] = json!("yes");
    let study = program.post("/studies", &asked);
    assert_eq!(study.status, 201, "{}", study.text);
    let study = study.json()["id"].as_i64().expect("a study");
    let wrong = program.post(&format!("/studies/{study}/fits"), &json!({"family": "oracle"}));
    assert!(wrong.status == 422 && wrong.problem().contains("There is no family “oracle”"), "{}", wrong.text);
    let settings = HashMap::from([("groups", "4")]);
    let fit = json!({"family": "scorecard", "settings": settings});
    program.done(program.post(&format!("/studies/{study}/fits"), &fit)).await;
    let candidate = program.get(&format!("/studies/{study}")).json()["candidates"][0].clone();
    assert!(candidate["state"] == "fitted" && candidate["area_under_roc"].as_f64().is_some_and(|area| area > 0.6));
    // Lists wait for a policy, which is somebody's to choose.
    let early = program.post(&format!("/studies/{study}/lists"), &json!({ "table": table }));
    assert!(early.status == 422 && early.problem().contains("Keep one at Decide first"), "{}", early.text);
    assert_eq!(
        http.submit(&format!("/studies/{study}/decide"), &[("value_kept", "150"), ("line", "0.25")]).status,
        303
    );

    let list = renewals_csv(&members(200, SEED + 1, FIRST_RENEWAL));
    let path = format!("/files?name=renewals.csv&study={study}");
    program.done(program.call("POST", &path, "text/csv", &list)).await;
    let id = until("the list is matched", || async {
        let lists = program.get(&format!("/studies/{study}/lists")).json();
        (lists[0]["state"] == "matched").then(|| lists[0]["id"].as_i64().expect("a list"))
    })
    .await;
    let lists = format!("/studies/{study}/lists/{id}");
    assert!(program.get(&format!("{lists}/scored.csv")).problem().contains("not scored yet"));
    program.done(program.post(&format!("{lists}/score"), &json!({"gain": true, "reasons": 2}))).await;
    let csv = program.get(&format!("{lists}/scored.csv"));
    let first = csv.text.lines().next().expect("names");
    assert!(csv.status == 200 && csv.text.lines().count() == 201, "{}", csv.text);
    assert!(
        first.contains("pronoia_probability,pronoia_decision") && first.contains("pronoia_gain,pronoia_reasons"),
        "{first}"
    );
    let page = http.get(&format!("/studies/{study}/lists/{id}")).text;
    assert!(plain(&page).contains("of 200 customers"));
    let told = program.get(&format!("/studies/{study}/lists")).json();
    let acted = csv.text.lines().filter(|line| line.contains(",act,")).count() as i64;
    assert_eq!(told[0]["acted"].as_i64(), Some(acted));
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_done_without_a_key_or_in_another_workspace() {
    let (server, http, key) = begun().await;
    let program = Program { server: &server, key: key.clone() };
    let sent = program.call("POST", "/files?name=a.csv", "text/csv", b"a,b\n1,2\n");
    let file = program.done(sent).await["file"].as_i64().expect("a file");
    let store = server.store().await;
    store.create_account("other@example.org", PASSWORD, "Other workspace", false).await.expect("made");
    let neighbour = Http::signed_in(&server, "other@example.org");
    let elsewhere = Program { server: &server, key: self::key(&neighbour) };
    for path in [format!("/files/{file}"), "/studies/1".into(), "/jobs/1".into(), "/studies/1/lists".into()] {
        assert_eq!(elsewhere.get(&path).status, 404, "{path}");
        assert!(!elsewhere.get(&path).problem().is_empty());
    }
    assert_eq!(elsewhere.get("/tables").json(), json!([]));
    let keys = store.program_keys(1).await.expect("keys");
    assert!(keys.iter().all(|kept| !kept.sha256.contains(&key[3..])), "only digests are kept");
    assert_eq!(neighbour.submit(&format!("/programs/{}/revoke", keys[0].id), &[]).status, 404);
    assert_eq!(program.get("/tables").status, 200);
    assert_eq!(http.submit(&format!("/programs/{}/revoke", keys[0].id), &[]).status, 303);
    for wrong in [key.as_str(), "pw_0", "", "pr_00"] {
        let stranger = Program { server: &server, key: wrong.to_owned() };
        let answer = stranger.get("/tables");
        assert!(answer.status == 401 && answer.problem().contains("Send a key of the workspace"), "{}", answer.text);
        assert_eq!(stranger.post("/studies", &json!({})).status, 401);
        assert_eq!(stranger.call("POST", "/files?name=a.csv", "text/csv", b"a\n").status, 401);
    }
    assert!(http.get("/programs").text.contains("revoked"));
    assert_eq!(http.submit("/programs", &[("name", " ")]).status, 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_path_of_the_document_answers_as_it_says_whatever_is_sent() {
    let (server, http, key) = begun().await;
    let document: Value = serde_json::from_str(&http.get("/api/v1/openapi.json").text).expect("JSON");
    let paths = document["paths"].as_object().expect("paths");
    let mut tried = 0;
    for (path, methods) in paths.iter().filter(|(path, _)| !path.contains("releases")) {
        for (method, says) in methods.as_object().expect("methods") {
            let statuses = says["responses"].as_object().expect("responses").keys();
            let documented: Vec<u16> = statuses.map(|s| s.parse().expect("a status")).collect();
            for id in ["1", "999999999999999999", "0"] {
                let address = path.trim_start_matches("/api/v1").replace("{id}", id).replace("{list}", id);
                for form in ["csv", "abacus"] {
                    let address = address.replace("{form}", form);
                    for key in [key.as_str(), "pw_wrong"] {
                        let program = Program { server: &server, key: key.to_owned() };
                        for (media_type, body) in [
                            ("application/json", ""),
                            ("application/json", "{"),
                            ("application/json", "[]"),
                            (
                                "application/json",
                                "{\"table\": 1, \"title\": \"x\", \"question\": \"churn\", \"outcome\": \"a\", \"event\": \"b\"}",
                            ),
                            ("application/json", "{\"table\": -1, \"family\": \"svm\", \"reasons\": 10000}"),
                            ("text/plain", "\u{0}"),
                        ] {
                            let answer = program.call(&method.to_uppercase(), &address, media_type, body.as_bytes());
                            let what = format!("{method} {address} {media_type} {body}: {}", answer.text);
                            assert!(documented.contains(&answer.status), "{} {what}", answer.status);
                            assert!(answer.status < 500, "{what}");
                            if answer.status >= 400 {
                                assert!(!answer.problem().is_empty(), "{what}");
                            }
                            tried += 1;
                        }
                    }
                }
            }
        }
    }
    assert!(tried > 500, "{tried}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_analyst_does_a_program_does_by_the_same_actions() {
    let study = Study::furnished().await;
    study.idle().await;
    let program = Program { server: &study.server, key: key(&study.http) };
    let path = |action: &str| format!("/studies/{}/{action}", study.id);
    let entered = async || study.store.ledger(study.id).await.expect("the ledger")[0].chosen.clone();

    let role = json!({"column": "annual_fee", "role": "excluded"});
    let done = program.post(&path("columns"), &role);
    assert_eq!((done.status, done.text.as_str()), (204, ""));
    assert_eq!(entered().await, "annual_fee: excluded");
    let undo = study.store.ledger(study.id).await.expect("the ledger")[0].id;
    assert_eq!(program.post(&path(&format!("ledger/{undo}/undo")), &json!({})).status, 204);
    assert_eq!(program.call("POST", &path(&format!("ledger/{undo}/undo")), "application/json", b"").status, 422);
    let fit = program.done(program.post(&path("candidates/1/importance"), &json!({}))).await;
    assert!(fit["job"].as_i64().is_some(), "{fit}");
    let branch = program.post(&path(&format!("ledger/{undo}/branch")), &json!({"title": "A branch"}));
    assert_eq!((branch.status, branch.json()["id"].as_i64()), (201, Some(study.id + 1)), "{}", branch.text);

    // What cannot be done is said as problem details.
    for (action, body, status, said) in [
        ("columns", json!({"column": "annual_fee", "role": "king"}), 422, "king"),
        ("columns", json!({"column": "annual_fee"}), 422, "missing field `role`"),
        ("columns", json!({"column": "annual_fee", "role": "excluded", "study": 1}), 422, "stands in the path"),
        ("columns", json!({"column": "annual_fee", "role": "excluded", "colour": 1}), 422, "unknown field `colour`"),
        ("columns", json!([1]), 422, "JSON object"),
        ("columns", json!({"column": "nowhere", "role": "excluded"}), 404, "no such thing"),
        ("candidates/99/refit", json!({}), 404, "no such thing"),
        ("candidates/x/refit", json!({}), 404, "no such thing"),
    ] {
        let refused = program.post(&path(action), &body);
        assert_eq!(refused.status, status, "{action} {body}: {}", refused.text);
        assert_eq!(refused.media_type, "application/problem+json");
        let problem = refused.json();
        assert_eq!((problem["type"].as_str(), problem["status"].as_u64()), (Some("about:blank"), Some(status.into())));
        assert!(problem["detail"].as_str().is_some_and(|detail| detail.contains(said)), "{problem}");
        assert_eq!(problem["detail"], problem["error"]);
    }
    assert_eq!(program.post("/studies/99/columns", &role).status, 404);

    // Whoever looked at an older revision is told the present one.
    let tag = program.get(&format!("/studies/{}", study.id)).tag;
    assert!(tag.starts_with('"') && tag.ends_with('"'), "{tag}");
    let body = role.to_string();
    let matching = |tag: &str| program.call_with("POST", &path("columns"), &[("if-match", tag)], body.as_bytes());
    assert_eq!(matching(&tag).status, 204);
    let late = matching(&tag);
    assert_eq!(late.status, 412, "{}", late.text);
    let present = program.get(&format!("/studies/{}", study.id)).tag;
    assert!(present != tag && late.problem().contains(&present), "{}", late.text);

    let document = program.get("/openapi.json").json();
    for declared in pronoia_service::actions::DECLARATIONS {
        let shape = |path: &str| {
            path.split('/').map(|part| if part.starts_with('{') { "{}" } else { part }).collect::<Vec<_>>().join("/")
        };
        let paths = document["paths"].as_object().expect("paths");
        let found = paths.iter().find(|(path, item)| shape(path) == shape(declared.path) && item["post"].is_object());
        assert!(found.is_some(), "{declared:?} is in the document");
    }
    let body = &document["paths"]["/api/v1/studies/{study}/columns"]["post"]["requestBody"]["content"]["application/json"]
        ["schema"];
    assert!(body["properties"]["role"].is_object() && body["properties"]["study"].is_null(), "{body}");
}
