//! The whole route in a real browser, from sign-in to the downloaded list.

use std::process::Command;

use crate::support::{Browser, EMAIL, Server, plain, until};
use pronoia_core::evaluate::Evaluation;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::number;
use pronoia_core::progress::Unwatched;
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::{Model, Table};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members};

const MEMBERS: usize = 6_000;

/// Columns that are no predictors in this study.
const LEFT_OUT: &str = "exit_survey_sent,days_since_last_login,joined_on,renewal_on,owner_age_band,note_code";

/// What `core` says of logistic regression on the same rows.
fn by_core(table: &Table, predictors: &[String]) -> Evaluation {
    let outcome = Outcome::is("cancelled", "yes");
    let happened = outcome.read(table).expect("outcome");
    let plan = SplitPlan::default();
    let dealt = plan.deal(table, &happened).expect("parts");
    let settings = Settings::of_family("logistic").expect("family");
    let basis = Basis::plain(outcome, predictors.to_vec());
    let model = Model::fit(table, &basis, &dealt.training, &settings, plan.seed, &Unwatched).expect("a fit");
    let event: Vec<bool> = dealt.validation.iter().map(|&r| happened[r] == Some(true)).collect();
    Evaluation::of(&model.probabilities(table, &dealt.validation).expect("scores"), &event)
}

