//! The queue as workers meet it: several at once, some of which fall silent.

use std::collections::BTreeSet;

use crate::support::Server;
use pronoia_core::Table;
use pronoia_store::archive::Thing;
use pronoia_store::jobs::{Beat, Ending, Heard, Stage, StateChange, Work};
use pronoia_store::leases::SILENCE_SECONDS;
use pronoia_store::records::{Label, SealedFor, TableSource};
use pronoia_store::uploads::Arrived;
use pronoia_store::{Store, StoreError};

/// A database with two workspaces and nobody at work.
async fn idle() -> (Server, Store, [i64; 2]) {
    let mut server = Server::start().await;
    server.kill();
    let store = server.store().await;
    let mut made = Vec::new();
    for (email, name) in [("ana@example.org", "Ours"), ("ben@example.org", "Theirs")] {
        made.push(store.create_account(email, "a long enough password", name, false).await.expect("made"));
    }
    (server, store, [made[0], made[1]])
}

async fn enqueue(store: &Store, workspace: i64, upload: i64) -> i64 {
    store.enqueue_once(workspace, None, "Reading a file", &Work::Import { upload }).await.expect("in the queue")
}

/// Makes all workers as silent as if they had gone.
async fn silence(server: &Server) {
    let gone = SILENCE_SECONDS + 1;
    server
        .run_sql(&format!("UPDATE job SET heartbeat_at = now() - interval '{gone} seconds' WHERE state = 'running'"))
        .await;
}

async fn state(store: &Store, workspace: i64, job: i64) -> (String, Option<String>) {
    let job = store.job(workspace, job).await.expect("the job");
    (job.state, job.outcome)
}

