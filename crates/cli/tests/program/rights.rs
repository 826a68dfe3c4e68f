//! Every address, tried by everybody: strangers, members of each role, and members of another workspace.

use crate::support::study::Study;
use crate::support::{Answer, Browser, EMAIL, Http, PASSWORD, filled, plain};
use pronoia_demo::{FIRST_MEMBER, SEED, members};
use pronoia_web::{Right, Route, doors};

fn tried(http: &Http, door: &Route, csrf: &str) -> Answer {
    match door.method {
        "get" => http.get(&filled(door)),
        _ => http.post(&filled(door), &[("csrf", csrf)]),
    }
}

/// Whether the answer is that whoever asks may not.
fn is_kept_out(answer: &Answer) -> bool {
    let text = plain(&answer.text);
    answer.status == 403 && (text.contains("change nothing") || text.contains("Only owners"))
}

/// Somebody joins by a link that an owner made.
fn joined(study: &Study, email: &str, role: &str) -> Http {
    let page = study.http.submit("/people", &[("name", email), ("role", role)]);
    let after = page.text.split("/join/").nth(1).expect("a link");
    let link = format!("/join/{}", after.split('<').next().expect("its end"));
    let asked = Http::new(&study.server).get(&link);
    assert!(asked.status == 200 && asked.text.contains("You are invited to Test workspace"), "{}", asked.text);
    let answer = Http::new(&study.server).post(&link, &[("email", email), ("password", PASSWORD)]);
    assert_eq!((answer.status, answer.location.as_str()), (303, "/sign-in"), "{}", answer.text);
    let again = Http::new(&study.server).post(&link, &[("email", "x@example.org"), ("password", PASSWORD)]);
    assert_eq!(again.status, 404, "a link is good for one");
    Http::signed_in(&study.server, email)
}

#[tokio::test(flavor = "multi_thread")]
async fn every_address_answers_only_whom_it_is_for() {
    let study = Study::furnished().await;
    let (reader, analyst) =
        (joined(&study, "reader@example.org", "reader"), joined(&study, "analyst@example.org", "analyst"));
    let stranger = Http::new(&study.server);
    study.store.create_account("other@example.org", PASSWORD, "Other workspace", false).await.expect("made");
    let neighbour = Http::signed_in(&study.server, "other@example.org");
    let neighbours = neighbour.csrf();
    let before = state_of(&study).await;
    let mut seen = [0; 3];
    for door in doors().filter(|door| door.path != "/sign-out") {
        // Nobody is let in by a form without its proof, whatever their role.
        let answers = [&stranger, &reader, &analyst, &study.http].map(|http| tried(http, door, "none"));
        let said = |at: usize| format!("{door:?}: {} {}", answers[at].status, plain(&answers[at].text));
        match door.right {
            Right::Anybody => assert!(answers[0].status != 303 || door.path == "/sign-in", "{}", said(0)),
            Right::Program => assert!(answers.iter().all(|answer| answer.status == 401), "{}", said(3)),
            _ => assert_eq!((answers[0].status, answers[0].location.as_str()), (303, "/sign-in"), "{}", said(0)),
        }
        let kept_out = [1, 2, 3].map(|at| is_kept_out(&answers[at]));
        let expected = match door.right {
            Right::Anybody | Right::Reader | Right::Program => [false, false, false],
            Right::Analyst => [true, false, false],
            Right::Owner => [true, true, false],
        };
        assert_eq!(kept_out, expected, "{}", said(1));
        seen[0] += u32::from(expected[0]);
        if answers.iter().skip(1).any(|answer| answer.status >= 500) {
            panic!("{} {}", said(1), said(3));
        }
        // What belongs to a workspace is not there for members of another.
        let is_of_workspace = door.path.contains('{') && !matches!(door.right, Right::Anybody | Right::Program);
        // What is one's own is looked for among that.
        let is_of_workspace = is_of_workspace && !door.path.starts_with("/account");
        if is_of_workspace && door.path != "/families/{family}" {
            let theirs = tried(&neighbour, door, &neighbours);
            assert!((400..500).contains(&theirs.status), "{door:?}: {} {}", theirs.status, plain(&theirs.text));
            seen[1] += u32::from(door.method == "get");
            seen[2] += u32::from(door.method == "get" && answers[1].status == 200);
            // Some pages are asked more before they look, and refuse us alike.
            let is_alike = answers[1].status == theirs.status && theirs.text == answers[1].text;
            assert!(door.method == "post" || theirs.status == 404 || is_alike, "{door:?}: {}", theirs.text);
        }
    }
    assert!(seen[0] > 50 && seen[1] > 40 && seen[2] > 30, "{seen:?}: forms for analysts, pages, pages with something");
    assert_eq!(state_of(&study).await, before, "nothing was changed by any of it");
}

