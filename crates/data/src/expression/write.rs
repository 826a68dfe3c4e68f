//! Writing a checked expression as SQL that a database computes alike.

use super::Type;
use super::tree::{Arithmetic, ExpressionNode, Function};
use crate::table::written_date;

/// The SQL of one kind of database.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SqlDialect {
    /// As ISO/IEC 9075 has it, with nothing else.
    Standard,
    /// PostgreSQL.
    PostgreSql,
    /// DuckDB.
    DuckDb,
    /// Spark SQL.
    Spark,
}

impl SqlDialect {
    /// Every dialect, in the order in which they are offered.
    pub const ALL: [SqlDialect; 4] = [Self::Standard, Self::PostgreSql, Self::DuckDb, Self::Spark];

    /// The word for it on the command line and in addresses.
    pub fn word(self) -> &'static str {
        match self {
            Self::Standard => "standard",
            Self::PostgreSql => "postgresql",
            Self::DuckDb => "duckdb",
            Self::Spark => "spark",
        }
    }

    /// Its name within a sentence.
    pub fn title(self) -> &'static str {
        match self {
            Self::Standard => "standard SQL",
            Self::PostgreSql => "PostgreSQL",
            Self::DuckDb => "DuckDB",
            Self::Spark => "Spark SQL",
        }
    }

    /// A name of a column or a table.
    pub fn name(self, name: &str) -> String {
        match self {
            Self::Spark => format!("`{}`", name.replace('`', "``")),
            _ => format!("\"{}\"", name.replace('"', "\"\"")),
        }
    }

    /// The name of a type.
    pub fn type_name(self, kind: Type) -> &'static str {
        match (kind, self) {
            (Type::Number, Self::DuckDb | Self::Spark) => "DOUBLE",
            (Type::Number, _) => "double precision",
            (Type::Text, Self::PostgreSql) => "text",
            (Type::Text, Self::Standard) => "CHARACTER VARYING(4000)",
            (Type::Text, Self::DuckDb) => "VARCHAR",
            (Type::Text, Self::Spark) => "STRING",
            (Type::Day, _) => "date",
            (Type::Truth, _) => "boolean",
        }
    }

    /// A number in double precision.
    fn number(self, x: f64) -> String {
        match self {
            Self::PostgreSql => format!("CAST({x} AS double precision)"),
            Self::Spark if x < 0.0 => format!("(-{:e}D)", -x),
            Self::Spark => format!("{x:e}D"),
            // With an exponent, which makes it approximate rather than decimal.
            _ if x < 0.0 => format!("(-{:E})", -x),
            _ => format!("{x:E}"),
        }
    }

    /// Text as a constant.
    pub fn text(self, text: &str) -> String {
        match self {
            // Only there a backslash means something by itself.
            Self::Spark => format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'")),
            _ => quoted_text(text),
        }
    }

    /// What ends a comparison with a form in which a backslash takes the meaning from what follows it.
    fn escape(self) -> &'static str {
        match self {
            Self::Standard | Self::DuckDb => " ESCAPE '\\'",
            Self::PostgreSql | Self::Spark => "",
        }
    }

    /// A whole number that some databases give as such, in double precision.
    fn whole(self, call: String) -> String {
        format!("CAST({call} AS {})", self.type_name(Type::Number))
    }
}

/// Text in single quotes.
fn quoted_text(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// The node as SQL; `name` says what is written for the column at a place.
pub fn write(node: &ExpressionNode, name: &dyn Fn(usize) -> String, dialect: SqlDialect) -> String {
    let of = |n: &ExpressionNode| write(n, name, dialect);
    let both = |pair: &[ExpressionNode; 2], between: &str| format!("({} {between} {})", of(&pair[0]), of(&pair[1]));
    match node {
        ExpressionNode::Column(at) => name(*at),
        ExpressionNode::Number(x) => dialect.number(*x),
        ExpressionNode::Text(text) => dialect.text(text),
        ExpressionNode::Day(day) => format!("DATE '{}'", written_date(*day)),
        ExpressionNode::Truth(true) => "TRUE".into(),
        ExpressionNode::Truth(false) => "FALSE".into(),
        ExpressionNode::Missing(kind) => format!("CAST(NULL AS {})", dialect.type_name(*kind)),
        ExpressionNode::Minus(inner) => format!("(- {})", of(inner)),
        // What is divided by zero is missing rather than an error.
        ExpressionNode::Arithmetic(Arithmetic::Over, pair) => {
            format!("({} / NULLIF({}, 0))", of(&pair[0]), of(&pair[1]))
        }
        ExpressionNode::Arithmetic(how, pair) => both(pair, how.sign()),
        ExpressionNode::DaysBetween(pair) => dialect.whole(format!("{} - {}", of(&pair[0]), of(&pair[1]))),
        ExpressionNode::DaysLater(pair) => format!("({} + CAST({} AS integer))", of(&pair[0]), of(&pair[1])),
        ExpressionNode::Compare(how, pair) => both(pair, how.sign()),
        ExpressionNode::And(pair) => both(pair, "AND"),
        ExpressionNode::Or(pair) => both(pair, "OR"),
        ExpressionNode::Not(inner) => format!("(NOT {})", of(inner)),
        ExpressionNode::IsMissing(inner) => format!("({} IS NULL)", of(inner)),
        ExpressionNode::OneOf(inner, constants) => match &constants[..] {
            [] => format!("({} <> {})", of(inner), of(inner)),
            [only] => format!("({} = {})", of(inner), of(only)),
            several => format!("({} IN ({}))", of(inner), several.iter().map(of).collect::<Vec<_>>().join(", ")),
        },
        ExpressionNode::Like(inner, form) => format!("({} LIKE {}{})", of(inner), dialect.text(form), dialect.escape()),
        ExpressionNode::Case(branches, last) => {
            let branches: String = branches.iter().map(|(c, r)| format!(" WHEN {} THEN {}", of(c), of(r))).collect();
            format!("(CASE{branches} ELSE {} END)", of(last))
        }
        ExpressionNode::Call(function, arguments) => {
            call(*function, &arguments.iter().map(of).collect::<Vec<_>>(), dialect)
        }
    }
}

fn call(function: Function, arguments: &[String], dialect: SqlDialect) -> String {
    let first = arguments.first().map_or("NULL", String::as_str);
    let part = |field: &str| dialect.whole(format!("EXTRACT({field} FROM {first})"));
    let list = |name: &str| format!("{name}({})", arguments.join(", "));
    match function {
        Function::Abs => list("ABS"),
        Function::Round => list("ROUND"),
        Function::Floor => dialect.whole(list("FLOOR")),
        Function::Ceil => dialect.whole(list("CEIL")),
        // What has no value is missing rather than an error.
        Function::Sqrt => format!("(CASE WHEN {first} >= 0 THEN SQRT({first}) END)"),
        Function::Ln => format!("(CASE WHEN {first} > 0 THEN LN({first}) END)"),
        // Where it is too small for a number, some databases raise an error.
        Function::Exp => {
            let [most, least, nothing] = [709.0, -700.0, 0.0].map(|x| dialect.number(x));
            format!("(CASE WHEN {first} < {least} THEN {nothing} WHEN {first} < {most} THEN EXP({first}) END)")
        }
        Function::Least => list("LEAST"),
        Function::Greatest => list("GREATEST"),
        Function::Coalesce => list("COALESCE"),
        Function::NullIf => list("NULLIF"),
        Function::Length => dialect.whole(list("CHAR_LENGTH")),
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
