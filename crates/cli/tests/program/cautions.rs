//! Cautions in a study: raised, mended, kept for a reason, and taken back; the split and the balance.

use crate::support::study::Study;
use crate::support::{Browser, until};
use pronoia_core::balance::BalanceMethod;
use pronoia_core::split::SplitMethod;
use pronoia_core::study::CautionKind;
use pronoia_core::study::Outcome;
use pronoia_demo::{FIRST_MEMBER, SEED, members};

/// Four thousand rows; two hundred members stand in two of them.
async fn begun(event: &str) -> Study {
    let mut people = members(4_000, SEED, FIRST_MEMBER);
    (0..200).for_each(|at| people[3_000 + at].id = people[at].id);
    let study = Study::begun(&people, event).await;
    study.looked_at().await;
    study
}

#[tokio::test(flavor = "multi_thread")]
async fn a_remedy_applies_itself_and_can_be_taken_back() {
    let study = begun("yes").await;
    assert!(study.raised(CautionKind::RepeatedCustomers).await);
    study.mend(CautionKind::RepeatedCustomers, "member_id").await;
    assert_eq!(study.state().await.split.together.as_deref(), Some("member_id"));
    assert!(!study.raised(CautionKind::RepeatedCustomers).await);
    study.mend(CautionKind::KnownAfterwards, "exit_survey_sent").await;
    assert!(!study.page("prepare/cautions").contains("<h2>Possible leakage: exit_survey_sent may be known"));
    // Mended already: said, and nothing happens.
    let again = [("rule", "known-afterwards"), ("about", "exit_survey_sent")];
    assert_eq!(study.post("prepare/cautions", &again), 422);

    let ledger = study.store.ledger(study.id).await.expect("the ledger");
    let newest = ledger.iter().find(|e| e.can_be_taken_back()).expect("a choice");
    assert_eq!(newest.chosen, "Exclude it: exit_survey_sent");
    assert_eq!(study.post("take-back", &[("entry", &newest.id.to_string()), ("back", "prepare")]), 303);
    study.looked_at().await;
    assert!(study.page("prepare/cautions").contains("<h2>Possible leakage: exit_survey_sent may be known"));
    drop(study.server);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_kept_needs_a_reason_and_stays_listed_with_it() {
    let study = begun("yes").await;
    let kept = |because: &str| {
        let fields = [("rule", "stand-in"), ("about", "retired_discount"), ("because", because)];
        study.post("prepare/cautions", &fields)
    };
    assert_eq!(kept("  "), 422, "no reason");
    assert_eq!(kept(&"x".repeat(301)), 422, "too long a one");
    assert_eq!(kept("a term of the <b>plan</b>"), 303);
    let page = study.http.get(&format!("/studies/{}/prepare/cautions", study.id)).text;
    assert!(page.contains("Accepted cautions") && page.contains("a term of the &#60;b&#62;plan"), "{page}");
    assert!(study.state().await.columns.iter().any(|c| c.name == "retired_discount" && c.goes_in()));
    let unknown = [("rule", "moonlight"), ("about", "pets")];
    assert_eq!(study.post("prepare/cautions", &unknown), 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_wrong_event_is_turned_round() {
    let study = begun("no").await;
    assert!(study.page("prepare/cautions").contains("“no” may not be the event"));
    study.mend(CautionKind::ReversedOutcome, "cancelled").await;
    assert_eq!(study.state().await.outcome, Some(Outcome::is("cancelled", "yes")));
    assert!(!study.page("prepare/cautions").contains("may not be the event"));
}

#[tokio::test(flavor = "multi_thread")]
async fn customers_are_dealt_out_as_chosen_or_it_is_said_why_not() {
    let study = begun("yes").await;
    let base = [("training", "50"), ("validation", "25"), ("seed", "7"), ("together", "")];
    let deal = |more: &[(&'static str, &'static str)]| {
        let fields: Vec<(&str, &str)> =
            base.iter().filter(|b| more.iter().all(|m| m.0 != b.0)).chain(more).copied().collect();
        study.post("prepare/split", &fields)
    };
    for wrong in [
        vec![("by", "lot"), ("training", "80")],
        vec![("by", "lot"), ("seed", "many")],
        vec![("by", "time"), ("time", "no such column")],
        vec![("by", "marker"), ("marker", "species"), ("test_value", "")],
        vec![("by", "marker"), ("marker", "species"), ("test_value", "unicorn")],
        vec![("by", "moon")],
    ] {
        assert_eq!(deal(&wrong), 422, "{wrong:?}");
    }
    assert_eq!(study.state().await.split.by, SplitMethod::AtRandom);
    assert_eq!(deal(&[("by", "time"), ("time", "renewal_on")]), 303);
    study.looked_at().await;
    let page = study.page("prepare/split");
    assert!(page.contains("Split by time: the newest by renewal_on") && page.contains("sealed"), "{page}");
    assert_eq!(deal(&[("by", "marker"), ("marker", "species"), ("test_value", "rabbit")]), 303);
    study.looked_at().await;
    let survey = study.store.finding_in_short(study.id).await.expect("stored").expect("found").survey;
    let rabbits = members(4_000, SEED, FIRST_MEMBER).iter().filter(|m| m.species == "rabbit").count() as u64;
    assert_eq!(survey.test, rabbits);
    assert_eq!(survey.training.rows + survey.validation.rows + rabbits, 4_000);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_balanced_model_says_so_and_its_probabilities_hold() {
    let study = begun("yes").await;
    study.post("prepare/leave-out", &[]);
    assert_eq!(study.post("prepare/split/balance", &[("method", "synthetic-rows"), ("share", "70")]), 422);
    assert_eq!(study.post("prepare/split/balance", &[("method", "synthetic-rows"), ("share", "40")]), 303);
    study.looked_at().await;
    assert_eq!(study.state().await.balance.method, BalanceMethod::SyntheticRows);
    let page = study.page("prepare/split");
    assert!(page.contains("of them are synthetic") && page.contains("(40.0 %)"), "{page}");
    assert_eq!(study.post("train", &[("family", "logistic")]), 303);
    let model = until("the model is fitted", || async {
        study.store.candidates(study.id, &[]).await.ok()?.into_iter().find(|m| m.state == "fitted")
    })
    .await;
    let evaluation = model.judged().expect("stored").expect("judged");
    let rate = evaluation.events as f64 / evaluation.rows as f64;
    assert!((evaluation.mean_probability - rate).abs() < 0.03, "{} {rate}", evaluation.mean_probability);
}

#[tokio::test(flavor = "multi_thread")]
async fn cautions_and_split_are_used_in_a_browser() {
    let study = begun("yes").await;
    let b = Browser::open().await;
    b.sign_in(&study.server).await;
    let page = |name: &str| format!("{}/studies/{}/{name}", study.server.url, study.id);
    b.go(&page("prepare")).await;
    b.click(".ledger .cautions .more a").await;
    b.see("h1", "could bias the results").await;
    b.is_accessible("the cautions").await;
    let of = "li[id^=stand-in]";
    b.fill(&format!("{of} [name=because]"), "looked at by age before every release").await;
    b.click(&format!("{of} .keep button")).await;
    b.see("table", "looked at by age before every release").await;
    b.see(".ledger .entries li", "Accepted: retired_discount is a proxy").await;
    b.press("u").await;
    b.see(".entries .taken-back", "Accepted: retired_discount").await;
    b.go(&page("prepare/cautions")).await;
    b.see(of, "retired_discount is a proxy for owner_age_band").await;
    b.go(&page("prepare/split")).await;
    b.is_accessible("the split").await;
    b.click("input[value=time]").await;
    b.click(".dealing button").await;
    b.see("h1", "Split by time: the newest by").await;
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn no_step_and_no_role_lets_the_outcome_in() {
    let study = begun("yes").await;
    let as_predictor = [("column", "cancelled"), ("role", "predictor"), ("known_when", "before")];
    assert_eq!(study.post("prepare/column", &as_predictor), 422);
    for (kind, more) in
        [("derive", ("expression", "CASE WHEN cancelled = 'yes' THEN 1 ELSE 0 END")), ("group-rare", ("fewest", "5"))]
    {
        let fields = [("kind", kind), ("column", "cancelled"), ("name", "hint"), more];
        assert_eq!(study.post("prepare/steps", &fields), 422, "{kind}");
    }
    let basis = study.state().await.basis().expect("a basis");
    assert!(basis.steps.is_empty() && !basis.predictors.contains(&"cancelled".to_owned()), "{:?}", basis.predictors);
}

#[tokio::test(flavor = "multi_thread")]
async fn accuracy_stands_beside_that_of_saying_no_to_everybody() {
    let study = begun("yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("logistic").await;
    let model = study.store.candidates(study.id, &[]).await.expect("models").remove(0);
    let evaluation = model.judged().expect("read").expect("judged");
    let page = study.page("compare?measures=actions");
    let others = evaluation.rows - evaluation.events;
    let said = format!("Predicting “no” for everyone is correct for {others} of {}", evaluation.rows);
    assert!(page.contains(&said), "{said}: {page}");
    // And in the table, as a line of its own.
    let line = page.split("<tr").find(|row| row.contains("predicting “no” for everyone")).expect("a baseline");
    let accuracy = crate::support::plain(&pronoia_core::number::percent(evaluation.accuracy_of_no()));
    assert!(line.contains(&accuracy), "{accuracy}: {line}");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_mistake_is_listed_with_what_becomes_of_it_in_the_study() {
    let study = begun("yes").await;
    study.looked_at().await;
    let page = study.page("prepare/cautions");
    assert!(page.contains("All 38 known mistakes"), "{page}");
    let of = |page: &str, what: &str| {
        let table = page.split("all-mistakes").nth(1).expect("the table");
        let row = table.split("<tr>").find(|row| row.contains(what)).unwrap_or_else(|| panic!("{what}")).to_owned();
        ["cannot be", "accepted", "not found", "found", "stated where it matters"]
            .into_iter()
            .find(|status| row.contains(&format!(">{status}<")))
            .unwrap_or_else(|| panic!("{row}"))
    };
    assert_eq!(of(&page, "Probabilities stay distorted"), "cannot be");
    assert_eq!(of(&page, "Codes are read as quantities"), "not found");
    assert_eq!(of(&page, "known only afterwards"), "found");
    assert_eq!(of(&page, "A join duplicates"), "stated where it matters");
    for column in ["exit_survey_sent", "days_since_last_login"] {
        let fields = [("rule", "known-afterwards"), ("about", column), ("because", "as an exercise")];
        study.post("prepare/cautions", &fields);
    }
    assert_eq!(of(&study.page("prepare/cautions"), "known only afterwards"), "accepted");
}
