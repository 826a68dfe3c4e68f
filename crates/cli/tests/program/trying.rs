//! Decide in a real browser: priced by customer, limited, and a customer edited until the action flips.

use crate::support::Browser;
use crate::support::study::Study;
use pronoia_demo::{FIRST_MEMBER, SEED, members};

#[tokio::test(flavor = "multi_thread")]
async fn amounts_by_customer_a_budget_and_a_customer_who_is_changed() {
    let study = Study::begun(&members(3_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    let b = Browser::open().await;
    b.sign_in(&study.server).await;

    // A formula in the place of a number, and one that cannot be.
    b.go(&format!("{}/studies/{}/decide", study.server.url, study.id)).await;
    b.see("h1", "Make the offer to").await;
    b.fill("[name=value_kept]", "0.8 * anual_fee").await;
    b.see("[data-problem]", "There is no column “anual_fee”").await;
    b.fill("[name=value_kept]", "0.8 * annual_fee").await;
    b.see(".mean", "on average").await;
    b.see("[data-rules]", "each customer by their own incremental profit").await;
    // The richer rule is taken, and a budget typed.
    b.click("[data-rules] tr:nth-child(5) a").await;
    b.see("[data-live=first]", "highest incremental profit").await;
    b.click("summary:has(+ label [name=most_customers])").await;
    b.fill("[name=most_money]", "900").await;
    b.see_element("[data-thousand] .beyond").await;
    b.is_accessible("decide by customer").await;
    b.click("[data-keep]").await;
    b.see("[data-keep]", "Policy kept").await;

    // What the model goes by, one column and two.
    b.click(".views a[href$='decide/why']").await;
    b.see("h1", "Which columns are important for scorecard?").await;
    b.click(".why-tools .button").await;
    b.see("h1", "Most important: ").await;
    b.is_accessible("importance").await;
    b.click(".leaning tbody tr:nth-child(2) a").await;
    b.see(".effect figcaption, .effect .finding", "Partial dependence on").await;
    b.click("[name=across] option:nth-child(3)").await;
    b.click("[name=down] option:nth-child(2)").await;
    b.click(".any-pair button").await;
    b.see(".pair-map figcaption", "Partial dependence on").await;

    // What that means for groups, and the sheet to sign.
    b.click(".views a[href$='decide/groups']").await;
    b.see("h1", "By owner_age_band").await;
    b.is_accessible("groups").await;
    b.click("[name=column] option[value=''] ~ option:nth-child(5)").await;
    b.click(".choices .button-quiet").await;
    b.see(".ladders section:nth-of-type(2)", "customers").await;
    b.click(".views a[href$='decide/sheet']").await;
    b.see("h1", "Policy sheet: Who will cancel?").await;
    b.see(".approval", "Approved by").await;
    b.is_accessible("the policy sheet").await;
    b.script("window.print = () => { document.title = 'printed'; }").await;
    b.click("[data-print]").await;
    assert_eq!(b.script("return document.title").await, "printed");

    // A customer just above the line, edited until they are left alone.
    b.click(".views a[href$='decide/customer']").await;
    b.see("h1", "make the offer to them").await;
    b.is_accessible("try a customer").await;
    let fee = "[aria-label=annual_fee]";
    b.fill(fee, "60").await;
    b.press("\u{e004}").await;
    b.see("h1", "do not act").await;
    b.see(".account-of small", "was").await;
    // The Back key brings back what was there.
    b.client.back().await.expect("back");
    b.see("h1", "make the offer to them").await;
    b.fill(fee, "plenty").await;
    b.press("\u{e004}").await;
    b.see("form .problem", "“annual_fee” is a number").await;
    b.close().await;
}
