//! What the measures of a page mean, said with the counts that stand on it.

use pronoia_core::campaign::Effect;
use pronoia_core::drivers::{Driver, Drivers, PairMap};
use pronoia_core::evaluate::Evaluation;
use pronoia_core::explain::PermutationImportance;
use pronoia_core::question::Question;
use pronoia_core::stats::entropy;
use pronoia_core::watch::Drift;

use pronoia_service::text;

/// Names of measures, and what each means here.
pub type Meanings = Vec<(&'static str, String)>;

/// So many of a hundred.
pub fn hundred(share: f64) -> String {
    text::fixed(share * 100.0, 0)
}

/// The area under the ROC curve as a share of pairs.
pub fn area(e: &Evaluation, name: &str, question: Question) -> String {
    format!(
        "Take one of the {} customers who {} and one of the {} who {}: {name} ranks the first above the second in {} of 100 such pairs. By chance it would be 50.",
        text::count(e.events),
        question.event_verb(),
        text::count(e.rows - e.events),
        question.other_verb(),
        hundred(e.area_under_roc)
    )
}

/// Of one column among all that were looked at.
pub fn driver(all: &Drivers, driver: &Driver, question: Question) -> Meanings {
    let Some((_, most)) = driver.extremes() else { return Vec::new() };
    let (column, whole, group) = (&driver.column, all.all, most.count);
    let before = entropy(whole);
    let (low, high) = group.interval();
    let share = |part: u64, of: u64| text::percent(part as f64 / of.max(1) as f64);
    let mut meanings = vec![
        (
            "event rate",
            format!(
                "Of the {} customers with {column} {}, {} {}: {}. 95 % CI (Wilson): {} to {}.",
                text::count(group.rows),
                most.label,
                text::count(group.events),
                question.event_verb(),
                text::percent(group.rate()),
                text::percent(low),
                text::percent(high)
            ),
        ),
        (
            "lift",
            format!(
                "That rate is {} times the rate of everybody, {} of {}.",
                text::fixed(group.rate() / whole.rate(), 2),
                text::count(whole.events),
                text::count(whole.rows)
            ),
        ),
        (
            "uncertainty",
            format!(
                "Entropy of the outcome: {} bits. Given {column}, {} bits are left: mutual information is {} of the entropy.",
                text::fixed(before, 4),
                text::fixed(before - driver.bits, 4),
                text::percent(driver.share)
            ),
        ),
        (
            "information value",
            format!(
                "{column} {} holds {} of the {} {} and {} of the {} others. Information value (IV): the difference times the logarithm of the ratio (weight of evidence), summed over all groups. Here a column counts as strong from {} on.",
                most.label,
                share(group.events, whole.events),
                text::count(whole.events),
                question.events_noun(),
                share(group.others(), whole.others()),
                text::count(whole.others()),
                text::fixed(pronoia_core::drivers::STRONG, 1)
            ),
        ),
    ];
    if let Some(r) = driver.correlation {
        meanings.push((
            "correlation",
            format!(
                "Linear (point-biserial) correlation of the event with {column}: {}, from −1 to 1. A rate that is high at both ends does not show here.",
                text::fixed(r, 3)
            ),
        ));
    }
    meanings
}

/// Of two columns together.
pub fn pair(map: &PairMap) -> Meanings {
    let thousandths = |bits: f64| text::fixed(bits * 1_000.0, 1);
    vec![(
        "bits × 1000",
        format!(
            "Mutual information of {} and {} together with the outcome: {} thousandths of a bit. The two alone: {} in all; the rest, {}, is the interaction.",
            map.down,
            map.across,
            thousandths(map.together),
            thousandths(map.together - map.beyond),
            thousandths(map.beyond)
        ),
    )]
}

/// Of what is lost with a column that a model goes by.
pub fn influence(found: &PermutationImportance, name: &str, question: Question) -> Meanings {
    let Some(first) = found.columns.first() else { return Vec::new() };
    let mut meanings = Vec::new();
    if let Some(money) = first.money {
        meanings.push((
            "profit lost",
            format!(
                "Expected profit of the policy, less that after {} is shuffled: {} (90 % CI {} to {}).",
                first.column,
                text::money(money.profit),
                text::money(money.low),
                text::money(money.high)
            ),
        ));
    }
    if let (Some(lost), Some(all)) = (first.area, found.area) {
        meanings.push((
            "AUC lost",
            format!(
                "Of 100 pairs of one of the {} customers who {} and one who {}, {name} ranks the first above the second in {}. With {} shuffled it is {}.",
                text::count(found.events),
                question.event_verb(),
                question.other_verb(),
                text::fixed(all.value * 100.0, 1),
                first.column,
                text::fixed((all.value - lost.value) * 100.0, 1)
            ),
        ));
    }
    meanings
}

/// Of how far something moved since the fit.
pub fn drift(name: &str, drift: &Drift) -> Meanings {
    let (part, then, now) = &drift.part;
    vec![
        (
            "index",
            format!(
                "The population stability index (PSI). {name} is binned into about ten parts; for each, the shift of its share of customers times the logarithm of the ratio is added up. Most of the {} here comes from {part}: {} of the customers then, {} now. From 0.1 on it counts as drift, from 0.25 as strong drift.",
                text::fixed(drift.psi, 3),
                text::percent(*then),
                text::percent(*now)
            ),
        ),
        (
            "limit by chance",
            format!(
                "Without drift, so few customers exceed a PSI of {} once in a thousand times. Below that it is not taken for drift.",
                text::fixed(drift.by_chance, 3)
            ),
        ),
    ]
}

/// Of what a campaign changed.
pub fn effect(effect: &Effect, question: Question) -> Meanings {
    let (low, high) = effect.acted.interval();
    let points = |share: f64| text::fixed(share * 100.0, 1);
    vec![
        (
            "95 % CI",
            format!(
                "{} of {} acted on {}: {}. 95 % CI (Wilson): {} to {}.",
                text::count(effect.acted.events),
                text::count(effect.acted.rows),
                question.event_verb(),
                text::percent(effect.acted.rate()),
                text::percent(low),
                text::percent(high)
            ),
        ),
        (
            "effect, points",
            format!(
                "{} of 100 acted on less {} of 100 in the control group: {} points. The groups are randomised, so that the difference estimates the effect of acting: 95 % CI {} to {} points.",
                points(effect.acted.rate()),
                points(effect.control.rate()),
                points(effect.difference),
                points(effect.interval.0),
                points(effect.interval.1)
            ),
        ),
    ]
}
