//! How much a model leans on each column, how, and on which two together: against brute force, and
//! against what is known of generated customers.

use pronoia_core::decide::{Amount, Economics, Population, Rule, Stakes};
use pronoia_core::explain::{At, Averages, ExplainedCustomers, PermutationImportance};
use pronoia_core::expression::Expression;
use pronoia_core::learn::{Family, Settings};
use pronoia_core::model::{ModelError, Recipe};
use pronoia_core::progress::Unwatched;
use pronoia_core::question::Question;
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{Basis, ChosenPolicy};
use pronoia_core::validation::ModelImportance;
use pronoia_core::{Model, Progress, Table};

use crate::customers::{basis, customers, every, fit_of, happened, numbers, quick, words};

fn quick_model(table: &Table, word: &str) -> Model {
    fit_of(table, &quick(Family::of(word).expect("a family")))
}

/// An offer that pays from a probability of 0.24 on.
fn offer() -> Economics<f64> {
    Economics::usual(Question::Churn)
        .with("value_kept", 146.0)
        .with("save_rate", 0.3)
        .with("offer_cost", 24.0)
        .with("stayers_take", 0.35)
        .with("contact_cost", 2.4)
}

/// The influence of every column, with the offer made from a probability on.
fn influence(model: &Model, fresh: &Table, cut_off: f64) -> PermutationImportance {
    let (values, _) = offer().chosen().worked_out(fresh, &every(fresh)).expect("amounts");
    let population = Population::of(1_000.0);
    let offered = values.into();
    let stakes = Stakes { rule: &Rule::cut_off(cut_off), offered: &offered, population: &population };
    let rows = every(fresh);
    PermutationImportance::of(
        model,
        ExplainedCustomers { table: fresh, rows: &rows },
        &happened(fresh),
        Some(stakes),
        5,
        &Unwatched,
    )
    .expect("an influence")
}

#[test]
fn what_matters_is_told_from_what_does_not() {
    let (table, _) = customers(8_000, -2.0, 1);
    let (fresh, _) = customers(6_000, -2.0, 2);
    let mut off = Vec::new();
    for word in ["logistic", "scorecard", "boosted"] {
        let found = influence(&quick_model(&table, word), &fresh, 0.24);
        assert_eq!(found.columns.len(), 7, "{word}");
        let of = |name: &str| found.columns.iter().find(|c| c.column == name).expect("a column");
        for driver in ["straight", "tier", "pair"] {
            assert!(of(driver).is_clear(), "{word}: {:?}", of(driver));
        }
        for idle in ["idle_0", "idle_1", "idle_2"] {
            let area = of(idle).area.expect("an area");
            let money = of(idle).money.expect("money");
            let ends = [area.interval(), (money.low, money.high)];
            off.extend(ends.into_iter().filter(|(low, high)| *low > 0.0 || *high < 0.0));
        }
        let lost: Vec<f64> = found.columns.iter().filter_map(|c| c.money).map(|money| money.profit).collect();
        assert!(lost.windows(2).all(|pair| pair[0] >= pair[1]), "{word}: the most comes first");
        assert_eq!(found, influence(&quick_model(&table, word), &fresh, 0.24), "{word}: the same again");
    }
    // Of nine intervals of 95 % and nine of 90 % one or two miss by chance.
    assert!(off.len() <= 2, "{off:?}");
}

#[test]
fn a_column_that_is_not_used_loses_exactly_nothing() {
    let (table, _) = customers(3_000, -2.0, 3);
    let (fresh, _) = customers(2_000, -2.0, 4);
    let mut settings = quick(Family::of("tree").expect("a family"));
    settings.set("leaves", "4").expect("a setting");
    let found = influence(&fit_of(&table, &settings), &fresh, 0.24);
    let silent: Vec<_> = found.columns.iter().filter(|c| c.area.is_some_and(|a| a.value == 0.0)).collect();
    assert!(silent.len() >= 3, "four leaves use three columns at most: {found:?}");
    for column in silent {
        let money = column.money.expect("money");
        assert_eq!((column.area.expect("an area").se, money.profit, money.low, money.high), (0.0, 0.0, 0.0, 0.0));
        assert!(!column.is_clear());
    }
}

