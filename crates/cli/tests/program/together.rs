//! Two people at one study: what they do to different things stands, and nobody overwrites the other
//! without seeing what changed.

use crate::support::study::Study;
use crate::support::{Answer, EMAIL, Http, PASSWORD, plain};
use pronoia_core::study::ColumnRole;
use pronoia_demo::{FIRST_MEMBER, SEED, members};
use pronoia_store::member_role;

const BEN: &str = "ben@example.org";

/// Somebody at a page of a study, which they loaded once.
struct Reader<'a> {
    http: &'a Http,
    study: i64,
    csrf: String,
}

impl<'a> Reader<'a> {
    fn at(http: &'a Http, study: i64, page: &str) -> Self {
        let text = http.get(&format!("/studies/{study}/{page}")).text;
        let csrf = text.split("name=\"csrf\" value=\"").nth(1).and_then(|rest| rest.split('"').next());
        Self { http, study, csrf: csrf.expect("a form").to_owned() }
    }

    fn sends(&self, page: &str, fields: &[(&str, &str)]) -> Answer {
        let mut all = vec![("csrf", self.csrf.as_str())];
        all.extend(fields);
        self.http.post(&format!("/studies/{}/{page}", self.study), &all)
    }

    fn leaves_out(&self, column: &str) -> Answer {
        self.sends("prepare/column", &[("column", column), ("role", "excluded"), ("known_when", "before")])
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_overwrites_what_they_have_not_seen() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    study.looked_at().await;
    study.store.create_account(BEN, PASSWORD, "Ben’s own", false).await.expect("an account");
    let ben_id = study.store.account(BEN).await.expect("asked").expect("there").id;
    study.server.run_sql(&format!("DELETE FROM membership WHERE account_id = {ben_id}; INSERT INTO membership (account_id, workspace_id, role) VALUES ({ben_id}, 1, '{}')", member_role::MemberRole::Analyst.word())).await;
    let http = Http::signed_in(&study.server, BEN);

    let ana = Reader::at(&study.http, study.id, "prepare");
    let ben = Reader::at(&http, study.id, "prepare");
    assert_eq!(ana.leaves_out("species").status, 303);
    // Another column is another thing.
    assert_eq!(ben.leaves_out("tenure_months").status, 303);
    // The same one is not: Ben is told by whom and how, and nothing is done.
    let entries = study.store.ledger(study.id).await.expect("the ledger").len();
    let known = [("column", "species"), ("role", "predictor"), ("known_when", "unsure")];
    let told = ben.sends("prepare/column", &known);
    let text = plain(&told.text);
    assert_eq!(told.status, 409, "{text}");
    assert!(text.contains("species: excluded, known before") && text.contains(EMAIL), "{text}");
    assert!(text.contains("tenure_months") && text.contains("Nothing was overwritten"), "{text}");
    assert_eq!(study.store.ledger(study.id).await.expect("the ledger").len(), entries);
    let role = |state: &pronoia_core::study::StudyState| {
        state.columns.iter().find(|column| column.name == "species").expect("a column").role
    };
    assert_eq!(role(&study.state().await), ColumnRole::LeftOut);
    // Having looked again, he may.
    let ben = Reader::at(&http, study.id, "prepare");
    assert_eq!(ben.sends("prepare/column", &known).status, 303);
    assert_eq!(role(&study.state().await), ColumnRole::Predictor);

    // Steps are named by their place, which is another one when somebody took one out.
    for column in ["months_since_visit", "fee_rise_pct"] {
        let steps = Reader::at(&study.http, study.id, "prepare/steps");
        assert_eq!(steps.sends("prepare/steps", &[("kind", "log"), ("column", column)]).status, 303);
    }
    let ana = Reader::at(&study.http, study.id, "prepare/steps");
    let ben = Reader::at(&http, study.id, "prepare/steps");
    let out = [("at", "0"), ("what", "out")];
    assert_eq!(ana.sends("prepare/steps/change", &out).status, 303);
    assert_eq!(ben.sends("prepare/steps/change", &out).status, 409, "he meant the one that is gone");
    assert_eq!(study.state().await.steps.len(), 1);

    // Two tabs of one person are no different.
    study.fitted("logistic").await;
    let (one, other) = (Reader::at(&study.http, study.id, "decide"), Reader::at(&study.http, study.id, "decide"));
    assert_eq!(one.sends("decide", &[("save_rate", "40")]).status, 303);
    assert_eq!(other.sends("decide", &[("save_rate", "50")]).status, 409);
    assert_eq!(
        other.sends("prepare/column", &[("column", "clinic"), ("role", "excluded"), ("known_when", "before")]).status,
        303
    );
    // A revision that never was is no way round the proof.
    let forged = Reader { http: &http, study: study.id, csrf: format!("{}.9", "0".repeat(64)) };
    assert_eq!(forged.leaves_out("species").status, 403);
}
