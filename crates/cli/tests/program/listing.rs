//! Lists over HTTP: matched with what somebody says, scored, looked through, and taken away.

use crate::support::plain;
use crate::support::study::Study;
use pronoia_core::Table;
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use pronoia_core::score::{BAND, ColumnPairing, DECISION, GAIN, PROBABILITY, REASONS, REMARK};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, renewals_as_sent_csv, renewals_csv};

/// A study with a policy, and its members.
async fn decided(n: usize) -> (Study, Vec<pronoia_demo::Member>) {
    let people = members(n, SEED, FIRST_MEMBER);
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    assert_eq!(study.post("decide", &[("value_kept", "0.8 * annual_fee"), ("line", "0.2")]), 303);
    (study, people)
}

impl Brought<'_> {
    fn page(&self) -> String {
        self.study.page(&format!("lists/{}", self.id))
    }

    async fn send(&self, form: &str, fields: &[(&str, &str)]) -> String {
        let sent = self.study.http.submit(&format!("/studies/{}/lists/{}/{form}", self.study.id, self.id), fields);
        assert_eq!(sent.status, 303, "{}", plain(&sent.text));
        plain(&self.study.http.follow(&sent.location).await.text)
    }

    async fn file(&self, query: &str) -> Table {
        let address = format!("/studies/{}/lists/{}/scored.{query}", self.study.id, self.id);
        read_table(&self.study.http.bytes(&address), &Unwatched).expect("a table").0
    }
}

/// A list of a study.
struct Brought<'s> {
    study: &'s Study,
    id: i64,
}

