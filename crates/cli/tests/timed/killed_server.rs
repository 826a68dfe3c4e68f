//! A server that is killed in the middle of its work loses nothing and leaves nothing half-made.

use std::io::{Read, Write};
use std::net::TcpStream;

use crate::support::study::{Study, queued};
use crate::support::{EMAIL, Http, Server, until};
use pronoia_core::learn::Settings;
use pronoia_core::question::Question;
use pronoia_core::study::{Basis, Outcome, StudyState};
use pronoia_core::tune::{TriedCandidate, TuningMeasure, TuningPlan, TuningRun};
use pronoia_core::{Kind, Table};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members};
use pronoia_store::Store;
use pronoia_store::jobs::Work;
use pronoia_store::records::{Label, SealedFor};
use pronoia_store::uploads::Arrived;

async fn finished(store: &Store, workspace: i64, job: i64) -> pronoia_store::job::Model {
    until("the job ends", || async {
        let job = store.job(workspace, job).await.ok()?;
        (!matches!(job.state.as_str(), "queued" | "running")).then_some(job)
    })
    .await
}

async fn running_past(store: &Store, workspace: i64, job: i64, share: f64) {
    until("the job runs", || async {
        let job = store.job(workspace, job).await.ok()?;
        assert_ne!(job.state, "done", "the work must be long enough to be interrupted");
        (job.state == "running" && job.share > share).then_some(())
    })
    .await;
}

