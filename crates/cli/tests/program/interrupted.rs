//! Two servers over one database, stopped, woken and killed in the middle of every kind of job: each is done once.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crate::support::study::{Study, queued};
use crate::support::{Http, Server, Signal, Wire, until};
use pronoia_core::campaign::Arms;
use pronoia_core::learn::Settings;
use pronoia_core::tune::{TuningMeasure, TuningPlan, TuningRun};
use pronoia_demo::{
    FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv, renewals_csv, renewed, renewed_csv, visits,
};
use pronoia_store::Store;
use pronoia_store::jobs::{ResultsFrom, Work};
use pronoia_store::records::{Append, Join, JoinKind};
use pronoia_store::sources::{StandIn, StandInTable};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// Every kind of job; a list that is read goes a longer way than another file.
const KINDS: [&str; 23] = [
    "scan",
    "scan of a list",
    "fetch",
    "import",
    "join",
    "append",
    "erased",
    "drivers",
    "bring",
    "draw",
    "results",
    "promise",
    "match",
    "fit",
    "closer",
    "understand",
    "without",
    "prove",
    "rule",
    "search",
    "publish",
    "score",
    "confirm",
];

/// What is counted before and after: tables, uploads that are ready or done, lists, scored lists, drawn campaigns,
/// entries of ledgers, fitted models, ended searches, judged promises, openings of the seal, published tables, jobs
/// that did not end well.
const COUNTED: &str = "SELECT concat_ws(' ', (SELECT count(*) FROM record_table), \
    (SELECT count(*) FROM upload WHERE state IN ('ready', 'done')), (SELECT count(*) FROM list), \
    (SELECT count(*) FROM list WHERE scored_id IS NOT NULL), \
    (SELECT count(*) FROM campaign WHERE assigned_id IS NOT NULL), (SELECT count(*) FROM ledger_entry), \
    (SELECT count(*) FROM model WHERE state = 'fitted'), (SELECT count(*) FROM search WHERE state = 'done'), \
    (SELECT count(*) FROM release_promise), (SELECT sum(test_openings) FROM study), \
    (SELECT count(*) FROM pg_tables WHERE schemaname LIKE 'published%'), \
    (SELECT count(*) FROM job WHERE state NOT IN ('done', 'queued', 'running')))";

/// A study with one of everything, and two servers that work for it.
struct Lane {
    study: Study,
    second: Server,
    /// The way to a warehouse.
    _wire: Wire,
    rng: ChaCha8Rng,
    asked: usize,
    records: i64,
    visits: i64,
    later: i64,
    model: i64,
    /// How long a kind of job takes, and what it adds to what is counted.
    undisturbed: BTreeMap<&'static str, (Duration, Vec<i64>)>,
}

