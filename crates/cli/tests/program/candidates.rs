//! Candidates of several families: fitted side by side, opened, stopped, and told apart.

use std::sync::Arc;

use crate::support::study::Study;
use crate::support::{Browser, plain, until};
use pronoia_core::learn::Family;
use pronoia_demo::{FIRST_MEMBER, SEED, members};
use pronoia_store::candidates::StoredCandidate;

async fn begun(people: usize) -> Study {
    let study = Study::begun(&members(people, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study
}

#[tokio::test(flavor = "multi_thread")]
async fn every_family_is_fitted_and_says_what_it_is() {
    let study = begun(2_000).await;
    for family in Family::ALL {
        let quick: &[(&str, &str)] = match family.word {
            "forest" => &[("family", "forest"), ("trees", "30")],
            "network" => &[("family", "network"), ("epochs", "4"), ("networks", "1")],
            "neighbours" => &[("family", "neighbours"), ("most-rows", "500")],
            word => &[("family", word)],
        };
        assert_eq!(study.post("train", quick), 303, "{}", family.word);
    }
    let models = until("all are fitted", || async {
        let models = study.store.candidates(study.id, &[]).await.ok()?;
        models.iter().all(|m| m.state == "fitted").then_some(models)
    })
    .await;
    for (model, family) in models.iter().zip(Family::ALL) {
        assert_eq!(model.name, family.name);
        let page = study.page(&format!("train?model={}", model.id));
        let says = match family.word {
            "logistic" => "Association with the event",
            "scorecard" => "a customer’s points add up",
            "tree" => "Its leaves, the highest event rate first",
            "forest" => "30 trees of",
            "boosted" | "network" => "The log loss on the early-stopping rows is least",
            "bayes" => "Largest weights of evidence",
            "neighbours" => "of 500 known customers",
            _ => "What each adds to the distance",
        };
        assert!(page.contains(says), "{}: {says} in {page}", family.word);
        let fitted = study.store.model(model.id).await.expect("the model").fitted().expect("a model");
        let is_said = page.contains("Calibrat");
        assert_eq!(
            fitted.members[0].calibrated.is_some(),
            is_said,
            "{} says how its probabilities came about",
            family.word
        );
        assert!(model.score_seconds.is_some_and(|s| s > 0.0));
        let about = plain(&study.http.get(&format!("/families/{}", family.word)).text);
        assert!(about.contains(&plain(family.assumes)), "{about}");
    }
    assert_eq!(study.http.get("/families/oracle").status, 404);
    let page = study.page("train");
    assert!(page.contains("trees 30") && page.contains("default"), "settings that are not the default are named");

    // A setting out of range is refused with its range, and nothing is queued.
    let answer =
        study.http.submit(&format!("/studies/{}/train", study.id), &[("family", "boosted"), ("learning-rate", "7")]);
    assert!(answer.status == 422 && plain(&answer.text).contains("above 0 and at most 1"), "{}", plain(&answer.text));
    assert_eq!(study.store.candidates(study.id, &[]).await.expect("models").len(), Family::ALL.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_two_said_of_the_same_customers_is_kept_row_by_row() {
    let study = begun(2_000).await;
    study.fitted("logistic").await;
    study.fitted("scorecard").await;
    let ids: Vec<i64> = study.store.candidates(study.id, &[]).await.expect("models").iter().map(|m| m.id).collect();
    let paired = study.store.paired(ids[0], ids[1]).await.expect("stored").expect("both are judged");
    assert_eq!(paired.event.len(), 400, "every validation row");
    let turned = study.store.paired(ids[1], ids[0]).await.expect("stored").expect("both are judged");
    assert_eq!((&paired.first, &paired.event), (&turned.second, &turned.event));
    assert_eq!(study.store.paired(ids[0], ids[1] + 99).await.expect("stored"), None, "one that is not there");
    let model = study.store.candidates(study.id, &[]).await.expect("models").remove(0);
    let judged = model.judged().expect("stored").expect("judged");
    let area = pronoia_core::evaluate::area_under_roc(&paired.first, &paired.event, None);
    assert!((area - judged.area_under_roc).abs() < 1e-12, "the same probabilities as in its figures");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_known_of_candidates_is_read_again_only_where_it_was_changed() {
    let study = begun(2_000).await;
    study.fitted("bayes").await;
    study.fitted("scorecard").await;
    let study = &study;
    let listed = |known: Vec<Arc<StoredCandidate>>| async move {
        study.store.candidates(study.id, &known).await.expect("models")
    };
    let first = listed(vec![]).await;
    let again = listed(first.clone()).await;
    assert_eq!(again.len(), 2);
    assert!(first.iter().zip(&again).all(|(a, b)| Arc::ptr_eq(a, b)), "nothing was read twice");

    // One is proved, a third waits, and is fitted; each is seen at once, and only they are read.
    let id = first[0].id.to_string();
    assert_eq!(study.post("train/prove", &[("model", &id)]), 303);
    let proved = until("it is proved", || async {
        Some(listed(first.clone()).await).filter(|models| models[0].proved().is_ok_and(|proof| proof.is_some()))
    })
    .await;
    assert!(!Arc::ptr_eq(&first[0], &proved[0]));
    assert!(Arc::ptr_eq(&first[1], &proved[1]));
    study.fitted("logistic").await;
    let three = listed(proved.clone()).await;
    assert_eq!(three.iter().map(|m| m.state.as_str()).collect::<Vec<_>>(), ["fitted"; 3]);
    assert!(proved.iter().zip(&three).all(|(a, b)| Arc::ptr_eq(a, b)));

    // One that was taken off the list is none of them any more, nor is it on a page.
    assert_eq!(study.post("train/retire", &[("model", &id)]), 303);
    let left = listed(three.clone()).await;
    assert!(left.len() == 2 && Arc::ptr_eq(&left[0], &three[1]) && Arc::ptr_eq(&left[1], &three[2]));
    assert!(!study.page("train").contains(&format!("train?model={id}")));
}

#[tokio::test(flavor = "multi_thread")]
async fn candidates_are_fitted_watched_stopped_and_told_apart_in_a_browser() {
    let study = begun(12_000).await;
    let b = Browser::open().await;
    b.sign_in(&study.server).await;
    b.go(&format!("{}/studies/{}/train", study.server.url, study.id)).await;
    b.is_accessible("train without a candidate").await;

    // One that takes long, set by hand; its progress moves.
    b.click(".family:has([value=boosted]) summary").await;
    for (setting, value) in [("trees", "5000"), ("leaves", "1024"), ("rows-per-leaf", "1"), ("learning-rate", "0.0001")]
    {
        b.fill(&format!(".family:has([value=boosted]) [name={setting}]"), value).await;
    }
    b.click(".family:has([value=boosted]) button").await;
    b.see("[data-stage]", "Tree ").await;
    let before = b.text("[data-stage]").await;
    until("progress moves", || async { (b.text("[data-stage]").await != before).then_some(()) }).await;
    b.see("[data-curve] svg", "early-stopping rows").await;
    // Two that are done before it, and can be opened while it runs.
    // Asked for elsewhere: a page that is read again just then would swallow a click.
    for family in ["scorecard", "logistic"] {
        assert_eq!(study.post("train", &[("family", family)]), 303);
    }
    b.client.refresh().await.expect("read again");
    b.see("[data-stop='4'] .stop-figure", "2 fitted").await;
    b.click("table.columns th a[href*='model=']").await;
    b.see("#open", "of them events").await;
    assert!(b.text("main").await.contains("in progress"), "the long one still runs");
    b.click(".works-job .link").await;
    b.see("table.columns tbody", "stopped").await;
    b.is_accessible("a candidate that is open").await;

    // A search, which is watched to its end.
    b.fill("form.search [name=candidates]", "2").await;
    b.click("form.search button").await;
    b.see("h1", "Best of 2").await;
    b.press("4").await;
    b.see("[data-stop='4'] .stop-figure", "3 fitted").await;
    // Those ticked are blended, and the blend is proved to come out the same.
    for name in ["Scorecard", "Logistic regression"] {
        b.click(&format!("[aria-label='Add {name} to an ensemble']")).await;
    }
    b.click("#blend button").await;
    b.see("[data-stop='4'] .stop-figure", "4 fitted").await;
    b.click("table.columns tbody tr:first-child th a").await;
    b.see("#open", "Weights of the members").await;
    b.click("#open form[action$='prove'] button").await;
    b.see("#open", "the same model, bit for bit").await;
    b.is_accessible("a blend that is open").await;

    // Two laid over each other, and told apart.
    b.press("5").await;
    b.see("h1", "Lowest log loss").await;
    b.click("tbody tr:nth-child(1) [name=with]").await;
    b.click("tbody tr:nth-child(2) [name=with]").await;
    b.click(".beside button").await;
    b.see(".told-apart", "on the same 2 400 customers").await;
    b.see(".told-apart table", "neither acts").await;
    b.click("#curves a[href*='curve=calibration']").await;
    b.see("#curves figcaption", "Calibration of").await;
    b.click("#curves .chart-tools button:first-child").await;
    b.see("#curves table", "mean predicted probability").await;
    b.is_accessible("compare with two laid over each other").await;
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_search_tries_ends_and_leaves_what_it_found_as_a_candidate() {
    let study = begun(2_000).await;
    let search = |fields: &[(&str, &str)]| study.http.submit(&format!("/studies/{}/train/search", study.id), fields);
    for (fields, says) in [
        (vec![("candidates", "5")], "at least one family"),
        (vec![("families", "bayes"), ("candidates", "0")], "above 0"),
        (vec![("families", "bayes"), ("minutes", "soon")], "“soon” is not a number"),
        (vec![("families", "bayes"), ("measure", "profit")], "No amounts yet"),
    ] {
        let answer = search(&fields);
        assert!(answer.status == 422 && plain(&answer.text).contains(says), "{fields:?}: {}", plain(&answer.text));
    }
    let fields = [("families", "bayes"), ("families", "scorecard"), ("candidates", "6"), ("minutes", "3")];
    let answer = search(&fields);
    assert_eq!(answer.status, 303, "{}", answer.text);
    let found = until("what was found is fitted", || async {
        let models = study.store.candidates(study.id, &[]).await.ok()?;
        models.first().filter(|m| m.state == "fitted").cloned()
    })
    .await;
    assert!(found.name.ends_with(", searched"), "{}", found.name);
    let page = plain(&study.http.get(&answer.location).text);
    for says in ["Best of 6", "the number of candidates asked for", "The best was candidate", &found.name] {
        assert!(page.contains(says), "{says}: {page}");
    }
    assert!(study.page("train").contains("ended; 6 candidates tried; best so far"));
    let entered = study.store.ledger(study.id).await.expect("the ledger");
    assert!(entered.iter().any(|e| e.chosen == "Tuning ended" && e.figure.starts_with("6 candidates tried")));
    let other = Study::begun(&members(300, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(other.http.get(&answer.location).status, 404, "a search of another workspace");
}
