//! How a list is scored: by which line or policy, and with what beside the probability.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::decide::CutOff;
use pronoia_core::expression::Expression;
use pronoia_core::score::{By, ColumnAnswers, Extras, MOST_REASONS, ScoredCustomers, Scoring, match_list};
use pronoia_core::{Model, Table};

use crate::economics;

/// How a list is scored.
#[derive(Args)]
pub struct How {
    /// Cut-off; without it, the one stored in the model.
    #[arg(long)]
    cut_off: Option<f64>,
    /// The policy: a TOML file, such as examples/economics.toml, with a cut-off.
    #[arg(long, conflicts_with = "cut_off")]
    policy: Option<PathBuf>,
    /// Also write so many of the largest reasons of every customer.
    #[arg(long, default_value_t = 0)]
    reasons: usize,
}

impl How {
    /// Checks what can be checked before anything is read.
    pub fn check(&self) -> Result<(), String> {
        if self.reasons > MOST_REASONS {
            return Err(format!("--reasons is {MOST_REASONS} at most; it is {}.", self.reasons));
        }
        match self.cut_off.filter(|p| !(0.0..=1.0).contains(p)) {
            Some(p) => Err(format!("A cut-off is a probability between 0 and 1; it is {p}.")),
            None => Ok(()),
        }
    }

    /// Scores a list; what is worth saying of it is handed to `say`, in sentences.
    pub fn scored(&self, model: &Model, list: &Table, say: &mut dyn FnMut(String)) -> Result<ScoredCustomers, String> {
        let asked = match &self.policy {
            None => None,
            Some(path) => Some(economics::read(path, &Expression::columns_of(list))?),
        };
        if asked.as_ref().is_some_and(|asked| asked.rule.is_none()) {
            return Err("The policy has no cut-off: add cut_off, customers, share, budget, precision or gain.".into());
        }
        let policy = asked.as_ref().map(|asked| {
            let judged = model.events as f64 / model.rows.max(1) as f64;
            (asked.policy(CutOff::Least(f64::MIN_POSITIVE)), asked.population(judged))
        });
        let of_policy = policy.as_ref().map_or(Vec::new(), |(policy, _)| policy.inputs());
        let (report, matched) = match_list(model, &of_policy, list, &ColumnAnswers::new());
        if !report.is_complete() {
            return Err(format!("the model needs columns that are not there: {}.", report.lacking().join(", ")));
        }
        for input in &report.inputs {
            input.remarks().into_iter().for_each(|remark| say(format!("{}: {remark}.", input.name)));
        }
        if !model.evaluated {
            say("The model was never evaluated on rows that it was not fitted to; `pronoia evaluate` does that.".into());
        }
        let by = match (&policy, self.cut_off.or(model.cut_off)) {
            (Some((policy, population)), _) => Some(By::Policy { policy, population, steps: &[] }),
            (None, cut_off) => cut_off.map(By::CutOff),
        };
        if by.is_none() {
            say("No cut-off was given and the model has none, so that there is no column pronoia_decision.".into());
        }
        let extras = Extras { reasons: self.reasons, gain: policy.is_some(), ..Extras::default() };
        let scored = Scoring { model, by, extras, tenths: &[] }.of(list, &matched, &[])?;
        if scored.account.lacking > 0 {
            say(format!(
                "In {} rows an amount has no valid value; the mean of the other rows is used.",
                scored.account.lacking
            ));
        }
        Ok(scored)
    }
}
