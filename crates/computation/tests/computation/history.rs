//! Any choice can be taken back without touching the others, and brought back again.

use pronoia_core::balance::BalanceMethod;
use pronoia_core::prepare::{Imputation, PreparationStep, StepAction};
use pronoia_core::study::history::{ChoicePart, Names, changes, without};
use pronoia_core::study::{AcceptedCaution, CautionKind};
use pronoia_core::study::{ColumnChoice, ColumnRole, KnownWhen, Outcome, StudyState, Verdict};
use proptest::prelude::*;

struct Plain;

impl Names for Plain {
    fn records(&self, table: Option<i64>) -> String {
        format!("{table:?}")
    }

    fn model(&self, id: i64) -> String {
        id.to_string()
    }
}

/// A study with six columns.
fn begun() -> StudyState {
    let column = |name: &str| ColumnChoice {
        name: name.into(),
        role: ColumnRole::Predictor,
        known_when: KnownWhen::Before,
        verdict: Verdict::GoesIn,
        reason: String::new(),
        never: false,
    };
    StudyState {
        outcome: Some(Outcome::is("cancelled", "yes")),
        counted: Some((18, 100)),
        columns: ["a", "b", "c", "d", "e", "f"].map(column).into(),
        ..StudyState::default()
    }
}

/// Something that somebody chooses.
#[derive(Debug, Clone)]
enum Edit {
    Role(usize, ColumnRole),
    Known(usize, KnownWhen),
    Keep(usize),
    AddStep(usize, usize),
    DropStep(usize),
    Switch(usize),
    Seed(u64),
    Balance(usize),
    Rule(u8),
    Table(i64),
}

fn edits() -> impl Strategy<Value = Vec<Edit>> {
    let one = prop_oneof![
        (0..6usize, prop::sample::select(ColumnRole::ALL.to_vec())).prop_map(|(at, role)| Edit::Role(at, role)),
        (0..6usize, prop::sample::select(KnownWhen::ALL.to_vec())).prop_map(|(at, known)| Edit::Known(at, known)),
        (0..6usize).prop_map(Edit::Keep),
        (0..6usize, 0..4usize).prop_map(|(column, at)| Edit::AddStep(column, at)),
        (0..4usize).prop_map(Edit::DropStep),
        (0..4usize).prop_map(Edit::Switch),
        (1..4u64).prop_map(Edit::Seed),
        (0..5usize).prop_map(Edit::Balance),
        (0..3u8).prop_map(Edit::Rule),
        (1..3i64).prop_map(Edit::Table),
    ];
    prop::collection::vec(one, 1..12)
}

fn after(state: &StudyState, edit: &Edit) -> StudyState {
    let mut state = state.clone();
    match *edit {
        Edit::Role(at, role) => state.columns[at].role = role,
        Edit::Known(at, known) => state.columns[at].known_when = known,
        Edit::Keep(at) => {
            let about = state.columns[at].name.clone();
            if state.kept.iter().all(|kept| kept.about != about) {
                state.kept.push(AcceptedCaution { rule: CautionKind::StandIn, about, because: "so it is".into() });
            }
        }
        Edit::AddStep(column, at) => {
            let column = state.columns[column].name.clone();
            let action = StepAction::Fill { column, with: Imputation::Median, flag: false };
            if state.steps.iter().all(|step| step.action != action) {
                state.steps.insert(at.min(state.steps.len()), PreparationStep { action, off: false });
            }
        }
        Edit::DropStep(at) if at < state.steps.len() => drop(state.steps.remove(at)),
        Edit::Switch(at) if at < state.steps.len() => state.steps[at].off ^= true,
        Edit::DropStep(_) | Edit::Switch(_) => {}
        Edit::Seed(seed) => state.split.seed = seed,
        Edit::Balance(at) => state.balance.method = BalanceMethod::ALL[at],
        Edit::Rule(at) => state.todays_rule = Some(format!("a > {at}")),
        Edit::Table(id) => state.table = Some(id),
    }
    state
}

