//! How sentences are put together.

/// The words with a capital letter at their beginning.
pub fn capital(words: &str) -> String {
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}
