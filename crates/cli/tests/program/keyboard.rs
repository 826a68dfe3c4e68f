//! The route without a mouse: tab, Enter, space, arrows and the keys of the product.

use crate::support::{Browser, EMAIL, PASSWORD, Server};
use pronoia_demo::{FIRST_MEMBER, SEED, members};

const ENTER: &str = "\u{e007}";
const RIGHT: &str = "\u{e014}";
const END: &str = "\u{e010}";
const ESCAPE: &str = "\u{e00c}";

#[tokio::test(flavor = "multi_thread")]
async fn from_sign_in_to_a_policy_without_a_mouse() {
    let server = Server::start().await;
    server.make_account();
    let file = server.file("members.csv", &pronoia_demo::outcome_csv(&members(3_000, SEED, FIRST_MEMBER)));
    let b = Browser::open().await;
    b.go(&format!("{}/sign-in", server.url)).await;
    b.press(EMAIL).await;
    b.tab_to("[name=password]").await;
    b.press(PASSWORD).await;
    b.press(ENTER).await;
    b.see("h1", "Questions").await;

    b.tab_to("[name=file]").await;
    b.choose_file("[name=file]", &file).await;
    b.tab_to(".bring .button").await;
    b.press(ENTER).await;
    b.see(".lead", "29 columns").await;
    b.tab_to(".heading-action .button").await;
    b.press(ENTER).await;
    b.see("h1", "customers in members").await;
    // Rows of a table by j, opened by Enter.
    b.press("jj").await;
    b.press(ENTER).await;
    b.see(".unfolded", "legacy_ref").await;

    b.go(&server.url).await;
    b.tab_to("[name=title]").await;
    b.press("Who will cancel?").await;
    b.press(ENTER).await;
    b.see("h1", "which value is the event").await;
    b.tab_to("form:has([value=cancelled]) button[value=yes]").await;
    b.press(ENTER).await;
    b.see(".verdict h2", "to exclude").await;
    b.tab_to(".verdict .button").await;
    b.press(" ").await;
    b.see(".entries li:first-child", "excluded").await;
    b.see("[data-stop='2'] .stop-figure", "strong").await;

    b.press("4").await;
    b.tab_to(".family:first-child button").await;
    b.press(ENTER).await;
    b.see("[data-stop='4'] .stop-figure", "1 fitted").await;
    b.press("6").await;
    b.see("h2", "Profit of each outcome").await;
    let acted = b.text("[data-live=acted]").await;
    b.tab_to(".handle").await;
    b.press(RIGHT).await;
    assert_ne!(b.text("[data-live=acted]").await, acted, "the line moves by arrow");
    b.press(END).await;
    b.see("[data-live=share]", "100.0").await;
    // The ledger is put away and shown again.
    b.press("l").await;
    let width = "return document.querySelector('.ledger').offsetWidth";
    assert_eq!(b.script(width).await, 0);
    b.press("l").await;
    assert_ne!(b.script(width).await, 0);
    b.press("?").await;
    b.see("dialog[open]", "Shortcuts").await;
    b.press(ESCAPE).await;
    b.press("/").await;
    b.see_element(".find").await;
    b.press("annual").await;
    b.press(ENTER).await;
    b.see("table", "annual_fee").await;
    b.is_accessible("find").await;
    b.client.back().await.expect("back");
    b.client.back().await.expect("back");
    b.tab_to("[data-line]").await;
    b.press(END).await;
    b.press("1").await;
    b.tab_to("[data-keep]:enabled").await;
    b.press(ENTER).await;
    b.see(".entries li:first-child", "Cut-off at P ≥").await;
    b.press("u").await;
    b.see(".entries .taken-back", "Cut-off at P ≥").await;
    b.close().await;
}
