//! The figures where the line stands, written out.

use pronoia_core::decide::ExpectedProfit;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::text;

use super::{chart_data, offers};

/// The figures at the line, written out.
pub struct Here {
    pub acted: String,
    pub share: String,
    pub key: String,
    pub events: String,
    pub missed: String,
    pub profit: String,
    pub low: String,
    pub high: String,
    pub per_hundred: String,
    pub found_per_hundred: String,
    pub break_even: String,
    pub behind: String,
    pub referred: String,
    pub refer_from: String,
    /// Gained over leaving everybody alone, where that is not worth nothing.
    pub over_none: String,
}

impl Here {
    pub fn of(situation: &Situation) -> Self {
        let Situation { weighing, chosen, .. } = situation;
        let p = weighing.curve.points[weighing.position];
        let counts = weighing.ranking.confusion(weighing.position);
        let ExpectedProfit { profit, low, high } = weighing.expected();
        let none = weighing.curve.none().profit;
        let events = weighing.curve.all_events();
        let rule = &chosen.policy.rule;
        Self {
            acted: text::fixed(p.acted, 0),
            share: text::percent(p.share),
            key: chart_data::key(rule.by, p.cut_off),
            events: text::fixed(p.events, 0),
            missed: text::fixed(events - p.events, 0),
            profit: text::money(profit),
            low: text::money(low),
            high: text::money(high),
            per_hundred: text::fixed(if p.acted > 0.0 { p.events / p.acted * 100.0 } else { 0.0 }, 0),
            found_per_hundred: text::fixed(counts.recall() * 100.0, 0),
            break_even: offers::break_even(&chosen.policy),
            behind: chart_data::behind(chart_data::best(situation).1 - profit),
            referred: text::fixed(weighing.referred().0, 0),
            refer_from: weighing
                .refer
                .map_or("–".into(), |at| chart_data::key(rule.by, weighing.curve.points[at].cut_off)),
            over_none: text::money(profit - none),
        }
    }
}
