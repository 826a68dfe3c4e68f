//! Reasons: sums, the definition itself on small trees, and columns that tell nothing.

use pronoia_core::explain::{ExplainedCustomers, Reasons, ScoreUnit, ShapleyMethod, Similarity, smallest_change};
use pronoia_core::learn::{Estimator, Family, Settings, Tree, TreeNode};
use pronoia_core::model::{Ensemble, Mix, Recipe};
use pronoia_core::prepare::Design;
use pronoia_core::progress::Unwatched;
use pronoia_core::{Model, Table};

use crate::customers::{PREDICTORS, basis, customers, every, fit_of, quick};

fn reasons(model: &Model, table: &Table, rows: &[usize], background: &Table) -> Reasons {
    let others = every(background);
    Reasons::of(model, ExplainedCustomers { table, rows }, ExplainedCustomers { table: background, rows: &others }, 5)
        .expect("reasons")
}

fn family(word: &str) -> Settings {
    quick(Family::of(word).expect("a family"))
}

/// What a tree is expected to say where only some columns are known.
fn known(tree: &Tree, node: usize, design: &Design, row: usize, columns: &[&str]) -> f64 {
    match &tree.nodes[node] {
        TreeNode::Leaf { value, .. } => *value,
        TreeNode::Inner { feature, cut, missing_left, left, right, .. } => {
            let asked = &design.features()[*feature as usize];
            let below = |child: &u32| known(tree, *child as usize, design, row, columns);
            if columns.contains(&asked.column.as_str()) {
                let goes_left = cut.goes_left(&asked.values, row).unwrap_or(*missing_left);
                return below(if goes_left { left } else { right });
            }
            let rows = |child: &u32| f64::from(tree.nodes[*child as usize].rows());
            (below(left) * rows(left) + below(right) * rows(right)) / (rows(left) + rows(right))
        }
    }
}

/// Shapley's own formula over all sets of columns.
fn by_definition(value: impl Fn(&[&str]) -> f64, columns: &[&str]) -> Vec<f64> {
    let n = columns.len();
    let factorial = |k: usize| (1..=k).map(|i| i as f64).product::<f64>();
    let of_set = |set: usize| value(&(0..n).filter(|i| set >> i & 1 == 1).map(|i| columns[i]).collect::<Vec<_>>());
    let values: Vec<f64> = (0..1 << n).map(of_set).collect();
    (0..n)
        .map(|i| {
            (0..1usize << n)
                .filter(|set| set >> i & 1 == 0)
                .map(|set| {
                    let k = set.count_ones() as usize;
                    factorial(k) * factorial(n - 1 - k) / factorial(n) * (values[set | 1 << i] - values[set])
                })
                .sum()
        })
        .collect()
}

#[test]
fn reasons_of_trees_are_those_of_the_definition() {
    let (table, _) = customers(3_000, -2.0, 1);
    let (fresh, _) = customers(40, -2.0, 2);
    for (word, leaves) in [("tree", "24"), ("boosted", "12"), ("forest", "")] {
        let mut settings = family(word);
        if !leaves.is_empty() {
            settings.set("leaves", leaves).expect("a setting");
        }
        let model = fit_of(&table, &settings);
        let found = reasons(&model, &fresh, &every(&fresh), &table);
        let member = &model.members[0];
        let design = member.preparation.apply(&fresh, &every(&fresh)).expect("prepared");
        let (trees, start): (Vec<&Tree>, f64) = match &member.estimator {
            Estimator::Tree(tree) => (vec![&tree.tree], 0.0),
            Estimator::Boosted(boosted) => (boosted.trees.iter().collect(), boosted.start),
            Estimator::Forest(forest) => (forest.trees.iter().collect(), 0.0),
            _ => unreachable!("a family of trees"),
        };
        let each = if word == "forest" { 1.0 / trees.len() as f64 } else { 1.0 };
        assert_eq!((found.method, found.unit == ScoreUnit::Share), (ShapleyMethod::Trees, word == "forest"));
        for row in 0..fresh.rows() {
            let value = |columns: &[&str]| {
                start + each * trees.iter().map(|tree| known(tree, 0, &design, row, columns)).sum::<f64>()
            };
            assert!((found.base - value(&[])).abs() < 1e-9, "{word}");
            for (at, expected) in by_definition(value, &PREDICTORS).into_iter().enumerate() {
                let place = found.columns.iter().position(|name| name == PREDICTORS[at]).expect("a column");
                let reason = found.of[row][place];
                assert!((reason - expected).abs() < 1e-9, "{word} {row} {}: {reason} {expected}", PREDICTORS[at]);
            }
        }
    }
}

