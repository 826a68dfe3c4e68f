//! The steps of a preparation: learned from training rows, replayed anywhere.

use pronoia_core::evaluate::area_under_roc;
use pronoia_core::intake::read_table;
use pronoia_core::learn::Settings;
use pronoia_core::prepare::{
    Encoder, Encoding, Imputation, ObservedValues, Preparation, PreparationStep, StepAction, TrainingRows, effects,
    steps,
};
use pronoia_core::progress::Unwatched;
use pronoia_core::score::{ColumnAnswers, Extras, Scoring, match_list};
use pronoia_core::study::{Basis, Outcome};
use pronoia_core::{Kind, Model, Table};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::Value;

const CSV: &[u8] = include_bytes!("../../../../tests/reference/churn.csv");
const FIGURES: &str = include_str!("../../../../tests/reference/figures.json");

fn churn() -> Table {
    read_table(CSV, &Unwatched).expect("a table").0
}

fn step(action: StepAction) -> PreparationStep {
    PreparationStep { action, off: false }
}

fn derive(name: &str, expression: &str) -> PreparationStep {
    step(StepAction::Derive { name: name.into(), expression: expression.into() })
}

/// One of every kind that learns something.
fn every_kind() -> Vec<PreparationStep> {
    let of = |name: &str| name.to_owned();
    vec![
        derive("pace", "calls / months"),
        step(StepAction::Fill { column: of("pace"), with: Imputation::Mean, flag: true }),
        step(StepAction::Cap { column: of("calls"), share: 0.05 }),
        step(StepAction::Power { column: of("months") }),
        step(StepAction::Bands { column: of("noise"), bands: 4 }),
        derive("size", "CASE WHEN calls > 1 THEN 'large' WHEN calls > 0.9 THEN 'middling' ELSE 'small' END"),
        step(StepAction::GroupRare { column: of("size"), fewest: 40 }),
        derive("rate", "CASE WHEN calls > 1 THEN 'a' WHEN calls > 0 THEN 'b' ELSE 'c' END"),
        step(StepAction::Encode { column: of("rate"), encoder: Encoder::TargetMean }),
        derive("evidence", "CASE WHEN months > 5 THEN 'a' ELSE 'b' END"),
        step(StepAction::Encode { column: of("evidence"), encoder: Encoder::WeightOfEvidence }),
        derive("rank", "CASE WHEN calls > 1 THEN 'much' WHEN calls > 0 THEN 'some' ELSE 'none' END"),
        step(StepAction::Ordered { column: of("rank"), order: vec![of("none"), of("some"), of("much")] }),
        step(StepAction::Standardise { column: of("rank") }),
    ]
}

/// What is learned from these rows of the table.
fn learned(
    table: &Table,
    steps: &[PreparationStep],
    used: &[String],
    rows: &[usize],
    encoding: Encoding,
) -> Preparation {
    let event = events(table, rows);
    let training = TrainingRows { rows, event: &event, weight: None };
    Preparation::fit(table, steps, used, &training, encoding).expect("a preparation").0
}

fn events(table: &Table, rows: &[usize]) -> Vec<bool> {
    let happened = Outcome::is("left", "yes").read(table).expect("the outcome");
    rows.iter().map(|&row| happened[row] == Some(true)).collect()
}

const USED: [&str; 9] = ["calls", "months", "noise", "pace", "pace was missing", "size", "rate", "evidence", "rank"];

fn used() -> Vec<String> {
    USED.map(str::to_owned).into()
}

#[test]
fn a_fitted_preparation_never_saw_the_rows_held_out() {
    let table = churn();
    let training: Vec<usize> = (0..table.rows()).filter(|row| row % 3 != 0).collect();
    let fitted = |t: &Table| learned(t, &every_kind(), &used(), &training, Encoding::Indicators);
    let before = fitted(&table);
    // Every row held out is made another: extreme, missing, and the same for all.
    let text = String::from_utf8(CSV.to_vec()).expect("text");
    let changed: Vec<String> = text
        .lines()
        .enumerate()
        .map(|(line, row)| if line > 0 && (line - 1) % 3 == 0 { "9999,,1,-500,yes".into() } else { row.into() })
        .collect();
    let changed = read_table(changed.join("\n").as_bytes(), &Unwatched).expect("a table").0;
    assert_eq!(fitted(&changed), before);
    let other: Vec<usize> = (0..table.rows()).filter(|row| row % 3 != 1).collect();
    let others = learned(&table, &every_kind(), &used(), &other, Encoding::Indicators);
    assert_ne!(others, before, "other training rows teach something else");
}

