//! The customers of a scored list, sorted and filtered.

use pronoia_core::expression::{Expression, ExpressionError, Type};
use pronoia_core::score::{BAND, DECISION, GAIN, PROBABILITY};
use pronoia_service::ServiceError;
use pronoia_service::scored_list::ADDED;
use pronoia_service::text;
use pronoia_store::records::{Sort, StoredColumn, TablePage};
use pronoia_store::{StoreError, record_table};
use serde::Deserialize;

use crate::App;
use crate::frame::encoded;
use crate::pager::Pager;

/// Rows of a page.
const ROWS: u64 = 25;

/// How the customers are looked at.
#[derive(Debug, Clone, Default, Deserialize)]
pub struct ScoredRowsQuery {
    pub sort: Option<String>,
    #[serde(default)]
    pub descending: bool,
    /// A condition in SQL.
    #[serde(rename = "where")]
    pub condition: Option<String>,
    pub page: Option<u64>,
    /// The column by whose groups the worth is added up.
    pub by: Option<String>,
}

/// The rows, with what they are sorted and filtered by.
pub struct ScoredRowsView {
    pub heading: String,
    pub condition: String,
    /// What is wrong with the condition.
    pub problem: Option<String>,
    pub columns: Vec<Head>,
    pub rows: Vec<Vec<ScoredCell>>,
    pub pager: Pager,
    /// The address of these rows without a page, for forms.
    pub by: String,
    pub sort: String,
    pub descending: bool,
}

/// A column.
pub struct Head {
    pub name: String,
    pub is_number: bool,
    pub href: String,
    /// `ascending`, `descending` or nothing.
    pub sorted: &'static str,
}

/// A value.
pub struct ScoredCell {
    pub text: Option<String>,
    pub is_number: bool,
    pub added: bool,
}

impl ScoredRowsQuery {
    fn sort(&self) -> Sort {
        match self.sort.clone().filter(|column| !column.is_empty()) {
            Some(column) => Sort { column, descending: self.descending },
            None => Sort { column: PROBABILITY.into(), descending: true },
        }
    }

    fn filter(&self) -> Option<&str> {
        self.condition.as_deref().map(str::trim).filter(|condition| !condition.is_empty())
    }

    /// The address of the page with some of its fields exchanged.
    pub fn address(&self, base: &str, changed: &[(&str, &str)]) -> String {
        let sort = self.sort();
        let page = self.page.map(|page| page.to_string());
        let fields = [
            ("sort", Some(sort.column.as_str())),
            ("descending", Some(if sort.descending { "true" } else { "false" })),
            ("where", self.filter()),
            ("by", self.by.as_deref()),
            ("page", page.as_deref()),
        ];
        let query = fields.into_iter().filter_map(|(name, value)| {
            let value = changed.iter().find(|c| c.0 == name).map(|c| c.1).or(value)?;
            Some(format!("{name}={}", encoded(value)))
        });
        format!("{base}?{}", query.collect::<Vec<_>>().join("&"))
    }
}

