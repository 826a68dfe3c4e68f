//! Choices of who takes part and who judges, from the page to the figures.

use crate::support::study::Study;
use crate::support::{Browser, plain};
use pronoia_demo::{FIRST_MEMBER, SEED, members};

const MEMBERS: usize = 2_000;

async fn begun() -> Study {
    let study = Study::begun(&members(MEMBERS, SEED, FIRST_MEMBER), "yes").await;
    study.post("prepare/leave-out", &[]);
    study.looked_at().await;
    study
}

/// The split by lot, with changes.
fn dealt(study: &Study, changes: &[(&str, &str)]) -> u16 {
    let mut fields = vec![("by", "lot"), ("training", "60"), ("validation", "20"), ("seed", "7"), ("folds", "")];
    for (field, value) in changes {
        fields.iter_mut().filter(|f| f.0 == *field).for_each(|f| f.1 = value);
    }
    study.post("prepare/split", &fields)
}

#[tokio::test(flavor = "multi_thread")]
async fn cross_validation_judges_all_that_is_not_sealed_and_the_seal_still_confirms() {
    let study = begun().await;
    for folds in ["1", "two", "21", "-5"] {
        assert_eq!(dealt(&study, &[("folds", folds)]), 422, "{folds}");
    }
    assert_eq!(dealt(&study, &[("folds", "5")]), 303);
    study.looked_at().await;
    let page = plain(&study.page("prepare/split"));
    assert!(page.contains("Models are chosen by 5-fold cross-validation"), "{page}");
    assert!(page.contains("the same; each fold is predicted out of fold"), "{page}");
    study.fitted("logistic").await;
    let id = study.store.candidates(study.id, &[]).await.expect("models")[0].id;
    let model = study.store.model(id).await.expect("stored");
    let unsealed = MEMBERS as u64 * 8 / 10;
    let judged = model.judged().expect("stored").expect("judged");
    assert_eq!(judged.rows, unsealed);
    assert_eq!(model.fitted().expect("a model").rows, unsealed, "fitted to all folds in the end");
    let figure = &study.store.ledger(study.id).await.expect("the ledger")[0].figure;
    assert!(
        figure.contains("on 1 600 out-of-fold rows") || plain(figure).contains("on 1 600 out-of-fold rows"),
        "{figure}"
    );
    assert!(plain(&study.page("compare")).contains("1 600 out-of-fold customers"));
    assert_eq!(study.post("decide", &[("population", "1000")]), 303);
    assert!(plain(&study.page("decide")).contains("Evaluated on 1 600 out-of-fold customers"));
    assert_eq!(study.post("decide/confirm", &[]), 303);
    crate::support::until("the test is opened", || async {
        study.store.study(1, study.id).await.ok()?.confirmation.map(|_| ())
    })
    .await;
    assert!(plain(&study.page("decide")).contains("expected on out-of-fold customers"));

    // Back to validation rows: what was fitted in folds is stale.
    assert_eq!(dealt(&study, &[]), 303);
    assert!(study.page("compare").contains("class=\"stale\""));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sample_takes_part_and_the_rest_does_not() {
    let study = begun().await;
    for amount in ["0 %", "100 %", "1", "some"] {
        assert_eq!(study.post("prepare/steps", &[("kind", "sample"), ("amount", amount)]), 422, "{amount}");
    }
    assert_eq!(study.post("prepare/steps", &[("kind", "sample"), ("amount", "25 %")]), 303);
    study.looked_at().await;
    let page = plain(&study.page("prepare/steps"));
    assert!(page.contains("sample 25 % of the customers at random"), "{page}");
    let survey = study.store.finding_in_short(study.id).await.expect("stored").expect("found").survey;
    let drawn = survey.training.rows + survey.validation.rows + survey.test;
    assert_eq!(drawn, MEMBERS as u64 / 4);
    // Whoever is scored is never sampled.
    study.fitted("logistic").await;
    let id = study.store.candidates(study.id, &[]).await.expect("models")[0].id;
    let model = study.store.model(id).await.expect("stored").fitted().expect("a model");
    assert_eq!(model.rows, survey.training.rows);
    assert!(model.inputs().count() > 5);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_dates_could_tell_is_proposed_and_made_on_request_only() {
    let study = begun().await;
    assert!(
        study.page("prepare/steps").contains("No steps: columns are used as they are."),
        "nothing was made by itself"
    );
    let browser = Browser::open().await;
    browser.sign_in(&study.server).await;
    browser.go(&format!("{}/studies/{}/prepare/steps", study.server.url, study.id)).await;
    browser.is_accessible("steps that are proposed").await;
    browser.see(".suggested", "days from joined_on to renewal_on").await;
    browser.click(".suggested li:first-child button").await;
    browser.see("h1", "One step before a model sees the columns.").await;
    browser.see(".steps", "days from joined_on to renewal_on = renewal_on - joined_on").await;
    let left = browser.text(".suggested").await;
    assert!(left.contains("month of renewal_on") && !left.contains("days from joined_on"), "{left}");

    // A number is drawn along its range, with the event rate over it.
    study.looked_at().await;
    browser.go(&format!("{}/studies/{}/prepare?column=tenure_months", study.server.url, study.id)).await;
    browser.see("figure figcaption", "The event rate by tenure_months:").await;
    browser.see_element("figure svg .rate-line").await;
    browser.is_accessible("a column with its event rate").await;
    browser.click("figure .chart-tools button").await;
    browser.see("figure table", "event rate").await;
    browser.go(&format!("{}/studies/{}/drivers", study.server.url, study.id)).await;
    browser.see_element(".ladder .take-drawing").await;
    let drawing = "return new Promise(done => { const made = URL.createObjectURL; URL.createObjectURL = blob => { \
                   blob.text().then(done); return made(blob); }; document.querySelector('.ladder .take-drawing').click(); })";
    let svg = browser.script(drawing).await;
    let svg = svg.as_str().expect("a drawing");
    assert!(svg.contains("<svg") && svg.contains("event rate") && svg.contains("</text>"), "{svg}");
    for ink in [
        "getComputedStyle(document.documentElement).backgroundColor",
        "getComputedStyle(document.querySelector('.ladder')).color",
    ] {
        let ink = browser.script(&format!("return {ink}")).await;
        assert!(svg.contains(&format!("fill: {}", ink.as_str().expect("a colour"))), "{ink}: {svg}");
    }
    browser.close().await;
}
