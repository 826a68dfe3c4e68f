//! What comes in from outside: strangers, forged forms, bad files, a lost database.

use crate::support::{EMAIL, Http, PASSWORD, Server, plain, until};
use pronoia_store::StoreError;
use pronoia_store::sign_in::{Denied, Origin};

/// A table with a yes-or-no column and two that cannot be outcomes.
fn small(rows: usize) -> String {
    let mut text = String::from("id,fee,flag,same,three,rare\n");
    for i in 0..rows {
        let flag = if i % 4 == 0 { "yes" } else { "no" };
        let rare = if i == 3 { "yes" } else { "no" };
        text += &format!("c{i},{}.5,{flag},one,{},{rare}\n", i % 50, ["a", "b", "c"][i % 3]);
    }
    text
}

/// Brings a file in and gives the address of its table.
async fn table(http: &Http, name: &str, text: &str) -> String {
    let sent = http.upload(&http.csrf(), name, text.as_bytes());
    assert_eq!(sent.status, 303, "{}", sent.text);
    let preview = http.follow(&sent.location).await;
    let id = preview
        .text
        .split("action=\"/uploads/")
        .nth(1)
        .expect("a preview")
        .split('/')
        .next()
        .expect("a key")
        .to_owned();
    let accepted = http.submit(&format!("/uploads/{id}/accept"), &[]);
    let page = http.follow(&accepted.location).await;
    assert_eq!(page.status, 200);
    http.get(&format!("/uploads/{id}")).location
}

#[tokio::test(flavor = "multi_thread")]
async fn strangers_and_neighbours_see_nothing() {
    let server = Server::start().await;
    server.make_account();
    let store = server.store().await;
    store.create_account("other@example.org", PASSWORD, "Other workspace", false).await.expect("made");
    let ours = Http::signed_in(&server, EMAIL);
    let address = table(&ours, "small.csv", &small(400)).await;
    let id = address.rsplit('/').next().expect("a key").to_owned();
    let begun = ours.submit("/studies", &[("table", &id), ("title", "Who?"), ("question", "churn")]);
    let study = begun.location.strip_suffix("/prepare").expect("a study").to_owned();

    let mut pages = vec![
        "/".to_owned(),
        "/find".to_owned(),
        address,
        "/uploads/1".into(),
        "/jobs/1".into(),
        "/jobs/1/events".into(),
    ];
    for stop in [
        "records",
        "prepare",
        "train",
        "compare",
        "decide",
        "decide/curve",
        "lists",
        "lists/1",
        "lists/1/scored.csv",
        "campaigns/1",
        "campaigns/1/contacts.csv",
        "lists/1/beside/2",
        "live",
        "forms",
        "forms/sql",
        "statement",
        "statement.md",
    ] {
        pages.push(format!("{study}/{stop}"));
    }
    let (stranger, neighbour) = (Http::new(&server), Http::signed_in(&server, "other@example.org"));
    for page in &pages {
        let answer = stranger.get(page);
        assert_eq!((answer.status, answer.location.as_str()), (303, "/sign-in"), "{page}");
        if page != "/" && page != "/find" {
            assert_eq!(neighbour.get(page).status, 404, "{page}");
        }
    }
    for path in [
        format!("{study}/prepare/outcome"),
        format!("{study}/train"),
        format!("{study}/lists"),
        format!("{study}/lists/1/answers"),
        format!("{study}/lists/1/score"),
        format!("{study}/lists/1/again"),
        format!("{study}/lists/1/publish"),
        format!("{study}/live/1/challenger"),
        format!("{study}/live/1/happened"),
        "/jobs/1/cancel".into(),
        "/studies".into(),
    ] {
        let fields = [
            ("column", "flag"),
            ("event", "yes"),
            ("family", "logistic"),
            ("table", &id),
            ("title", "x"),
            ("question", "churn"),
            ("version", "1"),
            ("percent", "10"),
        ];
        assert_eq!(neighbour.submit(&path, &fields).status, 404, "{path}");
    }
    assert!(!neighbour.get("/").text.contains("Who?"));
    let found = ours.get("/find?q=fe").text;
    assert!(found.contains("column of small, number") && found.contains("?column=fee#open"), "{found}");
    assert!(ours.get("/find?q=WHO").text.contains("study"), "whatever the case");
    assert!(!neighbour.get("/find?q=fe").text.contains("column of"), "columns of others");
}

