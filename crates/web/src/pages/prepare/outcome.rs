//! What happened: the outcome of a study, entered, and what follows from it for every column.

use actix_web::web;
use pronoia_core::Kind;
use pronoia_core::number::{count, percent};
use pronoia_core::profile::{TableProfile, changes};
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{self, ColumnChoice, EventRule, Outcome, OutcomeWindow, StudyState};
use pronoia_core::table::written_date;
use pronoia_store::record_table;
use pronoia_store::studies::{Author, Choice};
use serde::Deserialize;

use crate::App;
use crate::pages::{PageResult, StudyPath, see_other};
use crate::session::Visitor;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;

/// Rows at most of which it is told how well a column alone foretells the outcome.
const PROBED: u64 = 60_000;

/// The event and how often it happens, in a sentence.
pub fn event_sentence(view: &StudyView) -> Result<Option<String>, ServiceError> {
    let Some((outcome, events, known, missing)) = counts(view)? else { return Ok(None) };
    let left_aside = match (missing, &outcome.window) {
        (0, _) => String::new(),
        (_, None) => format!("; {} without an outcome are excluded", count(missing)),
        (_, Some(_)) => format!("; {} whose outcome is not known, or not yet, are excluded", count(missing)),
    };
    Ok(Some(format!(
        "Event = {}: {} of {} customers ({}){left_aside}",
        outcome.words(),
        count(events),
        count(known),
        percent(events as f64 / known.max(1) as f64)
    )))
}

/// The event rate by itself.
pub fn event_rate(view: &StudyView) -> Result<String, ServiceError> {
    Ok(counts(view)?.map_or("–".into(), |(_, events, known, _)| percent(events as f64 / known.max(1) as f64)))
}

fn counts(view: &StudyView) -> Result<Option<(Outcome, u64, u64, u64)>, ServiceError> {
    let Some(outcome) = view.state.outcome.clone() else { return Ok(None) };
    let profile = view.table.figures()?;
    let Some(column) = profile.column(&outcome.column) else { return Ok(None) };
    let listed = |value: &str| column.top.iter().find(|(v, _)| v == value).map_or(0, |t| t.1);
    let in_profile = || (listed(outcome.event.value().unwrap_or_default()), profile.rows - column.missing);
    let (events, known) = view.state.counted.unwrap_or_else(in_profile);
    Ok(Some((outcome, events, known, profile.rows.saturating_sub(known))))
}

/// The outcome that a form asks for: its fields are `column`, and `event` for
/// one value, or several of `any` with a `name`, or a number `at_least` or `below`.
fn asked_outcome(fields: &[(String, String)]) -> Result<Outcome, String> {
    let all = |name: &str| fields.iter().filter(|f| f.0 == name).map(|f| f.1.clone()).collect::<Vec<_>>();
    let one = |name: &str| all(name).into_iter().next().filter(|value| !value.trim().is_empty());
    let column = one("column").ok_or("Choose the outcome column.")?;
    let event = match (one("event"), one("at_least"), one("below")) {
        (Some(value), ..) => EventRule::Value(value),
        (None, Some(cut), None) => EventRule::AtLeast { at_least: text::typed_number(&cut)? },
        (None, None, Some(cut)) => EventRule::Below { below: text::typed_number(&cut)? },
        (None, Some(_), Some(_)) => return Err("Give one cut point: fill in one of the two fields.".into()),
        (None, None, None) if fields.iter().any(|f| f.0 == "at_least") => {
            return Err("Give the cut point.".into());
        }
        (None, None, None) => {
            EventRule::AnyOf { any_of: all("any"), name: one("name").unwrap_or_default().trim().to_owned() }
        }
    };
    Ok(Outcome { column, event, window: None })
}

/// Fixes the outcome, deals the rows out, and guesses what each column is for.
pub async fn choose(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Vec<(String, String)>>,
) -> PageResult {
    visitor.check(form.iter().find(|f| f.0 == "csrf").map_or("", |f| &f.1))?;
    let asked = asked_outcome(&form).map_err(ServiceError::Refused)?;
    // Customers were watched for as long as they were, whatever the event is.
    let before = app.store.study(visitor.workspace_id(), path.id).await?.choices()?.outcome;
    let outcome = Outcome { window: before.and_then(|before| before.window), ..asked };
    enter_outcome(&app, visitor.workspace_id(), visitor.author(), path.id, outcome).await?;
    see_other(&format!("/studies/{}/prepare", path.id))
}

