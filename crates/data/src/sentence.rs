//! How sentences are put together.

/// Names one after the other: “a, b and c”.
pub fn listed(names: &[impl AsRef<str>]) -> String {
    let names: Vec<&str> = names.iter().map(AsRef::as_ref).collect();
    match &names[..] {
        [first @ .., last] if !first.is_empty() => format!("{} and {last}", first.join(", ")),
        names => names.concat(),
    }
}

/// The words with a capital letter at their beginning.
pub fn capital(words: &str) -> String {
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}
