//! Every caution on data that has the mistake planted, and silence where it has not.

use pronoia_core::cautions::{Caution, CautionInput, Remedy, excluded_columns, look, worse_than_chance};
use pronoia_core::drivers::Drivers;
use pronoia_core::evaluate::Evaluation;
use pronoia_core::prepare::{PreparationStep, StepAction};
use pronoia_core::profile::TableProfile;
use pronoia_core::progress::Unwatched;
use pronoia_core::question::Question;
use pronoia_core::split::{SplitMethod, SplitPlan};
use pronoia_core::study::{self, ColumnRole, KnownWhen, Outcome, StudyState};
use pronoia_core::study::{AcceptedCaution, CautionKind};
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Column, Kind, Table};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

const ROWS: usize = 4_000;

/// Four thousand customers of whom about a fifth left, and a driver of it.
struct Planted {
    columns: Vec<Column>,
    left: Vec<bool>,
    rng: ChaCha8Rng,
    question: Question,
    event: &'static str,
    edit: fn(&mut StudyState),
}

impl Planted {
    fn new() -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(7);
        let claims: Vec<f64> = (0..ROWS).map(|_| f64::from(rng.random_range(0..4u8))).collect();
        let left: Vec<bool> = claims.iter().map(|c| rng.random::<f64>() < 0.08 + 0.08 * c).collect();
        let mut planted = Self {
            columns: Vec::new(),
            left: left.clone(),
            rng,
            question: Question::Churn,
            event: "yes",
            edit: |_| {},
        };
        planted.numbers("claims", |row, _| claims[row]);
        planted.words("left", Kind::YesNo, |row, _| if left[row] { "yes" } else { "no" }.into());
        planted
    }

    fn numbers(&mut self, name: &str, value: impl Fn(usize, &mut ChaCha8Rng) -> f64) {
        let mut column = ColumnBuilder::new(name, Kind::Number);
        (0..ROWS).for_each(|row| column.push_number(value(row, &mut self.rng)));
        self.columns.push(column.finish());
    }

    fn words(&mut self, name: &str, kind: Kind, value: impl Fn(usize, &mut ChaCha8Rng) -> String) {
        let mut column = ColumnBuilder::new(name, kind);
        (0..ROWS).for_each(|row| column.push_word(&value(row, &mut self.rng)));
        self.columns.push(column.finish());
    }

    fn days(&mut self, name: &str, value: impl Fn(usize, &mut ChaCha8Rng) -> i32) {
        let mut column = ColumnBuilder::new(name, Kind::Date);
        (0..ROWS).for_each(|row| column.push_date(value(row, &mut self.rng)));
        self.columns.push(column.finish());
    }

    fn state(&self) -> (StudyState, Table) {
        let table = Table::new(self.columns.clone()).expect("a table");
        let outcome = Outcome::is("left", self.event);
        let columns = study::guess(&TableProfile::of(&table), "left", |_| None);
        let mut state = StudyState { outcome: Some(outcome), columns, ..StudyState::default() };
        (self.edit)(&mut state);
        (state, table)
    }

    fn cautions(&self) -> Vec<Caution> {
        let (state, table) = self.state();
        looked_at(&state, &table, self.question)
    }
}

fn looked_at(state: &StudyState, table: &Table, question: Question) -> Vec<Caution> {
    let profile = TableProfile::of(table);
    let basis = state.basis().expect("an outcome");
    let (seen_table, happened) = basis.population(table).expect("a population");
    let dealt = basis.split.deal(table, &happened).expect("parts");
    look(&CautionInput { table: &seen_table, happened: &happened, dealt: &dealt, profile: &profile, state, question })
}

