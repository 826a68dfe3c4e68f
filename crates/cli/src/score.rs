//! `pronoia score`.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::decide::Line;
use pronoia_core::expression::Expression;
use pronoia_core::score::{Answers, By, Extras, Form, MOST_REASONS, Scoring, match_list};

use crate::{Outcome, economics, records};

/// Score a list with a model.
#[derive(Args)]
pub struct Score {
    #[command(flatten)]
    list: records::Input,
    /// The model.
    #[arg(long)]
    model: PathBuf,
    /// Where the scored list is written: a name that ends in .csv, .xlsx, .parquet or .jsonl.
    #[arg(long)]
    out: PathBuf,
    /// Act from this probability on; without it, the cut-off stored in the model.
    #[arg(long)]
    cut_off: Option<f64>,
    /// Act by the policy in this TOML file, such as examples/economics.toml, in which a line is drawn.
    #[arg(long, conflicts_with = "cut_off")]
    policy: Option<PathBuf>,
    /// Write so many of the greatest reasons of every customer, too.
    #[arg(long, default_value_t = 0)]
    reasons: usize,
}

impl Score {
    pub fn run(self) -> Outcome {
        let extension = self.out.extension().and_then(|e| e.to_str()).unwrap_or_default();
        let Some(form) = Form::of_extension(extension) else {
            let known = Form::ALL.map(|form| format!(".{}", form.extension()));
            return Err(format!("{}: give a name that ends in {}.", self.out.display(), known.join(", ")));
        };
        if self.reasons > MOST_REASONS {
            return Err(format!("--reasons is {MOST_REASONS} at most; it is {}.", self.reasons));
        }
        if let Some(p) = self.cut_off.filter(|p| !(0.0..=1.0).contains(p)) {
            return Err(format!("A cut-off is a probability between 0 and 1; it is {p}."));
        }
        let model = records::read_model(&self.model)?;
        let list = self.list.read_for(&model, &records::Terminal::new())?;
        let asked = match &self.policy {
            None => None,
            Some(path) => Some(economics::read(path, &Expression::columns_of(&list))?),
        };
        if asked.as_ref().is_some_and(|asked| asked.rule.is_none()) {
            return Err("The policy draws no line: add cut_off, customers, share, budget, precision or gain.".into());
        }
        let policy = asked.as_ref().map(|asked| {
            let judged = model.events as f64 / model.rows.max(1) as f64;
            (asked.policy(Line::Least(f64::MIN_POSITIVE)), asked.population(judged))
        });
        let of_policy = policy.as_ref().map_or(Vec::new(), |(policy, _)| policy.inputs());
        let (report, matched) = match_list(&model, &of_policy, &list, &Answers::new());
        if !report.is_complete() {
            return Err(format!(
                "{}: the model needs columns that are not there: {}.",
                self.list.path.display(),
                report.lacking().join(", ")
            ));
        }
        for input in &report.inputs {
            for remark in input.remarks() {
                eprintln!("{}: {remark}.", input.name);
            }
        }
        if !model.evaluated {
            eprintln!("The model was never judged on rows that it had not seen; `pronoia evaluate` does that.");
        }
        let by = match (&policy, self.cut_off.or(model.cut_off)) {
            (Some((policy, population)), _) => Some(By::Policy { policy, population, steps: &[] }),
            (None, cut_off) => cut_off.map(By::CutOff),
        };
        if by.is_none() {
            eprintln!("No cut-off was given and the model has none, so that there is no column pronoia_decision.");
        }
        let extras = Extras { reasons: self.reasons, gain: policy.is_some(), ..Extras::default() };
        let scoring = Scoring { model: &model, by, extras, tenths: &[] };
        let scored = scoring.of(&list, &matched, &[])?;
        if scored.lacking > 0 {
            eprintln!(
                "In {} rows an amount has no value that it may be; the mean of the others stands in for it.",
                scored.lacking
            );
        }
        let mut bytes = Vec::new();
        form.write(&scored.table, &mut bytes).map_err(|e| e.to_string())?;
        records::write(&self.out, &bytes)
    }
}
