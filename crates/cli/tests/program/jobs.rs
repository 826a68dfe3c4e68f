//! The queue: what waits, what is stopped, what is fitted again.

use crate::support::study::queued;
use crate::support::{EMAIL, Http, Server, until};
use pronoia_core::learn::Settings;
use pronoia_core::question::Question;
use pronoia_core::study::{ColumnChoice, ColumnRole, KnownWhen, Outcome, StudyState, Verdict};
use pronoia_core::{Kind, profile::TableProfile};
use pronoia_store::Store;
use pronoia_store::jobs::Work;
use pronoia_store::records::{Label, SealedFor};
use pronoia_store::studies::Choice;

/// A study with an outcome on a small table, ready to be fitted.
async fn study(store: &Store, workspace: i64, rows: usize) -> i64 {
    let mut text = String::from("x,y,left\n");
    (0..rows).for_each(|i| text += &format!("{},{},{}\n", i % 97, i % 31, if i * i % 5 == 1 { "yes" } else { "no" }));
    let (table, _) =
        pronoia_core::intake::read_table(text.as_bytes(), &pronoia_core::progress::Unwatched).expect("rows");
    let shape: Vec<(String, Kind)> = table.columns().iter().map(|c| (c.name.clone(), c.kind)).collect();
    let mut importer = store.begin_import(workspace, &shape).await.expect("begun");
    importer.add(&table).await.expect("added");
    let source = pronoia_store::records::TableSource { sentence: "a test".into(), rejected: 0, misfit_cells: 0 };
    let id = importer
        .seal(Label { name: "small", source: &source, is_list: false }, &TableProfile::of(&table), SealedFor::Itself)
        .await
        .expect("sealed");
    let study = store
        .create_study(&store.table(workspace, id).await.expect("the table"), 1, "Who?", Question::Churn)
        .await
        .expect("a study");
    let predictor = |name: &str| ColumnChoice {
        name: name.into(),
        role: ColumnRole::Predictor,
        known_when: KnownWhen::Before,
        verdict: Verdict::GoesIn,
        reason: String::new(),
        never: false,
    };
    let outcome = Outcome::is("left", "yes");
    let columns = vec![predictor("x"), predictor("y")];
    let state = StudyState { outcome: Some(outcome), columns, ..StudyState::default() };
    let choice = Choice { by: 1.into(), chosen: "Event".into(), figure: String::new() };
    store.choose(&study, &state, &choice).await.expect("chosen");
    study.id
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_is_stopped_at_once_and_can_be_fitted_again() {
    let mut server = Server::start().await;
    server.make_account();
    let store = server.store().await;
    let study = study(&store, 1, 600).await;
    let http = Http::signed_in(&server, EMAIL);
    server.kill();
    // Nobody works now, so that the job waits.
    let basis = store.study(1, study).await.expect("the study").choices().expect("choices").basis().expect("a basis");
    let settings = Settings::of_family("logistic").expect("family");
    let (model, job) = queued(&store, (1, study), &settings, &basis).await;
    let stopped = store.cancel_job(1, job).await.expect("asked");
    assert_eq!(stopped, Some(Work::Fit { model }), "stopped at once");
    assert_eq!(store.cancel_job(1, job).await.expect("asked again"), None, "only once");
    assert!(store.cancel_job(2, job).await.is_err(), "not by a neighbour");
    store.set_model_state(model, "stopped", None).await.expect("written down");

    server.run().await;
    let page = http.get(&format!("/studies/{study}/train")).text;
    assert!(page.contains("stopped") && page.contains("fit it again"), "{page}");
    let again = http.submit(&format!("/studies/{study}/train/again"), &[("model", &model.to_string())]);
    assert_eq!(again.status, 303, "{}", again.text);
    until("the model is fitted", || async {
        let models = store.candidates(study, &[]).await.ok()?;
        (models.len() == 1 && models[0].state == "fitted").then_some(())
    })
    .await;
    let (second, _) = queued(&store, (1, study), &settings, &basis).await;
    let names = [
        store.candidates(study, &[]).await.expect("models")[0].name.clone(),
        store.model(second).await.expect("it").name,
    ];
    assert_eq!(names, ["Logistic regression", "Logistic regression 2"], "the same name only once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_on_nothing_fails_in_words_and_the_queue_goes_on() {
    let server = Server::start().await;
    server.make_account();
    let store = server.store().await;
    let job = store.enqueue_once(1, None, "Reading", &Work::Scan { upload: 77, sheet: None }).await.expect("a job");
    let ended = until("the job ends", || async {
        let job = store.job(1, job).await.ok()?;
        (job.state == "failed").then_some(job)
    })
    .await;
    assert!(ended.outcome.expect("a reason").contains("was not found"), "a job on nothing fails in words");
    for n in 0..100 {
        store.enqueue_once(1, None, "Waiting", &Work::Scan { upload: 1_000_000 + n, sheet: None }).await.ok();
    }
    until("the queue is worked off", || async { store.open_jobs(1).await.ok()?.is_empty().then_some(()) }).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_queue_says_so() {
    let mut server = Server::start().await;
    server.make_account();
    let store = server.store().await;
    server.kill();
    for n in 0..100 {
        store.enqueue_once(1, None, "Waiting", &Work::Scan { upload: n, sheet: None }).await.expect("room");
    }
    let refused =
        store.enqueue_once(1, None, "One more", &Work::Scan { upload: 100, sheet: None }).await.expect_err("no room");
    assert!(refused.to_string().contains("100 jobs are waiting already"), "{refused}");
}
