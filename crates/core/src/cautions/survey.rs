//! What was seen of a study's rows: who is judged on what, and what to be careful of.

use serde::{Deserialize, Serialize};

use super::{Caution, CautionInput, look};
use crate::study::Basis;
use pronoia_data::split::Alike;
use pronoia_data::stats::Count;
use pronoia_learn::balance::{Shape, shapes};
use pronoia_learn::prepare::steps::needed;

/// What was seen of a study's rows.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Survey {
    /// Training rows and the events among them.
    pub training: Count,
    /// The same of validation rows.
    pub validation: Count,
    /// Test rows; what happened in them is sealed.
    pub test: u64,
    /// Judged rows that are nearly the same as one learned from.
    pub alike: Alike,
    /// Training rows and events after balancing, synthetic rows included; a
    /// row that counts twice is two.
    pub balanced: Option<(f64, f64)>,
    /// Rows that were made up to balance.
    pub made_up: u64,
    /// How they compare with real ones.
    pub shapes: Vec<Shape>,
    /// What would make the answer wrong.
    pub cautions: Vec<Caution>,
}

impl Survey {
    /// Looks at the rows of a study; `basis` is the basis of its choices.
    pub fn of(seen: &CautionInput, basis: &Basis) -> Self {
        let event: Vec<bool> = seen.dealt.training.iter().map(|&row| seen.happened[row] == Some(true)).collect();
        let count = |rows: &[usize]| {
            let mut count = Count::default();
            rows.iter().for_each(|&row| count.add(seen.happened[row] == Some(true)));
            count
        };
        let columns: Vec<_> = basis.predictors.iter().filter_map(|name| seen.table.column(name)).collect();
        let mut survey = Self {
            training: count(&seen.dealt.training),
            validation: count(&seen.dealt.validation),
            test: seen.dealt.test.len() as u64,
            alike: Alike::of(&columns, seen.dealt),
            cautions: look(seen),
            ..Self::default()
        };
        if !basis.balance.is_off() {
            survey.balance(seen, basis, &event);
        }
        survey
    }

    fn balance(&mut self, seen: &CautionInput, basis: &Basis, event: &[bool]) {
        let rows = &seen.dealt.training;
        let read = needed(&basis.steps, &basis.predictors, &seen.table.kinds()).map(|n| n.1).unwrap_or_default();
        let balanced = basis.balance.apply(seen.table, &read, rows, event, basis.split.seed);
        let weight = |at: usize| balanced.weight.as_ref().map_or(1.0, |w| w[at]);
        let counted = |wanted: bool| -> f64 {
            let kept = balanced.kept.iter().enumerate();
            kept.filter(|(_, row)| event[**row] == wanted).map(|(at, _)| weight(at)).sum()
        };
        let (mut events, mut others) = (counted(true), counted(false));
        if let Some(synthetic) = &balanced.synthetic {
            self.made_up = synthetic.parents.len() as u64;
            let rarer_side = synthetic.parents.first().is_some_and(|parents| event[parents[0]]);
            *if rarer_side { &mut events } else { &mut others } += self.made_up as f64;
            let rarer: Vec<usize> = (0..rows.len()).filter(|&at| event[at] == rarer_side).map(|at| rows[at]).collect();
            self.shapes = shapes(seen.table, &rarer, synthetic);
        }
        self.balanced = Some((events + others, events));
    }
}
