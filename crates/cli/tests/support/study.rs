//! A study of the made-up members, begun over HTTP, and what tests ask of it.

use std::collections::HashMap;
use std::future::Future;
use std::sync::Arc;

use pronoia_core::Table;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::model::Recipe;
use pronoia_core::progress::Unwatched;
use pronoia_core::study::CautionKind;
use pronoia_core::study::{Basis, StudyState};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, Member, SEED, members, renewals_csv};
use pronoia_store::Store;
use pronoia_store::fits::NewFit;
use pronoia_store::jobs::Work;
use tokio::sync::{Mutex, OnceCell};

use super::{EMAIL, Http, Made, Server, plain, until};

/// A fit that is put in the queue: its candidate and its job.
pub async fn queued(store: &Store, (workspace, study): (i64, i64), settings: &Settings, basis: &Basis) -> (i64, i64) {
    let study = store.study(workspace, study).await.expect("the study");
    let recipe = Recipe::from(settings);
    let fit = NewFit { name: recipe.name(), recipe: &recipe, basis, seed: 1 };
    store.queue_fit(&study, &fit, None).await.expect("a model")
}

/// A study that was made once, from which others are copied.
pub struct MadeStudy(Made, i64);

impl MadeStudy {
    async fn of(study: Study) -> Self {
        study.idle().await;
        Self(Made::of(study.server).await, study.id)
    }

    async fn copied(&self) -> Study {
        let server = self.0.copied().await;
        Study { http: Http::signed_in(&server, EMAIL), store: server.store().await, id: self.1, server }
    }
}

/// Studies that were made once, by what was brought in and which the event is.
type MadeStudies = HashMap<(Vec<u8>, String), Arc<OnceCell<MadeStudy>>>;

/// A study with its server, somebody who is signed in, and a look at the database.
pub struct Study {
    pub http: Http,
    pub store: Store,
    pub id: i64,
    pub server: Server,
}

impl Study {
    /// Members brought in, the outcome chosen, nothing left out yet.
    ///
    /// Of the same members it is made once, and copied with its files.
    pub async fn begun(people: &[Member], event: &str) -> Self {
        static MADE: Mutex<Option<MadeStudies>> = Mutex::const_new(None);
        let key = (pronoia_demo::outcome_csv(people), event.to_owned());
        let made = Arc::clone(MADE.lock().await.get_or_insert_default().entry(key).or_default());
        Self::made_once(&made, || async { Self::begun_on(Server::start().await, people, event).await }).await
    }

    /// The same on a server without an account yet.
    pub async fn begun_on(server: Server, people: &[Member], event: &str) -> Self {
        server.make_account();
        let http = Http::signed_in(&server, EMAIL);
        let sent = http.upload(&http.csrf(), "members.csv", &pronoia_demo::outcome_csv(people));
        http.follow(&sent.location).await;
        http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
        let store = server.store().await;
        let table = store.tables(1).await.expect("tables")[0].id.to_string();
        http.submit("/studies", &[("table", &table), ("title", "Who will cancel?"), ("question", "churn")]);
        let study = Self { id: store.studies(1).await.expect("studies")[0].id, http, store, server };
        assert_eq!(study.post("prepare/outcome", &[("column", "cancelled"), ("event", event)]), 303);
        study
    }

    /// A study that has a model, a policy, a scored list and a release.
    ///
    /// It is made once, and copied with its files.
    pub async fn furnished() -> Self {
        static MADE: OnceCell<MadeStudy> = OnceCell::const_new();
        Self::made_once(&MADE, || async { Self::furnished_on(Server::start().await).await }).await
    }

    /// A copy of a study that is made once.
    pub async fn made_once<F: Future<Output = Self>>(once: &OnceCell<MadeStudy>, make: impl FnOnce() -> F) -> Self {
        once.get_or_init(|| async { MadeStudy::of(make().await).await }).await.copied().await
    }