#[test]
fn a_model_takes_its_steps_with_it_to_the_list() {
    let table = churn();
    let outcome = Outcome::is("left", "yes");
    let basis = Basis { steps: every_kind(), ..Basis::plain(outcome, used()) };
    let rows: Vec<usize> = (0..table.rows()).collect();
    let settings = Settings::of_family("boosted").expect("a family");
    let model = Model::fit(&table, &basis, &rows, &settings, 1, &Unwatched).expect("a model");
    let inputs: Vec<&str> = model.inputs().map(|i| i.name.as_str()).collect();
    assert_eq!(inputs, ["calls", "months", "noise"], "a list needs only what the customer has");
    assert!(
        matches!(model.members[0].preparation.inputs[0].seen, ObservedValues::Between(low, high) if low < -2.0 && high > 2.0)
    );
    let whole = model.probabilities(&table, &rows).expect("scores");
    let saved = Model::from_bytes(&model.to_bytes().expect("bytes")).expect("the same model");
    let (report, matched) = match_list(&saved, &[], &table, &ColumnAnswers::new());
    assert!(report.is_complete());
    let scoring = Scoring { model: &saved, by: None, extras: Extras::default(), tenths: &[] };
    let list = scoring.of(&table, &matched, &[]).expect("a scored list").table;
    let last = list.columns().last().expect("probabilities");
    assert!(rows.iter().all(|&row| last.number(row) == Some(whole[row])), "to the last bit");
    let alone = model.probabilities(&table.take(&[17]), &[0]).expect("one customer");
    assert_eq!(alone[0], whole[17], "one customer as in the crowd");
}

#[test]
fn only_what_the_predictors_need_is_replayed() {
    let columns = churn().kinds();
    let (kept, read) = steps::needed(&every_kind(), &["size".into()], &columns).expect("steps");
    assert_eq!(kept.len(), 3, "calls are drawn in, the sizes made and grouped");
    assert_eq!(read, ["calls"]);
    let mut off = every_kind();
    off[0].off = true;
    let error = steps::needed(&off, &used(), &columns).expect_err("pace is not there").to_string();
    assert!(error.starts_with("Step 2 (") && error.contains("“pace”"), "{error}");
}

#[test]
fn filters_choose_the_customers_of_the_study() {
    let table = churn();
    let steps =
        vec![derive("many", "calls > 0"), step(StepAction::Filter { condition: "many = 'yes' AND months < 4".into() })];
    let (_, kept) = steps::population(&steps, &table).expect("a population");
    for (row, kept) in kept.iter().enumerate() {
        let number = |name: &str| table.column(name).expect("a column").number(row).expect("a number");
        assert_eq!(*kept, number("calls") > 0.0 && number("months") < 4.0);
    }
    let basis = Basis { steps, ..Basis::plain(Outcome::is("left", "yes"), ["noise".into()]) };
    let dealt = basis.deal(&table).expect("parts");
    let all = dealt.training.len() + dealt.validation.len() + dealt.test.len();
    assert_eq!(all, kept.iter().filter(|k| **k).count());
    let read = basis.columns_read(&table.kinds()).expect("columns");
    assert_eq!(read, ["calls", "months", "noise", "left"], "what the filter looks at is fetched too");
}

#[test]
fn the_exponent_of_the_power_transform_agrees() {
    let theirs: Value = serde_json::from_str(FIGURES).expect("figures");
    let table = churn();
    let rows: Vec<usize> = (0..table.rows()).collect();
    for name in ["calls", "months", "noise"] {
        let power = [step(StepAction::Power { column: name.into() })];
        let fitted = learned(&table, &power, &[name.into()], &rows, Encoding::Native);
        let text = serde_json::to_value(&fitted.steps[0]).expect("JSON");
        let (ours, other) =
            (text["lambda"].as_f64().expect("ours"), theirs["yeo_johnson"][name].as_f64().expect("theirs"));
        assert!((ours - other).abs() < 1e-5, "{name}: {ours} against {other}");
    }
}

#[test]
fn every_step_says_what_it_does_and_a_broken_one_does_not_hide_the_others() {
    let table = churn();
    let rows: Vec<usize> = (0..table.rows()).collect();
    let mut all = every_kind();
    all.insert(1, derive("oops", "nothing_here * 2"));
    all.push(PreparationStep { off: true, ..derive("later", "calls") });
    let event = events(&table, &rows);
    let shown = effects(&all, &table, &TrainingRows { rows: &rows, event: &event, weight: None });
    assert_eq!(shown.len(), all.len());
    let problem = shown[1].as_ref().expect("it is on").as_ref().expect_err("it cannot be taken");
    assert!(problem.contains("nothing_here"), "{problem}");
    assert!(shown.last().expect("the last").is_none());
    for (at, effect) in shown.iter().enumerate().filter(|(at, _)| *at != 1 && *at != all.len() - 1) {
        let effect = effect.as_ref().expect("it is on").as_ref().unwrap_or_else(|e| panic!("step {at}: {e}"));
        assert!(!effect.sentence.is_empty() && effect.after.is_some(), "step {at}");
    }
    let bands = shown[5].as_ref().expect("on").as_ref().expect("bands").after.as_ref().expect("a column");
    assert_eq!((bands.kind, bands.distinct), (Kind::Ordered, 4));
}