/// Brings a file as far as its preview.
async fn scanned(server: &Server, store: &Store, workspace: i64, name: &str, bytes: &[u8]) -> i64 {
    let path = server.file(name, bytes);
    let arrived = Arrived { file_name: name, origin: None, path: &path, size: bytes.len() as u64 };
    let (upload, job) = store.take_in(workspace, None, &arrived).await.expect("an upload");
    assert_eq!(finished(store, workspace, job).await.state, "done");
    upload
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_is_there_whole_or_not_at_all() {
    let _beside = crate::ALONE.read().await;
    let mut server = Server::start().await;
    let store = server.store().await;
    let workspace = store.create_account("a@example.org", "a long enough password", "W", false).await.expect("made");
    let rows = 160_000;
    let bytes = pronoia_demo::renewals_csv(&members(rows, SEED, FIRST_MEMBER));
    let upload = scanned(&server, &store, workspace, "many.csv", &bytes).await;
    let job = store.enqueue_once(workspace, None, "Importing", &Work::Import { upload }).await.expect("a job");
    running_past(&store, workspace, job, 0.15).await;
    server.kill();
    assert!(store.tables(workspace).await.expect("tables").is_empty(), "nothing half-made is visible");

    server.run().await;
    let ended = finished(&store, workspace, job).await;
    assert_eq!((ended.state.as_str(), ended.attempts), ("done", 2), "{:?}", ended.outcome);
    let tables = store.tables(workspace).await.expect("tables");
    assert_eq!((tables.len(), tables[0].rows), (1, rows as i64));
    let ids = store.columns(&tables[0], Some(&["member_id".into()])).await.expect("the column");
    let distinct: std::collections::HashSet<_> = (0..ids.rows()).filter_map(|r| ids.columns()[0].text(r)).collect();
    assert_eq!(distinct.len(), rows, "every row once");
}

/// A study of twenty thousand members.
async fn a_study(server: &Server) -> (Store, i64, i64) {
    let store = server.store().await;
    let workspace = store.create_account("a@example.org", "a long enough password", "W", false).await.expect("made");
    let bytes = pronoia_demo::outcome_csv(&members(20_000, SEED, FIRST_MEMBER));
    let upload = scanned(server, &store, workspace, "members.csv", &bytes).await;
    let import = store.enqueue_once(workspace, None, "Importing", &Work::Import { upload }).await.expect("a job");
    assert_eq!(finished(&store, workspace, import).await.state, "done");
    let table = store.upload(workspace, upload).await.expect("the upload").table_id.expect("a table");
    let study = store
        .create_study(&store.table(workspace, table).await.expect("the table"), 1, "Who?", Question::Churn)
        .await
        .expect("a study");
    (store, workspace, study.id)
}

/// Five columns that tell something.
fn a_basis() -> Basis {
    let outcome = Outcome::is("cancelled", "yes");
    let mut basis = StudyState { outcome: Some(outcome), ..StudyState::default() }.basis().expect("a basis");
    basis.predictors =
        ["months_since_visit", "fee_rise_pct", "declined_claims", "tenure_months", "species"].map(str::to_owned).into();
    basis
}

#[tokio::test(flavor = "multi_thread")]
async fn a_training_is_done_again_and_ends() {
    let _beside = crate::ALONE.read().await;
    let mut server = Server::start().await;
    let (store, workspace, study) = a_study(&server).await;

    let mut settings = Settings::of_family("boosted").expect("family");
    for (name, value) in [("trees", "1200"), ("early-stopping", "false"), ("learning-rate", "0.01")] {
        settings.set(name, value).expect("a setting");
    }
    let basis = a_basis();
    let (model, job) = queued(&store, (workspace, study), &settings, &basis).await;
    running_past(&store, workspace, job, 0.15).await;
    server.kill();
    assert_eq!(store.model(model).await.expect("the model").state, "queued", "no half result");

    server.run().await;
    let ended = finished(&store, workspace, job).await;
    assert_eq!(ended.state, "done", "{:?}", ended.outcome);
    let row = store.model(model).await.expect("the model");
    assert!(row.fitted().is_ok() && row.judged().expect("figures").is_some());
    let notes = store.ledger(study).await.expect("the ledger");
    assert_eq!(notes.iter().filter(|e| e.chosen.contains("fitted")).count(), 1, "entered once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_search_goes_on_where_it_was_broken_off() {
    let _beside = crate::ALONE.read().await;
    let mut server = Server::start().await;
    let (store, workspace, study) = a_study(&server).await;
    let plan = TuningPlan {
        families: ["boosted", "bayes"].map(str::to_owned).to_vec(),
        measure: TuningMeasure::LogLoss,
        most: 5,
        minutes: None,
        seed: 3,
    };
    let search = TuningRun::new(plan.clone()).expect("a search");
    let of = store.study(workspace, study).await.expect("the study");
    let begun = async || {
        let id = store.queue_search(&of, &search, &a_basis()).await.expect("a search");
        (id, store.jobs_to(workspace, &Work::Search { search: id }).await.expect("jobs")[0].id)
    };
    let (broken, job) = begun().await;
    until("two candidates are judged", || async {
        let so_far = store.search(broken).await.ok()?.so_far().ok()?;
        (so_far.tried.len() >= 2).then_some(())
    })
    .await;
    server.kill();
    let before = store.search(broken).await.expect("the search").so_far().expect("so far");
    assert!(before.tried.len() < 5 && store.search(broken).await.expect("the search").state == "queued");

    server.run().await;
    assert_eq!(finished(&store, workspace, job).await.state, "done");
    let (whole, job) = begun().await;
    assert_eq!(finished(&store, workspace, job).await.state, "done");
    let mut tried = Vec::new();
    for id in [broken, whole] {
        let row = store.search(id).await.expect("the search");
        assert!(row.state == "done" && row.model_id.is_some());
        let so_far = row.so_far().expect("so far");
        tried.push(so_far.tried.into_iter().map(|t| (t.settings, t.by_fold)).collect::<Vec<_>>());
    }
    assert_eq!(tried[0], tried[1], "the same candidates with the same figures");
    // A candidate that is tried anew takes another time: what was tried before the server was killed was kept.
    let seconds = |tried: &[TriedCandidate]| tried.iter().map(|tried| tried.seconds.to_bits()).collect::<Vec<_>>();
    let after = store.search(broken).await.expect("the search").so_far().expect("so far").tried;
    assert_eq!(seconds(&before.tried), seconds(&after[..before.tried.len()]), "none was tried twice");
    until("both are fitted", || async {
        let models = store.candidates(study, &[]).await.ok()?;
        (models.len() == 2 && models.iter().all(|m| m.state == "fitted")).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_is_cancelled_stops_and_leaves_nothing() {
    let _alone = crate::ALONE.write().await;
    let server = Server::start().await;
    let store = server.store().await;
    let workspace = store.create_account("a@example.org", "a long enough password", "W", false).await.expect("made");
    let bytes = pronoia_demo::renewals_csv(&members(160_000, SEED, FIRST_MEMBER));
    let upload = scanned(&server, &store, workspace, "many.csv", &bytes).await;
    let job = store.enqueue_once(workspace, None, "Importing", &Work::Import { upload }).await.expect("a job");
    running_past(&store, workspace, job, 0.05).await;
    let asked = std::time::Instant::now();
    store.cancel_job(workspace, job).await.expect("asked");
    assert_eq!(finished(&store, workspace, job).await.state, "stopped");
    let took = asked.elapsed();
    println!("stopped after {took:?}");
    assert!(took.as_secs_f64() < 1.5, "stopped after {took:?}");
    assert!(store.tables(workspace).await.expect("tables").is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_come_back_as_they_were_stored() {
    let _beside = crate::ALONE.read().await;
    let server = Server::start().await;
    let store = server.store().await;
    let workspace = store.create_account("a@example.org", "a long enough password", "W", false).await.expect("made");
    let (rows, _) = pronoia_core::intake::read_table(
        "naïve \"name\",fee,row_number,on\nÅsby,1.5,7,2024-03-31\n,,8,\n'; DROP TABLE job; --,-0.1,9,1969-12-31\n"
            .as_bytes(),
        &pronoia_core::progress::Unwatched,
    )
    .expect("rows");
    let shape: Vec<(String, Kind)> = rows.columns().iter().map(|c| (c.name.clone(), c.kind)).collect();
    let mut importer = store.begin_import(workspace, &shape).await.expect("begun");
    importer.add(&rows).await.expect("added");
    importer.add(&rows).await.expect("added again");
    let profile = pronoia_core::profile::TableProfile::of(&importer.read_back().await.expect("rows"));
    let source = pronoia_store::records::TableSource { sentence: "a test".into(), rejected: 0, misfit_cells: 0 };
    let id = importer
        .seal(Label { name: "odd", source: &source, is_list: false }, &profile, SealedFor::Itself)
        .await
        .expect("sealed");
    let table = store.table(workspace, id).await.expect("the table");
    let back = store.columns(&table, None).await.expect("columns");
    let text = |t: &Table, r: usize| -> Vec<Option<String>> { t.columns().iter().map(|c| c.text(r)).collect() };
    for row in 0..6 {
        assert_eq!(text(&back, row), text(&rows, row % 3));
    }
    assert!(store.table(workspace + 1, id).await.is_err(), "not another workspace's");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_is_scored_whole_or_not_at_all_and_no_customer_twice() {
    let _beside = crate::ALONE.read().await;
    let mut study = Study::begun(&members(2_500, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    assert_eq!(study.post("decide", &[("by", "probability"), ("line", "0.3"), ("line_as", "probability")]), 303);
    let rows = 90_000;
    let bytes = pronoia_demo::renewals_csv(&members(rows, SEED + 1, FIRST_RENEWAL));
    let sent = study.http.upload_list(study.id, "renewals.csv", &bytes);
    study.http.follow(&sent.location).await;
    let store = &study.store;
    let list = store.lists(study.id).await.expect("lists")[0].id;
    let before = store.tables(1).await.expect("tables").len();
    study.post(&format!("lists/{list}/score"), &[]);
    let job = store.jobs_to(1, &Work::Score { list }).await.expect("jobs")[0].id;
    running_past(store, 1, job, 0.5).await;
    study.server.kill();
    let row = store.list(list).await.expect("the list");
    assert!(row.scored_id.is_none() && row.acted.is_none(), "nothing half-made is visible");
    assert_eq!(store.tables(1).await.expect("tables").len(), before);

    study.server.run().await;
    let ended = finished(store, 1, job).await;
    assert_eq!((ended.state.as_str(), ended.attempts), ("done", 2), "{:?}", ended.outcome);
    let scored = store.list(list).await.expect("the list").scored_id.expect("scored");
    let table = store.table(1, scored).await.expect("the table");
    let ids = store.columns(&table, Some(&["member_id".into()])).await.expect("the column");
    let distinct: std::collections::HashSet<_> = (0..ids.rows()).filter_map(|r| ids.columns()[0].text(r)).collect();
    assert_eq!((ids.rows(), distinct.len()), (rows, rows), "every customer once");
    let notes = store.ledger(study.id).await.expect("the ledger");
    assert_eq!(notes.iter().filter(|e| e.chosen.contains("scored")).count(), 1, "entered once: {notes:?}");

    // A file that is on its way when the server is killed is known to be cut off.
    let address = format!("/studies/{}/lists/{list}/scored.csv", study.id);
    let whole = study.http.bytes(&address);
    let mut stream = TcpStream::connect(study.server.url.trim_start_matches("http://")).expect("a connection");
    let asked = format!("GET {address} HTTP/1.1\r\nhost: x\r\ncookie: {}\r\n\r\n", study.http.cookie);
    stream.write_all(asked.as_bytes()).expect("sent");
    let mut begun = vec![0; 4_096];
    stream.read_exact(&mut begun).expect("the beginning");
    study.server.kill();
    let mut rest = Vec::new();
    let cut = stream.read_to_end(&mut rest).is_err();
    let head = String::from_utf8_lossy(&begun).to_lowercase();
    assert!(head.starts_with("http/1.1 200") && head.contains(&format!("content-length: {}", whole.len())), "{head}");
    assert!(cut || begun.len() + rest.len() < whole.len(), "fewer bytes than were announced");

    study.server.run().await;
    let again = Http::signed_in(&study.server, EMAIL).bytes(&address);
    assert!(again == whole, "the file is the same after the restart");
}