impl ScoredRowsView {
    pub async fn of(
        app: &App,
        table: &record_table::Model,
        asked: &ScoredRowsQuery,
        base: &str,
    ) -> Result<Self, ServiceError> {
        let columns = table.stored_columns()?;
        let sort = asked.sort();
        if !columns.iter().any(|column| column.name == sort.column) {
            return Err(ServiceError::Refused(format!("The list has no column “{}” to sort by.", sort.column)));
        }
        let page = asked.page.unwrap_or(1).max(1);
        let offset = (page - 1) * ROWS;
        let (found, total, problem) = match asked.filter() {
            None => (app.store.page(table, Some(&sort), offset, ROWS).await?, table.rows as u64, None),
            Some(condition) => {
                let types: Vec<(String, Type)> = columns.iter().map(|c| (c.name.clone(), Type::of(c.kind))).collect();
                let nobody = |problem: String| (TablePage { rows: Vec::new() }, 0, Some(problem));
                match Expression::check_condition(condition, &types) {
                    Err(wrong) => nobody(wrong_with(condition, &wrong)),
                    Ok(checked) => match those(app, table, &checked, &sort, offset).await {
                        Ok((page, total)) => (page, total, None),
                        Err(StoreError::Refused(problem)) => nobody(problem),
                        Err(e) => return Err(e.into()),
                    },
                }
            }
        };
        // What there is to say comes first.
        let order = shown(&columns);
        let cells = |values: &Vec<Option<String>>| {
            order.iter().map(|&at| ScoredCell::of(&columns[at], values[at].clone())).collect::<Vec<_>>()
        };
        let rows = found.rows.iter().map(|(_, values)| cells(values)).collect();
        let heads = order.iter().map(|&at| Head::of(&columns[at], &sort, asked, base)).collect();
        let pages = total.div_ceil(ROWS).max(1);
        let other = |to: u64| asked.address(base, &[("page", &to.to_string())]) + "#rows";
        let place = format!("page {} of {}", text::count(page.min(pages)), text::count(pages));
        let heading = match (asked.filter(), &problem) {
            (_, Some(_)) => "The condition cannot be read".to_owned(),
            (None, _) => format!("All {} customers", text::count(total)),
            (Some(_), _) => format!("{} of {} customers", text::count(total), text::count_of(table.rows)),
        };
        Ok(Self {
            heading,
            condition: asked.condition.clone().unwrap_or_default(),
            problem,
            columns: heads,
            rows,
            pager: Pager::new(page, pages, place, other),
            by: asked.by.clone().unwrap_or_default(),
            sort: sort.column,
            descending: sort.descending,
        })
    }
}

/// Probability and decision, what else was added, then the list's own columns.
fn shown(columns: &[StoredColumn]) -> Vec<usize> {
    let rank = |at: &usize| match columns[*at].name.as_str() {
        PROBABILITY => 0,
        DECISION => 1,
        name if name.starts_with(ADDED) => 2,
        _ => 3,
    };
    let mut order: Vec<usize> = (0..columns.len()).collect();
    order.sort_by_key(rank);
    order
}

/// A page of the rows for which a condition holds, and how many they are, which is counted once.
async fn those(
    app: &App,
    table: &record_table::Model,
    condition: &Expression,
    sort: &Sort,
    offset: u64,
) -> Result<(TablePage, u64), StoreError> {
    let from = (table.id, condition.source().to_owned());
    let total = app.row_counts.or_put(from, app.store.count_those(table, condition)).await?;
    Ok((app.store.those(table, condition, sort, (offset, ROWS)).await?, *total))
}

/// What is wrong with a condition, and where.
fn wrong_with(condition: &str, wrong: &ExpressionError) -> String {
    let place: String = condition.chars().skip(wrong.from).take(wrong.to - wrong.from).collect();
    let at = if place.is_empty() || place == condition { String::new() } else { format!(" (at “{place}”)") };
    format!("{wrong}{at}")
}

impl Head {
    fn of(column: &StoredColumn, sort: &Sort, asked: &ScoredRowsQuery, base: &str) -> Self {
        let here = sort.column == column.name;
        let down = if here { !sort.descending } else { column.kind.is_number() };
        let changed =
            [("sort", column.name.as_str()), ("descending", if down { "true" } else { "false" }), ("page", "1")];
        Self {
            name: match column.name.strip_prefix(ADDED) {
                Some(added) => added.replace('_', " "),
                None => column.name.clone(),
            },
            is_number: column.kind.is_number(),
            href: asked.address(base, &changed) + "#rows",
            sorted: match (here, sort.descending) {
                (true, true) => "descending",
                (true, false) => "ascending",
                (false, _) => "",
            },
        }
    }
}

impl ScoredCell {
    fn of(column: &StoredColumn, text: Option<String>) -> Self {
        let added = column.name.starts_with(ADDED);
        let decimals = match column.name.as_str() {
            BAND => 0,
            GAIN => 2,
            _ => 3,
        };
        let figure = |value: String| value.parse::<f64>().map_or(value, |x| text::fixed(x, decimals));
        let text = text.map(|value| if added && column.kind.is_number() { figure(value) } else { value });
        Self { text, is_number: column.kind.is_number(), added }
    }
}
