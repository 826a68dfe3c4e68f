//! Text for the database, put together piece by piece, which knows where in the question its pieces come from.

use std::ops::Range;

/// A piece of SQL.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Text {
    sql: String,
    /// Where pieces begin, in bytes of `sql`, and the characters of the question that they were written for.
    marks: Vec<(usize, Range<usize>)>,
    /// How many names, values and calls it comes to once the database has put the expressions of the queries in FROM
    /// in the place of their names, as it does before it plans.
    weight: u64,
}

impl Text {
    /// Words of ours, such as keywords.
    pub fn of(words: &str) -> Self {
        Self { sql: words.to_owned(), ..Self::default() }
    }

    /// Notes that what comes next was written for these characters of the question.
    pub fn mark(&mut self, place: Option<Range<usize>>) {
        self.weight += 1;
        if let Some(place) = place {
            self.marks.push((self.sql.len(), place));
        }
    }

    /// Notes that what was added stands for an expression of this weight.
    pub fn weigh(&mut self, weight: u64) {
        self.weight = self.weight.saturating_add(weight);
    }

    /// Its weight.
    pub fn weight(&self) -> u64 {
        self.weight
    }

    /// Adds words of ours.
    pub fn push(&mut self, words: &str) {
        self.sql.push_str(words);
    }

    /// Adds a piece.
    pub fn add(&mut self, piece: &Self) {
        let before = self.sql.len();
        self.weigh(piece.weight);
        self.sql.push_str(&piece.sql);
        self.marks.extend(piece.marks.iter().map(|(at, place)| (before + at, place.clone())));
    }

    /// Adds pieces with words of ours between them.
    pub fn add_all(&mut self, pieces: &[Self], between: &str) {
        for (at, piece) in pieces.iter().enumerate() {
            if at > 0 {
                self.push(between);
            }
            self.add(piece);
        }
    }

    /// The SQL.
    pub fn sql(&self) -> &str {
        &self.sql
    }

    /// The characters of the question that a character of the SQL was written for.
    pub fn origin(&self, character: usize) -> Option<Range<usize>> {
        let byte = self.sql.char_indices().nth(character)?.0;
        self.marks.iter().rev().find(|(at, _)| *at <= byte).map(|(_, place)| place.clone())
    }
}

/// A name in double quotes.
pub(super) fn name(name: &str) -> String {
    crate::records::quoted(name)
}

/// A text as a literal that means the same whatever the database is set to make of backslashes.
pub(super) fn literal(value: &str) -> String {
    let quoted = value.replace('\'', "''");
    if quoted.contains('\\') { format!(" E'{}'", quoted.replace('\\', "\\\\")) } else { format!("'{quoted}'") }
}

/// A name as PostgreSQL takes it: without quotes, the letters A to Z are small ones.
pub(super) fn folded(ident: &sqlparser::ast::Ident) -> String {
    if ident.quote_style.is_some() { ident.value.clone() } else { ident.value.to_ascii_lowercase() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_character_leads_back_to_the_piece_that_it_is_of() {
        let mut inner = Text::default();
        inner.mark(Some(10..13));
        inner.push("\"fée\"");
        let mut text = Text::of("(");
        text.add(&inner);
        text.mark(Some(14..15));
        text.push(" + 1)");
        assert_eq!(text.sql(), "(\"fée\" + 1)");
        assert_eq!((text.origin(0), text.origin(1), text.origin(6)), (None, Some(10..13), Some(14..15)));
        assert_eq!(text.origin(100), None);
    }

    #[test]
    fn literals_and_names_end_where_they_should() {
        assert_eq!(literal("it's"), "'it''s'");
        assert_eq!(literal("\\'; DROP"), " E'\\\\''; DROP'");
        assert_eq!(name("a\"b"), "\"a\"\"b\"");
    }
}
