//! What choices changed, and the choices without one of them.

use std::collections::BTreeSet;

use serde_json::Value;

use super::{ChosenPolicy, ColumnChoice, KnownWhen, StudyState};
use crate::study::AcceptedCaution;
use pronoia_data::number;
use pronoia_learn::prepare::PreparationStep;

/// A part of the choices that is changed, and taken back, by itself.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum ChoicePart {
    /// The version of the records.
    Records,
    /// What happened.
    Outcome,
    /// Who is judged on what.
    Split,
    /// What is done with the columns.
    Steps,
    /// How the rarer outcome counts.
    Balance,
    /// What all columns are for.
    Columns,
    /// What one column is for.
    Column(String),
    /// A caution that was kept about something.
    Caution(String),
    /// How people act today.
    TodaysRule,
    /// What to do about whom.
    Policy,
}

impl ChoicePart {
    /// It, in words that begin no sentence.
    pub fn words(&self) -> String {
        match self {
            Self::Records => "the records".into(),
            Self::Outcome => "the outcome".into(),
            Self::Split => "the split".into(),
            Self::Steps => "the steps".into(),
            Self::Balance => "the balance".into(),
            Self::Columns => "the columns".into(),
            Self::Column(name) => format!("the column {name}"),
            Self::Caution(about) => format!("what was kept of {about}"),
            Self::TodaysRule => "today’s rule".into(),
            Self::Policy => "the policy".into(),
        }
    }
}

/// A part that differs between two points in time.
#[derive(Debug, Clone, PartialEq)]
pub struct ChoiceChange {
    /// Which.
    pub part: ChoicePart,
    /// How it was; none if it was not there.
    pub was: Option<String>,
    /// How it is; none if it is not there any more.
    pub is: Option<String>,
}

/// What only whoever keeps them can say of records and models.
pub trait Names {
    /// A version of the records.
    fn records(&self, table: Option<i64>) -> String;
    /// A model.
    fn model(&self, id: i64) -> String;
}

/// What differs between the choices at two points in time, part by part.
pub fn changes(was: &StudyState, is: &StudyState, names: &impl Names) -> Vec<ChoiceChange> {
    let mut found = Vec::new();
    let mut differs = |part, was: Option<String>, is: Option<String>| found.push(ChoiceChange { part, was, is });
    if was.table != is.table {
        differs(ChoicePart::Records, Some(names.records(was.table)), Some(names.records(is.table)));
    }
    if was.outcome != is.outcome {
        let words = |state: &StudyState| state.outcome.as_ref().map(super::Outcome::words);
        differs(ChoicePart::Outcome, words(was), words(is));
    }
    if was.split != is.split {
        differs(ChoicePart::Split, Some(was.split.sentence()), Some(is.split.sentence()));
    }
    for (gone, come) in step_changes(&was.steps, &is.steps) {
        differs(ChoicePart::Steps, gone.map(step_words), come.map(step_words));
    }
    if was.steps != is.steps && same_in_any_order(&was.steps, &is.steps) {
        differs(ChoicePart::Steps, Some("in one order".into()), Some("in another order".into()));
    }
    if was.balance != is.balance {
        let words = |state: &StudyState| Some(state.balance.method.description().to_owned());
        differs(ChoicePart::Balance, words(was), words(is));
    }
    if was.columns.is_empty() != is.columns.is_empty() {
        let words = |columns: &[ColumnChoice]| {
            (!columns.is_empty())
                .then(|| format!("{} columns, each with its role", number::count(columns.len() as u64)))
        };
        differs(ChoicePart::Columns, words(&was.columns), words(&is.columns));
    } else {
        for (name, one, other) in paired(&was.columns, &is.columns, |c| c.name.clone()) {
            let (one, other) = (one.map(column_words), other.map(column_words));
            if one != other {
                differs(ChoicePart::Column(name), one, other);
            }
        }
    }
    for ((_, about), one, other) in paired(&was.kept, &is.kept, caution) {
        if one != other {
            let words = |kept: &AcceptedCaution| format!("accepted, because {}", kept.because);
            differs(ChoicePart::Caution(about), one.map(words), other.map(words));
        }
    }
    if was.todays_rule != is.todays_rule {
        differs(ChoicePart::TodaysRule, was.todays_rule.clone(), is.todays_rule.clone());
    }
    for (one, other) in policy_changes(was.policy.as_ref(), is.policy.as_ref(), names) {
        differs(ChoicePart::Policy, one, other);
    }
    found
}

/// The parts that differ between the choices at two points in time.
pub fn touched(was: &StudyState, is: &StudyState) -> BTreeSet<ChoicePart> {
    struct Keys;
    impl Names for Keys {
        fn records(&self, table: Option<i64>) -> String {
            format!("{table:?}")
        }

        fn model(&self, id: i64) -> String {
            id.to_string()
        }
    }
    changes(was, is, &Keys).into_iter().map(|change| change.part).collect()
}

