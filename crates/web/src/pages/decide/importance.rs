//! What a candidate goes by: how much it leans on each column, how, and on which two together.

mod chart;
mod interactions;
mod partial_dependence;

use std::sync::Arc;

use actix_web::web;
use askama::Template;
use pronoia_core::Kind;
use pronoia_core::cautions;
use pronoia_core::explain::{AverageEffect, Averages, ExplainedCustomers, JointEffect};
use pronoia_core::model::Model;
use pronoia_core::prepare::PrepareError;
use pronoia_core::validation::ModelImportance;
use pronoia_store::jobs::Work;
use pronoia_store::model;
use serde::Deserialize;

use super::views::{DecideView, DecideViews};
use crate::App;
use crate::definitions::{self, Meanings};
use crate::error::html;
use crate::frame::{Frame, encoded};
use crate::pages::train::{CandidateDetail, OfCandidate};
use crate::pages::{PageResult, StudyPath, is_asked, see_other};
use crate::session::Visitor;
pub(super) use chart::Leaning;
use interactions::Together;
use partial_dependence::EffectView;
use pronoia_service::ServiceError;
use pronoia_service::decide::ComputeImportance;
use pronoia_service::prediction_cache::CandidatePredictions;
use pronoia_service::study_view::StudyView;

#[derive(Template)]
#[template(path = "decide/importance.html")]
struct ImportancePage {
    frame: Frame,
    views: DecideViews,
    base: String,
    train: String,
    /// The model looked at; none if nothing is fitted.
    model: Option<(i64, String)>,
    models: Vec<(i64, String)>,
    /// Whether somebody is looking for it.
    looking: bool,
    found: Option<ImportanceView>,
    detail: Option<CandidateDetail>,
    left_out: Option<String>,
}

/// What was found out.
struct ImportanceView {
    leaning: Leaning,
    meaning: Meanings,
    effect: Option<EffectView>,
    together: Together,
}

/// Which model, which column of it, and which two.
#[derive(Default, Deserialize)]
pub struct ImportanceQuery {
    model: Option<i64>,
    column: Option<String>,
    down: Option<String>,
    across: Option<String>,
}

impl ImportanceQuery {
    /// The address of the same with another column.
    fn at_column(&self, base: &str, column: &str) -> String {
        self.address(
            base,
            &[("column", Some(column)), ("down", self.down.as_deref()), ("across", self.across.as_deref())],
        )
    }

    /// The address of the same with two other columns.
    fn at_pair(&self, base: &str, [down, across]: &[String; 2]) -> String {
        self.address(base, &[("column", self.column.as_deref()), ("down", Some(down)), ("across", Some(across))])
    }

    fn address(&self, base: &str, fields: &[(&str, Option<&str>)]) -> String {
        let model = self.model.map(|id| ("model", id.to_string()));
        let told = fields.iter().filter_map(|(name, value)| Some((*name, (*value)?.to_owned())));
        let query: Vec<String> =
            model.into_iter().chain(told).map(|(name, value)| format!("{name}={}", encoded(&value))).collect();
        format!("{base}?{}", query.join("&"))
    }
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    asked: web::Query<ImportanceQuery>,
) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let frame = Frame::of_study(&app, &visitor, &view, 6).await?;
    let (views, base, train) = (DecideViews::of(&view, DecideView::Why), view.href("decide/why"), view.href("train"));
    let models = view.fitted().map(|m| (m.id, m.name.clone())).collect();
    let Some(id) = model_of(&view, asked.model)? else {
        let (model, looking, found, detail, left_out) = (None, false, None, None, None);
        return html(&ImportancePage { frame, views, base, train, model, models, looking, found, detail, left_out });
    };
    let row = app.store.model(id).await?;
    let looking = is_asked(&app, &view.study, &Work::Understand { model: id }).await?;
    let found = match row.understood()? {
        Some(found) => Some(ImportanceView::of(&app, &view, &row, found, asked.into_inner(), &base).await?),
        None => None,
    };
    let left_out = match app.store.finding(view.study.id).await? {
        Some(finding) => cautions::excluded_columns(&view.state, &finding.found()?),
        None => None,
    };
    let detail = Some(CandidateDetail::of(&row)?);
    html(&ImportancePage {
        frame,
        views,
        base,
        train,
        model: Some((id, row.name)),
        models,
        looking,
        found,
        detail,
        left_out,
    })
}

