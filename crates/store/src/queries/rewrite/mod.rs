//! A question written anew for the database.
//!
//! What reaches the database is never the analyst's own text. The question is read into a tree, and every part of it
//! that is known and allowed is written again: names in double quotes and looked up first, tables and functions with
//! their schema, literals in one form, brackets wherever they could matter. Whatever is not known is refused where it
//! stands. So it makes no difference whether two parsers would take a text apart in the same way: the database sees
//! only text of ours, in which nothing can be read in two ways.

mod columns;
mod expression;
mod from;
mod function;
mod functions;
mod literal;
mod query;
mod scope;
mod text;
mod types;

use std::collections::HashSet;
use std::ops::Range;

use sqlparser::tokenizer::Span;

use super::QueryError;
use super::parse::Parsed;
pub use functions::every as allowed_functions;
pub use scope::Relation;
use scope::{Scope, ScopeColumn};
pub(crate) use text::Text;

/// Joins, groupings, orderings and the like, each of which may take memory for itself, in one question.
pub(crate) const MOST_MEMORY_USERS: usize = 40;

/// Names, values and calls that a question may come to once expressions stand in the place of their names.
const MOST_WEIGHT: u64 = 50_000;

/// The longest text that a question may make, in characters.
const LONGEST_TEXT: usize = 1_000_000;

/// Whether a name that a question reads from is a table, as far as it is known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TableLookup {
    /// It is.
    Found(Relation),
    /// There is none that may be read.
    Missing,
    /// Nobody has looked yet.
    Unknown,
}

/// What tables there are.
pub trait Relations {
    /// The table of a name, whose parts are as PostgreSQL takes them.
    fn find(&self, name: &[String]) -> TableLookup;
}

/// A question as it is told to the database.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rewritten {
    pub(crate) text: Text,
    /// The names of what comes out.
    pub columns: Vec<String>,
    /// Parts that may each take memory for themselves.
    pub memory_users: usize,
}

impl Rewritten {
    /// The SELECT.
    pub fn sql(&self) -> &str {
        self.text.sql()
    }
}

/// Why a question cannot be written.
#[derive(Debug)]
pub(crate) enum RewriteStop {
    /// It is wrong, or not allowed.
    Refused(String, Option<Range<usize>>),
    /// Somebody has to look first whether there is a table of this name.
    Unknown(Vec<String>),
}

impl From<RewriteStop> for QueryError {
    fn from(stop: RewriteStop) -> Self {
        match stop {
            RewriteStop::Refused(sentence, place) => Self::Question { sentence, place },
            RewriteStop::Unknown(name) => Self::Question { sentence: no_table(&name), place: None },
        }
    }
}

fn no_table(name: &[String]) -> String {
    format!("There is no table “{}” that a question may read.", name.join("."))
}

/// Writes a question anew.
pub(crate) fn rewrite(parsed: &Parsed<'_>, relations: &dyn Relations) -> Result<Rewritten, RewriteStop> {
    let mut rewriter = Rewriter { parsed, relations, taken: HashSet::new(), memory_users: 0 };
    let written = rewriter.query(&parsed.query, &Scope::default())?;
    if rewriter.memory_users > MOST_MEMORY_USERS {
        return Err(RewriteStop::Refused(
            format!(
                "It joins, groups and sorts in {} places, and {MOST_MEMORY_USERS} are allowed. Ask in smaller steps, and keep answers as tables.",
                rewriter.memory_users
            ),
            None,
        ));
    }
    if written.text.weight() > MOST_WEIGHT {
        return Err(RewriteStop::Refused(
            "Its queries use what others of them compute again and again, so that it comes to more than one question may have. Keep an answer as a table, and ask that.".into(),
            None,
        ));
    }
    let columns = written.columns.into_iter().map(|column| column.name).collect();
    Ok(Rewritten { text: written.text, columns, memory_users: rewriter.memory_users })
}

/// A query that was written.
struct RewrittenQuery {
    text: Text,
    columns: Vec<ScopeColumn>,
}

struct Rewriter<'q> {
    parsed: &'q Parsed<'q>,
    relations: &'q dyn Relations,
    /// Names given to what stands in FROM and WITH, of which each is given once.
    taken: HashSet<String>,
    memory_users: usize,
}

impl Rewriter<'_> {
    fn refuse<T>(&self, sentence: impl Into<String>, span: Span) -> Result<T, RewriteStop> {
        Err(RewriteStop::Refused(sentence.into(), self.parsed.place(span)))
    }

    /// A part of the language that no question needs.
    fn not_here<T>(&self, what: &str, span: Span) -> Result<T, RewriteStop> {
        self.refuse(format!("{what} cannot be used in a question."), span)
    }

    /// A name like this one that nothing else of the question is called.
    fn alias(&mut self, name: &str) -> String {
        let mut alias = name.to_owned();
        let mut number = 1;
        while !self.taken.insert(alias.clone()) {
            number += 1;
            let mut short = name.to_owned();
            while short.len() > 50 {
                short.pop();
            }
            alias = format!("{short}_{number}");
        }
        alias
    }
}

/// The database is told to refuse a text that is longer; whatever makes texts longer is written so.
fn limited(piece: &Text, most: usize) -> Text {
    let mut text = Text::of("pg_catalog.\"varchar\"((");
    text.add(piece);
    // The function that shortens texts to the length of a type, told that it was not asked to: then it refuses. It
    // counts four more than the length.
    text.push(&format!(")::character varying, {}, false)::text", most + 4));
    text
}
