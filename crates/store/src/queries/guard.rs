//! What a question may be: one SELECT, without words that reach outside.

use std::ops::Range;

use sqlparser::ast::{Query, SetExpr, Statement};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::Parser;
use sqlparser::tokenizer::{Location, Token, Tokenizer};

use super::{LONGEST, QueryError};

/// How deep brackets may nest.
const DEEPEST: usize = 60;

/// Beginnings of names by which the server itself, its files and its settings
/// are reached.
const BEGINNINGS: [&str; 6] = ["pg_", "lo_", "dblink", "postgres_fdw", "information_schema", "inet_"];

/// Other such names, and those that run SQL that is written as text.
const NAMES: [&str; 18] = [
    "set_config",
    "current_setting",
    "query_to_xml",
    "query_to_xmlschema",
    "query_to_xml_and_xmlschema",
    "cursor_to_xml",
    "table_to_xml",
    "table_to_xmlschema",
    "schema_to_xml",
    "database_to_xml",
    "xpath_table",
    "ts_stat",
    "ts_rewrite",
    "setval",
    "nextval",
    "currval",
    "lastval",
    "txid_current",
];

/// The question without a semicolon at its end, if it is one SELECT that
/// reaches for nothing but tables.
pub(crate) fn only_select(sql: &str) -> Result<&str, QueryError> {
    let refuse = |sentence: String, place| QueryError::Question { sentence, place };
    if sql.chars().count() > LONGEST {
        return Err(refuse(format!("A question has at most {LONGEST} letters."), None));
    }
    let dialect = PostgreSqlDialect {};
    let tokens = Tokenizer::new(&dialect, sql)
        .tokenize_with_location()
        .map_err(|e| refuse(format!("{}.", e.message), Some(one(at(sql, e.location)))))?;
    for token in &tokens {
        let Token::Word(word) = &token.token else { continue };
        let name = word.value.to_lowercase();
        if BEGINNINGS.iter().any(|b| name.starts_with(b)) || NAMES.contains(&name.as_str()) {
            let from = at(sql, token.span.start);
            let place = from..from + word.to_string().chars().count();
            return Err(refuse(
                format!("“{}” reaches outside the tables of this workspace, which a question may not.", word.value),
                Some(place),
            ));
        }
    }
    let mut parser = Parser::new(&dialect).with_recursion_limit(DEEPEST).with_tokens_with_locations(tokens);
    let statements = parser.parse_statements().map_err(|e| {
        let said = e.to_string();
        // The place stands at the end of what the parser says.
        let (said, place) = match said.rsplit_once(" at Line: ") {
            Some((words, place)) => (words.to_owned(), location(place).map(|l| one(at(sql, l)))),
            None => (said, None),
        };
        let said = said.trim_start_matches("sql parser error: ");
        let place = place.map(|p| super::word_at(sql, p.start)).filter(|p| !p.is_empty());
        refuse(format!("It cannot be read: {}.", said.trim_end_matches('.')), place)
    })?;
    match statements.as_slice() {
        [] => Err(refuse("There is no question. Write a SELECT.".into(), None)),
        [Statement::Query(query)] if only_reads(query) => Ok(sql.trim_end().trim_end_matches(';').trim_end()),
        [_] => Err(refuse("Only a SELECT can be asked; nothing can be changed here.".into(), None)),
        _ => Err(refuse("Ask one question at a time: there is a second statement.".into(), None)),
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

fn one(at: usize) -> Range<usize> {
    at..at + 1
}

/// The character at a line and a column, both counted from 1.
fn at(sql: &str, location: Location) -> usize {
    let lines = (location.line as usize).saturating_sub(1);
    let before: usize = sql.split_inclusive('\n').take(lines).map(|line| line.chars().count()).sum();
    before + (location.column as usize).saturating_sub(1)
}

/// Reads “3, Column: 14”.
fn location(words: &str) -> Option<Location> {
    let (line, column) = words.split_once(", Column: ")?;
    Some(Location { line: line.trim().parse().ok()?, column: column.trim().parse().ok()? })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refused(sql: &str) -> (String, Option<String>) {
        match only_select(sql).expect_err(sql) {
            QueryError::Question { sentence, place } => {
                let marked = place.map(|p| sql.chars().skip(p.start).take(p.len()).collect());
                (sentence, marked)
            }
            QueryError::Store(e) => panic!("{e}"),
        }
    }

    #[test]
    fn one_select_is_let_through_without_its_semicolon() {
        for sql in [
            "SELECT 1",
            "select a, count(*) from t group by 1 ;\n",
            "WITH x AS (SELECT * FROM t) SELECT * FROM x UNION ALL SELECT * FROM x -- all",
            "VALUES (1), (2)",
        ] {
            let kept = only_select(sql).expect(sql);
            assert!(!kept.ends_with(';') && sql.starts_with(kept));
        }
    }

    #[test]
    fn everything_else_is_refused_where_it_stands() {
        assert!(refused("SELECT 1; DROP TABLE t").0.contains("second statement"));
        for sql in [
            "DROP TABLE t",
            "INSERT INTO t VALUES (1)",
            "SELECT * INTO x FROM t",
            "COPY t TO '/tmp/x'",
            "SET ROLE x",
            "WITH x AS (DELETE FROM t RETURNING 1) SELECT 1",
        ] {
            assert!(refused(sql).0.contains("Only a SELECT"), "{sql}: {}", refused(sql).0);
        }
        let words = ["pg_sleep", "pg_read_file", "Lo_Import", "set_config", "information_schema"];
        for word in words {
            let (sentence, marked) = refused(&format!("SELECT 'é' || {word}(1)"));
            assert!(sentence.contains("reaches outside") && marked.as_deref() == Some(word), "{word}: {marked:?}");
        }
        assert!(refused("SELECT * FROM \"pg_class\"").1.as_deref() == Some("\"pg_class\""));
        let (_, marked) = refused("SELECT a\nFROM t\nWHERE a = = 3");
        assert_eq!(marked.as_deref(), Some("="));
        let deep = format!("SELECT {}1{}", "(".repeat(500), ")".repeat(500));
        assert!(refused(&deep).0.contains("cannot be read"));
        assert!(refused("").0.contains("no question"));
    }
}
