//! The coefficients of a logistic regression.

use pronoia_core::Kind;
use pronoia_core::learn::logistic::{Coefficient, Logistic, Rescue};
use pronoia_core::number::plain;
use pronoia_core::prepare::{Coding, ObservedValues, Preparation};
use pronoia_service::text;

use super::DetailTable;

/// How they were found, in a sentence.
pub(super) fn how_found(l: &Logistic, on: &str) -> String {
    let note = match l.rescue {
        Some(Rescue::Separated) => {
            " Some columns separate the outcome of some customers perfectly, so that a ridge penalty of 1 had to be used; there are no standard errors."
        }
        Some(Rescue::Collinear) => {
            " Some columns are sums of others, so that a ridge penalty of 1 had to be used; there are no standard errors."
        }
        Some(Rescue::FewEvents) => {
            " There are fewer than five events for each coefficient, so that a ridge penalty of 1 was used; there are no standard errors."
        }
        None if l.ridge > 0.0 || l.lasso > 0.0 => " Penalised coefficients have no standard errors.",
        None => "",
    };
    format!(
        "{} Newton steps on {on}. Numbers are per the step named, about one standard deviation, everything else is yes or no.{note}",
        l.steps
    )
}

/// The clearest of them.
pub(super) fn coefficients(l: &Logistic, preparation: &Preparation) -> Option<DetailTable> {
    let mut terms: Vec<_> = l.coefficients.iter().filter(|c| c.value != 0.0).collect();
    // The clearest first: those that stand farthest from 0 by their own error.
    let clear = |c: &Coefficient| (c.value / c.se.unwrap_or(1.0)).abs();
    terms.sort_by(|a, b| clear(b).total_cmp(&clear(a)));
    let gone = l.coefficients.len() - terms.len();
    let caption = match gone {
        0 => "Association with the event".into(),
        n => format!(
            "Association with the event; the penalty set {} to zero",
            text::counted(n, "coefficient", "coefficients")
        ),
    };
    let optional = |x: Option<f64>, d| x.map_or("–".to_owned(), |x| text::fixed(x, d));
    let row = |c: &&Coefficient| {
        let FeatureStep { label, deviations } = FeatureStep::of(&c.feature, preparation);
        let (value, se) = (c.value * deviations, c.se.map(|se| se * deviations));
        let interval = se.map_or("–".to_owned(), |se| {
            let end = |side: f64| text::fixed((value + side * pronoia_core::stats::Z95 * se).exp(), 2);
            format!("{} to {}", end(-1.0), end(1.0))
        });
        let p = c.p.map_or("–".into(), |p| if p < 0.001 { "< 0.001".into() } else { text::fixed(p, 3) });
        vec![label, text::fixed(value.exp(), 2), interval, text::fixed(value, 3), optional(se, 3), p]
    };
    let head = vec!["column", "odds ratio", "95 % CI", "coefficient", "standard error", "p"];
    DetailTable::of(caption, head, terms.iter().map(row).collect())
}

/// A change of a feature that really occurs.
struct FeatureStep {
    label: String,
    /// How many standard deviations it is; 1 for what is not a number.
    deviations: f64,
}

impl FeatureStep {
    /// For a number a round figure near its standard deviation.
    fn of(feature: &str, preparation: &Preparation) -> Self {
        let column = preparation.columns.iter().find(|column| column.name == feature);
        match column.map(|column| (&column.coding, column.kind)) {
            Some((Coding::Number { sd, .. }, kind)) => {
                let step = if kind == Kind::Date || is_counted(feature, preparation) {
                    round(*sd).max(1.0)
                } else {
                    round(*sd)
                };
                let days = if kind == Kind::Date { " days" } else { "" };
                Self { label: format!("{feature}, {}{days} more", plain(step)), deviations: step / sd }
            }
            _ => Self { label: feature.to_owned(), deviations: 1.0 },
        }
    }
}

/// Whether a number goes from one whole number to another, and so far that it is likely a count.
fn is_counted(column: &str, preparation: &Preparation) -> bool {
    let seen = preparation.inputs.iter().find(|input| input.name == column).map(|input| &input.seen);
    matches!(seen, Some(ObservedValues::Between(low, high)) if low.fract() == 0.0 && high.fract() == 0.0 && high - low >= 3.0)
}

/// The nearest of 1, 2 and 5 times a power of ten.
fn round(x: f64) -> f64 {
    let power = 10f64.powf(x.log10().floor());
    let nearest = [1.0, 2.0, 5.0, 10.0].into_iter().min_by(|a, b| {
        let far = |times: &f64| (times * power / x).ln().abs();
        far(a).total_cmp(&far(b))
    });
    nearest.unwrap_or(1.0) * power
}

#[cfg(test)]
mod tests {
    use super::round;

    #[test]
    fn steps_are_round_figures_near_the_deviation() {
        for (x, step) in [(6.9, 5.0), (7.2, 10.0), (0.013, 0.01), (1.5, 2.0), (340.0, 500.0), (1.0, 1.0)] {
            assert!((round(x) - step).abs() < 1e-12 * step, "{x} {}", round(x));
        }
    }
}
