//! The form by which a step is added.

use pronoia_core::prepare::{Action, Encoder, Filling, Sample};
use serde::Deserialize;

use crate::text;

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
    pub fn action(&self) -> Result<Action, String> {
        let column = self.column.clone();
        let amount = || text::typed_number(&self.amount);
        Ok(match self.kind.as_str() {
            "filter" => Action::Filter { condition: self.expression.trim().to_owned() },
            "sample" => Action::Sample {
                of: match self.amount.trim().strip_suffix('%') {
                    Some(share) => Sample::Share(text::typed_number(share)? / 100.0),
                    None => Sample::Rows(amount()?.max(0.0) as u64),
                },
            },
            "derive" => {
                Action::Derive { name: self.name.trim().to_owned(), expression: self.expression.trim().to_owned() }
            }
            "fill" => Action::Fill {
                column,
                with: match self.with.as_str() {
                    "median" => Filling::Median,
                    "mean" => Filling::Mean,
                    "most-frequent" => Filling::MostFrequent,
                    _ => Filling::Value(self.value.trim().to_owned()),
                },
                flag: self.flag.is_some(),
            },
            "cap" => Action::Cap { column, share: amount()? / 100.0 },
            "log" => Action::Log { column },
            "power" => Action::Power { column },
            "as-code" => Action::AsCode { column },
            "bands" => Action::Bands { column, bands: amount()?.max(0.0) as usize },
            "ordered" => {
                let order = self.value.split(',').map(|value| value.trim().to_owned());
                Action::Ordered { column, order: order.filter(|value| !value.is_empty()).collect() }
            }
            "target-mean" => Action::Encode { column, encoder: Encoder::TargetMean },
            "weight-of-evidence" => Action::Encode { column, encoder: Encoder::WeightOfEvidence },
            "standardise" => Action::Standardise { column },
            "group-rare" => Action::GroupRare { column, fewest: amount()?.max(0.0) as u64 },
            other => return Err(format!("There is no step “{other}”.")),
        })
    }
}
