//! A model as PMML 4.4 (Data Mining Group 2019).
//!
//! Definitions are derived fields; trees are models of their own, whose sums feed a regression with a
//! logit link that gives the probability.

mod element;
mod expression;
mod trees;

use element::Element;
use expression::PmmlExpressions;

use super::definitions::{Definition, Is, WeightedSum};
use super::exported_model::ExportedModel;
use super::formula::ModelFormula;
use super::refusal::Refusal;
use pronoia_data::expression::Type;

/// The name of the form in sentences.
const FORM: &str = "PMML";

/// The document.
pub(super) fn write(formula: &ModelFormula) -> Result<ExportedModel, Refusal> {
    let document = PmmlDocument::of(formula)?.written();
    let notes = vec![format!(
        "The field pronoia_probability is the probability of {} = {}.",
        formula.outcome[0], formula.outcome[1]
    )];
    Ok(ExportedModel { bytes: document.into_bytes(), notes })
}

struct PmmlDocument<'f> {
    formula: &'f ModelFormula,
    /// Derived fields that need no tree.
    common: Vec<Element>,
    /// Derived fields that need what trees say.
    after_trees: Vec<Element>,
    /// Models of trees.
    segments: Vec<Element>,
    /// Names of what those say.
    told: Vec<String>,
    /// Whether what stands at a place needs what trees say.
    needs_trees: Vec<bool>,
}

impl<'f> PmmlDocument<'f> {
    fn of(formula: &'f ModelFormula) -> Result<Self, Refusal> {
        let mut document = Self {
            formula,
            common: Vec::new(),
            after_trees: Vec::new(),
            segments: Vec::new(),
            told: Vec::new(),
            needs_trees: vec![false; formula.inputs.len()],
        };
        for (at, definition) in formula.definitions.iter().enumerate() {
            let place = formula.inputs.len() + at;
            // The regression tells the probability, and the last sum before it.
            let is_last = place == formula.log_odds && document.last_sum().is_some();
            if is_last || place > formula.log_odds {
                document.needs_trees.push(false);
                continue;
            }
            document.take(definition)?;
        }
        Ok(document)
    }

