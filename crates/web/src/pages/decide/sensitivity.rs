//! What would have to be true for a decision to lose money.

use pronoia_core::decide::{AssumptionUnit, Sensitivity};
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::TypedFields;
use pronoia_service::text;

use super::map::MapView;

/// Width of the bars in their own units.
const WIDTH: f64 = 240.0;

/// An assumption that need only be so far off, as a share of itself, is a close one.
const CLOSE: f64 = 0.2;

/// How the decision depends on each assumption.
#[derive(Clone)]
pub struct Assumptions {
    pub(super) finding: String,
    /// Whether the decision gains anything as things are assumed.
    pub(super) pays: bool,
    pub(super) lines: Vec<AssumptionLine>,
    /// Where among the bars the decision stands as it is, and where it gains nothing.
    pub(super) here: String,
    pub(super) nothing: Option<String>,
    /// Two of them at once.
    pub(super) map: Option<MapView>,
    /// Whether there are several offers, whose amounts move together.
    pub(super) several: bool,
    /// What gains are counted from, where that is not worth nothing.
    pub(super) over: Option<String>,
}

/// One assumption.
#[derive(Clone)]
pub struct AssumptionLine {
    pub(super) name: &'static str,
    pub(super) value: String,
    /// From where on that is no longer so.
    pub(super) break_even: String,
    /// The same if the line were drawn again.
    pub(super) again: String,
    /// Whether that is near.
    pub(super) close: bool,
    pub(super) less: String,
    pub(super) more: String,
    /// Where its bar begins, and how long it is.
    pub(super) bar: [String; 2],
}

impl Assumptions {
    pub(super) fn of(situation: &Situation, typed: &TypedFields) -> Self {
        let typical = &situation.typical;
        // A single year and no discount are no assumptions.
        let asked = typical.amounts().into_iter().filter(|(a, value)| a.is_linear() || **value != a.usual);
        let (all, gain): (Vec<Sensitivity>, f64) = situation.with_decision(|decision| {
            let of = |(assumption, &value)| Sensitivity::of(typical, assumption, value, decision);
            (asked.map(of).collect(), decision.gain(typical))
        });
        let worths = || all.iter().flat_map(|s| [s.less.1, s.more.1]).chain([gain]);
        let (low, high) = (worths().fold(f64::INFINITY, f64::min), worths().fold(f64::NEG_INFINITY, f64::max));
        let place = |worth: f64| if high > low { (worth - low) / (high - low) * WIDTH } else { WIDTH / 2.0 };
        let pays = gain > 0.0;
        let anywhere = situation.chosen_again();
        let lines = all.iter().map(|s| {
            let ends = [place(s.less.1), place(s.more.1)];
            let [from, to] = [ends[0].min(ends[1]), ends[0].max(ends[1])];
            let amount = |value: f64| written(s.assumption.unit, value);
            let beside = |at: Option<f64>| match at {
                None => "at no value".into(),
                Some(at) if at < s.value => format!("below {}", amount(at)),
                Some(at) => format!("above {}", amount(at)),
            };
            AssumptionLine {
                name: s.assumption.name,
                value: amount(s.value),
                break_even: beside(s.break_even),
                again: beside(anywhere.break_even(typical, &s.assumption)),
                close: s.margin().is_some_and(|margin| margin < CLOSE),
                less: text::money(s.less.1),
                more: text::money(s.more.1),
                bar: [from, (to - from).max(1.0)].map(|x| format!("{x:.1}")),
            }
        });
        let none = situation.weighing.curve.none().profit;
        let acted =
            situation.weighing.curve.points[situation.weighing.position].acted + situation.weighing.referred().0;
        Self {
            map: MapView::of(situation, &all, typed),
            finding: finding(&all, acted, pays),
            lines: lines.collect(),
            pays,
            here: format!("{:.1}", place(gain)),
            nothing: (low < 0.0 && high > 0.0).then(|| format!("{:.1}", place(0.0))),
            several: !situation.chosen.policy.offers.is_single(),
            over: (none != 0.0).then(|| format!("no action, whose profit is {}", text::money(none))),
        }
    }
}

/// An assumption with its unit.
pub fn written(unit: AssumptionUnit, value: f64) -> String {
    match unit {
        AssumptionUnit::Chance | AssumptionUnit::Rate => text::percent(value),
        AssumptionUnit::Amount | AssumptionUnit::Balance | AssumptionUnit::Years => text::fixed(value, 2),
    }
}

/// The assumption that need be least wrong, in a sentence.
fn finding(all: &[Sensitivity], acted: f64, pays: bool) -> String {
    if acted == 0.0 {
        return "Nobody is selected, so that nothing is assumed.".into();
    }
    let nearest = all.iter().filter_map(|s| Some((s, s.break_even?, s.margin()?))).min_by(|a, b| a.2.total_cmp(&b.2));
    let Some((s, at, margin)) = nearest else {
        let side = if pays { "pays" } else { "loses money" };
        return format!("It {side} whatever the value of any single assumption.");
    };
    let (from, to) = (written(s.assumption.unit, s.value), written(s.assumption.unit, at));
    let way = if at < s.value { "less" } else { "more" };
    format!(
        "Most sensitive to “{}”: at {to} instead of {from}, {} {way}, it would {}.",
        s.assumption.name,
        text::percent(margin),
        if pays { "earn nothing" } else { "begin to pay" }
    )
}
