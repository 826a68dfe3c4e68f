//! Candidates blended, proved, looked at closer, put beside today's rule, and refused for want of memory.

use std::sync::Arc;

use crate::support::study::Study;
use crate::support::{EMAIL, Http, Server, plain, until};
use pronoia_core::expression::Expression;
use pronoia_core::intake::read_table;
use pronoia_core::model::Recipe;
use pronoia_core::progress::Unwatched;
use pronoia_core::study::CautionKind;
use pronoia_demo::{FIRST_MEMBER, SEED, members};
use pronoia_store::candidates::StoredCandidate;

async fn begun(people: usize) -> Study {
    let study = Study::begun(&members(people, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study
}

async fn models(study: &Study) -> Vec<Arc<StoredCandidate>> {
    study.store.candidates(study.id, &[]).await.expect("models")
}

async fn all_fitted(study: &Study, count: usize) -> Vec<Arc<StoredCandidate>> {
    until("all are fitted", || async {
        let models = study.store.candidates(study.id, &[]).await.ok()?;
        (models.len() == count && models.iter().all(|m| m.state == "fitted")).then_some(models)
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn candidates_are_blended_and_the_blend_is_a_candidate_like_any_other() {
    let study = begun(2_000).await;
    study.fitted("scorecard").await;
    study.fitted("bayes").await;
    let ids: Vec<String> = models(&study).await.iter().map(|m| m.id.to_string()).collect();
    let blend = |fields: &[(&str, &str)]| study.http.submit(&format!("/studies/{}/train/blend", study.id), fields);
    let both = [("with", ids[0].as_str()), ("with", ids[1].as_str())];
    for (fields, says) in [
        (vec![("mix", "stacked"), both[0]], "2 to 8 members; 1 were chosen"),
        (vec![("mix", "median"), both[0], both[1]], "average or stacked"),
        (vec![("mix", "average"), both[0], both[0]], "the same settings"),
        (vec![("mix", "average"), both[0], ("with", "999999")], "One of the candidates is gone"),
    ] {
        let answer = blend(&fields);
        assert!(answer.status == 422 && plain(&answer.text).contains(says), "{fields:?}: {}", plain(&answer.text));
    }
    assert_eq!(blend(&[("mix", "stacked"), both[0], both[1]]).status, 303);
    let fitted = all_fitted(&study, 3).await;
    let made = &fitted[2];
    assert_eq!(made.name, "Stacked ensemble");
    assert!(matches!(made.recipe().expect("a recipe"), Recipe::Blend(b) if b.members.len() == 2));
    let page = study.page(&format!("train?model={}", made.id));
    for says in ["Weights of the members", "log loss alone", "of scorecard, naive bayes", "2 models"] {
        assert!(page.contains(says), "{says}: {page}");
    }
    assert!(study.page("compare").contains("Stacked ensemble"), "it stands among the others");
    // It scores a list as the policy's model, and after it was taken off the list it still would.
    let policy = [("model", made.id.to_string()), ("value_kept", "180".into()), ("line", "0.2".into())];
    let policy: Vec<(&str, &str)> = policy.iter().map(|(k, v)| (*k, v.as_str())).collect();
    assert_eq!(study.post("decide", &policy), 303);
    assert_eq!(study.post("train/retire", &[("model", &ids[1])]), 303);
    assert_eq!(models(&study).await.len(), 2);
    let entered = study.store.ledger(study.id).await.expect("the ledger");
    assert!(entered.iter().any(|e| e.chosen == "Naive Bayes removed from the list"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_candidate_is_fitted_again_and_comes_out_the_same_bit_for_bit() {
    let study = begun(2_000).await;
    study.fitted("boosted").await;
    let id = models(&study).await[0].id;
    let page = study.page(&format!("train?model={id}"));
    assert!(page.contains("the records with the fingerprint") && !page.contains("Fitted again on"), "{page}");
    assert_eq!(study.post("train/prove", &[("model", &id.to_string())]), 303);
    let proof = until("it is proved", || async { study.store.model(id).await.ok()?.proved().ok()? }).await;
    assert!(proof.same && proof.same_records, "{proof:?}");
    assert!(study.page(&format!("train?model={id}")).contains("the same model, bit for bit"));
    // The log says what the fit went through.
    let jobs = study.store.fits_of_study(study.id).await.expect("jobs");
    let fit = jobs.iter().find(|job| job.title == "Fitting boosted trees").expect("the job");
    let log = plain(&study.http.get(&format!("/jobs/{}/log", fit.id)).text);
    for says in ["Done.", "Preparing the training rows", "Tree 1, at most"] {
        assert!(log.contains(says), "{says}: {log}");
    }
    let other = Study::begun(&members(300, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(other.http.get(&format!("/jobs/{}/log", fit.id)).status, 404, "a job of another workspace");
    assert_eq!(other.post("train/prove", &[("model", &id.to_string())]), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_closer_look_says_whether_more_rows_would_help_and_how_far_three_columns_go() {
    let study = begun(2_000).await;
    study.fitted("scorecard").await;
    let id = models(&study).await[0].id;
    assert!(study.page("compare").contains("Learning curve of scorecard"));
    assert_eq!(study.post("compare/closer", &[("model", &id.to_string())]), 303);
    let closer = until("it was looked at", || async { study.store.model(id).await.ok()?.looked_at().ok()? }).await;
    assert_eq!(closer.by_rows.points.last().expect("a point").rows, 1_200, "all training rows");
    let few = closer.few.expect("a small model").few;
    let page = study.page("compare");
    for says in
        [few.columns[0].as_str(), "columns, ", "training rows the log loss fell by", "Evaluated on 400 customers"]
    {
        assert!(page.contains(says), "{says}: {page}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn todays_rule_stands_beside_the_candidates_with_the_counts_of_its_condition() {
    let people = members(2_000, SEED, FIRST_MEMBER);
    let study = begun(2_000).await;
    study.fitted("logistic").await;
    let rule = |condition: &str| {
        study.http.submit(&format!("/studies/{}/compare/rule", study.id), &[("condition", condition)])
    };
    for (wrong, says) in
        [("tenure_months <", "Today’s rule:"), ("tenure_month < 3", "tenure_month"), ("1 + 1", "Today’s rule:")]
    {
        let answer = rule(wrong);
        assert!(answer.status == 422 && plain(&answer.text).contains(says), "{wrong}: {}", plain(&answer.text));
    }
    assert_eq!(study.state().await.todays_rule, None, "nothing was kept of what is wrong");
    let condition = "tenure_months < 24 AND declined_claims >= 1";
    assert_eq!(rule(condition).status, 303);
    let basis = study.state().await.basis().expect("choices");
    let tried = || async {
        let tried = study.store.rule_tried(study.id).await.ok()??;
        tried.under(condition, Some(&basis)).ok()?
    };
    let found = until("the rule is tried", tried).await;
    // The same by hand, on the validation rows of the same deal.
    let (table, _) = read_table(&pronoia_demo::outcome_csv(&people), &Unwatched).expect("a table");
    let dealt = basis.deal(&table).expect("parts");
    let happened = basis.outcome.read(&table).expect("outcomes");
    let holds = Expression::check_condition(condition, &Expression::columns_of(&table)).expect("a condition");
    let holds = holds.holds(&table).expect("worked out");
    let acted: Vec<usize> = dealt.validation.iter().copied().filter(|&row| holds[row] == Some(true)).collect();
    let hits = acted.iter().filter(|&&row| happened[row] == Some(true)).count() as u64;
    assert_eq!((found.counts.acted(), found.counts.hits), (acted.len() as u64, hits));
    assert_eq!(found.counts.rows(), 400);
    let page = study.page("compare?measures=actions");
    let precision = plain(&pronoia_core::number::percent(found.counts.precision()));
    assert!(page.contains("today’s rule") && page.contains(&precision), "{precision}: {page}");
    // Other choices, and it is stale until it was tried again.
    let fewer = [("column", "clinic"), ("role", "excluded"), ("known_when", "before")];
    assert_eq!(study.post("prepare/column", &fewer), 303);
    assert!(study.page("compare").contains("The choices have changed since it was evaluated"));
    assert_eq!(rule("").status, 303);
    assert_eq!(study.state().await.todays_rule, None);
    assert!(!study.page("compare").contains("The choices have changed since it was evaluated"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_cut_off_is_counted_on_every_part_and_the_test_stays_sealed() {
    let study = begun(2_000).await;
    study.fitted("forest").await;
    let page = study.page("compare?cut_off=0.2");
    let by_part = &page[page.find("The same cut-off on each part").expect("the table")..];
    for says in ["training", "1 200", "fitted to these rows: optimistic", "validation", "400", "sealed"] {
        assert!(by_part.contains(says), "{says}: {by_part}");
    }
    let id = models(&study).await[0].id.to_string();
    assert_eq!(study.post("decide", &[("model", &id), ("value_kept", "180"), ("line", "0.2")]), 303);
    assert_eq!(study.post("decide/confirm", &[]), 303);
    until("the test is opened", || async {
        study.store.study(1, study.id).await.ok()?.confirmation.is_some().then_some(())
    })
    .await;
    let page = study.page("compare?cut_off=0.2");
    assert!(page.contains("opened to confirm the policy"), "{page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_fit_that_memory_will_never_hold_is_refused_before_it_starts() {
    let server = Server::start_with(&["--memory-mb", "1"]).await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let people = members(4_000, SEED, FIRST_MEMBER);
    let sent = http.upload(&http.csrf(), "members.csv", &pronoia_demo::outcome_csv(&people));
    http.follow(&sent.location).await;
    http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
    let store = server.store().await;
    let table = store.tables(1).await.expect("tables")[0].id.to_string();
    http.submit("/studies", &[("table", &table), ("title", "Who?"), ("question", "churn")]);
    let id = store.studies(1).await.expect("studies")[0].id;
    http.submit(&format!("/studies/{id}/prepare/outcome"), &[("column", "cancelled"), ("event", "yes")]);
    let answer = http.submit(&format!("/studies/{id}/train"), &[("family", "boosted")]);
    let says = plain(&answer.text);
    assert!(answer.status == 422 && says.contains("GB of memory") && says.contains("Sample the rows"), "{says}");
    assert!(store.candidates(id, &[]).await.expect("models").is_empty(), "nothing was put in the queue");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_with_a_candidate_is_a_caution_that_can_be_mended() {
    let study = begun(900).await;
    study.fitted("logistic").await;
    let page = study.page("prepare/cautions");
    assert!(page.contains("Logistic regression: evaluated on few events"), "{page}");
    study.mend(CautionKind::FewEvents, "Logistic regression").await;
    assert_eq!(study.state().await.split.folds, Some(5));
    let page = study.page("prepare/cautions");
    assert!(!page.contains("each one of the rarer class moves a curve"), "every row is judged in turn now: {page}");
    // A candidate that is stale raises nothing; fitted again it is judged on all.
    assert_eq!(study.post("train/again", &[("model", &models(&study).await[0].id.to_string())]), 303);
    let again = all_fitted(&study, 1).await;
    assert_eq!(again[0].judged().expect("stored").expect("judged").rows, 720);
    assert!(again[0].warned_of().expect("stored").iter().all(|c| c.rule != CautionKind::FewEvents));
}