#[test]
fn without_its_only_column_a_model_is_a_lottery() {
    let (table, _) = customers(6_000, -2.0, 5);
    let (fresh, _) = customers(6_000, -2.0, 6);
    let alone = Basis { predictors: vec!["straight".into()], ..basis() };
    let settings = Settings::of_family("logistic").expect("a family");
    let model = Model::fit(&table, &alone, &every(&table), &settings, 7, &Unwatched).expect("a model");
    let found = influence(&model, &fresh, 0.24);
    let [only] = &found.columns[..] else { panic!("one column") };
    let (area, all) = (only.area.expect("an area"), found.area.expect("an area"));
    assert!((area.value - (all.value - 0.5)).abs() < 2.0 * area.se, "{area:?} of {all:?}");
    // By lot, as many are acted on, and they are like everybody.
    let probability = model.probabilities(&fresh, &every(&fresh)).expect("scores");
    let event = happened(&fresh);
    let gain = offer().payoffs().gain();
    let each = 1_000.0 / event.len() as f64;
    let share = probability.iter().filter(|&&p| p >= 0.24).count() as f64 / event.len() as f64;
    let everybody: f64 = event.iter().map(|&e| gain.happened(e) * each).sum();
    let acted: f64 =
        (0..event.len()).filter(|&at| probability[at] >= 0.24).map(|at| gain.happened(event[at]) * each).sum();
    let (money, gained) = (only.money.expect("money"), found.gain.expect("a gain"));
    assert!((gained.profit - acted).abs() < 1e-9 * acted.abs());
    let reach = money.high - money.profit;
    assert!((money.profit - (acted - share * everybody)).abs() < 1.5 * reach, "{money:?}");
}

/// What a model says on average of customers who are all given the same column.
fn given(model: &Model, table: &Table, columns: &[pronoia_core::Column]) -> f64 {
    let changed = columns.iter().fold(table.clone(), |table, column| table.with(column.clone()));
    let told = model.probabilities(&changed, &every(table)).expect("scores");
    told.iter().sum::<f64>() / told.len() as f64
}

#[test]
fn average_effects_are_those_of_tables_in_which_everybody_has_the_value() {
    let (table, _) = customers(3_000, -2.0, 8);
    // So few that everybody is averaged over.
    let (fresh, _) = customers(300, -2.0, 9);
    let (rows, event) = (every(&fresh), happened(&fresh));
    let same = |name: &str, at: &At| match at {
        At::Number(x) => numbers(name, vec![Some(*x); 300]),
        At::Missing => numbers(name, vec![None; 300]),
        At::Value(word) => words(name, vec![word.as_str(); 300]),
    };
    for word in ["logistic", "boosted", "scorecard", "network", "neighbours"] {
        let model = quick_model(&table, word);
        let averages =
            Averages::of(&model, ExplainedCustomers { table: &fresh, rows: &rows }, &event).expect("averages");
        for name in ["straight", "bent", "tier"] {
            let effect = averages.effect(name).expect("an effect");
            assert_eq!((effect.customers, effect.points.iter().map(|p| p.count.rows).sum::<u64>()), (300, 300));
            for point in effect.points.iter().step_by(5) {
                let expected = given(&model, &fresh, &[same(name, &point.at)]);
                assert!((point.average - expected).abs() < 1e-9, "{word} {name} {:?}", point.at);
            }
        }
        let joint = averages.together("bent", "tier").expect("two columns");
        let width = joint.values[1].len();
        for (i, down) in joint.values[0].iter().enumerate().step_by(3) {
            for (j, across) in joint.values[1].iter().enumerate() {
                let expected = given(&model, &fresh, &[same("bent", down), same("tier", across)]);
                assert!((joint.average[i * width + j] - expected).abs() < 1e-9, "{word} {down:?} {across:?}");
            }
        }
        assert_eq!(joint.count.iter().map(|c| c.rows).sum::<u64>(), 300);
        assert!(averages.together("tier", "tier").is_none() && averages.effect("left").is_none());
    }
}