/// How much a model leans on each column, if that was found out.
pub(super) async fn leaning(app: &App, view: &StudyView, model: i64) -> Result<Option<Leaning>, ServiceError> {
    let found = app.store.model(model).await?.understood()?;
    Ok(found.map(|found| Leaning::of(&found, view, &ImportanceQuery::default(), &view.href("decide/why"), None)))
}

/// The model that is asked for, or the policy's, or the best.
fn model_of(view: &StudyView, asked: Option<i64>) -> Result<Option<i64>, ServiceError> {
    match asked {
        Some(id) => view.fitted().find(|m| m.id == id).map(|m| Some(m.id)).ok_or(ServiceError::NotFound),
        None => Ok(match view.policy_model() {
            Some((_, model)) => Some(model.id),
            None => view.best()?.map(|model| model.id),
        }),
    }
}

impl ImportanceView {
    async fn of(
        app: &App,
        view: &StudyView,
        row: &model::Model,
        found: ModelImportance,
        asked: ImportanceQuery,
        base: &str,
    ) -> Result<Self, ServiceError> {
        let columns: Vec<String> = found.influence.columns.iter().map(|c| c.column.clone()).collect();
        for name in [&asked.column, &asked.down, &asked.across].into_iter().flatten() {
            if !columns.contains(name) {
                return Err(ServiceError::Refused(format!("“{name}” does not go into {}.", row.name.to_lowercase())));
            }
        }
        let column = asked.column.clone().or(columns.first().cloned());
        let pair = match (asked.down.clone(), asked.across.clone()) {
            (Some(down), Some(across)) if down == across => {
                return Err(ServiceError::Refused("Choose two different columns for the map.".into()));
            }
            (Some(down), Some(across)) => Some([down, across]),
            _ => found.interactions.first().map(|interaction| interaction.columns.clone()),
        };
        let book = book_of(app, view, row).await?;
        let model = row.fitted()?;
        let kinds = kinds_of(&model);
        let kind = |name: &str| kinds.iter().find(|kind| kind.0 == name).map_or(Kind::Category, |kind| kind.1);
        let (effect, joint) = averages(book, model, column, pair).await?;
        Ok(Self {
            meaning: definitions::influence(&found.influence, &row.name, view.study.kind()),
            leaning: Leaning::of(&found, view, &asked, base, effect.as_ref().map(|e| e.column.as_str())),
            together: Together::of(&found, joint.as_ref(), (view, &kind), &asked, base, columns),
            effect: effect.map(|effect| EffectView::of(&effect, view.study.kind(), kind(&effect.column))),
        })
    }
}

/// The kinds of the columns that go into a model, steps taken.
fn kinds_of(model: &Model) -> Vec<(String, Kind)> {
    let columns = model.members.iter().flat_map(|member| &member.preparation.columns);
    columns.map(|column| (column.name.clone(), column.kind)).collect()
}

/// The customers that a model was judged on, with the columns that it reads.
async fn book_of(app: &App, view: &StudyView, row: &model::Model) -> Result<Arc<CandidatePredictions>, ServiceError> {
    let basis = row.fitted_on()?;
    let record = app.store.table(view.study.workspace_id, view.study.records(basis.table)).await?;
    let kinds = record.kinds()?;
    let names = basis.columns_read(&kinds).map_err(|e| ServiceError::Refused(e.to_string()))?;
    app.predictions.open(app, view, row, names).await
}

type Averaged = (Option<AverageEffect>, Option<JointEffect>);

/// Average effects of a column and of two, away from the threads that answer pages.
async fn averages(
    book: Arc<CandidatePredictions>,
    model: Model,
    column: Option<String>,
    pair: Option<[String; 2]>,
) -> Result<Averaged, ServiceError> {
    web::block(move || {
        let averages = Averages::of(&model, ExplainedCustomers { table: &book.table, rows: &book.rows }, &book.event)?;
        let effect = column.and_then(|column| averages.effect(&column));
        let joint = pair.and_then(|[down, across]| averages.together(&down, &across));
        Ok::<_, PrepareError>((effect, joint))
    })
    .await
    .map_err(|e| ServiceError::Refused(format!("The averages could not be computed: {e}.")))?
    .map_err(|e| ServiceError::Refused(e.to_string()))
}

/// Asks what a candidate goes by.
pub async fn begin(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OfCandidate>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), ComputeImportance { study: path.id, candidate: form.model }).await?;
    see_other(&format!("/studies/{}/decide/why?model={}", path.id, form.model))
}
