//! The three questions of the demonstration answered from sign-in to sign-out: by somebody new with a mouse, who
//! takes the ten steps first, and by somebody without one.

use crate::support::{Browser, Server, demonstration, plain};
use pronoia_store::Store;

const ENTER: &str = "\u{e007}";
const TAB: &str = "\u{e004}";
const BACK: &str = "\u{e003}";
const END: &str = "\u{e010}";

/// A server with the demonstration, and its studies: churn, credit, response.
async fn with_studies() -> (Server, Store, [i64; 3]) {
    let (server, _) = demonstration().await;
    let store = server.store().await;
    let studies = store.studies(1).await.expect("studies");
    let of = |words: &str| studies.iter().find(|study| study.title.contains(words)).expect("a study").id;
    let ids = [of("cancel"), of("instalment"), of("dental")];
    (server, store, ids)
}

/// Somebody in front of a browser, with a mouse or without one.
struct Hands {
    browser: Browser,
    has_mouse: bool,
}

impl Hands {
    /// Follows a link or presses a button.
    async fn take(&self, css: &str) {
        if self.has_mouse {
            self.browser.click(css).await;
        } else {
            self.browser.tab_to(css).await;
            self.browser.press(ENTER).await;
        }
    }

    /// Goes to a stop of the study.
    async fn stop(&self, number: u8) {
        if self.has_mouse {
            self.browser.click(&format!("[data-stop='{number}']")).await;
        } else {
            self.browser.press(&number.to_string()).await;
        }
        self.browser.see_element(&format!("[data-stop='{number}'][aria-current]")).await;
    }

    /// Writes into a field in place of what stands there, and leaves it.
    async fn write(&self, css: &str, text: &str) {
        if self.has_mouse {
            self.browser.click(css).await;
        } else {
            self.browser.tab_to(css).await;
        }
        self.browser.press(END).await;
        self.browser.press(&BACK.repeat(16)).await;
        self.browser.press(text).await;
        self.browser.press(TAB).await;
    }

    /// Goes home, and to a question from there.
    async fn question(&self, study: i64, says: &str) -> String {
        self.take(".wordmark").await;
        self.browser.see("h1", "Questions").await;
        self.take(&format!("td.title a[href='/studies/{study}']")).await;
        plain(&self.browser.see("h1", says).await)
    }
}

/// The first number of a sentence.
fn first_number(sentence: &str) -> u64 {
    let digits: String = sentence
        .chars()
        .skip_while(|c| !c.is_ascii_digit())
        .take_while(|c| c.is_ascii_digit() || *c == ' ')
        .filter(char::is_ascii_digit)
        .collect();
    digits.parse().unwrap_or_else(|_| panic!("no number in “{sentence}”"))
}

/// Whom to ring: from what it is worth to what came of it, and another price tried and taken back.
async fn whom_to_ring(hands: &Hands, study: i64) {
    let b = &hands.browser;
    let decided = hands.question(study, "Make the offer to").await;
    let customers = first_number(&decided);
    assert!((300..1_500).contains(&customers), "{decided}");
    hands.write("[name=offer_cost]", "40").await;
    b.see("[data-prices]", "40").await;
    let dearer = first_number(&plain(&b.see("h1", "Make the offer to").await));
    assert!(dearer <= customers, "a dearer offer is made to no more: {dearer} of {customers}");
    hands.take("[data-keep]:enabled").await;
    b.see("[data-keep]", "Policy kept").await;
    b.press("u").await;
    b.see(".entries .taken-back", "Cut-off").await;
    assert_eq!(first_number(&plain(&b.see("h1", "Make the offer to").await)), customers, "as it was");

    // Why, and about whom.
    hands.take(".views a[href$='decide/why']").await;
    b.see("h1", "Most important: months_since_visit").await;
    hands.take(".views a[href$='decide/groups']").await;
    b.see("h1", "owner_age_band").await;
    hands.stop(7).await;
    hands.take("[data-rows] tbody th a").await;
    let acted = plain(&b.see("h1", "of 3 000 customers").await);
    assert!(first_number(&acted).abs_diff(customers) < 120, "{acted}: about as many as were decided on, {customers}");
    hands.take("#campaign a").await;
    b.see("h1", "of those acted on").await;
    b.see(".lead", "against no action").await;
}

