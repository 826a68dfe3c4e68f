//! Queries: WITH, SELECT, UNION and their like, ORDER BY, LIMIT.

use sqlparser::ast::{
    Cte, CteAsMaterialized, Distinct, Expr, Fetch, GroupByExpr, LimitClause, NamedWindowDefinition, NamedWindowExpr,
    OrderBy, OrderByKind, Query, Select, SelectFlavor, SelectItem, SelectItemQualifiedWildcardKind, SetExpr,
    SetOperator, SetQuantifier, Spanned, TableAlias, Values, WildcardAdditionalOptions, With,
};
use sqlparser::tokenizer::Span;

use super::columns::name_of;
use super::expression::pieces;
use super::from::From;
use super::scope::{NamedQuery, Scope, ScopeColumn};
use super::text::{Text, folded, name};
use super::{RewriteStop, Rewriter, RewrittenQuery};

/// In how many ways GROUPING SETS, CUBE and ROLLUP may group at once.
const MOST_GROUPINGS: usize = 16;

impl Rewriter<'_> {
    /// A query with all that belongs to it; `scope` is that around it.
    pub(super) fn query(&mut self, query: &Query, scope: &Scope<'_>) -> Result<RewrittenQuery, RewriteStop> {
        let Query {
            with,
            body,
            order_by,
            limit_clause,
            fetch,
            locks,
            for_clause,
            settings,
            format_clause,
            pipe_operators,
        } = query;
        let is_plain = locks.is_empty()
            && for_clause.is_none()
            && settings.is_none()
            && format_clause.is_none()
            && pipe_operators.is_empty();
        if !is_plain {
            return self.not_here("This", query.span());
        }
        let mut text = Text::default();
        let mut named = Vec::new();
        if let Some(with) = with {
            text.add(&self.with(with, scope, &mut named)?);
        }
        let own = Scope { named: &named, outer: Some(scope), ..Scope::default() };
        let written = self.body(body, order_by.as_ref(), &own)?;
        text.add(&written.text);
        if let Some(limit) = limit_clause {
            text.add(&self.limit(limit, &own)?);
        }
        if let Some(Fetch { with_ties, percent, quantity }) = fetch {
            if *percent {
                return self.not_here("A limit in per cent", query.span());
            }
            text.push(" FETCH FIRST (");
            match quantity {
                Some(quantity) => text.add(&self.expression(quantity, &own)?),
                None => text.push("1"),
            }
            text.push(if *with_ties { ") ROWS WITH TIES" } else { ") ROWS ONLY" });
        }
        Ok(RewrittenQuery { text, columns: written.columns })
    }

    fn with(&mut self, with: &With, scope: &Scope<'_>, named: &mut Vec<NamedQuery>) -> Result<Text, RewriteStop> {
        if with.recursive {
            return self.refuse("RECURSIVE is not allowed: such a query may never come to an end.", with.span());
        }
        let mut written = Vec::new();
        for Cte { alias, query, from, materialized, .. } in &with.cte_tables {
            let TableAlias { name: ident, columns: renamed, at, .. } = alias;
            if from.is_some() || at.is_some() {
                return self.not_here("A name given like this", ident.span);
            }
            self.memory_users += 1;
            let before = Scope { named, outer: Some(scope), ..Scope::default() };
            let inner = self.query(query, &before.inner())?;
            let mut columns = inner.columns;
            if renamed.len() > columns.len() {
                return self
                    .refuse(format!("{} names are given to {} columns.", renamed.len(), columns.len()), ident.span);
            }
            for (column, new) in columns.iter_mut().zip(renamed) {
                column.name = folded(&new.name);
            }
            let own = folded(ident);
            let unique = self.alias(&own);
            let list: Vec<String> = columns.iter().map(|column| name(&column.name)).collect();
            let words = match materialized {
                None => "",
                Some(CteAsMaterialized::Materialized) => "MATERIALIZED ",
                Some(CteAsMaterialized::NotMaterialized) => "NOT MATERIALIZED ",
            };
            let head = Text::of(&format!("{}({}) AS {words}(", name(&unique), list.join(", ")));
            written.push(pieces(&[&head, &inner.text, &Text::of(")")]));
            named.push(NamedQuery { name: own, alias: unique, columns });
        }
        let mut text = Text::of("WITH ");
        text.add_all(&written, ", ");
        text.push(" ");
        Ok(text)
    }

    fn body(
        &mut self,
        body: &SetExpr,
        order_by: Option<&OrderBy>,
        scope: &Scope<'_>,
    ) -> Result<RewrittenQuery, RewriteStop> {
        let mut written = match body {
            // What a SELECT comes from can be sorted by.
            SetExpr::Select(select) => return self.select(select, order_by, scope),
            SetExpr::Query(query) => {
                let inner = self.query(query, &scope.inner())?;
                RewrittenQuery { text: pieces(&[&Text::of("("), &inner.text, &Text::of(")")]), columns: inner.columns }
            }
            SetExpr::SetOperation { left, op, set_quantifier, right } => {
                self.memory_users += 1;
                let words = match op {
                    SetOperator::Union => " UNION ",
                    SetOperator::Except => " EXCEPT ",
                    SetOperator::Intersect => " INTERSECT ",
                    SetOperator::Minus => return self.not_here("MINUS", body.span()),
                };
                let all = match set_quantifier {
                    SetQuantifier::None | SetQuantifier::Distinct => "",
                    SetQuantifier::All => "ALL ",
                    _ => return self.not_here("BY NAME", body.span()),
                };
                let (left, right) = (self.body(left, None, scope)?, self.body(right, None, scope)?);
                let parts = [
                    &Text::of("("),
                    &left.text,
                    &Text::of(")"),
                    &Text::of(words),
                    &Text::of(all),
                    &Text::of("("),
                    &right.text,
                    &Text::of(")"),
                ];
                RewrittenQuery { text: pieces(&parts), columns: summed(left.columns, &right.columns) }
            }
            SetExpr::Values(Values { explicit_row: false, rows, .. }) => {
                let (mut lines, mut weight) = (Vec::new(), 1);
                for row in rows {
                    let values = self.all(&row.content, scope)?;
                    weight = weight.max(values.weight());
                    lines.push(pieces(&[&Text::of("("), &values, &Text::of(")")]));
                }
                let columns = rows.first().map_or(0, |row| row.content.len());
                let mut text = Text::of("VALUES ");
                text.add_all(&lines, ", ");
                RewrittenQuery {
                    text,
                    columns: (1..=columns).map(|n| ScopeColumn { name: format!("column{n}"), weight }).collect(),
                }
            }
            other => return self.not_here("This", other.span()),
        };
        if let Some(order_by) = order_by {
            let sorted = Scope { outputs: &written.columns, ..*scope };
            let order = self.order_by(order_by, &sorted)?;
            written.text.add(&order);
        }
        Ok(written)
    }

    fn order_by(&mut self, order_by: &OrderBy, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let OrderBy { kind, interpolate } = order_by;
        let OrderByKind::Expressions(orders) = kind else { return self.not_here("ORDER BY ALL", Span::empty()) };
        if interpolate.is_some() {
            return self.not_here("INTERPOLATE", Span::empty());
        }
        self.memory_users += 1;
        let orders = self.orders(orders, scope)?;
        Ok(pieces(&[&Text::of(" ORDER BY "), &orders]))
    }

    fn limit(&mut self, limit: &LimitClause, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let LimitClause::LimitOffset { limit, offset, limit_by } = limit else {
            return self.refuse("Write LIMIT … OFFSET …, with both words.", Span::empty());
        };
        if !limit_by.is_empty() {
            return self.not_here("LIMIT … BY", Span::empty());
        }
        let mut text = Text::default();
        let offset = offset.as_ref().map(|offset| &offset.value);
        for (words, number) in [(" LIMIT ", limit.as_ref()), (" OFFSET ", offset)] {
            if let Some(number) = number {
                text.push(words);
                let number = self.expression(number, scope)?;
                text.add(&pieces(&[&Text::of("("), &number, &Text::of(")")]));
            }
        }
        Ok(text)
    }

    fn select(
        &mut self,
        select: &Select,
        order_by: Option<&OrderBy>,
        scope: &Scope<'_>,
    ) -> Result<RewrittenQuery, RewriteStop> {
        let Select {
            select_token: _,
            optimizer_hints,
            distinct,
            select_modifiers,
            top,
            top_before_distinct: _,
            projection,
            exclude,
            into,
            from,
            lateral_views,
            prewhere,
            selection,
            connect_by,
            group_by,
            cluster_by,
            distribute_by,
            sort_by,
            having,
            named_window,
            qualify,
            window_before_qualify: _,
            value_table_mode,
            flavor,
        } = select;
        let is_plain = optimizer_hints.is_empty()
            && select_modifiers.is_none()
            && top.is_none()
            && exclude.is_none()
            && into.is_none()
            && lateral_views.is_empty()
            && prewhere.is_none()
            && connect_by.is_empty()
            && cluster_by.is_empty()
            && distribute_by.is_empty()
            && sort_by.is_empty()
            && qualify.is_none()
            && value_table_mode.is_none()
            && *flavor == SelectFlavor::Standard;
        if !is_plain || projection.is_empty() {
            return self
                .refuse("Write it as SELECT … FROM … WHERE … GROUP BY … HAVING … ORDER BY … LIMIT ….", select.span());
        }
        let from = self.from(from, scope)?;
        let windows: Vec<String> = named_window.iter().map(|window| folded(&window.0)).collect();
        let inside = Scope { items: &from.items, windows: &windows, ..*scope };
        let columns = self.projection(projection, &from, &inside)?;
        let outputs = columns.iter().map(|(text, name)| ScopeColumn { name: name.clone(), weight: text.weight() });
        let outputs: Vec<ScopeColumn> = outputs.collect();
        let grouping = Scope { outputs: &outputs, ..inside };
        let mut text = Text::of("SELECT ");
        match distinct {
            None | Some(Distinct::All) => {}
            Some(Distinct::Distinct) => {
                self.memory_users += 1;
                text.push("DISTINCT ");
            }
            Some(Distinct::On(on)) => {
                self.memory_users += 1;
                let on = self.all(on, &grouping)?;
                text.add(&pieces(&[&Text::of("DISTINCT ON ("), &on, &Text::of(") ")]));
            }
        }
        for (at, (column, called)) in columns.iter().enumerate() {
            text.push(if at > 0 { ", " } else { "" });
            text.add(column);
            text.push(&format!(" AS {}", name(called)));
        }
        if !from.items.is_empty() {
            text.push(" FROM ");
            text.add(&from.text);
        }
        if let Some(condition) = selection {
            text.push(" WHERE ");
            text.add(&self.expression(condition, &inside)?);
        }
        text.add(&self.group_by(group_by, &grouping)?);
        if let Some(condition) = having {
            text.push(" HAVING ");
            text.add(&self.expression(condition, &inside)?);
        }
        text.add(&self.windows(named_window, &inside)?);
        if let Some(order_by) = order_by {
            text.add(&self.order_by(order_by, &grouping)?);
        }
        Ok(RewrittenQuery { text, columns: outputs })
    }

    /// Each column that comes out, and what it is called.
    fn projection(
        &mut self,
        projection: &[SelectItem],
        from: &From,
        scope: &Scope<'_>,
    ) -> Result<Vec<(Text, String)>, RewriteStop> {
        let mut columns = Vec::new();
        for item in projection {
            match item {
                SelectItem::UnnamedExpr(expression) => {
                    columns.push((self.expression(expression, scope)?, name_of(expression)));
                }
                SelectItem::ExprWithAlias { expr, alias } => {
                    columns.push((self.expression(expr, scope)?, folded(alias)));
                }
                SelectItem::Wildcard(options) if is_bare(options) => {
                    if from.items.is_empty() {
                        return self.refuse("* needs a FROM.", item.span());
                    }
                    columns
                        .extend(from.star.iter().map(|(sql, column)| (column_text(sql, column), column.name.clone())));
                }
                SelectItem::QualifiedWildcard(SelectItemQualifiedWildcardKind::ObjectName(table), options)
                    if is_bare(options) && table.0.len() == 1 =>
                {
                    let word = table.0.first().and_then(|part| part.as_ident()).map(folded).unwrap_or_default();
                    let Some(item) = scope.items.iter().find(|item| item.name == word) else {
                        return self.refuse(format!("There is no “{word}” in FROM."), table.span());
                    };
                    let sql = |column: &ScopeColumn| format!("{}.{}", name(&item.alias), name(&column.name));
                    let all = item.columns.iter().map(|c| (column_text(&sql(c), c), c.name.clone()));
                    columns.extend(all);
                }
                other => return self.not_here("This", other.span()),
            }
        }
        Ok(columns)
    }

    fn group_by(&mut self, group_by: &GroupByExpr, scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let GroupByExpr::Expressions(expressions, modifiers) = group_by else {
            return self.not_here("GROUP BY ALL", Span::empty());
        };
        if !modifiers.is_empty() {
            return self.not_here("WITH ROLLUP and its like", group_by.span());
        }
        if expressions.is_empty() {
            return Ok(Text::default());
        }
        let (mut parts, mut groupings) = (Vec::new(), 1);
        for expression in expressions {
            let (words, sets) = match expression {
                Expr::GroupingSets(sets) => ("GROUPING SETS", sets),
                Expr::Cube(sets) => ("CUBE", sets),
                Expr::Rollup(sets) => ("ROLLUP", sets),
                other => {
                    parts.push(self.expression(other, scope)?);
                    continue;
                }
            };
            groupings *= match expression {
                Expr::GroupingSets(_) => sets.len(),
                Expr::Cube(_) => 1 << sets.len().min(MOST_GROUPINGS),
                _ => sets.len() + 1,
            };
            if groupings > MOST_GROUPINGS {
                return self.refuse(
                    format!("This groups in {groupings} ways at once, and {MOST_GROUPINGS} are allowed."),
                    expression.span(),
                );
            }
            let mut written = Vec::new();
            for set in sets {
                let columns = self.all(set, scope)?;
                written.push(pieces(&[&Text::of("("), &columns, &Text::of(")")]));
            }
            let mut text = Text::of(&format!("{words} ("));
            text.add_all(&written, ", ");
            text.push(")");
            parts.push(text);
        }
        self.memory_users += groupings;
        let mut text = Text::of(" GROUP BY ");
        text.add_all(&parts, ", ");
        Ok(text)
    }

    fn windows(&mut self, windows: &[NamedWindowDefinition], scope: &Scope<'_>) -> Result<Text, RewriteStop> {
        let mut written = Vec::new();
        for NamedWindowDefinition(window, definition) in windows {
            let NamedWindowExpr::WindowSpec(spec) = definition else {
                return self.not_here("A window that is another one", window.span);
            };
            let spec = self.window(spec, scope)?;
            written.push(pieces(&[&Text::of(&format!("{} AS ", name(&folded(window)))), &spec]));
        }
        let mut text = Text::of(if written.is_empty() { "" } else { " WINDOW " });
        text.add_all(&written, ", ");
        Ok(text)
    }
}

/// Columns of two queries put below each other, of which each may be put in the place of its name.
fn summed(mut left: Vec<ScopeColumn>, right: &[ScopeColumn]) -> Vec<ScopeColumn> {
    for (column, other) in left.iter_mut().zip(right) {
        column.weight = column.weight.saturating_add(other.weight);
    }
    left
}

/// A column that an asterisk stands for.
fn column_text(sql: &str, column: &ScopeColumn) -> Text {
    let mut text = Text::of(sql);
    text.weigh(column.weight);
    text
}

/// Whether an asterisk stands alone.
fn is_bare(options: &WildcardAdditionalOptions) -> bool {
    let WildcardAdditionalOptions {
        wildcard_token: _,
        opt_ilike,
        opt_exclude,
        opt_except,
        opt_replace,
        opt_rename,
        opt_alias,
    } = options;
    opt_ilike.is_none()
        && opt_exclude.is_none()
        && opt_except.is_none()
        && opt_replace.is_none()
        && opt_rename.is_none()
        && opt_alias.is_none()
}
