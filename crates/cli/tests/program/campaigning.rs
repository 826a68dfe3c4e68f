//! Campaigns over HTTP: drawn by lot, contacted, and compared once it is known what happened.

use std::collections::HashMap;

use crate::support::plain;
use crate::support::study::Study;
use pronoia_core::Table;
use pronoia_core::campaign::CampaignOutcome;
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use pronoia_core::score::{DECISION, PROBABILITY};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, Member, SEED, members, renewals_csv, renewed, renewed_csv};

/// A study whose list of renewals is scored.
async fn scored(n: usize) -> (Study, Vec<Member>, Table) {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    let policy =
        [("value_kept", "146"), ("save_rate", "30"), ("offer_cost", "24"), ("line", "0.15"), ("currency", "EUR")];
    assert_eq!(study.post("decide", &policy), 303);
    let fresh = members(n, SEED + 1, FIRST_RENEWAL);
    let table = study.scored("renewals.csv", &renewals_csv(&fresh)).await;
    (study, fresh, table)
}

async fn drawn(study: &Study, fields: &[(&str, &str)]) -> i64 {
    let list = study.store.lists(study.id).await.expect("lists")[0].id;
    let sent = study.http.submit(&format!("/studies/{}/lists/{list}/campaign", study.id), fields);
    assert_eq!(sent.status, 303, "{}", plain(&sent.text));
    study.http.follow(&sent.location).await;
    study.store.campaigns(study.id).await.expect("campaigns")[0].id
}

fn contacts(study: &Study, campaign: i64, form: &str) -> Table {
    let bytes = study.http.bytes(&format!("/studies/{}/campaigns/{campaign}/contacts.{form}", study.id));
    read_table(&bytes, &Unwatched).expect("a table").0
}

fn ids(table: &Table) -> Vec<u32> {
    let column = table.column("member_id").expect("an identifier");
    (0..table.rows()).map(|row| column.text(row).expect("one").parse().expect("a number")).collect()
}

