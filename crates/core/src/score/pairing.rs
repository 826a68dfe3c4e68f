//! Which column of a list is read as which column that is needed.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// From what likeness on one name is suggested for another.
const ALIKE: f64 = 0.6;

/// What somebody said about a column that is needed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnAnswer {
    /// It is read from this column of the list.
    Column(String),
    /// Nobody on the list has a value.
    Nothing,
}

/// What was said, by the column that is needed.
pub type ColumnAnswers = BTreeMap<String, ColumnAnswer>;

/// How a column that is needed is read from a list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnPairing {
    /// A column of the same name.
    Name,
    /// One whose name differs only in case, spaces or punctuation.
    Spelling(String),
    /// One that somebody said.
    Said(String),
    /// Somebody said that nobody has a value.
    Nothing,
    /// Nothing yet; perhaps a column whose name is like it.
    Open(Option<String>),
}

impl ColumnPairing {
    /// The column of the list that `name` is read from.
    pub fn source<'p>(&'p self, name: &'p str) -> Option<&'p str> {
        match self {
            Self::Name => Some(name),
            Self::Spelling(column) | Self::Said(column) => Some(column),
            Self::Nothing | Self::Open(_) => None,
        }
    }
}

/// Pairs every name that is needed with a column of a list. Each column is read at most once; an
/// answer about a column that the list does not have is none.
pub fn pair(needed: &[&str], columns: &[&str], answers: &ColumnAnswers) -> Vec<ColumnPairing> {
    let mut taken: Vec<&str> = Vec::new();
    let mut paired: Vec<Option<ColumnPairing>> = vec![None; needed.len()];
    for (name, paired) in needed.iter().zip(&mut paired) {
        match answers.get(*name) {
            Some(ColumnAnswer::Nothing) => *paired = Some(ColumnPairing::Nothing),
            Some(ColumnAnswer::Column(said)) => {
                if let Some(&column) = columns.iter().find(|c| *c == said).filter(|c| !taken.contains(c)) {
                    taken.push(column);
                    *paired =
                        Some(if column == *name { ColumnPairing::Name } else { ColumnPairing::Said(said.clone()) });
                }
            }
            None => {}
        }
    }
    for (name, paired) in needed.iter().zip(&mut paired).filter(|(_, paired)| paired.is_none()) {
        if columns.contains(name) && !taken.contains(name) {
            taken.push(name);
            *paired = Some(ColumnPairing::Name);
        }
    }
    for (name, paired) in needed.iter().zip(&mut paired).filter(|(_, paired)| paired.is_none()) {
        let same = |column: &&&str| !taken.contains(column) && folded(column) == folded(name);
        if let Some(&column) = columns.iter().find(same) {
            taken.push(column);
            *paired = Some(ColumnPairing::Spelling(column.to_owned()));
        }
    }
    // Those most alike first, so that no column is suggested twice.
    let open: Vec<usize> = (0..needed.len()).filter(|&at| paired[at].is_none()).collect();
    let free = || columns.iter().filter(|column| !taken.contains(column));
    let mut alike: Vec<(f64, usize, &str)> = open
        .iter()
        .flat_map(|&at| free().map(move |&column| (likeness(needed[at], column), at, column)))
        .filter(|(likeness, ..)| *likeness >= ALIKE)
        .collect();
    alike.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut suggested: Vec<(usize, &str)> = Vec::new();
    for (_, at, column) in alike {
        if !suggested.iter().any(|&(other, there)| other == at || there == column) {
            suggested.push((at, column));
        }
    }
    let suggestion = |at: usize| suggested.iter().find(|s| s.0 == at).map(|s| s.1.to_owned());
    paired
        .into_iter()
        .enumerate()
        .map(|(at, paired)| paired.unwrap_or_else(|| ColumnPairing::Open(suggestion(at))))
        .collect()
}

/// How alike two names are, 0 to 1: by their letters, or by the words that they share.
fn likeness(a: &str, b: &str) -> f64 {
    let (letters_a, letters_b) = (folded(a), folded(b));
    let by_letters = strsim::normalized_damerau_levenshtein(&letters_a, &letters_b)
        .max(strsim::sorensen_dice(&letters_a, &letters_b));
    let (words_a, words_b) = (words(a), words(b));
    let shared = words_a.iter().filter(|word| words_b.contains(word)).count() as f64;
    let fewer = words_a.len().min(words_b.len()).max(1) as f64;
    let more = words_a.len().max(words_b.len()).max(1) as f64;
    // All words of the shorter name, and not too many others.
    let by_words = if shared == fewer { 0.5 + 0.5 * shared / more } else { shared / more };
    by_letters.max(by_words)
}

