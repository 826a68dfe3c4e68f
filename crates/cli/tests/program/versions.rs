//! A newer file makes a new version; rows are put below each other; a study moves when it is told to.

use crate::support::{EMAIL, Http, Server, plain, until};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, Member, SEED, members};
use pronoia_store::Store;

async fn begun() -> (Server, Http, Store) {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let store = server.store().await;
    (server, http, store)
}

/// Brings a file in; the key of its table.
async fn brought(http: &Http, store: &Store, name: &str, bytes: &[u8]) -> i64 {
    let sent = http.upload(&http.csrf(), name, bytes);
    http.follow(&sent.location).await;
    let upload = store.waiting_uploads(1).await.expect("uploads")[0].id;
    http.follow(&http.submit(&format!("/uploads/{upload}/accept"), &[]).location).await;
    store.tables(1).await.expect("tables")[0].id
}

/// The members' file without one column, and with another.
fn later(people: &[Member]) -> Vec<u8> {
    let bytes = pronoia_demo::outcome_csv(people);
    let mut lines: Vec<&[u8]> = bytes.split(|b| *b == b'\n').filter(|line| !line.is_empty()).collect();
    let head: Vec<&[u8]> = lines.remove(0).split(|b| *b == b';').collect();
    let gone = head.iter().position(|name| *name == b"clinic").expect("the column");
    let without = |cells: Vec<&[u8]>, last: &[u8]| {
        let mut cells: Vec<&[u8]> = cells.iter().enumerate().filter(|(at, _)| *at != gone).map(|c| *c.1).collect();
        cells.push(last);
        cells.join(&b';')
    };
    let mut out = vec![without(head, b"app_user")];
    for (row, line) in lines.into_iter().enumerate() {
        out.push(without(line.split(|b| *b == b';').collect(), if row % 3 == 0 { b"yes" } else { b"no" }));
    }
    out.join(&b'\n')
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_moves_to_a_newer_version_and_back() {
    let (_server, http, store) = begun().await;
    let first =
        brought(&http, &store, "members.csv", &pronoia_demo::outcome_csv(&members(2_000, SEED, FIRST_MEMBER))).await;
    http.submit("/studies", &[("table", &first.to_string()), ("title", "Who will cancel?"), ("question", "churn")]);
    let id = store.studies(1).await.expect("studies")[0].id;
    let page = |name: &str| plain(&http.get(&format!("/studies/{id}/{name}")).text);
    let post = |name: &str, fields: &[(&str, &str)]| http.submit(&format!("/studies/{id}/{name}"), fields);
    assert_eq!(post("prepare/outcome", &[("column", "cancelled"), ("event", "yes")]).status, 303);
    post("prepare/leave-out", &[]);
    let derive = [("kind", "derive"), ("name", "at Müllerwiese"), ("expression", "clinic = 'Müllerwiese'")];
    assert_eq!(post("prepare/steps", &derive).status, 303);
    post("train", &[("family", "logistic")]);
    until("the model is fitted", || async {
        store.candidates(id, &[]).await.ok()?.into_iter().find(|m| m.state == "fitted")
    })
    .await;

    let people = members(2_600, SEED + 4, FIRST_RENEWAL);
    let second = brought(&http, &store, "members.csv", &later(&people)).await;
    let alone = plain(&http.get(&format!("/tables/{second}")).text);
    assert!(alone.contains("Version 1 is older") && alone.contains("clinic</strong> is gone"), "{alone}");
    let records = page("records");
    assert!(
        records.contains("Version 2 is newer: 2 600 rows") && records.contains("app_user</strong> is new"),
        "{records}"
    );
    assert!(!page("train").contains("class=\"stale\""), "nothing moves by itself");

    assert_eq!(post("records/version", &[("table", &second.to_string())]).status, 303);
    assert!(page("records").contains("2 600 customers in members"));
    assert!(page("train").contains("class=\"stale\""));
    assert!(page("prepare").contains("app_user"));
    // The step whose column is gone says so, and nothing of it is lost.
    let steps = page("prepare/steps");
    assert!(steps.contains("at Müllerwiese") && steps.contains("no column “clinic”"), "{steps}");
    let failed = post("train", &[("family", "boosted")]);
    assert_eq!(failed.status, 422);
    assert!(plain(&failed.text).contains("clinic"), "{}", plain(&failed.text));

    // A table of another name is no version; and everything is taken back.
    let other = brought(&http, &store, "guests.csv", &later(&people)).await;
    assert_eq!(post("records/version", &[("table", &other.to_string())]).status, 422);
    let newest =
        store.ledger(id).await.expect("the ledger").into_iter().find(|e| e.can_be_taken_back()).expect("a choice");
    assert_eq!(newest.chosen, "Moved to version 2 of members");
    assert_eq!(post("take-back", &[("entry", &newest.id.to_string()), ("back", "records")]).status, 303);
    assert!(page("records").contains("2 000 customers in members"));
    assert!(!page("prepare/steps").contains("no column “clinic”"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_version_without_the_outcome_is_not_moved_to() {
    let (_server, http, store) = begun().await;
    let first = brought(&http, &store, "notes.csv", b"id,left,x\nA1,yes,1\nA2,no,2\nA3,no,3\nA4,yes,4\nA5,no,5\nA6,yes,2\nA7,no,7\nA8,no,1\nA9,yes,3\nB1,no,4\nB2,yes,5\nB3,no,6\n").await;
    http.submit("/studies", &[("table", &first.to_string()), ("title", "Who left?"), ("question", "churn")]);
    let id = store.studies(1).await.expect("studies")[0].id;
    assert_eq!(
        http.submit(&format!("/studies/{id}/prepare/outcome"), &[("column", "left"), ("event", "yes")]).status,
        303
    );
    let second = brought(&http, &store, "notes.csv", b"id,x\nA1,1\nA2,2\n").await;
    let refused = http.submit(&format!("/studies/{id}/records/version"), &[("table", &second.to_string())]);
    assert!(
        refused.status == 422 && plain(&refused.text).contains("no column called “left”"),
        "{}",
        plain(&refused.text)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_are_put_below_each_other_and_counted_before() {
    let (_server, http, store) = begun().await;
    let april = brought(
        &http,
        &store,
        "april.csv",
        "id,fee,paid on,Stadt\nA1,10,2026-04-01,Köln\nA2,12.5,2026-04-02,\nA3,9,2026-04-03,Bonn\n".as_bytes(),
    )
    .await;
    let may =
        brought(&http, &store, "may.csv", b"id,fee,channel,paid on\nA3,9,web,2026-04-03\nB1,7,post,2026-05-09\n").await;
    let odd = brought(&http, &store, "june.csv", b"id,fee\nA1,a lot\nA2,little\n").await;
    let page = |second: i64| plain(&http.get(&format!("/tables/{april}/append?with={second}")).text);
    let account = page(may);
    for words in ["3 rows and 2 appended: 5 rows", "3: id, fee, paid on", "1 row is in both"] {
        assert!(account.contains(words), "{words}: {account}");
    }
    assert!(page(odd).contains("fee (a number and a category)"), "{}", page(odd));
    let make = |second: i64, name: &str| {
        http.submit(&format!("/tables/{april}/append"), &[("with", &second.to_string()), ("name", name)])
    };
    assert_eq!(make(odd, "all").status, 422);
    assert_eq!(make(may, " ").status, 422);
    http.follow(&make(may, "april").location).await;
    let made = &store.tables(1).await.expect("tables")[0];
    assert_eq!((made.name.as_str(), made.version, made.rows), ("april", 2, 5));
    let rows = store.page(made, None, 0, 10).await.expect("rows").rows;
    let written: Vec<String> = rows
        .iter()
        .map(|(n, cells)| {
            format!("{n} {}", cells.iter().map(|c| c.as_deref().unwrap_or("-")).collect::<Vec<_>>().join(" "))
        })
        .collect();
    assert_eq!(
        written,
        [
            "1 A1 10 2026-04-01 Köln -",
            "2 A2 12.5 2026-04-02 - -",
            "3 A3 9 2026-04-03 Bonn -",
            "4 A3 9 2026-04-03 - web",
            "5 B1 7 2026-05-09 - post",
        ]
    );
}