/// The same whatever order kept cautions and steps stand in.
fn unordered(mut state: StudyState) -> StudyState {
    state.kept.sort_by(|one, other| one.about.cmp(&other.about));
    state.steps.sort_by_key(|step| format!("{step:?}"));
    state
}

proptest! {
    #[test]
    fn a_choice_is_taken_back_without_the_others_and_brought_back(edits in edits(), which in any::<prop::sample::Index>()) {
        let mut states = vec![begun()];
        for edit in &edits {
            let next = after(states.last().expect("one"), edit);
            states.push(next);
        }
        let now = states.last().expect("one");
        let at = which.index(edits.len());
        let (before, later) = (&states[at], &states[at + 1]);
        if at + 1 == edits.len() {
            prop_assert_eq!(&without(now, before, later).expect("the newest can always be"), before);
        }
        match without(now, before, later) {
            Ok(left) => {
                // Only parts that the choice had changed are others now.
                let touched: Vec<ChoicePart> = changes(before, later, &Plain).into_iter().map(|change| change.part).collect();
                for change in changes(now, &left, &Plain) {
                    prop_assert!(touched.contains(&change.part), "{:?}", change);
                }
                prop_assert_eq!(left == *now, touched.is_empty());
                let again = without(&left, later, before).expect("it can be brought back");
                prop_assert_eq!(unordered(again), unordered(now.clone()));
            }
            Err(parts) => {
                prop_assert!(!parts.is_empty() && at + 1 < edits.len());
                // Each part named was changed by it, and is another one now.
                let touched: Vec<ChoicePart> = changes(before, later, &Plain).into_iter().map(|change| change.part).collect();
                let since: Vec<ChoicePart> = changes(later, now, &Plain).into_iter().map(|change| change.part).collect();
                for part in parts {
                    prop_assert!(touched.contains(&part) && since.contains(&part), "{:?} {:?} {:?}", part, touched, since);
                }
            }
        }
    }

    #[test]
    fn what_differs_is_told_and_nothing_else(edits in edits()) {
        let mut state = begun();
        for edit in &edits {
            let next = after(&state, edit);
            prop_assert_eq!(changes(&state, &next, &Plain).is_empty(), state == next);
            prop_assert!(changes(&next, &next, &Plain).is_empty());
            state = next;
        }
    }
}

#[test]
fn an_outcome_cannot_be_taken_back_from_under_what_was_said_of_its_columns() {
    let before = StudyState::default();
    let chosen = begun();
    assert_eq!(without(&chosen, &before, &chosen).expect("nothing rests on it"), before);
    let later = after(&chosen, &Edit::Role(2, ColumnRole::LeftOut));
    assert_eq!(without(&later, &before, &chosen), Err(vec![ChoicePart::Columns]));
    let told = changes(&before, &chosen, &Plain);
    assert!(told.iter().any(|c| c.part == ChoicePart::Outcome && c.was.is_none() && c.is.is_some()), "{told:?}");
}

#[test]
fn a_step_comes_back_to_its_place() {
    let steps = |names: &[&str]| -> Vec<PreparationStep> {
        let step = |name: &&str| PreparationStep { action: StepAction::Log { column: (*name).into() }, off: false };
        names.iter().map(step).collect()
    };
    let with = |names: &[&str]| StudyState { steps: steps(names), ..begun() };
    let (before, later) = (with(&["a", "b", "c"]), with(&["a", "c"]));
    let now = with(&["a", "c", "d"]);
    assert_eq!(without(&now, &before, &later).expect("it can be").steps, steps(&["a", "b", "c", "d"]));
    // Another order is only put back while nothing else came.
    let turned = with(&["c", "b", "a"]);
    assert_eq!(without(&turned, &before, &turned).expect("it can be"), before);
    assert_eq!(without(&with(&["c", "b", "a", "d"]), &before, &turned), Err(vec![ChoicePart::Steps]));
    assert_eq!(changes(&before, &turned, &Plain).len(), 1);
}
