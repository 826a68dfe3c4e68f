//! Two assumptions at once: what a decision gains where both are other than assumed.

use pronoia_core::decide::{Along, Assumption, Sensitivity};
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::TypedFields;
use pronoia_service::text;

use super::sensitivity::written;

/// By what assumptions are multiplied along an axis.
const FACTORS: [f64; 7] = [0.4, 0.6, 0.8, 1.0, 1.2, 1.4, 1.6];

/// The map as the page shows it.
#[derive(Clone)]
pub struct MapView {
    /// Assumptions to choose from: word, name, whether it is across, whether it is down.
    pub choices: Vec<(&'static str, &'static str, bool, bool)>,
    /// Whether the line is drawn again in every cell.
    pub again: bool,
    pub finding: String,
    pub across: Axis,
    pub rows: Vec<SensitivityRow>,
}

/// The values along the top.
#[derive(Clone)]
pub struct Axis {
    pub name: &'static str,
    pub values: Vec<String>,
}

/// A line of the map.
#[derive(Clone)]
pub struct SensitivityRow {
    pub value: String,
    pub cells: Vec<SensitivityCell>,
}

/// What is gained in one place.
#[derive(Clone)]
pub struct SensitivityCell {
    pub gain: String,
    pub loses: bool,
    pub here: bool,
    /// How much of the colour, as per cent.
    pub shade: u8,
}

impl MapView {
    /// The map of the two assumptions that were asked for, or else of those that decide first.
    pub fn of(situation: &Situation, all: &[Sensitivity], typed: &TypedFields) -> Option<Self> {
        let mut close: Vec<&Sensitivity> = all.iter().filter(|s| s.value != 0.0).collect();
        close.sort_by(|a, b| a.margin().unwrap_or(f64::INFINITY).total_cmp(&b.margin().unwrap_or(f64::INFINITY)));
        let asked = |field: &str| close.iter().find(|s| Some(s.assumption.word) == typed.field(field)).copied();
        let across = asked("across").or(close.first().copied())?;
        let other = close.iter().find(|s| s.assumption.word != across.assumption.word).copied();
        let down = asked("down").filter(|s| s.assumption.word != across.assumption.word).or(other)?;
        let again = typed.field("line_again") == Some("yes");
        let (xs, ys) = (values(across), values(down));
        let typical = &situation.typical;
        let along = [(across, &xs), (down, &ys)];
        let [x, y] = along.map(|(s, values)| Along { assumption: &s.assumption, values });
        let gains = match again {
            true => situation.chosen_again().best_over(typical, x, y),
            false => situation.with_decision(|decision| decision.gains_over(typical, x, y)),
        };
        let most = gains.iter().flatten().fold(f64::MIN_POSITIVE, |most, gain| most.max(gain.abs()));
        let pays = gains.iter().flatten().filter(|gain| **gain > 0.0).count();
        let rows = ys.iter().zip(&gains).map(|(&y, gains)| SensitivityRow {
            value: written(down.assumption.unit, y),
            cells: xs
                .iter()
                .zip(gains)
                .map(|(&x, &gain)| SensitivityCell {
                    gain: text::money(gain),
                    loses: gain <= 0.0,
                    here: x == across.value && y == down.value,
                    shade: (gain.abs() / most * 60.0) as u8,
                })
                .collect(),
        });
        let named = |assumption: &Assumption| assumption.name.to_lowercase();
        Some(Self {
            choices: close
                .iter()
                .map(|s| {
                    let word = s.assumption.word;
                    (word, s.assumption.name, word == across.assumption.word, word == down.assumption.word)
                })
                .collect(),
            again,
            finding: format!(
                "“{}” and “{}” varied together: profitable in {pays} of {} combinations",
                named(&across.assumption),
                named(&down.assumption),
                xs.len() * ys.len()
            ),
            across: Axis {
                name: across.assumption.name,
                values: xs.iter().map(|&x| written(across.assumption.unit, x)).collect(),
            },
            rows: rows.collect(),
        })
    }
}

/// Values along an axis: from two fifths of what is assumed up to eight, as far as that is possible.
fn values(s: &Sensitivity) -> Vec<f64> {
    let of = |factor: f64| if factor == 1.0 { s.value } else { s.assumption.nearest_possible(s.value * factor) };
    let mut values: Vec<f64> = FACTORS.into_iter().map(of).collect();
    values.dedup();
    values
}
