//! Names of columns, made fit for a table.

/// Makes the names distinct and none of them empty; what was changed is noted.
pub(super) fn settle(given: &[String], notes: &mut Vec<String>) -> Vec<String> {
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
    names
}
