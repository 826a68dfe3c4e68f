//! Prepare, the steps: what is done with the columns before a model sees them.

mod form;
mod prepared_rows;
mod preview;

pub use prepared_rows::received;
pub use preview::preview;

use actix_web::web;
use askama::Template;
use pronoia_core::Kind;
use pronoia_core::prepare::{StepAction, StepEffect, TrainingRows, effects, suggestions};
use pronoia_core::study::KnownWhen;
use pronoia_service::ServiceError;
use pronoia_service::prepare::steps::{AddStep, ChangeStep, columns_of};
use pronoia_service::study_view::StudyView;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::prepare::PrepareViews;
use crate::pages::records::{ColumnLine, line};
use crate::pages::{PageResult, StudyPath, see_other};
use crate::session::Visitor;

pub use form::StepForm;

/// Training rows on which the effect of the steps is shown.
const ROWS_SHOWN: usize = 20_000;

/// Rows by which it is judged what dates could tell.
const DATES_SEEN: u64 = 2_000;

/// The steps that can be added: the word in the address, and what it does.
const KINDS: [(&str, &str); 14] = [
    ("derive", "derive a column"),
    ("filter", "filter customers"),
    ("sample", "sample"),
    ("fill", "impute missing values"),
    ("cap", "cap outliers"),
    ("log", "logarithm"),
    ("power", "power transform"),
    ("as-code", "read as a code"),
    ("bands", "bin a number"),
    ("group-rare", "group rare values"),
    ("ordered", "encode by rank"),
    ("target-mean", "encode as event rate"),
    ("weight-of-evidence", "encode as weight of evidence"),
    ("standardise", "standardise"),
];

#[derive(Template)]
#[template(path = "prepare/steps.html")]
struct StepsPage {
    frame: Frame,
    views: PrepareViews,
    base: String,
    prepare: String,
    heading: String,
    lines: Vec<StepLine>,
    kinds: [(&'static str, &'static str); 14],
    /// The step being added.
    adding: Option<&'static str>,
    /// Columns that it can be for.
    columns: Vec<String>,
    has_outcome: bool,
    on_rows: String,
    /// Columns that could be made of dates: name and expression.
    suggested: Vec<(String, String)>,
}

impl StepsPage {
    fn is_adding(&self, word: &str) -> bool {
        self.adding == Some(word)
    }
}

struct StepLine {
    at: usize,
    number: usize,
    words: String,
    off: bool,
    effect: String,
    problem: Option<String>,
    before: Option<ColumnLine>,
    after: Option<ColumnLine>,
    open: bool,
    first: bool,
    last: bool,
}

/// What is open, and what is being added.
#[derive(Deserialize)]
pub struct StepsQuery {
    add: Option<String>,
    step: Option<usize>,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<StepsQuery>,
) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let shown = shown(&app, &study).await?;
    let last = study.state.steps.len();
    let lines: Vec<StepLine> = study
        .state
        .steps
        .iter()
        .zip(&shown.effects)
        .enumerate()
        .map(|(at, (step, effect))| {
            let open = query.step == Some(at + 1);
            let mut line = StepLine {
                at,
                number: at + 1,
                words: step.action.words(),
                off: step.off,
                effect: String::new(),
                problem: None,
                before: None,
                after: None,
                open,
                first: at == 0,
                last: at + 1 == last,
            };
            match effect {
                None => {}
                Some(Err(problem)) => line.problem = Some(problem.clone()),
                Some(Ok(effect)) => written(&mut line, effect, shown.rows),
            }
            line
        })
        .collect();
    let adding = query.add.as_deref().and_then(|word| KINDS.into_iter().find(|k| k.0 == word)).map(|k| k.0);
    let known = columns_of(&study)?;
    let suits = |kind: Kind| match adding {
        Some("cap" | "log" | "power" | "bands" | "as-code" | "standardise") => kind == Kind::Number,
        Some("group-rare" | "ordered" | "target-mean" | "weight-of-evidence") => {
            !matches!(kind, Kind::Number | Kind::Date | Kind::Text)
        }
        _ => true,
    };
    let outcome = study.state.outcome.as_ref().map(|o| o.column.clone());
    let columns = known.into_iter().filter(|c| suits(c.1) && Some(&c.0) != outcome.as_ref()).map(|c| c.0).collect();
    let on = study.state.steps.iter().filter(|s| !s.off).count();
    let heading = match (last, on) {
        (0, _) => "No steps: columns are used as they are.".to_owned(),
        (1, 1) => "One step before a model sees the columns.".to_owned(),
        (n, on) if n == on => format!("{n} steps before a model sees the columns."),
        (n, on) => format!("{on} of {n} steps are applied before a model sees the columns."),
    };
    let has_outcome = study.state.outcome.is_some();
    let suggested = if has_outcome && adding.is_none() { suggested(&app, &study).await? } else { Vec::new() };
    let on_rows = pronoia_service::text::count(shown.rows);
    let (base, prepare) = (study.href("prepare/steps"), study.href("prepare"));
    let frame = Frame::of_study(&app, &visitor, &study, 3).await?;
    let views = PrepareViews::of(&study, "steps");
    let kinds = KINDS;
    html(&StepsPage {
        frame,
        views,
        base,
        prepare,
        heading,
        lines,
        kinds,
        adding,
        columns,
        has_outcome,
        on_rows,
        suggested,
    })
}