/// Brings in what happened as a table of the records.
async fn happened(study: &Study, upload: i64, text: &[u8]) -> String {
    let sent = study.http.upload(&study.http.csrf(), "later.csv", text);
    study.http.follow(&sent.location).await;
    study.http.follow(&study.http.submit(&format!("/uploads/{upload}/accept"), &[]).location).await;
    let tables = study.store.tables(1).await.expect("tables");
    tables.iter().filter(|table| table.name == "later").map(|table| table.id).max().expect("there").to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_held_back_is_drawn_by_lot_and_what_was_changed_is_what_the_groups_say() {
    let (study, fresh, list) = scored(1_500).await;
    let acts = |row: &usize| list.column(DECISION).expect("there").text(*row).as_deref() == Some("act");
    let targets: Vec<usize> = (0..list.rows()).filter(acts).collect();
    let page = study.page("lists/1");
    assert!(page.contains(&format!("Campaign with the {} selected", targets.len())), "{page}");
    assert!(page.contains("of 100 of them would have left without it, and"), "{page}");

    let fields = [("name", "Fee holiday & more"), ("control", "120"), ("acts", "letter, call"), ("seed", "7")];
    for (field, value, says) in [
        ("name", " ", "Give the campaign a name"),
        ("control", "100000", "The control group has 0 to"),
        ("control", "some", "The control group has 0 to"),
        ("acts", " , ", "Name one to 6"),
        ("acts", "letter, letter", "is not a distinct name"),
        ("acts", "control group", "is not a distinct name"),
        ("seed", "x", "is a whole number"),
    ] {
        let wrong: Vec<(&str, &str)> = fields.iter().map(|f| if f.0 == field { (field, value) } else { *f }).collect();
        let refused = study.http.submit(&format!("/studies/{}/lists/1/campaign", study.id), &wrong);
        assert!(refused.status == 422 && plain(&refused.text).contains(says), "{value}: {}", plain(&refused.text));
    }
    let campaign = drawn(&study, &fields).await;
    let file = contacts(&study, campaign, "csv");
    assert_eq!(file.rows(), targets.len() - 120);
    let chosen: Vec<u32> = targets.iter().map(|&row| fresh[row].id).collect();
    let contacted = ids(&file);
    assert!(contacted.iter().all(|id| chosen.contains(id)), "nobody else is contacted");
    let arm = |row: usize| file.column("pronoia_arm").expect("an arm").text(row).expect("one");
    let letters = (0..file.rows()).filter(|&row| arm(row) == "letter").count();
    assert!((letters as i64 - (file.rows() - letters) as i64).abs() <= 4, "{letters} of {}", file.rows());
    // The groups are alike: drawn within quarters of the probabilities.
    let mean = |those: &dyn Fn(u32) -> bool| {
        let p: Vec<f64> = targets
            .iter()
            .filter(|&&row| those(fresh[row].id))
            .map(|&row| list.column(PROBABILITY).expect("told").number(row).expect("a number"))
            .collect();
        p.iter().sum::<f64>() / p.len() as f64
    };
    let apart = mean(&|id| contacted.contains(&id)) - mean(&|id| !contacted.contains(&id));
    assert!(apart.abs() < 0.03, "{apart}");
    assert_eq!(ids(&contacts(&study, campaign, "parquet")), contacted);
    // The same number gives the same lots.
    let again = drawn(&study, &fields).await;
    assert_eq!(ids(&contacts(&study, again, "jsonl")), contacted);
    assert!(study.page(&format!("campaigns/{campaign}")).contains("control group of 120"));

    // A quarter later.
    let renewed = renewed(&fresh, &contacted, 11);
    let table = happened(&study, 3, &renewed_csv(&renewed)).await;
    let reading = study.page(&format!("campaigns/{campaign}?from={table}"));
    assert!(reading.contains("cancelled is yes") && reading.contains("<option selected>member_id"), "{reading}");
    let said = [("table", table.as_str()), ("own_key", "member_id"), ("key", "member_id"), ("absent", "left-out")];
    let with = |event: &'static str, money: &'static str| [&said[..], &[("event", event), ("money", money)]].concat();
    let post = |fields: &[(&str, &str)]| {
        study.http.submit(&format!("/studies/{}/campaigns/{campaign}/results", study.id), fields)
    };
    assert!(post(&with("", "")).text.contains("Choose the outcome column and the value"));
    assert!(plain(&post(&with("cancelled\nyes", "worth")).text).contains("has no column “worth”"));
    let failed = study.http.follow(&post(&with("cancelled\nnever", "")).location).await;
    assert!(plain(&failed.text).contains("Nobody in later has “never”"), "{}", plain(&failed.text));
    let page = plain(&study.http.follow(&post(&with("cancelled\nyes", "brought")).location).await.text);
    let stored = study.store.campaign(campaign).await.expect("there").outcome.expect("compared");
    let found: CampaignOutcome = serde_json::from_value(stored).expect("read");
    let results = found.results.expect("both groups");
    let of: HashMap<u32, (bool, f64)> = renewed.iter().map(|r| (r.id, (r.cancelled, r.brought))).collect();
    let (held, acted): (Vec<u32>, Vec<u32>) = chosen.iter().partition(|id| !contacted.contains(id));
    let left = |ids: &[u32]| ids.iter().filter(|id| of[id].0).count() as u64;
    assert_eq!((results.all.control.rows, results.all.control.events), (120, left(&held)));
    assert_eq!((results.all.acted.rows, results.all.acted.events), (acted.len() as u64, left(&acted)));
    // Money is that of the ledger.
    let sum = |ids: &[u32]| ids.iter().map(|id| of[id].1).sum::<f64>();
    let ledger = sum(&acted) - sum(&held) / 120.0 * acted.len() as f64;
    assert!((results.money.expect("read").0 - ledger).abs() < 0.01 * acted.len() as f64, "{ledger}");
    assert_eq!(results.acts.iter().map(|act| act.acted.rows).sum::<u64>(), acted.len() as u64);
    let learned = found.learned.expect("a save rate");
    let ratio = (left(&acted) as f64 / acted.len() as f64) / (left(&held) as f64 / 120.0);
    assert!((learned.found - (1.0 - ratio)).abs() < 1e-9 && learned.word == "save_rate");
    for says in ["control group", "letter", "call", "all acted on", "from the column of results", "“Save rate”: "] {
        assert!(page.contains(says), "{says}: {page}");
    }
    // A customer of another study's campaign is not found, nor anybody else's page.
    assert_eq!(study.http.get(&format!("/studies/{}/campaigns/{}", study.id, campaign + 50)).status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn results_that_lack_people_or_a_control_group_are_said_to() {
    let (study, fresh, _) = scored(600).await;
    let campaign = drawn(&study, &[("name", "All of them"), ("control", "0"), ("acts", "letter"), ("seed", "1")]).await;
    assert!(study.page(&format!("campaigns/{campaign}")).contains("no control group"));
    let contacted = ids(&contacts(&study, campaign, "csv"));
    // Only those who left are reported, one of them twice.
    let renewed = renewed(&fresh, &contacted, 11);
    let left: Vec<_> = renewed.iter().filter(|r| r.cancelled).copied().collect();
    let text = [renewed_csv(&left), format!("{},yes,0\n", left[0].id).into_bytes()].concat();
    let table = happened(&study, 3, &text).await;
    let fields = [
        ("table", table.as_str()),
        ("own_key", "member_id"),
        ("key", "member_id"),
        ("absent", "none"),
        ("event", "cancelled\nyes"),
        ("money", ""),
    ];
    let read =
        |campaign: i64| study.http.submit(&format!("/studies/{}/campaigns/{campaign}/results", study.id), &fields);
    let page = plain(&study.http.follow(&read(campaign).location).await.text);
    assert!(page.contains("No control group, no estimate"), "{page}");

    let half = (contacted.len() / 2).to_string();
    let campaign = drawn(&study, &[("name", "Half"), ("control", &half), ("acts", "letter"), ("seed", "1")]).await;
    let page = plain(&study.http.follow(&read(campaign).location).await.text);
    let found: CampaignOutcome =
        serde_json::from_value(study.store.campaign(campaign).await.expect("there").outcome.expect("compared"))
            .expect("read");
    let results = found.results.expect("both groups");
    assert_eq!(results.all.acted.rows + results.all.control.rows, contacted.len() as u64, "nobody is left out");
    assert!(found.assumed_amounts && found.twice == 1 && found.absent[0] > 0, "{:?}", found.absent);
    for says in ["count as without the event", "with the amounts of the policy", "1 customer is in it more than once"] {
        assert!(page.contains(says), "{says}: {page}");
    }
}
