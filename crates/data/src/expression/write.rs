//! Writing a checked expression as SQL that a database computes alike.

use super::Type;
use super::tree::{Arithmetic, Function, Node};
use crate::table::written_date;

/// The SQL of one kind of database.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// As ISO/IEC 9075 has it, with nothing else.
    Standard,
    /// PostgreSQL.
    PostgreSql,
    /// DuckDB.
    DuckDb,
    /// Spark SQL.
    Spark,
}

impl Dialect {
    /// Every dialect, in the order in which they are offered.
    pub const ALL: [Dialect; 4] = [Self::Standard, Self::PostgreSql, Self::DuckDb, Self::Spark];

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
pub fn write(node: &Node, name: &dyn Fn(usize) -> String, dialect: Dialect) -> String {
    let of = |n: &Node| write(n, name, dialect);
    let both = |pair: &[Node; 2], between: &str| format!("({} {between} {})", of(&pair[0]), of(&pair[1]));
    match node {
        Node::Column(at) => name(*at),
        Node::Number(x) => dialect.number(*x),
        Node::Text(text) => dialect.text(text),
        Node::Day(day) => format!("DATE '{}'", written_date(*day)),
        Node::Truth(true) => "TRUE".into(),
        Node::Truth(false) => "FALSE".into(),
        Node::Missing(kind) => format!("CAST(NULL AS {})", dialect.type_name(*kind)),
        Node::Minus(inner) => format!("(- {})", of(inner)),
        // What is divided by zero is missing rather than an error.
        Node::Arithmetic(Arithmetic::Over, pair) => format!("({} / NULLIF({}, 0))", of(&pair[0]), of(&pair[1])),
        Node::Arithmetic(how, pair) => both(pair, how.sign()),
        Node::DaysBetween(pair) => dialect.whole(format!("{} - {}", of(&pair[0]), of(&pair[1]))),
        Node::DaysLater(pair) => format!("({} + CAST({} AS integer))", of(&pair[0]), of(&pair[1])),
        Node::Compare(how, pair) => both(pair, how.sign()),
        Node::And(pair) => both(pair, "AND"),
        Node::Or(pair) => both(pair, "OR"),
        Node::Not(inner) => format!("(NOT {})", of(inner)),
        Node::IsMissing(inner) => format!("({} IS NULL)", of(inner)),
        Node::OneOf(inner, constants) => match &constants[..] {
            [] => format!("({} <> {})", of(inner), of(inner)),
            [only] => format!("({} = {})", of(inner), of(only)),
            several => format!("({} IN ({}))", of(inner), several.iter().map(of).collect::<Vec<_>>().join(", ")),
        },
        Node::Like(inner, form) => format!("({} LIKE {}{})", of(inner), dialect.text(form), dialect.escape()),
        Node::Case(branches, last) => {
            let branches: String = branches.iter().map(|(c, r)| format!(" WHEN {} THEN {}", of(c), of(r))).collect();
            format!("(CASE{branches} ELSE {} END)", of(last))
        }
        Node::Call(function, arguments) => call(*function, &arguments.iter().map(of).collect::<Vec<_>>(), dialect),
    }
}

fn call(function: Function, arguments: &[String], dialect: Dialect) -> String {
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