#[test]
fn reasons_add_up_to_the_score_for_every_family() {
    let (table, _) = customers(2_500, -2.0, 3);
    let (fresh, _) = customers(60, -2.0, 4);
    let some: Vec<usize> = (0..8).collect();
    for of in Family::ALL {
        let model = fit_of(&table, &quick(of));
        let found = reasons(&model, &fresh, &some, &table);
        let member = &model.members[0];
        let design = member.preparation.apply(&fresh, &some).expect("prepared");
        let told = member.estimator.log_odds(&design);
        for (row, &told) in told.iter().enumerate() {
            let sum = found.base + found.of[row].iter().sum::<f64>();
            assert!((sum - found.scores[row]).abs() < 1e-9, "{}: {sum} {}", of.word, found.scores[row]);
            let score = if found.unit == ScoreUnit::Share { (sum / (1.0 - sum)).ln() } else { sum };
            assert!((score - told).abs() < 1e-9, "{}: {score} {told}", of.word);
        }
        assert_eq!(found.errors.is_some(), found.method == ShapleyMethod::Drawn, "{}", of.word);
        let probability = model.probabilities(&fresh, &some).expect("scores");
        assert_eq!(found.probability, probability);
    }
}

#[test]
fn a_pair_on_a_card_is_shared_between_its_columns_as_the_definition_says() {
    let (table, _) = customers(6_000, -2.0, 5);
    let mut settings = family("scorecard");
    settings.set("pairs", "1").expect("a setting");
    let model = fit_of(&table, &settings);
    let Estimator::Scorecard(card) = &model.members[0].estimator else { unreachable!("a scorecard") };
    assert_eq!(card.pairs.len(), 1, "the planted pair");
    let (fresh, _) = customers(6, -2.0, 6);
    let (background, _) = customers(300, -2.0, 7);
    let found = reasons(&model, &fresh, &every(&fresh), &background);
    let columns: Vec<&str> = found.columns.iter().map(String::as_str).collect();
    let prepared = |table: &Table| model.members[0].preparation.apply(table, &every(table)).expect("prepared");
    let (others, customers) = (prepared(&background), prepared(&fresh));
    for row in 0..fresh.rows() {
        // The card on customers of the background who have the known columns of this one.
        let value = |known: &[&str]| {
            let both = others.clone().followed_by(&customers.take(&[row]));
            let n = background.rows();
            let mixed = both.take_by_feature(n, |feature| {
                let is_known = known.contains(&both.features()[feature].column.as_str());
                (0..n).map(|other| if is_known { n } else { other }).collect()
            });
            card.log_odds(&mixed).iter().sum::<f64>() / n as f64
        };
        for (at, expected) in by_definition(value, &columns).into_iter().enumerate() {
            let reason = found.of[row][at];
            assert!((reason - expected).abs() < 1e-9, "{}: {reason} {expected}", columns[at]);
        }
    }
}

#[test]
fn drawn_reasons_are_the_exact_ones_within_their_error() {
    let (table, _) = customers(4_000, -2.0, 8);
    let (fresh, _) = customers(5, -2.0, 9);
    let recipe =
        Recipe::Blend(Ensemble::new(Mix::Average, vec![family("logistic"), family("scorecard")]).expect("two"));
    let blend = Model::fit(&table, &basis(), &every(&table), &recipe, 7, &Unwatched).expect("a blend");
    let drawn = reasons(&blend, &fresh, &every(&fresh), &table);
    assert_eq!(drawn.method, ShapleyMethod::Drawn);
    let shares = blend.blended.as_ref().expect("a blend").shares.clone();
    let exact: Vec<Reasons> = blend
        .members
        .iter()
        .map(|member| {
            assert!(member.calibration.is_none(), "both tell log-odds by themselves");
            let alone = Model { members: vec![member.clone()], blended: None, ..blend.clone() };
            reasons(&alone, &fresh, &every(&fresh), &table)
        })
        .collect();
    let errors = drawn.errors.as_ref().expect("errors");
    let (mut within, mut all) = (0, 0);
    for (row, errors) in errors.iter().enumerate() {
        for (at, name) in drawn.columns.iter().enumerate() {
            let of = |r: &Reasons| r.columns.iter().position(|c| c == name).map_or(0.0, |place| r.of[row][place]);
            let expected = shares[0] * of(&exact[0]) + shares[1] * of(&exact[1]);
            let off = (drawn.of[row][at] - expected).abs();
            assert!(off < 4.5 * errors[at] + 1e-9, "{name}: {off} {}", errors[at]);
            within += usize::from(off <= 2.0 * errors[at] + 1e-9);
            all += 1;
        }
    }
    assert!(within * 10 >= all * 9, "{within} of {all} within two standard errors");
}

