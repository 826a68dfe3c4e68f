//! Writing a checked expression as SQL that PostgreSQL computes alike.

use super::Type;
use super::tree::{Arithmetic, Comparison, Function, Node};
use crate::table::{written_date, written_number};

pub(super) fn write(node: &Node, inputs: &[(String, Type)]) -> String {
    let of = |n: &Node| write(n, inputs);
    let both = |pair: &[Node; 2], between: &str| format!("({} {between} {})", of(&pair[0]), of(&pair[1]));
    match node {
        Node::Column(at) => format!("\"{}\"", inputs[*at].0.replace('"', "\"\"")),
        Node::Number(x) => format!("CAST({} AS double precision)", written_number(*x)),
        Node::Text(text) => format!("'{}'", text.replace('\'', "''")),
        Node::Day(day) => format!("DATE '{}'", written_date(*day)),
        Node::Truth(true) => "TRUE".into(),
        Node::Truth(false) => "FALSE".into(),
        Node::Missing(kind) => format!("CAST(NULL AS {})", type_name(*kind)),
        Node::Minus(inner) => format!("(- {})", of(inner)),
        Node::Arithmetic(how, pair) => match how {
            Arithmetic::Plus => both(pair, "+"),
            Arithmetic::Minus => both(pair, "-"),
            Arithmetic::Times => both(pair, "*"),
            Arithmetic::Over => format!("({} / NULLIF({}, 0))", of(&pair[0]), of(&pair[1])),
        },
        Node::DaysBetween(pair) => format!("CAST({} - {} AS double precision)", of(&pair[0]), of(&pair[1])),
        Node::DaysLater(pair) => format!("({} + CAST({} AS integer))", of(&pair[0]), of(&pair[1])),
        Node::Compare(how, pair) => both(
            pair,
            match how {
                Comparison::Equal => "=",
                Comparison::Different => "<>",
                Comparison::Less => "<",
                Comparison::LessOrEqual => "<=",
                Comparison::Greater => ">",
                Comparison::GreaterOrEqual => ">=",
            },
        ),
        Node::And(pair) => both(pair, "AND"),
        Node::Or(pair) => both(pair, "OR"),
        Node::Not(inner) => format!("(NOT {})", of(inner)),
        Node::IsMissing(inner) => format!("({} IS NULL)", of(inner)),
        Node::Like(inner, form) => format!("({} LIKE '{}')", of(inner), form.replace('\'', "''")),
        Node::Case(branches, last) => {
            let branches: String = branches.iter().map(|(c, r)| format!(" WHEN {} THEN {}", of(c), of(r))).collect();
            format!("(CASE{branches} ELSE {} END)", of(last))
        }
        Node::Call(function, arguments) => call(*function, &arguments.iter().map(of).collect::<Vec<_>>()),
    }
}

fn type_name(kind: Type) -> &'static str {
    match kind {
        Type::Number => "double precision",
        Type::Text => "text",
        Type::Day => "date",
        Type::Truth => "boolean",
    }
}

fn call(function: Function, arguments: &[String]) -> String {
    let first = arguments.first().map_or("NULL", String::as_str);
    let part = |field: &str| format!("CAST(EXTRACT({field} FROM {first}) AS double precision)");
    let list = |name: &str| format!("{name}({})", arguments.join(", "));
    match function {
        Function::Abs => list("ABS"),
        Function::Round => list("ROUND"),
        Function::Floor => list("FLOOR"),
        Function::Ceil => list("CEIL"),
        // What has no value is missing rather than an error.
        Function::Sqrt => format!("(CASE WHEN {first} >= 0 THEN SQRT({first}) END)"),
        Function::Ln => format!("(CASE WHEN {first} > 0 THEN LN({first}) END)"),
        Function::Exp => format!("(CASE WHEN {first} < 709 THEN EXP(GREATEST({first}, -700)) END)"),
        Function::Least => list("LEAST"),
        Function::Greatest => list("GREATEST"),
        Function::Coalesce => list("COALESCE"),
        Function::NullIf => list("NULLIF"),
        Function::Length => format!("CAST(CHAR_LENGTH({first}) AS double precision)"),
        Function::Lower => list("LOWER"),
        Function::Upper => list("UPPER"),
        Function::Trim => format!("TRIM({first})"),
        Function::Concat => format!("({})", arguments.join(" || ")),
        Function::Year => part("YEAR"),
        Function::Month => part("MONTH"),
        Function::DayOfMonth => part("DAY"),
        Function::DayOfWeek => part("DOW"),
    }
}
