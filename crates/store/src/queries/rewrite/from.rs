//! What stands in FROM.

use sqlparser::ast::{
    FunctionArg, FunctionArgExpr, Join, JoinConstraint, JoinOperator, ObjectName, Spanned, TableAlias, TableFactor,
    TableFunctionArgs, TableWithJoins,
};
use sqlparser::tokenizer::Span;

use super::expression::pieces;
use super::functions::ROWS;
use super::scope::{FromItem, Scope, ScopeColumn};
use super::text::{Text, folded, name};
use super::{RewriteStop, Rewriter, TableLookup, no_table};

/// A part of a FROM that was written.
#[derive(Default)]
pub(super) struct From {
    pub text: Text,
    pub items: Vec<FromItem>,
    /// What `*` stands for: each column as it is written, and what it is.
    pub star: Vec<(String, ScopeColumn)>,
}

impl From {
    fn of(text: Text, item: FromItem) -> Self {
        let star =
            item.columns.iter().map(|column| (format!("{}.{}", name(&item.alias), name(&column.name)), column.clone()));
        Self { text, star: star.collect(), items: vec![item] }
    }
}

impl Rewriter<'_> {
    /// A whole FROM; `scope` is that of the query before anything stands in it.
    pub(super) fn from(&mut self, tables: &[TableWithJoins], scope: &Scope<'_>) -> Result<From, RewriteStop> {
        let mut all = From::default();
        for (at, table) in tables.iter().enumerate() {
            if at > 0 {
                self.memory_users += 1;
                all.text.push(", ");
            }
            let part = self.table_with_joins(table, scope, &all.items)?;
            all.text.add(&part.text);
            all.items.extend(part.items);
            all.star.extend(part.star);
        }
        Ok(all)
    }

    fn table_with_joins(
        &mut self,
        table: &TableWithJoins,
        scope: &Scope<'_>,
        before: &[FromItem],
    ) -> Result<From, RewriteStop> {
        let mut left = self.factor(&table.relation, scope, before)?;
        for Join { relation, global, join_operator } in &table.joins {
            if *global {
                return self.not_here("GLOBAL", relation.span());
            }
            self.memory_users += 1;
            let seen = [before, &left.items].concat();
            let right = self.factor(relation, scope, &seen)?;
            left = self.joined(left, right, join_operator, (scope, relation.span()))?;
        }
        Ok(left)
    }

    fn joined(
        &mut self,
        left: From,
        right: From,
        operator: &JoinOperator,
        (scope, span): (&Scope<'_>, Span),
    ) -> Result<From, RewriteStop> {
        let (words, constraint) = match operator {
            JoinOperator::Join(on) | JoinOperator::Inner(on) => (" JOIN ", on),
            JoinOperator::Left(on) | JoinOperator::LeftOuter(on) => (" LEFT JOIN ", on),
            JoinOperator::Right(on) | JoinOperator::RightOuter(on) => (" RIGHT JOIN ", on),
            JoinOperator::FullOuter(on) => (" FULL JOIN ", on),
            JoinOperator::CrossJoin(JoinConstraint::None) => (" CROSS JOIN ", &JoinConstraint::None),
            _ => return self.not_here("A join of this kind", span),
        };
        let mut text = pieces(&[&Text::of("("), &left.text, &Text::of(words), &right.text]);
        let items = [left.items, right.items].concat();
        let mut star = [left.star, right.star].concat();
        match constraint {
            JoinConstraint::None if words == " CROSS JOIN " => {}
            JoinConstraint::On(condition) => {
                // Only both sides of the join are seen there, and what is around the query.
                let condition = self.expression(condition, &Scope { items: &items, ..*scope })?;
                text.push(" ON ");
                text.add(&condition);
            }
            JoinConstraint::Using(columns) => {
                let mut shared = Vec::new();
                for column in columns {
                    let ident = column.0.first().and_then(|part| part.as_ident()).filter(|_| column.0.len() == 1);
                    let Some(ident) = ident else { return self.not_here("This in USING", column.span()) };
                    let word = folded(ident);
                    let both: Vec<u64> = items.iter().filter_map(|item| Some(item.column(&word)?.weight)).collect();
                    if both.len() < 2 {
                        return self.refuse(format!("Not both tables have a column “{word}”."), ident.span);
                    }
                    shared
                        .push(ScopeColumn { name: word, weight: both.iter().fold(0, |sum, w| sum.saturating_add(*w)) });
                }
                let names: Vec<String> = shared.iter().map(|column| name(&column.name)).collect();
                text.push(&format!(" USING ({})", names.join(", ")));
                star.retain(|(_, column)| shared.iter().all(|merged| merged.name != column.name));
                star.splice(0..0, shared.into_iter().map(|column| (name(&column.name), column)));
            }
            _ => return self.refuse("Say after the table by what it is joined: ON …, or USING (…).", span),
        }
        text.push(")");
        Ok(From { text, items, star })
    }

    fn factor(&mut self, factor: &TableFactor, scope: &Scope<'_>, before: &[FromItem]) -> Result<From, RewriteStop> {
        let span = factor.span();
        match factor {
            TableFactor::Table {
                name: table,
                alias,
                args: None,
                with_hints,
                version: None,
                with_ordinality: false,
                partitions,
                json_path: None,
                sample: None,
                index_directives,
                inheritance: None,
            } if with_hints.is_empty() && partitions.is_empty() && index_directives.is_empty() => {
                self.table(table, alias.as_ref(), scope)
            }
            TableFactor::Table {
                name,
                alias,
                args: Some(TableFunctionArgs { args, settings: None }),
                with_ordinality: false,
                sample: None,
                ..
            } => self.rows(name, args, alias.as_ref(), &Scope { items: before, ..*scope }),
            TableFactor::Function { name, args, with_ordinality: false, alias, .. } => {
                self.rows(name, args, alias.as_ref(), &Scope { items: before, ..*scope })
            }
            TableFactor::Derived { lateral, subquery, alias, sample: None } => {
                self.memory_users += 1;
                let around = Scope { items: before, ..*scope };
                let around = if *lateral { around.inner() } else { scope.inner() };
                let query = self.query(subquery, &around)?;
                let words = if *lateral { "LATERAL (" } else { "(" };
                let (own, columns) = self.aliased(alias.as_ref(), "rows", query.columns, span)?;
                let item = FromItem { name: own.0, alias: own.1, columns };
                let text = pieces(&[&Text::of(words), &query.text, &Text::of(&format!(") AS {}", listed(&item)))]);
                Ok(From::of(text, item))
            }
            TableFactor::NestedJoin { table_with_joins, alias: None } => {
                self.table_with_joins(table_with_joins, scope, before)
            }
            TableFactor::NestedJoin { alias: Some(_), .. } => {
                self.refuse("Tables that are joined in brackets cannot be given a name here; name each of them.", span)
            }
            _ => self.not_here("This", span),
        }
    }

    /// A table, or a query that WITH gave a name.
    fn table(
        &mut self,
        table: &ObjectName,
        alias: Option<&TableAlias>,
        scope: &Scope<'_>,
    ) -> Result<From, RewriteStop> {
        let span = table.span();
        let parts: Vec<String> = table.0.iter().filter_map(|part| part.as_ident()).map(folded).collect();
        let Some(last) = parts.last().filter(|_| parts.len() == table.0.len()) else {
            return self.not_here("This", span);
        };
        let mut text = Text::default();
        text.mark(self.parsed.place(span));
        let (columns, is_renamed) = match scope.named(last).filter(|_| parts.len() == 1) {
            Some(named) => {
                text.push(&name(&named.alias));
                (named.columns.clone(), true)
            }
            None => match self.relations.find(&parts) {
                TableLookup::Found(relation) => {
                    text.push(&format!("{}.{}", name(&relation.schema), name(&relation.name)));
                    (relation.columns.into_iter().map(ScopeColumn::stored).collect(), relation.is_renamed)
                }
                TableLookup::Missing => return self.refuse(no_table(&parts), span),
                TableLookup::Unknown => return Err(RewriteStop::Unknown(parts)),
            },
        };
        let (own, columns) = self.aliased(alias, last, columns, span)?;
        let item = FromItem { name: own.0, alias: own.1, columns };
        let is_renamed = is_renamed || alias.is_some_and(|alias| !alias.columns.is_empty());
        text.push(&format!(" AS {}", if is_renamed { listed(&item) } else { name(&item.alias) }));
        Ok(From::of(text, item))
    }

    /// A function that gives rows.
    fn rows(
        &mut self,
        function: &ObjectName,
        args: &[FunctionArg],
        alias: Option<&TableAlias>,
        scope: &Scope<'_>,
    ) -> Result<From, RewriteStop> {
        let span = function.span();
        let word = match function.0.as_slice() {
            [part] => part.as_ident().map(folded),
            _ => None,
        };
        let Some(word) = word.filter(|word| ROWS.contains(&word.as_str())) else {
            return self.refuse(format!("There is no function “{function}” that gives rows to a question."), span);
        };
        self.memory_users += 1;
        let mut text = Text::default();
        text.mark(self.parsed.place(span));
        let mut arguments = Vec::new();
        for arg in args {
            let FunctionArg::Unnamed(FunctionArgExpr::Expr(argument)) = arg else {
                return self.not_here("An argument written like this", span);
            };
            arguments.push(argument);
        }
        text.add(&self.called(&word, &arguments, scope)?);
        // Its one column is called as it is.
        let called = alias.map_or(word.clone(), |alias| folded(&alias.name));
        let (own, columns) = self.aliased(alias, &word, vec![ScopeColumn::stored(called)], span)?;
        let item = FromItem { name: own.0, alias: own.1, columns };
        text.push(&format!(" AS {}", listed(&item)));
        Ok(From::of(text, item))
    }

    /// What a thing of a FROM is called, in the question and for the database, and its columns.
    fn aliased(
        &mut self,
        alias: Option<&TableAlias>,
        otherwise: &str,
        mut columns: Vec<ScopeColumn>,
        span: Span,
    ) -> Result<((String, String), Vec<ScopeColumn>), RewriteStop> {
        let own = match alias {
            None => otherwise.to_owned(),
            Some(TableAlias { name, columns: renamed, at: None, .. }) => {
                if renamed.len() > columns.len() {
                    return self
                        .refuse(format!("{} names are given to {} columns.", renamed.len(), columns.len()), name.span);
                }
                for (column, new) in columns.iter_mut().zip(renamed) {
                    if new.data_type.is_some() {
                        return self.not_here("A type in a list of names", new.name.span);
                    }
                    column.name = folded(&new.name);
                }
                folded(name)
            }
            Some(_) => return self.not_here("A name given like this", span),
        };
        let unique = self.alias(&own);
        Ok(((own, unique), columns))
    }
}

/// What the database is told that a thing is called, with its columns.
fn listed(item: &FromItem) -> String {
    let columns: Vec<String> = item.columns.iter().map(|column| name(&column.name)).collect();
    format!("{}({})", name(&item.alias), columns.join(", "))
}
