//! The event rate along a number's range, over where the customers are.

use pronoia_core::Kind;
use pronoia_core::drivers::{Driver, Strip};
use pronoia_core::number::{count, percent, plain};
use pronoia_core::stats::Count;
use pronoia_core::table::written_date;

use crate::pages::records::ColumnLine;

/// Customers in an interval below which its rate says next to nothing.
const SPARSE: u64 = 30;

/// Puts the strip of a column in place of its shape.
pub(crate) fn draw(line: &mut ColumnLine, driver: &Driver) {
    let Some(strip) = &driver.strip else { return };
    let Some(finding) = finding(driver, strip) else { return };
    let interval = |c: &Count| (c.rows > 0).then(|| (c.rate(), c.interval()));
    let rates: Vec<_> = strip.counts.iter().map(interval).collect();
    line.finding = finding;
    line.shape = None;
    line.strip = Some(
        serde_json::json!({
            "edges": strip.edges,
            "rows": strip.counts.iter().map(|c| c.rows).collect::<Vec<_>>(),
            "rates": rates.iter().map(|r| r.map(|(rate, _)| rate)).collect::<Vec<_>>(),
            "low": rates.iter().map(|r| r.map(|(_, (low, _))| low)).collect::<Vec<_>>(),
            "high": rates.iter().map(|r| r.map(|(_, (_, high))| high)).collect::<Vec<_>>(),
            "sparse": SPARSE,
            "date": driver.kind == Kind::Date,
            "name": line.name,
        })
        .to_string(),
    );
}

/// Where the rate is least and greatest, in a sentence.
fn finding(driver: &Driver, strip: &Strip) -> Option<String> {
    let all: u64 = strip.counts.iter().map(|c| c.rows).sum();
    let told = || strip.counts.iter().enumerate().filter(|(_, c)| c.rows >= SPARSE.max(all / 100));
    let by_rate = |a: &(usize, &Count), b: &(usize, &Count)| a.1.rate().total_cmp(&b.1.rate());
    let (least, most) = (told().min_by(by_rate)?, told().max_by(by_rate)?);
    let write = |x: f64| if driver.kind == Kind::Date { written_date(x as i32) } else { plain(x) };
    let place = |at: usize| {
        let (from, to) = (strip.edges[at], strip.edges[at + 1]);
        // Bars about whole numbers stand for one value each.
        if to - from == 1.0 && from.fract() != 0.0 {
            format!("at {}", write(from + 0.5))
        } else {
            format!("from {} to {}", write(from), write(to))
        }
    };
    Some(format!(
        "The event rate by {}: {} {}, {} {} ({} training rows)",
        driver.column,
        percent(least.1.rate()),
        place(least.0),
        percent(most.1.rate()),
        place(most.0),
        count(all)
    ))
}