/// How many cautions are raised in a study in which nothing is wrong: drivers that are known before, of
/// several kinds and shapes, some with gaps, some related to each other.
fn raised_in_clean_study(seed: u64) -> Vec<Caution> {
    let mut planted = Planted::new();
    planted.rng = ChaCha8Rng::seed_from_u64(seed);
    let left = planted.left.clone();
    let kinds = planted.rng.random_range(3..9);
    for n in 0..kinds {
        let lean = planted.rng.random_range(0.0..0.8);
        match planted.rng.random_range(0..6u8) {
            0 => planted.numbers(&format!("amount_{n}"), |row, rng| {
                let base = f64::from(rng.random_range(0..5_000_u16)) / 10.0;
                base * (1.0 + lean * f64::from(u8::from(left[row]))) + rng.random::<f64>()
            }),
            1 => planted.numbers(&format!("times_{n}"), |row, rng| {
                f64::from(rng.random_range(0..12u8))
                    + (lean * 3.0).round() * f64::from(u8::from(left[row] && rng.random::<f64>() < 0.3))
            }),
            2 => planted.words(&format!("kind_{n}"), Kind::Category, |row, rng| {
                let favoured = left[row] && rng.random::<f64>() < lean * 0.4;
                if favoured {
                    "first".into()
                } else {
                    ["first", "second", "third", "fourth"][rng.random_range(0..4)].into()
                }
            }),
            3 => planted.words(&format!("has_{n}"), Kind::YesNo, |row, rng| {
                let share = 0.4 + 0.2 * lean * f64::from(u8::from(left[row]));
                if rng.random::<f64>() < share { "yes" } else { "no" }.into()
            }),
            4 => planted.days(&format!("since_{n}"), |_, rng| 18_000 + rng.random_range(0..900)),
            _ => planted.numbers(&format!("ratio_{n}"), |_, rng| (rng.random::<f64>() * 4.0).exp()),
        }
    }
    planted.words("member_id", Kind::Code, |row, _| format!("M{row:06}"));
    planted.cautions()
}

#[test]
fn on_clean_studies_fewer_than_one_caution_is_raised() {
    let raised: Vec<Caution> = (100..180).flat_map(raised_in_clean_study).collect();
    let mean = raised.len() as f64 / 80.0;
    println!("{} cautions in 80 clean studies, {mean:.3} each", raised.len());
    let told: Vec<(CautionKind, &str)> = raised.iter().map(|caution| (caution.rule, caution.about.as_str())).collect();
    assert!(mean < 0.25, "{mean}: {told:?}");
}

/// The only caution raised, which must be of this rule; its remedy ends it.
fn only(planted: &Planted, rule: CautionKind, column: &str) -> Caution {
    let cautions = planted.cautions();
    let [caution] = &cautions[..] else { panic!("one caution, not {cautions:#?}") };
    assert_eq!((caution.rule, caution.about.as_str()), (rule, column), "{caution:?}");
    let (mut state, table) = planted.state();
    assert!(caution.concerns(&state) && caution.kept(&state).is_none() && !caution.remedy.is_taken(&state));
    state.kept.push(AcceptedCaution { rule, about: column.into(), because: "we know".into() });
    assert_eq!(caution.kept(&state), Some("we know"));
    caution.remedy.apply(&mut state);
    assert!(caution.remedy.is_taken(&state));
    assert!(matches!(caution.remedy, Remedy::OtherEvent { .. }) || !caution.concerns(&state));
    let after = looked_at(&state, &table, planted.question);
    assert!(after.iter().all(|c| c.rule != rule), "{after:?}");
    caution.clone()
}

#[test]
fn nothing_is_raised_where_nothing_is_wrong() {
    let mut planted = Planted::new();
    planted.numbers("fee", |_, rng| 80.0 + 300.0 * rng.random::<f64>());
    planted.words("tier", Kind::Category, |_, rng| ["Basic", "Plus", "Complete"][rng.random_range(0..3)].into());
    planted.words("member_id", Kind::Code, |row, _| format!("M{row:06}"));
    planted.days("renewal_on", |_, rng| 19_000 + rng.random_range(0..365));
    planted.words("gender", Kind::Category, |_, rng| ["f", "m"][rng.random_range(0..2)].into());
    assert_eq!(planted.cautions(), []);
}

#[test]
fn a_column_written_after_the_outcome_is_doubted() {
    let mut planted = Planted::new();
    let left = planted.left.clone();
    planted.numbers("calls_last_week", |row, rng| rng.random::<f64>() + if left[row] { 0.8 } else { 0.0 });
    let caution = only(&planted, CautionKind::KnownAfterwards, "calls_last_week");
    assert!(caution.evidence.contains(" of 100 pairs"), "{}", caution.evidence);
    // One that tells less is doubted only where nobody knows when it was known.
    let mut unsure = Planted::new();
    unsure.numbers("days_since_login", |row, rng| 30.0 * rng.random::<f64>() + if left[row] { 6.0 } else { 0.0 });
    only(&unsure, CautionKind::KnownAfterwards, "days_since_login");
    unsure.edit = |state| state.columns.iter_mut().for_each(|c| c.known_when = KnownWhen::AtDecision);
    assert_eq!(unsure.cautions(), []);
}

