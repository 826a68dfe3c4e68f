//! The outcome of a study, and what follows from it for every column.

use pronoia_core::number::{count, percent};
use pronoia_core::profile::{TableProfile, changes};
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{self, ColumnChoice, Outcome, OutcomeWindow, StudyState};
use pronoia_store::member_role::MemberRole;
use pronoia_store::record_table;
use pronoia_store::studies::Choice;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Actor, Declaration};
use crate::choices::choose;
use crate::error::ServiceError;
use crate::study_view::StudyView;
use crate::{App, text};

/// Rows at most of which it is told how well a column alone foretells the outcome.
const PROBED: u64 = 60_000;

/// Sets the outcome and the event, splits the rows, and proposes what each column is for.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetOutcome {
    /// The study.
    pub study: i64,
    /// The column and the event; a window that was set before stays unless one is given.
    #[schema(value_type = Object)]
    pub outcome: Outcome,
}

impl Action for SetOutcome {
    const DECLARATION: Declaration = Declaration {
        title: "Set the outcome",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/outcome",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let before = scope.app.store.study(scope.by.workspace, self.study).await?.choices()?.outcome;
        // Customers were observed for as long as they were, whatever the event is.
        let window = self.outcome.window.clone().or(before.and_then(|before| before.window));
        set(scope, self.study, Outcome { window, ..self.outcome }).await
    }
}

/// Sets for how long the outcome counts, or that it always does.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetOutcomeWindow {
    /// The study.
    pub study: i64,
    /// From which column on, for how many days, and how far the records reach; none if every outcome counts.
    #[schema(value_type = Option<Object>)]
    pub window: Option<OutcomeWindow>,
}

impl Action for SetOutcomeWindow {
    const DECLARATION: Declaration = Declaration {
        title: "Set the outcome window",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/outcome-window",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let before = scope.app.store.study(scope.by.workspace, self.study).await?.choices()?.outcome;
        let before = before.ok_or_else(|| ServiceError::Refused("Choose the outcome first.".into()))?;
        set(scope, self.study, Outcome { window: self.window, ..before }).await
    }
}

/// Moves a study to another version of its records: the choices stay as far as their columns are there, and roles are
/// proposed for new columns.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MoveToVersion {
    /// The study.
    pub study: i64,
    /// The version of its table.
    pub table: i64,
}

impl Action for MoveToVersion {
    const DECLARATION: Declaration = Declaration {
        title: "Move to another version of the records",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/version",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let view = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        if self.table == view.table.id {
            return Ok(());
        }
        let to = scope.app.store.table(view.study.workspace_id, self.table).await?;
        if to.name != view.table.name || to.is_list {
            return Err(ServiceError::Refused(format!("{} is not a version of {}.", to.name, view.table.name)));
        }
        let mut state = view.state.clone();
        state.table = Some(to.id);
        if let Some(outcome) = &state.outcome {
            let (columns, counted) = propose(scope.app, &to, outcome, &state.split).await?;
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
        choose(scope.begin().await?, &view.study, &state, &Choice { by: scope.by.author(), chosen, figure }).await
    }
}

/// Sets an outcome, as the last part of an action.
pub(crate) async fn set(scope: &ActionScope<'_>, study: i64, outcome: Outcome) -> Result<(), ServiceError> {
    let view = StudyView::load(scope.app, scope.by.workspace, study).await?;
    let proposal = propose(scope.app, &view.table, &outcome, &view.state.split).await?;
    enter(scope.begin().await?, scope.by, view, outcome, proposal).await
}

/// Roles that are proposed for columns, and customers with the event and with a known outcome.
pub(crate) type Proposal = (Vec<ColumnChoice>, (u64, u64));

/// What an outcome means for every column of a table; refused if the table cannot have that outcome.
pub(crate) async fn propose(
    app: &App,
    table: &record_table::Model,
    outcome: &Outcome,
    split: &SplitPlan,
) -> Result<Proposal, ServiceError> {
    let profile = table.figures()?;
    check(outcome, &profile)?;
    guessed(app, table, profile, outcome.clone(), split.clone()).await
}

/// Enters an outcome in a study, within the transaction of an action.
pub(crate) async fn enter(
    app: &App,
    by: Actor,
    mut view: StudyView,
    outcome: Outcome,
    (columns, counted): Proposal,
) -> Result<(), ServiceError> {
    let chosen = format!("Event: {}", outcome.words());
    let same_column = view.state.outcome.as_ref().is_some_and(|before| before.column == outcome.column);
    view.state.columns = if same_column { with_choices(columns, &view.state) } else { columns };
    view.state.outcome = Some(outcome);
    view.state.counted = Some(counted);
    let sentence = event_sentence(&view)?.unwrap_or_default();
    let figure = sentence.split_once(": ").map_or(sentence.as_str(), |(_, rest)| rest).to_owned();
    choose(app, &view.study, &view.state, &Choice { by: by.author(), chosen, figure }).await
}

/// The event and how often it happens, in a sentence.
///
/// # Errors
/// If what is stored cannot be read.
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
///
/// # Errors
/// If what is stored cannot be read.
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

/// Refuses an outcome, or a window of it, that a table with these figures cannot have.
fn check(outcome: &Outcome, profile: &TableProfile) -> Result<(), ServiceError> {
    let column = outcome.check(profile.column(&outcome.column));
    let window = outcome.window.as_ref().map_or(Ok(()), |window| window.check(profile.column(&window.from)));
    column.and(window).map_err(|e| ServiceError::Refused(e.to_string()))
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
) -> Result<Proposal, ServiceError> {
    let nth = (table.rows as u64).div_ceil(PROBED).max(1);
    let names: Vec<String> = profile.columns.iter().map(|c| c.name.clone()).collect();
    let dealt_by: Vec<&str> = split.columns().chain(outcome.columns()).collect();
    let needed: Vec<String> = names.iter().filter(|name| dealt_by.contains(&name.as_str())).cloned().collect();
    let whole = app.store.columns(table, Some(&needed)).await?;
    let some = app.store.every_nth(table, &names, nth).await?;
    let looked = tokio::task::spawn_blocking(move || {
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
        Ok::<_, String>((study::guess(&profile, &outcome.column, area), (events, events + others)))
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