/// A window as typed; without a column, there is none.
#[derive(Deserialize)]
pub struct TypedWindow {
    csrf: String,
    from: String,
    days: String,
    until: String,
}

impl TypedWindow {
    fn read(&self) -> Result<Option<OutcomeWindow>, String> {
        if self.from.is_empty() {
            return Ok(None);
        }
        let days = self.days.trim().parse().map_err(|_| "Give the length of the window in whole days.")?;
        let until: chrono::NaiveDate =
            self.until.trim().parse().map_err(|_| "Give the last day of the records, as in 2026-03-31.")?;
        Ok(Some(OutcomeWindow { from: self.from.clone(), days, until: until.to_epoch_days() }))
    }
}

/// Fixes for how long the outcome counts.
pub async fn set_window(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<TypedWindow>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let window = form.read().map_err(ServiceError::Refused)?;
    let before = app.store.study(visitor.workspace_id(), path.id).await?.choices()?.outcome;
    let before = before.ok_or_else(|| ServiceError::Refused("Choose the outcome first.".into()))?;
    let outcome = Outcome { window, ..before };
    enter_outcome(&app, visitor.workspace_id(), visitor.author(), path.id, outcome).await?;
    see_other(&format!("/studies/{}/prepare", path.id))
}

/// The outcome window as the page of columns shows it.
pub struct WindowView {
    pub said: String,
    /// What the form begins with.
    pub from: String,
    pub days: String,
    pub until: String,
    /// Columns that a window may run from.
    pub dates: Vec<String>,
    /// Whether it is being changed.
    pub open: bool,
}

impl WindowView {
    /// None where there is neither a window nor a date that one could run from.
    pub fn of(view: &StudyView, profile: &TableProfile, open: bool) -> Option<Self> {
        let dates = || profile.columns.iter().filter(|column| column.kind == Kind::Date);
        let window = view.state.outcome.as_ref().and_then(|outcome| outcome.window.as_ref());
        if window.is_none() && dates().next().is_none() {
            return None;
        }
        // Records reach as far as the latest day that stands in them.
        let latest = dates().filter_map(|column| column.numbers.as_ref()).map(|n| n.max).reduce(f64::max);
        let until = window.map(|window| window.until).or(latest.map(|day| day as i32)).map(written_date);
        Some(Self {
            said: window.map_or_else(
                || "The outcome of every customer counts, however short their observation.".into(),
                |window| format!("Customers count {}.", window.words()),
            ),
            from: window.map_or(String::new(), |window| window.from.clone()),
            days: window.map_or(String::new(), |window| window.days.to_string()),
            until: until.unwrap_or_default(),
            dates: dates().map(|column| column.name.clone()).collect(),
            open,
        })
    }
}

/// Refuses an outcome, or a window of it, that a table with these figures cannot have.
fn check(outcome: &Outcome, profile: &TableProfile) -> Result<(), ServiceError> {
    let column = outcome.check(profile.column(&outcome.column));
    let window = outcome.window.as_ref().map_or(Ok(()), |window| window.check(profile.column(&window.from)));
    column.and(window).map_err(|e| ServiceError::Refused(e.to_string()))
}

/// Enters an outcome in a study.
pub(crate) async fn enter_outcome(
    app: &App,
    workspace: i64,
    by: Author,
    study: i64,
    outcome: Outcome,
) -> Result<(), ServiceError> {
    let mut view = StudyView::load(app, workspace, study).await?;
    let profile = view.table.figures()?;
    check(&outcome, &profile)?;
    let (columns, counted) = guessed(app, &view.table, profile, outcome.clone(), view.state.split.clone()).await?;
    let chosen = format!("Event: {}", outcome.words());
    let same_column = view.state.outcome.as_ref().is_some_and(|before| before.column == outcome.column);
    view.state.columns = if same_column { with_choices(columns, &view.state) } else { columns };
    view.state.outcome = Some(outcome);
    view.state.counted = Some(counted);
    let sentence = event_sentence(&view)?.unwrap_or_default();
    let figure = sentence.split_once(": ").map_or(sentence.as_str(), |(_, rest)| rest).to_owned();
    crate::pages::choose(app, &view.study, &view.state, &Choice { by, chosen, figure }).await?;
    Ok(())
}

