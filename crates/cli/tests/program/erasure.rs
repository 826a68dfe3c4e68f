//! One person's records go wherever they stand, nobody else's do, and nothing else comes to harm.

use crate::support::study::Study;
use crate::support::{Http, plain, until};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, Member, SEED, members, renewals_csv};
use sea_orm::{ConnectionTrait, Database, DbBackend, Statement};

/// Numbers that nobody else has.
const ID: u32 = 987_654_321;
const REFERENCE: u64 = 55_443_322_117;

/// Makes one of them somebody who can be told anywhere.
fn with_somebody(mut people: Vec<Member>) -> Vec<Member> {
    (people[3].id, people[3].legacy_ref) = (ID, REFERENCE);
    people
}

/// Where a text stands: the tables of the database, of any schema, also within bytes such as models and files that were
/// attached; and the files of the uploads folder.
async fn stands_in(study: &Study, text: &str) -> Vec<String> {
    let database = Database::connect(&study.server.database).await.expect("connected");
    let all = "SELECT format('%I.%I', t.table_schema, t.table_name) AS name, \
               coalesce((SELECT string_agg(format(' OR position(convert_to($1, ''UTF8'') IN x.%I) > 0', c.column_name), '') \
                   FROM information_schema.columns c WHERE c.table_schema = t.table_schema \
                   AND c.table_name = t.table_name AND c.data_type = 'bytea'), '') AS bytes \
               FROM information_schema.tables t WHERE t.table_schema NOT IN ('pg_catalog', 'information_schema')";
    let mut found = Vec::new();
    for row in database.query_all_raw(Statement::from_string(DbBackend::Postgres, all)).await.expect("tables") {
        let (name, bytes): (String, String) =
            (row.try_get("", "name").expect("a name"), row.try_get("", "bytes").expect("its columns"));
        let sql = format!("SELECT count(*) AS rows FROM {name} x WHERE position($1 IN x::text) > 0{bytes}");
        let asked = Statement::from_sql_and_values(DbBackend::Postgres, sql, [text.into()]);
        let counted = database.query_one_raw(asked).await.expect("counted").expect("a row");
        if counted.try_get::<i64>("", "rows").expect("a number") > 0 {
            found.push(name);
        }
    }
    database.close().await.expect("closed");
    for file in std::fs::read_dir(study.server.folder.path().join("uploads")).into_iter().flatten() {
        let path = file.expect("a file").path();
        let bytes = std::fs::read(&path).expect("its bytes");
        if bytes.windows(text.len()).any(|part| part == text.as_bytes()) {
            found.push(path.display().to_string());
        }
    }
    found
}

