//! Values written in a question.

use sqlparser::ast::{Expr, Spanned, Value, ValueWithSpan};

use super::text::{Text, literal};
use super::{RewriteStop, Rewriter};

/// The longest regular expression, in characters.
const LONGEST_PATTERN: usize = 200;

/// How often a regular expression may say that something is repeated, all counts multiplied.
const MOST_REPEATED: u64 = 1_000;

impl Rewriter<'_> {
    pub(super) fn value(&self, value: &ValueWithSpan) -> Result<Text, RewriteStop> {
        let mut text = Text::default();
        text.mark(self.parsed.place(value.span));
        match &value.value {
            Value::Number(number, false) if is_number(number) => text.push(number),
            Value::Boolean(true) => text.push("TRUE"),
            Value::Boolean(false) => text.push("FALSE"),
            Value::Null => text.push("NULL"),
            other => match string(other) {
                Some(string) => text.push(&literal(string)),
                None => return self.not_here("A value written like this", value.span),
            },
        }
        Ok(text)
    }

    /// The text of a literal; refused if it is none.
    pub(super) fn literal_text<'e>(&self, expression: &'e Expr, what: &str) -> Result<&'e str, RewriteStop> {
        match unnested(expression) {
            Expr::Value(value) if string(&value.value).is_some() => Ok(string(&value.value).unwrap_or_default()),
            other => self.refuse(format!("{what} has to be written here as a text in single quotes."), other.span()),
        }
    }

    /// The regular expression of a literal; refused if it could take much memory.
    pub(super) fn pattern<'e>(&self, expression: &'e Expr) -> Result<&'e str, RewriteStop> {
        let pattern = self.literal_text(expression, "A regular expression")?;
        if pattern.chars().count() > LONGEST_PATTERN || repeated(pattern) > MOST_REPEATED {
            return self.refuse(
                format!(
                    "A regular expression has at most {LONGEST_PATTERN} characters here, and the numbers of its repetitions come to at most {MOST_REPEATED} when they are multiplied."
                ),
                unnested(expression).span(),
            );
        }
        Ok(pattern)
    }
}

/// An expression without the brackets around it.
pub(super) fn unnested(expression: &Expr) -> &Expr {
    let mut expression = expression;
    while let Expr::Nested(inner) = expression {
        expression = inner;
    }
    expression
}

/// What a literal says, if it is a text.
pub(super) fn string(value: &Value) -> Option<&str> {
    match value {
        Value::SingleQuotedString(text)
        | Value::EscapedStringLiteral(text)
        | Value::UnicodeStringLiteral(text)
        | Value::NationalStringLiteral(text) => Some(text),
        Value::DollarQuotedString(text) => Some(&text.value),
        _ => None,
    }
}

/// A whole number that is written as such.
pub(super) fn whole(expression: &Expr) -> Option<u64> {
    match unnested(expression) {
        Expr::Value(ValueWithSpan { value: Value::Number(number, false), .. }) => number.parse().ok(),
        _ => None,
    }
}

/// Whether digits, with a point and an exponent perhaps, are all there is.
fn is_number(number: &str) -> bool {
    let (mantissa, exponent) = match number.split_once(['e', 'E']) {
        Some((mantissa, exponent)) => (mantissa, exponent.strip_prefix(['+', '-']).unwrap_or(exponent)),
        None => (number, "0"),
    };
    let digits = |part: &str| part.bytes().all(|b| b.is_ascii_digit());
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    digits(whole)
        && digits(fraction)
        && !(whole.is_empty() && fraction.is_empty())
        && !exponent.is_empty()
        && digits(exponent)
}

/// The numbers in curly brackets, multiplied.
fn repeated(pattern: &str) -> u64 {
    let counts = pattern.split('{').skip(1).filter_map(|rest| rest.split('}').next());
    let largest = |count: &str| count.split(',').filter_map(|n| n.trim().parse::<u64>().ok()).max();
    counts.filter_map(largest).fold(1, |product, n| product.saturating_mul(n.max(1)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_digits_and_nothing_else() {
        for number in ["0", "12", "1.5", ".5", "5.", "1e6", "1.5E-3"] {
            assert!(is_number(number), "{number}");
        }
        for other in ["", ".", "1e", "0x1F", "1_000", "1;2", "1e+-2", "١"] {
            assert!(!is_number(other), "{other}");
        }
    }

    #[test]
    fn repetitions_are_multiplied() {
        assert_eq!((repeated("a{3}b{2,5}"), repeated("[a-z]+"), repeated("(x{255}){255}")), (15, 1, 65_025));
    }
}
