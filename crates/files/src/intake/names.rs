//! Names of columns, made fit for a table.

use super::{IntakeError, LONGEST_NAME};

/// Characters of a name that a sentence shows.
const SHOWN: usize = 40;

/// The beginning of a name, for a sentence.
pub(super) fn beginning(name: &str) -> String {
    let mut shown: String = name.chars().filter(|c| !c.is_control()).take(SHOWN).collect();
    if name.chars().nth(SHOWN).is_some() {
        shown.push('…');
    }
    shown
}

/// Makes the names distinct and none of them empty; what was changed is noted.
///
/// # Errors
/// [`IntakeError::LongName`].
pub(super) fn settle(given: &[String], notes: &mut Vec<String>) -> Result<Vec<String>, IntakeError> {
    for (at, name) in given.iter().enumerate().filter(|(_, name)| name.len() > LONGEST_NAME) {
        let length = name.chars().count();
        if length > LONGEST_NAME {
            return Err(IntakeError::LongName { column: at + 1, length, begins: beginning(name) });
        }
    }
    let mut names: Vec<String> = Vec::with_capacity(given.len());
    let mut taken = std::collections::HashSet::new();
    for (i, given) in given.iter().enumerate() {
        let given: String = given.trim().chars().filter(|c| !c.is_control()).collect();
        let base = if given.is_empty() { format!("column {}", i + 1) } else { given.clone() };
        let mut name = base.clone();
        let mut n = 2;
        while !taken.insert(name.clone()) {
            name = format!("{base} ({n})");
            n += 1;
        }
        if given.is_empty() {
            notes.push(format!("Column {} has no name; it is called “{name}”.", i + 1));
        } else if name != given {
            notes.push(format!("Two columns are called “{given}”; column {} is called “{name}”.", i + 1));
        }
        names.push(name);
    }
    Ok(names)
}
