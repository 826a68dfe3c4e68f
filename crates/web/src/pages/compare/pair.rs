//! Two candidates on the same customers: whether they differ, and about whom.

use pronoia_core::decide::{Difference, Payoff};
use pronoia_core::evaluate::delong;
use pronoia_service::text;
use pronoia_store::holdout_predictions::PairedPredictions;

use super::Money;
use super::measures::ComparedCandidate;

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
        [a, b]: [&ComparedCandidate; 2],
        [at, bt]: [f64; 2],
        paired: &PairedPredictions,
        money: Option<&Money>,
    ) -> Self {
        let (first, second) = (&a.model.name, b.model.name.to_lowercase());
        let area = delong::difference(&paired.first, &paired.second, &paired.event);
        let rows = text::count(paired.event.len() as u64);
        let mut differ = false;
        let area = match area {
            Some(area) => {
                let (low, high) = area.interval();
                differ = area.chance() < 0.05;
                let says = if differ { "significant at the 5 % level" } else { "not significant at the 5 % level" };
                format!(
                    "Difference in AUC (ROC), {} less {second}: {} (95 % CI {} to {}), {says} (DeLong test, p = {}), on the same {rows} customers.",
                    first.to_lowercase(),
                    text::fixed(area.value, 4),
                    text::fixed(low, 4),
                    text::fixed(high, 4),
                    text::fixed(area.chance(), 3)
                )
            }
            None => "There are too few customers of either outcome to compare them.".into(),
        };
        let gain = money.map_or(Payoff::default(), |money| money.payoffs.gain());
        let apart = Difference::of(
            [(&paired.first, at), (&paired.second, bt)],
            &paired.event,
            gain,
            money.map_or(1_000.0, |money| money.population.size()),
        );
        let profit = money.map(|money| {
            let (low, high) = (apart.profit - apart.reach, apart.profit + apart.reach);
            format!(
                "Difference in expected profit, each at its own best cut-off: {} {} (95 % CI {} to {}), {}.",
                text::money(apart.profit),
                money.whom(),
                text::money(low),
                text::money(high),
                if apart.is_clear() { "significant at the 5 % level" } else { "not significant at the 5 % level" }
            )
        });
        differ |= money.is_some() && apart.is_clear();
        let line = |who: String, count: pronoia_core::stats::Count| {
            let rate = if count.rows > 0 { text::percent(count.rate()) } else { "–".into() };
            [who, text::count(count.rows), format!("{} ({rate})", text::count(count.events))]
        };
        Self {
            heading: format!(
                "{first} and {second} {}",
                if differ { "differ significantly" } else { "do not differ significantly" }
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
