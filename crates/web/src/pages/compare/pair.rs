//! Two candidates on the same customers: whether they differ, and about whom.

use pronoia_core::decide::{Difference, Prices};
use pronoia_core::evaluate::delong;
use pronoia_store::judgements::Paired;

use super::measures::Candidate;
use crate::frame::whom;
use crate::text;

/// What a page says of two candidates.
pub struct PairView {
    pub heading: String,
    pub area: String,
    pub profit: Option<String>,
    /// Who acts, on how many, and how many of them had the event, as a table.
    pub groups: Vec<[String; 3]>,
}

impl PairView {
    /// Compares two candidates, each acting from a cut-off of its own.
    pub fn of(
        [a, b]: [&Candidate; 2],
        [at, bt]: [f64; 2],
        paired: &Paired,
        (prices, population): (Option<&Prices>, Option<f64>),
    ) -> Self {
        let (first, second) = (&a.model.name, b.model.name.to_lowercase());
        let area = delong::difference(&paired.first, &paired.second, &paired.event);
        let rows = text::count(paired.event.len() as u64);
        let mut differ = false;
        let area = match area {
            Some(area) => {
                let (low, high) = area.interval();
                differ = area.chance() < 0.05;
                let says =
                    if differ { "more than chance would make of it" } else { "which chance alone could make of it" };
                format!(
                    "On the {rows} customers that both are judged on, the area under ROC of {} is {} {} than that of {second}, between {} and {}: {says} (p = {}).",
                    first.to_lowercase(),
                    text::fixed(area.value.abs(), 4),
                    if area.value < 0.0 { "less" } else { "greater" },
                    text::fixed(low, 4),
                    text::fixed(high, 4),
                    text::fixed(area.chance(), 3)
                )
            }
            None => "There are too few customers of either outcome to tell them apart.".into(),
        };
        let none = Prices { act_event: 0.0, act_other: 0.0 };
        let apart = Difference::of(
            [(&paired.first, at), (&paired.second, bt)],
            &paired.event,
            prices.unwrap_or(&none),
            population.unwrap_or(1_000.0),
        );
        let profit = prices.map(|_| {
            let (low, high) = (apart.profit - apart.reach, apart.profit + apart.reach);
            format!(
                "Each at its own best point, {} brings {} {} {}, between {} and {}: {}.",
                first.to_lowercase(),
                text::money(apart.profit.abs()),
                if apart.profit < 0.0 { "less" } else { "more" },
                whom(population),
                text::money(low),
                text::money(high),
                if apart.is_clear() { "that is no accident of these customers" } else { "that may be chance" }
            )
        });
        differ |= prices.is_some() && apart.is_clear();
        let line = |who: String, count: pronoia_core::drivers::Count| {
            let rate = if count.rows > 0 { text::percent(count.rate()) } else { "–".into() };
            [who, text::count(count.rows), format!("{} ({rate})", text::count(count.events))]
        };
        Self {
            heading: format!(
                "{first} and {second} {}",
                if differ { "are really different" } else { "may be the same, as far as these customers tell" }
            ),
            area,
            profit,
            groups: vec![
                line("both act".into(), apart.both),
                line(format!("only {} acts", first.to_lowercase()), apart.only_first),
                line(format!("only {second} acts"), apart.only_second),
                line("neither acts".into(), apart.neither),
            ],
        }
    }
}