/// What could be made of the dates that are known in time, and is not made yet.
async fn suggested(app: &App, study: &StudyView) -> Result<Vec<(String, String)>, ServiceError> {
    let in_time = |name: &str| {
        let choice = study.state.columns.iter().find(|c| c.name == name);
        choice.is_some_and(|c| c.known_when != KnownWhen::Afterwards)
    };
    let dates = study.table.kinds()?.into_iter().filter(|(name, kind)| *kind == Kind::Date && in_time(name));
    let dates: Vec<String> = dates.map(|(name, _)| name).collect();
    if dates.is_empty() {
        return Ok(Vec::new());
    }
    let table = app.store.first_rows(&study.table, &dates, DATES_SEEN).await?;
    let there: Vec<&StepAction> = study.state.steps.iter().map(|step| &step.action).collect();
    let new = suggestions(&table).into_iter().filter(|action| !there.contains(&action));
    Ok(new
        .filter_map(|action| match action {
            StepAction::Derive { name, expression } => Some((name, expression)),
            _ => None,
        })
        .collect())
}

fn written(of: &mut StepLine, effect: &StepEffect, rows: u64) {
    of.effect.clone_from(&effect.sentence);
    if of.open {
        of.before = effect.before.as_ref().map(|p| line(p, rows, true));
        of.after = effect.after.as_ref().map(|p| line(p, rows, true));
    }
}

/// The steps with their effects on training rows.
struct ShownSteps {
    effects: Vec<Option<Result<StepEffect, String>>>,
    rows: u64,
}

async fn shown(app: &App, study: &StudyView) -> Result<ShownSteps, ServiceError> {
    let Some(basis) = study.state.basis().filter(|b| !b.steps.is_empty()) else {
        return Ok(ShownSteps { effects: vec![None; study.state.steps.len()], rows: 0 });
    };
    // Only what the steps look at is fetched; a step that cannot be taken must not hide the others.
    let kinds = study.table.kinds()?;
    let mut names: Vec<String> = basis.outcome.columns().map(str::to_owned).collect();
    names.extend(basis.split.columns().map(str::to_owned));
    let mut known = kinds.clone();
    for step in basis.steps.iter().filter(|s| !s.off) {
        names.extend(step.action.check(&mut known).unwrap_or_default());
    }
    let names: Vec<String> = kinds.into_iter().map(|c| c.0).filter(|name| names.contains(name)).collect();
    let table = app.store.columns(&study.table, Some(&names)).await?;
    let done = web::block(move || {
        let happened = basis.outcome.read(&table).map_err(|e| e.to_string())?;
        let mut rows = basis.split.deal(&table, &happened).map_err(|e| e.to_string())?.training;
        rows.truncate(ROWS_SHOWN);
        let event: Vec<bool> = rows.iter().map(|&row| happened[row] == Some(true)).collect();
        let training = TrainingRows { rows: &rows, event: &event, weight: None };
        Ok::<_, String>(ShownSteps { effects: effects(&basis.steps, &table, &training), rows: rows.len() as u64 })
    });
    done.await
        .map_err(|e| ServiceError::Refused(format!("The steps could not be tried: {e}.")))?
        .map_err(ServiceError::Refused)
}

/// Adds a step at the end.
pub async fn add(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<StepForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let action = form.action().map_err(ServiceError::Refused)?;
    let added =
        app.perform(visitor.actor(), AddStep { study: path.id, step: action, reason: String::new() }).await?.step;
    see_other(&format!("/studies/{}/prepare/steps?step={added}", path.id))
}

/// A change to a step that is there.
#[derive(Deserialize)]
pub struct StepChangeForm {
    csrf: String,
    at: usize,
    what: String,
}

/// Moves a step, switches it, or takes it out.
pub async fn change(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<StepChangeForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let StepChangeForm { at, what, .. } = form.into_inner();
    app.perform(visitor.actor(), ChangeStep { study: path.id, at, what }).await?;
    see_other(&format!("/studies/{}/prepare/steps", path.id))
}