impl Lane {
    async fn begun(seed: u64) -> Self {
        let cluster = std::env::var("PRONOIA_TEST_DATABASE").expect("./test sets it");
        let (before, rest) = cluster.rsplit_once(':').expect("a port");
        let port = rest.split_once('/').expect("a database").0;
        // A warehouse is reached by another way than our own database, which is nobody's source.
        let wire = Wire::to(port.parse().expect("a port")).await;
        let wire_port = wire.port.to_string();
        let first = Server::start_with(&["--allow-address", &format!("127.0.0.1:{wire_port}")]).await;
        let second = first.second().await;
        let study = Study::furnished_on(first).await;

        let people = members(2_000, SEED, FIRST_MEMBER);
        let name = format!("interrupted_{}", second.process_id());
        let seen = visits(&people, SEED);
        let tables = pronoia_demo::warehouse(&people, &seen);
        let tables = tables.each_ref().map(|t| StandInTable {
            name: t.name,
            comment: t.comment,
            columns: t.columns,
            csv: &t.csv,
        });
        let stand_in =
            StandIn { name: "Warehouse", database: &name, schema: "care", account: &format!("{name}_reader") };
        let details = stand_in.fill(&format!("{before}:{port}/postgres"), &tables).await.expect("filled");
        let fields = [
            ("name", details.name.as_str()),
            ("host", "127.0.0.1"),
            ("port", &wire_port),
            ("database", &details.database),
            ("account", &details.account),
            ("password", &details.password),
            ("encryption", "offered"),
        ];
        let sent = study.http.submit("/sources", &fields);
        assert_eq!(sent.status, 303, "{}", crate::support::plain(&sent.text));
        let rule = [("condition", "fee_rise_pct > 5")];
        let sent = study.http.submit(&format!("/studies/{}/compare/rule", study.id), &rule);
        assert_eq!(sent.status, 303, "{}", crate::support::plain(&sent.text));
        let mut lane = Self {
            rng: ChaCha8Rng::seed_from_u64(seed),
            asked: 0,
            records: study.store.tables(1).await.expect("tables")[0].id,
            visits: 0,
            later: 0,
            model: study.store.candidates(study.id, &[]).await.expect("models")[0].id,
            undisturbed: BTreeMap::new(),
            study,
            second,
            _wire: wire,
        };
        lane.visits = lane.table("visits.parquet", &pronoia_demo::visits_parquet(&seen).expect("a file")).await;
        let happened = renewed(&members(600, SEED + 1, FIRST_RENEWAL), &[], SEED);
        lane.later = lane.table("later.csv", &renewed_csv(&happened)).await;
        for kind in ["draw", "publish"] {
            let job = lane.ask(kind).await;
            lane.ended(job).await;
        }
        lane.study.idle().await;
        lane
    }

    fn server(&mut self, at: usize) -> &mut Server {
        if at == 0 { &mut self.study.server } else { &mut self.second }
    }

    fn store(&self) -> &Store {
        &self.study.store
    }

    /// A client of one server or the other.
    fn http(&mut self) -> Http {
        let server = if self.rng.random() { &self.study.server } else { &self.second };
        self.study.http.at(server)
    }

    /// Brings in a table of the records.
    async fn table(&mut self, name: &str, bytes: &[u8]) -> i64 {
        let http = self.http();
        http.follow(&http.upload(&http.csrf(), name, bytes).location).await;
        let upload = self.newest("upload").await;
        http.follow(&http.submit(&format!("/uploads/{upload}/accept"), &[]).location).await;
        self.store().upload(1, upload).await.expect("the upload").table_id.expect("a table")
    }

    async fn newest(&self, table: &str) -> i64 {
        self.second.answer(&format!("SELECT max(id)::text FROM {table}")).await.parse().expect("a number")
    }

    async fn counted(&self) -> Vec<i64> {
        let counted = self.second.answer(COUNTED).await;
        counted.split(' ').map(|count| count.parse().expect("a number")).collect()
    }