    /// The same as [`Self::furnished`], on a server without an account yet.
    pub async fn furnished_on(server: Server) -> Self {
        let study = Self::begun_on(server, &members(2_000, SEED, FIRST_MEMBER), "yes").await;
        assert_eq!(study.post("prepare/leave-out", &[]), 303);
        study.fitted("scorecard").await;
        assert_eq!(study.post("decide", &[("line", "0.2")]), 303);
        study.scored("renewals.csv", &renewals_csv(&members(600, SEED + 1, FIRST_RENEWAL))).await;
        assert_eq!(study.post("live", &[("name", "members")]), 303);
        study
    }

    /// Sends a form to one of its pages; the status of the answer.
    pub fn post(&self, page: &str, fields: &[(&str, &str)]) -> u16 {
        self.http.submit(&format!("/studies/{}/{page}", self.id), fields).status
    }

    /// One of its pages.
    pub fn page(&self, page: &str) -> String {
        plain(&self.http.get(&format!("/studies/{}/{page}", self.id)).text)
    }

    /// Its choices.
    pub async fn state(&self) -> StudyState {
        self.store.study(1, self.id).await.expect("the study").choices().expect("choices")
    }

    /// Waits until what was seen of the rows rests on the present choices.
    pub async fn looked_at(&self) {
        until("the rows are looked at", || async {
            let present = self.store.study(1, self.id).await.ok()?.choices().ok()?.basis()?;
            let found = self.store.finding_in_short(self.id).await.ok()??;
            (found.basis == present).then_some(())
        })
        .await;
    }

    /// Waits until nothing is to be done any more.
    pub async fn idle(&self) {
        until("the queue is empty", || async { self.store.open_jobs(1).await.ok()?.is_empty().then_some(()) }).await;
    }

    /// Whether a caution of this rule was raised.
    pub async fn raised(&self, rule: CautionKind) -> bool {
        let found = self.store.finding_in_short(self.id).await.expect("stored").expect("looked at");
        found.survey.cautions.iter().any(|c| c.rule == rule)
    }

    /// Takes the remedy of a caution.
    pub async fn mend(&self, rule: CautionKind, column: &str) {
        assert_eq!(self.post("prepare/cautions", &[("rule", rule.word()), ("about", column)]), 303, "{rule:?}");
        self.looked_at().await;
    }

    /// The newest choice that still stands.
    pub async fn newest(&self) -> (i64, String) {
        let ledger = self.store.ledger(self.id).await.expect("the ledger");
        let entry = ledger.iter().find(|e| e.can_be_taken_back()).expect("a choice");
        (entry.id, entry.chosen.clone())
    }

    /// Brings in a list, scores it with the policy kept, and reads what comes of it.
    pub async fn scored(&self, name: &str, bytes: &[u8]) -> Table {
        let sent = self.http.upload_list(self.id, name, bytes);
        self.http.follow(&sent.location).await;
        let list = self.store.lists(self.id).await.expect("lists")[0].id;
        let scored = self.http.submit(&format!("/studies/{}/lists/{list}/score", self.id), &[]);
        self.http.follow(&scored.location).await;
        let csv = self.http.get(&format!("/studies/{}/lists/{list}/scored.csv", self.id)).text;
        read_table(csv.as_bytes(), &Unwatched).expect("a table").0
    }

    /// Fits a model of a family, and waits until that is entered in the ledger.
    pub async fn fitted(&self, family: &str) {
        let before = self.store.candidates(self.id, &[]).await.expect("models").len();
        assert_eq!(self.post("train", &[("family", family)]), 303);
        until("the model is fitted", || async {
            let models = self.store.candidates(self.id, &[]).await.ok()?;
            let model = models.get(before).filter(|model| model.state == "fitted")?.id;
            self.store.jobs_to(1, &Work::Fit { model }).await.ok()?.is_empty().then_some(())
        })
        .await;
    }
}
