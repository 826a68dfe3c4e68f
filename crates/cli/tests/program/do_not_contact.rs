//! Customers who asked to be left alone are left alone in every list, and nobody is contacted by mistake.

use crate::support::study::Study;
use crate::support::{EMAIL, Http, plain};
use pronoia_core::Table;
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, renewals_csv};

/// Brings a table of numbers of members in.
async fn brought(http: &Http, name: &str, column: &str, ids: &[String]) {
    let rows: String =
        ids.iter().enumerate().map(|(at, id)| format!("{id},{}\n", ["letter", "call"][at % 2])).collect();
    let sent = http.upload(&http.csrf(), name, format!("{column},how\n{rows}").as_bytes());
    let page = http.follow(&sent.location).await;
    let upload = page.text.split("/uploads/").nth(1).and_then(|rest| rest.split('/').next()).expect("an upload");
    http.follow(&http.submit(&format!("/uploads/{upload}/accept"), &[]).location).await;
}

fn texts(table: &Table, column: &str) -> Vec<String> {
    let column = table.column(column).unwrap_or_else(|| panic!("no {column}"));
    (0..column.len()).map(|row| column.text(row).unwrap_or_default()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_asked_for_it_is_left_alone_in_every_list() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    assert_eq!(study.post("decide", &[("save_rate", "40"), ("line", "0.15")]), 303);
    let fresh = members(600, SEED + 1, FIRST_RENEWAL);
    let before = study.scored("renewals.csv", &renewals_csv(&fresh)).await;
    let ids = texts(&before, "member_id");
    let acted = |table: &Table| texts(table, "pronoia_decision").iter().filter(|decision| *decision == "act").count();
    let wished: Vec<String> = ids.iter().step_by(3).cloned().collect();
    brought(&study.http, "opt_outs.csv", "Member-ID", &wished).await;

    // Where it stands, said wrongly and then rightly.
    let say = |table: &str, column: &str| {
        study
            .http
            .submit(&format!("/studies/{}/lists/do-not-contact", study.id), &[("table", table), ("column", column)])
    };
    assert!(study.page("lists").contains("Opt-outs: no opt-out list"));
    let refused = say("opt_outs", "customer");
    assert!(
        refused.status == 422 && plain(&refused.text).contains("opt_outs has no column “customer”"),
        "{}",
        refused.text
    );
    assert!(plain(&refused.text).contains("Member-ID"), "it says which there are");
    assert_eq!(say("nowhere", "Member-ID").status, 422);
    assert_eq!(say("opt_outs", "Member-ID").status, 303);
    assert!(study.page("lists").contains("those in opt_outs, by Member-ID, are suppressed (opted out)"));
    assert!(study.page("ledger").contains("Opt-outs, for every list"));

    // The same customers again: those who asked are left alone, the others decided on as before.
    let after = study.scored("renewals_again.csv", &renewals_csv(&fresh)).await;
    let (was, is) = (texts(&before, "pronoia_decision"), texts(&after, "pronoia_decision"));
    let remarks = texts(&after, "pronoia_remark");
    for (row, id) in ids.iter().enumerate() {
        if wished.contains(id) {
            assert_eq!((is[row].as_str(), remarks[row].contains("not to be contacted")), ("leave", true), "{id}");
        } else {
            assert_eq!(is[row], was[row], "{id}");
        }
    }
    assert!(acted(&after) < acted(&before) && acted(&after) > 0);
    let list = study.store.lists(study.id).await.expect("lists")[0].clone();
    assert_eq!((list.suppressed as usize, list.acted), (wished.len(), Some(acted(&after) as i64)));
    let page = study.page(&format!("lists/{}", list.id));
    assert!(page.contains(&format!("{} customers are suppressed (opted out)", wished.len())), "{page}");
    assert!(study.page("ledger").contains(&format!("{} opted out", wished.len())));

    // Nor are they in a campaign.
    let begun = study.http.submit(
        &format!("/studies/{}/lists/{}/campaign", study.id, list.id),
        &[("name", "autumn"), ("control", "10"), ("acts", "letter"), ("seed", "1")],
    );
    study.http.follow(&begun.location).await;
    let contacts = study.http.get(&format!("/studies/{}/campaigns/1/contacts.csv", study.id)).text;
    assert!(contacts.lines().count() > 10);
    assert!(wished.iter().all(|id| !contacts.contains(&format!("{id},"))), "none of them is on the file");

    // The newest version counts: one more asks for it, all others have changed their minds.
    let last = ids.last().expect("somebody").clone();
    brought(&study.http, "opt_outs.csv", "Member-ID", std::slice::from_ref(&last)).await;
    let later = study.scored("renewals_later.csv", &renewals_csv(&fresh)).await;
    assert_eq!(texts(&later, "pronoia_decision").last().map(String::as_str), Some("leave"));
    assert_eq!(study.store.lists(study.id).await.expect("lists")[0].suppressed, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_in_which_they_cannot_be_found_is_not_scored() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    assert_eq!(study.post("decide", &[("line", "0.2")]), 303);
    brought(&study.http, "opt_outs.csv", "member_id", &["M1".into(), "M2".into()]).await;
    let address = format!("/studies/{}/lists/do-not-contact", study.id);
    assert_eq!(study.http.submit(&address, &[("table", "opt_outs"), ("column", "member_id")]).status, 303);

    let fresh = String::from_utf8(renewals_csv(&members(200, SEED + 1, FIRST_RENEWAL))).expect("text");
    let nameless: String =
        fresh.lines().map(|line| line.split_once(',').expect("columns").1.to_owned() + "\n").collect();
    assert!(fresh.starts_with("member_id,"), "the number comes first: {}", &fresh[..40]);
    let sent = study.http.upload_list(study.id, "nameless.csv", nameless.as_bytes());
    assert_eq!(study.http.follow(&sent.location).await.status, 200, "it is matched all the same");
    let list = study.store.lists(study.id).await.expect("lists")[0].id;
    let score = format!("/studies/{}/lists/{list}/score", study.id);
    let failed = study.http.follow(&study.http.submit(&score, &[]).location).await;
    assert!(plain(&failed.text).contains("matched by “member_id”, which nameless does not have"), "{}", failed.text);
    assert_eq!(study.store.list(list).await.expect("the list").scored_id, None);

    // The newest version goes away, archived or erased: an older one, which lacks some of them, does not stand for it,
    // and nothing is scored as if nobody had asked.
    brought(&study.http, "opt_outs.csv", "member_id", &["M1".into(), "M2".into(), "M3".into()]).await;
    let tables = study.store.tables(1).await.expect("tables");
    let newest = tables.iter().filter(|t| t.name == "opt_outs").max_by_key(|t| t.version).expect("it");
    assert_eq!((newest.version, newest.rows), (2, 3));
    let refused = async || {
        let failed = study.http.follow(&study.http.submit(&score, &[]).location).await;
        let says = "“opt_outs”, and its newest version no longer exists";
        assert!(plain(&failed.text).contains(says), "{}", failed.text);
    };
    assert_eq!(study.http.submit(&format!("/tables/{}/away", newest.id), &[]).status, 303);
    refused().await;
    let named = [("name", "opt_outs, version 2")];
    assert_eq!(study.http.submit(&format!("/away/table/{}/erase", newest.id), &named).status, 303);
    refused().await;

    // Somebody says that everybody may be contacted, and answers for it in the ledger.
    assert_eq!(study.http.submit(&address, &[("table", ""), ("column", "")]).status, 303);
    assert!(study.page("ledger").contains("everybody may be contacted"));
    study.http.follow(&study.http.submit(&score, &[]).location).await;
    let list = study.store.list(list).await.expect("the list");
    assert_eq!((list.scored_id.is_some(), list.suppressed), (true, 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_neighbour_and_a_reader_say_nothing_of_it() {
    let study = Study::furnished().await;
    study
        .store
        .create_account("other@example.org", crate::support::PASSWORD, "Other workspace", false)
        .await
        .expect("made");
    let neighbour = Http::signed_in(&study.server, "other@example.org");
    let address = format!("/studies/{}/lists/do-not-contact", study.id);
    assert_eq!(neighbour.submit(&address, &[("table", ""), ("column", "")]).status, 404);
    brought(&neighbour, "theirs.csv", "member_id", &["M1".into()]).await;
    let theirs = study.http.submit(&address, &[("table", "theirs"), ("column", "member_id")]);
    assert!(
        theirs.status == 422 && plain(&theirs.text).contains("no table “theirs”"),
        "a neighbour's table is none of ours"
    );
    assert!(study.store.do_not_contact(1).await.expect("asked").is_none());
    assert!(
        Http::signed_in(&study.server, EMAIL).get(&format!("/studies/{}/lists", study.id)).text.contains("Opt-outs")
    );
}