    /// Asks for a job of a kind; the job.
    async fn ask(&mut self, kind: &str) -> i64 {
        self.asked += 1;
        let (id, asked) = (self.study.id, self.asked);
        let http = self.http();
        let job_of = |sent: crate::support::Answer| -> i64 {
            let job = sent.location.strip_prefix("/jobs/").unwrap_or_else(|| panic!("{kind}: {}", sent.text));
            job.parse().expect("a number")
        };
        let store = self.store().clone();
        let study = store.study(1, id).await.expect("the study");
        let enqueued = async |work: Work| store.enqueue_once(1, Some(id), kind, &work).await.expect("in the queue");
        let fresh = renewals_csv(&members(500, SEED + 7, FIRST_RENEWAL));
        match kind {
            "scan" => job_of(http.upload(&http.csrf(), "file.csv", &outcome_csv(&members(6_000, SEED, FIRST_MEMBER)))),
            "scan of a list" => {
                job_of(http.upload_list(id, "renewals.csv", &renewals_csv(&members(4_000, SEED, FIRST_RENEWAL))))
            }
            "fetch" => {
                let fields = [("sql", "SELECT * FROM care.visits"), ("name", "fetched")];
                job_of(http.submit("/sources/1/read", &fields))
            }
            "import" => {
                http.follow(
                    &http.upload(&http.csrf(), "file.csv", &outcome_csv(&members(6_000, SEED, FIRST_MEMBER))).location,
                )
                .await;
                let upload = self.newest("upload").await;
                job_of(http.submit(&format!("/uploads/{upload}/accept"), &[]))
            }
            "join" => {
                let join = Join {
                    first: self.records,
                    second: self.visits,
                    first_key: "member_id".into(),
                    second_key: "member_id".into(),
                    take: JoinKind::RollUp { as_of: None },
                    keep_unmatched: true,
                    name: "joined".into(),
                };
                enqueued(Work::Join { join }).await
            }
            "append" => {
                let append = Append { first: self.records, second: self.records, name: "appended".into() };
                enqueued(Work::Append { append }).await
            }
            "erased" => {
                let person = members(2_000, SEED, FIRST_MEMBER)[asked].id.to_string();
                job_of(http.submit("/erasure/person", &[("column", "member_id"), ("value", &person)]))
            }
            "drivers" => store.look_again(1, id).await.expect("in the queue"),
            "bring" => {
                let table = self.table("to bring.csv", &fresh).await.to_string();
                job_of(http.submit(&format!("/studies/{id}/lists"), &[("table", &table)]))
            }
            "draw" => {
                let arms = Arms { control: 0.2, acts: vec!["letter".into()], seed: 5 };
                let list =
                    store.lists(id).await.expect("lists").iter().find(|l| l.scored_id.is_some()).expect("scored").id;
                store.queue_campaign(&study, list, &format!("campaign {asked}"), &arms).await.expect("queued").1
            }
            "results" => {
                let from = ResultsFrom {
                    table: self.later,
                    keys: ["member_id", "member_id"].map(str::to_owned),
                    outcome: "cancelled".into(),
                    event: "yes".into(),
                    money: None,
                    absent_had_none: false,
                };
                enqueued(Work::Results { campaign: 1, from }).await
            }
            "promise" => {
                let table = self.table("since.csv", &outcome_csv(&members(900, SEED + 9, FIRST_RENEWAL))).await;
                enqueued(Work::Promise { version: 1, table }).await
            }
            "match" => enqueued(Work::Match { list: 1 }).await,
            "fit" | "search" => {
                let basis = self.study.state().await.basis().expect("a basis");
                if kind == "fit" {
                    let settings = Settings::of_family("boosted").expect("a family");
                    return queued(&store, (1, id), &settings, &basis).await.1;
                }
                let families = ["scorecard", "tree"].map(str::to_owned).to_vec();
                let plan = TuningPlan {
                    families,
                    measure: TuningMeasure::LogLoss,
                    most: 4,
                    minutes: None,
                    seed: asked as u64,
                };
                let search =
                    store.queue_search(&study, &TuningRun::new(plan).expect("a search"), &basis).await.expect("queued");
                store.jobs_to(1, &Work::Search { search }).await.expect("jobs")[0].id
            }
            "closer" => enqueued(Work::Closer { model: self.model }).await,
            "understand" => enqueued(Work::Understand { model: self.model }).await,
            "without" => enqueued(Work::Without { model: self.model, columns: vec!["tenure_months".into()] }).await,
            "prove" => enqueued(Work::Prove { model: self.model }).await,
            "rule" => enqueued(Work::Rule { study: id }).await,
            "publish" => enqueued(Work::Publish { list: 1 }).await,
            "score" => {
                http.follow(&http.upload_list(id, "renewals.csv", &fresh).location).await;
                let list = self.newest("list").await;
                job_of(http.submit(&format!("/studies/{id}/lists/{list}/score"), &[]))
            }
            "confirm" => enqueued(Work::Confirm { study: id, model: self.model }).await,
            other => panic!("{other} is asked for nowhere"),
        }
    }

    /// Waits until a job has ended, well.
    async fn ended(&self, job: i64) -> pronoia_store::job::Model {
        let ended = until(&format!("job {job} ends"), || async {
            let job = self.store().job(1, job).await.ok()?;
            (!["queued", "running"].contains(&job.state.as_str())).then_some(job)
        })
        .await;
        assert_eq!(ended.state, "done", "{}: {:?}", ended.title, ended.outcome);
        ended
    }