/// Moves a study to another version of its records: the choices stay as far as
/// their columns are there, and new columns are guessed.
pub(crate) async fn enter_version(app: &App, view: &StudyView, by: Author, table: i64) -> Result<(), ServiceError> {
    let to = app.store.table(view.study.workspace_id, table).await?;
    if to.name != view.table.name || to.is_list {
        return Err(ServiceError::Refused(format!("{} is not a version of {}.", to.name, view.table.name)));
    }
    let mut state = view.state.clone();
    state.table = Some(to.id);
    let profile = to.figures()?;
    if let Some(outcome) = state.outcome.clone() {
        check(&outcome, &profile)?;
        let (columns, counted) = guessed(app, &to, profile, outcome, state.split.clone()).await?;
        state.columns = with_choices(columns, &view.state);
        state.counted = Some(counted);
    }
    let chosen = format!("Moved to version {} of {}", to.version, to.name);
    let differs = changes(&view.table.figures()?, &to.figures()?).len();
    let figure = format!(
        "{} rows, were {}; {}",
        text::count_of(to.rows),
        text::count_of(view.table.rows),
        text::counted(differs, "column is different", "columns are different")
    );
    crate::pages::choose(app, &view.study, &state, &Choice { by, chosen, figure }).await
}

/// What each column is for, told by its figures and by how well it alone
/// foretells the outcome among training rows, of which a part tells enough; and
/// customers with the event, and with a known outcome.
async fn guessed(
    app: &App,
    table: &record_table::Model,
    profile: TableProfile,
    outcome: Outcome,
    split: SplitPlan,
) -> Result<(Vec<ColumnChoice>, (u64, u64)), ServiceError> {
    let nth = (table.rows as u64).div_ceil(PROBED).max(1);
    let names: Vec<String> = profile.columns.iter().map(|c| c.name.clone()).collect();
    let dealt_by: Vec<&str> = split.columns().chain(outcome.columns()).collect();
    let needed: Vec<String> = names.iter().filter(|name| dealt_by.contains(&name.as_str())).cloned().collect();
    let whole = app.store.columns(table, Some(&needed)).await?;
    let some = app.store.every_nth(table, &names, nth).await?;
    let looked = web::block(move || {
        let happened = outcome.read(&whole).map_err(|e| e.to_string())?;
        let training = split.deal(&whole, &happened).map_err(|e| e.to_string())?.training;
        let nth = nth as usize;
        let of_whole: Vec<usize> = training.into_iter().filter(|row| row % nth == 0).collect();
        let event: Vec<bool> = of_whole.iter().map(|&row| happened[row] == Some(true)).collect();
        let rows: Vec<usize> = of_whole.iter().map(|row| row / nth).collect();
        let areas = study::probe::areas(&some, &rows, &event);
        let area = |name: &str| areas.iter().find(|a| a.0 == name).map(|a| a.1);
        let counted = |wanted: Option<bool>| happened.iter().filter(|h| **h == wanted).count() as u64;
        let (events, others) = (counted(Some(true)), counted(Some(false)));
        Ok((study::guess(&profile, &outcome.column, area), (events, events + others)))
    });
    let looked = looked.await.map_err(|e| ServiceError::Refused(format!("The columns could not be checked: {e}.")))?;
    looked.map_err(ServiceError::Refused)
}

/// The guesses with the roles that somebody chose before, and the columns that
/// steps make: for the same outcome with another event they are still right.
fn with_choices(guessed: Vec<ColumnChoice>, before: &StudyState) -> Vec<ColumnChoice> {
    let makes: Vec<String> = before.steps.iter().filter_map(|s| s.action.makes()).collect();
    let made = before.columns.iter().filter(|old| makes.contains(&old.name)).cloned().collect::<Vec<_>>();
    let chosen = |guess: ColumnChoice| match before.columns.iter().find(|old| old.name == guess.name) {
        Some(old) => ColumnChoice { role: old.role, known_when: old.known_when, ..guess },
        None => guess,
    };
    guessed.into_iter().map(chosen).chain(made).collect()
}
