//! Every page as it is met: in a narrow window, at twice the size, by night, on paper, by somebody whom
//! movement disturbs, and with names longer and odder than anybody would wish for.

use crate::support::study::{MadeStudy, Study};
use crate::support::{Browser, EMAIL, Http, Server, until};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv, renewals_csv};
use tokio::sync::OnceCell;

/// A question as some ask it.
const TITLE: &str =
    "Who of the customers of the north-eastern branches (“Größe L”, 顧客) will cancel, or let the plan run out unsaid?";

/// A word that cannot be broken.
const LONG: &str = "months_since_the_last_visit_to_any_of_our_clinics_in_the_region";

/// Whatever is wider than its page, and what of it sticks out.
const STICKS_OUT: &str = "const wide = document.documentElement.scrollWidth; if (wide <= innerWidth) return []; \
    return [`${wide} of ${innerWidth}`, ...[...document.querySelectorAll('body *')].filter(e => e.checkVisibility() && \
    e.getBoundingClientRect().right > innerWidth + 1).slice(-3).map(e => e.outerHTML.slice(0, 140))]";

/// Text that is cut off by the box that it stands in, though nobody can scroll it.
const CUT_OFF: &str = "return [...document.querySelectorAll('main *, .ledger *, .route *, .head *')].filter(e => \
    e.checkVisibility() && !e.closest('svg, .sr, .skip, [role=region], .scroll') && e.scrollWidth > e.clientWidth + 2 && e.clientWidth > 0 && \
    ['hidden', 'clip'].includes(getComputedStyle(e).overflowX) && getComputedStyle(e).textOverflow !== 'ellipsis' && \
    e.innerText?.trim()).slice(0, 3).map(e => e.outerHTML.slice(0, 140))";

/// Movement that takes longer than a reader was promised, in seconds.
const MOVES: &str = "const [most] = arguments; return [...document.querySelectorAll('*')].filter(e => \
    [getComputedStyle(e).transitionDuration, getComputedStyle(e).animationDuration].some(d => \
    d.split(',').some(one => parseFloat(one) > most))).slice(0, 3).map(e => e.outerHTML.slice(0, 140))";

/// What a page on paper has no use for, and ink that would not show there.
const NOT_FOR_PAPER: &str = "const light = c => { const [r, g, b] = c.match(/[\\d.]+/g).map(Number); return (r + g + b) / 765; }; \
    const left = ['.head-end', '.route', '.works', '.walk'].filter(css => document.querySelector(css)?.checkVisibility()); \
    const pale = [...document.querySelectorAll('main h1, main p, main td, main th, main li')].filter(e => \
    e.checkVisibility() && light(getComputedStyle(e).color) > 0.6).slice(0, 3).map(e => e.outerHTML.slice(0, 140)); \
    return [...left, ...pale]";

/// A study with everything, under such names.
async fn furnished() -> Study {
    static MADE: OnceCell<MadeStudy> = OnceCell::const_new();
    Study::made_once(&MADE, oddly_named).await
}

async fn oddly_named() -> Study {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let latin: String = outcome_csv(&members(2_000, SEED, FIRST_MEMBER)).iter().map(|&b| char::from(b)).collect();
    let records = format!("\u{feff}{}", latin.replacen("months_since_visit", LONG, 1));
    let sent = http.upload(
        &http.csrf(),
        "Mitglieder – Größe & <Umsatz>, as of the 1st of the month (final, really final).csv",
        records.as_bytes(),
    );
    http.follow(&sent.location).await;
    http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
    let store = server.store().await;
    let table = store.tables(1).await.expect("tables")[0].id.to_string();
    http.submit("/studies", &[("table", &table), ("title", TITLE), ("question", "churn")]);
    let study = Study { id: store.studies(1).await.expect("studies")[0].id, http, store, server };
    assert_eq!(study.post("prepare/outcome", &[("column", "cancelled"), ("event", "yes")]), 303);
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.looked_at().await;
    study.fitted("scorecard").await;
    study.fitted("logistic").await;
    assert_eq!(study.post("decide", &[("line", "0.2"), ("save_rate", "40")]), 303);
    let list: String = renewals_csv(&members(600, SEED + 1, FIRST_RENEWAL)).iter().map(|&b| char::from(b)).collect();
    let list = list.replacen("months_since_visit", LONG, 1);
    study.scored("renewals – north-eastern branches, Größe L and above, second try.csv", list.as_bytes()).await;
    assert_eq!(study.post("live", &[("name", "a-release-with-a-name-as-long-as-names-of-releases-may-be")]), 303);
    let campaign =
        [("name", LONG), ("control", "40"), ("acts", "a letter that is personally signed, a call"), ("seed", "1")];
    let begun = study.http.submit(&format!("/studies/{}/lists/1/campaign", study.id), &campaign);
    study.http.follow(&begun.location).await;
    study
}