    /// Does a job without interruption, to see how long it takes and what it adds.
    async fn measure(&mut self, kind: &'static str) {
        let before = self.counted().await;
        let job = self.ask(kind).await;
        let ended = self.ended(job).await;
        self.study.idle().await;
        let took =
            ended.finished_at.zip(ended.started_at).map(|(end, begin)| (end - begin).to_std().expect("forwards"));
        let added = difference(&self.counted().await, &before);
        self.undisturbed.insert(kind, (took.expect("it ran"), added));
    }

    /// Interrupts the server that does a job of a kind, at any moment of it; whether it was still at it.
    async fn interrupt(&mut self, kind: &'static str) -> bool {
        let (took, expected) = self.undisturbed[kind].clone();
        let before = self.counted().await;
        let job = self.ask(kind).await;
        let begun = until("the job begins", || async {
            let job = self.store().job(1, job).await.ok()?;
            (job.state != "queued").then_some(job)
        })
        .await;
        // Any moment of its time: what is waited for here is the moment itself.
        tokio::time::sleep(took.mul_f64(self.rng.random_range(0.0..1.0))).await;
        let worker = begun.worker.expect("a worker");
        let at = usize::from(!worker.starts_with(&format!("{}-", self.study.server.process_id())));
        let how = self.rng.random_range(0..4);
        if how == 0 {
            self.server(at).kill();
        } else {
            self.server(at).signal(Signal::STOP);
        }
        let hit = self.store().job(1, job).await.expect("the job");
        let was_at_it = hit.state == "running" && hit.worker.as_deref() == Some(worker.as_str());
        match how {
            0 => self.server(at).run().await,
            1 => {
                tokio::time::sleep(Duration::from_millis(self.rng.random_range(50..3_000))).await;
                self.server(at).signal(Signal::CONT);
            }
            // Woken just as the other server has taken the job, or killed without having woken.
            _ => {
                if was_at_it {
                    until("the other server takes the job", || async {
                        let job = self.store().job(1, job).await.ok()?;
                        (job.worker.as_deref() != Some(worker.as_str()) || job.state != "running").then_some(())
                    })
                    .await;
                }
                if how == 2 {
                    self.server(at).signal(Signal::CONT);
                } else {
                    self.server(at).kill();
                    self.server(at).run().await;
                }
            }
        }
        self.ended(job).await;
        self.study.idle().await;
        let added = difference(&self.counted().await, &before);
        assert_eq!(added, expected, "{kind}, interrupted in way {how} after {:?}: {hit:?}", begun.started_at);
        was_at_it
    }

    /// What must hold once everything is done, whatever happened on the way.
    async fn is_whole(&self) {
        assert_eq!(
            self.store().put_states_right().await.expect("looked"),
            0,
            "no state waits for a job that is not there"
        );
        let stuck = "SELECT concat_ws(' ', (SELECT count(*) FROM upload WHERE state IN ('scanning', 'importing')), \
            (SELECT count(*) FROM list WHERE state = 'scoring'), (SELECT count(*) FROM model WHERE state = 'queued'), \
            (SELECT count(*) FROM search WHERE state = 'queued'), \
            (SELECT count(*) FROM campaign WHERE assigned_id IS NULL), (SELECT count(*) FROM job WHERE state <> 'done'))";
        assert_eq!(self.second.answer(stuck).await, "0 0 0 0 0 0");
        let relations = "SELECT concat_ws(' ', (SELECT count(*) FROM pg_tables WHERE schemaname = 'workspace_1'), \
            (SELECT count(*) FROM record_table))";
        let relations = self.second.answer(relations).await;
        let (there, known) = relations.split_once(' ').expect("two numbers");
        assert_eq!(there, known, "no table is half-made or lost");
        for path in self.store().files_needed().await.expect("paths") {
            assert!(std::path::Path::new(&path).is_file(), "{path} is needed");
        }
    }
}

fn difference(after: &[i64], before: &[i64]) -> Vec<i64> {
    after.iter().zip(before).map(|(after, before)| after - before).collect()
}

