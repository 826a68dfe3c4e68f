//! The model, the policy and the real customers, where one customer is tried.

use pronoia_core::decide::{Given, Order, PolicyAction};
use pronoia_core::explain::{
    ExplainedCustomers, Near, Reasons, ScoreUnit, ShapleyMethod, Similarity, smallest_change, typical, with_value,
};
use pronoia_core::model::Model;
use pronoia_core::prepare::{ModelInput, ObservedValues, steps};
use pronoia_core::question::Question;
use pronoia_core::study::Basis;
use pronoia_core::{Table, number};
use pronoia_service::ServiceError;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::prediction_cache::CandidatePredictions;
use pronoia_service::text;

use super::{ContributionLine, CustomerQuery, NearLine, ScoreExplanation};
use crate::frame::encoded;

/// Customers that reasons are counted from.
const BACKGROUND: usize = 400;

/// Governs what is drawn by lot.
const SEED: u64 = 1;

/// Real customers shown beside.
const SHOWN: usize = 5;

/// Columns shown of them.
const SHOWN_COLUMNS: usize = 4;

/// Width of the bars in their own units.
const WIDTH: f64 = 160.0;

/// Values to choose from in a field.
const CHOICES: usize = 60;

/// Everything that is known where a customer is tried.
pub struct Room<'a> {
    pub situation: &'a Situation<'a>,
    pub model: &'a Model,
    pub basis: &'a Basis,
    pub book: &'a CandidatePredictions,
    pub likeness: &'a Similarity,
    pub inputs: Vec<&'a ModelInput>,
    pub base: String,
}

