//! What a question in SQL brought: rows to look at, or what is wrong with it.

use std::ops::Range;
use std::time::Duration;

use pronoia_core::number::fixed;
use pronoia_store::queries::QueryAnswer;

use pronoia_service::text::counted;

/// An answer as it is shown.
pub(super) struct ShownAnswer {
    /// Names.
    pub columns: Vec<String>,
    /// Values; none is missing.
    pub rows: Vec<Vec<Option<String>>>,
    /// Whether a column holds nothing but numbers.
    pub figures: Vec<bool>,
    /// Whether there is more.
    pub cut: bool,
    took: Duration,
}

/// What is wrong, and the question cut where it is.
pub(super) struct QueryProblem {
    /// What is wrong.
    pub sentence: String,
    /// The question before the word.
    pub before: String,
    /// The word.
    pub wrong: String,
    /// The question after it.
    pub after: String,
}

impl ShownAnswer {
    pub(super) fn of(answer: QueryAnswer) -> Self {
        let QueryAnswer { columns, rows, cut, took } = answer;
        let is_figure = |at: usize| {
            let mut cells = rows.iter().filter_map(|row| row.get(at)?.as_ref()).peekable();
            cells.peek().is_some() && cells.all(|cell| cell.parse::<f64>().is_ok())
        };
        let figures = (0..columns.len()).map(is_figure).collect();
        Self { columns, rows, figures, cut, took }
    }

    /// How much it is, and how long it took.
    pub(super) fn heading(&self) -> String {
        let rows = counted(self.rows.len(), "row", "rows");
        let took = match self.took.as_secs_f64() {
            brief if brief < 0.01 => "at once".to_owned(),
            long => format!("in {} seconds", fixed(long, 2)),
        };
        if self.cut { format!("The first {rows}, {took}") } else { format!("{rows}, {took}") }
    }
}

impl QueryProblem {
    pub(super) fn of(sql: &str, sentence: String, place: Option<Range<usize>>) -> Self {
        let letters: Vec<char> = sql.chars().collect();
        let place = place.unwrap_or(letters.len()..letters.len());
        let cut = |range: Range<usize>| -> String {
            letters
                .get(range.start.min(letters.len())..range.end.min(letters.len()))
                .unwrap_or_default()
                .iter()
                .collect()
        };
        let (before, wrong, after) = (cut(0..place.start), cut(place.clone()), cut(place.end..letters.len()));
        Self { sentence, before, wrong, after }
    }
}