#[tokio::test(flavor = "multi_thread")]
async fn every_job_is_taken_once_by_one_of_many_and_the_oldest_first() {
    let (_server, store, [ours, theirs]) = idle().await;
    let mut all = Vec::new();
    for at in 0..40 {
        all.push(enqueue(&store, if at % 3 == 0 { theirs } else { ours }, at).await);
    }
    let first = store.take_job("one", true).await.expect("asked").expect("a job");
    assert_eq!((first.lease.job, &first.work), (all[0], &Work::Import { upload: 0 }));
    let takers: Vec<_> = (0..8)
        .map(|at| {
            let store = store.clone();
            tokio::spawn(async move {
                let mut taken = Vec::new();
                while let Some(job) = store.take_job(&format!("worker {at}"), true).await.expect("asked") {
                    taken.push((job.workspace_id, job.lease.job));
                }
                taken
            })
        })
        .collect();
    let mut taken = vec![first.lease.job];
    for taker in takers {
        let of_one = taker.await.expect("it ends");
        for workspace in [ours, theirs] {
            let own: Vec<_> = of_one.iter().filter(|(of, _)| *of == workspace).map(|(_, job)| *job).collect();
            assert!(own.windows(2).all(|w| w[0] < w[1]), "each takes those of a workspace in their order");
        }
        taken.extend(of_one.into_iter().map(|(_, job)| job));
    }
    assert_eq!(taken.len(), 40, "none twice");
    assert_eq!(taken.iter().collect::<BTreeSet<_>>(), all.iter().collect(), "and none left");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_worker_that_fell_silent_loses_its_job_and_cannot_end_it_afterwards() {
    let (server, store, [ours, _]) = idle().await;
    let job = enqueue(&store, ours, 7).await;
    let slow = store.take_job("slow", true).await.expect("asked").expect("a job").lease;
    assert!(store.take_job("quick", true).await.expect("asked").is_none(), "one that is heard of keeps its job");
    let heard = Heard {
        stage: "Reading rows".into(),
        share: 0.4,
        log: vec![Stage { at: 1.5, stage: "Begun".into() }],
        curve: vec![(1, 0.6, 0.7)],
    };
    assert_eq!(store.beat(slow, true, Some(&heard)).await.expect("heard"), Beat::GoOn, "nobody asks it to stop");
    let row = store.job(ours, job).await.expect("the job");
    assert_eq!(
        (row.stage.as_str(), row.share, row.stages().expect("stages")),
        ("Reading rows", 0.4, heard.log.clone())
    );
    assert_eq!(store.beat(slow, true, None).await.expect("heard"), Beat::GoOn);
    assert_eq!(
        store.job(ours, job).await.expect("the job").stage,
        "Reading rows",
        "a sign of life changes nothing else"
    );

    silence(&server).await;
    let again = store.take_job("quick", true).await.expect("asked").expect("it is taken up again");
    assert_eq!(again.lease.job, job);
    let row = store.job(ours, job).await.expect("the job");
    assert_eq!((row.attempts, row.share, row.stage.as_str()), (2, 0.0, "Starting"), "from the beginning");
    assert_eq!(store.beat(slow, true, Some(&heard)).await.expect("heard"), Beat::Lost, "the silent one is told");
    store.end_job(slow, &Ending::Done("/tables/1".into()), &[]).await.expect("said");
    assert_eq!(state(&store, ours, job).await.0, "running", "and its end counts for nothing");
    store.end_job(again.lease, &Ending::Done("/tables/2".into()), &heard.log).await.expect("said");
    assert_eq!(state(&store, ours, job).await, ("done".into(), Some("/tables/2".into())));
    silence(&server).await;
    assert!(store.take_job("third", true).await.expect("asked").is_none(), "what is done is not done again");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_takes_its_worker_down_every_time_is_given_up_and_does_not_hold_up_others() {
    let (server, store, [ours, _]) = idle().await;
    let deadly = enqueue(&store, ours, 1).await;
    for attempt in 1..=3 {
        let taken = store.take_job(&format!("victim {attempt}"), true).await.expect("asked").expect("a job");
        assert_eq!(taken.lease.job, deadly);
        assert!(store.give_up_jobs().await.expect("looked").is_empty(), "not while it is heard of");
        silence(&server).await;
    }
    let next = enqueue(&store, ours, 2).await;
    assert_eq!(store.give_up_jobs().await.expect("looked"), [Work::Import { upload: 1 }]);
    let (state, said) = state(&store, ours, deadly).await;
    assert_eq!(state, "failed");
    assert!(said.expect("a reason").contains("Three times the server ended"), "in words");
    assert_eq!(store.take_job("survivor", true).await.expect("asked").expect("a job").lease.job, next);
    assert!(store.give_up_jobs().await.expect("looked").is_empty(), "once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_was_set_back_leaves_no_job_hanging() {
    let (server, store, [ours, _]) = idle().await;
    let job = enqueue(&store, ours, 1).await;
    store.take_job("before", true).await.expect("asked").expect("a job");
    server.run_sql("UPDATE job SET heartbeat_at = now() + interval '3 hours'").await;
    assert_eq!(store.take_job("after", true).await.expect("asked").expect("taken up").lease.job, job);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_is_stopped_at_once_and_what_runs_is_asked_to_by_its_own_workspace_only() {
    let (_server, store, [ours, theirs]) = idle().await;
    let (running, waiting) = (enqueue(&store, ours, 1).await, enqueue(&store, ours, 2).await);
    let lease = store.take_job("one", true).await.expect("asked").expect("a job").lease;
    for job in [running, waiting] {
        assert!(matches!(store.cancel_job(theirs, job).await, Err(StoreError::NotFound(_))), "not a neighbour's");
        assert!(matches!(store.job(theirs, job).await, Err(StoreError::NotFound(_))));
    }
    assert_eq!(store.cancel_job(ours, waiting).await.expect("stopped"), Some(Work::Import { upload: 2 }));
    assert_eq!(state(&store, ours, waiting).await.0, "stopped");
    assert_eq!(store.cancel_job(ours, waiting).await.expect("stopped"), None, "a second time there is nothing to stop");
    assert_eq!(store.cancel_job(ours, running).await.expect("asked"), None, "it goes on until its worker looks");
    assert_eq!(store.beat(lease, true, None).await.expect("heard"), Beat::Cancel, "which is told then");
    store.end_job(lease, &Ending::Stopped, &[]).await.expect("said");
    assert_eq!(state(&store, ours, running).await, ("stopped".into(), None));
    assert!(store.open_jobs(ours).await.expect("jobs").is_empty());
    assert!(store.take_job("one", true).await.expect("asked").is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_workspace_that_asks_for_too_much_is_refused_and_others_are_not() {
    let (_server, store, [ours, theirs]) = idle().await;
    for at in 0..100 {
        enqueue(&store, ours, at).await;
    }
    let refused = store.enqueue_once(ours, None, "One too many", &Work::Import { upload: 100 }).await;
    assert!(matches!(refused, Err(StoreError::Refused(words)) if words.contains("100 jobs are waiting already")));
    enqueue(&store, theirs, 1).await;
    let taken = store.take_job("one", true).await.expect("asked").expect("a job");
    store.end_job(taken.lease, &Ending::Failed("It could not be read.".into()), &[]).await.expect("said");
    enqueue(&store, ours, 100).await;
    assert_eq!(store.open_jobs(ours).await.expect("jobs").len(), 100);
    assert_eq!(store.jobs_to(ours, &Work::Import { upload: 100 }).await.expect("jobs").len(), 1);
    assert!(store.jobs_to(theirs, &Work::Import { upload: 100 }).await.expect("jobs").is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_is_given_back_in_order_and_nothing_is_held_against_it() {
    let (server, store, [ours, _]) = idle().await;
    let job = enqueue(&store, ours, 1).await;
    for _ in 0..5 {
        let taken = store.take_job("leaving", true).await.expect("asked").expect("a job");
        store.give_back(taken.lease).await.expect("given back");
        assert_eq!(store.beat(taken.lease, true, None).await.expect("heard"), Beat::Lost);
    }
    let row = store.job(ours, job).await.expect("the job");
    assert_eq!((row.state.as_str(), row.attempts), ("queued", 0));
    // A crash counts where the job got no further than before, or ran alone.
    let died = async |share: f64, alone: bool| {
        let taken = store.take_job("dying", true).await.expect("asked").expect("a job");
        let heard = Heard { stage: "Fitting".into(), share, ..Heard::default() };
        store.beat(taken.lease, alone, Some(&heard)).await.expect("heard");
        silence(&server).await;
    };
    let strikes = async || server.answer("SELECT strikes::text FROM job").await;
    for share in [0.2, 0.4, 0.6, 0.8] {
        died(share, false).await;
    }
    assert_eq!(strikes().await, "0", "every attempt got further");
    died(0.5, false).await;
    died(0.9, true).await;
    store.take_job("last", true).await.expect("asked").expect("a job");
    assert_eq!(strikes().await, "2", "one got no further, one ran alone");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_lost_the_lease_writes_nothing() {
    let (server, store, [ours, _]) = idle().await;
    let job = enqueue(&store, ours, 1).await;
    let arrived = Arrived { file_name: "a.csv", origin: None, path: "/nowhere/a".as_ref(), size: 1 };
    let (upload, _) = store.take_in(ours, None, &arrived).await.expect("an upload");
    let slow = store.under(store.take_job("slow", true).await.expect("asked").expect("a job").lease);
    slow.set_upload_state(upload, "importing", None).await.expect("its own");
    silence(&server).await;
    let quick = store.take_job("quick", true).await.expect("asked").expect("a job").lease;
    assert_eq!(quick.job, job);
    let lost = |done: Result<(), StoreError>| assert!(matches!(done, Err(StoreError::LeaseLost)), "{done:?}");
    lost(slow.set_upload_state(upload, "failed", Some("gone")).await);
    lost(slow.add_upload(ours, None, &arrived).await.map(|_| ()));
    let shape = [("a".to_owned(), pronoia_core::Kind::Number)];
    let importer = slow.begin_import(ours, &shape).await.expect("begun");
    let source = TableSource { sentence: "a test".into(), rejected: 0, misfit_cells: 0 };
    let empty = pronoia_core::profile::TableProfile::of(&Table::new(Vec::new()).expect("no columns"));
    let label = Label { name: "late", source: &source, is_list: false };
    lost(importer.seal(label, &empty, SealedFor::Upload(upload)).await.map(|_| ()));
    assert!(store.tables(ours).await.expect("tables").is_empty());
    assert_eq!(store.upload(ours, upload).await.expect("the upload").state, "importing");
    store.under(quick).set_upload_state(upload, "done", None).await.expect("whoever has it now");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_workspace_does_not_hold_up_others_and_searches_leave_a_worker_free() {
    let (_server, store, [ours, theirs]) = idle().await;
    let search = |n| Work::Search { search: n };
    let long = store.enqueue_once(ours, None, "Searching", &search(1)).await.expect("in the queue");
    let other = store.enqueue_once(ours, None, "Searching", &search(2)).await.expect("in the queue");
    let short = enqueue(&store, ours, 1).await;
    let many: Vec<i64> = [enqueue(&store, ours, 2).await, enqueue(&store, ours, 3).await].to_vec();
    let of_others = enqueue(&store, theirs, 4).await;
    let take = async |long: bool| store.take_job("one", long).await.expect("asked").map(|taken| taken.lease.job);
    assert_eq!(take(true).await, Some(short), "short work comes first");
    assert_eq!(take(true).await, Some(of_others), "then whoever has nothing running");
    assert_eq!(take(false).await, Some(many[0]));
    assert_eq!(take(false).await, Some(many[1]));
    assert_eq!(take(false).await, None, "no search while one is at another");
    assert_eq!(take(true).await, Some(long));
    assert_eq!(take(true).await, Some(other));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_queue_leaves_nothing_half_made_and_the_same_is_asked_for_once() {
    let (server, store, [ours, _]) = idle().await;
    let arrived = Arrived { file_name: "a.csv", origin: None, path: "/nowhere/a".as_ref(), size: 1 };
    let (upload, job) = store.take_in(ours, None, &arrived).await.expect("an upload");
    let again = store.enqueue_once(ours, None, "Reading", &Work::Scan { upload, sheet: None }).await;
    assert_eq!(again.expect("the same"), job);
    server.run_sql("UPDATE upload SET state = 'ready'").await;
    for at in 1_000..1_099 {
        enqueue(&store, ours, at).await;
    }
    assert!(store.take_in(ours, None, &arrived).await.is_err());
    let reread = Work::Scan { upload, sheet: Some("2".into()) };
    let change = StateChange::UploadRead { upload };
    assert!(store.change_and_enqueue((ours, None), ("Reading", &reread), change).await.is_err());
    assert_eq!(store.upload(ours, upload).await.expect("the upload").state, "ready", "as before");
    assert_eq!(server.answer("SELECT count(*)::text FROM upload").await, "1");
    // Once there is room, of two who ask at once one is told.
    server.run_sql("DELETE FROM job").await;
    let both = tokio::join!(
        store.change_and_enqueue((ours, None), ("Reading", &reread), change),
        store.change_and_enqueue((ours, None), ("Reading", &reread), change),
    );
    assert_eq!([both.0.is_ok(), both.1.is_ok()].iter().filter(|ok| **ok).count(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn states_that_wait_for_nothing_are_put_right() {
    let (server, store, [ours, _]) = idle().await;
    let arrived = Arrived { file_name: "a.csv", origin: None, path: "/nowhere/a".as_ref(), size: 1 };
    let (stuck, _) = store.take_in(ours, None, &arrived).await.expect("an upload");
    let (read, _) = store.take_in(ours, None, &arrived).await.expect("an upload");
    let (open, _) = store.take_in(ours, None, &arrived).await.expect("an upload");
    server.run_sql(&format!(
        "DELETE FROM job WHERE work->>'upload' <> '{open}'; UPDATE upload SET created_at = now() - interval '1 hour'; \
         UPDATE upload SET state = 'importing', scan = '{{}}' WHERE id = {read}"
    )).await;
    assert_eq!(store.put_states_right().await.expect("looked at"), 2);
    assert_eq!(store.put_states_right().await.expect("looked at"), 0, "once");
    let state = async |id: i64| store.upload(ours, id).await.expect("the upload").state;
    assert_eq!([state(stuck).await, state(read).await, state(open).await], ["failed", "ready", "scanning"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn versions_of_a_table_only_rise_whatever_becomes_of_earlier_ones() {
    let (server, store, [ours, _]) = idle().await;
    let make = async |name: &str| {
        let shape = [("a".to_owned(), pronoia_core::Kind::Number)];
        let importer = store.begin_import(ours, &shape).await.expect("begun");
        let source = TableSource { sentence: "a test".into(), rejected: 0, misfit_cells: 0 };
        let label = Label { name, source: &source, is_list: false };
        let profile = pronoia_core::profile::TableProfile::of(&Table::new(Vec::new()).expect("no columns"));
        let id = importer.seal(label, &profile, SealedFor::Itself).await.expect("sealed");
        store.table(ours, id).await.expect("the table")
    };
    let (first, second) = (make("opt-outs").await, make("opt-outs").await);
    assert_eq!((first.version, second.version), (1, 2));
    // Archived: the older one does not stand for it.
    store.put_away(ours, Thing::Table(second.id), 1).await.expect("archived");
    assert_eq!(store.newest_version(ours, "opt-outs").await.expect("found").map(|t| t.id), Some(first.id));
    assert_eq!(store.newest_ever(ours, "opt-outs").await.expect("looked for"), None);
    store.bring_back(ours, Thing::Table(second.id)).await.expect("back");
    assert_eq!(store.newest_ever(ours, "opt-outs").await.expect("found").map(|t| t.id), Some(second.id));
    // Erased: its number is not given again.
    for table in [first.id, second.id] {
        store.put_away(ours, Thing::Table(table), 1).await.expect("archived");
        store.erase(ours, Thing::Table(table)).await.expect("erased");
    }
    assert_eq!(store.newest_ever(ours, "opt-outs").await.expect("looked for"), None);
    assert_eq!(make("opt-outs").await.version, 3);
    // Two at once are two versions.
    let both = tokio::join!(make("opt-outs"), make("opt-outs"));
    let mut versions = [both.0.version, both.1.version];
    versions.sort_unstable();
    assert_eq!(versions, [4, 5]);
    let twice = server.answer("SELECT count(*)::text FROM (SELECT FROM record_table GROUP BY workspace_id, name, version HAVING count(*) > 1) x");
    assert_eq!(twice.await, "0");
}