async fn brought<'s>(study: &'s Study, name: &str, bytes: &[u8]) -> Brought<'s> {
    let sent = study.http.upload_list(study.id, name, bytes);
    study.http.follow(&sent.location).await;
    Brought { study, id: study.store.lists(study.id).await.expect("lists")[0].id }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_as_it_was_sent_is_asked_about_and_then_scored() {
    let (study, people) = decided(3_000).await;
    let fresh = members(500, SEED + 1, FIRST_RENEWAL);
    let sent = renewals_as_sent_csv(&fresh, &people[..40]);
    let list = brought(&study, "branch.csv", &sent).await;
    let page = list.page();
    for says in [
        "2 columns need a mapping before branch can be scored",
        "perhaps it is “Months since last visit”",
        "40 customers are in the records already, by member_id",
        "a value never seen in training: “Premium”",
        "rows lie far outside the",
        "strong drift since training",
    ] {
        assert!(page.contains(says), "{says}: {page}");
    }
    // Nothing is scored before there is an answer, and no column is read twice.
    let address = |form: &str| format!("/studies/{}/lists/{}/{form}", study.id, list.id);
    let refused = study.http.submit(&address("score"), &[]);
    assert!(refused.status == 422 && refused.text.contains("missing and not mapped"), "{}", refused.text);
    let report = study.store.list(list.id).await.expect("the list").matched().expect("read");
    let field = |name: &str| format!("a{}", report.inputs.iter().position(|i| i.name == name).expect("needed"));
    let (visit, pets) = (field("months_since_visit"), field("pets"));
    let column = "column:Months since last visit";
    for (fields, says) in [
        ([(visit.as_str(), column), (pets.as_str(), column)], "cannot be read as both"),
        ([(visit.as_str(), "column:gone"), (pets.as_str(), "nothing")], "has no such column"),
    ] {
        let refused = study.http.submit(&address("answers"), &fields);
        assert!(refused.status == 422 && plain(&refused.text).contains(says), "{says}: {}", plain(&refused.text));
    }
    let page = list.send("answers", &[(&visit, column), (&pets, "nothing")]).await;
    assert!(page.contains("branch can be scored; 4 remarks"), "{page}");
    assert!(page.contains("Confirmed mappings"), "{page}");

    let extras = [("gain", "yes"), ("band", "yes"), ("remarks", "yes"), ("reasons", "2")];
    let refused = study.http.submit(&address("score"), &[("reasons", "many")]);
    assert!(refused.status == 422 && refused.text.contains("Between 0 and 10 reasons"), "{}", refused.text);
    let page = list.send("score", &extras).await;
    assert!(page.contains("of 540 customers. Expected incremental profit"), "{page}");
    let all = list.file("csv").await;
    assert_eq!(all.rows(), 540);
    let text = |table: &Table, name: &str, row: usize| table.column(name).expect("there").text(row);
    let known: Vec<usize> =
        (0..540).filter(|&row| text(&all, REMARK, row).unwrap_or_default().contains("was in training")).collect();
    let report = study.store.list(list.id).await.expect("the list").matched().expect("read").known.expect("looked for");
    assert_eq!((report.in_records, report.fitted_to), (40, known.len() as u64));
    assert!(known.iter().all(|&row| row < 40) && known.len() > 10, "{known:?}");
    assert!((0..540).all(|row| text(&all, REASONS, row).is_some_and(|said| said.split("; ").count() <= 2)));

    // The next list with the same columns needs no answer.
    let next = brought(&study, "branch_again.csv", &renewals_as_sent_csv(&fresh[..100], &[])).await;
    let page = next.page();
    assert!(page.contains("Copied from branch, which has the same columns"), "{page}");
    let report = study.store.list(next.id).await.expect("the list").matched().expect("read");
    assert!(report.is_complete() && report.inputs.iter().any(|i| i.paired == ColumnPairing::Nothing));
    // Changed, the answer of a scored list means that it is scored again.
    let page = list.send("answers", &[(&visit, "nothing"), (&pets, "nothing")]).await;
    assert!(page.contains("branch can be scored") && page.contains("Score"), "{page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scored_list_is_looked_through_and_taken_away_in_every_form() {
    let (study, _) = decided(3_000).await;
    let fresh = members(600, SEED + 1, FIRST_RENEWAL);
    let list = brought(&study, "renewals.csv", &renewals_csv(&fresh)).await;
    assert!(list.page().contains("renewals fits the model: 600 customers can be scored."), "{}", list.page());
    list.send("score", &[("gain", "yes"), ("band", "yes"), ("reasons", "0")]).await;
    let all = list.file("csv").await;
    let number = |name: &str, row: usize| all.column(name).expect("there").number(row).expect("a number");
    let acts = |row: &usize| all.column(DECISION).expect("there").text(*row).as_deref() == Some("act");
    let acted: Vec<usize> = (0..600).filter(acts).collect();
    let gain: f64 = acted.iter().map(|&row| number(GAIN, row)).sum();
    let stored = study.store.list(list.id).await.expect("the list");
    assert_eq!(stored.acted, Some(acted.len() as i64));
    assert!((stored.gain.expect("a gain") - gain).abs() < 0.01 * acted.len() as f64, "{gain} {:?}", stored.gain);
    assert!((0..600).all(|row| (1.0..=10.0).contains(&number(BAND, row))));

    // Every form holds the same; columns and rows are those asked for.
    for form in ["xlsx", "parquet", "jsonl"] {
        let table = list.file(form).await;
        assert_eq!((table.rows(), table.columns().len()), (600, all.columns().len()), "{form}");
        let there = table.column(PROBABILITY).expect("there");
        assert!(
            (0..600).all(|row| (there.number(row).expect("a number") - number(PROBABILITY, row)).abs() < 1e-9),
            "{form}"
        );
    }
    let some = list.file("csv?rows=act&columns=pronoia_gain,%20member_id").await;
    let names: Vec<&str> = some.columns().iter().map(|c| c.name.as_str()).collect();
    assert_eq!((names, some.rows()), (vec![GAIN, "member_id"], acted.len()));
    let refused = |query: &str| {
        let answer = study.http.get(&format!("/studies/{}/lists/{}/scored.{query}", study.id, list.id));
        (answer.status, plain(&answer.text))
    };
    assert!(refused("csv?columns=member").1.contains("no column “member”"));
    assert_eq!((refused("csv?rows=some").0, refused("exe").0), (422, 404));

    // Sorted and filtered by a condition, or told where that is wrong.
    let page = |query: &str| study.page(&format!("lists/{}?{query}", list.id));
    let dear = (0..600).filter(|&row| number("annual_fee", row) > 300.0 && acts(&row)).count();
    let found = page("where=annual_fee+%3E+300+AND+pronoia_decision+%3D+%27act%27&sort=annual_fee&descending=true");
    assert!(found.contains(&format!("{dear} of 600 customers")), "{dear}: {found}");
    let wrong = page("where=anual_fee+%3E+300");
    assert!(wrong.contains("There is no column “anual_fee”") && wrong.contains("anual_fee &#62; 300"), "{wrong}");
    assert!(page("where=annual_fee+%3C+0").contains("No customer matches"));
    assert_eq!(study.http.get(&format!("/studies/{}/lists/{}?sort=gone", study.id, list.id)).status, 422);
    // Added up by groups, the parts are the whole.
    let groups = page("by=species");
    for species in ["dog", "cat", "rabbit"] {
        let of: Vec<usize> = acted
            .iter()
            .copied()
            .filter(|&row| all.column("species").expect("there").text(row).as_deref() == Some(species))
            .collect();
        let worth: f64 = of.iter().map(|&row| number(GAIN, row)).sum();
        assert!(
            groups.contains(&format!("“{species}”"))
                && groups.contains(&pronoia_core::number::money(worth).replace('\u{202f}', " ")),
            "{species} {worth}: {groups}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_table_of_the_records_may_be_a_list() {
    let (study, people) = decided(2_000).await;
    let sent = study.http.upload(&study.http.csrf(), "later.csv", &renewals_csv(&people[..50]));
    study.http.follow(&sent.location).await;
    study.http.follow(&study.http.submit("/uploads/2/accept", &[]).location).await;
    let table = study.store.tables(1).await.expect("tables").into_iter().find(|t| t.name == "later").expect("there").id;
    let sent = study.http.submit(&format!("/studies/{}/lists", study.id), &[("table", &table.to_string())]);
    let page = plain(&study.http.follow(&sent.location).await.text);
    assert!(page.contains("later can be scored") && page.contains("50 customers are in the records already"), "{page}");
    // Asked for twice, it is one list.
    let again = study.http.submit(&format!("/studies/{}/lists", study.id), &[("table", &table.to_string())]);
    study.http.follow(&again.location).await;
    assert_eq!(study.store.lists(study.id).await.expect("lists").len(), 1);
    assert_eq!(study.http.submit(&format!("/studies/{}/lists", study.id), &[("table", "999999")]).status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_matched_by_an_earlier_version_is_still_read() {
    let (mut study, _) = decided(2_000).await;
    study.server.kill();
    let id = study.id;
    study
        .server
        .run_sql(&format!(
            "DELETE FROM seaql_migrations WHERE version = 'm0011_matching';
             ALTER TABLE list DROP COLUMN answers, DROP COLUMN extras, DROP COLUMN gain, DROP COLUMN lacking;
             INSERT INTO list (study_id, table_id, model_id, policy, report, state)
                 SELECT {id}, table_id, (state -> 'policy' ->> 'model_id')::bigint, state -> 'policy', '{{\"rows\": 3, \"unused\": [],
                 \"inputs\": [{0}, {1}, {2}]}}', 'matched' FROM study WHERE id = {id};",
            input("pets", "\"pets\""),
            input("annual_fee", "\"Annual Fee\""),
            input("district", "null"),
        ))
        .await;
    study.server.run().await;
    let report = study.store.lists(id).await.expect("lists")[0].matched().expect("read");
    let paired: Vec<&ColumnPairing> = report.inputs.iter().map(|input| &input.paired).collect();
    assert_eq!(
        paired,
        [&ColumnPairing::Name, &ColumnPairing::Spelling("Annual Fee".into()), &ColumnPairing::Open(None)]
    );
    let list = study.store.lists(id).await.expect("lists")[0].id;
    assert!(
        study.page(&format!("lists/{list}")).contains("1 column needs a mapping"),
        "{}",
        study.page(&format!("lists/{list}"))
    );
}

/// A column as the version before wrote it down.
fn input(name: &str, found: &str) -> String {
    format!(
        "{{\"name\": \"{name}\", \"kind\": \"number\", \"found\": {found}, \"missing\": 0, \"unreadable\": 0, \"unseen\": [], \
         \"unseen_rows\": 0, \"out_of_range\": 0, \"range\": null}}"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_customers_scored_twice_stand_side_by_side() {
    let (study, _) = decided(2_500).await;
    let fresh = members(400, SEED + 1, FIRST_RENEWAL);
    let first = brought(&study, "renewals.csv", &renewals_csv(&fresh)).await;
    first.send("score", &[("gain", "on")]).await;
    assert!(!first.page().contains("side by side"));
    // Another model, and another line.
    study.fitted("boosted").await;
    let boosted = study.store.candidates(study.id, &[]).await.expect("models")[1].id.to_string();
    let other = [("value_kept", "0.8 * annual_fee"), ("line", "0.3"), ("model", boosted.as_str())];
    assert_eq!(study.post("decide", &other), 303);
    assert!(first.page().contains("Score the same customers with it, too"));
    first.send("again", &[]).await;
    let lists = study.store.lists(study.id).await.expect("lists");
    let second = Brought { study: &study, id: lists[0].id };
    assert!(lists.len() == 2 && lists[0].table_id == lists[1].table_id);
    second.send("score", &[("gain", "on")]).await;

    let page = first.page();
    assert!(page.contains("The same customers are scored by Boosted trees"), "{page}");
    // Other programs read either as a table, the one before until there is another.
    for _ in 0..2 {
        let page = first.send("publish", &[]).await;
        assert!(page.contains("Published as <code>published_1.renewals_scored</code>"), "{page}");
    }
    // Whoever was let in stays so, and what they built on it stands; another list has a name of its own.
    let role = format!("reader_{}", study.server.process_id());
    study.server.run_sql(&format!(
        "CREATE ROLE {role}; GRANT SELECT ON published_1.renewals_scored TO {role}; CREATE VIEW seen AS SELECT * FROM published_1.renewals_scored"
    )).await;
    first.send("publish", &[]).await;
    let lets_in = format!("SELECT has_table_privilege('{role}', 'published_1.renewals_scored', 'SELECT')::text");
    assert_eq!(study.server.answer(&lets_in).await, "true");
    assert_eq!(study.server.answer("SELECT count(*)::text FROM seen").await, "400");
    let of_second = second.send("publish", &[]).await;
    let own = format!("published_1.renewals_scored_{}", second.id);
    assert!(of_second.contains(&format!("<code>{own}</code>")), "{of_second}");
    let sql = "SELECT count(*)::text FROM published_1.renewals_scored WHERE pronoia_decision = 'act'";
    let acted = study.server.answer(sql).await;
    let by_first = first.file("csv").await;
    let expected =
        (0..400).filter(|&row| by_first.column(DECISION).expect("decided").text(row).as_deref() == Some("act"));
    assert_eq!(acted, expected.count().to_string());

    let page = study.page(&format!("lists/{}/beside/{}", first.id, second.id));
    let [one, two] = [first.file("csv").await, second.file("csv").await];
    let decision = |table: &Table, row: usize| table.column(DECISION).expect("decided").text(row).expect("a word");
    let count = |what: &dyn Fn(&str, &str) -> bool| {
        (0..400).filter(|&row| what(&decision(&one, row), &decision(&two, row))).count()
    };
    let moved = count(&|a, b| a != b);
    assert!(moved > 0);
    assert!(page.contains(&format!("The decision differs for {moved} of 400 customers.")), "{page}");
    let (only_first, only_second) = (count(&|a, b| a == "act" && b != "act"), count(&|a, b| a != "act" && b == "act"));
    let says = format!("{only_first} are selected by the first only, {only_second} by the second only");
    assert!(page.contains(&says), "{says}: {page}");
    let back = study.page(&format!("lists/{}/beside/{}", second.id, first.id));
    assert!(back.contains(&format!("{only_second} are selected by the first only")), "{back}");
    for address in [format!("lists/{0}/beside/{0}", first.id), format!("lists/{}/beside/999", first.id)] {
        assert_eq!(study.http.get(&format!("/studies/{}/{address}", study.id)).status, 404, "{address}");
    }
    // Another line alone is another policy, too; the same one is not.
    assert_eq!(study.post("decide", &[("line", "0.35"), ("model", boosted.as_str())]), 303);
    first.send("again", &[]).await;
    first.send("again", &[]).await;
    let lists = study.store.lists(study.id).await.expect("lists");
    assert!(lists.len() == 3 && lists.iter().all(|list| list.table_id == lists[0].table_id));
    let others = brought(&study, "others.csv", &renewals_csv(&members(50, SEED + 2, FIRST_RENEWAL))).await;
    let refused = study.http.get(&format!("/studies/{}/lists/{}/beside/{}", study.id, first.id, others.id));
    assert!(refused.status == 422 && refused.text.contains("only lists of the same customers"), "{}", refused.text);
}
