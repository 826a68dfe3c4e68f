//! What `./start` shows first: the made-up company is loaded, and no screen of its studies is empty.

use crate::support::{Http, demonstration, plain};
use pronoia_core::decide::CutOff;

#[tokio::test(flavor = "multi_thread")]
async fn the_demonstration_leaves_no_screen_empty_and_is_loaded_once() {
    let (mut server, said) = demonstration().await;
    server.kill();
    assert!(said.contains("Sign in with analyst@osiervale.example and willow-and-reed"), "{said}");
    let store = server.store().await;
    let studies = store.studies(1).await.expect("studies");
    assert_eq!(studies.len(), 3);
    let entries = store.ledger(studies[0].id).await.expect("a ledger").len();
    assert_eq!(server.load_demonstration(), said, "the second time nothing is loaded");
    assert_eq!(store.studies(1).await.expect("studies").len(), 3);
    assert_eq!(store.ledger(studies[0].id).await.expect("a ledger").len(), entries);

    server.run().await;
    let http = Http::signed_in_with(&server, "analyst@osiervale.example", "willow-and-reed");
    for study in &studies {
        for stop in ["records", "drivers", "prepare", "train", "compare", "decide", "lists"] {
            let page = plain(&http.get(&format!("/studies/{}/{stop}", study.id)).text);
            assert!(page.contains("demo data"), "{} {stop}: the badge", study.id);
        }
    }
    let of = |words: &str| studies.iter().find(|s| s.title.contains(words)).expect("a study");
    let churn = of("cancel");
    let page = |study: i64, page: &str| plain(&http.get(&format!("/studies/{study}/{page}")).text);
    let policy = churn.choices().expect("choices").policy.expect("a policy");
    assert!(
        matches!(policy.policy.rule.line, CutOff::Least(p) if (p - 0.24).abs() < 1e-9),
        "where acting begins to pay"
    );
    // What was planted is what the model goes by; two columns were made of pairs.
    let why = page(churn.id, "decide/why");
    for driver in ["months_since_visit", "declined_claims", "fee_rise_pct", "tenure_months", "moved_or_weekends"] {
        assert!(why.contains(driver), "{driver}: {why}");
    }
    assert!(!store.lists(churn.id).await.expect("lists").is_empty());
    let credit = of("instalment").choices().expect("choices").policy.expect("a policy");
    assert!(credit.policy.rule.refer_from.is_some(), "two cut-offs");
    assert!(store.candidates(of("dental").id, &[]).await.expect("models").len() >= 3, "a comparison");
    drop(store);
    walked(&http);
}

/// The walk begins where nobody left it, leads through its ten pages, and is left at any of them.
fn walked(http: &Http) {
    let own = |cookie: &str| {
        let mut own = http.again();
        own.cookie = format!("{}; {cookie}", http.cookie);
        own
    };
    assert!(plain(&http.get("/").text).contains("A tour of ten steps leads through the demonstration"));
    let mut seen = Vec::new();
    for step in 1..=10 {
        let gone = http.submit("/walk", &[("step", &step.to_string())]);
        assert_eq!(gone.status, 303);
        let cookie =
            gone.headers["set-cookie"].to_str().expect("a cookie").split(';').next().expect("a value").to_owned();
        let page = plain(&own(&cookie).get(&gone.location).text);
        assert!(
            page.contains(&format!("<strong>{step} of 10</strong>"))
                && page.contains("leave it") | page.contains("end it"),
            "{page}"
        );
        seen.push(gone.location);
    }
    seen.sort_unstable();
    seen.dedup();
    assert_eq!(seen.len(), 10, "ten pages: {seen:?}");
    for odd in ["0", "11", "200"] {
        let left = http.submit("/walk", &[("step", odd)]);
        let cookie =
            left.headers["set-cookie"].to_str().expect("a cookie").split(';').next().expect("a value").to_owned();
        assert_eq!((left.status, cookie.as_str()), (303, "pronoia_walk=0"), "{odd}");
        assert!(!own(&cookie).get("/").text.contains("class=\"walk\""));
    }
    assert!(own("pronoia_walk=nonsense").get("/").text.contains("class=\"walk\""), "as if it had not begun");
}
