//! Actions, each at the layer itself: who may not do it does not, and where one of its writes fails nothing of it is left.

use std::path::Path;
use std::time::Duration;

use crate::support::study::Study;
use pronoia_core::prepare::StepAction;
use pronoia_core::study::{ColumnRole, Outcome};
use pronoia_service::actions::DECLARATIONS;
use pronoia_service::compare::{ComputeLearningCurve, SetTodaysRule};
use pronoia_service::decide::{ComputeImportance, ConfirmPolicy, KeepPolicy};
use pronoia_service::ledger::{BranchStudy, UndoEntry};
use pronoia_service::lists::{ImportList, PublishList, ScoreList};
use pronoia_service::live::ReleasePolicy;
use pronoia_service::prepare::cautions::{AcceptCaution, ResolveCaution};
use pronoia_service::prepare::columns::{ExcludeProposed, SetColumnRole};
use pronoia_service::prepare::outcome::{MoveToVersion, SetOutcome, SetOutcomeWindow};
use pronoia_service::prepare::split::{SetBalance, SetSplit};
use pronoia_service::prepare::steps::{AddStep, ChangeStep};
use pronoia_service::records::{AcceptFile, ReadSheet};
use pronoia_service::studies::CreateStudy;
use pronoia_service::study_view::StudyView;
use pronoia_service::train::{
    BeginSearch, FitCandidate, FitEnsemble, ProveReproducibility, RefitCandidate, RemoveCandidate,
};
use pronoia_service::{Action, Actor, App, Budget, FileSettings, ServiceError};
use pronoia_store::StoreError;
use pronoia_store::member_role::MemberRole;
use pronoia_store::sources::{Connector, Reach, Vault};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};

use super::neighbours::digest;

/// The application over the database of a study whose server was stopped, so that nobody takes its jobs.
fn over(study: &Study, folder: &Path) -> App {
    let files = FileSettings {
        uploads: folder.join("uploads"),
        folder: None,
        most_upload: 1_000_000,
        patience: Duration::from_secs(5),
    };
    let vault = Vault::open(&folder.join("key")).expect("a key");
    let connector = Connector { vault, reach: Reach::of(&[], "").expect("nowhere") };
    App::new(files, study.store.clone(), connector, Budget::of(None))
}

/// Whoever made the study, as an analyst.
async fn analyst(study: &Study) -> Actor {
    let account = study.store.account(crate::support::EMAIL).await.expect("found").expect("an account").id;
    Actor { workspace: 1, account, role: MemberRole::Analyst, seen: None }
}

/// What an action writes besides what it changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Writes {
    ledger: bool,
    job: bool,
}

const CHOICE: Writes = Writes { ledger: true, job: false };
const JOB: Writes = Writes { ledger: false, job: true };
const BOTH: Writes = Writes { ledger: true, job: true };

/// Actions tried on a study.
struct Trial<'s> {
    study: &'s Study,
    app: App,
    by: Actor,
    tried: Vec<&'static str>,
}

impl Trial<'_> {
    /// Tries an action as somebody who may not do it, with its ledger entry failing, with its job failing, with the queue
    /// full, and in earnest.
    async fn of<A: Action + DeserializeOwned>(&mut self, asked: Value, writes: Writes) -> A::Done {
        let title = A::DECLARATION.title;
        let action = || serde_json::from_value::<A>(asked.clone()).unwrap_or_else(|e| panic!("{title}: {e}"));
        let before = digest(self.study).await;
        let reader = Actor { role: MemberRole::Reader, ..self.by };
        let refused = self.app.perform(reader, action()).await;
        assert!(matches!(refused, Err(ServiceError::NotAllowed(_))), "{title}");
        for (table, is_written) in [("ledger_entry", writes.ledger), ("job", writes.job)] {
            if !is_written {
                continue;
            }
            self.study.server.run_sql(&format!("ALTER TABLE {table} ENABLE TRIGGER broken")).await;
            let broken = self.app.perform(self.by, action()).await;
            self.study.server.run_sql(&format!("ALTER TABLE {table} DISABLE TRIGGER broken")).await;
            let broken = broken.err().unwrap_or_else(|| panic!("{title} writes no {table}"));
            assert!(matches!(broken, ServiceError::Store(StoreError::Database(_))), "{title}: {broken}");
            assert_eq!(digest(self.study).await, before, "{title} without its {table} leaves nothing");
        }
        if writes.job {
            self.study.server.run_sql(FILL).await;
            let full = self.app.perform(self.by, action()).await.err().map(|e| e.to_string()).unwrap_or_default();
            self.study.server.run_sql("DELETE FROM job WHERE title = 'filler'").await;
            assert!(full.contains("jobs are waiting already"), "{title}: {full}");
            assert_eq!(digest(self.study).await, before, "{title} with a full queue leaves nothing");
        }
        let done = self.app.perform(self.by, action()).await.unwrap_or_else(|e| panic!("{title}: {e}"));
        assert_ne!(digest(self.study).await, before, "{title} does something");
        self.tried.push(title);
        done
    }

    /// Tries an action that is refused, and changes nothing then.
    async fn refused<A: Action + DeserializeOwned>(&mut self, asked: Value) -> String {
        let title = A::DECLARATION.title;
        let before = digest(self.study).await;
        let action = serde_json::from_value::<A>(asked).unwrap_or_else(|e| panic!("{title}: {e}"));
        let refused = self.app.perform(self.by, action).await.err().unwrap_or_else(|| panic!("{title} was done"));
        assert_eq!(digest(self.study).await, before, "{title} that was refused leaves nothing");
        self.tried.push(title);
        refused.to_string()
    }
}