fn pages(study: &Study) -> Vec<String> {
    let of_the_study = [
        "records",
        "records?view=rows",
        "drivers",
        "drivers/together",
        "drivers/segments",
        "drivers/totals",
        "prepare",
        "prepare?column=annual_fee",
        "prepare/cautions",
        "prepare/split",
        "prepare/steps",
        "prepare/rows",
        "train",
        "compare",
        "compare?measures=actions",
        "decide",
        "decide/why",
        "decide/groups?column=species",
        "decide/customer",
        "decide/sheet",
        "lists",
        "lists/1",
        "campaigns/1",
        "live",
        "forms",
        "statement",
        "ledger",
        "ledger/1",
    ];
    let others = [
        "/",
        "/people",
        "/account",
        "/query",
        "/away",
        "/programs",
        "/sources",
        "/tables/1",
        "/tables/1/append",
        "/find?q=months",
        "/families/boosted",
        "/nowhere",
    ];
    let own = of_the_study.iter().map(|page| format!("/studies/{}/{page}", study.id));
    own.chain(others.map(str::to_owned)).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_is_read_and_used_by_everybody_whatever_it_is_read_on() {
    let study = furnished().await;
    let b = Browser::open().await;
    b.sign_in(&study.server).await;
    let mut wrong = Vec::new();
    for page in pages(&study) {
        b.go(&format!("{}{page}", study.server.url)).await;
        assert!(b.text("h1").await.len() > 3, "{page}");
        let mut note = |how: &str, found: serde_json::Value| {
            if found != serde_json::json!([]) {
                wrong.push(format!("{page} {how}: {found}"));
            }
        };
        for (width, height, dots) in [(1280, 800, 1), (1024, 768, 1), (640, 400, 2)] {
            b.window(width, height, dots).await;
            note(&format!("{width} wide"), b.script(STICKS_OUT).await);
            note(&format!("{width} wide, cut off"), b.script(CUT_OFF).await);
        }
        b.window(1280, 800, 1).await;
        for (motion, most) in [("no-preference", 0.15), ("reduce", 0.001)] {
            b.media("screen", motion).await;
            let found = b.client.execute(MOVES, vec![most.into()]).await.expect("looked");
            note(&format!("moves, {motion}"), found);
        }
        b.script("document.documentElement.dataset.theme = 'night'").await;
        b.media("print", "reduce").await;
        note("on paper", b.script(NOT_FOR_PAPER).await);
        b.media("screen", "reduce").await;
        b.window(1024, 768, 1).await;
        b.is_accessible(&page).await;
    }
    b.close().await;
    assert!(wrong.is_empty(), "{} things:\n{}", wrong.len(), wrong.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn figures_are_explained_with_their_own_counts_at_a_key() {
    let study = furnished().await;
    let b = Browser::open().await;
    b.sign_in(&study.server).await;
    let model = study.store.candidates(study.id, &[]).await.expect("models")[0].id.to_string();
    assert_eq!(study.post("decide/why", &[("model", &model)]), 303);
    until("the importance is there", || async { study.page("decide/why").contains("Most important").then_some(()) })
        .await;
    let training = study.page("drivers");
    let rows = training.split("On ").nth(1).and_then(|rest| rest.split(" training rows").next()).expect("a count");
    for (page, words) in [
        ("drivers", vec!["information value", "Entropy of the outcome", rows]),
        ("drivers/together", vec!["bits × 1000"]),
        ("train", vec!["AUC (ROC)", "of 100 such pairs"]),
        ("compare", vec!["AUC (ROC)", "KS", "recall in first 20 %"]),
        ("compare?measures=probabilities", vec!["log loss", "Brier"]),
        ("decide/why", vec!["AUC lost", "shuffled"]),
    ] {
        b.go(&format!("{}/studies/{}/{page}", study.server.url, study.id)).await;
        b.press("m").await;
        let said = b.see("details[open].meaning dl", words[0]).await;
        let said = crate::support::plain(&said);
        assert!(words.iter().all(|word| said.contains(word)), "{page}: {words:?} in {said}");
        let focus = b.script("return document.activeElement.matches('.meaning summary')").await;
        assert_eq!(focus, true, "{page}: the focus is where the words are");
    }
    b.close().await;
}
