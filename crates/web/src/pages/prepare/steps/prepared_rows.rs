//! Rows exactly as a model receives them, beside what they were.

use actix_web::web;
use askama::Template;
use pronoia_core::number::plain;
use pronoia_core::prepare::{Feature, FeatureValues, Preparation};
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_store::candidates::StoredCandidate;
use pronoia_store::model;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::prepare::PrepareViews;
use crate::pages::{PageResult, StudyPath};
use crate::session::Visitor;

/// Customers shown.
const SHOWN: u64 = 3;

#[derive(Template)]
#[template(path = "prepare/prepared_rows.html")]
struct PreparedRowsPage {
    frame: Frame,
    views: PrepareViews,
    prepare: String,
    train: String,
    models: Vec<(i64, String, bool)>,
    heading: String,
    /// One per column of the customer: its name, its values, and what became of it.
    groups: Vec<PreparedColumn>,
    customers: Vec<String>,
}

/// One column of the customer, and the features it ends in.
struct PreparedColumn {
    column: String,
    values: Vec<Option<String>>,
    features: Vec<(String, Vec<String>)>,
}

/// Which model.
#[derive(Deserialize)]
pub struct PreparedRowsQuery {
    model: Option<i64>,
}

/// The page.
pub async fn received(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<PreparedRowsQuery>,
) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    // In a blend every member receives its own.
    let alone = |m: &&StoredCandidate| m.recipe().is_ok_and(|recipe| recipe.members().len() == 1);
    let chosen = match query.model {
        Some(id) => Some(study.fitted().filter(alone).find(|m| m.id == id).ok_or(ServiceError::NotFound)?),
        None => study.fitted().filter(alone).find(|m| !study.is_stale(m)).or(study.fitted().find(alone)),
    };
    let models =
        study.fitted().filter(alone).map(|m| (m.id, m.name.clone(), chosen.is_some_and(|c| c.id == m.id))).collect();
    let (groups, heading) = match chosen {
        None => (Vec::new(), "No model is fitted yet.".to_owned()),
        Some(chosen) => {
            (groups(&app, &study, chosen).await?, format!("Rows as prepared for {}", chosen.name.to_lowercase()))
        }
    };
    let customers = (1..=groups.first().map_or(0, |g| g.values.len())).map(|n| format!("row {n}")).collect();
    let (prepare, train) = (study.href("prepare"), study.href("train"));
    let frame = Frame::of_study(&app, &visitor, &study, 3).await?;
    let views = PrepareViews::of(&study, "rows");
    html(&PreparedRowsPage { frame, views, prepare, train, models, heading, groups, customers })
}

async fn groups(app: &App, study: &StudyView, chosen: &model::Model) -> Result<Vec<PreparedColumn>, ServiceError> {
    let fitted = app.store.model(chosen.id).await?.fitted()?;
    let names: Vec<String> = fitted.inputs().map(|input| input.name.clone()).collect();
    let table = app.store.first_rows(&study.table, &names, SHOWN).await?;
    let rows: Vec<usize> = (0..table.rows()).collect();
    let refused = |e: pronoia_core::prepare::PrepareError| ServiceError::Refused(e.to_string());
    let Some(member) = fitted.members.first() else { return Ok(Vec::new()) };
    let preparation: &Preparation = &member.preparation;
    let design = preparation.apply(&table, &rows).map_err(refused)?;
    let stepped = preparation.stepped(&table).map_err(refused)?;
    let original = |name: &str, row: usize| table.column(name).or(stepped.column(name)).and_then(|c| c.text(row));
    let written = |feature: &Feature, row: usize| match &feature.values {
        FeatureValues::Number(x) if x[row].is_nan() => "missing".to_owned(),
        FeatureValues::Number(x) => plain(x[row]),
        FeatureValues::Levels { codes, .. } => preparation.level_of(&feature.column, codes[row]).to_owned(),
    };
    let mut groups: Vec<PreparedColumn> = Vec::new();
    for feature in design.features() {
        let values = rows.iter().map(|&row| written(feature, row)).collect();
        let line = (feature.name.clone(), values);
        match groups.iter_mut().find(|g| g.column == feature.column) {
            Some(group) => group.features.push(line),
            None => groups.push(PreparedColumn {
                values: rows.iter().map(|&row| original(&feature.column, row)).collect(),
                column: feature.column.clone(),
                features: vec![line],
            }),
        }
    }
    Ok(groups)
}
