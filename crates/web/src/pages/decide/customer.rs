//! Try a customer: the account of a score, with the values beside its lines to be changed.

mod what_if;

use actix_web::web;
use askama::Template;
use pronoia_core::Table;
use pronoia_core::prepare::ModelInput;
use pronoia_service::ServiceError;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::TypedFields;
use pronoia_service::study_view::StudyView;

use super::views::{DecideView, DecideViews};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, StudyPath};
use crate::run_blocking::apart;
use crate::session::Visitor;
use what_if::Room;

#[derive(Template)]
#[template(path = "decide/customer.html")]
struct CustomerPage {
    frame: Frame,
    views: DecideViews,
    base: String,
    train: String,
    account: Option<ScoreExplanation>,
}

/// The account of one score.
pub struct ScoreExplanation {
    who: String,
    /// Where the customer began, for the form.
    from: String,
    heading: String,
    gain: String,
    scale: &'static str,
    base: String,
    base_note: String,
    lines: Vec<ContributionLine>,
    /// Lines of columns that add nothing.
    silent: Vec<ContributionLine>,
    score: String,
    becomes: String,
    probability: String,
    found: String,
    /// Why nobody may be like this.
    caution: Option<String>,
    near: Vec<NearLine>,
    near_columns: Vec<String>,
    near_finding: String,
    change: String,
    change_link: Option<String>,
    model: String,
    others: Vec<(String, &'static str)>,
    changed: bool,
}

/// A line of the account.
struct ContributionLine {
    column: String,
    /// The field, where the value can be changed.
    field: Option<String>,
    value: String,
    /// Values to choose from, for words.
    choices: Vec<String>,
    reason: String,
    error: Option<String>,
    rises: bool,
    bar: [String; 2],
    /// Whether the column above is made from this one.
    part: bool,
    remark: Option<String>,
    can_change: Option<bool>,
    was: Option<String>,
}

struct NearLine {
    distance: String,
    happened: &'static str,
    event: bool,
    values: Vec<String>,
    href: String,
}

/// What was asked for.
#[derive(Debug, Clone, Default)]
struct CustomerQuery {
    row: Option<String>,
    values: Vec<(usize, String)>,
    can: Vec<usize>,
    told: bool,
}

impl CustomerQuery {
    fn of(query: &[(String, String)]) -> Self {
        let mut asked = Self::default();
        for (name, value) in query {
            match name.as_str() {
                "row" => asked.row = Some(value.clone()),
                "told" => asked.told = true,
                "can" => asked.can.extend(value.parse::<usize>().ok()),
                name => {
                    if let Some(at) = name.strip_prefix('v').and_then(|at| at.parse().ok()) {
                        asked.values.push((at, value.clone()));
                    }
                }
            }
        }
        asked
    }
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<Vec<(String, String)>>,
) -> PageResult {
    let tried = apart(async move || {
        let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
        let account = match Situation::of(&app, &view, &TypedFields::default()).await? {
            Some(situation) => Some(account(&app, &view, &situation, &CustomerQuery::of(&query)).await?),
            None => None,
        };
        Ok::<_, ServiceError>(CustomerPage {
            frame: Frame::of_study(&app, &visitor, &view, 6).await?,
            views: DecideViews::of(&view, DecideView::Customer),
            base: view.href("decide/customer"),
            train: view.href("train"),
            account,
        })
    });
    html(&tried.await?)
}

async fn account(
    app: &App,
    view: &StudyView,
    situation: &Situation<'_>,
    asked: &CustomerQuery,
) -> Result<ScoreExplanation, ServiceError> {
    let row = app.store.model(situation.model.id).await?;
    let (basis, model) = (row.fitted_on()?, row.fitted()?);
    let kinds = view.table.kinds()?;
    let refused = |e: String| ServiceError::Refused(e);
    let mut names = basis.columns_read(&kinds).map_err(|e| refused(e.to_string()))?;
    for name in situation.chosen.policy.inputs() {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let book = app.predictions.open(app, view, situation.model, names).await?;
    let inputs: Vec<&ModelInput> = model.inputs().collect();
    let columns: Vec<String> = inputs.iter().map(|input| input.name.clone()).collect();
    let fitted_to = |table: &Table| Ok(basis.split.fitted_to(basis.deal(table).map_err(refused)?));
    let likeness = book.likeness(&columns, fitted_to)?;
    let base = view.href("decide/customer");
    let room = Room { situation, model: &model, basis: &basis, book: &book, likeness, inputs, base };
    room.account(asked)
}