#[test]
fn the_outcome_in_other_words_is_found() {
    let mut planted = Planted::new();
    let left = planted.left.clone();
    planted.words("state", Kind::Category, |row, rng| {
        let words = if left[row] { ["gone", "moved"] } else { ["here", "there"] };
        words[rng.random_range(0..2)].into()
    });
    let caution = only(&planted, CautionKind::CopyOfOutcome, "state");
    assert!(caution.evidence.contains("In 2\u{202f}400 of 2\u{202f}400 training rows"), "{}", caution.evidence);
}

#[test]
fn an_average_with_the_outcomes_in_it_is_found() {
    let mut planted = Planted::new();
    let left = planted.left.clone();
    let branch = |row: usize| row % 40;
    let rate = |row: usize| {
        let of: Vec<bool> = (0..ROWS).filter(|r| branch(*r) == branch(row)).map(|r| left[r]).collect();
        of.iter().filter(|&&l| l).count() as f64 / of.len() as f64
    };
    let rates: Vec<f64> = (0..40).map(rate).collect();
    planted.words("branch", Kind::Category, |row, _| format!("b{}", branch(row)));
    planted.numbers("branch_leavers", |row, _| rates[branch(row)]);
    // As constant within a branch, but it knows nothing of the outcome.
    planted.numbers("branch_size", |row, _| (branch(row) * 37 % 40) as f64 / 3.0);
    let caution = only(&planted, CautionKind::GroupAverage, "branch_leavers");
    assert!(caution.evidence.contains("of one branch"), "{}", caution.evidence);
}

#[test]
fn what_never_varies_or_differs_for_everybody_is_found() {
    for (name, value) in [("currency", "EUR"), ("reference", "")] {
        let mut planted = Planted::new();
        planted.words(name, Kind::Category, |row, _| if value.is_empty() { format!("r{row}") } else { value.into() });
        let caution = only(&planted, CautionKind::NoInformation, name);
        assert!(caution.evidence.contains("4\u{202f}000"), "{}", caution.evidence);
    }
}

#[test]
fn digits_that_name_something_are_no_amount() {
    let mut planted = Planted::new();
    planted.numbers("branch_code", |_, rng| f64::from(100 + 7 * rng.random_range(0..60u16)));
    planted.numbers("visits", |_, rng| f64::from(rng.random_range(0..30u8)));
    let caution = only(&planted, CautionKind::CodeAsQuantity, "branch_code");
    assert!(caution.evidence.contains("60 different whole numbers from 100 to 513"), "{}", caution.evidence);
    let (mut state, _) = planted.state();
    caution.remedy.apply(&mut state);
    assert_eq!(state.steps[0].action, StepAction::AsCode { column: "branch_code".into() });
}

#[test]
fn customers_with_several_rows_are_kept_together() {
    let mut planted = Planted::new();
    planted.words("member_id", Kind::Code, |row, _| format!("M{:06}", row - row % 50 % 2));
    planted.edit = |state| {
        state.columns.iter_mut().filter(|c| c.name == "member_id").for_each(|c| c.role = ColumnRole::Identifier);
    };
    let caution = only(&planted, CautionKind::RepeatedCustomers, "member_id");
    assert!(caution.evidence.contains("2\u{202f}000 have several rows"), "{}", caution.evidence);
    assert_eq!(caution.remedy, Remedy::KeepTogether { column: "member_id".into() });
}

#[test]
fn a_rate_that_changes_with_time_asks_for_the_newest() {
    let mut planted = Planted::new();
    let left = planted.left.clone();
    planted.days("renewal_on", |row, rng| 19_000 + rng.random_range(0..300) + if left[row] { 60 } else { 0 });
    planted.days("joined_on", |_, rng| 17_000 + rng.random_range(0..900));
    let caution = only(&planted, CautionKind::TimeMatters, "renewal_on");
    assert!(caution.evidence.contains("from 2022-01-"), "{}", caution.evidence);
    let (mut state, _) = planted.state();
    state.split = SplitPlan { by: SplitMethod::Newest { column: "joined_on".into() }, ..state.split };
    assert!(!caution.concerns(&state), "the split looks at time already");
}

#[test]
fn the_other_value_is_offered_as_the_event() {
    let mut planted = Planted::new();
    planted.event = "no";
    let caution = only(&planted, CautionKind::ReversedOutcome, "left");
    assert_eq!(caution.remedy, Remedy::OtherEvent { event: "yes".into() });
    // Where the event is frequent in any direction, only the words speak.
    planted.question = Question::Other;
    assert_eq!(planted.cautions().len(), 1);
}

