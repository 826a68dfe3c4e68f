//! Several offers, each customer the best one or none: against adding up customer by customer.

use std::borrow::Cow;
use std::collections::BTreeMap;

use pronoia_core::decide::{
    Amount, ConfusionCounts, CutOff, Economics, EvaluatedCustomers, EvaluationScale, Given, Offer, OfferAmounts,
    Offers, Order, Payoffs, Policy, PolicyAction, PolicyEvaluation, Population, Rule, Which, alternatives,
};
use pronoia_core::expression::Expression;
use pronoia_core::question::Question;
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Kind, Table};
use proptest::prelude::*;

fn table(fees: &[f64]) -> Table {
    let mut column = ColumnBuilder::new("fee", Kind::Number);
    fees.iter().for_each(|&fee| column.push_number(fee));
    Table::new(vec![column.finish()]).expect("a table")
}

fn offer(name: &str, amounts: &[(&str, f64)]) -> Offer {
    let amounts = amounts.iter().map(|&(word, amount)| (word.to_owned(), Amount::Same(amount)));
    Offer { name: name.into(), amounts: amounts.collect() }
}

/// A dear offer that keeps many, a cheap one that keeps few, and one whose cost is that of the fee.
fn policy(fees: &Table, by: Order) -> Policy {
    let columns = Expression::columns_of(fees);
    let amount = |text: &str| Amount::typed(text, &columns).expect("an amount");
    let cost: BTreeMap<String, Amount> = [("offer_cost".to_owned(), amount("fee / 8"))].into();
    Policy {
        economics: Economics::usual(Question::Churn)
            .chosen()
            .with("value_kept", amount("fee"))
            .with("save_rate", 0.4.into())
            .with("offer_cost", 60.0.into()),
        offers: Offers {
            first: "fee holiday".into(),
            others: vec![
                offer("letter", &[("save_rate", 0.08), ("offer_cost", 0.0), ("contact_cost", 1.0)]),
                Offer { name: "discount".into(), amounts: cost },
            ],
        },
        rule: Rule { by, ..Rule::value_aware() },
    }
}

/// What each offer is worth to one customer, one by one from the amounts.
fn by_hand(policy: &Policy, fee: f64) -> Vec<Payoffs> {
    let amount = |amount: &Amount, word: &str| match (amount, word) {
        (Amount::Same(amount), _) => *amount,
        (Amount::Each(_), "value_kept") => fee,
        (Amount::Each(_), _) => fee / 8.0,
    };
    let each = policy.offers.each(&policy.economics);
    each.iter().map(|economics| economics.map(|a, own| amount(own, a.word)).payoffs()).collect()
}

fn certain(population: &Population) -> EvaluationScale<'_> {
    EvaluationScale { population, doubt: 0.0, seed: 4 }
}

fn offered(policy: &mut Policy, fees: &Table) -> OfferAmounts {
    let rows: Vec<usize> = (0..fees.rows()).collect();
    policy.worked_out(fees, &rows).expect("amounts").0
}

