//! The policy sheet: one page to print, and to be signed.

use actix_web::web;
use askama::Template;
use pronoia_core::cautions::Caution;
use pronoia_core::question::Question;
use pronoia_core::study::ColumnRole;
use pronoia_service::ServiceError;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::TypedFields;
use pronoia_service::study_view::{StudyView, whom};
use pronoia_service::text;

use super::groups::{self, GroupLadder};
use super::importance::Leaning;
use super::summary::Here;
use super::views::{DecideView, DecideViews};
use super::{Confirmed, DecideParts, confirmed, importance, offers, today};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, StudyPath};
use crate::run_blocking::apart;
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "decide/policy_sheet.html")]
struct PolicySheetPage {
    frame: Frame,
    views: DecideViews,
    decide: String,
    question: Question,
    sheet: Option<PolicySheet>,
}

/// What is on the sheet.
struct PolicySheet {
    title: String,
    event: String,
    rule: String,
    model: String,
    judged: String,
    here: Here,
    whom: String,
    refers: bool,
    same_for_all: bool,
    parts: DecideParts,
    leaning: Option<Leaning>,
    ladders: Vec<GroupLadder>,
    confirmed: Option<Confirmed>,
    openings: i32,
    cautions: Vec<Caution>,
    kept: Vec<(String, String)>,
    stale: bool,
    date: String,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    let written = apart(async move || {
        let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
        let situation = match view.state.policy {
            Some(_) => Situation::of(&app, &view, &TypedFields::default()).await?,
            None => None,
        };
        let sheet = match &situation {
            Some(situation) => Some(sheet(&app, &view, situation).await?),
            None => None,
        };
        Ok::<_, ServiceError>(PolicySheetPage {
            frame: Frame::of_study(&app, &visitor, &view, 6).await?,
            views: DecideViews::of(&view, DecideView::Sheet),
            decide: view.href("decide"),
            question: view.study.kind(),
            sheet,
        })
    });
    html(&written.await?)
}

async fn sheet(app: &App, view: &StudyView, situation: &Situation<'_>) -> Result<PolicySheet, ServiceError> {
    let question = view.study.kind();
    let chosen = &situation.chosen;
    let sensitive: Vec<String> =
        view.state.columns.iter().filter(|c| c.role == ColumnRole::Sensitive).map(|c| c.name.clone()).collect();
    let ladders = if sensitive.is_empty() {
        Vec::new()
    } else {
        groups::ladders(app, view, situation, &sensitive, &sensitive).await?
    };
    let kept = view.cautions().filter_map(|caution| {
        let kept = caution.kept(&view.state)?;
        Some((caution.heading.clone(), kept.to_owned()))
    });
    Ok(PolicySheet {
        title: view.study.title.clone(),
        event: view.state.outcome.as_ref().map_or(String::new(), |outcome| format!("The event: {}.", outcome.words())),
        rule: chosen.policy.rule.in_words(),
        model: situation.model.name.clone(),
        judged: format!(
            "{} {} customers, {} of whom {}",
            text::count(situation.weighing.ranking.rows),
            situation.model.fitted_on()?.split.judged_on(),
            text::count(situation.weighing.ranking.events),
            question.event_verb()
        ),
        here: Here::of(situation),
        whom: whom(&chosen.population, &chosen.currency),
        refers: situation.weighing.refer.is_some(),
        same_for_all: offers::amounts_are_same_for_all(&chosen.policy),
        parts: DecideParts::of(app, situation, today(app, situation).await?, &TypedFields::default())?,
        leaning: importance::leaning(app, view, situation.model.id).await?,
        ladders,
        confirmed: confirmed(view)?,
        openings: view.study.test_openings,
        kept: kept.collect(),
        cautions: view.open_cautions().cloned().collect(),
        stale: view.policy_model().is_some_and(|(_, model)| view.is_stale(model)),
        date: chrono::Utc::now().format("%-d %B %Y").to_string(),
    })
}
