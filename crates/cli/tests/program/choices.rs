//! What is chosen in a study, what it makes stale, and taking it back.

use crate::support::study::Study;
use crate::support::{plain, until};
use pronoia_core::decide::CutOff;
use pronoia_demo::{FIRST_MEMBER, SEED, members};

/// Three thousand members; the outcome is chosen, nothing left out yet.
async fn begun() -> Study {
    Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await
}

#[tokio::test(flavor = "multi_thread")]
async fn every_choice_is_taken_back_in_turn_and_puts_back_what_was() {
    let study = begun().await;
    let begun = study.page("prepare");
    assert!(begun.contains("4 to exclude") && begun.contains("2 to confirm"), "{begun}");
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    let column = [("column", "days_since_last_login"), ("role", "excluded"), ("known_when", "afterwards")];
    assert_eq!(study.post("prepare/column", &column), 303);
    assert!(study.page("prepare").contains("18 predictors, and 1 to confirm."));

    let (entry, chosen) = study.newest().await;
    assert_eq!(chosen, "days_since_last_login: excluded, known afterwards");
    let entry = entry.to_string();
    assert_eq!(study.post("take-back", &[("entry", &entry), ("back", "prepare")]), 303);
    assert!(study.page("prepare").contains("2 to confirm"));
    assert_eq!(study.post("take-back", &[("entry", &entry), ("back", "prepare")]), 422, "not twice");
    let (entry, chosen) = study.newest().await;
    assert_eq!(chosen, "4 columns excluded");
    assert_eq!(study.post("take-back", &[("entry", &entry.to_string()), ("back", "prepare")]), 303);
    let back = study.page("prepare");
    assert!(back.contains("4 to exclude") && back.contains("2 to confirm"), "{back}");
    let (entry, _) = study.newest().await;
    assert_eq!(study.post("take-back", &[("entry", &entry.to_string()), ("back", "prepare")]), 303);
    assert!(study.page("prepare").contains("which value is the event"), "even the outcome");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_upstream_marks_what_is_stale_and_taking_it_back_clears_the_mark() {
    let study = begun().await;
    study.post("prepare/leave-out", &[]);
    study.fitted("logistic").await;
    study.looked_at().await;
    assert_eq!(study.post("decide", &[("value_kept", "200"), ("population", "5000")]), 303);
    assert!(!study.page("decide").contains("class=\"stale\""));

    let change = [("column", "clinic"), ("role", "excluded"), ("known_when", "before")];
    assert_eq!(study.post("prepare/column", &change), 303);
    for page in ["train", "compare", "decide"] {
        assert!(study.page(page).contains("class=\"stale\""), "{page} says so");
    }
    assert!(study.page("decide").contains("fitted before the columns or the outcome were changed"));
    assert!(study.page("decide").contains("for 5 000 customers"), "and keeps what was chosen");

    let (entry, _) = study.newest().await;
    study.post("take-back", &[("entry", &entry.to_string()), ("back", "train")]);
    assert!(!study.page("decide").contains("class=\"stale\""), "nothing is stale any more");

    // Fitted anew on other columns, the old fit leaves the list and the policy keeps saying whose it is.
    study.post("prepare/column", &change);
    let old = study.store.candidates(study.id, &[]).await.expect("models")[0].id;
    assert_eq!(study.post("train/again", &[("model", &old.to_string())]), 303);
    until("the new fit is there", || async {
        let models = study.store.candidates(study.id, &[]).await.ok()?;
        (models.len() == 1 && models[0].id != old && models[0].state == "fitted").then_some(())
    })
    .await;
    assert!(study.page("decide").contains("fitted before the columns or the outcome were changed"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_policy_is_kept_only_if_it_can_be() {
    let study = begun().await;
    study.post("prepare/leave-out", &[]);
    study.fitted("boosted").await;
    for (field, value) in [
        ("save_rate", "101"),
        ("save_rate", "-1"),
        ("value_kept", "-5"),
        ("value_kept", "a lot"),
        ("population", "none"),
        ("population", "0"),
        ("line", "1.5"),
    ] {
        assert_eq!(study.post("decide", &[(field, value)]), 422, "{field} = {value}");
    }
    assert_eq!(study.post("decide", &[("line", "30"), ("line_as", "share"), ("population", "2 000")]), 303);
    let chosen = study.store.study(1, study.id).await.expect("the study").choices().expect("choices").policy;
    let chosen = chosen.expect("a policy");
    assert_eq!(chosen.population.customers, Some(2_000.0));
    assert_eq!(chosen.policy.rule.line, CutOff::Share(0.3));
    let promised = chosen.promised.expect("worked out");
    assert!(promised.low <= promised.profit && promised.profit <= promised.high);
    // The same again is no new choice.
    let entries = study.store.ledger(study.id).await.expect("the ledger").len();
    assert_eq!(study.post("decide", &[]), 303);
    assert_eq!(study.store.ledger(study.id).await.expect("the ledger").len(), entries);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sealed_test_is_opened_for_a_kept_policy_only_and_counted() {
    let study = begun().await;
    study.post("prepare/leave-out", &[]);
    study.fitted("logistic").await;
    assert_eq!(study.post("decide/confirm", &[]), 422, "no policy yet");
    assert_eq!(study.post("decide", &[]), 303);
    for times in 1..=2 {
        assert_eq!(study.post("decide/confirm", &[]), 303);
        until("the seal is opened", || async {
            let row = study.store.study(1, study.id).await.ok()?;
            (row.test_openings == times).then_some(())
        })
        .await;
    }
    assert!(study.page("decide").contains("opened 2 times"));
    let ledger = study.store.ledger(study.id).await.expect("the ledger");
    assert_eq!(ledger.iter().filter(|e| e.chosen == "Sealed test set opened").count(), 2);
    assert!(ledger.iter().all(|e| e.chosen != "Sealed test set opened" || !e.can_be_taken_back()), "cannot be unseen");
    drop(study.server);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_event_may_be_several_values_or_a_part_of_a_number() {
    let study = begun().await;
    let people = members(2_000, SEED, FIRST_MEMBER);
    for (fields, says) in [
        (vec![("column", "plan_tier"), ("any", "Plus")], "give them a name"),
        (vec![("column", "plan_tier"), ("name", "dear")], "Tick the values"),
        (vec![("column", "tenure_months"), ("at_least", "long"), ("below", "")], "“long” is not a number"),
        (vec![("column", "tenure_months"), ("at_least", "9"), ("below", "3")], "one of the two fields"),
        (vec![("column", "tenure_months"), ("at_least", ""), ("below", "")], "Give the cut point"),
        (vec![("column", "tenure_months"), ("at_least", "9000"), ("below", "")], "choose a cut point between them"),
        (vec![("column", "shoe size"), ("event", "44")], "no column called “shoe size”"),
    ] {
        let answer = study.http.submit(&format!("/studies/{}/prepare/outcome", study.id), &fields);
        assert!(answer.status == 422 && plain(&answer.text).contains(says), "{fields:?}: {}", plain(&answer.text));
    }
    let dear = [("column", "plan_tier"), ("any", "Plus"), ("any", "Complete"), ("name", "dearer plan")];
    assert_eq!(study.post("prepare/outcome", &dear), 303);
    let events = people.iter().filter(|m| m.tier != "Basic").count();
    let page = study.page("prepare");
    assert!(page.contains("Event = plan_tier is dearer plan (“Plus” or “Complete”): 1 2"), "{page}");
    assert_eq!(
        study.store.study(1, study.id).await.expect("the study").choices().expect("choices").counted,
        Some((events as u64, 2_000))
    );

    let cut = [("column", "months_since_visit"), ("at_least", "12"), ("below", "")];
    assert_eq!(study.post("prepare/outcome", &cut), 303);
    study.looked_at().await;
    let events = people.iter().filter(|m| m.months_since_visit.is_some_and(|x| x >= 12)).count() as u64;
    let known = people.iter().filter(|m| m.months_since_visit.is_some()).count() as u64;
    let state = study.store.study(1, study.id).await.expect("the study").choices().expect("choices");
    assert_eq!(state.counted, Some((events, known)));
    assert!(study.page("prepare").contains("without an outcome are excluded"));
    study.fitted("logistic").await;
    let model = study.store.candidates(study.id, &[]).await.expect("models").remove(0);
    let evaluation = model.judged().expect("stored").expect("judged");
    assert!(evaluation.events > 0 && evaluation.rows < 3_000 / 5 + 1);

    // With another event of the same column, the roles that were chosen stay.
    study.post("prepare/outcome", &[("column", "cancelled"), ("event", "no")]);
    let role = [("column", "clinic"), ("role", "excluded"), ("known_when", "before")];
    assert_eq!(study.post("prepare/column", &role), 303);
    assert_eq!(study.post("prepare/outcome", &[("column", "cancelled"), ("event", "yes")]), 303);
    let state = study.store.study(1, study.id).await.expect("the study").choices().expect("choices");
    let clinic = state.columns.iter().find(|c| c.name == "clinic").expect("the column");
    assert_eq!(clinic.role.word(), "excluded");
}