/// Interrupts jobs of some kinds, so many times each; how often a server was still at its job.
async fn rounds(seed: u64, kinds: Vec<&'static str>, times: usize) -> usize {
    let mut lane = Lane::begun(seed).await;
    for kind in &kinds {
        lane.measure(kind).await;
    }
    let mut hits = 0;
    for kind in kinds {
        for _ in 0..times {
            // Some are over before anything can happen to them: tried a few times more.
            for _ in 0..8 {
                if lane.interrupt(kind).await {
                    hits += 1;
                    break;
                }
            }
        }
    }
    lane.is_whole().await;
    hits
}

// Lanes wait for answers on threads of the runtime, by which the wire to the warehouse is kept going as well.
#[tokio::test(flavor = "multi_thread", worker_threads = 12)]
async fn every_job_is_done_once_though_servers_are_stopped_and_killed() {
    let begun = Instant::now();
    let slow = std::env::var_os("PRONOIA_TEST_SLOW").is_some();
    let (wanted, hits) = if slow {
        // Four at a time: most of a round is waiting until a silent server counts as gone.
        let parts: Vec<Vec<&str>> = (0..4).map(|at| KINDS.into_iter().skip(at).step_by(4).collect()).collect();
        let lanes = parts.into_iter().zip(0..).map(|(kinds, at)| tokio::spawn(rounds(at, kinds, 9)));
        let mut hits = 0;
        for lane in lanes.collect::<Vec<_>>() {
            hits += lane.await.expect("a lane ends");
        }
        (KINDS.len() * 9 * 9 / 10, hits)
    } else {
        (2, rounds(9, vec!["import", "score", "draw"], 1).await)
    };
    println!("{hits} jobs interrupted and done once, {:.0} s", begun.elapsed().as_secs_f64());
    assert!(hits >= wanted, "{hits} of {wanted}: jobs ended before anything happened to them");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_slept_ends_its_jobs_and_loses_no_file() {
    let slow = std::env::var_os("PRONOIA_TEST_SLOW").is_some();
    let sleeps: &[u64] = if slow { &[10, 30, 60] } else { &[10] };
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, crate::support::EMAIL);
    let store = server.store().await;
    let rows = if slow { 300_000 } else { 150_000 };
    let bytes = renewals_csv(&members(rows, SEED, FIRST_MEMBER));
    for seconds in sleeps {
        // One file waits to be accepted while another is brought in.
        let csrf = http.csrf();
        http.follow(&http.upload(&csrf, "waiting.csv", b"a;b\n1;2\n3;4\n").location).await;
        let waiting: i64 = server.answer("SELECT max(id)::text FROM upload").await.parse().expect("a number");
        http.follow(&http.upload(&csrf, "many.csv", &bytes).location).await;
        let upload = waiting + 1;
        let job = http.submit(&format!("/uploads/{upload}/accept"), &[]).location;
        let job: i64 = job.strip_prefix("/jobs/").expect("a job").parse().expect("a number");
        until("the import begins", || async { (store.job(1, job).await.ok()?.state == "running").then_some(()) }).await;
        server.signal(Signal::STOP);
        tokio::time::sleep(Duration::from_secs(*seconds)).await;
        assert_eq!(store.job(1, job).await.expect("the job").state, "running");
        server.signal(Signal::CONT);
        let ended = until("the job ends", || async {
            let job = store.job(1, job).await.ok()?;
            (!["queued", "running"].contains(&job.state.as_str())).then_some(job)
        })
        .await;
        assert_eq!(ended.state, "done", "{seconds} s: {:?}", ended.outcome);
        println!("asleep for {seconds} s: {} attempts", ended.attempts);
        let table = store.upload(1, upload).await.expect("the upload").table_id.expect("a table");
        assert_eq!(store.table(1, table).await.expect("the table").rows, rows as i64);
        assert_eq!(http.get(&format!("/uploads/{waiting}")).status, 200);
        let page = http.follow(&http.submit(&format!("/uploads/{waiting}/accept"), &[]).location).await;
        assert!(page.text.contains("2 customers in waiting"), "{}", crate::support::plain(&page.text));
    }
}
