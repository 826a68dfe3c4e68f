//! The functions that a question may call. Whatever is not listed is refused.
//!
//! A function is on the list if it reads nothing but what it is given, changes nothing, locks nothing, waits for
//! nothing, runs no text as SQL, and makes nothing much larger than what it is given. Those that may make a text
//! longer are written with a limit around them ([`Growth`]).

/// How a function is called.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Call {
    /// Of the values of one row.
    Scalar,
    /// Of the values of many rows.
    Aggregate,
    /// Of the values of many rows in an order: `WITHIN GROUP (ORDER BY …)`.
    Ordered,
    /// Of the rows around one: `OVER (…)`.
    Window,
    /// Part of the language: written without a schema.
    Syntax,
}

/// How a text that a function makes may be longer than those it is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum TextGrowth {
    /// Hardly.
    None,
    /// By the sum of them.
    Sum,
    /// By the text that is put in, which has to be a literal.
    Replaced,
    /// To the length that is given, which has to be a literal number.
    Padded,
    /// By the pattern, which has to be a literal.
    Formatted,
    /// Hardly; but its second argument is a regular expression, which has to be a literal.
    Matched,
    /// By the text that is put in for what a regular expression matches; both have to be literals.
    MatchedReplaced,
}

const SCALAR: &[&str] = &[
    // Numbers.
    "abs",
    "acos",
    "acosd",
    "acosh",
    "asin",
    "asind",
    "asinh",
    "atan",
    "atan2",
    "atan2d",
    "atand",
    "atanh",
    "cbrt",
    "ceil",
    "ceiling",
    "cos",
    "cosd",
    "cosh",
    "cot",
    "cotd",
    "degrees",
    "div",
    "exp",
    "floor",
    "gcd",
    "lcm",
    "ln",
    "log",
    "log10",
    "min_scale",
    "mod",
    "pi",
    "power",
    "radians",
    "random",
    "round",
    "scale",
    "sign",
    "sin",
    "sind",
    "sinh",
    "sqrt",
    "tan",
    "tand",
    "tanh",
    "trim_scale",
    "trunc",
    "width_bucket",
    // Texts.
    "ascii",
    "bit_length",
    "btrim",
    "char_length",
    "character_length",
    "chr",
    "initcap",
    "left",
    "length",
    "lower",
    "ltrim",
    "md5",
    "octet_length",
    "reverse",
    "right",
    "rtrim",
    "split_part",
    "starts_with",
    "strpos",
    "substr",
    "to_date",
    "to_number",
    "to_timestamp",
    "translate",
    "upper",
    // Days and times.
    "age",
    "clock_timestamp",
    "date",
    "date_bin",
    "date_part",
    "date_trunc",
    "isfinite",
    "justify_days",
    "justify_hours",
    "justify_interval",
    "make_date",
    "make_interval",
    "make_time",
    "make_timestamp",
    "now",
    "statement_timestamp",
    "transaction_timestamp",
];

const AGGREGATE: &[&str] = &[
    "avg",
    "bool_and",
    "bool_or",
    "corr",
    "count",
    "covar_pop",
    "covar_samp",
    "every",
    "max",
    "min",
    "regr_avgx",
    "regr_avgy",
    "regr_count",
    "regr_intercept",
    "regr_r2",
    "regr_slope",
    "regr_sxx",
    "regr_sxy",
    "regr_syy",
    "stddev",
    "stddev_pop",
    "stddev_samp",
    "sum",
    "var_pop",
    "var_samp",
    "variance",
];

const ORDERED: &[&str] = &["mode", "percentile_cont", "percentile_disc"];

const WINDOW: &[&str] = &[
    "cume_dist",
    "dense_rank",
    "first_value",
    "lag",
    "last_value",
    "lead",
    "nth_value",
    "ntile",
    "percent_rank",
    "rank",
    "row_number",
];

const SYNTAX: &[&str] = &["coalesce", "greatest", "grouping", "least", "nullif"];

/// Written without brackets.
pub(super) const WITHOUT_BRACKETS: &[&str] =
    &["current_date", "current_time", "current_timestamp", "localtime", "localtimestamp"];

/// Functions that give rows, in FROM.
pub(super) const ROWS: &[&str] = &["generate_series"];

/// How a function may be called and what comes of it; nothing if it may not.
pub(super) fn allowed(name: &str) -> Option<(Call, TextGrowth)> {
    let growth = match name {
        "concat" | "concat_ws" => TextGrowth::Sum,
        "replace" => TextGrowth::Replaced,
        "lpad" | "rpad" => TextGrowth::Padded,
        "to_char" => TextGrowth::Formatted,
        "regexp_count" | "regexp_instr" | "regexp_like" | "regexp_substr" => TextGrowth::Matched,
        "regexp_replace" => TextGrowth::MatchedReplaced,
        _ => TextGrowth::None,
    };
    if growth != TextGrowth::None {
        return Some((Call::Scalar, growth));
    }
    let lists = [
        (SCALAR, Call::Scalar),
        (AGGREGATE, Call::Aggregate),
        (ORDERED, Call::Ordered),
        (WINDOW, Call::Window),
        (SYNTAX, Call::Syntax),
    ];
    lists.into_iter().find(|(list, _)| list.contains(&name)).map(|(_, call)| (call, growth))
}

/// Every function that a question may call.
pub fn every() -> Vec<&'static str> {
    let grown = [
        "concat",
        "concat_ws",
        "lpad",
        "regexp_count",
        "regexp_instr",
        "regexp_like",
        "regexp_replace",
        "regexp_substr",
        "replace",
        "rpad",
        "to_char",
    ];
    [SCALAR, AGGREGATE, ORDERED, WINDOW, ROWS, &grown].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_makes_large_values_or_reaches_outside_is_not_on_the_list() {
        for name in [
            "string_agg",
            "array_agg",
            "json_agg",
            "jsonb_object_agg",
            "xmlagg",
            "repeat",
            "pg_sleep",
            "set_config",
            "lo_create",
            "nextval",
            "pg_advisory_lock",
            "query_to_xml",
            "table_to_xml",
            "current_setting",
            "dblink",
            "to_regclass",
            "txid_current",
            "array_fill",
            "format",
            "overlay",
            "encode",
            "setseed",
            "current_user",
        ] {
            assert_eq!(allowed(name), None, "{name}");
        }
        assert_eq!(allowed("sum"), Some((Call::Aggregate, TextGrowth::None)));
        let every = every();
        assert!(every.iter().filter(|name| !ROWS.contains(name)).all(|name| allowed(name).is_some()));
    }
}