#[tokio::test(flavor = "multi_thread")]
async fn from_sign_in_to_the_downloaded_list() {
    let people = members(MEMBERS, SEED, FIRST_MEMBER);
    let bytes = pronoia_demo::outcome_csv(&people);
    let cancelled = people.iter().filter(|m| m.cancelled).count() as u64;
    let server = Server::start().await;
    server.make_account();
    let file = server.file("members.csv", &bytes);
    let list = server.file("renewals.csv", &pronoia_demo::renewals_csv(&members(400, SEED + 1, FIRST_RENEWAL)));
    let b = Browser::open().await;

    // Sign in, first wrongly.
    b.go(&server.url).await;
    b.is_accessible("sign-in").await;
    assert!(!b.text("main").await.contains("demonstration"), "no demo account outside the demonstration");
    b.fill("[name=email]", EMAIL).await;
    b.fill("[name=password]", "not the current password").await;
    b.click(".sign-in .button").await;
    b.see(".problem", "The address or the password is wrong").await;
    b.sign_in(&server).await;
    b.see(".empty", "Import the records").await;
    b.is_accessible("the empty start").await;

    // Records: preview, accept, columns, rows.
    b.choose_file("[name=file]", &file).await;
    b.click(".bring .button").await;
    b.see(".lead", "6 000 rows and 29 columns: semicolon between the fields, windows-1252").await;
    b.is_accessible("the preview").await;
    b.click(".heading-action .button").await;
    b.see("h1", "6 000 customers in members").await;
    b.is_accessible("columns").await;
    b.click("a[href$='column=annual_fee#open']").await;
    let figures = plain(&b.text(".figures").await);
    let dearest = people.iter().map(|m| m.annual_fee).fold(0.0, f64::max);
    assert!(figures.contains(&plain(&number::plain(dearest))), "{figures}");
    b.click(".views a[href*='view=rows']").await;
    b.see(".pager", "1 – 25 of 6 000").await;
    b.click("thead a[href*='sort=annual_fee']").await;
    b.click("thead a[href*='sort=annual_fee'][href*='descending=true']").await;
    b.see("tbody tr:first-child", &dearest.to_string()).await;
    b.is_accessible("rows").await;

    // A question, the outcome, the columns.
    b.go(&server.url).await;
    b.fill("[name=title]", "Who will cancel?").await;
    b.click(".ask .button-quiet").await;
    b.see("h1", "which value is the event").await;
    b.is_accessible("the outcome").await;
    b.click("form:has([value=cancelled]) button[value=yes]").await;
    let share = plain(&number::percent(cancelled as f64 / MEMBERS as f64));
    let sentence = format!("cancelled is “yes”: {} of 6 000 customers ({share})", plain(&number::count(cancelled)));
    b.see(".lead", &sentence).await;
    b.see(".verdict h2", "4 to exclude").await;
    b.is_accessible("prepare").await;
    b.click(".verdict .button").await;
    b.see(".entries li:first-child", "4 columns excluded").await;
    // Taken back, by key, and done again.
    b.press("u").await;
    b.see(".verdict h2", "4 to exclude").await;
    assert!(b.text(".entries .taken-back").await.contains("4 columns excluded"));
    b.click(".verdict .button").await;
    // What was taken back says the same, and stays.
    b.see(".entries li:first-child:not(.taken-back)", "4 columns excluded").await;
    // A role is changed, taken back, and changed again.
    for taken_back in [true, false] {
        b.click("a[href$='column=days_since_last_login#open']").await;
        b.click("[name=role] option:last-child").await;
        b.click(".choices .button-quiet").await;
        b.see(".entries li:first-child:not(.taken-back)", "days_since_last_login: excluded").await;
        if taken_back {
            b.press("u").await;
            b.see(".entries .taken-back", "days_since_last_login: excluded").await;
        }
    }

    // Train both families.
    b.press("4").await;
    b.see("h1", "Fit a first candidate").await;
    b.click(".family:has([value=logistic]) button").await;
    b.see(".stop-figure", "rows").await;
    b.click(".family:has([value=boosted]) button").await;
    b.see("[data-stop='4'] .stop-figure", "2 fitted").await;
    b.is_accessible("train").await;

    // Compare: the figures are those of `core`.
    b.press("5").await;
    let (table, _) = read_table(&bytes, &Unwatched).expect("the records");
    let aside: Vec<&str> = LEFT_OUT.split(',').chain(["cancelled", "member_id", "legacy_ref", "currency"]).collect();
    let predictors: Vec<String> =
        table.columns().iter().map(|c| c.name.clone()).filter(|n| !aside.contains(&n.as_str())).collect();
    let expected = by_core(&table, &predictors);
    b.is_accessible("compare").await;
    let sets = [
        ("ranking", vec![number::fixed(expected.area_under_roc, 3), number::fixed(expected.average_precision, 3)]),
        ("calibration", vec![number::fixed(expected.log_loss, 4), number::fixed(expected.brier, 4)]),
        ("classification at one selection rate", vec![number::percent(expected.accuracy_of_no())]),
    ];
    for ((label, figures), word) in sets.into_iter().zip(["order", "probabilities", "actions"]) {
        b.click(&format!(".views a[href*='measures={word}']")).await;
        b.see("#figures [aria-current]", label).await;
        let lines = b.text("table.columns tbody").await;
        for figure in figures {
            assert!(plain(&lines).contains(&plain(&figure)), "{figure} in {lines}");
        }
    }

    // Decide: the line by key, by mouse and by typing; the policy kept and confirmed.
    b.press("6").await;
    b.see("h2", "Profit of each outcome").await;
    b.is_accessible("decide").await;
    let live = |name: &str| format!("[data-live={name}]");
    let before = b.text(&live("acted")).await;
    let assumed = b.text("[data-sensitivity]").await;
    b.press("..........").await;
    let after = b.text(&live("acted")).await;
    assert_ne!(before, after, "the line moves by key");
    until("what is assumed follows", || async { (b.text("[data-sensitivity]").await != assumed).then_some(()) }).await;
    b.script(
        "const plot = document.querySelector('[data-thousand]'); const box = plot.getBoundingClientRect(); \
         plot.setPointerCapture = () => {}; plot.hasPointerCapture = () => true; \
         for (const kind of ['pointerdown', 'pointermove']) plot.dispatchEvent(new PointerEvent(kind, \
         { bubbles: true, pointerId: 1, clientX: box.left + box.width * 0.7, clientY: box.top + 60 }));",
    )
    .await;
    b.see(&live("share"), "6").await;
    assert_ne!(b.text(&live("acted")).await, after, "the line moves by mouse");
    b.fill("[name=value_kept]", "400").await;
    b.see("[data-worth]", "+91.75").await;
    b.fill("[name=save_rate]", "140").await;
    b.see("[data-problem]", "must be between 0 and 100 %").await;
    b.fill("[name=save_rate]", "25").await;
    b.fill("[name=line]", "0.25").await;
    b.see(&live("key"), "0.2").await;
    b.click("[data-keep]").await;
    b.see(".entries li:first-child", "Cut-off at P ≥ 0.250").await;
    b.click(".confirm .button-quiet").await;
    b.see(".confirm", "on the sealed test set").await;
    assert!(b.text("main").await.contains("opened 1 time"), "openings are counted");

    // Lists: match, score, download; the same probabilities as the command line gives.
    b.press("7").await;
    b.choose_file("[name=file]", &list).await;
    b.click(".bring .button").await;
    b.see("h1", "renewals fits the model: 400 customers can be scored").await;
    b.is_accessible("the match").await;
    b.click(".extras .button").await;
    b.see("h1", "of 400 customers").await;
    b.is_accessible("the scored list").await;
    let address = b.client.current_url().await.expect("an address");
    let scored = b.fetch(&format!("{}/scored.csv?columns=pronoia_probability,pronoia_decision", address.path())).await;
    assert_eq!(scored.lines().count(), 401);

    let (model, out) = (server.folder.path().join("m.json"), server.folder.path().join("o.csv"));
    let family = if b.text(".lead").await.starts_with("Boosted") { "boosted" } else { "logistic" };
    let run = |arguments: &[&str]| {
        let done = Command::new(env!("CARGO_BIN_EXE_pronoia")).args(arguments).output().expect("the program runs");
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    let path = |p: &std::path::Path| p.to_str().expect("a path").to_owned();
    run(&[
        "fit",
        &path(&file),
        "--outcome",
        "cancelled",
        "--event",
        "yes",
        "--family",
        family,
        "--holdout",
        "0.4",
        "--leave-out",
        LEFT_OUT,
        "--model",
        &path(&model),
    ]);
    run(&["score", &path(&list), "--model", &path(&model), "--out", &path(&out), "--cut-off", "0.25"]);
    let by_command = std::fs::read_to_string(&out).expect("the scored list");
    let judgement = |text: &str| -> Vec<(f64, String)> {
        let pair = |line: &str| {
            let (rest, decision) = line.rsplit_once(',').expect("a decision");
            (rest.rsplit(',').next().expect("a probability").parse().expect("a number"), decision.to_owned())
        };
        text.lines().skip(1).map(pair).collect()
    };
    assert_eq!(judgement(&scored), judgement(&by_command), "the page and the command line give the same");

    // The Back key, and the keys shown.
    b.client.back().await.expect("back");
    b.press("?").await;
    b.see("dialog[open]", "undo the newest choice").await;
    b.close().await;
}
