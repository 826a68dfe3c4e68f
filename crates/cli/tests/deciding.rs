//! What a decision rests on, worked out over HTTP for amounts as they are typed.

mod support;

use pronoia_core::number;
use pronoia_demo::{FIRST_MEMBER, SEED, members};
use support::plain;
use support::study::Study;

#[tokio::test(flavor = "multi_thread")]
async fn what_would_have_to_be_true_follows_the_amounts_and_the_line() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    let page = study.page("decide");
    for says in ["What would have to be true for this to lose money", "A kept customer brings", "decides first"] {
        assert!(page.contains(says), "{says}: {page}");
    }

    // Acting on everybody: the break-even of the closed form, in the page's own figures.
    let model = &study.store.models(study.id).await.expect("models")[0];
    let ranking = model.ranked().expect("read").expect("judged");
    let (n, e) = (ranking.rows as f64, ranking.events as f64);
    let stayers = (n - e) * (0.35 * 24.0 + 2.4);
    let value_kept = 24.0 + (e * 2.4 + stayers) / (e * 0.9);
    let on_all = "save_rate=90&offer_cost=24&stayers_take=35&contact_cost=2.4&line=100&line_as=share";
    let part = |value_kept: &str| study.page(&format!("decide/sensitivity?value_kept={value_kept}&{on_all}"));
    let pays = part("400");
    let expected = format!("below {}", number::fixed(value_kept, 2));
    assert!(pays.contains("lose money") && pays.contains(&plain(&expected)), "{expected}: {pays}");
    let loses = part("10");
    assert!(loses.contains("true for this to pay"), "{loses}");
    assert!(loses.contains(&plain(&format!("above {}", number::fixed(value_kept, 2)))), "{loses}");
    let nobody = study.page("decide/sensitivity?line=0&line_as=count");
    assert!(nobody.contains("Nobody is acted on"), "{nobody}");

    let refused = study.http.get(&format!("/studies/{}/decide/sensitivity?save_rate=130", study.id));
    assert!(refused.status == 422 && plain(&refused.text).contains("between 0 and 100 %"), "{}", plain(&refused.text));
    let other = Study::begun(&members(300, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(other.http.get(&format!("/studies/{}/decide/sensitivity", study.id + 1_000)).status, 404);
}
