//! Every address, asked with whatever anybody might put behind it or into its form: the answer is a page or a
//! refusal in words, never an error of ours. In every run for some seconds; with `PRONOIA_TEST_SLOW` for ten
//! minutes.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use crate::support::study::Study;
use crate::support::{Http, filled, plain};
use pronoia_web::{Right, Route, doors};
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// Values that nobody offers.
const ODD: [&str; 36] = [
    "",
    " ",
    "0",
    "1",
    "2",
    "-1",
    "1.5",
    "1,5",
    "1e309",
    "NaN",
    "inf",
    "-0",
    "99999999999999999999",
    "9223372036854775807",
    "true",
    "yes",
    "none",
    "0.5",
    "100",
    "100 %",
    "annual_fee",
    "cancelled",
    "species",
    "no such column",
    "it's",
    "a\"b",
    "<b>",
    "../..",
    "%00",
    "\u{0}",
    "\u{202e}",
    "ü",
    "顧客",
    "1\n2",
    "SELECT 1",
    "annual_fee > 100",
];

/// Names of fields that pages carry in their addresses.
const ASKED: [&str; 30] = [
    "sort",
    "page",
    "column",
    "all",
    "segment",
    "down",
    "across",
    "model",
    "cut_off",
    "measures",
    "with",
    "curve",
    "view",
    "q",
    "sql",
    "line",
    "line_as",
    "columns",
    "step",
    "by",
    "from",
    "to",
    "rows",
    "condition",
    "those",
    "descending",
    "line_again",
    "group",
    "open",
    "after",
];

/// The names that the fields of all pages have, and the values that they offer.
pub fn fields(http: &Http) -> (Vec<String>, Vec<String>) {
    let (mut names, mut values) = (BTreeSet::new(), BTreeSet::new());
    for door in doors().filter(|door| door.method == "get" && !matches!(door.right, Right::Program)) {
        let text = http.get(&filled(door)).text;
        let attributes = |attribute: &str| -> Vec<String> {
            let before = format!(" {attribute}=\"");
            text.split(&before).skip(1).filter_map(|rest| rest.split('"').next()).map(str::to_owned).collect()
        };
        names.extend(attributes("name"));
        values.extend(attributes("value").into_iter().filter(|value| value.len() < 60));
    }
    names.remove("csrf");
    names.extend(ASKED.map(str::to_owned));
    (names.into_iter().collect(), values.into_iter().collect())
}

/// Those that would end the session that asks, or take away what is asked about.
fn is_left_out(door: &Route) -> bool {
    let is_post = door.method == "post";
    matches!(door.right, Right::Program)
        || door.path.starts_with("/sign")
        || is_post && (door.path.starts_with("/account") || door.path.contains("away"))
}

#[tokio::test(flavor = "multi_thread")]
async fn no_address_answers_with_an_error_of_ours_whatever_it_is_asked() {
    let seconds = if std::env::var("PRONOIA_TEST_SLOW").is_ok() { 600 } else { 6 };
    let study = Study::furnished().await;
    let http = &study.http;
    let (names, offered) = fields(http);
    assert!(names.len() > 80, "{} names", names.len());
    let open: Vec<&Route> = doors().filter(|door| !is_left_out(door)).collect();
    let end = Instant::now() + Duration::from_secs(seconds);
    let csrf = http.csrf();
    let (mut times, mut kinds) = (0, BTreeSet::new());
    while Instant::now() < end || times as usize <= open.len() {
        let mut rng = ChaCha8Rng::seed_from_u64(times);
        // Everything is tried once before anything is tried again.
        let door = open[times as usize % open.len()];
        let mut path = filled(door);
        if rng.random_range(0..8u8) == 0 {
            path = path.replacen(
                "/1",
                ["/0", "/-1", "/999999", "/x", "/1e9", "/9223372036854775808"].choose(&mut rng).expect("one"),
                1,
            );
        }
        let value = |rng: &mut ChaCha8Rng| {
            if rng.random() {
                offered.choose(rng).expect("one").clone()
            } else {
                (*ODD.choose(rng).expect("one")).to_owned()
            }
        };
        let asked: Vec<(String, String)> = (0..rng.random_range(0..7))
            .map(|_| (names.choose(&mut rng).expect("one").clone(), value(&mut rng)))
            .collect();
        let answer = if door.method == "get" {
            let encoded = |text: &str| text.bytes().map(|byte| format!("%{byte:02X}")).collect::<String>();
            let query: Vec<String> = asked.iter().map(|(name, value)| format!("{name}={}", encoded(value))).collect();
            path = format!("{path}?{}", query.join("&"));
            http.get(&path)
        } else {
            let mut fields = vec![("csrf", csrf.as_str())];
            fields.extend(asked.iter().map(|(name, value)| (name.as_str(), value.as_str())));
            http.post(&path, &fields)
        };
        assert!(
            answer.status < 500,
            "{times} {} {path} {asked:?}: {} {}",
            door.method,
            answer.status,
            plain(&answer.text)
        );
        if (400..500).contains(&answer.status)
            && answer.headers["content-type"].to_str().is_ok_and(|kind| kind.starts_with("text/html"))
        {
            let heading = answer.text.split("<h1>").nth(1).and_then(|rest| rest.split("</h1>").next());
            assert!(
                heading.is_some_and(|words| words.len() > 5),
                "{path}: a refusal says what is wrong: {}",
                answer.text
            );
        }
        kinds.insert(answer.status);
        times += 1;
        if times % 100 == 0 {
            study.server.run_sql("UPDATE job SET state = 'stopped', finished_at = now() WHERE state = 'queued'").await;
        }
    }
    let said = study.server.said();
    assert!(!said.contains("panicked") && !said.contains("broke off"), "{said}");
    println!("{times} requests to {} addresses, {} names of fields; answers {kinds:?}", open.len(), names.len());
}
