//! The coefficients of a logistic regression.

use pronoia_core::learn::logistic::{Coefficient, Logistic, Rescue};

use super::Table;
use crate::text;

/// How they were found, in a sentence.
pub(super) fn how_found(l: &Logistic, on: &str) -> String {
    let note = match l.rescue {
        Some(Rescue::Separated) => {
            " Some columns tell the outcome of some customers with certainty, so that a ridge penalty of 1 had to be used; there are no standard errors."
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
    format!("{} Newton steps on {on}. Numbers count in standard deviations, indicators as yes or no.{note}", l.steps)
}

/// The clearest of them.
pub(super) fn coefficients(l: &Logistic) -> Option<Table> {
    let mut terms: Vec<_> = l.coefficients.iter().filter(|c| c.value != 0.0).collect();
    // The clearest first: those that stand farthest from 0 by their own error.
    let clear = |c: &Coefficient| (c.value / c.se.unwrap_or(1.0)).abs();
    terms.sort_by(|a, b| clear(b).total_cmp(&clear(a)));
    let gone = l.coefficients.len() - terms.len();
    let caption = match gone {
        0 => "What goes with the event".into(),
        n => format!(
            "What goes with the event; the penalty set {} to nothing",
            text::counted(n, "coefficient", "coefficients")
        ),
    };
    let optional = |x: Option<f64>, d| x.map_or("–".to_owned(), |x| text::fixed(x, d));
    let interval = |c: &Coefficient| {
        c.se.map_or("–".to_owned(), |se| {
            let end = |side: f64| text::fixed((c.value + side * pronoia_core::drivers::Z95 * se).exp(), 2);
            format!("{} to {}", end(-1.0), end(1.0))
        })
    };
    let row = |c: &&Coefficient| {
        let p = c.p.map_or("–".into(), |p| if p < 0.001 { "< 0.001".into() } else { text::fixed(p, 3) });
        vec![
            c.feature.clone(),
            text::fixed(c.value.exp(), 2),
            interval(c),
            text::fixed(c.value, 3),
            optional(c.se, 3),
            p,
        ]
    };
    let head = vec!["column", "odds ratio", "95 % interval", "coefficient", "standard error", "p"];
    Table::of(caption, head, terms.iter().map(row).collect())
}