prop_compose! {
    fn judged()(rows in prop::collection::vec((0u8..40, any::<bool>(), 20.0..900.0f64), 2..120))
        -> (Vec<f64>, Vec<bool>, Vec<f64>) {
        let p: Vec<f64> = rows.iter().map(|r| f64::from(r.0) / 40.0).collect();
        (p, rows.iter().map(|r| r.1).collect(), rows.iter().map(|r| r.2).collect())
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]

    #[test]
    fn on_true_probabilities_choosing_is_never_worth_less_than_one_offer_for_all((p, _, fee) in judged()) {
        let fees = table(&fee);
        let mut policy = policy(&fees, Order::Gain);
        let all = offered(&mut policy, &fees);
        let expected = |given: &Given, rule: &Rule| -> f64 {
            let actions = rule.actions(&p, |at| given.payoffs_of(at), p.len() as f64);
            (0..p.len()).map(|at| given.payoffs_of(at).of(actions[at]).expected(p[at])).sum()
        };
        let chosen = expected(&all.clone().given(Order::Gain, &p), &policy.rule);
        let brute: f64 = (0..p.len())
            .map(|at| by_hand(&policy, fee[at]).iter().fold(0.0, |best: f64, one| best.max(one.gain().expected(p[at]))))
            .sum();
        prop_assert!((chosen - brute).abs() <= 1e-9 * (1.0 + brute), "{} {}", chosen, brute);
        for one in 0..all.count() {
            let alone = all.only(one).given(Order::Gain, &p);
            prop_assert!(chosen >= expected(&alone, &policy.rule) - 1e-9);
            for cut_off in p.iter().chain([&2.0]) {
                prop_assert!(chosen >= expected(&alone, &Rule::cut_off(*cut_off)) - 1e-9);
            }
        }
    }

    #[test]
    fn a_curve_with_several_offers_is_what_adding_up_customer_by_customer_gives((p, event, fee) in judged()) {
        let fees = table(&fee);
        let population = Population::of(3_000.0);
        let each = 3_000.0 / p.len() as f64;
        for by in [Order::Probability, Order::Gain, Order::GainPerCost] {
            let mut policy = policy(&fees, by);
            let given = offered(&mut policy, &fees).given(by, &p);
            let customers = EvaluatedCustomers { probability: Cow::Borrowed(&p), event: &event, values: &given };
            let rule = Rule { by, line: CutOff::Share(0.5), limits: vec![], refer_from: None };
            let weighing = PolicyEvaluation::each(&customers, &rule, &certain(&population)).expect("rows");
            let counts = customers.by_offer(&weighing);
            let chosen: Vec<usize> = (0..p.len()).map(|at| {
                let key = |one: &Payoffs| match by {
                    Order::GainPerCost => by.key(p[at], one),
                    _ => Order::Gain.key(p[at], one),
                };
                let all = by_hand(&policy, fee[at]);
                let most = all.iter().map(key).fold(f64::NEG_INFINITY, f64::max);
                all.iter().position(|one| key(one) == most).expect("one of them")
            }).collect();
            for (at, point) in weighing.curve.points.iter().enumerate() {
                let (mut worth, mut spent, mut count) = (0.0, 0.0, [0.0; 3]);
                for i in 0..p.len() {
                    let one = by_hand(&policy, fee[i])[chosen[i]];
                    if at > 0 && by.key(p[i], &one) >= point.cut_off {
                        worth += one.act.happened(event[i]) * each;
                        spent += one.spent.happened(event[i]) * each;
                        count[chosen[i]] += each;
                    }
                }
                prop_assert!((point.profit - worth).abs() < 1e-6 && (point.spent - spent).abs() < 1e-6);
                prop_assert!(counts[at].iter().zip(count).all(|(a, b)| (a - b).abs() < 1e-6), "{:?} {:?}", counts[at], count);
            }
            // A rule that decides without a look at outcomes does the same to everybody.
            let actions = rule.actions(&p, |at| given.payoffs_of(at), population.size());
            prop_assert_eq!(weighing.actions().expect("one by one"), actions);
        }
    }

    #[test]
    fn other_amounts_move_those_of_all_offers_while_everybody_keeps_theirs((p, event, fee) in judged(), factor in 0.2..1.5f64) {
        let fees = table(&fee);
        let mut policy = policy(&fees, Order::Gain);
        let given = offered(&mut policy, &fees).given(Order::Gain, &p);
        let actions: Vec<PolicyAction> = p.iter().map(|&p| if p > 0.3 { PolicyAction::Act } else { PolicyAction::Leave }).collect();
        let weights = Population::of(p.len() as f64).weights(p.len() as f64, event.iter().filter(|&&e| e).count() as f64);
        let decision = ConfusionCounts::Each { values: &given, actions: &actions, event: &event, weights };
        for word in ["save_rate", "offer_cost", "value_kept"] {
            let typical = given.typical();
            let value = *typical.amount(word).expect("an amount");
            let found = decision.gain(&typical.with(word, value * factor));
            let brute: f64 = (0..p.len()).filter(|&at| actions[at] == PolicyAction::Act).map(|at| {
                let columns = Expression::columns_of(&fees);
                let economics = &policy.offers.each(&policy.economics)[given.offer_of(at)];
                let one = economics.map(|a, own| {
                    let amount = match own {
                        Amount::Same(amount) => *amount,
                        Amount::Each(formula) => {
                            let anew = Amount::typed(formula.expression.source(), &columns).expect("an amount");
                            anew.values(&fees, &[at]).expect("a value").0.mean()
                        }
                    };
                    if a.word == word { amount * factor } else { amount }
                });
                one.payoffs().gain().happened(event[at])
            }).sum();
            prop_assert!((found - brute).abs() < 1e-6 * (1.0 + brute.abs()), "{}: {} {}", word, found, brute);
        }
    }
}

