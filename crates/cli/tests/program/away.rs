//! What is put away is out of sight and comes back whole; what is erased is gone, and nothing else is.

use crate::support::study::Study;
use crate::support::{Http, PASSWORD, plain};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, renewals_csv};

#[tokio::test(flavor = "multi_thread")]
async fn a_study_is_put_away_brought_back_and_erased_with_all_that_is_its_own() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("logistic").await;
    assert_eq!(study.post("decide", &[("save_rate", "60")]), 303);
    study.scored("renewals.csv", &renewals_csv(&members(300, SEED + 1, FIRST_RENEWAL))).await;
    let pages = ["records", "decide", "lists", "ledger"];
    let seen: Vec<String> = pages.iter().map(|page| study.page(page)).collect();
    let tables = "SELECT count(*)::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = 'workspace_1' AND relkind = 'r'";
    assert_eq!(study.server.answer(tables).await, "3", "the records, the list and what was scored");

    assert_eq!(study.post("away", &[]), 303);
    for page in pages {
        let answer = study.http.get(&format!("/studies/{}/{page}", study.id));
        assert!(answer.status == 410 && answer.text.contains("is archived"), "{page}: {}", answer.text);
    }
    assert!(!study.http.get("/").text.contains("Who will cancel?"));
    assert!(study.store.studies(1).await.expect("studies").is_empty());
    let away = study.http.get("/away").text;
    assert!(away.contains("1 item in the archive") && away.contains("Who will cancel?"), "{away}");
    assert_eq!(study.post("away", &[]), 404, "it is away already");
    let back = format!("/away/study/{}/back", study.id);
    assert_eq!(study.http.submit(&back, &[]).status, 303);
    let again: Vec<String> = pages.iter().map(|page| study.page(page)).collect();
    assert_eq!(seen, again, "whole");

    // Nobody of another workspace sees it or brings it back; a study that is there cannot be erased.
    study.store.create_account("other@example.org", PASSWORD, "Other", false).await.expect("made");
    let other = Http::signed_in(&study.server, "other@example.org");
    let erase = format!("/away/study/{}/erase", study.id);
    let named = [("name", "Who will cancel?")];
    assert_eq!(study.http.submit(&erase, &named).status, 404);
    assert_eq!(study.post("away", &[]), 303);
    assert!(!other.get("/away").text.contains("Who will cancel?"));
    assert_eq!((other.submit(&back, &[]).status, other.submit(&erase, &named).status), (404, 404));

    let unnamed = study.http.submit(&erase, &[("name", "who")]);
    assert!(unnamed.status == 422 && unnamed.text.contains("type its name"), "{}", unnamed.text);
    assert_eq!(study.http.submit(&erase, &named).status, 303);
    assert_eq!(study.server.answer(tables).await, "1", "the records stay");
    for table in ["study", "model", "list", "ledger_entry", "finding"] {
        assert_eq!(study.server.answer(&format!("SELECT count(*)::text FROM {table}")).await, "0", "{table}");
    }
    assert_eq!(study.http.get(&format!("/studies/{}/records", study.id)).status, 404);
    assert!(study.http.get("/away").text.contains("The archive is empty"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_table_is_erased_only_when_nothing_rests_on_it() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    let table = study.store.tables(1).await.expect("tables")[0].id;
    let [away, back, erase] =
        [format!("/tables/{table}/away"), format!("/away/table/{table}/back"), format!("/away/table/{table}/erase")];
    let asked = || plain(&study.http.submit("/query", &[("sql", "SELECT count(*) FROM members")]).text);
    assert!(asked().contains("2 000"));
    assert_eq!(study.http.submit(&away, &[]).status, 303);
    assert!(study.store.tables(1).await.expect("tables").is_empty());
    assert!(!plain(&study.http.get("/").text).contains("members"));
    assert!(!asked().contains("2 000"), "nobody asks it");
    study.looked_at().await;
    assert!(study.page("records").contains("2 000 customers"), "the study goes on");
    assert!(study.http.get(&format!("/tables/{table}")).text.contains("Restore it"));

    let named = [("name", "members, version 1")];
    let refused = study.http.submit(&erase, &named);
    assert!(refused.status == 422 && plain(&refused.text).contains("A study depends on it"), "{}", refused.text);
    assert_eq!(study.http.submit(&back, &[]).status, 303);
    assert_eq!(study.http.submit(&away, &[]).status, 303);
    assert_eq!(study.post("away", &[]), 303);
    assert_eq!(study.http.submit(&erase, &named).status, 422, "a study that was put away rests on it too");
    let study_named = [("name", "Who will cancel?")];
    assert_eq!(study.http.submit(&format!("/away/study/{}/erase", study.id), &study_named).status, 303);
    let uploads = study.server.folder.path().join("uploads");
    assert_eq!(study.http.submit(&erase, &named).status, 303);
    assert_eq!(std::fs::read_dir(uploads).map_or(0, Iterator::count), 0, "the file that it came from is gone too");
    assert_eq!(study.server.answer("SELECT count(*)::text FROM record_table").await, "0");
    assert_eq!(study.server.answer("SELECT coalesce(to_regclass('workspace_1.table_1')::text, 'gone')").await, "gone");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_is_handed_over_to_somebody_who_works_here() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    study.store.create_account("other@example.org", PASSWORD, "Other", false).await.expect("made");
    let other = study.store.account("other@example.org").await.expect("asked").expect("there").id.to_string();
    assert_eq!(study.post("hand-over", &[("to", &other)]), 422, "not to a stranger");
    study
        .server
        .run_sql(&format!("UPDATE membership SET workspace_id = 1, role = 'analyst' WHERE account_id = {other}"))
        .await;
    assert!(study.page("ledger").contains("Hand it over to"));
    assert_eq!(study.post("hand-over", &[("to", &other)]), 303);
    let entry = &study.store.ledger(study.id).await.expect("the ledger")[0];
    assert_eq!((entry.chosen.as_str(), entry.figure.as_str()), ("Handed over", "to other@example.org"));
    assert_eq!(
        study.store.study(1, study.id).await.expect("the study").account_id.map(|id| id.to_string()),
        Some(other)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_that_programs_are_answered_by_stays_and_neighbours_do_not_hear_why() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("logistic").await;
    assert_eq!(study.post("decide", &[("save_rate", "60")]), 303);
    assert_eq!(study.post("live", &[("name", "renewals")]), 303);
    let address = format!("/studies/{}/away", study.id);
    let refused = study.http.submit(&address, &[]);
    assert!(refused.status == 422 && refused.text.contains("“renewals”"), "{}", refused.text);
    study.store.create_account("other@example.org", PASSWORD, "Other", false).await.expect("made");
    let other = Http::signed_in(&study.server, "other@example.org").submit(&address, &[]);
    assert!(other.status == 404 && !other.text.contains("renewals"), "{}", other.text);
}
