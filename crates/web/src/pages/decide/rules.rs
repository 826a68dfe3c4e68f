//! The table of what other rules would bring.

use pronoia_core::decide::{Alternative, ExpectedProfit, Rule, Which};
use pronoia_core::study::ChosenPolicy;
use pronoia_service::ServiceError;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form;
use pronoia_service::study_view::whom;
use pronoia_service::text;

use super::{Today, offers};
use crate::frame::encoded;

/// A rule as the table shows it.
#[derive(Clone)]
pub struct RuleLine {
    pub name: String,
    pub share: String,
    pub worth: String,
    pub band: Option<[String; 2]>,
    /// What it brings more than the best single cut-off.
    pub over: Option<[String; 3]>,
    /// Where it is put in place of the present one.
    pub href: Option<String>,
    /// Whether it is the one that stands.
    pub here: bool,
}

/// All rules, and what is to be learnt from them.
pub fn of(situation: &Situation, today: Option<Today>) -> Result<(Vec<RuleLine>, String), ServiceError> {
    let question = situation.view.study.kind();
    let act = question.act();
    let all = situation.alternatives()?;
    let policy = &situation.chosen.policy;
    let (several, names) = (!policy.offers.is_single(), policy.offers.names());
    let name_of = |only: Option<usize>| only.and_then(|at| names.get(at)).cloned().unwrap_or_default();
    let mut lines = Vec::new();
    for other in &all {
        let name = match other.which {
            Which::Nobody => format!("{act} nobody"),
            Which::Everybody => format!("{act} everybody"),
            Which::ByLot => format!("{act} as many, at random"),
            Which::CutOff if several => format!("“{}” alone, one cut-off at its best", name_of(other.only)),
            Which::CutOff => "one cut-off, at its best".into(),
            Which::ValueAware if several => "each customer the most profitable offer, or none".into(),
            Which::ValueAware => "each customer by their own incremental profit".into(),
            Which::OneOffer => format!("“{}” alone, by incremental profit of each customer", name_of(other.only)),
            Which::GainPerCost => "the budget by incremental profit per cost".into(),
            Which::TwoCutOffs => "two cut-offs, manual review in between".into(),
            Which::Perfect => "perfect information (upper bound)".into(),
        };
        let unsure = other.expected.low < other.expected.high;
        lines.push(RuleLine {
            name,
            share: text::percent(other.share),
            worth: text::money(other.expected.profit),
            band: unsure.then(|| [other.expected.low, other.expected.high].map(text::money)),
            over: other.over_cut_off.map(|over| {
                let sign = |x: f64| if x > 0.0 { format!("+{}", text::money(x)) } else { text::money(x) };
                [over.profit, over.low, over.high].map(sign)
            }),
            href: other.rule.as_ref().map(|rule| href(situation, rule, other.only)),
            here: other.rule.as_ref() == Some(&policy.rule) && other.only.is_none(),
        });
        if other.which == Which::Everybody
            && let Some(Today { share, expected }) = today
        {
            lines.push(RuleLine {
                name: "today’s rule".into(),
                share: text::percent(share),
                worth: text::money(expected.profit),
                band: Some([expected.low, expected.high].map(text::money)),
                over: None,
                href: None,
                here: false,
            });
        }
    }
    Ok((lines, finding(situation, &all)))
}

/// Whether a richer rule is worth having, in a sentence.
fn finding(situation: &Situation, all: &[Alternative]) -> String {
    let ChosenPolicy { population, currency, .. } = &situation.chosen;
    let whom = whom(population, "");
    let money = |amount: f64| text::money_in(amount, currency);
    let lines = situation.chosen.policy.is_same_for_all().then(|| situation.typical.payoffs().lines());
    let flattery = format!(
        "Optimism of the best point, chosen and evaluated on the same customers: about {} {whom}{}.",
        money(situation.weighing.curve.optimism),
        match lines.flatten() {
            Some(_) =>
                "; the proposed cut-off is therefore the break-even probability, unless that is significantly worse",
            None => "",
        }
    );
    if let Some(over) = all.iter().find_map(|a| a.over_one_offer) {
        return format!("{} {flattery}", choosing(over, money, &whom));
    }
    let richer = all.iter().filter_map(|a| Some((a.which, a.over_cut_off?)));
    let Some((which, over)) = richer.max_by(|a, b| a.1.profit.total_cmp(&b.1.profit)) else {
        return format!("Amounts are the same for everybody, so that a single cut-off is optimal. {flattery}");
    };
    let rule = match which {
        Which::TwoCutOffs => "Manual review in between",
        Which::GainPerCost => "Spending the budget by incremental profit per cost",
        _ => "Deciding by the incremental profit of each customer",
    };
    let said = if over.low > 0.0 {
        format!(
            "{rule}: {} more than the best single cut-off {whom} (90 % CI {} to {}).",
            money(over.profit),
            text::money(over.low),
            text::money(over.high)
        )
    } else if over.profit > 0.0 {
        format!(
            "{rule}: {} more than the best single cut-off {whom}, not significant: one cut-off is simpler.",
            money(over.profit)
        )
    } else {
        format!("{rule}: no more than the best single cut-off; one cut-off is simpler.")
    };
    format!("{said} {flattery}")
}

/// Whether it is worth choosing among several offers, in a sentence.
fn choosing(over: ExpectedProfit, money: impl Fn(f64) -> String, whom: &str) -> String {
    let range = format!("{} to {}", text::money(over.low), text::money(over.high));
    if over.low > 0.0 {
        format!(
            "The most profitable offer for each customer: {} more than the best single offer {whom} (90 % CI {range}).",
            money(over.profit)
        )
    } else if over.profit > 0.0 {
        format!(
            "The most profitable offer for each customer: {} more than the best single offer {whom}, not significant (90 % CI {range}): one offer is simpler.",
            money(over.profit)
        )
    } else {
        "Choosing among the offers: no more than the best of them alone; one offer is simpler.".into()
    }
}

/// The page with another rule, of the offers only one where it makes do with that, and everything
/// else as it is typed.
fn href(situation: &Situation, rule: &Rule, only: Option<usize>) -> String {
    let chosen = &situation.chosen;
    let amounts = offers::in_address(&chosen.policy, only);
    let mut fields: Vec<(&str, String)> = vec![("model", situation.model.id.to_string())];
    fields.extend(amounts.iter().map(|(field, value)| (field.as_str(), value.clone())));
    let (line, line_as) = policy_form::written(rule.line, rule.by);
    fields.push(("population", chosen.population.customers.map_or(String::new(), |n| format!("{n}"))));
    fields.push((
        "event_rate",
        chosen.population.event_rate.map_or(String::new(), |rate| text::plain_share(rate.population)),
    ));
    fields.push(("currency", chosen.currency.clone()));
    fields.push(("by", policy_form::key_word(rule.by).into()));
    fields.push(("line", format!("{line}")));
    fields.push(("line_as", line_as.into()));
    fields.push(("refer_from", rule.refer_from.map_or(String::new(), |from| format!("{}", from.min(1.0)))));
    for limit in &rule.limits {
        let (value, kind) = policy_form::written(*limit, rule.by);
        let field = match kind {
            "count" => "most_customers",
            "budget" => "most_money",
            _ => "least_precision",
        };
        fields.push((field, format!("{value}")));
    }
    let query: Vec<String> = fields.iter().map(|(name, value)| format!("{name}={}", encoded(value))).collect();
    format!("{}?{}", situation.view.href("decide"), query.join("&"))
}
