//! The form by which a step is added.

use pronoia_core::prepare::{Encoder, Imputation, SampleSize, StepAction};
use serde::Deserialize;

use pronoia_service::text;

/// Its fields; which of them count depends on the kind of step.
#[derive(Deserialize)]
pub struct StepForm {
    /// Proof that the form is ours.
    pub csrf: String,
    kind: String,
    #[serde(default)]
    column: String,
    #[serde(default)]
    name: String,
    #[serde(default)]
    expression: String,
    #[serde(default)]
    with: String,
    #[serde(default)]
    value: String,
    #[serde(default)]
    flag: Option<String>,
    #[serde(default)]
    amount: String,
}

impl StepForm {
    /// The step that is asked for.
    ///
    /// # Errors
    /// A sentence about the field that makes no sense.
    pub fn action(&self) -> Result<StepAction, String> {
        let column = self.column.clone();
        let amount = || text::typed_number(&self.amount);
        Ok(match self.kind.as_str() {
            "filter" => StepAction::Filter { condition: self.expression.trim().to_owned() },
            "sample" => StepAction::Sample {
                of: match self.amount.trim().strip_suffix('%') {
                    Some(share) => SampleSize::Share(text::typed_number(share)? / 100.0),
                    None => SampleSize::Rows(amount()?.max(0.0) as u64),
                },
            },
            "derive" => {
                StepAction::Derive { name: self.name.trim().to_owned(), expression: self.expression.trim().to_owned() }
            }
            "fill" => StepAction::Fill {
                column,
                with: match self.with.as_str() {
                    "median" => Imputation::Median,
                    "mean" => Imputation::Mean,
                    "most-frequent" => Imputation::MostFrequent,
                    _ => Imputation::Value(self.value.trim().to_owned()),
                },
                flag: self.flag.is_some(),
            },
            "cap" => StepAction::Cap { column, share: amount()? / 100.0 },
            "log" => StepAction::Log { column },
            "power" => StepAction::Power { column },
            "as-code" => StepAction::AsCode { column },
            "bands" => StepAction::Bands { column, bands: amount()?.max(0.0) as usize },
            "ordered" => {
                let order = self.value.split(',').map(|value| value.trim().to_owned());
                StepAction::Ordered { column, order: order.filter(|value| !value.is_empty()).collect() }
            }
            "target-mean" => StepAction::Encode { column, encoder: Encoder::TargetMean },
            "weight-of-evidence" => StepAction::Encode { column, encoder: Encoder::WeightOfEvidence },
            "standardise" => StepAction::Standardise { column },
            "group-rare" => StepAction::GroupRare { column, fewest: amount()?.max(0.0) as u64 },
            other => return Err(format!("There is no step “{other}”.")),
        })
    }
}
