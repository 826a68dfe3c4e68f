//! What a column that comes out is called when the question does not say: as PostgreSQL calls it.

use sqlparser::ast::{Expr, SelectItem, SetExpr, TrimWhereField, Value};

use super::text::folded;
use super::types;

/// What PostgreSQL calls what it has no name for.
const NAMELESS: &str = "?column?";

/// The name of an expression that was given none.
pub(super) fn name_of(expression: &Expr) -> String {
    name(expression).map_or_else(|| NAMELESS.to_owned(), |(name, _)| name)
}

/// A name, and whether it is better than that of a type or of CASE.
fn name(expression: &Expr) -> Option<(String, bool)> {
    let good = |name: &str| Some((name.to_owned(), true));
    match expression {
        Expr::Identifier(ident) => Some((folded(ident), true)),
        Expr::CompoundIdentifier(parts) => parts.last().map(|ident| (folded(ident), true)),
        Expr::Nested(inner) => name(inner),
        Expr::Collate { expr, .. } => name(expr),
        Expr::Function(function) => {
            let last = function.name.0.last().and_then(|part| part.as_ident());
            last.map(|ident| (folded(ident), true))
        }
        Expr::Cast { expr, data_type, .. } => match name(expr) {
            Some((own, true)) => Some((own, true)),
            _ => types::allowed(data_type).map(|(_, name)| (name.to_owned(), false)),
        },
        Expr::TypedString(typed) => types::allowed(&typed.data_type).map(|(_, name)| (name.to_owned(), false)),
        Expr::Interval(_) => Some(("interval".to_owned(), false)),
        Expr::Value(value) if matches!(value.value, Value::Boolean(_)) => Some(("bool".to_owned(), false)),
        Expr::Case { else_result, .. } => match else_result.as_deref().and_then(name) {
            Some((own, true)) => Some((own, true)),
            _ => Some(("case".to_owned(), false)),
        },
        Expr::Exists { .. } => good("exists"),
        Expr::Subquery(query) => match &*query.body {
            SetExpr::Select(select) => match select.projection.first()? {
                SelectItem::UnnamedExpr(expression) => Some((name(expression)?.0, true)),
                SelectItem::ExprWithAlias { alias, .. } => Some((folded(alias), true)),
                _ => None,
            },
            _ => None,
        },
        Expr::Tuple(_) => good("row"),
        Expr::AtTimeZone { .. } => good("timezone"),
        Expr::Extract { .. } => good("extract"),
        Expr::Ceil { .. } => good("ceil"),
        Expr::Floor { .. } => good("floor"),
        Expr::Position { .. } => good("position"),
        Expr::Substring { .. } => good("substring"),
        Expr::Trim { trim_where, .. } => good(match trim_where {
            Some(TrimWhereField::Leading) => "ltrim",
            Some(TrimWhereField::Trailing) => "rtrim",
            _ => "btrim",
        }),
        _ => None,
    }
}
