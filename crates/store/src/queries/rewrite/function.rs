//! Calls of functions.

use sqlparser::ast::{
    DuplicateTreatment, Expr, Function, FunctionArg, FunctionArgExpr, FunctionArgumentList, FunctionArguments,
    OrderByExpr, Spanned, WindowFrameBound, WindowFrameUnits, WindowSpec, WindowType,
};

use super::expression::pieces;
use super::functions::{Call, TextGrowth, WITHOUT_BRACKETS, allowed};
use super::literal::unnested;
use super::scope::Scope;
use super::text::{Text, folded, name};
use super::{LONGEST_TEXT, RewriteStop, Rewriter, limited};

/// The longest pattern by which a number or a day is written.
const LONGEST_FORMAT: usize = 200;

/// The longest text that is put in place of others.
const LONGEST_REPLACEMENT: usize = 1_000;

/// The length up to which a text may be filled.
const LONGEST_PADDED: u64 = 10_000;

impl Rewriter<'_> {
    pub(super) fn function(&mut self, function: &Function, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let Function { name, uses_odbc_syntax, parameters, args, within_group, filter, null_treatment, over } =
            function;
        let span = name.span();
        let idents: Vec<String> = name.0.iter().filter_map(|part| part.as_ident()).map(folded).collect();
        let word = match idents.as_slice() {
            [word] if name.0.len() == 1 => word.as_str(),
            [schema, word] if name.0.len() == 2 && schema == "pg_catalog" => word.as_str(),
            _ => return self.refuse(format!("There is no function “{name}” that a question may call."), span),
        };
        let mut text = Text::default();
        text.mark(self.parsed.place(span));
        if matches!(args, FunctionArguments::None) && WITHOUT_BRACKETS.contains(&word) {
            text.push(word);
            return Ok(text);
        }
        let Some((call, growth)) = allowed(word) else {
            return self.refuse(format!("There is no function “{word}” that a question may call."), span);
        };
        if *uses_odbc_syntax || !matches!(parameters, FunctionArguments::None) || null_treatment.is_some() {
            return self.not_here("A call written like this", span);
        }
        let FunctionArguments::List(FunctionArgumentList { duplicate_treatment, args, clauses }) = args else {
            return self.not_here("A call written like this", span);
        };
        if !clauses.is_empty() {
            return self.not_here("An order or a limit inside a call", span);
        }
        let is_distinct = matches!(duplicate_treatment, Some(DuplicateTreatment::Distinct));
        let only_for = |calls: &[Call], is_there: bool| !is_there || calls.contains(&call);
        if !only_for(&[Call::Aggregate], duplicate_treatment.is_some())
            || !only_for(&[Call::Aggregate, Call::Ordered], filter.is_some())
            || !only_for(&[Call::Aggregate, Call::Window], over.is_some())
            || (call == Call::Ordered) == within_group.is_empty()
            || (call == Call::Window && over.is_none())
        {
            return self.refuse(wrong_call(word, call), span);
        }
        let head = if call == Call::Syntax { word.to_uppercase() } else { format!("pg_catalog.\"{word}\"") };
        text.push(&head);
        text.push("(");
        match args.as_slice() {
            [FunctionArg::Unnamed(FunctionArgExpr::Wildcard)] if word == "count" && !is_distinct => text.push("*"),
            args => {
                let expressions = self.plain_arguments(args, function)?;
                if is_distinct {
                    self.memory_users += 1;
                    text.push("DISTINCT ");
                }
                text.add(&self.arguments(&expressions, growth, scope)?);
            }
        }
        text.push(")");
        if !within_group.is_empty() {
            self.memory_users += 1;
            text.push(" WITHIN GROUP (ORDER BY ");
            text.add(&self.orders(within_group, scope)?);
            text.push(")");
        }
        if let Some(filter) = filter {
            text.push(" FILTER (WHERE ");
            text.add(&self.expression(filter, scope)?);
            text.push(")");
        }
        if let Some(over) = over {
            self.memory_users += 1;
            text.push(" OVER ");
            match over {
                WindowType::NamedWindow(window) => text.add(&self.named_window(window, scope)?),
                WindowType::WindowSpec(spec) => text.add(&self.window(spec, scope)?),
            }
        }
        Ok(match growth {
            TextGrowth::None | TextGrowth::Padded | TextGrowth::Formatted | TextGrowth::Matched => text,
            TextGrowth::Sum | TextGrowth::Replaced | TextGrowth::MatchedReplaced => limited(&text, LONGEST_TEXT),
        })
    }

    fn plain_arguments<'e>(&self, args: &'e [FunctionArg], function: &Function) -> Result<Vec<&'e Expr>, RewriteStop> {
        let plain = args.iter().map(|arg| match arg {
            FunctionArg::Unnamed(FunctionArgExpr::Expr(expression)) => Ok(expression),
            _ => self.not_here("An argument written like this", function.name.span()),
        });
        plain.collect()
    }

    /// The arguments, as far as they can make a text longer within limits.
    fn arguments(&mut self, arguments: &[&Expr], growth: TextGrowth, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        // How long the first argument may be, so that what comes of it is not too long.
        let mut most_first = None;
        match (growth, arguments) {
            (TextGrowth::Replaced, [_, _, replacement]) => {
                let length = self.replacement(replacement)?;
                most_first = Some(LONGEST_TEXT / length.max(1));
            }
            (TextGrowth::MatchedReplaced, [_, pattern, replacement, rest @ ..]) => {
                self.pattern(pattern)?;
                let length = self.replacement(replacement)?;
                for flags in rest {
                    self.literal_text(flags, "What says how to replace")?;
                }
                most_first = Some(LONGEST_TEXT / (length + 1));
            }
            (TextGrowth::Matched, [_, pattern, ..]) => {
                self.pattern(pattern)?;
            }
            (TextGrowth::Padded, [_, length, ..]) => self.at_most(length, LONGEST_PADDED, "The length")?,
            (TextGrowth::Formatted, [_, format]) => {
                let pattern = self.literal_text(format, "How to write it")?;
                if pattern.chars().count() > LONGEST_FORMAT {
                    return self
                        .refuse(format!("This has at most {LONGEST_FORMAT} characters."), unnested(format).span());
                }
            }
            // With too few arguments the database says so.
            _ => {}
        }
        let Some(most) = most_first else { return self.all(arguments.iter().copied(), scope) };
        let (Some(first), rest) = (arguments.first(), arguments.get(1..).unwrap_or_default()) else {
            return Ok(Text::default());
        };
        let first = self.expression(first, scope)?;
        let rest = self.all(rest.iter().copied(), scope)?;
        Ok(pieces(&[&limited(&first, most), &Text::of(", "), &rest]))
    }

    /// The characters of a text that is put in place of others.
    fn replacement(&self, replacement: &Expr) -> Result<usize, RewriteStop> {
        let length = self.literal_text(replacement, "What is put in")?.chars().count();
        if length > LONGEST_REPLACEMENT {
            return self.refuse(
                format!("What is put in has at most {LONGEST_REPLACEMENT} characters."),
                unnested(replacement).span(),
            );
        }
        Ok(length)
    }

    pub(super) fn orders(&mut self, orders: &[OrderByExpr], scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let mut written = Vec::new();
        for OrderByExpr { expr, options, with_fill } in orders {
            let mut text = self.expression(expr, scope)?;
            use sqlparser::ast::OrderBySort as Sort;
            match &options.sort {
                None => {}
                Some(Sort::Asc) => text.push(" ASC"),
                Some(Sort::Desc) => text.push(" DESC"),
                Some(Sort::Using(_)) => return self.not_here("ORDER BY … USING", expr.span()),
            }
            match options.nulls_first {
                None => {}
                Some(true) => text.push(" NULLS FIRST"),
                Some(false) => text.push(" NULLS LAST"),
            }
            if with_fill.is_some() {
                return self.not_here("WITH FILL", expr.span());
            }
            written.push(text);
        }
        let mut text = Text::default();
        text.add_all(&written, ", ");
        Ok(text)
    }

    pub(super) fn named_window(&self, window: &sqlparser::ast::Ident, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let word = folded(window);
        if !scope.windows.contains(&word) {
            return self.refuse(format!("There is no window “{word}” here."), window.span);
        }
        Ok(Text::of(&name(&word)))
    }

    pub(super) fn window(&mut self, spec: &WindowSpec, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let WindowSpec { window_name, partition_by, order_by, window_frame } = spec;
        let mut parts = Vec::new();
        if let Some(window) = window_name {
            parts.push(self.named_window(window, scope)?);
        }
        if !partition_by.is_empty() {
            let columns = self.all(partition_by, scope)?;
            parts.push(pieces(&[&Text::of("PARTITION BY "), &columns]));
        }
        if !order_by.is_empty() {
            let orders = self.orders(order_by, scope)?;
            parts.push(pieces(&[&Text::of("ORDER BY "), &orders]));
        }
        if let Some(frame) = window_frame {
            let units = match frame.units {
                WindowFrameUnits::Rows => "ROWS ",
                WindowFrameUnits::Range => "RANGE ",
                WindowFrameUnits::Groups => "GROUPS ",
            };
            let start = self.bound(&frame.start_bound, scope)?;
            parts.push(match &frame.end_bound {
                None => pieces(&[&Text::of(units), &start]),
                Some(end) => {
                    let end = self.bound(end, scope)?;
                    pieces(&[&Text::of(units), &Text::of("BETWEEN "), &start, &Text::of(" AND "), &end])
                }
            });
        }
        let mut text = Text::of("(");
        text.add_all(&parts, " ");
        text.push(")");
        Ok(text)
    }

    fn bound(&mut self, bound: &WindowFrameBound, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let (rows, words) = match bound {
            WindowFrameBound::CurrentRow => return Ok(Text::of("CURRENT ROW")),
            WindowFrameBound::Preceding(rows) => (rows, "PRECEDING"),
            WindowFrameBound::Following(rows) => (rows, "FOLLOWING"),
        };
        let rows = match rows {
            None => Text::of("UNBOUNDED"),
            Some(rows) => self.expression(rows, scope)?,
        };
        Ok(pieces(&[&rows, &Text::of(" "), &Text::of(words)]))
    }
}

fn wrong_call(word: &str, call: Call) -> String {
    match call {
        Call::Window => format!("“{word}” looks at the rows around one: write {word}(…) OVER (ORDER BY …)."),
        Call::Ordered => format!("“{word}” needs an order: write {word}(…) WITHIN GROUP (ORDER BY …)."),
        Call::Scalar | Call::Syntax => {
            format!("“{word}” takes the values of one row, so that DISTINCT, FILTER and OVER mean nothing with it.")
        }
        Call::Aggregate => format!("“{word}” cannot be called like this."),
    }
}