    /// The log-odds, if they are a sum as a regression has it.
    fn last_sum(&self) -> Option<&'f WeightedSum> {
        match self.formula.at(self.formula.log_odds).map(|definition| &definition.is) {
            Some(Is::Sum(sum)) if !sum.rectified => Some(sum),
            _ => None,
        }
    }

    fn take(&mut self, definition: &Definition) -> Result<(), Refusal> {
        let expressions = PmmlExpressions { formula: self.formula, column: &definition.hint };
        let (content, needs) = match &definition.is {
            Is::Trees(trees) => {
                self.segments.push(trees::model(&expressions, trees, self.schema(&[])));
                self.told.push(definition.name.clone());
                self.needs_trees.push(true);
                return Ok(());
            }
            Is::DaysSince1970(place) => {
                let days = Element::apply("dateDaysSinceYear")
                    .child(Element::field(self.formula.name_at(*place)))
                    .child(Element::constant("integer", "1970"));
                (days, false)
            }
            Is::Value(node) => {
                let needs = expression::places(node).into_iter().any(|place| self.needs_trees[place]);
                (expressions.value(node)?, needs)
            }
            Is::Sum(sum) => {
                let needs = sum.terms.iter().any(|(place, _)| self.needs_trees[*place]);
                (expressions.sum(sum), needs)
            }
        };
        let (optype, data_type) = match definition.kind {
            Type::Number => ("continuous", "double"),
            _ => ("categorical", "string"),
        };
        let field = Element::new("DerivedField")
            .with("name", &definition.name)
            .with("optype", optype)
            .with("dataType", data_type)
            .child(content);
        if needs {
            self.after_trees.push(field)
        } else {
            self.common.push(field)
        }
        self.needs_trees.push(needs);
        Ok(())
    }

    /// The columns of the customer, and what earlier models said.
    fn schema(&self, told: &[String]) -> Element {
        let field =
            |name: &String| Element::new("MiningField").with("name", name).with("invalidValueTreatment", "asIs");
        let inputs = self.formula.inputs.iter().map(|(name, _)| field(name));
        Element::new("MiningSchema").children(inputs.chain(told.iter().map(field)))
    }

    fn target(&self) -> Element {
        Element::new("MiningField").with("name", &self.formula.outcome[0]).with("usageType", "target")
    }

    /// What is not the event.
    fn other(&self) -> &'static str {
        if self.formula.outcome[1] == "other" { "none of it" } else { "other" }
    }

    /// The regression that tells the probability.
    fn regression(&self) -> Element {
        let formula = self.formula;
        let mut table = Element::new("RegressionTable").with("targetCategory", &formula.outcome[1]);
        let predictor = |name: &str, weight: f64| {
            Element::new("NumericPredictor").with("name", name).with("coefficient", &weight.to_string())
        };
        table = match self.last_sum() {
            Some(sum) => table
                .with("intercept", &sum.constant.to_string())
                .children(sum.terms.iter().map(|(place, weight)| predictor(formula.name_at(*place), *weight))),
            None => table.with("intercept", "0").child(predictor(formula.name_at(formula.log_odds), 1.0)),
        };
        let other = Element::new("RegressionTable").with("targetCategory", self.other()).with("intercept", "0");
        let mut model = Element::new("RegressionModel")
            .with("functionName", "classification")
            .with("normalizationMethod", "logit")
            .child(self.schema(&self.told).child(self.target()));
        if self.segments.is_empty() {
            model = model.child(self.output());
        }
        if !self.after_trees.is_empty() {
            model = model.child(Element::new("LocalTransformations").children(self.after_trees.iter().cloned()));
        }
        model.child(table).child(other)
    }

    fn output(&self) -> Element {
        let field = Element::new("OutputField")
            .with("name", "pronoia_probability")
            .with("optype", "continuous")
            .with("dataType", "double")
            .with("feature", "probability")
            .with("value", &self.formula.outcome[1]);
        Element::new("Output").child(field)
    }

    fn dictionary(&self) -> Element {
        let field = |(name, kind): &(String, pronoia_data::Kind)| {
            let (optype, data_type) = match Type::of(*kind) {
                Type::Number => ("continuous", "double"),
                Type::Day => ("ordinal", "date"),
                Type::Text | Type::Truth => ("categorical", "string"),
            };
            Element::new("DataField").with("name", name).with("optype", optype).with("dataType", data_type)
        };
        let value = |value: &str| Element::new("Value").with("value", value);
        let outcome = Element::new("DataField")
            .with("name", &self.formula.outcome[0])
            .with("optype", "categorical")
            .with("dataType", "string")
            .child(value(&self.formula.outcome[1]))
            .child(value(self.other()));
        Element::new("DataDictionary").children(self.formula.inputs.iter().map(field)).child(outcome)
    }

    fn model(&self) -> Element {
        let last = self.regression();
        if self.segments.is_empty() {
            return last;
        }
        let told = self.segments.iter().zip(&self.told).map(|(model, name)| {
            let field = Element::new("OutputField")
                .with("name", name)
                .with("optype", "continuous")
                .with("dataType", "double")
                .with("feature", "predictedValue");
            model.clone().after_schema(Element::new("Output").child(field))
        });
        let segment = |(at, model): (usize, Element)| {
            Element::new("Segment").with("id", &(at + 1).to_string()).child(Element::new("True")).child(model)
        };
        let chain = Element::new("Segmentation")
            .with("multipleModelMethod", "modelChain")
            .children(told.chain([last]).enumerate().map(segment));
        Element::new("MiningModel")
            .with("functionName", "classification")
            .child(self.schema(&[]).child(self.target()))
            .child(self.output())
            .child(chain)
    }

    fn written(&self) -> String {
        let application =
            Element::new("Application").with("name", "Pronoia").with("version", &self.formula.provenance.version);
        let header = Element::new("Header").with("description", &self.formula.about()).child(application);
        let mut document = Element::new("PMML")
            .with("version", "4.4")
            .with("xmlns", "http://www.dmg.org/PMML-4_4")
            .child(header)
            .child(self.dictionary());
        if !self.common.is_empty() {
            document = document.child(Element::new("TransformationDictionary").children(self.common.iter().cloned()));
        }
        document.child(self.model()).document()
    }
}