#[tokio::test(flavor = "multi_thread")]
async fn forged_forms_change_nothing_and_every_answer_is_guarded() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    for csrf in ["", "0000", &"a".repeat(64)] {
        assert_eq!(http.upload(csrf, "a.csv", b"a,b\n1,2\n").status, 403);
        assert_eq!(
            http.post("/studies", &[("csrf", csrf), ("table", "1"), ("title", "x"), ("question", "churn")]).status,
            403
        );
        assert_eq!(http.post("/sign-out", &[("csrf", csrf)]).status, 403);
    }
    assert_eq!(http.get("/").status, 200, "still signed in");
    for page in ["/", "/sign-in", "/nowhere", "/assets/app.css"] {
        let headers = http.get(page).headers;
        let policy = headers["content-security-policy"].to_str().expect("text");
        assert!(policy.contains("script-src 'self'") && !policy.contains("unsafe"), "{policy}");
        assert_eq!(headers["x-content-type-options"], "nosniff");
        assert_eq!(headers["cache-control"] == "no-store", !page.starts_with("/assets"), "{page}");
    }
    let page = http.get("/").text;
    assert!(!page.contains("style=\"") && !page.contains("onclick"), "nothing inline");
    assert_eq!(http.submit("/sign-out", &[]).status, 303);
    assert_eq!(http.get("/").location, "/sign-in", "the session is over on the server too");
}

