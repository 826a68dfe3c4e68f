//! What is out of the ordinary about single customers of a list.

use super::list_part::ListPart;
use crate::Model;
use pronoia_data::table::ColumnValues;
use pronoia_learn::prepare::ObservedValues;

/// For every customer whether they are left alone by wish, and what the model had not met, in a few
/// words; empty where there is nothing.
pub fn of_rows(model: &Model, part: &ListPart) -> Vec<String> {
    let matched = part.matched;
    let mut said = vec![String::new(); matched.rows()];
    let mut say = |row: usize, what: String| {
        if !said[row].is_empty() {
            said[row].push_str("; ");
        }
        said[row].push_str(&what);
    };
    for (those, what) in [(part.suppressed, "not to be contacted"), (part.known, "was in training")] {
        those.iter().enumerate().filter(|(_, is)| **is).for_each(|(row, _)| say(row, what.into()));
    }
    for input in model.inputs() {
        let Some(column) = matched.column(&input.name) else { continue };
        match (&input.seen, &column.values) {
            (_, ColumnValues::Words(words)) => {
                let unseen: Vec<bool> = words.levels().map(|level| input.is_unseen(level)).collect();
                for row in 0..column.len() {
                    if words.code(row).is_some_and(|code| unseen[code]) {
                        let value = column.text(row).unwrap_or_default();
                        say(row, format!("{} “{value}” never seen", input.name));
                    }
                }
            }
            (ObservedValues::Between(..), _) => {
                for row in 0..column.len() {
                    if column.number(row).is_some_and(|x| input.is_beyond(x)) {
                        let value = column.text(row).unwrap_or_default();
                        say(row, format!("{} {value} out of range", input.name));
                    }
                }
            }
            _ => {}
        }
    }
    said
}
