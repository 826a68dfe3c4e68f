//! `pronoia decide`.

use std::borrow::Cow;
use std::path::PathBuf;

use clap::Args;
use pronoia_core::decide::{
    Alternative, ConfusionCounts, CutOff, Economics, EvaluatedCustomers, EvaluationScale, ExpectedProfit, Order,
    Payoff, Payoffs, Policy, PolicyEvaluation, Population, ProfitPoint, Ranking, Sensitivity, alternatives,
    expected_maximum_of,
};
use pronoia_core::expression::Expression;
use pronoia_core::{Table, number};
use serde::Serialize;

use crate::{CommandOutcome, economics, fitting, records};

/// Expected profit of a policy, on rows that the model was not fitted to.
#[derive(Args)]
pub struct Decide {
    #[command(flatten)]
    table: records::InputFile,
    /// The model.
    #[arg(long)]
    model: PathBuf,
    /// The profit of each outcome: a TOML file, such as examples/economics.toml.
    #[arg(long)]
    economics: PathBuf,
    /// Uncertainty of every amount, as a share of it, in the confidence intervals.
    #[arg(long, default_value_t = 0.0)]
    doubt: f64,
    /// Random seed of the bootstrap.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Write the figures as JSON to this file.
    #[arg(long)]
    json: Option<PathBuf>,
}

/// What acting is worth.
#[derive(Serialize)]
struct DecisionReport {
    rows: u64,
    events: u64,
    /// Of a customer who is average in every amount.
    payoffs: Payoffs,
    /// The probability from which acting pays on that customer.
    break_even: Option<f64>,
    population: f64,
    /// Where most is earned, read on these rows.
    best: ProfitPoint,
    /// By how much that flatters it.
    optimism: f64,
    /// Shares of customers between which it is nearly as much.
    nearly: [f64; 2],
    /// Where the line was asked to be; else where acting begins to pay, unless that is clearly worse than the best.
    here: ProfitPoint,
    /// Customers looked at first.
    referred: f64,
    /// What the rule is worth, with those who are looked at.
    worth: ExpectedProfit,
    all: ProfitPoint,
    alternatives: Vec<Alternative>,
    /// Each of several offers.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    offers: Vec<OfferFigures>,
    /// What the model allows to be gained while the chance that decides most is uncertain, the line
    /// being drawn again for every value of it; to compare models by, and nobody's earnings.
    expected_maximum: Option<f64>,
    sensitivity: Vec<Sensitivity>,
}

/// One of several offers.
#[derive(Serialize)]
struct OfferFigures {
    name: String,
    /// What acting with it gains on a customer who is average in every amount.
    gain: Payoff,
    /// How many are given it.
    customers: f64,
}

impl OfferFigures {
    fn all(policy: &Policy, customers: &EvaluatedCustomers, weighing: &PolicyEvaluation) -> Vec<Self> {
        if policy.offers.is_single() {
            return Vec::new();
        }
        let given = customers.by_offer(weighing).swap_remove(weighing.position);
        let each = policy.offers.each(&policy.economics);
        let offers = policy.offers.names().into_iter().zip(each).zip(given);
        offers
            .map(|((name, economics), customers)| {
                let gain = economics.typical().payoffs().gain();
                OfferFigures { name, gain, customers }
            })
            .collect()
    }
}

impl Decide {
    pub fn run(self) -> CommandOutcome {
        if !(0.0..=1.0).contains(&self.doubt) {
            return Err(format!("--doubt is a share, 0 to 1; it is {}.", self.doubt));
        }
        let model = records::read_model(&self.model)?;
        let (table, _) = self.table.read(&records::Terminal::new())?;
        let asked = economics::read(&self.economics, &Expression::columns_of(&table))?;
        let rows: Vec<usize> = (0..table.rows()).collect();
        let (probability, event) = fitting::told(&model, &table, &rows)?;
        let figures = self.weigh(&asked, &table, &probability, &event)?;
        match &self.json {
            Some(path) => records::write_json(path, &figures)?,
            None => figures.print(),
        }
        Ok(())
    }

    fn weigh(
        &self,
        asked: &economics::EconomicsFile,
        table: &Table,
        probability: &[f64],
        event: &[bool],
    ) -> Result<DecisionReport, String> {
        let ranking = Ranking::of(probability, event).map_err(|e| e.to_string())?;
        let population = asked.population(ranking.rate());
        let scale = EvaluationScale { population: &population, doubt: self.doubt, seed: self.seed };
        let mut policy = asked.policy(CutOff::Least(f64::MIN_POSITIVE));
        if policy.is_same_for_all() && policy.rule.by == Order::Probability {
            let (typical, rule) = (policy.economics.typical(), &policy.rule);
            let weighing = at_line(PolicyEvaluation::counted(&ranking, &typical, rule, &scale), asked, &typical, true);
            let others = alternatives::counted(&weighing, &typical, rule);
            let sensitivity = Sensitivity::of_all(&typical, &weighing.counted_decision());
            let maximum = expected_maximum_of(&ranking, &typical, &population);
            return Ok(DecisionReport::of(&weighing, &typical, &population, others, (maximum, sensitivity)));
        }
        let rows: Vec<usize> = (0..table.rows()).collect();
        let (offered, lacking) = policy.worked_out(table, &rows).map_err(|e| e.to_string())?;
        let rule = &policy.rule;
        if lacking > 0 {
            eprintln!("In {lacking} rows an amount has no value; the mean of the other rows is used.");
        }
        let shift = population.shift();
        let moved: Vec<f64> = probability.iter().map(|&p| shift.there(p)).collect();
        let values = offered.given(rule.by, &moved);
        let customers = EvaluatedCustomers { probability: Cow::Borrowed(&moved), event, values: &values };
        let failed = |e: pronoia_core::decide::CurveError| e.to_string();
        let weighing = PolicyEvaluation::each(&customers, rule, &scale).map_err(failed)?;
        let weighing = at_line(weighing, asked, &values.typical(), values.is_same_for_all());
        let others = alternatives::each(&weighing, &customers, rule, &scale).map_err(failed)?;
        let typical = values.typical();
        let actions = weighing.actions().unwrap_or_default();
        let decision = ConfusionCounts::Each { values: &values, actions: &actions, event, weights: weighing.weights };
        let sensitivity = Sensitivity::of_all(&typical, &decision);
        let maximum = expected_maximum_of(&ranking, &typical, &population).filter(|_| policy.offers.is_single());
        let offers = OfferFigures::all(&policy, &customers, &weighing);
        Ok(DecisionReport {
            offers,
            ..DecisionReport::of(&weighing, &typical, &population, others, (maximum, sensitivity))
        })
    }
}

