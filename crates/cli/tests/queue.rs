//! The queue as workers meet it: several at once, some of which fall silent.

mod support;

use std::collections::BTreeSet;

use pronoia_store::jobs::{Ending, Heard, SILENCE_SECONDS, Stage, Work};
use pronoia_store::{Store, StoreError};
use support::Server;

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
    store.enqueue(workspace, None, "Reading a file", &Work::Import { upload }).await.expect("in the queue")
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
    let first = store.take_job("one").await.expect("asked").expect("a job");
    assert_eq!((first.id, &first.work), (all[0], &Work::Import { upload: 0 }));
    let takers: Vec<_> = (0..8)
        .map(|at| {
            let store = store.clone();
            tokio::spawn(async move {
                let mut taken = Vec::new();
                while let Some(job) = store.take_job(&format!("worker {at}")).await.expect("asked") {
                    taken.push(job.id);
                }
                taken
            })
        })
        .collect();
    let mut taken = vec![first.id];
    for taker in takers {
        let of_one = taker.await.expect("it ends");
        assert!(of_one.windows(2).all(|w| w[0] < w[1]), "each takes them in their order");
        taken.extend(of_one);
    }
    assert_eq!(taken.len(), 40, "none twice");
    assert_eq!(taken.iter().collect::<BTreeSet<_>>(), all.iter().collect(), "and none left");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_worker_that_fell_silent_loses_its_job_and_cannot_end_it_afterwards() {
    let (server, store, [ours, _]) = idle().await;
    let job = enqueue(&store, ours, 7).await;
    store.take_job("slow").await.expect("asked").expect("a job");
    assert!(store.take_job("quick").await.expect("asked").is_none(), "one that is heard of keeps its job");
    let heard = Heard {
        stage: "Reading rows".into(),
        share: 0.4,
        log: vec![Stage { at: 1.5, stage: "Begun".into() }],
        curve: vec![(1, 0.6, 0.7)],
    };
    assert!(!store.beat(job, "slow", Some(&heard)).await.expect("heard"), "nobody asks it to stop");
    let row = store.job(ours, job).await.expect("the job");
    assert_eq!(
        (row.stage.as_str(), row.share, row.stages().expect("stages")),
        ("Reading rows", 0.4, heard.log.clone())
    );
    assert!(!store.beat(job, "slow", None).await.expect("heard"));
    assert_eq!(
        store.job(ours, job).await.expect("the job").stage,
        "Reading rows",
        "a sign of life changes nothing else"
    );

    silence(&server).await;
    let again = store.take_job("quick").await.expect("asked").expect("it is taken up again");
    assert_eq!(again.id, job);
    let row = store.job(ours, job).await.expect("the job");
    assert_eq!((row.attempts, row.share, row.stage.as_str()), (2, 0.0, "Starting"), "from the beginning");
    assert!(store.beat(job, "slow", Some(&heard)).await.expect("heard"), "the one that was silent is told to stop");
    store.end_job(job, "slow", &Ending::Done("/tables/1".into()), &[]).await.expect("said");
    assert_eq!(state(&store, ours, job).await.0, "running", "and its end counts for nothing");
    store.end_job(job, "quick", &Ending::Done("/tables/2".into()), &heard.log).await.expect("said");
    assert_eq!(state(&store, ours, job).await, ("done".into(), Some("/tables/2".into())));
    silence(&server).await;
    assert!(store.take_job("third").await.expect("asked").is_none(), "what is done is not done again");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_takes_its_worker_down_every_time_is_given_up_and_does_not_hold_up_others() {
    let (server, store, [ours, _]) = idle().await;
    let deadly = enqueue(&store, ours, 1).await;
    for attempt in 1..=3 {
        let taken = store.take_job(&format!("victim {attempt}")).await.expect("asked").expect("a job");
        assert_eq!(taken.id, deadly);
        assert!(store.give_up_jobs().await.expect("looked").is_empty(), "not while it is heard of");
        silence(&server).await;
    }
    let next = enqueue(&store, ours, 2).await;
    assert_eq!(store.give_up_jobs().await.expect("looked"), [Work::Import { upload: 1 }]);
    let (state, said) = state(&store, ours, deadly).await;
    assert_eq!(state, "failed");
    assert!(said.expect("a reason").contains("begun three times"), "in words");
    assert_eq!(store.take_job("survivor").await.expect("asked").expect("a job").id, next);
    assert!(store.give_up_jobs().await.expect("looked").is_empty(), "once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_was_set_back_leaves_no_job_hanging() {
    let (server, store, [ours, _]) = idle().await;
    let job = enqueue(&store, ours, 1).await;
    store.take_job("before").await.expect("asked").expect("a job");
    server.run_sql("UPDATE job SET heartbeat_at = now() + interval '3 hours'").await;
    assert_eq!(store.take_job("after").await.expect("asked").expect("taken up").id, job);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_is_stopped_at_once_and_what_runs_is_asked_to_by_its_own_workspace_only() {
    let (_server, store, [ours, theirs]) = idle().await;
    let (running, waiting) = (enqueue(&store, ours, 1).await, enqueue(&store, ours, 2).await);
    store.take_job("one").await.expect("asked").expect("a job");
    for job in [running, waiting] {
        assert!(matches!(store.cancel_job(theirs, job).await, Err(StoreError::NotFound(_))), "not a neighbour's");
        assert!(matches!(store.job(theirs, job).await, Err(StoreError::NotFound(_))));
    }
    assert_eq!(store.cancel_job(ours, waiting).await.expect("stopped"), Some(Work::Import { upload: 2 }));
    assert_eq!(state(&store, ours, waiting).await.0, "stopped");
    assert_eq!(store.cancel_job(ours, waiting).await.expect("stopped"), None, "a second time there is nothing to stop");
    assert_eq!(store.cancel_job(ours, running).await.expect("asked"), None, "it goes on until its worker looks");
    assert!(store.beat(running, "one", None).await.expect("heard"), "which is told then");
    store.end_job(running, "one", &Ending::Stopped, &[]).await.expect("said");
    assert_eq!(state(&store, ours, running).await, ("stopped".into(), None));
    assert!(store.open_jobs(ours).await.expect("jobs").is_empty());
    assert!(store.take_job("one").await.expect("asked").is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_workspace_that_asks_for_too_much_is_refused_and_others_are_not() {
    let (_server, store, [ours, theirs]) = idle().await;
    for at in 0..100 {
        enqueue(&store, ours, at).await;
    }
    let refused = store.enqueue(ours, None, "One too many", &Work::Import { upload: 100 }).await;
    assert!(matches!(refused, Err(StoreError::Refused(words)) if words.contains("100 jobs are waiting already")));
    enqueue(&store, theirs, 1).await;
    let taken = store.take_job("one").await.expect("asked").expect("a job");
    store.end_job(taken.id, "one", &Ending::Failed("It could not be read.".into()), &[]).await.expect("said");
    enqueue(&store, ours, 100).await;
    assert_eq!(store.open_jobs(ours).await.expect("jobs").len(), 100);
    assert_eq!(store.jobs_to(ours, &Work::Import { upload: 100 }).await.expect("jobs").len(), 1);
    assert!(store.jobs_to(theirs, &Work::Import { upload: 100 }).await.expect("jobs").is_empty());
}
