//! An expression tried on real rows while it is typed.

use actix_web::web;
use askama::Template;
use pronoia_core::expression::{Expression, ExpressionError, Type};
use pronoia_core::number::count;
use pronoia_core::prepare::steps::needed;
use pronoia_core::prepare::{FittedStep, PrepareError, TrainingRows};
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::pages::{PageResult, StudyPath};
use crate::session::Visitor;

/// Rows shown.
const SHOWN: usize = 5;

/// Rows tried.
const TRIED: u64 = 2_000;

#[derive(Template)]
#[template(path = "prepare/preview.html")]
struct Fragment {
    problem: Option<ExpressionProblem>,
    result: &'static str,
    account: String,
    names: Vec<String>,
    rows: Vec<Vec<Option<String>>>,
}

/// The expression in three parts, the middle one wrong.
struct ExpressionProblem {
    before: String,
    wrong: String,
    after: String,
    message: String,
}

/// What was typed.
#[derive(Deserialize)]
pub struct PreviewQuery {
    sql: String,
    #[serde(default)]
    condition: bool,
}

/// The fragment below the field: the error under the offending word, or values.
pub async fn preview(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<PreviewQuery>,
) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let mut known = study.table.kinds()?;
    let raw = known.clone();
    let steps: Vec<_> =
        study.state.steps.iter().filter(|s| !s.off && s.action.check(&mut known).is_ok()).cloned().collect();
    let types: Vec<(String, Type)> = known.iter().map(|(name, kind)| (name.clone(), Type::of(*kind))).collect();
    let checked = if query.condition {
        Expression::check_condition(&query.sql, &types)
    } else {
        Expression::check(&query.sql, &types)
    };
    let expression = match checked {
        Ok(expression) => expression,
        Err(error) => return html(&failed(&query.sql, &error)),
    };
    // What the expression reads may have been made by a step.
    let inputs: Vec<String> = expression.inputs().map(str::to_owned).collect();
    let refused = |e: PrepareError| ServiceError::Refused(e.to_string());
    let (actions, mut read) = needed(&steps, &inputs, &raw).map_err(refused)?;
    // A step may have learned from the outcome.
    let outcome = study.state.outcome.as_ref().filter(|_| !actions.is_empty());
    read.extend(outcome.map(|o| o.column.clone()).filter(|name| !read.contains(name)));
    let _turn = app.previews.take().await?;
    let store = app.store.for_previews();
    let table = match read.as_slice() {
        // An expression may read nothing; any column has as many rows.
        [] => store.first_rows(&study.table, &raw[..1].iter().map(|c| c.0.clone()).collect::<Vec<_>>(), TRIED).await?,
        read => store.first_rows(&study.table, read, TRIED).await?,
    };
    let all: Vec<usize> = (0..table.rows()).collect();
    let happened = outcome.and_then(|o| o.read(&table).ok()).unwrap_or_default();
    let event: Vec<bool> = all.iter().map(|&row| happened.get(row).copied().flatten() == Some(true)).collect();
    let training = TrainingRows { rows: &all, event: &event, weight: None };
    let (_, table) = FittedStep::fit_all(&actions, &table, &training).map_err(refused)?;
    let (values, undefined) = expression.column("value", &table).map_err(ServiceError::Refused)?;
    let mut account =
        format!("missing in {} of the first {} rows", count(values.missing() as u64), count(table.rows() as u64));
    if undefined > 0 {
        account += &format!("; {} times there is no value, such as a division by zero", count(undefined));
    }
    let shown = |row: usize| {
        let mut cells: Vec<Option<String>> =
            inputs.iter().map(|name| table.column(name).and_then(|c| c.text(row))).collect();
        cells.push(values.text(row));
        cells
    };
    html(&Fragment {
        problem: None,
        result: expression.result().word(),
        account,
        rows: (0..table.rows().min(SHOWN)).map(shown).collect(),
        names: inputs.clone(),
    })
}

fn failed(sql: &str, error: &ExpressionError) -> Fragment {
    let part = |from: usize, to: usize| sql.chars().skip(from).take(to.saturating_sub(from)).collect::<String>();
    let wrong = part(error.from, error.to);
    let problem = ExpressionProblem {
        before: part(0, error.from),
        // An end that came too early has no word to stand under.
        wrong: if wrong.is_empty() { " ".into() } else { wrong },
        after: part(error.to, usize::MAX),
        message: error.message.clone(),
    };
    Fragment { problem: Some(problem), result: "", account: String::new(), names: Vec::new(), rows: Vec::new() }
}
