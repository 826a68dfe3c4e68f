//! Totals of an amount by group.

use actix_web::web;
use askama::Template;
use pronoia_core::Kind;
use pronoia_core::drivers::group_totals;
use pronoia_core::number::{count, money, percent};
use pronoia_core::study::ColumnRole;
use pronoia_service::ServiceError;
use serde::Deserialize;

use super::super::{PageResult, StudyPath};
use super::{DriversContext, DriversRows, DriversStop};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::session::Visitor;

/// Groups in a table, besides that of the missing values.
const MOST_GROUPS: usize = 20;

#[derive(Template)]
#[template(path = "drivers/totals.html")]
struct TotalsPage {
    frame: Frame,
    stop: DriversStop,
    heading: String,
    amounts: Vec<String>,
    columns: Vec<String>,
    amount: String,
    by: String,
    lines: Vec<TotalLine>,
    total: Option<TotalLine>,
    looked: bool,
}

struct TotalLine {
    label: String,
    rows: String,
    sum: String,
    share: String,
    mean: String,
    of_events: String,
}

/// The amount and the column to group by.
#[derive(Deserialize)]
pub struct TotalsQuery {
    amount: Option<String>,
    by: Option<String>,
}

/// The page.
pub async fn totals(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<TotalsQuery>,
) -> PageResult {
    let DriversContext { study, frame, stop, drivers } = DriversContext::at(&app, &visitor, path.id, "totals").await?;
    let stored = study.table.stored_columns()?;
    let is_money = |name: &str| study.state.columns.iter().any(|c| c.name == name && c.role == ColumnRole::Money);
    let mut amounts: Vec<String> = stored.iter().filter(|c| c.kind == Kind::Number).map(|c| c.name.clone()).collect();
    amounts.sort_by_key(|name| (!is_money(name), !sounds_like_money(name)));
    let columns: Vec<String> = drivers.iter().flat_map(|d| &d.columns).map(|d| d.column.clone()).collect();
    let amount = query.amount.clone().or_else(|| amounts.first().cloned());
    let category = |name: &&String| stored.iter().any(|c| c.name == **name && c.kind == Kind::Category);
    let by = query.by.clone().or_else(|| columns.iter().find(category).or(columns.first()).cloned());
    let (Some(amount), Some(by), true) = (amount, by, drivers.is_some()) else {
        return html(&TotalsPage {
            frame,
            stop,
            heading: "Where is the money?".into(),
            amounts: Vec::new(),
            columns: Vec::new(),
            amount: String::new(),
            by: String::new(),
            lines: Vec::new(),
            total: None,
            looked: drivers.is_some(),
        });
    };
    if !amounts.contains(&amount) {
        return Err(
            ServiceError::Refused(format!("{amount} is not a column of numbers, so that it has no total.")).into()
        );
    }
    let training = DriversRows::of(&app, &study, &[&amount, &by]).await?;
    let totals =
        group_totals(training.column(&amount)?, training.column(&by)?, &training.rows, &training.event, MOST_GROUPS);
    let all: f64 = totals.iter().map(|t| t.sum).sum();
    let lost: f64 = totals.iter().map(|t| t.of_events).sum();
    let known: u64 = totals.iter().map(|t| t.known).sum();
    let rows: u64 = totals.iter().map(|t| t.group.count.rows).sum();
    let line = |label: String, rows: u64, known: u64, sum: f64, of_events: f64| TotalLine {
        label,
        rows: count(rows),
        sum: money(sum),
        share: percent(sum / all),
        mean: money(sum / known as f64),
        of_events: format!("{} ({})", money(of_events), percent(of_events / sum)),
    };
    let heading =
        format!("Of {} in {amount}, {} belongs to customers with the event.", money(all), percent(lost / all));
    html(&TotalsPage {
        frame,
        stop,
        heading,
        amounts,
        columns,
        lines: totals
            .iter()
            .map(|t| line(t.group.label.clone(), t.group.count.rows, t.known, t.sum, t.of_events))
            .collect(),
        total: Some(line("all".into(), rows, known, all, lost)),
        amount,
        by,
        looked: true,
    })
}

fn sounds_like_money(name: &str) -> bool {
    let lower = name.to_lowercase();
    if ["pct", "percent", "share", "ratio"].iter().any(|w| lower.contains(w)) {
        return false;
    }
    ["fee", "amount", "price", "cost", "value", "balance", "revenue", "income", "spend"]
        .iter()
        .any(|w| lower.contains(w))
}
