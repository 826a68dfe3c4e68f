//! Expressions: what stands in SELECT, WHERE, ON, GROUP BY and so on.

use sqlparser::ast::{
    BinaryOperator as Op, CastKind, CeilFloorKind, DataType, DateTimeField, Expr, Ident, InTarget, Interval,
    ObjectName, Query, Spanned, TrimWhereField, UnaryOperator,
};
use sqlparser::tokenizer::Span;

use super::literal::{string, unnested, whole};
use super::scope::Scope;
use super::text::{Text, folded, literal, name};
use super::{LONGEST_TEXT, RewriteStop, Rewriter, limited, types};

/// What can be taken out of a day or a time.
const FIELDS: [&str; 20] = [
    "century",
    "day",
    "decade",
    "dow",
    "doy",
    "epoch",
    "hour",
    "isodow",
    "isoyear",
    "julian",
    "microseconds",
    "millennium",
    "milliseconds",
    "minute",
    "month",
    "quarter",
    "second",
    "timezone",
    "week",
    "year",
];

/// Units of an interval.
const UNITS: [&str; 6] = ["year", "month", "day", "hour", "minute", "second"];

impl Rewriter<'_> {
    /// Writes several, with commas between them.
    pub(super) fn all<'e>(
        &mut self,
        expressions: impl IntoIterator<Item = &'e Expr>,
        scope: &Scope<'_>,
    ) -> Result<Text, RewriteStop> {
        let written = expressions.into_iter().map(|e| self.expression(e, scope)).collect::<Result<Vec<_>, _>>()?;
        let mut text = Text::default();
        text.add_all(&written, ", ");
        Ok(text)
    }

    /// Writes one. Whatever has parts stands in brackets.
    pub(super) fn expression(&mut self, expression: &Expr, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let after = |rewriter: &mut Self, operand: &Expr, words: &str| {
            let operand = rewriter.expression(operand, scope)?;
            Ok(pieces(&[&Text::of("("), &operand, &Text::of(words), &Text::of(")")]))
        };
        match expression {
            Expr::Identifier(ident) => self.column(ident, scope),
            Expr::CompoundIdentifier(parts) => self.column_of(parts, scope),
            Expr::Nested(inner) => self.expression(inner, scope),
            Expr::Value(value) => self.value(value),
            Expr::IsFalse(e) => after(self, e, " IS FALSE"),
            Expr::IsNotFalse(e) => after(self, e, " IS NOT FALSE"),
            Expr::IsTrue(e) => after(self, e, " IS TRUE"),
            Expr::IsNotTrue(e) => after(self, e, " IS NOT TRUE"),
            Expr::IsNull(e) => after(self, e, " IS NULL"),
            Expr::IsNotNull(e) => after(self, e, " IS NOT NULL"),
            Expr::IsUnknown(e) => after(self, e, " IS UNKNOWN"),
            Expr::IsNotUnknown(e) => after(self, e, " IS NOT UNKNOWN"),
            Expr::IsDistinctFrom(a, b) => self.between_two(a, " IS DISTINCT FROM ", b, scope),
            Expr::IsNotDistinctFrom(a, b) => self.between_two(a, " IS NOT DISTINCT FROM ", b, scope),
            Expr::In { expr, target, negated, global: false } => self.is_in(expr, target, *negated, scope),
            Expr::Between { expr, negated, low, high } => {
                let (value, low, high) =
                    (self.expression(expr, scope)?, self.expression(low, scope)?, self.expression(high, scope)?);
                let words = if *negated { " NOT BETWEEN " } else { " BETWEEN " };
                Ok(pieces(&[&Text::of("("), &value, &Text::of(words), &low, &Text::of(" AND "), &high, &Text::of(")")]))
            }
            Expr::BinaryOp { .. } => self.operators(expression, scope),
            Expr::Like { negated, any: false, expr, pattern, escape_char } => {
                let words = if *negated { " NOT LIKE " } else { " LIKE " };
                self.like((expr, words, pattern), escape_char.as_deref(), scope)
            }
            Expr::ILike { negated, any: false, expr, pattern, escape_char } => {
                let words = if *negated { " NOT ILIKE " } else { " ILIKE " };
                self.like((expr, words, pattern), escape_char.as_deref(), scope)
            }
            Expr::SimilarTo { negated, expr, pattern, escape_char } => {
                self.pattern(pattern)?;
                let words = if *negated { " NOT SIMILAR TO " } else { " SIMILAR TO " };
                self.like((expr, words, pattern), escape_char.as_deref(), scope)
            }
            Expr::AnyOp { left, compare_op, right, .. } => self.any_or_all((left, compare_op, right), "ANY", scope),
            Expr::AllOp { left, compare_op, right } => self.any_or_all((left, compare_op, right), "ALL", scope),
            Expr::UnaryOp { op, expr } => {
                let sign = match op {
                    UnaryOperator::Plus => "+ ",
                    UnaryOperator::Minus => "- ",
                    UnaryOperator::Not => "NOT ",
                    other => return self.not_here(&format!("“{other}”"), expression.span()),
                };
                let operand = self.expression(expr, scope)?;
                Ok(pieces(&[&Text::of("("), &Text::of(sign), &operand, &Text::of(")")]))
            }
            Expr::Cast { kind: CastKind::Cast | CastKind::DoubleColon, expr, data_type, format: None } => {
                let operand = self.expression(expr, scope)?;
                self.cast(&operand, data_type, expression.span())
            }
            Expr::AtTimeZone { timestamp, time_zone } => {
                self.between_two(timestamp, " AT TIME ZONE ", time_zone, scope)
            }
            Expr::Extract { field, expr, .. } => self.extract(field, expr, scope),
            Expr::Ceil { expr, field: CeilFloorKind::DateTimeField(DateTimeField::NoDateTime) } => {
                self.called("ceil", &[expr], scope)
            }
            Expr::Floor { expr, field: CeilFloorKind::DateTimeField(DateTimeField::NoDateTime) } => {
                self.called("floor", &[expr], scope)
            }
            Expr::Position { expr, r#in } => self.called("position", &[r#in, expr], scope),
            Expr::Substring { expr, substring_from, substring_for, .. } => {
                self.substring((expr, substring_from.as_deref(), substring_for.as_deref()), scope)
            }
            Expr::Trim { trim_where, trim_what, expr, trim_characters: None } => {
                let function = match trim_where {
                    Some(TrimWhereField::Leading) => "ltrim",
                    Some(TrimWhereField::Trailing) => "rtrim",
                    Some(TrimWhereField::Both) | None => "btrim",
                };
                let mut arguments: Vec<&Expr> = vec![expr];
                arguments.extend(trim_what.as_deref());
                self.called(function, &arguments, scope)
            }
            Expr::Collate { expr, collation } => self.collate(expr, collation, scope),
            Expr::TypedString(typed) if !typed.uses_odbc_syntax && string(&typed.value.value).is_some() => {
                let value = self.value(&typed.value)?;
                self.cast(&value, &typed.data_type, expression.span())
            }
            Expr::Interval(interval) => self.interval(interval, expression.span()),
            Expr::Function(function) => self.function(function, scope),
            Expr::Case { operand, conditions, else_result, .. } => {
                let mut text = Text::of("(CASE");
                if let Some(operand) = operand {
                    text.push(" ");
                    text.add(&self.expression(operand, scope)?);
                }
                for when in conditions {
                    text.push(" WHEN ");
                    text.add(&self.expression(&when.condition, scope)?);
                    text.push(" THEN ");
                    text.add(&self.expression(&when.result, scope)?);
                }
                if let Some(otherwise) = else_result {
                    text.push(" ELSE ");
                    text.add(&self.expression(otherwise, scope)?);
                }
                text.push(" END)");
                Ok(text)
            }
            Expr::Exists { subquery, negated } => {
                let words = if *negated { "(NOT EXISTS " } else { "(EXISTS " };
                let query = self.subquery(subquery, scope)?;
                Ok(pieces(&[&Text::of(words), &query, &Text::of(")")]))
            }
            Expr::Subquery(query) => self.subquery(query, scope),
            Expr::Tuple(values) => {
                let values = self.all(values, scope)?;
                Ok(pieces(&[&Text::of("ROW("), &values, &Text::of(")")]))
            }
            other => self.not_here("This", other.span()),
        }
    }

    /// A query that stands in an expression.
    fn subquery(&mut self, query: &Query, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        self.memory_users += 1;
        let written = self.query(query, &scope.inner())?;
        Ok(pieces(&[&Text::of("("), &written.text, &Text::of(")")]))
    }

    fn column(&self, ident: &Ident, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let column = folded(ident);
        let Some(weight) = scope.weight(&column) else {
            let sentence = if scope.item(&column).is_some() {
                format!("“{column}” is a table, and a column is needed here.")
            } else {
                self.no_column(&column, scope)
            };
            return self.refuse(sentence, ident.span);
        };
        let mut text = Text::default();
        text.mark(self.parsed.place(ident.span));
        text.weigh(weight);
        text.push(&name(&column));
        Ok(text)
    }

    /// A column of a table that is named.
    fn column_of(&self, parts: &[Ident], scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let [table, column] = parts else {
            let span = parts.first().map_or(Span::empty(), |part| part.span);
            return self.refuse("Name a column here as column, or as table.column.", span);
        };
        let Some(item) = scope.item(&folded(table)) else {
            return self.refuse(format!("There is no “{}” in FROM.", folded(table)), table.span);
        };
        let wanted = folded(column);
        let Some(found) = item.column(&wanted) else {
            return self.refuse(self.no_column(&wanted, scope), column.span);
        };
        let mut text = Text::default();
        text.mark(self.parsed.place(column.span));
        text.weigh(found.weight);
        text.push(&format!("{}.{}", name(&item.alias), name(&wanted)));
        Ok(text)
    }

    fn no_column(&self, column: &str, scope: &Scope<'_>) -> String {
        match scope.most_like(column) {
            Some(other) => {
                format!("There is no column “{column}” here. Perhaps {} is meant.", crate::queries::written(other))
            }
            None => format!("There is no column “{column}” here."),
        }
    }

    fn between_two(&mut self, a: &Expr, words: &str, b: &Expr, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let (a, b) = (self.expression(a, scope)?, self.expression(b, scope)?);
        Ok(pieces(&[&Text::of("("), &a, &Text::of(words), &b, &Text::of(")")]))
    }

    /// A chain of operators, which leans to the left and may be long.
    fn operators(&mut self, expression: &Expr, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let (mut first, mut steps) = (expression, Vec::new());
        while let Expr::BinaryOp { left, op, right } = first {
            steps.push((op, &**right));
            first = left;
        }
        let mut text = self.expression(first, scope)?;
        let mut before: Option<&Op> = None;
        for (op, right) in steps.into_iter().rev() {
            let operand = self.expression(right, scope)?;
            let sign = self.operator(op, right)?;
            let is_logical = matches!(op, Op::And | Op::Or);
            // A long list of alternatives stays flat.
            if !(is_logical && before == Some(op)) && before.is_some() {
                text = pieces(&[&Text::of("("), &text, &Text::of(")")]);
            }
            let mut together = pieces(&[&text, &Text::of(" ")]);
            together.mark(self.parsed.sign_before(right.span()));
            together.push(sign);
            together.push(" ");
            together.add(&operand);
            text = together;
            before = Some(op);
            if *op == Op::StringConcat {
                text = limited(&text, LONGEST_TEXT);
                before = None;
            }
        }
        Ok(pieces(&[&Text::of("("), &text, &Text::of(")")]))
    }

    fn operator(&self, op: &Op, right: &Expr) -> Result<&'static str, RewriteStop> {
        Ok(match op {
            Op::Plus => "+",
            Op::Minus => "-",
            Op::Multiply => "*",
            Op::Divide => "/",
            Op::Modulo => "%",
            Op::PGExp => "^",
            Op::StringConcat => "||",
            Op::Gt => ">",
            Op::Lt => "<",
            Op::GtEq => ">=",
            Op::LtEq => "<=",
            Op::Eq => "=",
            Op::NotEq => "<>",
            Op::And => "AND",
            Op::Or => "OR",
            Op::PGRegexMatch | Op::PGRegexIMatch | Op::PGRegexNotMatch | Op::PGRegexNotIMatch => {
                self.pattern(right)?;
                match op {
                    Op::PGRegexMatch => "~",
                    Op::PGRegexIMatch => "~*",
                    Op::PGRegexNotMatch => "!~",
                    _ => "!~*",
                }
            }
            other => {
                let place = self.parsed.sign_before(right.span());
                return Err(RewriteStop::Refused(format!("“{other}” cannot be used in a question."), place));
            }
        })
    }

    fn is_in(
        &mut self,
        value: &Expr,
        target: &InTarget,
        negated: bool,
        scope: &Scope<'_>,
    ) -> Result<Text, RewriteStop> {
        let value_text = self.expression(value, scope)?;
        let words = Text::of(if negated { " NOT IN " } else { " IN " });
        let set = match target {
            InTarget::List(values) if !values.is_empty() => {
                pieces(&[&Text::of("("), &self.all(values, scope)?, &Text::of(")")])
            }
            InTarget::Subquery(query) => self.subquery(query, scope)?,
            _ => return self.not_here("IN with anything but a list or a SELECT", value.span()),
        };
        Ok(pieces(&[&Text::of("("), &value_text, &words, &set, &Text::of(")")]))
    }

    fn like(
        &mut self,
        (value, words, pattern): (&Expr, &str, &Expr),
        escape: Option<&Expr>,
        scope: &Scope<'_>,
    ) -> Result<Text, RewriteStop> {
        let (value, pattern) = (self.expression(value, scope)?, self.expression(pattern, scope)?);
        let mut text = pieces(&[&Text::of("("), &value, &Text::of(words), &pattern]);
        if let Some(escape) = escape {
            text.push(&format!(" ESCAPE {}", literal(self.literal_text(escape, "What stands after ESCAPE")?)));
        }
        text.push(")");
        Ok(text)
    }

    fn any_or_all(
        &mut self,
        (left, op, right): (&Expr, &Op, &Expr),
        words: &str,
        scope: &Scope<'_>,
    ) -> Result<Text, RewriteStop> {
        let Expr::Subquery(query) = unnested(right) else {
            return self.refuse(format!("{words} takes a SELECT in brackets here."), right.span());
        };
        let sign = match op {
            Op::Eq | Op::NotEq | Op::Gt | Op::Lt | Op::GtEq | Op::LtEq => self.operator(op, right)?,
            other => return self.not_here(&format!("“{other} {words}”"), left.span()),
        };
        let left = self.expression(left, scope)?;
        let query = self.subquery(query, scope)?;
        Ok(pieces(&[&Text::of("("), &left, &Text::of(&format!(" {sign} {words} ")), &query, &Text::of(")")]))
    }

    pub(super) fn cast(&self, value: &Text, data_type: &DataType, span: Span) -> Result<Text, RewriteStop> {
        let Some((sql, _)) = types::allowed(data_type) else {
            return self.refuse(
                format!(
                    "A value cannot be cast to “{data_type}” here. Numbers (integer, bigint, numeric, double precision), text, boolean, date, time, timestamp and interval can be cast to."
                ),
                span,
            );
        };
        Ok(pieces(&[&Text::of("CAST("), value, &Text::of(&format!(" AS {sql})"))]))
    }

    fn extract(&mut self, field: &DateTimeField, value: &Expr, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let word = field.to_string().to_ascii_lowercase();
        if !FIELDS.contains(&word.as_str()) {
            return self.not_here(&format!("“{field}” of a day or a time"), value.span());
        }
        let value = self.expression(value, scope)?;
        Ok(pieces(&[&Text::of(&format!("EXTRACT({word} FROM ")), &value, &Text::of(")")]))
    }

    fn substring(
        &mut self,
        (value, from, length): (&Expr, Option<&Expr>, Option<&Expr>),
        scope: &Scope<'_>,
    ) -> Result<Text, RewriteStop> {
        let is_pattern = |e: &Expr| matches!(unnested(e), Expr::Value(value) if string(&value.value).is_some());
        if let Some(pattern) = from.filter(|from| is_pattern(from)) {
            if length.is_some() {
                return self.not_here("SUBSTRING with a pattern and an escape", value.span());
            }
            self.pattern(pattern)?;
            return self.called("substring", &[value, pattern], scope);
        }
        let mut text = Text::of("pg_catalog.\"substring\"(");
        text.add(&self.expression(value, scope)?);
        // As whole numbers, so that neither can be taken for a regular expression.
        for number in [Some(from), length.map(Some)].into_iter().flatten() {
            text.push(", CAST(");
            match number {
                Some(number) => text.add(&self.expression(number, scope)?),
                None => text.push("1"),
            }
            text.push(" AS integer)");
        }
        text.push(")");
        Ok(text)
    }

    fn collate(&mut self, value: &Expr, collation: &ObjectName, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let last = collation.0.last().and_then(|part| part.as_ident()).map(folded);
        match last.as_deref() {
            Some(plain @ ("C" | "POSIX")) if collation.0.len() == 1 => {
                let value = self.expression(value, scope)?;
                Ok(pieces(&[&Text::of("("), &value, &Text::of(&format!(" COLLATE pg_catalog.\"{plain}\")"))]))
            }
            _ => self.not_here("An order of letters other than \"C\"", collation.span()),
        }
    }

    fn interval(&self, interval: &Interval, span: Span) -> Result<Text, RewriteStop> {
        let plain = interval.leading_precision.is_none()
            && interval.last_field.is_none()
            && interval.fractional_seconds_precision.is_none();
        let unit = interval.leading_field.as_ref().map(|field| field.to_string().to_ascii_lowercase());
        match &*interval.value {
            Expr::Value(value) if plain && string(&value.value).is_some() => {
                let value = self.value(value)?;
                match unit {
                    None => Ok(pieces(&[&Text::of("CAST("), &value, &Text::of(" AS interval)")])),
                    Some(unit) if UNITS.contains(&unit.as_str()) => {
                        Ok(pieces(&[&Text::of("CAST("), &value, &Text::of(&format!(" AS interval {unit})"))]))
                    }
                    Some(_) => self.not_here("An interval in this unit", span),
                }
            }
            _ => self.refuse("Write an interval as INTERVAL '3 days'.", span),
        }
    }

    /// A function of the system's with these arguments, which were looked at.
    pub(super) fn called(
        &mut self,
        function: &str,
        arguments: &[&Expr],
        scope: &Scope<'_>,
    ) -> Result<Text, RewriteStop> {
        let arguments = self.all(arguments.iter().copied(), scope)?;
        Ok(pieces(&[&Text::of(&format!("pg_catalog.\"{function}\"(")), &arguments, &Text::of(")")]))
    }

    /// A number of at most so much that is written as such.
    pub(super) fn at_most(&self, number: &Expr, most: u64, what: &str) -> Result<(), RewriteStop> {
        match whole(number) {
            Some(number) if number <= most => Ok(()),
            _ => self.refuse(format!("{what} has to be written here as a number of at most {most}."), number.span()),
        }
    }
}

/// Pieces put together.
pub(super) fn pieces(pieces: &[&Text]) -> Text {
    let mut text = Text::default();
    for piece in pieces {
        text.add(piece);
    }
    text
}