#[test]
fn columns_that_tell_nothing_have_no_reasons_beyond_chance() {
    let slow = std::env::var("PRONOIA_TEST_SLOW").is_ok();
    let (table, _) = customers(if slow { 12_000 } else { 6_000 }, -2.0, 10);
    let (fresh, _) = customers(if slow { 2_000 } else { 1_000 }, -2.0, 11);
    let families = ["logistic", "scorecard", "boosted", "forest", "bayes"];
    for word in families.into_iter().take(if slow { 5 } else { 3 }) {
        let model = fit_of(&table, &Settings::of_family(word).expect("a family"));
        let found = reasons(&model, &fresh, &every(&fresh), &table);
        let of = |name: &str| found.columns.iter().position(|column| column == name).expect("a column");
        let n = fresh.rows() as f64;
        let spread = |name: &str| (found.of.iter().map(|r| r[of(name)].powi(2)).sum::<f64>() / n).sqrt();
        for idle in ["idle_0", "idle_1", "idle_2"] {
            let at = of(idle);
            let mean = found.of.iter().map(|r| r[at]).sum::<f64>() / n;
            let error = spread(idle) / n.sqrt();
            // Over many customers they come to nothing, to within what drawing other rows would change.
            assert!(mean.abs() < 4.0 * error + 0.01 * spread("straight"), "{word} {idle}: {mean} {error}");
            assert!(spread(idle) < 0.35 * spread("straight"), "{word} {idle}: {} {}", spread(idle), spread("straight"));
        }
    }
    // What is not on the card at all has exactly nothing.
    let model = fit_of(&table, &Settings::of_family("scorecard").expect("a family"));
    let Estimator::Scorecard(card) = &model.members[0].estimator else { unreachable!("a scorecard") };
    let found = reasons(&model, &fresh, &every(&fresh), &table);
    for (at, column) in found.columns.iter().enumerate() {
        if card.columns.iter().all(|c| c.column != *column) {
            assert!(found.of.iter().all(|reasons| reasons[at] == 0.0), "{column}");
        }
    }
}

#[test]
fn the_nearest_real_customers_are_found_and_what_never_occurs_is_marked() {
    let (table, _) = customers(3_000, -2.0, 12);
    let columns = PREDICTORS.map(str::to_owned);
    let likeness = Similarity::of(&table, &columns, &every(&table));
    let own = table.take(&[17]);
    let near = likeness.nearest(&table, &own, 3);
    assert_eq!((near[0].row, near[0].distance), (17, 0.0));
    assert!(near[1].distance <= near[2].distance && likeness.occurs(&near[1]));
    // Everything at an end that nobody has together with the others.
    let far = PREDICTORS.iter().fold(own, |table, name| match *name {
        "tier" => table.with(crate::customers::words("tier", vec!["Never"])),
        "pair" => table.with(crate::customers::words("pair", vec!["neither"])),
        number => table.with(crate::customers::numbers(number, vec![Some(40.0)])),
    });
    let nearest = likeness.nearest(&table, &far, 1)[0];
    assert!(!likeness.occurs(&nearest), "{nearest:?}");
}

#[test]
fn the_smallest_change_is_the_smallest_by_brute_force_and_leaves_the_rest_alone() {
    let (table, _) = customers(3_000, -2.0, 13);
    let model = fit_of(&table, &family("boosted"));
    let columns = PREDICTORS.map(str::to_owned);
    let likeness = Similarity::of(&table, &columns, &every(&table));
    let p = model.probabilities(&table, &every(&table)).expect("scores");
    let cut_off = 0.3;
    let row = (0..table.rows()).find(|&row| p[row] > 0.31 && p[row] < 0.4).expect("somebody just above");
    let customer = table.take(&[row]);
    let changeable = ["straight".to_owned(), "tier".to_owned()];
    let flips = |_: &Table, p: f64| p < cut_off;
    let found = smallest_change(&model, &customer, (&table, &every(&table)), (&likeness, &changeable), flips)
        .expect("looked for")
        .expect("a change");
    assert!(found.probability < cut_off && found.columns.iter().all(|c| changeable.contains(&c.0)));
    let again = model.probabilities(&found.customer, &[0]).expect("a score")[0];
    assert_eq!(again, found.probability);
    // No value of the column of words alone is nearer.
    for tier in ["Basic", "Plus", "Complete", "Old"] {
        let other = customer.with(crate::customers::words("tier", vec![tier]));
        if model.probabilities(&other, &[0]).expect("a score")[0] < cut_off {
            assert!(likeness.distance(&other, 0, &customer) >= found.distance - 1e-12, "{tier}");
        }
    }
    for name in PREDICTORS.iter().filter(|name| !changeable.contains(&(**name).to_owned())) {
        let text = |table: &Table| table.column(name).and_then(|c| c.text(0));
        assert_eq!(text(&found.customer), text(&customer), "{name} stays");
    }
    // What cannot be changed is not.
    let none = smallest_change(&model, &customer, (&table, &every(&table)), (&likeness, &[]), flips);
    assert!(none.expect("looked for").is_none());
}
