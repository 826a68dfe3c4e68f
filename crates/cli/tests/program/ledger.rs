//! The ledger: any choice taken back, points in time compared, a study gone on from, remarks and files.

use crate::support::study::Study;
use crate::support::{EMAIL, Http, PASSWORD, plain};
use pronoia_core::study::ColumnRole;
use pronoia_demo::{FIRST_MEMBER, SEED, members};

async fn begun() -> Study {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    study.looked_at().await;
    study
}

impl Study {
    /// The entry of these words.
    async fn entry(&self, chosen: &str) -> i64 {
        let ledger = self.store.ledger(self.id).await.expect("the ledger");
        ledger.iter().find(|line| line.chosen == chosen).unwrap_or_else(|| panic!("{chosen}: {ledger:?}")).id
    }

    fn take_back(&self, entry: i64) -> u16 {
        self.post("take-back", &[("entry", &entry.to_string()), ("back", "ledger")])
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn any_choice_is_taken_back_after_it_was_said_what_follows() {
    let study = begun().await;
    let leave =
        |name: &str| study.post("prepare/column", &[("column", name), ("role", "excluded"), ("known_when", "before")]);
    assert_eq!((leave("species"), leave("tenure_months")), (303, 303));
    study.looked_at().await;
    study.fitted("logistic").await;
    let model = study.store.candidates(study.id, &[]).await.expect("models")[0].id;
    assert_eq!(study.post("prepare/steps", &[("kind", "log"), ("column", "months_since_visit")]), 303);
    let species = study.state().await.columns.iter().find(|c| c.name == "species").expect("a column").role;
    assert_eq!(species, ColumnRole::LeftOut);
    let ledger = study.store.ledger(study.id).await.expect("the ledger");
    let choices: Vec<&str> = ledger.iter().filter(|l| l.is_choice).map(|l| l.chosen.as_str()).collect();
    assert_eq!(choices.len(), 4, "{choices:?}");

    // The step came last; what is taken back first is an older one.
    let (step, outcome) = (choices[0].to_owned(), choices[3].to_owned());
    let left_out = ledger.iter().filter(|l| l.is_choice).nth(2).expect("three").id;
    let page = study.page(&format!("ledger/{left_out}"));
    assert!(page.contains("the column species") && page.contains("excluded"), "{page}");
    assert!(page.contains("If it is undone") && page.contains("Undo"), "{page}");
    assert_eq!(study.take_back(left_out), 303);
    let state = study.state().await;
    let role = |name: &str| state.columns.iter().find(|c| c.name == name).expect("a column").role;
    assert_eq!((role("species"), role("tenure_months")), (ColumnRole::Predictor, ColumnRole::LeftOut));
    assert_eq!(state.steps.len(), 1, "later choices stand");
    assert_eq!(study.take_back(left_out), 422, "once only");

    // The outcome is what all others rest on.
    let outcome = study.entry(&outcome).await;
    let page = study.page(&format!("ledger/{outcome}"));
    assert!(page.contains("It cannot be undone now") && page.contains("the columns again"), "{page}");
    assert_eq!(study.take_back(outcome), 422);

    // The candidate was fitted before the step: without the step and with the column left out it stands again.
    let back = study.store.ledger(study.id).await.expect("the ledger")[0].id;
    let page = study.page(&format!("ledger/{back}"));
    assert!(page.contains("If it is redone") && page.contains("Restore it"), "{page}");
    assert_eq!(study.take_back(back), 303);
    let step = study.entry(&step).await;
    let page = study.page(&format!("ledger/{step}"));
    assert!(page.contains("1 candidate is current again"), "{page}");
    assert_eq!(study.take_back(step), 303);
    let fitted = study.store.model(model).await.expect("the model").fitted_on().expect("its basis");
    assert_eq!(Some(fitted), study.state().await.basis());
    // What was brought back is taken back where it was chosen.
    assert_eq!(study.take_back(study.entry(&format!("Redone: {}", choices[2])).await), 422);
    assert_eq!(study.take_back(left_out), 303);
    // What was done is no choice.
    let begun = study.entry("Study begun").await;
    assert!(study.page(&format!("ledger/{begun}")).contains("This entry is a result, not a choice"));
    assert_eq!(study.take_back(begun), 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn points_in_time_are_compared_and_gone_on_from() {
    let study = begun().await;
    assert_eq!(
        study.post("prepare/column", &[("column", "tenure_months"), ("role", "excluded"), ("known_when", "before")]),
        303
    );
    let first = study.newest().await.0;
    study.looked_at().await;
    study.fitted("logistic").await;
    assert_eq!(study.post("prepare/steps", &[("kind", "log"), ("column", "months_since_visit")]), 303);
    assert_eq!(study.post("decide", &[("save_rate", "40")]), 303);
    let priced = study.newest().await.0;
    assert_eq!(study.post("decide", &[("save_rate", "55")]), 303);
    let page = study.page(&format!("ledger/compare?from={first}"));
    assert!(page.contains("things differ between the two") && page.contains("the steps"), "{page}");
    assert!(page.contains("the policy") && !page.contains("the column tenure_months"), "{page}");
    // Whichever stands first, the earlier one is what was before.
    let page = study.page(&format!("ledger/compare?from={priced}&to={first}"));
    assert!(page.contains("none") && page.contains("Before: after “"), "{page}");
    let page = study.page(&format!("ledger/compare?from={priced}"));
    assert!(page.contains("save rate 0.4") && page.contains("save rate 0.55"), "{page}");
    assert_eq!(study.http.get(&format!("/studies/{}/ledger/compare?from=999999", study.id)).status, 404);
    assert!(study.page(&format!("ledger/compare?from={priced}&to={priced}")).contains("Nothing differs"));

    let branch =
        |title: &str| study.http.submit(&format!("/studies/{}/ledger/{first}/branch", study.id), &[("title", title)]);
    assert_eq!(branch("  ").status, 422);
    let begun = branch("What if <plan> stays?");
    assert_eq!(begun.status, 303);
    let other: i64 = begun.location.rsplit('/').next().and_then(|id| id.parse().ok()).expect("a study");
    let there = study.store.study(1, other).await.expect("the study").choices().expect("choices");
    let here = study.state().await;
    assert!(there.steps.is_empty() && there.policy.is_none() && here.steps.len() == 1 && here.policy.is_some());
    assert_eq!((there.columns, there.outcome), (here.columns, here.outcome));
    let ledger = study.store.ledger(other).await.expect("the ledger");
    assert!(ledger[0].chosen.starts_with("Branched from") && ledger[0].figure.contains("as after"));
}

#[tokio::test(flavor = "multi_thread")]
async fn remarks_and_files_are_kept_found_and_given_back_as_they_came() {
    let study = begun().await;
    let entry = study.newest().await.0;
    let sent_to = format!("/studies/{}/ledger/{entry}/remark", study.id);
    let bytes: Vec<u8> = (0..=255).cycle().take(70_000).collect();
    let sent =
        study.http.remark(&sent_to, "Asked Mörike: 100 % agreed\nsecond line", Some(("Beschluß „7“.html", &bytes)));
    assert_eq!(sent.status, 303, "{}", sent.text);
    let page = study.page(&format!("ledger/{entry}"));
    assert!(page.contains("Asked Mörike") && page.contains("Beschluß „7“.html"), "{page}");
    let remark = study.store.remarks([entry]).await.expect("remarks")[0].id;
    let address = format!("/studies/{}/ledger/remarks/{remark}", study.id);
    assert_eq!(study.http.bytes(&address), bytes);
    let headers = study.http.headers(&address);
    assert!(headers["content-disposition"].as_bytes().starts_with(b"attachment"), "never shown as a page");
    assert_eq!(headers["content-type"], "application/octet-stream");

    for (asked, found) in [("mörike", true), ("100 %", true), ("beschluß", true), ("10% agreed", false), ("_", false)]
    {
        let query: String = asked.bytes().map(|byte| format!("%{byte:02x}")).collect();
        let page = study.page(&format!("ledger?q={query}"));
        assert_eq!(page.contains("Asked Mörike"), found, "{asked}: {page}");
    }
    let empty = study.http.remark(&sent_to, "   ", None);
    assert!(empty.status == 422 && empty.text.contains("Write something"), "{}", empty.text);
    assert_eq!(study.http.remark(&sent_to, &"x".repeat(2_001), None).status, 422);
    assert_eq!(study.http.remark(&sent_to, "large", Some(("large.bin", &vec![0; 5_100_000]))).status, 413);
    assert_eq!(study.store.remarks([entry]).await.expect("remarks").len(), 1);
    // Only by name of whoever did it, and by nobody of another workspace.
    study.store.create_account("other@example.org", PASSWORD, "Other", false).await.expect("made");
    let other = Http::signed_in(&study.server, "other@example.org");
    for page in ["ledger".to_owned(), format!("ledger/{entry}"), format!("ledger/remarks/{remark}")] {
        assert_eq!(other.get(&format!("/studies/{}/{page}", study.id)).status, 404, "{page}");
    }
    assert!(plain(&study.page("ledger")).contains(EMAIL));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_ledger_is_paged() {
    let study = begun().await;
    for n in 0..250 {
        study.store.note(study.id, None, &format!("Work number {n}"), "a figure").await.expect("entered");
    }
    let page = study.page("ledger");
    assert!(page.contains("in the ledger, 1 of them choices") && page.contains("page 1 of 3"), "{page}");
    assert!(page.contains("Work number 249") && !page.contains("Work number 20<"), "{page}");
    assert!(study.page("ledger?page=3").contains("Study begun"));
    assert!(study.page("ledger?q=number+20").contains("Work number 20<"));
    assert!(study.page("ledger?page=99").contains("page 3 of 3"), "no further than the last");
    let margin = study.page("records");
    assert!(margin.contains("All 252 entries") && !margin.contains("Work number 100"), "{margin}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ledger_of_an_earlier_version_is_read_and_taken_back_from() {
    let mut study = begun().await;
    for name in ["species", "tenure_months", "fee_rise_pct"] {
        let fields = [("column", name), ("role", "excluded"), ("known_when", "before")];
        assert_eq!(study.post("prepare/column", &fields), 303);
    }
    study.server.kill();
    study
        .server
        .run_sql(
            "DROP TABLE ledger_remark; ALTER TABLE ledger_entry DROP COLUMN after, DROP COLUMN takes_back; \
             DELETE FROM seaql_migrations WHERE version = 'm0020_ledger'",
        )
        .await;
    study.server.run().await;
    let ledger = study.store.ledger(study.id).await.expect("the ledger");
    let choices: Vec<i64> = ledger.iter().filter(|line| line.is_choice).map(|line| line.id).collect();
    assert_eq!(choices.len(), 4, "{ledger:?}");
    assert!(study.page(&format!("ledger/{}", choices[1])).contains("the column tenure_months"));
    assert_eq!(study.take_back(choices[1]), 303);
    let state = study.state().await;
    let left_out: Vec<&str> =
        state.columns.iter().filter(|c| c.role == ColumnRole::LeftOut).map(|c| c.name.as_str()).collect();
    assert!(left_out.contains(&"species") && !left_out.contains(&"tenure_months"), "{left_out:?}");
}