impl Room<'_> {
    pub fn account(&self, asked: &CustomerQuery) -> Result<ScoreExplanation, ServiceError> {
        let (began, from, who) = self.began(asked)?;
        let mut customer = began.clone();
        for (at, text) in &asked.values {
            let Some(input) = self.inputs.get(*at) else { continue };
            let there = began.column(&input.name).and_then(|column| column.text(0)).unwrap_or_default();
            if text.trim() != there {
                customer = with_value(&customer, &input.name, text).map_err(ServiceError::Refused)?;
            }
        }
        let failed = |e: pronoia_core::prepare::PrepareError| ServiceError::Refused(e.to_string());
        let step = (self.book.rows.len() / BACKGROUND).max(1);
        let others: Vec<usize> = self.book.rows.iter().step_by(step).copied().collect();
        let reasons = Reasons::of(
            self.model,
            ExplainedCustomers { table: &customer, rows: &[0] },
            ExplainedCustomers { table: &self.book.table, rows: &others },
            SEED,
        )
        .map_err(failed)?;
        let shift = self.situation.chosen.population.shift();
        let probability = shift.there(reasons.probability[0]);
        let given = self.given(&customer, probability)?;
        let acts = self.acts(&customer, reasons.probability[0])?;
        let question = self.situation.view.study.kind();
        let nearest = self.likeness.nearest(&self.book.table, &customer, SHOWN);
        let caution = nearest.first().filter(|near| !self.likeness.occurs(near)).map(|near| {
            format!(
                "Extrapolation: among the {} customers fitted to the nearest is at distance {}, farther than 99 of 100 of them are from each other.",
                text::count(self.likeness.rows().len() as u64),
                text::percent(near.distance)
            )
        });
        let changed = self.inputs.iter().any(|input| self.differs(&began, &customer, &input.name));
        let (lines, silent) = self.lines(asked, &began, &customer, &reasons);
        let near_columns: Vec<String> =
            lines.iter().filter(|l| l.field.is_some()).take(SHOWN_COLUMNS).map(|l| l.column.clone()).collect();
        let near = self.near(&nearest, &near_columns)?;
        let (change, change_link) = self.change(asked, &customer, acts, &from)?;
        let order = self.situation.chosen.policy.rule.by;
        let [action, _] = actions(question, acts);
        Ok(ScoreExplanation {
            heading: format!("Predicted probability {}: {action}", text::percent(probability)),
            gain: self.gain_said(&given, probability, order),
            scale: match reasons.unit {
                ScoreUnit::LogOdds => "log-odds",
                ScoreUnit::Distance => "distance from the margin",
                ScoreUnit::Share => "predicted probability",
            },
            base: text::signed(reasons.base),
            base_note: match reasons.method {
                ShapleyMethod::Trees => "mean of the rows that the trees were grown on".into(),
                _ => format!("mean of {} evaluation customers", text::count(others.len() as u64)),
            },
            score: text::signed(reasons.scores[0]),
            becomes: self.becomes(&reasons, probability),
            probability: text::fixed(probability, 3),
            found: match reasons.method {
                ShapleyMethod::Trees => "Exact Shapley values (tree paths).".into(),
                ShapleyMethod::Sum => {
                    "Exact Shapley values (additive model): what each column adds, less its mean.".into()
                }
                ShapleyMethod::Drawn => {
                    "Estimated Shapley values (random permutations); ± is two standard errors.".into()
                }
            },
            near_finding: near_finding(&near, question),
            changed,
            silent,
            others: self.others(),
            model: self.situation.model.name.clone(),
            who,
            from,
            lines,
            caution,
            near,
            near_columns,
            change,
            change_link,
        })
    }

    /// The customer to begin with, how the address says so, and who that is.
    fn began(&self, asked: &CustomerQuery) -> Result<(Table, String, String), ServiceError> {
        let table = &self.book.table;
        let of_row = |row: usize, who: String| Ok((table.take(&[row]), row.to_string(), who));
        match asked.row.as_deref() {
            Some("typical") => {
                let middle = typical(table, self.likeness.rows());
                Ok((middle, "typical".into(), "a typical customer (medians and most frequent values)".into()))
            }
            Some(row) => {
                let row: usize = row.parse().ok().filter(|row| *row < table.rows()).ok_or(ServiceError::NotFound)?;
                of_row(row, format!("the customer in row {}", text::count(row as u64 + 1)))
            }
            None => {
                let row = self.beside_the_line();
                of_row(row, format!("row {}, a customer just above the cut-off", text::count(row as u64 + 1)))
            }
        }
    }

    /// The judged customer who is the last to be acted on.
    fn beside_the_line(&self) -> usize {
        let rule = &self.situation.chosen.policy.rule;
        let from = match rule.by {
            Order::Probability => self.situation.line(),
            _ => 0.5,
        };
        let back = self.situation.chosen.population.shift().back(from);
        let above = |p: f64| if p >= back { p - back } else { 1.0 + back - p };
        let p = &self.book.probability;
        let at = (0..p.len()).min_by(|&a, &b| above(p[a]).total_cmp(&above(p[b]))).unwrap_or(0);
        self.book.rows.get(at).copied().unwrap_or(0)
    }

    /// What the customer is worth, with the offer that suits them best at this probability.
    fn given(&self, customer: &Table, probability: f64) -> Result<Given, ServiceError> {
        let mut policy = self.situation.chosen.policy.clone();
        let derived = self.basis.population(customer).map_or_else(|_| customer.clone(), |(derived, _)| derived);
        let (offered, _) = policy.worked_out(&derived, &[0]).map_err(|e| ServiceError::Refused(e.to_string()))?;
        Ok(offered.given(policy.rule.by, &[probability]))
    }

    /// What the policy does: acts, has somebody look, or leaves alone.
    fn acts(&self, customer: &Table, told: f64) -> Result<PolicyAction, ServiceError> {
        let by = self.situation.chosen.policy.rule.by;
        let probability = self.situation.chosen.population.shift().there(told);
        let key = match by {
            Order::Probability => probability,
            by => by.key(probability, &self.given(customer, probability)?.payoffs_of(0)),
        };
        Ok(self.situation.action(key, probability))
    }

    /// The lines of the account: those that add something, the greatest first, and the others.
    fn lines(
        &self,
        asked: &CustomerQuery,
        began: &Table,
        customer: &Table,
        reasons: &Reasons,
    ) -> (Vec<ContributionLine>, Vec<ContributionLine>) {
        let of = &reasons.of[0];
        let most = of.iter().fold(f64::MIN_POSITIVE, |most, reason| most.max(reason.abs()));
        let (mut order, silent): (Vec<usize>, Vec<usize>) = (0..of.len()).partition(|&at| of[at] != 0.0);
        order.sort_by(|&a, &b| of[b].abs().total_cmp(&of[a].abs()));
        let telling: Vec<&String> = order.iter().map(|&at| &reasons.columns[at]).collect();
        // What a column is made from stands below it, where it does not stand by itself.
        let mut parts: Vec<String> = Vec::new();
        let lines: Vec<ContributionLine> = order
            .iter()
            .flat_map(|&at| {
                let error =
                    reasons.errors.as_ref().map(|errors| format!("± {}", number::fixed(2.0 * errors[0][at], 2)));
                let length = of[at].abs() / most * WIDTH / 2.0;
                let from = if of[at] < 0.0 { WIDTH / 2.0 - length } else { WIDTH / 2.0 };
                let line = ContributionLine {
                    reason: text::signed(of[at]),
                    error,
                    rises: of[at] >= 0.0,
                    bar: [from, length.max(0.5)].map(|x| format!("{x:.1}")),
                    ..self.line_of(asked, began, customer, &reasons.columns[at])
                };
                let read = self.made_from(&reasons.columns[at]);
                let anew: Vec<String> =
                    read.into_iter().filter(|name| !telling.contains(&name) && !parts.contains(name)).collect();
                parts.extend(anew.iter().cloned());
                let below = anew
                    .iter()
                    .map(|name| ContributionLine { part: true, ..self.line_of(asked, began, customer, name) });
                std::iter::once(line).chain(below).collect::<Vec<_>>()
            })
            .collect();
        // What is read only to work other columns out.
        let only_read = self.inputs.iter().map(|input| &input.name).filter(|name| !reasons.columns.contains(name));
        let others = silent.iter().map(|&at| &reasons.columns[at]).chain(only_read);
        let others = others.filter(|name| !parts.contains(name));
        let silent = others.map(|name| self.line_of(asked, began, customer, name)).collect();
        (lines, silent)
    }

    /// The columns of a customer that a column is made from; none if it is one of them.
    fn made_from(&self, column: &str) -> Vec<String> {
        if self.inputs.iter().any(|input| input.name == column) {
            return Vec::new();
        }
        let kinds = self.book.table.kinds();
        let checked = steps::checked(&self.basis.steps, &kinds).unwrap_or_default();
        let made = checked.into_iter().find(|(action, _)| action.makes().as_deref() == Some(column));
        let read = made.map_or(Vec::new(), |(_, read)| read);
        let of =
            |name: String| if name == column { vec![] } else { [vec![name.clone()], self.made_from(&name)].concat() };
        let all = read.into_iter().flat_map(of);
        all.filter(|name| self.inputs.iter().any(|input| input.name == *name)).collect()
    }

    /// The value of a column as the model takes it, steps taken.
    fn taken(&self, customer: &Table, column: &str) -> Option<String> {
        let member = self.model.members.iter().find(|m| m.preparation.columns.iter().any(|c| c.name == column))?;
        member.preparation.stepped(customer).ok()?.column(column)?.text(0)
    }

    fn differs(&self, began: &Table, customer: &Table, column: &str) -> bool {
        let text = |table: &Table| table.column(column).and_then(|c| c.text(0));
        text(began) != text(customer)
    }

    /// A line without its reason.
    fn line_of(&self, asked: &CustomerQuery, began: &Table, customer: &Table, column: &str) -> ContributionLine {
        let place = self.inputs.iter().position(|input| input.name == column);
        let text = |table: &Table| match place {
            Some(_) => table.column(column).and_then(|c| c.text(0)),
            None => self.taken(table, column),
        };
        let text = |table: &Table| text(table).unwrap_or_default();
        let (value, was) = (text(customer), text(began));
        let mut remark = None;
        let mut choices = Vec::new();
        if let Some(at) = place {
            match &self.inputs[at].seen {
                ObservedValues::Between(low, high) => {
                    let x = customer.column(column).and_then(|c| c.number(0));
                    remark = x.filter(|x| x < low || x > high).map(|_| {
                        format!("outside the {} to {} seen in training", number::plain(*low), number::plain(*high))
                    });
                }
                ObservedValues::Values(values) => {
                    choices = values.iter().take(CHOICES).cloned().collect();
                    if !value.is_empty() && self.inputs[at].is_unseen(&value) {
                        remark = Some("never seen in training".into());
                    }
                }
                ObservedValues::Nothing => {}
            }
        }
        ContributionLine {
            column: column.to_owned(),
            field: place.map(|at| format!("v{at}")),
            can_change: place.map(|at| !asked.told || asked.can.contains(&at)),
            was: (value != was).then(|| if was.is_empty() { "missing".into() } else { was }),
            value,
            choices,
            reason: String::new(),
            error: None,
            rises: false,
            bar: [String::new(), String::new()],
            part: false,
            remark,
        }
    }

    /// How the sum becomes a probability.
    fn becomes(&self, reasons: &Reasons, probability: f64) -> String {
        let raw = match reasons.unit {
            ScoreUnit::LogOdds => Some(1.0 / (1.0 + (-reasons.scores[0]).exp())),
            ScoreUnit::Share => Some(reasons.scores[0]),
            ScoreUnit::Distance => None,
        };
        let told = reasons.probability[0];
        let mut steps = Vec::new();
        match raw {
            Some(raw) if (raw - told).abs() < 5e-4 => {}
            Some(raw) => steps.push(format!("a probability of {}, calibrated", number::fixed(raw, 3))),
            None => steps.push("calibrated".into()),
        }
        if (told - probability).abs() > 5e-4 {
            steps.push(format!("{} before adjusting to the event rate there", number::fixed(told, 3)));
        }
        if steps.is_empty() { "predicted probability".into() } else { steps.join("; ") }
    }

    fn gain_said(&self, given: &Given, probability: f64, order: Order) -> String {
        let gain = given.payoffs_of(0).gain().expected(probability);
        let currency = match self.situation.chosen.currency.as_str() {
            "" => String::new(),
            currency => format!(" {currency}"),
        };
        let line = match order {
            Order::Probability => format!("the cut-off is P ≥ {}", number::fixed(self.situation.line().min(1.0), 3)),
            _ => {
                format!("the cut-off is an incremental profit of {}", number::fixed(self.situation.line().max(0.0), 2))
            }
        };
        let offers = &self.situation.chosen.policy.offers;
        let acting = match offers.names().get(given.offer_of(0)) {
            Some(name) if !offers.is_single() => format!("Most profitable offer: “{name}”"),
            _ => "Acting".into(),
        };
        format!("{acting}: expected incremental profit {}{currency}; {line}.", number::fixed(gain, 2))
    }

    fn near(&self, nearest: &[Near], columns: &[String]) -> Result<Vec<NearLine>, ServiceError> {
        let table = &self.book.table;
        let happened = self.basis.outcome.read(table).map_err(|e| ServiceError::Refused(e.to_string()))?;
        let question = self.situation.view.study.kind();
        let line = |near: &Near| {
            let event = happened[near.row] == Some(true);
            NearLine {
                distance: text::percent(near.distance),
                happened: if event { question.event_verb() } else { question.other_verb() },
                event,
                values: columns
                    .iter()
                    .map(|name| table.column(name).and_then(|c| c.text(near.row)).unwrap_or_else(|| "missing".into()))
                    .collect(),
                href: format!("{}?row={}", self.base, near.row),
            }
        };
        Ok(nearest.iter().map(line).collect())
    }

    /// The smallest change after which something else is done, in a sentence, and where it is tried.
    fn change(
        &self,
        asked: &CustomerQuery,
        customer: &Table,
        acts: PolicyAction,
        from: &str,
    ) -> Result<(String, Option<String>), ServiceError> {
        let can = |at: &usize| !asked.told || asked.can.contains(at);
        let changeable: Vec<String> =
            (0..self.inputs.len()).filter(can).map(|at| self.inputs[at].name.clone()).collect();
        let question = self.situation.view.study.kind();
        let flips = |after: &Table, told: f64| self.acts(after, told).is_ok_and(|other| other != acts);
        let real = (&self.book.table, self.likeness.rows());
        let found = smallest_change(self.model, customer, real, (self.likeness, &changeable), flips)
            .map_err(|e| ServiceError::Refused(e.to_string()))?;
        let Some(found) = found else {
            let what = if changeable.is_empty() {
                "No column is marked as changeable"
            } else {
                "No change of one or two of the columns marked as changeable"
            };
            return Ok((format!("{what}, to observed values, flips the decision."), None));
        };
        let words = |value: &Option<String>| value.clone().unwrap_or_else(|| "missing".into());
        let told: Vec<String> = found
            .columns
            .iter()
            .map(|(name, before, after)| format!("{name} {} instead of {}", words(after), words(before)))
            .collect();
        let probability = self.situation.chosen.population.shift().there(found.probability);
        let [then, _] = actions(question, self.acts(&found.customer, found.probability)?);
        let sentence = format!(
            "With {} the predicted probability is {}: {then}",
            told.join(" and "),
            number::fixed(probability, 3)
        );
        let fields = self.inputs.iter().enumerate().map(|(at, input)| {
            let value = found.customer.column(&input.name).and_then(|c| c.text(0)).unwrap_or_default();
            format!("v{at}={}", encoded(&value))
        });
        let can = asked.can.iter().map(|at| format!("can={at}"));
        let told = asked.told.then(|| "told=1".to_owned());
        let query: Vec<String> = std::iter::once(format!("row={from}")).chain(fields).chain(can).chain(told).collect();
        Ok((sentence, Some(format!("{}?{}", self.base, query.join("&")))))
    }

    /// Where else to begin: at both ends, beside the line, at somebody typical.
    fn others(&self) -> Vec<(String, &'static str)> {
        let p = &self.book.probability;
        let end = |better: fn(f64, f64) -> bool| {
            (0..p.len()).reduce(|best, at| if better(p[at], p[best]) { at } else { best }).map(|at| self.book.rows[at])
        };
        let href = |row: Option<usize>| row.map(|row| format!("{}?row={row}", self.base));
        let mut others = Vec::new();
        others.extend(href(end(|a, b| a > b)).map(|href| (href, "the most likely")));
        others.extend(href(end(|a, b| a < b)).map(|href| (href, "the least likely")));
        others.push((self.base.clone(), "just above the cut-off"));
        others.push((format!("{}?row=typical", self.base), "a typical customer"));
        others
    }
}

/// What is done, in a sentence, and as a word.
fn actions(question: Question, action: PolicyAction) -> [String; 2] {
    let act = question.act();
    let sentence = match action {
        PolicyAction::Act if question == Question::Credit => "decline.".to_owned(),
        PolicyAction::Act => format!("{act} them."),
        PolicyAction::Refer => "refer to manual review.".into(),
        PolicyAction::Leave if question == Question::Credit => "approve.".into(),
        PolicyAction::Leave => "do not act.".into(),
    };
    [sentence, action.word().to_owned()]
}

fn near_finding(near: &[NearLine], question: Question) -> String {
    let events = near.iter().filter(|line| line.event).count();
    format!("Of the {} most similar real customers, {events} {}.", near.len(), question.event_verb())
}