/// Without a line of its own, a rule by probability is drawn where it is proposed.
fn at_line(
    weighing: PolicyEvaluation,
    asked: &economics::EconomicsFile,
    typical: &Economics<f64>,
    same_for_all: bool,
) -> PolicyEvaluation {
    if asked.rule.is_some() || asked.by != Order::Probability {
        return weighing;
    }
    let payoffs = typical.payoffs();
    let proposal = weighing.proposed(same_for_all.then_some(&payoffs), false);
    let at = weighing.curve.last_within(&[CutOff::Least(proposal.act)]);
    weighing.moved_to(at)
}

impl DecisionReport {
    fn of(
        weighing: &PolicyEvaluation,
        typical: &Economics<f64>,
        population: &Population,
        alternatives: Vec<Alternative>,
        (expected_maximum, sensitivity): (Option<f64>, Vec<Sensitivity>),
    ) -> Self {
        let (curve, best, payoffs) = (&weighing.curve, weighing.best, typical.payoffs());
        Self {
            rows: weighing.ranking.rows,
            events: weighing.ranking.events,
            payoffs,
            break_even: payoffs.gain().break_even(),
            population: population.size(),
            best: curve.points[best.at],
            optimism: curve.optimism,
            nearly: [curve.points[best.from].share, curve.points[best.to].share],
            here: curve.points[weighing.position],
            referred: weighing.referred().0,
            worth: weighing.expected(),
            all: curve.points[curve.points.len() - 1],
            alternatives,
            offers: Vec::new(),
            expected_maximum,
            sensitivity,
        }
    }

    fn print(&self) {
        println!("{} rows, {} events; money is for {} customers", self.rows, self.events, self.population);
        let gain = self.payoffs.gain();
        println!(
            "incremental profit of acting on one customer: {:+.2} with the event, {:+.2} without",
            gain.event, gain.other
        );
        match self.break_even {
            Some(p) => println!("break-even probability: {p:.4}"),
            None => println!("acting pays for everyone or for no one"),
        }
        let line = |name: &str, p: &ProfitPoint| {
            println!(
                "{name:10} cut-off {:.4}: {:.0} customers selected ({}), expected profit {} (90 % CI {} to {})",
                p.cut_off.min(1.0),
                p.acted,
                number::percent(p.share),
                number::money(p.profit),
                number::money(p.low),
                number::money(p.high)
            );
        };
        line("best", &self.best);
        if self.here != self.best {
            line("chosen", &self.here);
        }
        line("all", &self.all);
        for OfferFigures { name, gain, customers } in &self.offers {
            println!(
                "“{name}”: given to {customers:.0}; incremental profit {:+.2} with the event, {:+.2} without",
                gain.event, gain.other
            );
        }
        if self.referred > 0.0 {
            println!(
                "referring {:.0} more to manual review: expected profit {} (90 % CI {} to {})",
                self.referred,
                number::money(self.worth.profit),
                number::money(self.worth.low),
                number::money(self.worth.high)
            );
        }
        println!(
            "nearly as good: {} to {} of customers; optimism of the best point, chosen and evaluated on the same rows: {}",
            number::percent(self.nearly[0]),
            number::percent(self.nearly[1]),
            number::money(self.optimism)
        );
        for other in &self.alternatives {
            if let Some(over) = other.over_cut_off {
                let which = serde_json::to_value(other.which).unwrap_or_default();
                println!(
                    "{}: {} more than the best single cut-off (90 % CI {} to {})",
                    which.as_str().unwrap_or_default(),
                    number::money(over.profit),
                    number::money(over.low),
                    number::money(over.high)
                );
            }
        }
        if let Some(over) = self.alternatives.iter().find_map(|other| other.over_one_offer) {
            println!(
                "the most profitable offer for each customer: {} more than the best single offer (90 % CI {} to {})",
                number::money(over.profit),
                number::money(over.low),
                number::money(over.high)
            );
        }
        if let Some(maximum) = self.expected_maximum {
            println!("expected maximum profit, for comparing models: {}", number::money(maximum));
        }
        let gains = self.worth.profit > self.alternatives.first().map_or(0.0, |none| none.expected.profit);
        println!("{} if", if gains { "loses money" } else { "would pay" });
        for s in &self.sensitivity {
            let when = match s.break_even {
                None => "at no value".into(),
                Some(at) => format!("{} {at:.4}", if at < s.value { "below" } else { "above" }),
            };
            println!("  {:14} {:>10.4}  {when}", s.assumption.word, s.value);
        }
    }
}