/// These choices as they would be had one choice among them never been made: `before` and `after` are
/// the choices around it. Whatever it did not touch stays as it is now.
///
/// # Errors
/// The parts that it changed and that were changed again since, whose later changes come first.
pub fn without(now: &StudyState, before: &StudyState, after: &StudyState) -> Result<StudyState, Vec<ChoicePart>> {
    let mut entangled = Vec::new();
    let mut state = now.clone();
    let whole = [
        (ChoicePart::Records, before.table == after.table, now.table == after.table),
        (
            ChoicePart::Outcome,
            (&before.outcome, before.counted) == (&after.outcome, after.counted),
            (&now.outcome, now.counted) == (&after.outcome, after.counted),
        ),
        (ChoicePart::Split, before.split == after.split, now.split == after.split),
        (ChoicePart::Balance, before.balance == after.balance, now.balance == after.balance),
        (ChoicePart::TodaysRule, before.todays_rule == after.todays_rule, now.todays_rule == after.todays_rule),
        (ChoicePart::Policy, before.policy == after.policy, now.policy == after.policy),
    ];
    for (part, untouched, still) in whole {
        match part {
            _ if untouched => {}
            part if !still => entangled.push(part),
            ChoicePart::Records => state.table = before.table,
            ChoicePart::Outcome => (state.outcome, state.counted) = (before.outcome.clone(), before.counted),
            ChoicePart::Split => state.split = before.split.clone(),
            ChoicePart::Balance => state.balance = before.balance,
            ChoicePart::TodaysRule => state.todays_rule.clone_from(&before.todays_rule),
            _ => state.policy.clone_from(&before.policy),
        }
    }
    if before.columns.is_empty() != after.columns.is_empty() {
        if now.columns == after.columns {
            state.columns.clone_from(&before.columns);
        } else {
            entangled.push(ChoicePart::Columns);
        }
    } else {
        let changed = put_back(&mut state.columns, &before.columns, &after.columns, |c| c.name.clone());
        entangled.extend(changed.into_iter().map(ChoicePart::Column));
    }
    let changed = put_back(&mut state.kept, &before.kept, &after.kept, caution);
    entangled.extend(changed.into_iter().map(|(_, about)| ChoicePart::Caution(about)));
    match steps_put_back(&now.steps, &before.steps, &after.steps) {
        Some(steps) => state.steps = steps,
        None => entangled.push(ChoicePart::Steps),
    }
    if entangled.is_empty() { Ok(state) } else { Err(entangled) }
}

fn caution(kept: &AcceptedCaution) -> (String, String) {
    (kept.rule.word().to_owned(), kept.about.clone())
}

fn column_words(column: &ColumnChoice) -> String {
    match column.known_when {
        KnownWhen::Unsure => column.role.word().to_owned(),
        known => format!("{}, known {}", column.role.word(), known.word()),
    }
}

fn step_words(step: &PreparationStep) -> String {
    let off = if step.off { ", switched off" } else { "" };
    format!("{}{off}", step.action.words())
}

/// What stands under each key in one list and in the other, in the order of the first and then of the
/// second.
fn paired<'a, T, K: PartialEq>(
    one: &'a [T],
    other: &'a [T],
    key: impl Fn(&T) -> K,
) -> Vec<(K, Option<&'a T>, Option<&'a T>)> {
    let within = |list: &'a [T], wanted: &K| list.iter().find(|item| key(item) == *wanted);
    let both = one.iter().map(|item| {
        let name = key(item);
        let found = within(other, &name);
        (name, Some(item), found)
    });
    let new = other.iter().map(|item| (key(item), item)).filter(|(name, _)| within(one, name).is_none());
    both.chain(new.map(|(name, item)| (name, None, Some(item)))).collect()
}

/// Puts back in a list what a choice changed in it; gives the keys under which something was changed
/// again since.
fn put_back<T: Clone + PartialEq, K: PartialEq>(
    list: &mut Vec<T>,
    before: &[T],
    after: &[T],
    key: impl Fn(&T) -> K,
) -> Vec<K> {
    let mut entangled = Vec::new();
    for (name, was, became) in paired(before, after, &key) {
        let at = list.iter().position(|item| key(item) == name);
        if was == became {
            continue;
        }
        if at.map(|at| &list[at]) != became {
            entangled.push(name);
            continue;
        }
        match (at, was) {
            (Some(at), Some(was)) => list[at] = was.clone(),
            (Some(at), None) => drop(list.remove(at)),
            (None, Some(was)) => {
                // Behind whatever it followed, as far as that is still there.
                let place = before.iter().position(|item| item == was).unwrap_or(0);
                let follows =
                    before[..place].iter().rev().find_map(|b| list.iter().position(|item| key(item) == key(b)));
                list.insert(follows.map_or(0, |at| at + 1), was.clone());
            }
            (None, None) => {}
        }
    }
    entangled
}