/// The words of a name, in lower case.
fn words(name: &str) -> Vec<String> {
    let parts = name.split(|c: char| !c.is_alphanumeric()).filter(|part| !part.is_empty());
    parts.map(str::to_lowercase).collect()
}

/// A name without case, spaces and punctuation.
fn folded(name: &str) -> String {
    name.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn open(suggestion: &str) -> ColumnPairing {
        ColumnPairing::Open(Some(suggestion.into()))
    }

    #[test]
    fn names_are_paired_as_they_stand_then_as_they_are_spelt_then_suggested() {
        let needed = ["annual_fee", "plan tier", "months_since_visit", "pets"];
        let columns = ["Annual Fee", "annual_fee", "PLAN_TIER", "months since last visit", "notes"];
        let paired = pair(&needed, &columns, &ColumnAnswers::new());
        assert_eq!(paired[0], ColumnPairing::Name);
        assert_eq!(paired[1], ColumnPairing::Spelling("PLAN_TIER".into()));
        assert_eq!(paired[2], open("months since last visit"));
        assert_eq!(paired[3], ColumnPairing::Open(None));
    }

    #[test]
    fn what_somebody_said_comes_first_and_no_column_is_read_twice() {
        let said = |column: &str| ColumnAnswer::Column(column.into());
        let needed = ["fee", "fees", "pets"];
        let columns = ["fee", "amount"];
        let answers: ColumnAnswers = [("fee".into(), said("amount")), ("pets".into(), ColumnAnswer::Nothing)].into();
        let paired = pair(&needed, &columns, &answers);
        assert_eq!(paired, [ColumnPairing::Said("amount".into()), open("fee"), ColumnPairing::Nothing]);
        // An answer of another list.
        let answers: ColumnAnswers = [("fee".into(), said("gone")), ("fees".into(), said("fee"))].into();
        assert_eq!(
            pair(&needed, &columns, &answers)[..2],
            [ColumnPairing::Open(None), ColumnPairing::Said("fee".into())]
        );
    }

    #[test]
    fn suggestions_go_to_the_names_most_alike() {
        let needed = ["tenure_months", "tenure"];
        assert_eq!(pair(&needed, &["tenure_in_months"], &ColumnAnswers::new())[0], open("tenure_in_months"));
        assert_eq!(pair(&needed, &["tenure_in_months"], &ColumnAnswers::new())[1], ColumnPairing::Open(None));
        assert_eq!(pair(&["kundennummer"], &["plan"], &ColumnAnswers::new()), [ColumnPairing::Open(None)]);
        assert_eq!(pair(&["Müllerwiese"], &["mullerwiese"], &ColumnAnswers::new()), [open("mullerwiese")]);
    }

    proptest! {
        #[test]
        fn every_name_is_answered_once_and_no_column_read_twice(
            needed in prop::collection::hash_set("[a-c_ A]{0,5}", 0..6),
            columns in prop::collection::hash_set("[a-c_ A]{0,5}", 0..6),
            answers in prop::collection::btree_map("[a-c_ A]{0,5}", "[a-c_ A]{0,5}", 0..6),
        ) {
            let needed: Vec<&str> = needed.iter().map(String::as_str).collect();
            let columns: Vec<&str> = columns.iter().map(String::as_str).collect();
            let answers: ColumnAnswers = answers.into_iter().map(|(name, column)| (name, ColumnAnswer::Column(column))).collect();
            let paired = pair(&needed, &columns, &answers);
            prop_assert_eq!(paired.len(), needed.len());
            let mut read: Vec<&str> = paired.iter().zip(&needed).filter_map(|(p, name)| p.source(name)).collect();
            prop_assert!(read.iter().all(|column| columns.contains(column)));
            let all = read.len();
            read.sort_unstable();
            read.dedup();
            prop_assert_eq!(read.len(), all);
        }
    }
}
