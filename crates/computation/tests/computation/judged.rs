//! How a model is judged: on rows that it did not see, by validation or in folds.

use pronoia_core::evaluate::area_under_roc;
use pronoia_core::learn::Settings;
use pronoia_core::model::ModelError;
use pronoia_core::prepare::{Encoder, PreparationStep, SampleSize, StepAction, suggestions};
use pronoia_core::progress::Unwatched;
use pronoia_core::split::{SplitError, SplitPlan};
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::table::{ColumnBuilder, ColumnValues};
use pronoia_core::{Column, EvaluatedModel, Kind, Table};
use proptest::prelude::*;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

fn words(name: &str, values: impl IntoIterator<Item = String>) -> Column {
    let mut builder = ColumnBuilder::new(name, Kind::Category);
    values.into_iter().for_each(|value| builder.push_word(&value));
    builder.finish()
}

/// Two thousand rows whose outcome has nothing to do with their 400 districts.
fn noise() -> Table {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let mut draw = |n: u32| (0..2_000).map(|_| rng.random_range(0..n)).collect::<Vec<_>>();
    let (districts, left) = (draw(400), draw(3));
    Table::new(vec![
        words("district", districts.iter().map(|d| format!("d{d}"))),
        words("left", left.iter().map(|l| if *l == 0 { "yes" } else { "no" }.to_owned())),
    ])
    .expect("a table")
}

fn basis(folds: Option<usize>, steps: Vec<StepAction>) -> Basis {
    let steps = steps.into_iter().map(|action| PreparationStep { action, off: false }).collect();
    let split = SplitPlan { folds, ..SplitPlan::default() };
    Basis { split, steps, ..Basis::plain(Outcome::is("left", "yes"), vec!["district".into()]) }
}

#[test]
fn folds_judge_every_row_that_is_not_sealed_and_none_by_its_own_outcome() {
    let (table, settings) = (noise(), Settings::of_family("logistic").expect("a family"));
    let encode = StepAction::Encode { column: "district".into(), encoder: Encoder::TargetMean };
    let basis = basis(Some(5), vec![encode]);
    let judged = EvaluatedModel::fit(&table, &basis, &settings, 3, &Unwatched).expect("fitted");
    let (_, happened) = basis.population(&table).expect("rows");
    let dealt = basis.split.deal(&table, &happened).expect("dealt");
    assert_eq!(judged.rows, dealt.unsealed());
    assert!(judged.rows.iter().all(|row| !dealt.test.contains(row)));
    assert_eq!(judged.model.rows as usize, judged.rows.len(), "the model that is kept learned from all folds");
    assert!(judged.model.evaluated && judged.probability.iter().all(|p| (0.0..=1.0).contains(p)));
    // Preparation, too, is learned anew for each fold: nothing can be known of noise.
    let area = area_under_roc(&judged.probability, &judged.event, None);
    assert!((area - 0.5).abs() < 0.05, "{area}");
    let own = judged.model.probabilities(&table, &judged.rows).expect("scores");
    assert!(area_under_roc(&own, &judged.event, None) > 0.65, "whereas its own rows flatter the model");
    // The same seed, the same figures.
    let again = EvaluatedModel::fit(&table, &basis, &settings, 3, &Unwatched).expect("fitted");
    assert_eq!(again.probability, judged.probability);
}

#[test]
fn a_number_of_folds_that_makes_no_sense_is_refused() {
    for folds in [0, 1, 2, 21] {
        let settings = Settings::of_family("logistic").expect("a family");
        let refused = EvaluatedModel::fit(&noise(), &basis(Some(folds), Vec::new()), &settings, 1, &Unwatched);
        assert_eq!(refused.expect_err("refused"), ModelError::Split(SplitError::Folds));
    }
}

proptest! {
    #[test]
    fn a_sample_keeps_the_event_rate_and_draws_the_same_again(
        mut happened in proptest::collection::vec(proptest::option::of(any::<bool>()), 50..400),
        share in 0.05..0.95f64,
        seed: u64,
    ) {
        let whole = happened.clone();
        let count = |of: &[Option<bool>], side: bool| of.iter().filter(|h| **h == Some(side)).count() as f64;
        SampleSize::Share(share).draw(&mut happened, seed);
        for side in [true, false] {
            prop_assert!((count(&happened, side) - share * count(&whole, side)).abs() <= 0.5);
        }
        prop_assert!(happened.iter().zip(&whole).all(|(drawn, all)| drawn.is_none() || drawn == all));
        let mut again = whole.clone();
        SampleSize::Share(share).draw(&mut again, seed);
        prop_assert_eq!(&again, &happened);
        let mut more_than_all = whole.clone();
        SampleSize::Rows(1_000).draw(&mut more_than_all, seed);
        prop_assert_eq!(&more_than_all, &whole);
    }
}

#[test]
fn a_sample_is_drawn_from_those_whom_filters_leave() {
    let table = noise();
    let steps = vec![
        StepAction::Sample { of: SampleSize::Rows(200) },
        StepAction::Filter { condition: "district < 'd3'".into() },
    ];
    let (_, happened) = basis(None, steps).population(&table).expect("rows");
    let kept: Vec<usize> = (0..table.rows()).filter(|&row| happened[row].is_some()).collect();
    assert!((kept.len() as i64 - 200).abs() <= 1, "{}", kept.len());
    let district = table.column("district").expect("districts");
    assert!(kept.iter().all(|&row| district.text(row).is_some_and(|d| d.as_str() < "d3")));
    for of in [SampleSize::Share(0.0), SampleSize::Share(1.0), SampleSize::Rows(1)] {
        assert!(StepAction::Sample { of }.check(&mut Vec::new()).is_err(), "{of:?}");
    }
}

#[test]
fn dates_are_made_something_of_only_where_something_varies() {
    let day = |name: &str, of: fn(i32) -> i32| Column {
        name: name.into(),
        kind: Kind::Date,
        values: ColumnValues::Dates((0..60).map(|i| Some(of(i))).collect()),
    };
    let table = Table::new(vec![
        day("renewal", |i| 19_800 + i * 9),
        day("joined on", |i| 18_000 + i * 3),
        day("told_on", |_| 21_000),
        day("crossing", |i| 19_800 + (59 - i) * 9),
    ])
    .expect("a table");
    let made: Vec<String> = suggestions(&table).iter().map(StepAction::words).collect();
    assert!(made.contains(&"days from joined on to renewal = renewal - \"joined on\"".to_owned()), "{made:?}");
    assert!(made.contains(&"days from renewal to told_on = told_on - renewal".to_owned()), "{made:?}");
    assert!(made.contains(&"month of renewal = EXTRACT(MONTH FROM renewal)".to_owned()), "{made:?}");
    assert!(!made.iter().any(|m| m.contains("of told_on")), "one day has one month: {made:?}");
    assert!(!made.iter().any(|m| m.contains("renewal") && m.contains("crossing") && m.contains("days")), "{made:?}");
    let taken = table.with(Column { name: "month of renewal".into(), ..table.columns()[0].clone() });
    let made = suggestions(&taken);
    assert!(made.iter().filter_map(StepAction::makes).all(|name| name != "month of renewal"));
}