#[tokio::test(flavor = "multi_thread")]
async fn behind_tls_sessions_are_sent_by_tls_only() {
    for (arguments, is_secure) in [(&["--behind-tls"][..], true), (&[], false)] {
        let server = Server::start_with(arguments).await;
        server.make_account();
        let answer = Http::new(&server).post("/sign-in", &[("email", EMAIL), ("password", crate::support::PASSWORD)]);
        let cookie = answer.headers["set-cookie"].to_str().expect("a cookie");
        assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Lax"), "{cookie}");
        assert_eq!(cookie.contains("Secure"), is_secure, "{cookie}");
        assert_eq!(answer.headers.contains_key("strict-transport-security"), is_secure);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn sign_ins_and_refusals_are_logged_without_secrets() {
    let server = Server::start_with(&["--behind-tls"]).await;
    server.make_account();
    let http = Http::new(&server);
    let sign_in = |password: &str, from: &str| {
        let body = format!("email={EMAIL}&password={}", password.replace(' ', "+"));
        let headers = [("content-type", "application/x-www-form-urlencoded"), ("x-forwarded-for", from)];
        http.call("/sign-in", &headers, body.as_bytes()).status
    };
    assert_eq!(sign_in("a wrong password", "203.0.113.9"), 401);
    assert_eq!(sign_in(crate::support::PASSWORD, "198.51.100.1, 203.0.113.7"), 303);
    let said = server.said();
    assert!(said.contains("a sign-in from 203.0.113.9 was refused"), "{said}");
    assert!(said.contains("somebody signed in from 203.0.113.7"), "whom the proxy spoke for: {said}");
    for secret in ["a wrong password", "wrong+password", crate::support::PASSWORD, EMAIL] {
        assert!(!said.contains(secret), "{secret}: {said}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn guessing_passwords_is_slowed_down() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::new(&server);
    let attempt = |password: &str| http.post("/sign-in", &[("email", EMAIL), ("password", password)]);
    for i in 0..6 {
        let answer = attempt(&format!("guess number {i}"));
        assert!(answer.status == 401 && answer.text.contains("The address or the password is wrong"));
    }
    let answer = attempt(PASSWORD);
    assert!(answer.status == 401 && answer.text.contains("Too many attempts. Wait 1 second"), "{}", answer.text);

    // A stranger's guesses, however many at the same moment, hold up nobody else.
    let store = server.store().await;
    store.create_account("ben@example.org", PASSWORD, "Other", false).await.expect("made");
    let from = |address: &'static str| Origin { address, agent: "test" };
    let guesses = (0..40).map(|n| {
        let store = store.clone();
        tokio::spawn(async move { store.sign_in("ben@example.org", &format!("guess {n}"), &from("203.0.113.9")).await })
    });
    let mut wrong = 0;
    for guess in guesses.collect::<Vec<_>>() {
        match guess.await.expect("answered") {
            Ok(Err(Denied::Wrong)) => wrong += 1,
            Ok(Err(Denied::TooMany(_))) => {}
            // More than wait their turn are told to come again.
            Err(StoreError::Busy(_)) => {}
            other => panic!("{other:?}"),
        }
    }
    assert!((1..=6).contains(&wrong), "{wrong} were looked at");
    let owner = store.sign_in("Ben@example.org", PASSWORD, &from("198.51.100.7")).await.expect("answered");
    assert!(owner.is_ok(), "{owner:?}");
    // One password on many accounts.
    let mut denied = 0;
    for n in 0..50 {
        let tried = store.sign_in(&format!("nobody{n}@example.org"), "password password", &from("192.0.2.1")).await;
        denied += usize::from(matches!(tried.expect("answered"), Err(Denied::TooMany(_))));
    }
    assert!(denied >= 8, "{denied}");
    // What can be no address is refused before anything is stored, and long ones are cut.
    for email in ["a\0b@example.org", "\u{1b}[31m@example.org", &format!("{}@example.org", "x".repeat(100_000))] {
        let tried = store.sign_in(email, PASSWORD, &from("192.0.2.2")).await.expect("answered");
        assert!(matches!(tried, Err(Denied::Wrong)), "{tried:?}");
    }
    let longest = server.answer("SELECT max(length(email))::text FROM sign_in_guard").await;
    assert_eq!(longest, "254");
    assert_eq!(http.post("/sign-in", &[("email", "a\0b@example.org"), ("password", "x\0y")]).status, 401);
    server
        .run_sql("UPDATE sign_in_guard SET last_at = now() - interval '2 hours', next_at = now() - interval '1 hour'")
        .await;
    store.forget_attempts().await.expect("forgotten");
    assert_eq!(server.answer("SELECT count(*)::text FROM sign_in_guard").await, "0", "attempts are pruned");
    let answer = attempt(PASSWORD);
    assert_eq!(answer.status, 303, "and whoever waits gets in");
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_files_are_refused_in_words_and_leave_nothing() {
    let server = Server::start_with(&["--most-upload-mb", "1"]).await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let csrf = http.csrf();
    let wide: Vec<String> = (0..5_000).map(|i| format!("c{i}")).collect();
    let wide = format!("{0}\n{0}\n", wide.join(","));
    let cases: [(&str, &[u8], &str); 5] = [
        ("empty.csv", b"", "The file is empty"),
        ("names.csv", b"a,b,c\n", "no rows below it"),
        ("one.csv", b"name\nx\ny\n", "Only one column was found"),
        ("wide.csv", wide.as_bytes(), "5000 columns"),
        ("book.xlsx", b"PK\x03\x04....", "The file is damaged"),
    ];
    for (name, bytes, words) in cases {
        let sent = http.upload(&csrf, name, bytes);
        assert_eq!(sent.status, 303, "{name}: {}", sent.text);
        let page = http.follow(&sent.location).await;
        assert!(page.text.contains(words), "{name} should speak of “{words}”: {}", page.text);
    }
    let big = vec![b'x'; 1_200_000];
    let refused = http.upload(&csrf, "big.csv", &big);
    assert!(refused.status == 413 && plain(&refused.text).contains("larger than the 1.0 MB"), "{}", refused.text);
    assert_eq!(http.upload(&csrf, "", b"a,b\n1,2\n").status, 422, "no file chosen");

    let odd = "na<b>me,\"fee, net\",שם,\u{1f415}\n<script>x</script>,1,ab,2\ny,3,cd,4\n";
    let address = table(&http, "<i>odd</i>.csv", odd).await;
    let page = http.get(&address).text;
    assert!(page.contains("na&#60;b&#62;me") && page.contains("שם") && !page.contains("<b>me"), "{page}");
    assert!(!http.get(&format!("{address}?view=rows")).text.contains("<script>x"), "values are escaped");

    let store = server.store().await;
    assert_eq!(store.tables(1).await.expect("tables").len(), 1, "only the good file became a table");
    let waiting = std::fs::read_dir(server.folder.path().join("uploads")).expect("the folder").count();
    assert_eq!(waiting, 0, "no bytes are left behind");
}

#[tokio::test(flavor = "multi_thread")]
async fn outcomes_that_cannot_be_are_refused_in_words() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let text = small(400).replace("c7,7.5,no", "c7,7.5,").replace("c8,8.5,yes", "c8,8.5,NA");
    let address = table(&http, "small.csv", &text).await;
    let id = address.rsplit('/').next().expect("a key").to_owned();
    let begun = http.submit("/studies", &[("table", &id), ("title", "Who?"), ("question", "churn")]);
    let study = begun.location.strip_suffix("/prepare").expect("a study").to_owned();
    let choose = |column: &str, event: &str| {
        http.submit(&format!("{study}/prepare/outcome"), &[("column", column), ("event", event)])
    };
    for (column, event, words) in [
        ("same", "one", "has only one value"),
        ("three", "a", "3 different values"),
        ("flag", "maybe", "does not occur"),
        ("ghost", "yes", "no column called"),
        ("rare", "yes", "both are needed"),
    ] {
        let answer = choose(column, event);
        assert!(answer.status == 422 && answer.text.contains(words), "{column}: {}", answer.text);
    }
    assert_eq!(http.submit(&format!("{study}/train"), &[("family", "logistic")]).status, 422, "nothing to fit yet");
    assert_eq!(choose("flag", "yes").status, 303);
    let page = plain(&http.get(&format!("{study}/prepare")).text);
    assert!(page.contains("99 of 398 customers (24.9 %); 2 without an outcome are excluded"), "{page}");
    let refused = http.submit(&format!("{study}/train"), &[("family", "boosted"), ("leaves", "0")]);
    assert!(refused.status == 422 && refused.text.contains("“leaves” must be"), "{}", refused.text);
    let refused = http.submit(&format!("{study}/decide"), &[("value_kept", "5")]);
    assert!(refused.status == 422 && refused.text.contains("No model is fitted yet"), "{}", refused.text);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_tab_does_not_overwrite_the_first() {
    let server = Server::start().await;
    let store = server.store().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let address = table(&http, "small.csv", &small(400)).await;
    let table = address.rsplit('/').next().expect("a key").parse().expect("a number");
    let study = store
        .create_study(
            &store.table(1, table).await.expect("the table"),
            1,
            "Who?",
            pronoia_core::question::Question::Churn,
        )
        .await
        .expect("a study");
    let choice =
        |chosen: &str| pronoia_store::studies::Choice { by: 1.into(), chosen: chosen.into(), figure: String::new() };
    let state = study.choices().expect("choices");
    store.choose(&study, &state, &choice("first")).await.expect("the first choice");
    let second = store.choose(&study, &state, &choice("second")).await.expect_err("seen too long ago");
    assert!(second.to_string().contains("changed elsewhere"), "{second}");
    let ledger = store.ledger(study.id).await.expect("the ledger");
    assert_eq!(ledger.len(), 1, "the refused choice is in no book");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lost_database_is_said_and_comes_back_by_itself() {
    let (server, wire) = Server::start_over_wire().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    assert_eq!(http.get("/").status, 200);
    wire.cut().await;
    let answer = http.get("/");
    assert_eq!(answer.status, 503);
    assert!(
        answer.text.contains("The database is away") && answer.text.contains("http-equiv=\"refresh\""),
        "{}",
        answer.text
    );
    assert_eq!(http.get("/sign-in").status, 503);
    wire.mend();
    let answer = until("the page is back", || async {
        let answer = http.get("/");
        (answer.status == 200).then_some(answer)
    })
    .await;
    assert!(answer.text.contains("Questions"), "signed in still");
    let address = table(&http, "small.csv", &small(200)).await;
    assert!(plain(&http.get(&address).text).contains("200 customers"), "work goes on as before");
}
