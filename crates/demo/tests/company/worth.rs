//! What the policy that is recommended is truly worth, of the best that anybody could do who knew
//! every member's own probability.

use pronoia_core::EvaluatedModel;
use pronoia_core::Table;
use pronoia_core::decide::{Economics, EvaluationScale, PolicyEvaluation, Population, Ranking, Rule};
use pronoia_core::drivers::Drivers;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::model::{Ensemble, Mix, ModelError, Recipe};
use pronoia_core::prepare::{PreparationStep, StepAction};
use pronoia_core::profile::TableProfile;
use pronoia_core::progress::Unwatched;
use pronoia_core::question::Question;
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{self, Basis, Outcome, Verdict};
use pronoia_core::tune::{TuningMeasure, TuningPlan, TuningRun};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, MEMBERS, Member, members};

/// Members whose true expected gain is added up.
const FRESH: usize = 50_000;

/// The columns that are made of two that say more together: their names, and of what.
const TOGETHER: [(&str, [&str; 2], &str); 2] = [
    ("species_and_tier", ["plan_tier", "species"], "species || ' ' || plan_tier"),
    (
        "moved_or_weekends",
        ["moved_home", "weekend_visits"],
        "CASE WHEN weekend_visits <> moved_home THEN 'one of the two' ELSE 'both or none' END",
    ),
];

fn records(people: &[Member]) -> Table {
    read_table(&pronoia_demo::outcome_csv(people), &Unwatched).expect("the records").0
}

/// The study as the stops before Train leave it.
fn prepared(people: &[Member], table: &Table) -> Basis {
    let rows: Vec<usize> = (0..table.rows()).collect();
    let event: Vec<bool> = people.iter().map(|m| m.cancelled).collect();
    let areas = study::probe::areas(table, &rows, &event);
    let area = |name: &str| areas.iter().find(|a| a.0 == name).map(|a| a.1);
    let choices = study::guess(&TableProfile::of(table), "cancelled", area);
    let goes_in = choices.into_iter().filter(|c| c.stands_under() == Verdict::GoesIn);
    let predictors: Vec<String> = goes_in.map(|c| c.name).collect();
    let drivers = Drivers::of(table, &predictors, &predictors, (&rows, &event), 1, &Unwatched).expect("drivers");
    let mut basis = Basis::plain(Outcome::is("cancelled", "yes"), predictors);
    for (name, columns, sql) in TOGETHER {
        let is_pair = |down: &str, across: &str| columns.contains(&down) && columns.contains(&across);
        assert!(
            drivers.pairs.iter().take(2).any(|pair| is_pair(&pair.down, &pair.across)),
            "Drivers points to {columns:?}"
        );
        let action = StepAction::Derive { name: name.into(), expression: sql.into() };
        basis.steps.push(PreparationStep { action, off: false });
        basis.predictors.push(name.into());
    }
    basis.split = SplitPlan { folds: Some(3), ..basis.split };
    basis
}

/// The share of the best that the recommended policy reaches: a searched scorecard blended with
/// `others`, judged by folds, acting from where it is proposed.
fn reached(seed: u64, others: &[&str]) -> f64 {
    let people = members(MEMBERS, seed, FIRST_MEMBER);
    let table = records(&people);
    let basis = prepared(&people, &table);
    let happened: Vec<Option<bool>> = people.iter().map(|m| Some(m.cancelled)).collect();
    let unsealed = basis.split.deal(&table, &happened).expect("parts").unsealed();
    let plan = TuningPlan {
        families: vec!["scorecard".into()],
        measure: TuningMeasure::LogLoss,
        most: 12,
        minutes: None,
        seed,
    };
    let mut search = TuningRun::new(plan).expect("a plan");
    search.run((&table, &basis, &unsealed), &Unwatched, &mut |_| Ok::<_, ModelError>(())).expect("searched");
    let card = search.found().expect("a card").0.settings.clone();
    let family = |word: &&str| Settings::of_family(word).expect("a family");
    let members = std::iter::once(card).chain(others.iter().map(family)).collect();
    let recipe = Recipe::Blend(Ensemble::new(Mix::Stacked, members).expect("a blend"));
    let judged = EvaluatedModel::fit(&table, &basis, &recipe, seed, &Unwatched).expect("judged");

    let economics = Economics::usual(Question::Churn)
        .with("value_kept", 146.0)
        .with("save_rate", 0.3)
        .with("offer_cost", 24.0)
        .with("stayers_take", 0.35)
        .with("contact_cost", 2.4);
    let payoffs = economics.payoffs();
    let ranking = Ranking::of(&judged.probability, &judged.event).expect("rows");
    let scale = EvaluationScale { population: &Population::default(), doubt: 0.0, seed };
    let weighing = PolicyEvaluation::counted(&ranking, &economics, &Rule::cut_off(0.0), &scale);
    let line = weighing.proposed(Some(&payoffs), false).act;

    let fresh = pronoia_demo::members(FRESH, seed + 7_000, FIRST_RENEWAL);
    let list = records(&fresh);
    let said = judged.model.probabilities(&list, &(0..list.rows()).collect::<Vec<_>>()).expect("scores");
    let gain = |member: &Member| payoffs.gain().expected(member.true_probability);
    let best: f64 = fresh.iter().map(|member| gain(member).max(0.0)).sum();
    let acted: f64 = fresh.iter().zip(&said).filter(|(_, p)| **p >= line).map(|(member, _)| gain(member)).sum();
    println!("seed {seed}: {:.4} of the best, acting from {line:.3} on", acted / best);
    acted / best
}

#[test]
fn the_recommended_policy_is_worth_nearly_the_best_that_is_possible() {
    let slow = std::env::var("PRONOIA_TEST_SLOW").is_ok();
    // In the short run without the network, which takes most of the time and brings the rest.
    let (seeds, others, least): (_, &[&str], _) =
        if slow { (0..20, &["network"], 0.97) } else { (0..1, &["logistic"], 0.955) };
    let reached: Vec<f64> = seeds.map(|seed| reached(500 + seed, others)).collect();
    let mean = reached.iter().sum::<f64>() / reached.len() as f64;
    println!("{mean:.4} of the best on average: {reached:.4?}");
    assert!(mean >= least, "{mean}: {reached:?}");
}