#[test]
fn steps_that_do_not_suit_their_column_are_refused_in_words() {
    let columns = read_table(b"id,plan,fee\nk1,A,1.5\nk2,B,2\n", &Unwatched).expect("a table").0.kinds();
    let refused = |action: StepAction| action.check(&mut columns.clone()).expect_err("refused").to_string();
    let of = |name: &str| name.to_owned();
    for (action, says) in [
        (StepAction::Log { column: of("plan") }, "this step is for numbers"),
        (StepAction::Log { column: of("rent") }, "no column “rent”"),
        (StepAction::Cap { column: of("fee"), share: 0.6 }, "below 50 %"),
        (StepAction::Bands { column: of("fee"), bands: 1 }, "2 to 50"),
        (StepAction::GroupRare { column: of("fee"), fewest: 5 }, "for categories"),
        (
            StepAction::Fill { column: of("fee"), with: Imputation::Value("much".into()), flag: false },
            "“much” is not a number",
        ),
        (StepAction::Fill { column: of("plan"), with: Imputation::Median, flag: false }, "for numbers"),
        (StepAction::Derive { name: of("fee"), expression: of("1") }, "already"),
        (StepAction::Derive { name: of(" "), expression: of("1") }, "name"),
        (StepAction::Filter { condition: of("fee + 1") }, "true or false"),
        (StepAction::Encode { column: of("fee"), encoder: Encoder::TargetMean }, "bin a number first"),
        (StepAction::Ordered { column: of("plan"), order: vec![of("A")] }, "at least two different values"),
        (StepAction::Ordered { column: of("plan"), order: vec![of("A"), of("A")] }, "at least two different values"),
        (StepAction::Standardise { column: of("plan") }, "for numbers"),
    ] {
        let sentence = refused(action);
        assert!(sentence.contains(says), "{sentence}");
    }
}

/// A category of two hundred values that have nothing to do with the outcome.
fn with_noise() -> (Table, Vec<usize>, Vec<bool>) {
    let mut rng = ChaCha8Rng::seed_from_u64(11);
    let mut csv = String::from("shop,left\n");
    for _ in 0..1_500 {
        csv += &format!("s{},{}\n", rng.random_range(0..200), if rng.random::<f64>() < 0.3 { "yes" } else { "no" });
    }
    let table = read_table(csv.as_bytes(), &Unwatched).expect("a table").0;
    let rows: Vec<usize> = (0..1_000).collect();
    let event = events(&table, &rows);
    (table, rows, event)
}

#[test]
fn a_training_row_never_meets_its_own_outcome_in_an_encoding() {
    let (table, rows, event) = with_noise();
    for encoder in [Encoder::TargetMean, Encoder::WeightOfEvidence] {
        let steps = [step(StepAction::Encode { column: "shop".into(), encoder })];
        let training = TrainingRows { rows: &rows, event: &event, weight: None };
        let (fitted, design) =
            Preparation::fit(&table, &steps, &["shop".into()], &training, Encoding::Native).expect("a preparation");
        let own = area_under_roc(design.features()[0].numbers(), &event, None);
        let replayed = fitted.apply(&table, &rows).expect("a design");
        let naive = area_under_roc(replayed.features()[0].numbers(), &event, None);
        assert!(naive > 0.65, "{encoder:?}: with its own outcome a row is told by chance alone: {naive}");
        assert!((own - 0.5).abs() < 0.06, "{encoder:?}: noise tells nothing: {own}");
    }
}

#[test]
fn encodings_are_the_textbook_figures() {
    let csv = "plan,left\nA,yes\nA,yes\nA,no\nB,no\nB,no\nB,yes\nB,no\n,no\n";
    let table = read_table(csv.as_bytes(), &Unwatched).expect("a table").0;
    let rows: Vec<usize> = (0..8).collect();
    let event = events(&table, &rows);
    let encoded = |encoder| {
        let steps = [step(StepAction::Encode { column: "plan".into(), encoder })];
        let training = TrainingRows { rows: &rows, event: &event, weight: None };
        let prepared = Preparation::fit(&table, &steps, &["plan".into()], &training, Encoding::Native).expect("one").0;
        prepared.apply(&table, &rows).expect("a design").features()[0].numbers().to_vec()
    };
    let rate = 3.0 / 8.0;
    let mean = encoded(Encoder::TargetMean);
    for (row, expected) in [(0, (2.0 + 20.0 * rate) / 23.0), (3, (1.0 + 20.0 * rate) / 24.0), (7, 20.0 * rate / 21.0)] {
        assert!((mean[row] - expected).abs() < 1e-12, "{row}: {}", mean[row]);
    }
    let evidence = encoded(Encoder::WeightOfEvidence);
    for (row, events, others) in [(0, 2.0, 1.0), (3, 1.0, 3.0), (7, 0.0, 1.0)] {
        let expected = ((events + 0.5) / 3.0 / ((others + 0.5) / 5.0f64)).ln();
        assert!((evidence[row] - expected).abs() < 1e-12, "{row}: {}", evidence[row]);
    }
}
