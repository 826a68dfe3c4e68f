//! The average effect of one column, over where the customers are.

use pronoia_core::Kind;
use pronoia_core::explain::{At, AverageEffect, EffectPoint};
use pronoia_core::number::plain;
use pronoia_core::question::Question;
use serde_json::json;

use pronoia_service::text;

/// Customers at a value below which it is hardly covered.
const SPARSE: u64 = 30;

/// Width of the ladder in its own units.
const WIDTH: f64 = 240.0;

/// The strip of a number, or the ladder of other values.
pub struct EffectView {
    pub column: String,
    pub finding: String,
    pub remark: String,
    /// What the script draws, for a number.
    pub strip: Option<String>,
    pub rungs: Vec<DependenceRung>,
}

/// A value on the ladder.
pub struct DependenceRung {
    pub label: String,
    /// Where the average lies, where what happened does, and the ends of its interval.
    pub at: [String; 4],
    pub average: String,
    pub happened: String,
    pub rows: String,
    pub events: String,
    pub sparse: bool,
}

impl EffectView {
    pub fn of(effect: &AverageEffect, question: Question, kind: Kind) -> Self {
        let numbers: Vec<(f64, &EffectPoint)> =
            effect.points.iter().filter_map(|p| if let At::Number(x) = p.at { Some((x, p)) } else { None }).collect();
        let strip = (numbers.len() > 2).then(|| strip(effect, &numbers, kind == Kind::Date));
        let mut ladder: Vec<&EffectPoint> = effect.points.iter().collect();
        match &strip {
            Some(_) => ladder.retain(|p| p.at == At::Missing),
            None if numbers.is_empty() => ladder.sort_by(|a, b| b.average.total_cmp(&a.average)),
            None => {}
        }
        let most = ladder.iter().map(|p| p.average.max(p.count.interval().1)).fold(f64::MIN_POSITIVE, f64::max);
        let events: u64 = effect.points.iter().map(|p| p.count.events).sum();
        Self {
            finding: finding(effect, question, kind),
            remark: format!(
                "Partial dependence: mean predicted probability of {} evaluation customers when all are given the same value; not the effect of changing the column. Observed rates are of {} {}.",
                text::count(effect.customers),
                text::count(events),
                question.events_noun()
            ),
            strip,
            rungs: ladder.into_iter().map(|point| DependenceRung::of(point, most, kind)).collect(),
            column: effect.column.clone(),
        }
    }
}

impl DependenceRung {
    fn of(point: &EffectPoint, most: f64, kind: Kind) -> Self {
        let (low, high) = point.count.interval();
        let place = |rate: f64| format!("{:.1}", rate.min(most) / most * WIDTH);
        Self {
            label: written(&point.at, kind),
            at: [point.average, point.count.rate(), low, high].map(place),
            average: text::percent(point.average),
            happened: text::percent(point.count.rate()),
            rows: text::count(point.count.rows),
            events: text::count(point.count.events),
            sparse: point.count.rows < SPARSE,
        }
    }
}

/// A value in words.
pub fn written(at: &At, kind: Kind) -> String {
    match at {
        At::Number(day) if kind == Kind::Date => pronoia_core::table::written_date(*day as i32),
        At::Number(x) => plain(*x),
        At::Value(word) => word.clone(),
        At::Missing => "missing".into(),
    }
}

fn strip(effect: &AverageEffect, numbers: &[(f64, &EffectPoint)], date: bool) -> String {
    let x: Vec<f64> = numbers.iter().map(|n| n.0).collect();
    // Half of the way to the neighbour; beyond the ends as far as within.
    let between = |pair: &[f64]| pair[0] + (pair[1] - pair[0]) / 2.0;
    let inner: Vec<f64> = x.windows(2).map(between).collect();
    let (first, last) = (2.0 * x[0] - inner[0], 2.0 * x[x.len() - 1] - inner[inner.len() - 1]);
    let edges: Vec<f64> = std::iter::once(first).chain(inner).chain([last]).collect();
    let known = |of: fn(&EffectPoint) -> f64| -> Vec<Option<f64>> {
        numbers.iter().map(|(_, p)| (p.count.rows > 0).then(|| of(p))).collect()
    };
    json!({
        "edges": edges,
        "at": x,
        "average": numbers.iter().map(|(_, p)| p.average).collect::<Vec<_>>(),
        "rows": numbers.iter().map(|(_, p)| p.count.rows).collect::<Vec<_>>(),
        "rates": known(|p| p.count.rate()),
        "low": known(|p| p.count.interval().0),
        "high": known(|p| p.count.interval().1),
        "sparse": SPARSE,
        "date": date,
        "name": effect.column,
    })
    .to_string()
}

fn finding(effect: &AverageEffect, question: Question, kind: Kind) -> String {
    let covered = || effect.points.iter().filter(|p| p.count.rows >= SPARSE);
    let by_average = |a: &&EffectPoint, b: &&EffectPoint| a.average.total_cmp(&b.average);
    let (Some(least), Some(most)) = (covered().min_by(by_average), covered().max_by(by_average)) else {
        return format!("Too few customers have any one value of {}", effect.column);
    };
    if text::percent(least.average) == text::percent(most.average) {
        return format!(
            "Partial dependence on {}: flat, {} of 100 {} on average",
            effect.column,
            text::fixed(most.average * 100.0, 0),
            question.event_would()
        );
    }
    format!(
        "Partial dependence on {}: from {} at {} to {} at {}",
        effect.column,
        text::percent(least.average),
        written(&least.at, kind),
        text::percent(most.average),
        written(&most.at, kind)
    )
}