/// Whom to decline: two lines, and a customer who is changed until somebody else decides.
async fn whom_to_decline(hands: &Hands, study: i64) {
    let b = &hands.browser;
    let decided = hands.question(study, "Decline").await;
    assert!(decided.contains("refer") && decided.contains("more than approving everybody"), "{decided}");
    assert_eq!(
        b.script("return document.querySelectorAll('.handle').length").await,
        2,
        "one line to decline, one to look"
    );
    hands.take(".views a[href$='decide/customer']").await;
    let before = plain(&b.see("h1", "Predicted probability").await);
    hands.write(".account-of tbody input:not([type=checkbox])", "1").await;
    b.see(".account-of small", "was").await;
    let after = plain(&b.see("h1", "Predicted probability").await);
    assert_ne!(before, after, "the account follows");
    hands.stop(3).await;
    b.see("h1", "predictors").await;
    hands.take("a[href$='prepare/cautions']").await;
    b.see(".left-out", "past approvals only").await;
}

/// Whom to write to: which model, who comes first, and what the letters changed.
async fn whom_to_write_to(hands: &Hands, study: i64) {
    let b = &hands.browser;
    let decided = hands.question(study, "Contact").await;
    hands.stop(5).await;
    b.see("h1", "expected profit").await;
    b.press("m").await;
    b.see("details[open].meaning", "of 100 such pairs").await;
    for row in [1, 2] {
        let tick = format!("[data-rows] tbody tr:nth-child({row}) input");
        if hands.has_mouse {
            b.click(&tick).await;
        } else {
            b.tab_to(&tick).await;
            b.press(" ").await;
        }
    }
    hands.take(".beside .button-quiet").await;
    b.see(".told-apart", "customers").await;
    hands.stop(7).await;
    hands.take("[data-rows] tbody th a").await;
    let acted = plain(&b.see("h1", "of 6 000 customers").await);
    assert!(first_number(&acted).abs_diff(first_number(&decided)) < 200, "{acted} {decided}");
    hands.take("#campaign a").await;
    let came = plain(&b.see("h1", "Effect, higher").await);
    assert!(came.contains("95 % CI"), "{came}");
    hands.stop(8).await;
    b.see("h1", "Nothing is released yet").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_new_takes_the_ten_steps_and_answers_three_questions() {
    let (server, _store, [churn, credit, response]) = with_studies().await;
    let hands = Hands { browser: Browser::open().await, has_mouse: true };
    let b = &hands.browser;
    b.go(&server.url).await;
    b.see("main", "willow-and-reed").await;
    b.fill("[name=email]", "analyst@osiervale.example").await;
    b.fill("[name=password]", "willow-and-reed").await;
    b.click(".sign-in .button").await;
    b.see(".walk", "A tour of ten steps leads through the demonstration").await;
    for step in 1..=10 {
        b.click(".walk .button-quiet").await;
        b.see(".walk strong", &format!("{step} of 10")).await;
        assert!(b.text("h1").await.len() > 5, "step {step} has something to show");
        assert_eq!(b.script("return document.documentElement.scrollWidth <= innerWidth").await, true, "step {step}");
        // What the steps lead to is looked at by itself; here it is the line that leads.
        if step == 1 || std::env::var_os("PRONOIA_TEST_SLOW").is_some() {
            b.is_accessible(&format!("step {step}")).await;
        }
    }
    b.click(".walk button[value='0']").await;
    whom_to_ring(&hands, churn).await;
    assert_eq!(
        b.script("return document.querySelector('.walk')").await,
        serde_json::Value::Null,
        "it does not come back"
    );
    whom_to_decline(&hands, credit).await;
    whom_to_write_to(&hands, response).await;
    hands.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_without_a_mouse_answers_three_questions() {
    let (server, _store, [churn, credit, response]) = with_studies().await;
    let hands = Hands { browser: Browser::open().await, has_mouse: false };
    let b = &hands.browser;
    b.go(&server.url).await;
    b.press("analyst@osiervale.example").await;
    b.tab_to("[name=password]").await;
    b.press("willow-and-reed").await;
    b.press(ENTER).await;
    b.see("h1", "Questions").await;
    hands.take(".walk button[value='0']").await;
    b.see("h1", "Questions").await;
    whom_to_ring(&hands, churn).await;
    whom_to_decline(&hands, credit).await;
    whom_to_write_to(&hands, response).await;
    hands.take("[action='/sign-out'] button").await;
    b.see("h1", "Who is about to leave").await;
    hands.browser.close().await;
}
