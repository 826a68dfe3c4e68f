//! A question read: one SELECT as a tree, and the places of the text that its parts come from.

use std::ops::Range;

use pronoia_core::stack::with_room;
use sqlparser::ast::{Query, SetExpr, Statement};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::Parser;
use sqlparser::tokenizer::{Location, Span, Token, TokenWithSpan, Tokenizer};

use super::{LONGEST, QueryError};

/// How deep brackets may nest.
const DEEPEST: usize = 60;

/// A question that was read.
#[derive(Debug)]
pub(crate) struct Parsed<'s> {
    /// The text.
    pub sql: &'s str,
    /// The tree.
    pub query: Query,
    /// The words and signs of the text that say something, in order, with their places.
    signs: Vec<(Token, Range<usize>)>,
    /// The character at which each line begins.
    lines: Vec<usize>,
}

impl<'s> Parsed<'s> {
    /// Reads one SELECT.
    ///
    /// # Errors
    /// [`QueryError::Question`] with the place that cannot be read.
    pub fn of(sql: &'s str) -> Result<Self, QueryError> {
        let refuse = |sentence: String, place| QueryError::Question { sentence, place };
        if sql.chars().count() > LONGEST {
            return Err(refuse(format!("A question has at most {LONGEST} characters."), None));
        }
        if let Some(at) = sql.chars().position(|c| c.is_control() && !matches!(c, '\n' | '\r' | '\t')) {
            return Err(refuse("There is a character here that no text holds; delete it.".into(), Some(at..at + 1)));
        }
        let lines = lines_of(sql);
        let place = |location: Location| place_of(&lines, location);
        let dialect = PostgreSqlDialect {};
        let tokens = Tokenizer::new(&dialect, sql).tokenize_with_location().map_err(|e| {
            let at = place(e.location);
            refuse(format!("{}.", e.message), Some(at..at + 1))
        })?;
        let says_something = |token: &&TokenWithSpan| !matches!(token.token, Token::Whitespace(_) | Token::EOF);
        let signs = tokens.iter().filter(says_something);
        let signs = signs.map(|t| (t.token.clone(), place(t.span.start)..place(t.span.end))).collect();
        let parse = || {
            let parser = Parser::new(&PostgreSqlDialect {}).with_recursion_limit(DEEPEST);
            parser.with_tokens_with_locations(tokens).parse_statements()
        };
        let statements = with_room(parse).map_err(|e| {
            let words = e.to_string();
            // The place stands at the end of what the parser says.
            let (words, place) = match words.rsplit_once(" at Line: ") {
                Some((words, at)) => (words.to_owned(), location(at).map(place)),
                None => (words, None),
            };
            let words = words.trim_start_matches("sql parser error: ");
            let place = place.map(|at| super::word_at(sql, at)).filter(|p| !p.is_empty());
            refuse(format!("It cannot be read: {}.", words.trim_end_matches('.')), place)
        })?;
        let mut statements = statements.into_iter();
        let query = match (statements.next(), statements.next()) {
            (None, _) => return Err(refuse("There is no question. Write a SELECT.".into(), None)),
            (_, Some(_)) => {
                return Err(refuse("Ask one question at a time: there is a second statement.".into(), None));
            }
            (Some(Statement::Query(query)), None) if only_reads(&query) => *query,
            _ => return Err(refuse("Only a SELECT can be asked; nothing can be changed here.".into(), None)),
        };
        Ok(Self { sql, query, signs, lines })
    }

    /// The characters of a part of the tree; none if it is not known where it stands.
    pub fn place(&self, span: Span) -> Option<Range<usize>> {
        if span.start.line == 0 {
            return None;
        }
        let (start, end) = (place_of(&self.lines, span.start), place_of(&self.lines, span.end));
        Some(start..end.max(start + 1))
    }

    /// The sign before a part of the tree, outside the brackets that open there; operators carry no place of their own.
    pub fn sign_before(&self, span: Span) -> Option<Range<usize>> {
        let start = self.place(span)?.start;
        let before = self.signs.iter().rev().skip_while(|(_, place)| place.start >= start);
        before.skip_while(|(token, _)| *token == Token::LParen).map(|(_, place)| place.clone()).next()
    }
}

/// Whether a query only reads: its own parts, and those it gives names to.
fn only_reads(query: &Query) -> bool {
    let named = query.with.iter().flat_map(|with| &with.cte_tables);
    named.map(|cte| &*cte.query).all(only_reads) && query.locks.is_empty() && reads(&query.body)
}

/// Whether a part of a query only reads.
fn reads(body: &SetExpr) -> bool {
    match body {
        SetExpr::Select(select) => select.into.is_none(),
        SetExpr::Query(query) => only_reads(query),
        SetExpr::SetOperation { left, right, .. } => reads(left) && reads(right),
        SetExpr::Values(_) => true,
        _ => false,
    }
}

fn lines_of(sql: &str) -> Vec<usize> {
    let mut lines = vec![0];
    lines.extend(sql.chars().enumerate().filter(|(_, c)| *c == '\n').map(|(at, _)| at + 1));
    lines
}

/// The character at a line and a column, both counted from 1.
fn place_of(lines: &[usize], location: Location) -> usize {
    let line = (location.line as usize).saturating_sub(1).min(lines.len() - 1);
    lines[line] + (location.column as usize).saturating_sub(1)
}

/// Reads “3, Column: 14”.
fn location(words: &str) -> Option<Location> {
    let (line, column) = words.split_once(", Column: ")?;
    Some(Location { line: line.trim().parse().ok()?, column: column.trim().parse().ok()? })
}
