//! Somebody's own account: the password, and where they are signed in.

use crate::support::{EMAIL, Http, PASSWORD, Server, plain};

const NEW: &str = "quite another sentence";

fn change(http: &Http, present: &str, new: &str) -> (u16, String) {
    let answer = http.submit("/account/password", &[("present", present), ("new", new)]);
    (answer.status, plain(&answer.text))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_is_changed_by_whoever_knows_it_and_ends_all_other_sessions() {
    let server = Server::start().await;
    server.make_account();
    let [here, there] = [(); 2].map(|()| Http::signed_in(&server, EMAIL));
    for (present, new, says) in [
        ("a wrong password", NEW, "This is not the current password"),
        (PASSWORD, "too short", "at least 12 characters"),
        (PASSWORD, "aaaaaaaaaaaaaaa", "easily guessed"),
        (PASSWORD, &"long ".repeat(60), "up to 128 characters"),
    ] {
        let (status, text) = change(&here, present, new);
        assert!(status == 422 && text.contains(says), "{says}: {status} {text}");
    }
    assert_eq!(there.get("/").status, 200, "nothing was changed");
    assert_eq!(change(&here, PASSWORD, NEW).0, 303);
    assert!(here.get("/account?changed=true").text.contains("every other session has ended"));
    assert_eq!(there.get("/").location, "/sign-in");
    let old = Http::new(&server).post("/sign-in", &[("email", EMAIL), ("password", PASSWORD)]);
    assert_eq!(old.status, 401);
    Http::signed_in_with(&server, EMAIL, NEW);
    // Guessing through this form is slowed down as it is at the sign-in page.
    for _ in 0..6 {
        change(&here, "a guess at the password", "yet another sentence");
    }
    let (status, text) = change(&here, NEW, "yet another sentence");
    assert!(status == 422 && text.contains("Too many attempts"), "{status} {text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_are_listed_and_each_can_be_ended_but_nobody_elses() {
    let server = Server::start().await;
    server.make_account();
    let store = server.store().await;
    store.create_account("other@example.org", PASSWORD, "Other workspace", false).await.expect("made");
    let [here, there, further] = [(); 3].map(|()| Http::signed_in(&server, EMAIL));
    let other = Http::signed_in(&server, "other@example.org");
    let page = here.get("/account").text;
    assert!(page.contains("You are signed in here and in 2 other places") && page.contains("127.0.0.1"), "{page}");
    let account = store.account(EMAIL).await.expect("asked").expect("an account").id;
    // The newest stands first; the first one is the oldest.
    let ids: Vec<i64> = store.sessions(account).await.expect("sessions").iter().map(|session| session.id).collect();
    let end = |http: &Http, id: i64| http.submit(&format!("/account/sessions/{id}"), &[]).status;
    assert_eq!(end(&other, ids[1]), 404, "not another's");
    assert_eq!(there.get("/").status, 200);
    assert_eq!(end(&here, ids[1]), 303);
    assert_eq!((there.get("/").status, further.get("/").status), (303, 200));
    assert_eq!(here.submit("/account/sessions", &[]).status, 303);
    assert_eq!(further.get("/").location, "/sign-in");
    assert!(here.get("/account").text.contains("You are signed in here only"));
    assert_eq!(other.get("/").status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn passwords_are_kept_as_argon2id_with_a_salt_each() {
    let server = Server::start().await;
    let store = server.store().await;
    for (email, workspace) in [(EMAIL, "Ours"), ("ben@example.org", "Theirs")] {
        store.create_account(email, PASSWORD, workspace, false).await.expect("made");
    }
    let hashes = server.answer("SELECT string_agg(password_hash, ' ' ORDER BY id) FROM account").await;
    let hashes: Vec<&str> = hashes.split(' ').collect();
    assert!(hashes.len() == 2 && hashes.iter().all(|hash| hash.starts_with("$argon2id$v=19$m=")), "{hashes:?}");
    assert_ne!(hashes[0].rsplit('$').next(), hashes[1].rsplit('$').next(), "the same password, another salt");
}
