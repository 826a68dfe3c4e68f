//! From text to the parser's tree.

use sqlparser::ast::Expr;
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Location, Span, Token};

use super::{DEEPEST, ExpressionError, LONGEST};
use crate::stack::with_room;

/// Parses one expression and nothing after it.
pub(super) fn parse(sql: &str) -> Result<Expr, ExpressionError> {
    let length = sql.chars().count();
    let whole = |message: &str| ExpressionError { message: message.into(), from: 0, to: length };
    if sql.trim().is_empty() {
        return Err(whole("There is no expression yet. Write one, such as annual_fee / pets."));
    }
    if length > LONGEST {
        return Err(ExpressionError {
            message: format!(
                "The expression has {length} characters; at most {LONGEST} are taken. Divide it into steps."
            ),
            from: LONGEST,
            to: length,
        });
    }
    let (parsed, after) = with_room(|| {
        let dialect = PostgreSqlDialect {};
        let mut parser = Parser::new(&dialect).with_recursion_limit(DEEPEST).try_with_sql(sql)?;
        Ok((parser.parse_expr()?, parser.peek_token()))
    })
    .map_err(|e: ParserError| in_our_words(sql, &e))?;
    if after.token != Token::EOF {
        let (from, to) = place(sql, after.span);
        let message = match after.token {
            Token::SemiColon => "One expression is wanted; what stands after the semicolon is not read.".to_owned(),
            other => {
                format!("The expression could end before “{other}”; an operator such as AND, + or = is missing there.")
            }
        };
        return Err(ExpressionError { message, from, to });
    }
    Ok(parsed)
}

/// Where a span lies, in characters from the beginning; the whole if it is unknown.
pub(super) fn place(sql: &str, span: Span) -> (usize, usize) {
    let length = sql.chars().count();
    if span == Span::empty() {
        return (0, length);
    }
    let from = offset(sql, span.start).min(length);
    let mut to = offset(sql, span.end).clamp(from, length).max((from + 1).min(length));
    // The parser leaves out brackets that close what was opened within.
    let characters: Vec<char> = sql.chars().collect();
    let open = |part: &[char]| part.iter().filter(|&&c| c == '(').count() > part.iter().filter(|&&c| c == ')').count();
    while characters.get(to) == Some(&')') && open(&characters[from..to]) {
        to += 1;
    }
    (from, to)
}

fn offset(sql: &str, at: Location) -> usize {
    let before: usize = sql.split('\n').take((at.line.max(1) - 1) as usize).map(|l| l.chars().count() + 1).sum();
    before + (at.column.max(1) - 1) as usize
}

fn in_our_words(sql: &str, error: &ParserError) -> ExpressionError {
    let length = sql.chars().count();
    let text = match error {
        ParserError::RecursionLimitExceeded => {
            let message = "The expression nests too deep. Divide it into steps, each a column of its own.".into();
            return ExpressionError { message, from: 0, to: length };
        }
        ParserError::TokenizerError(text) | ParserError::ParserError(text) => text,
    };
    let (what, from) = match text.rsplit_once(" at Line: ") {
        Some((what, place)) => {
            let mut figures = place.split(", Column: ").map(|n| n.trim().parse::<u64>().unwrap_or(1));
            let (line, column) = (figures.next().unwrap_or(1), figures.next().unwrap_or(1));
            (what, offset(sql, Location { line, column }).min(length))
        }
        None => (text.as_str(), length),
    };
    let word = sql.chars().skip(from).take_while(|c| c.is_alphanumeric() || *c == '_').count().max(1);
    let message = match what.split_once(", found: ") {
        Some((_, "EOF")) => "The expression ends too early; something is missing at its end.".to_owned(),
        Some((expected, found)) => {
            let expected = expected.trim_start_matches("Expected: ").trim_start_matches("Expected ");
            format!("“{found}” does not fit here; expected is {expected}.")
        }
        None => format!("This cannot be read: {}.", what.trim_end_matches('.')),
    };
    ExpressionError { message, from, to: (from + word).min(length.max(from)) }
}