/// What would be different if anything had been done.
async fn state_of(study: &Study) -> (Vec<String>, usize, usize, usize, String) {
    let store = &study.store;
    // What was taken away is entered, whoever takes it.
    let taken = |chosen: &String| chosen.starts_with("Statement") || chosen.starts_with("Model written");
    let ledger = store.ledger(study.id).await.expect("the ledger");
    (
        ledger.into_iter().map(|entry| entry.chosen).filter(|chosen| !taken(chosen)).collect(),
        store.tables(1).await.expect("tables").len(),
        store.lists(study.id).await.expect("lists").len(),
        store.candidates(study.id, &[]).await.expect("models").len(),
        study.server.answer("SELECT count(*)::text || ' ' || (SELECT count(*) FROM job) FROM membership").await,
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn owners_say_who_may_do_what_and_one_always_stays() {
    let study = Study::begun(&members(300, SEED, FIRST_MEMBER), "yes").await;
    let analyst = joined(&study, "analyst@example.org", "analyst");
    let people = study.store.members(1).await.expect("members");
    let id = |email: &str| people.iter().find(|m| m.account.email == email).expect("a member").account.id;
    let (owner, other) = (id(EMAIL), id("analyst@example.org"));
    let change = |account: i64, role: &str| study.http.submit(&format!("/people/{account}/role"), &[("role", role)]);

    for role in ["analyst", "none"] {
        let refused = change(owner, role);
        assert!(refused.status == 422 && refused.text.contains("would have no owner"), "{}", refused.text);
    }
    assert_eq!(change(owner + 99, "reader").status, 404);
    assert!(change(other, "king").text.contains("no role “king”"));
    // What somebody may do is asked at every request.
    let path = format!("/studies/{}/prepare/leave-out", study.id);
    let csrf = analyst.csrf();
    assert_eq!(analyst.post(&path, &[("csrf", &csrf)]).status, 303);
    assert_eq!(change(other, "reader").status, 303);
    assert!(is_kept_out(&analyst.post(&path, &[("csrf", &csrf)])));
    assert!(analyst.get("/people").text.contains("analyst@example.org · reader"));
    assert!(!analyst.get("/people").text.contains("Make a link"));
    assert_eq!(change(other, "none").status, 303);
    assert_eq!(analyst.get("/").location, "/sign-in", "whoever is taken out is out at once");

    // Links that were withdrawn, are too old, or never were.
    let page = study.http.submit("/people", &[("name", "Mara, <branch>"), ("role", "analyst")]);
    assert!(page.text.contains("Mara, &#60;branch&#62;"), "{}", page.text);
    let link = page.text.split("/join/").nth(1).and_then(|after| after.split('<').next()).expect("a link").to_owned();
    let stranger = Http::new(&study.server);
    let join = |email: &str, password: &str| {
        stranger.post(&format!("/join/{link}"), &[("email", email), ("password", password)])
    };
    for (email, password, says) in [
        ("mara@example.org", "short", "at least 12 characters"),
        ("mara", PASSWORD, "is no e-mail address"),
        (EMAIL, PASSWORD, "There is an account for"),
    ] {
        let refused = join(email, password);
        assert!(refused.status == 422 && refused.text.contains(says), "{says}: {}", refused.text);
    }
    let invited = study.store.invitations(1).await.expect("invitations");
    assert_eq!(invited.len(), 1);
    assert_eq!(study.http.submit(&format!("/people/invitations/{}/withdraw", invited[0].id), &[]).status, 303);
    assert_eq!(join("mara@example.org", PASSWORD).status, 404);
    let page = study.http.submit("/people", &[("name", "Tom"), ("role", "reader")]);
    let late = page.text.split("/join/").nth(1).and_then(|after| after.split('<').next()).expect("a link").to_owned();
    study.server.run_sql("UPDATE invitation SET expires_at = now() - interval '1 minute'").await;
    assert_eq!(stranger.get(&format!("/join/{late}")).status, 404);
    assert_eq!(stranger.get("/join/join_never").status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_may_only_look_is_shown_nothing_that_would_be_refused() {
    let study = Study::furnished().await;
    joined(&study, "reader@example.org", "reader");
    let b = Browser::open().await;
    b.go(&format!("{}/sign-in", study.server.url)).await;
    b.fill("[name=email]", "reader@example.org").await;
    b.fill("[name=password]", PASSWORD).await;
    b.click("form[action='/sign-in'] button").await;
    b.see(".who", "reader").await;
    let pages = [
        "records",
        "drivers",
        "drivers/together",
        "prepare",
        "prepare/cautions",
        "prepare/split",
        "prepare/steps",
        "train",
        "compare",
        "decide",
        "decide/why",
        "decide/groups",
        "lists",
        "lists/1",
        "live",
        "ledger",
        "ledger/1",
    ];
    let studies = pages.map(|page| format!("/studies/{}/{page}", study.id));
    let others = ["/", "/people", "/account", "/query", "/away", "/tables/1", "/uploads/1"].map(str::to_owned);
    let refused = "return [...document.querySelectorAll('form[method=post] button')].filter(button => \
        button.type === 'submit' && button.checkVisibility() && !button.form.closest('[data-own]') && \
        !['/theme', '/sign-out'].includes(button.form.getAttribute('action'))).map(button => button.textContent.trim())";
    for page in studies.iter().chain(&others) {
        b.go(&format!("{}{page}", study.server.url)).await;
        assert!(b.text("h1").await.len() > 3, "{page}");
        assert_eq!(b.script(refused).await, serde_json::json!([]), "{page}");
    }
    b.go(&format!("{}/studies/{}/decide", study.server.url, study.id)).await;
    let shown = b.script("return document.querySelector('#policy [name=save_rate]').checkVisibility()").await;
    assert_eq!(shown, true, "what it rests on is seen all the same");
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_left_is_out_with_all_that_they_made() {
    let study = Study::furnished().await;
    let second = joined(&study, "second@example.org", "owner");
    let id = study.store.account("second@example.org").await.expect("asked").expect("there").id;
    let link =
        |page: &str| page.split("/join/").nth(1).and_then(|rest| rest.split('<').next()).expect("a link").to_owned();
    let shown = |page: &str| {
        page.split("data-new-key>").nth(1).and_then(|rest| rest.split('<').next()).expect("a key").to_owned()
    };
    let make = || {
        let invited = link(&second.submit("/people", &[("name", "Mara"), ("role", "owner")]).text);
        let key = shown(&second.submit("/programs", &[("name", "nightly")]).text);
        let address = format!("/studies/{}/live/1/keys", study.id);
        let of_release = shown(&second.submit(&address, &[("name", "billing"), ("per_minute", "100")]).text);
        (invited, key, of_release)
    };
    let stranger = Http::new(&study.server);
    let works = |key: &str| {
        let authorization = format!("Bearer {key}");
        let asked = ureq::get(format!("{}/api/v1/tables", study.server.url)).header("authorization", authorization);
        asked.config().http_status_as_error(false).build().call().expect("an answer").status() == 200
    };
    let scores = |key: &str| {
        let authorization = format!("Bearer {key}");
        let headers = [("authorization", authorization.as_str()), ("content-type", "application/json")];
        stranger.call("/api/v1/releases/members/score", &headers, b"{\"customers\": []}").status == 200
    };
    let change = |role: &str, take_over: &str| {
        let fields = [("role", role), ("take_over", take_over)];
        assert_eq!(study.http.submit(&format!("/people/{id}/role"), &fields).status, 303);
    };
    let (invited, key, of_release) = make();
    assert!(works(&key) && scores(&of_release) && stranger.get(&format!("/join/{invited}")).status == 200);
    // Who made what is shown.
    for page in ["/people", "/programs", &format!("/studies/{}/live", study.id)] {
        assert!(study.http.get(page).text.contains("second@example.org"), "{page}");
    }
    // An invitation by somebody who is no owner any more is void, also where nobody withdrew it.
    change("analyst", "");
    assert_eq!(stranger.get(&format!("/join/{invited}")).status, 404);
    study.server.run_sql("UPDATE invitation SET withdrawn_at = NULL").await;
    assert_eq!(stranger.get(&format!("/join/{invited}")).status, 404);
    let joining = [("email", "mara@example.org"), ("password", PASSWORD)];
    assert_eq!(stranger.post(&format!("/join/{invited}"), &joining).status, 404);
    assert!(works(&key), "an analyst does the work");
    change("owner", "");
    let (_, taken, taken_of_release) = make();
    // Taken over by name, or ended.
    change("none", "yes");
    assert!(works(&taken) && works(&key) && scores(&taken_of_release));
    assert!(!study.http.get("/programs").text.contains("second@example.org"));
    assert_eq!(second.get("/").location, "/sign-in", "signed out");
    let again = Http::new(&study.server).post("/sign-in", &[("email", "second@example.org"), ("password", PASSWORD)]);
    assert_ne!(Http::new(&study.server).get("/").status, 200);
    drop(again);

    let third = joined(&study, "third@example.org", "owner");
    let of_third = shown(&third.submit("/programs", &[("name", "nightly")]).text);
    let id = study.store.account("third@example.org").await.expect("asked").expect("there").id;
    assert!(works(&of_third));
    assert_eq!(study.http.submit(&format!("/people/{id}/role"), &[("role", "none")]).status, 303);
    assert!(!works(&of_third));
    let sessions = study.server.answer(&format!("SELECT count(*)::text FROM session WHERE account_id = {id}")).await;
    assert_eq!(sessions, "0");
}
