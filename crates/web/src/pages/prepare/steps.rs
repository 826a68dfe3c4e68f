//! Prepare, the steps: what is done with the columns before a model sees them.

mod form;
mod prepared_rows;
mod preview;

pub use prepared_rows::received;
pub use preview::preview;

use actix_web::web;
use askama::Template;
use pronoia_core::Kind;
use pronoia_core::expression::Type;
use pronoia_core::prepare::{PreparationStep, StepAction, StepEffect, TrainingRows, effects, steps, suggestions};
use pronoia_core::study::{ColumnChoice, ColumnRole, KnownWhen, StudyState, Verdict};
use pronoia_store::studies::{Author, Choice};
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::prepare::PrepareViews;
use crate::pages::records::{ColumnLine, line};
use crate::pages::{PageResult, StudyPath, see_other};
use crate::session::Visitor;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;

pub use form::StepForm;

/// Training rows on which the effect of the steps is shown.
const ROWS_SHOWN: usize = 20_000;

/// Rows by which it is judged what dates could tell.
const DATES_SEEN: u64 = 2_000;

/// Steps of a study, at most.
const MOST_STEPS: usize = 60;

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

/// The columns that a further step would meet: those of the table and those that steps make.
pub(crate) fn columns_of(study: &StudyView) -> Result<Vec<(String, Kind)>, ServiceError> {
    Ok(steps::columns_after(&study.state.steps, &study.table.kinds()?))
}

/// The same columns as an expression sees them.
pub(crate) fn types_of(study: &StudyView) -> Result<Vec<(String, Type)>, ServiceError> {
    Ok(columns_of(study)?.into_iter().map(|(name, kind)| (name, Type::of(kind))).collect())
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
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let action = form.action().map_err(ServiceError::Refused)?;
    enter(&app, visitor.author(), &study, action, "").await?;
    see_other(&format!("{}?step={}", study.href("prepare/steps"), study.state.steps.len() + 1))
}

/// Enters a step in a study; `figure` is what mattered, besides its effect.
pub(crate) async fn enter(
    app: &App,
    by: Author,
    study: &StudyView,
    action: StepAction,
    figure: &str,
) -> Result<(), ServiceError> {
    if study.state.outcome.is_none() {
        return Err(ServiceError::Refused("First set the outcome: choose the outcome on the Prepare page.".into()));
    }
    if study.state.steps.len() == MOST_STEPS {
        return Err(ServiceError::Refused(format!("A preparation has at most {MOST_STEPS} steps.")));
    }
    let mut known = columns_of(study)?;
    let reads = action.check(&mut known).map_err(|e| ServiceError::Refused(e.to_string()))?;
    let outcome = study.state.outcome.as_ref().map(|o| o.column.clone());
    if reads.iter().any(|name| Some(name) == outcome.as_ref()) && !matches!(action, StepAction::Filter { .. }) {
        return Err(ServiceError::Refused(
            "The step reads the outcome. What is derived from the outcome is leakage: it is not there when a list is scored.".into(),
        ));
    }
    let mut state = study.state.clone();
    let chosen = action.words();
    if let Some(name) = action.makes() {
        state.columns.push(made(&state, &name, &chosen, &reads));
    }
    state.steps.push(PreparationStep { action, off: false });
    let choice = Choice { by, chosen, figure: figure.to_owned() };
    crate::pages::choose(app, &study.study, &state, &choice).await
}

/// A made column goes in, unless it is made from one that is known only afterwards.
fn made(state: &StudyState, name: &str, words: &str, reads: &[String]) -> ColumnChoice {
    let late: Vec<&str> = state
        .columns
        .iter()
        .filter(|c| reads.contains(&c.name))
        .filter(|c| c.known_when == KnownWhen::Afterwards || c.verdict == Verdict::ShouldNotGoIn)
        .map(|c| c.name.as_str())
        .collect();
    let (known_when, verdict, reason) = match late.as_slice() {
        [] => (KnownWhen::Before, Verdict::GoesIn, format!("made: {words}")),
        late => (
            KnownWhen::Unsure,
            Verdict::ShouldNotGoIn,
            format!("derived from {}, which should be excluded", late.join(", ")),
        ),
    };
    ColumnChoice { name: name.to_owned(), role: ColumnRole::Predictor, known_when, verdict, reason, never: false }
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
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let mut state = study.state.clone();
    let step = state.steps.get_mut(form.at).ok_or(ServiceError::NotFound)?;
    let words = step.action.words();
    let chosen = match form.what.as_str() {
        "off" => {
            step.off = true;
            format!("Switched off: {words}")
        }
        "on" => {
            step.off = false;
            format!("Switched on: {words}")
        }
        "up" if form.at > 0 => {
            state.steps.swap(form.at, form.at - 1);
            format!("Moved up: {words}")
        }
        "down" if form.at + 1 < state.steps.len() => {
            state.steps.swap(form.at, form.at + 1);
            format!("Moved down: {words}")
        }
        "out" => {
            let gone = state.steps.remove(form.at);
            if let Some(name) = gone.action.makes() {
                state.columns.retain(|c| c.name != name);
            }
            format!("Removed: {words}")
        }
        _ => return Err(ServiceError::NotFound.into()),
    };
    let kinds = study.table.kinds()?;
    let breaks = broken(&state, &kinds).into_iter().find(|b| !broken(&study.state, &kinds).contains(b));
    let figure = breaks.map_or(String::new(), |words| format!("“{words}” cannot be applied now"));
    let choice = Choice { by: visitor.author(), chosen, figure };
    crate::pages::choose(&app, &study.study, &state, &choice).await?;
    see_other(&study.href("prepare/steps"))
}

/// Steps that cannot be taken as things stand.
fn broken(state: &StudyState, kinds: &[(String, Kind)]) -> Vec<String> {
    let mut known = kinds.to_vec();
    let taken = state.steps.iter().filter(|s| !s.off);
    taken.filter(|s| s.action.check(&mut known).is_err()).map(|s| s.action.words()).collect()
}
