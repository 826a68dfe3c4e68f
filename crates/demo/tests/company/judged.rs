//! Two ways to judge a model, on customers whose truth is known.

use pronoia_core::EvaluatedModel;
use pronoia_core::evaluate::area_under_roc;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::progress::Unwatched;
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{Basis, Outcome};
use pronoia_demo::{FIRST_MEMBER, SEED, members, outcome_csv};

#[test]
fn folds_and_validation_rows_agree_on_what_a_model_is_worth() {
    let people = members(6_000, SEED, FIRST_MEMBER);
    let (table, _) = read_table(&outcome_csv(&people), &Unwatched).expect("a table");
    let predictors = ["plan_tier", "tenure_months", "months_since_visit", "declined_claims", "fee_rise_pct", "species"];
    let plain = Basis::plain(Outcome::is("cancelled", "yes"), predictors.map(str::to_owned).to_vec());
    let crossed = Basis { split: SplitPlan { folds: Some(5), ..plain.split.clone() }, ..plain.clone() };
    let settings = Settings::of_family("logistic").expect("a family");
    let area = |basis: &Basis| {
        let judged = EvaluatedModel::fit(&table, basis, &settings, 1, &Unwatched).expect("fitted");
        (area_under_roc(&judged.probability, &judged.event, None), judged.rows.len())
    };
    let ((held_out, few), (folds, many)) = (area(&plain), area(&crossed));
    assert!(many == 4 * few, "{many} rows instead of {few}");
    // Three standard errors of the area on so few validation rows.
    assert!((held_out - folds).abs() < 0.06, "{held_out} {folds}");
}
