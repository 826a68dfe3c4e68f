//! From a list that does not quite fit to what a campaign changed and a release, in a real browser.

use crate::support::study::Study;
use crate::support::{Browser, until};
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, renewals_as_sent_csv, renewed, renewed_csv};

#[tokio::test(flavor = "multi_thread")]
async fn a_list_is_mended_scored_acted_on_and_the_policy_released() {
    let people = members(2_000, SEED, FIRST_MEMBER);
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    assert_eq!(study.post("decide", &[("value_kept", "146"), ("save_rate", "30"), ("line", "0.2")]), 303);
    let fresh = members(700, SEED + 1, FIRST_RENEWAL);
    let file = study.server.folder.path().join("branch.csv");
    std::fs::write(&file, renewals_as_sent_csv(&fresh, &people[..40])).expect("written");
    let b = Browser::open().await;
    b.sign_in(&study.server).await;

    // What does not fit is proposed or asked about; then the list is scored.
    b.go(&format!("{}/studies/{}/lists", study.server.url, study.id)).await;
    b.choose_file("[name=file]", &file).await;
    b.click(".bring .button").await;
    b.see("h1", "2 columns need a mapping before branch can be scored").await;
    b.is_accessible("a list that does not fit").await;
    b.click("#answers tbody tr:nth-child(2) option[value=nothing]").await;
    b.click("#answers .button").await;
    b.see("h1", "branch can be scored").await;
    b.click(".extras .button").await;
    b.see("h1", "of 740 customers. Expected incremental profit").await;
    b.is_accessible("a scored list").await;
    b.fill(".where [name=where]", "pronoia_decision = 'act' AND tenure_months > 24").await;
    b.click(".where button").await;
    b.see("#rows h2", "of 740 customers").await;
    b.fill(".where [name=where]", "tenure > 24").await;
    b.click(".where button").await;
    b.see("#where-problem", "There is no column “tenure”").await;
    b.is_accessible("a condition that is wrong").await;
    let workbook = study.http.bytes(&format!("/studies/{}/lists/1/scored.xlsx?rows=act", study.id));
    let (sheet, _) = read_table(&workbook, &Unwatched).expect("a workbook");
    assert!(sheet.rows() > 100 && sheet.column("pronoia_decision").is_some());

    // Some are held back by lot, and the groups say what was changed.
    b.fill("#campaign [name=control]", "70").await;
    b.click("#campaign form button").await;
    b.see("h1", "control group of 70").await;
    b.is_accessible("a campaign").await;
    let contacts = study.http.bytes(&format!("/studies/{}/campaigns/1/contacts.csv", study.id));
    let (contacts, _) = read_table(&contacts, &Unwatched).expect("a table");
    let id = contacts.column("member_id").expect("an identifier");
    let offered: Vec<u32> =
        (0..contacts.rows()).map(|row| id.text(row).expect("one").parse().expect("a number")).collect();
    let all = [&people[..40], &fresh[..]].concat();
    let sent = study.http.upload(&study.http.csrf(), "later.csv", &renewed_csv(&renewed(&all, &offered, 3)));
    study.http.follow(&sent.location).await;
    study.http.follow(&study.http.submit("/uploads/3/accept", &[]).location).await;
    b.client.refresh().await.expect("read again");
    b.click("#results .by button").await;
    b.click("#results [name=event] option[value$='yes']").await;
    b.click("#results [name=money] option[value=brought]").await;
    b.click("#results .button").await;
    b.see("h1", "acted on").await;
    b.see(".rungs tbody", "to").await;
    b.is_accessible("what a campaign changed").await;

    // Released, called with its key, exchanged, and had back.
    b.press("8").await;
    b.see("h1", "Nothing is released yet").await;
    b.fill(".take [name=name]", "renewals").await;
    b.click(".take .button").await;
    b.see("h1", "Active version of “renewals”: 1").await;
    b.fill(".new-key-form [name=name]", "the membership system").await;
    b.click(".new-key-form button").await;
    b.see(".new-key", "shown this once").await;
    let key = b.text("[data-new-key]").await;
    b.is_accessible("a release").await;
    b.click(".release .try-it summary").await;
    b.click(".try button").await;
    b.see("[data-answer]", "probability").await;
    let version = || {
        let headers = [("authorization", format!("Bearer {key}")), ("content-type", "application/json".to_owned())];
        let headers = headers.each_ref().map(|(name, value)| (*name, value.as_str()));
        let answer =
            study.http.call("/api/v1/releases/renewals/score", &headers, b"{\"customers\":[{\"annual_fee\":200}]}");
        assert_eq!(answer.status, 200, "{}", answer.text);
        serde_json::from_str::<serde_json::Value>(&answer.text).expect("JSON")["version"].as_i64().expect("a number")
    };
    assert_eq!(version(), 1);
    assert_eq!(study.post("decide", &[("line", "0.3")]), 303);
    b.click(".take .button-quiet").await;
    b.see("h1", "Active version of “renewals”: 2").await;
    assert_eq!(version(), 2);
    b.click(".release tbody .link").await;
    b.see("h1", "Active version of “renewals”: 1").await;
    assert_eq!(version(), 1);
    until("calls are written down", || async {
        let uses = study.store.uses(study.store.releases(study.id).await.ok()?.first()?.id).await.ok()?;
        (uses.iter().map(|used| used.calls).sum::<i64>() == 3).then_some(())
    })
    .await;
    // What it is, for those who answer for it, and for programs that compute by themselves.
    b.client.refresh().await.expect("read again");
    b.is_accessible("a release with calls").await;
    b.click("a[href$='/statement']").await;
    b.see("h1", "Statement: ").await;
    b.see(".statement", "Active version of release “renewals”: 1").await;
    b.is_accessible("a statement").await;
    let statement = study.http.get(&format!("/studies/{}/statement.md", study.id));
    assert!(statement.status == 200 && statement.text.contains("## Economics"));
    b.press("8").await;
    b.click("a[href$='/forms']").await;
    b.see(".forms", "PMML 4.4").await;
    b.is_accessible("forms").await;
    b.close().await;
}