#[test]
fn a_region_drawn_from_noise_is_not_confirmed() {
    let mut planted = Planted::new();
    planted.numbers("noise", |row, _| row as f64);
    let (state, table) = planted.state();
    let basis = state.basis().expect("an outcome");
    let dealt = basis.deal(&table).expect("parts");
    // The thirty training rows of noise that by chance left, and their neighbours.
    let chosen: Vec<usize> = dealt.training.iter().copied().filter(|&row| planted.left[row]).take(60).collect();
    let inside = |row: usize| chosen.contains(&row) || (dealt.validation.contains(&row) && row.is_multiple_of(9));
    let name = "lucky";
    planted.words(name, Kind::YesNo, |row, _| if inside(row) { "yes" } else { "no" }.into());
    planted.columns.last_mut().expect("the column").name = "drawn".into();
    planted.edit = |state| {
        let action = StepAction::Derive { name: "lucky".into(), expression: "drawn = 'yes'".into() };
        state.steps.push(PreparationStep { action, off: false });
        let made = state.columns.iter().find(|c| c.name == "claims").cloned().expect("claims");
        state.columns.push(study::ColumnChoice { name: "lucky".into(), ..made });
        state.columns.iter_mut().filter(|c| c.name == "drawn").for_each(|c| c.role = ColumnRole::LeftOut);
    };
    let caution = only(&planted, CautionKind::Unconfirmed, "lucky");
    assert!(caution.evidence.contains("on validation rows"), "{}", caution.evidence);
}

#[test]
fn a_column_that_says_what_may_not_decide_is_named() {
    let mut planted = Planted::new();
    let group: Vec<usize> = (0..ROWS).map(|row| row * 7 % 5).collect();
    planted.words("gender", Kind::Category, |row, _| ["f", "m", "f", "m", "x"][group[row]].into());
    planted.words("title", Kind::Category, |row, rng| {
        let keeps = rng.random::<f64>() < 0.8;
        if keeps { ["Ms", "Mr", "Ms", "Mr", "Mx"][group[row]] } else { "Dr" }.into()
    });
    let caution = only(&planted, CautionKind::StandIn, "title");
    assert!(caution.evidence.contains("of gender"), "{}", caution.evidence);
}

#[test]
fn what_was_left_out_is_said_beside_influence() {
    let planted = Planted::new();
    let (mut state, table) = planted.state();
    let rows: Vec<usize> = (0..ROWS).collect();
    let names = ["claims".to_owned()];
    let drivers = Drivers::of(&table, &names, &[], (&rows, &planted.left), 1, &Unwatched).expect("drivers");
    assert_eq!(excluded_columns(&state, &drivers), None);
    state.columns.iter_mut().filter(|c| c.name == "claims").for_each(|c| c.role = ColumnRole::LeftOut);
    let said = excluded_columns(&state, &drivers).expect("a sentence");
    assert!(
        said.contains("claims") && said.contains("A column without importance here may matter all the same"),
        "{said}"
    );
}

#[test]
fn a_model_that_orders_the_wrong_way_round_is_told_from_chance() {
    let mut rng = ChaCha8Rng::seed_from_u64(3);
    let event: Vec<bool> = (0..2_000).map(|_| rng.random::<f64>() < 0.2).collect();
    let score = |lift: f64, rng: &mut ChaCha8Rng| -> Vec<f64> {
        event.iter().map(|&e| (rng.random::<f64>() + if e { lift } else { 0.0 }).clamp(0.0, 1.0) * 0.5 + 0.25).collect()
    };
    assert!(worse_than_chance(&Evaluation::of(&score(-0.2, &mut rng), &event)).is_some());
    assert_eq!(worse_than_chance(&Evaluation::of(&score(0.0, &mut rng), &event)), None);
    assert_eq!(worse_than_chance(&Evaluation::of(&score(0.2, &mut rng), &event)), None);
}

#[test]
fn a_date_that_a_predictor_tells_is_no_moment_of_decision() {
    let mut planted = Planted::new();
    let left = planted.left.clone();
    let tenure: Vec<i32> = (0..ROWS).map(|row| (row * 13 % 900) as i32 + if left[row] { 250 } else { 0 }).collect();
    planted.numbers("tenure_days", |row, _| f64::from(tenure[row]));
    planted.days("joined_on", |row, _| 20_000 - tenure[row]);
    assert_eq!(planted.cautions(), []);
}