fn asks(http: &Http, address: &str, column: &str, value: &str) -> crate::support::Answer {
    http.submit(address, &[("column", column), ("value", value)])
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_is_taken_out_of_everything_and_nobody_else() {
    let people = with_somebody(members(1_000, SEED, FIRST_MEMBER));
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.looked_at().await;
    assert_eq!(study.post("train", &[("family", "neighbours"), ("most-rows", "2000")]), 303);
    study.fitted("scorecard").await;
    study.idle().await;
    let scorecard = study.store.candidates(study.id, &[]).await.expect("models")[1].id.to_string();
    assert_eq!(study.post("decide", &[("model", &scorecard), ("line", "0")]), 303);
    // In a list too, which is drawn for a campaign and published.
    study.scored("renewals.csv", &renewals_csv(&with_somebody(members(1_000, SEED + 1, FIRST_RENEWAL)))).await;
    let list = study.store.lists(study.id).await.expect("lists")[0].id;
    let of_list = |page: &str| format!("/studies/{}/lists/{list}/{page}", study.id);
    let fields = [("name", "autumn"), ("control", "10"), ("acts", "letter"), ("seed", "1")];
    study.http.follow(&study.http.submit(&of_list("campaign"), &fields).location).await;
    study.http.follow(&study.http.submit(&of_list("publish"), &[]).location).await;
    // And somebody has opened the customers of the records in memory.
    assert!(study.page("decide/customer?row=3").contains("row 4"));
    let before = study.store.candidates(study.id, &[]).await.expect("models");
    let artefact = async |at: usize| study.store.model(before[at].id).await.expect("the model").artefact;
    let (neighbours, points) = (artefact(0).await, artefact(1).await);
    let told: Vec<String> = [ID.to_string(), REFERENCE.to_string()].into();
    assert!(stands_in(&study, &told[0]).await.len() >= 6, "{:?}", stands_in(&study, &told[0]).await);
    assert!(!stands_in(&study, &told[1]).await.is_empty());

    let page = plain(&asks(&study.http, "/erasure", "Member ID", &told[0]).text);
    assert!(page.contains("4 rows of this person in 4 tables"), "{page}");
    assert!(page.contains("members, version 1") && page.contains("Erase for good"));
    let erased = asks(&study.http, "/erasure/person", "Member ID", &told[0]);
    assert_eq!(erased.status, 303, "{}", erased.text);
    assert_eq!(study.http.follow(&erased.location).await.status, 200, "the job ends well");
    study.idle().await;

    for value in &told {
        assert_eq!(stands_in(&study, value).await, Vec::<String>::new(), "{value}");
    }
    let again = plain(&asks(&study.http, "/erasure", "Member ID", &told[0]).text);
    assert!(again.contains("Nobody has"), "{again}");
    assert_eq!(asks(&study.http, "/erasure/person", "Member ID", &told[0]).status, 422);
    assert!(study.page("ledger").contains("One person’s records erased"));

    // Everybody else is where they were, and whatever was made still stands.
    let table = study.store.tables(1).await.expect("tables").remove(0);
    assert_eq!((table.rows, table.figures().expect("figures").rows), (1_000, 1_000));
    let rows = study.store.columns(&table, None).await.expect("the rows");
    let ids = rows.column("member_id").expect("numbers");
    for (row, member) in people.iter().enumerate() {
        let expected = Some(member.id.to_string()).filter(|_| row != 3);
        assert_eq!(ids.text(row), expected, "row {row}");
    }
    assert!(rows.columns().iter().all(|column| column.text(3).is_none()), "nothing of theirs is left");
    assert_ne!(artefact(0).await, neighbours, "the nearest customers are others");
    assert_eq!(artefact(1).await, points, "points hold nobody");
    for page in ["records?view=rows", "drivers", "compare", "decide", "decide/customer?row=3", "lists", "ledger"] {
        assert_eq!(study.http.get(&format!("/studies/{}/{page}", study.id)).status, 200, "{page}");
    }
    study.scored("later.csv", &renewals_csv(&members(100, SEED + 2, FIRST_RENEWAL + 5_000))).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_asked_to_be_left_alone_is_left_alone_when_nothing_else_is_known_of_them() {
    let people = with_somebody(members(1_000, SEED, FIRST_MEMBER));
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("bayes").await;
    assert_eq!(study.post("decide", &[("line", "0")]), 303);
    let wishes = format!("member_id,said\n{ID},on the telephone\n100,by letter\n");
    let sent = study.http.upload(&study.http.csrf(), "wishes.csv", wishes.as_bytes());
    study.http.follow(&sent.location).await;
    study.http.follow(&study.http.submit("/uploads/2/accept", &[]).location).await;
    let address = format!("/studies/{}/lists/do-not-contact", study.id);
    assert_eq!(study.http.submit(&address, &[("table", "wishes"), ("column", "member_id")]).status, 303);

    let page = plain(&asks(&study.http, "/erasure", "member_id", &ID.to_string()).text);
    assert!(page.contains("member_id stays: their opt-out"), "{page}");
    study.http.follow(&asks(&study.http, "/erasure/person", "member_id", &ID.to_string()).location).await;
    study.idle().await;
    assert_eq!(stands_in(&study, "on the telephone").await, Vec::<String>::new());
    assert_eq!(stands_in(&study, &REFERENCE.to_string()).await, Vec::<String>::new());

    let list = with_somebody(members(50, SEED + 1, FIRST_RENEWAL));
    let scored = study.scored("renewals.csv", &renewals_csv(&list)).await;
    assert_eq!(scored.column("pronoia_decision").expect("decisions").text(3).as_deref(), Some("leave"));
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_is_erased_by_a_neighbour_or_by_mistake() {
    let people = with_somebody(members(1_000, SEED, FIRST_MEMBER));
    let study = Study::begun(&people, "yes").await;
    study
        .store
        .create_account("other@example.org", crate::support::PASSWORD, "Other workspace", false)
        .await
        .expect("made");
    let neighbour = Http::signed_in(&study.server, "other@example.org");
    assert_eq!(asks(&neighbour, "/erasure/person", "member_id", &ID.to_string()).status, 422);
    for (column, value, says) in [
        ("", "1", "Give the column that identifies"),
        ("member_id", " ", "Give the column that identifies"),
        ("member_id", "nobody; DROP TABLE job", "No row of this person"),
        ("no_such_column", "1", "No row of this person"),
    ] {
        let refused = asks(&study.http, "/erasure/person", column, value);
        assert!(refused.status == 422 && plain(&refused.text).contains(says), "{column} {value}: {}", refused.text);
    }
    assert!(!stands_in(&study, &ID.to_string()).await.is_empty(), "they are still here");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_comes_back_through_what_was_under_way() {
    let people = with_somebody(members(1_000, SEED, FIRST_MEMBER));
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    assert_eq!(study.post("decide", &[("line", "0")]), 303);
    let list = renewals_csv(&with_somebody(members(200, SEED + 1, FIRST_RENEWAL)));
    study.scored("renewals.csv", &list).await;
    let of_list = |page: &str| format!("/studies/{}/lists/1/{page}", study.id);
    study.http.follow(&study.http.submit(&of_list("publish"), &[]).location).await;
    // The list is answered for anew: what was scored and published before is not forgotten.
    let answered = [("column_0", "none"), ("as_annual_fee", "annual_fee")];
    study.http.submit(&of_list("answers"), &answered);
    study.idle().await;
    // A file that waits, something attached, and something remarked.
    let sent = study.http.upload(&study.http.csrf(), "waiting.csv", &list);
    study.http.follow(&sent.location).await;
    let note = format!("ask member {ID} again");
    let attached =
        study.http.remark(&format!("/studies/{}/ledger/1/remark", study.id), &note, Some(("who.csv", note.as_bytes())));
    assert_eq!(attached.status, 303);
    // A scoring whose worker has read the rows and not yet written them: it is held just before it seals.
    let table = study.store.tables(1).await.expect("tables").remove(0);
    let rows = study.store.columns(&table, None).await.expect("rows");
    study.server.run_sql("INSERT INTO job (workspace_id, title, work, state, lease, worker, heartbeat_at, started_at, attempts) \
        VALUES (1, 'Put together', '{\"do\": \"import\", \"upload\": 0}', 'running', 1, 'test', now() + interval '5 seconds', now(), 1)").await;
    let job: i64 = study.server.answer("SELECT max(id)::text FROM job").await.parse().expect("a number");
    let under = study.store.under(pronoia_store::leases::Lease { job, number: 1 });
    let mut importer = under.begin_import(1, &rows.kinds()).await.expect("begun");
    importer.add(&rows).await.expect("added");

    let erased = asks(&study.http, "/erasure/person", "member_id", &ID.to_string());
    assert_eq!(erased.status, 303, "{}", erased.text);
    let source = pronoia_store::records::TableSource { sentence: "a test".into(), rejected: 0, misfit_cells: 0 };
    let label = pronoia_store::records::Label { name: "late", source: &source, is_list: false };
    let profile = pronoia_core::profile::TableProfile::of(&rows.take(&[0, 1]));
    importer.seal(label, &profile, pronoia_store::records::SealedFor::Itself).await.expect("sealed");
    study.server.run_sql(&format!("DELETE FROM job WHERE id = {job}")).await;
    study.http.follow(&erased.location).await;
    let accepted = study.http.submit("/uploads/3/accept", &[]);
    assert_eq!(accepted.status, 303, "{}", plain(&accepted.text));
    study.http.follow(&accepted.location).await;
    study.idle().await;
    for value in [ID.to_string(), REFERENCE.to_string()] {
        assert_eq!(stands_in(&study, &value).await, Vec::<String>::new(), "{value}");
    }
    let waiting = study.store.tables(1).await.expect("tables");
    assert!(waiting.iter().any(|table| table.name == "waiting" && table.rows == 200), "everybody else came in");
    assert!(waiting.iter().any(|table| table.name == "late" && table.rows == 1_000));
    // Whoever comes again by a file of their own is a customer as any other.
    let sent = study.http.upload(&study.http.csrf(), "new.csv", &list);
    study.http.follow(&sent.location).await;
    study.http.follow(&study.http.submit("/uploads/4/accept", &[]).location).await;
    assert!(!stands_in(&study, &ID.to_string()).await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn only_owners_stop_an_erasure_and_missing_tables_do_not_end_it() {
    let people = with_somebody(members(1_000, SEED, FIRST_MEMBER));
    let mut study = Study::begun(&people, "yes").await;
    let page = study.http.submit("/people", &[("name", "Mara"), ("role", "analyst")]);
    let link = page.text.split("/join/").nth(1).and_then(|rest| rest.split('<').next()).expect("a link").to_owned();
    let fields = [("email", "mara@example.org"), ("password", crate::support::PASSWORD)];
    assert_eq!(Http::new(&study.server).post(&format!("/join/{link}"), &fields).status, 303);
    let analyst = Http::signed_in(&study.server, "mara@example.org");
    study.idle().await;
    // A table whose rows are gone though it is still remembered, as a server that was killed at the wrong moment leaves it.
    study
        .server
        .run_sql(
            "INSERT INTO record_table (workspace_id, name, version, rows, columns, source, profile, is_list) \
        SELECT workspace_id, 'lost', 1, rows, columns, source, profile, false FROM record_table LIMIT 1",
        )
        .await;
    let csrf = analyst.csrf();
    study.server.kill();
    let value = ID.to_string();
    let person = pronoia_store::erasure::Person { column: "member_id", value: &value };
    let job = study.store.erase_person((1, 1), person).await.expect("erased").job;
    study.server.run_sql(&format!("UPDATE job SET work = jsonb_set(work, '{{tables}}', (SELECT jsonb_agg(id) FROM record_table)) WHERE id = {job}")).await;
    study
        .server
        .run_sql(&format!("UPDATE job SET state = 'running', lease = 1, heartbeat_at = now() WHERE id = {job}"))
        .await;
    study.server.run().await;
    let stopped = analyst.post(&format!("/jobs/{job}/cancel"), &[("csrf", &csrf)]);
    assert!(stopped.status == 403 && stopped.text.contains("only owners"), "{}", stopped.text);
    let ended = until("it ends", || async {
        let job = study.store.job(1, job).await.ok()?;
        (!["queued", "running"].contains(&job.state.as_str())).then_some(job)
    })
    .await;
    assert_eq!(ended.state, "done", "{:?}", ended.outcome);
    assert_eq!(stands_in(&study, &ID.to_string()).await, Vec::<String>::new());
}