/// As many jobs as may wait.
const FILL: &str = "INSERT INTO job (workspace_id, title, work) \
    SELECT 1, 'filler', '{\"do\": \"publish\", \"list\": 0}' FROM generate_series(1, 100)";

/// Triggers that fail, off until they are wanted.
const BROKEN: &str = "CREATE FUNCTION broken() RETURNS trigger LANGUAGE plpgsql AS \
        $$ BEGIN IF NEW.title IS DISTINCT FROM 'filler' THEN RAISE EXCEPTION 'broken'; END IF; RETURN NEW; END $$; \
    CREATE FUNCTION broken_entry() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'broken'; END $$; \
    CREATE TRIGGER broken BEFORE INSERT ON job FOR EACH ROW EXECUTE FUNCTION broken(); \
    CREATE TRIGGER broken BEFORE INSERT ON ledger_entry FOR EACH ROW EXECUTE FUNCTION broken_entry(); \
    ALTER TABLE job DISABLE TRIGGER broken; ALTER TABLE ledger_entry DISABLE TRIGGER broken";

#[tokio::test(flavor = "multi_thread")]
async fn every_action_is_done_whole_or_not_at_all() {
    let mut study = Study::furnished().await;
    study.fitted("bayes").await;
    study.idle().await;
    study.server.kill();
    study.server.run_sql(BROKEN).await;
    let folder = tempfile::tempdir().expect("a folder");
    let by = analyst(&study).await;
    let app = over(&study, folder.path());
    let mut trial = Trial { study: &study, app, by, tried: Vec::new() };
    let id = study.id;
    let sql = async |sql: &str| study.server.run_sql(sql).await;
    let of_study = |more: Value| {
        let mut asked = more;
        asked["study"] = id.into();
        asked
    };

    // Decide, Train, Lists and Live, by the candidate that was fitted.
    trial.of::<KeepPolicy>(of_study(json!({"policy": {"line": "0.3"}})), CHOICE).await;
    trial.of::<ReleasePolicy>(of_study(json!({"name": "second"})), CHOICE).await;
    trial.of::<ConfirmPolicy>(of_study(json!({})), JOB).await;
    trial.of::<ComputeImportance>(of_study(json!({"candidate": 1})), JOB).await;
    trial.of::<FitEnsemble>(of_study(json!({"candidates": [1, 2], "mix": "average"})), JOB).await;
    let fit = trial.of::<FitCandidate>(of_study(json!({"family": "logistic"})), JOB).await;
    assert!(
        trial.refused::<RemoveCandidate>(of_study(json!({"candidate": fit.candidate}))).await.contains("being fitted")
    );
    sql(&format!("UPDATE model SET state = 'failed' WHERE id = {}", fit.candidate)).await;
    trial.of::<RefitCandidate>(of_study(json!({"candidate": fit.candidate})), JOB).await;
    sql("UPDATE model SET state = 'failed' WHERE state = 'queued'").await;
    let candidates = study.store.candidates(id, &[]).await.expect("candidates");
    let last = candidates.iter().map(|candidate| candidate.id).max().expect("a candidate");
    trial.of::<RemoveCandidate>(of_study(json!({"candidate": last})), CHOICE).await;
    trial.of::<ImportList>(of_study(json!({"table": 1})), JOB).await;
    sql("UPDATE list SET state = 'matched'").await;
    trial.of::<ScoreList>(of_study(json!({"list": 1, "extras": {"gain": true}})), JOB).await;

    sql("UPDATE list SET state = 'scored', scored_id = 3 WHERE id = 1 AND scored_id IS NULL").await;
    trial.of::<PublishList>(of_study(json!({"list": 1})), JOB).await;
    trial.of::<ComputeLearningCurve>(of_study(json!({"candidate": 1})), JOB).await;
    trial.of::<ProveReproducibility>(of_study(json!({"candidate": 1})), JOB).await;
    trial.of::<SetTodaysRule>(of_study(json!({"condition": "annual_fee > 200"})), BOTH).await;
    let search = json!({"families": ["bayes"], "candidates": 1, "minutes": 1});
    trial.of::<BeginSearch>(of_study(search), JOB).await;

    // Prepare. What follows from other choices waits in the queue already, so that it is taken out before each.
    let idle = "DELETE FROM job";
    let state = study.state().await;
    let excluded =
        state.columns.iter().find(|c| c.role == ColumnRole::LeftOut).expect("an excluded column").name.clone();
    sql(idle).await;
    let back = json!({"column": excluded, "role": "predictor", "known_when": "before"});
    trial.of::<SetColumnRole>(of_study(back), BOTH).await;
    sql(idle).await;
    trial.of::<ExcludeProposed>(of_study(json!({})), BOTH).await;
    let split = pronoia_core::split::SplitPlan { seed: 99, ..state.split.clone() };
    sql(idle).await;
    trial.of::<SetSplit>(of_study(json!({"split": split})), BOTH).await;
    sql(idle).await;
    trial.of::<SetBalance>(of_study(json!({"method": "weights", "share": 0.4})), BOTH).await;
    let step = StepAction::Log { column: "annual_fee".into() };
    sql(idle).await;
    assert_eq!(trial.of::<AddStep>(of_study(json!({"step": step})), BOTH).await.step, 1);
    sql(idle).await;
    trial.of::<ChangeStep>(of_study(json!({"at": 0, "what": "off"})), BOTH).await;
    let outcome = |event: &str| json!({"outcome": Outcome::is("cancelled", event)});
    sql(idle).await;
    trial.of::<SetOutcome>(of_study(outcome("no")), BOTH).await;
    trial.of::<SetOutcomeWindow>(of_study(json!({"window": null})), CHOICE).await;
    assert!(trial.refused::<MoveToVersion>(of_study(json!({"table": 2}))).await.contains("is not a version of"));

    // The ledger, records, and studies.
    let newest = study.store.ledger(id).await.expect("the ledger").iter().find(|e| e.is_choice).expect("a choice").id;
    trial.of::<UndoEntry>(of_study(json!({"entry": newest})), CHOICE).await;
    trial.of::<BranchStudy>(of_study(json!({"entry": newest, "title": "A branch"})), BOTH).await;
    sql("UPDATE upload SET state = 'ready'").await;
    trial.of::<ReadSheet>(json!({"file": 1, "sheet": "Sheet 1"}), JOB).await;
    sql("UPDATE upload SET state = 'ready'").await;
    trial.of::<AcceptFile>(json!({"file": 1}), JOB).await;
    let mut new = outcome("yes");
    new["table"] = 1.into();
    new["title"] = "Who will cancel?".into();
    new["question"] = "churn".into();
    trial.of::<CreateStudy>(new, BOTH).await;

    let asked = json!({"rule": "known-afterwards", "about": "nothing", "because": "so it is"});
    assert!(trial.refused::<AcceptCaution>(of_study(asked)).await.contains("no longer raised"));
    let asked = json!({"rule": "known-afterwards", "about": "nothing"});
    assert!(trial.refused::<ResolveCaution>(of_study(asked)).await.contains("no longer raised"));
    for declared in DECLARATIONS {
        assert!(trial.tried.contains(&declared.title), "{} was not tried", declared.title);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_caution_is_accepted_or_resolved_whole_or_not_at_all() {
    let mut study =
        Study::begun(&pronoia_demo::members(2_000, pronoia_demo::SEED, pronoia_demo::FIRST_MEMBER), "yes").await;
    study.looked_at().await;
    study.server.kill();
    study.server.run_sql(BROKEN).await;
    let folder = tempfile::tempdir().expect("a folder");
    let by = analyst(&study).await;
    let app = over(&study, folder.path());
    let view = StudyView::load(&app, 1, study.id).await.expect("the study");
    let open: Vec<_> =
        view.open_cautions().map(|c| json!({"study": study.id, "rule": c.rule.word(), "about": c.about})).collect();
    let [first, second, ..] = open.as_slice() else { panic!("two cautions are open: {open:?}") };
    let mut trial = Trial { study: &study, app, by, tried: Vec::new() };
    let mut accepted = first.clone();
    accepted["because"] = "it was asked for".into();
    trial.of::<AcceptCaution>(accepted, CHOICE).await;
    study.server.run_sql("DELETE FROM job").await;
    trial.of::<ResolveCaution>(second.clone(), BOTH).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_looked_at_an_older_revision_overwrites_nothing() {
    let mut study = Study::furnished().await;
    study.idle().await;
    study.server.kill();
    let folder = tempfile::tempdir().expect("a folder");
    let app = over(&study, folder.path());
    let seen = study.store.study(1, study.id).await.expect("the study").revision;
    let by = Actor { seen: Some(seen), ..analyst(&study).await };
    let split = |seed: u64, state: &pronoia_core::study::StudyState| SetSplit {
        study: study.id,
        split: pronoia_core::split::SplitPlan { seed, ..state.split.clone() },
    };
    let policy = |line: &str| json!({"study": study.id, "policy": {"line": line}});
    let policy = |line: &str| serde_json::from_value::<KeepPolicy>(policy(line)).expect("a policy");
    let state = study.state().await;
    app.perform(by, split(5, &state)).await.expect("the first is not late");
    app.perform(by, policy("0.4")).await.expect("another part");
    let before = digest(&study).await;
    for late in [app.perform(by, split(6, &state)).await, app.perform(by, policy("0.5")).await] {
        let Err(ServiceError::Overtaken(entered)) = late else { panic!("{late:?}") };
        assert!(!entered.is_empty(), "who was first is said");
    }
    assert_eq!(digest(&study).await, before, "nothing was overwritten");
}