fn understood(basis: &Basis, word: &str, chosen: Option<ChosenPolicy>) -> ModelImportance {
    let (table, _) = customers(16_000, -2.0, 10);
    let recipe = Recipe::One(Settings::of_family(word).expect("a family"));
    let model = Model::fit(&table, basis, &every(&table), &recipe, 3, &Unwatched).expect("a model");
    ModelImportance::of(&table, basis, (&model, &recipe), chosen, &Unwatched).expect("understood")
}

#[test]
fn the_pair_that_acts_together_is_found_and_a_sum_is_one() {
    for folds in [None, Some(4)] {
        let basis = Basis { split: SplitPlan { folds, ..basis().split }, ..basis() };
        let boosted = understood(&basis, "boosted", None);
        let first = &boosted.interactions[0];
        let mut pair = first.columns.clone();
        pair.sort();
        assert_eq!(pair, ["pair", "tier"], "{:?}", boosted.interactions);
        // 1.2 for a quarter of the customers and a half of those: the root of 3/16 by 1/4, times 1.2.
        assert!((first.beyond - 0.26).abs() < 0.08, "{first:?}");
        assert!(boosted.interactions[1].beyond < first.beyond / 2.0, "{:?}", boosted.interactions);
        // A fifth of all is validation rows, and a quarter of the other four fifths the first fold.
        let rows = 16_000 / 5;
        assert_eq!((boosted.influence.rows, boosted.influence.gain), (rows, None));
    }
    let sum = understood(&basis(), "logistic", None);
    assert!(sum.interactions.len() >= 3 && sum.interactions.iter().all(|i| i.beyond < 1e-9), "{:?}", sum.interactions);
}

#[test]
fn money_goes_by_the_whole_policy_with_amounts_of_each_customer() {
    let (table, _) = customers(16_000, -2.0, 10);
    let value = Amount::typed("80 + 120 * straight", &Expression::columns_of(&table)).expect("a formula");
    let policy = pronoia_core::decide::Policy {
        economics: offer().chosen().with("value_kept", value),
        offers: Default::default(),
        rule: Rule::value_aware(),
    };
    let chosen = ChosenPolicy {
        model_id: 1,
        policy,
        population: Population::of(1_000.0),
        currency: String::new(),
        promised: None,
    };
    let found = understood(&basis(), "boosted", Some(chosen.clone()));
    let straight = found.influence.columns.iter().find(|c| c.column == "straight").expect("a column");
    let (lost, gain) = (straight.money.expect("money").profit, found.influence.gain.expect("a gain").profit);
    assert!(straight.is_clear() && lost > 0.0 && lost < gain, "{lost} of {gain}");
    assert_eq!(found.chosen.map(|chosen| chosen.policy.rule), Some(chosen.policy.rule));
}

struct Stopped;

impl Progress for Stopped {
    fn tell(&self, _: &str, _: f64) {}

    fn is_cancelled(&self) -> bool {
        true
    }
}

#[test]
fn it_can_be_stopped() {
    let (table, _) = customers(2_000, -2.0, 11);
    let model = quick_model(&table, "logistic");
    let recipe = Recipe::One(quick(Family::of("logistic").expect("a family")));
    let stopped = ModelImportance::of(&table, &basis(), (&model, &recipe), None, &Stopped).expect_err("stopped");
    assert!(matches!(stopped, ModelError::Fit(pronoia_core::learn::FitError::Cancelled(_))), "{stopped}");
}