/// Steps that one list has and not the other: gone, come, or switched on or off.
fn step_changes<'a>(
    one: &'a [PreparationStep],
    other: &'a [PreparationStep],
) -> Vec<(Option<&'a PreparationStep>, Option<&'a PreparationStep>)> {
    let gone = lacking(one, other);
    let mut come = lacking(other, one);
    let mut found = Vec::new();
    for step in gone {
        let same = come.iter().position(|c| c.action == step.action);
        found.push((Some(step), same.map(|at| come.remove(at))));
    }
    found.extend(come.into_iter().map(|step| (None, Some(step))));
    found
}

/// The steps of one list that another lacks; a step that is there twice has to be there twice.
fn lacking<'a>(one: &'a [PreparationStep], other: &[PreparationStep]) -> Vec<&'a PreparationStep> {
    let mut rest: Vec<&PreparationStep> = other.iter().collect();
    one.iter()
        .filter(|step| match rest.iter().position(|r| r == step) {
            Some(at) => {
                rest.remove(at);
                false
            }
            None => true,
        })
        .collect()
}

fn same_in_any_order(one: &[PreparationStep], other: &[PreparationStep]) -> bool {
    one.len() == other.len() && lacking(one, other).is_empty()
}

/// The steps of now without what a choice changed in them; none where something was changed again.
fn steps_put_back(
    now: &[PreparationStep],
    before: &[PreparationStep],
    after: &[PreparationStep],
) -> Option<Vec<PreparationStep>> {
    if before == after {
        return Some(now.to_vec());
    }
    if now == after {
        return Some(before.to_vec());
    }
    if same_in_any_order(before, after) {
        return None;
    }
    let mut steps = now.to_vec();
    for (gone, come) in step_changes(before, after) {
        match (gone, come) {
            (was, Some(came)) => {
                let at = steps.iter().position(|step| step == came)?;
                match was {
                    Some(was) => steps[at] = was.clone(),
                    None => drop(steps.remove(at)),
                }
            }
            (Some(gone), None) => {
                let place = before.iter().position(|step| step == gone).unwrap_or(0);
                let follows = before[..place].iter().rev().find_map(|b| steps.iter().position(|step| step == b));
                steps.insert(follows.map_or(0, |at| at + 1), gone.clone());
            }
            (None, None) => {}
        }
    }
    Some(steps)
}

/// What of a policy differs, each in a few words.
fn policy_changes(
    was: Option<&ChosenPolicy>,
    is: Option<&ChosenPolicy>,
    names: &impl Names,
) -> Vec<(Option<String>, Option<String>)> {
    let brief = |p: &ChosenPolicy| format!("{}, {}", names.model(p.model_id), p.policy.rule.in_short());
    let (one, other) = match (was, is) {
        (None, None) => return Vec::new(),
        (Some(one), Some(other)) if one == other => return Vec::new(),
        (Some(one), Some(other)) => (one, other),
        _ => return vec![(was.map(brief), is.map(brief))],
    };
    let mut found = Vec::new();
    let (first, second) = (brief(one), brief(other));
    if first != second {
        found.push((Some(first), Some(second)));
    }
    let leaves = |p: &ChosenPolicy| {
        let mut found = Vec::new();
        let parts = [
            serde_json::to_value(&p.policy.economics),
            serde_json::to_value(&p.policy.offers),
            serde_json::to_value(&p.policy.rule.limits),
            serde_json::to_value(p.population),
        ];
        parts.into_iter().flatten().for_each(|value| leaves_of(&value, "", &mut found));
        found.push(("currency".to_owned(), p.currency.clone()));
        found
    };
    for (_, one, other) in paired(&leaves(one), &leaves(other), |leaf| leaf.0.clone()) {
        if one != other {
            let words = |(name, value): &(String, String)| format!("{name} {value}");
            found.push((one.map(words), other.map(words)));
        }
    }
    found
}

/// The single values of a nested one, each under the words that lead to it.
fn leaves_of(value: &Value, name: &str, found: &mut Vec<(String, String)>) {
    let below = |word: &str| format!("{name} {}", word.replace(['_', '-'], " ")).trim().to_owned();
    match value {
        Value::Object(fields) => fields.iter().for_each(|(word, value)| leaves_of(value, &below(word), found)),
        Value::Array(items) => {
            items.iter().enumerate().for_each(|(at, value)| leaves_of(value, &below(&(at + 1).to_string()), found));
        }
        Value::String(text) => found.push((name.to_owned(), text.clone())),
        Value::Null => {}
        other => found.push((name.to_owned(), other.to_string())),
    }
}