#[test]
fn what_choosing_brings_is_told_beside_the_best_single_offer() {
    let n = 4_000;
    let p: Vec<f64> = (0..n).map(|i| 0.6 * f64::from(i) / f64::from(n)).collect();
    let event: Vec<bool> = (0..n).map(|i| f64::from((i * 7_919) % 1_000) / 1_000.0 < p[i as usize]).collect();
    let fee: Vec<f64> = (0..n).map(|i| 40.0 + f64::from((i * 104_729) % 800)).collect();
    let fees = table(&fee);
    let mut policy = policy(&fees, Order::Gain);
    let given = offered(&mut policy, &fees).given(Order::Gain, &p);
    let customers = EvaluatedCustomers { probability: Cow::Borrowed(&p), event: &event, values: &given };
    let population = Population::of(f64::from(n));
    let weighing = PolicyEvaluation::each(&customers, &policy.rule, &certain(&population)).expect("rows");
    let all = alternatives::each(&weighing, &customers, &policy.rule, &certain(&population)).expect("rows");
    let of = |which: Which| all.iter().find(|a| a.which == which).expect("there");
    let (choosing, one, cut_off) = (of(Which::ValueAware), of(Which::OneOffer), of(Which::CutOff));
    let over = choosing.over_one_offer.expect("compared");
    assert!((over.profit - (choosing.expected.profit - one.expected.profit)).abs() < 1e-6, "{over:?}");
    assert!(over.low > 0.0, "the offers suit different customers: {over:?}");
    let over = choosing.over_cut_off.expect("compared");
    assert!((over.profit - (choosing.expected.profit - cut_off.expected.profit)).abs() < 1e-6, "{over:?}");
    assert!((choosing.expected.profit - weighing.expected().profit).abs() < 1e-6);
    assert!(one.only.is_some() && cut_off.only.is_some() && choosing.only.is_none());
    // The best of them alone is the best of them alone.
    for offer in 0..3 {
        let alone = given.offered().only(offer).given(Order::Gain, &p);
        let customers = EvaluatedCustomers { values: &alone, ..customers.clone() };
        let weighed = PolicyEvaluation::each(&customers, &Rule::value_aware(), &certain(&population)).expect("rows");
        assert!(weighed.expected().profit <= one.expected.profit + 1e-6, "{offer}");
        assert!(weighed.curve.points.iter().all(|point| point.profit <= choosing.expected.profit * 1.2));
    }
}

#[test]
fn offers_that_cannot_stand_beside_each_other_are_refused_in_words() {
    let churn = Economics::usual(Question::Churn).chosen();
    let refused = |economics: &Economics, others: Vec<Offer>| {
        Offers { first: "gift".into(), others }.check(economics).expect_err("refused").to_string()
    };
    let letter = || offer("letter", &[("save_rate", 0.1)]);
    assert!(Offers { first: String::new(), others: vec![letter()] }.check(&churn).is_ok());
    let said = refused(&churn, vec![offer("Gift", &[])]);
    assert!(said.contains("Two offers are called “Gift”"), "{said}");
    let said = refused(&churn, vec![offer("letter", &[("value_kept", 3.0)])]);
    assert!(said.contains("“Customer margin a year” cannot differ between offers"), "{said}");
    let said = refused(&churn, vec![offer("letter", &[("save_rate", 1.4)])]);
    assert!(said.contains("“letter”: “Save rate”") && said.contains("140"), "{said}");
    let said = refused(&Economics::usual(Question::Credit).chosen(), vec![letter()]);
    assert!(said.contains("approved or declined"), "{said}");
    let said = refused(&churn, (0..8).map(|at| offer(&format!("letter {at}"), &[])).collect());
    assert!(said.contains("8 are the most"), "{said}");
    let said = refused(&churn, vec![offer(&"long ".repeat(9), &[])]);
    assert!(said.contains("up to 40 letters"), "{said}");
    assert_eq!(Offers { first: String::new(), others: vec![letter()] }.names(), ["offer 1", "letter"]);
}

#[test]
fn policies_are_read_back_and_those_of_before_have_one_offer() {
    let mut policy = policy(&table(&[100.0, 300.0]), Order::Gain);
    offered(&mut policy, &table(&[100.0, 300.0]));
    let stored = serde_json::to_value(&policy).expect("written");
    assert_eq!(serde_json::from_value::<Policy>(stored).expect("read"), policy);
    assert_eq!(policy.inputs(), ["fee"]);
    let before = serde_json::json!({
        "economics": {"kind": "response", "margin": 40.0, "anyway": 0.1, "incentive": 0.0, "contact_cost": 1.5},
        "rule": {"by": "probability", "line": {"least": 0.2}},
    });
    let read: Policy = serde_json::from_value(before).expect("read");
    assert!(read.offers.is_single() && read.is_same_for_all());
    assert_eq!(read.economics.amount("reach"), Some(&Amount::Same(1.0)), "such a contact reaches everybody");
}
