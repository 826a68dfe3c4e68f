//! A statement is read by whoever was given a link, until it is over; and nothing else is.

use crate::support::study::Study;
use crate::support::{Http, PASSWORD, plain};
use pronoia_demo::{FIRST_MEMBER, SEED, members};

impl Study {
    /// Makes a link; its path.
    fn link(&self, name: &str, days: &str) -> String {
        let page =
            self.http.submit(&format!("/studies/{}/statement/links", self.id), &[("name", name), ("days", days)]);
        assert_eq!(page.status, 200, "{}", page.text);
        let after = page.text.split("/shared/").nth(1).expect("a link");
        format!("/shared/{}", after.split('<').next().expect("its end"))
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_shows_the_statement_and_nothing_else_until_it_is_over() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("logistic").await;
    assert_eq!(study.post("decide", &[("save_rate", "60")]), 303);
    let link = study.link("the <committee>", "7");
    assert!(link.len() > 50, "{link}");
    let stranger = Http::new(&study.server);
    let page = stranger.get(&link);
    assert_eq!(page.status, 200);
    let text = plain(&page.text);
    assert!(text.contains("Statement: Who will cancel?") && text.contains("to be read until"), "{text}");
    assert!(text.contains("Logistic regression"), "what the model is: {text}");
    for other in ["<form", "href=\"/studies", "csrf", "ana@example.org"] {
        assert!(!page.text.contains(other), "{other}: {}", page.text);
    }
    assert_eq!(page.headers["cache-control"], "no-store");
    assert!(page.headers.get("set-cookie").is_none());
    assert_eq!(stranger.get(&format!("/studies/{}/statement", study.id)).location, "/sign-in");
    let listed = plain(&study.page("statement"));
    assert!(listed.contains("the &#60;committee&#62;") && listed.contains("opened once"), "{listed}");
    assert!(!listed.contains(&link), "shown once");
    let entry = &study.store.ledger(study.id).await.expect("the ledger")[0];
    assert_eq!(
        (entry.chosen.as_str(), entry.figure.as_str()),
        ("Statement shared by a link", "with the <committee>, for 7 days")
    );

    // It shows the study as it stands then.
    assert_eq!(study.post("decide", &[("save_rate", "35")]), 303);
    assert_ne!(plain(&stranger.get(&link).text), text);
    for wrong in ["/shared/", "/shared/read_0", &format!("{link}0"), &link.replace("read_", "join_")] {
        assert_eq!(stranger.get(wrong).status, 404, "{wrong}");
    }
    for (name, days) in [("", "7"), ("x", "0"), ("x", "91"), ("x", "soon"), (&*"x".repeat(81), "7")] {
        let refused =
            study.http.submit(&format!("/studies/{}/statement/links", study.id), &[("name", name), ("days", days)]);
        assert_eq!(refused.status, 422, "{name} {days}");
    }

    // Over: by time, withdrawn, with the study put away.
    let second = study.link("the auditor", "1");
    study.server.run_sql("UPDATE share SET expires_at = now() - interval '1 second' WHERE name = 'the auditor'").await;
    assert_eq!(stranger.get(&second).status, 404);
    let id = study.store.shares(study.id).await.expect("links")[0].id;
    study.store.create_account("other@example.org", PASSWORD, "Other", false).await.expect("made");
    let other = Http::signed_in(&study.server, "other@example.org");
    let withdraw = format!("/studies/{}/statement/links/{id}/withdraw", study.id);
    assert_eq!(other.submit(&withdraw, &[]).status, 404, "not another's");
    assert_eq!(stranger.get(&link).status, 200);
    assert_eq!(study.http.submit(&withdraw, &[]).status, 303);
    assert_eq!(stranger.get(&link).status, 404);
    let third = study.link("the board", "90");
    assert_eq!(stranger.get(&third).status, 200);
    assert_eq!(study.post("away", &[]), 303);
    assert_eq!(stranger.get(&third).status, 404);
}
