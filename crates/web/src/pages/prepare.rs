//! Prepare: what happened, and which columns may know of it.

use actix_web::web;
use askama::Template;
use pronoia_core::number::{self, count, percent};
use pronoia_core::profile::{ColumnProfile, TableProfile, changes};
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{self, Basis, ColumnChoice, Event, KnownWhen, Outcome, Role, StudyState, Verdict};
use pronoia_core::{Kind, Table};
use pronoia_store::studies::Choice;
use serde::Deserialize;

use super::records::{ColumnLine, line, made_line};
use super::{PageResult, StudyPath, see_other};
use crate::error::{PageError, html};
use crate::frame::{Frame, StudyView, encoded};
use crate::session::Visitor;
use crate::{App, text};

#[derive(Template)]
#[template(path = "prepare.html")]
struct Page {
    frame: Frame,
    views: Views,
    base: String,
    /// Columns that can be the outcome, with their two values and counts.
    candidates: Vec<Candidate>,
    /// Columns with a few values, any of which may be the event.
    several: Vec<Candidate>,
    /// Numbers that can be cut in two, with their range.
    numbers: Vec<(String, String)>,
    chosen: Option<Chosen>,
    groups: Vec<Group>,
    roles: [Role; 9],
    answers: [KnownWhen; 4],
    heading: String,
}

/// The ways to look at the stop.
pub(super) struct Views {
    pub(super) all: Vec<ViewLink>,
}

/// One of them.
pub(super) struct ViewLink {
    pub(super) name: String,
    pub(super) href: String,
    pub(super) current: bool,
}

impl Views {
    /// The ways to look at the stop of a study, of which one is open.
    pub(super) fn of(study: &StudyView, open: &str) -> Self {
        let counted = |n: usize| if n > 0 { format!(" ({n})") } else { String::new() };
        let link = |word: &str, name: String| ViewLink {
            name,
            href: if word.is_empty() { study.href("prepare") } else { study.href(&format!("prepare/{word}")) },
            current: word == open,
        };
        Self {
            all: vec![
                link("", "Columns".into()),
                link("cautions", format!("Cautions{}", counted(study.open_cautions().count()))),
                link("steps", format!("Steps{}", counted(study.state.steps.len()))),
                link("split", "Split".into()),
                link("rows", "Rows".into()),
            ],
        }
    }
}

struct Candidate {
    column: String,
    values: Vec<(String, String)>,
    missing: String,
}

struct Chosen {
    sentence: String,
    split: String,
}

struct Group {
    heading: String,
    explanation: &'static str,
    wedge: bool,
    can_leave_out: bool,
    columns: Vec<Line>,
}

struct Line {
    choice: ColumnChoice,
    column: ColumnLine,
}

/// What is open on the page.
#[derive(Deserialize)]
pub struct Query {
    column: Option<String>,
    change: Option<String>,
}

/// The event and how often it happens, in a sentence.
pub fn event_sentence(view: &StudyView) -> Result<Option<String>, PageError> {
    let Some((outcome, events, known, missing)) = counts(view)? else { return Ok(None) };
    let left_aside =
        if missing > 0 { format!("; {} without an outcome are left aside", count(missing)) } else { String::new() };
    Ok(Some(format!(
        "Event = {}: {} of {} customers ({}){left_aside}",
        outcome.words(),
        count(events),
        count(known),
        percent(events as f64 / known.max(1) as f64)
    )))
}

/// The event rate by itself.
pub fn event_rate(view: &StudyView) -> Result<String, PageError> {
    Ok(counts(view)?.map_or("–".into(), |(_, events, known, _)| percent(events as f64 / known.max(1) as f64)))
}

fn counts(view: &StudyView) -> Result<Option<(Outcome, u64, u64, u64)>, PageError> {
    let Some(outcome) = view.state.outcome.clone() else { return Ok(None) };
    let profile = view.table.figures()?;
    let Some(column) = profile.column(&outcome.column) else { return Ok(None) };
    let listed = |value: &str| column.top.iter().find(|(v, _)| v == value).map_or(0, |t| t.1);
    let in_profile = || (listed(outcome.event.value().unwrap_or_default()), profile.rows - column.missing);
    let (events, known) = view.state.counted.unwrap_or_else(in_profile);
    Ok(Some((outcome, events, known, profile.rows.saturating_sub(known))))
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<Query>,
) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let profile = view.table.figures()?;
    let asking = view.state.outcome.is_none() || query.change.is_some();
    let (mut candidates, mut several, mut numbers) = (Vec::new(), Vec::new(), Vec::new());
    if asking {
        for column in profile.columns.iter().filter(|c| c.distinct == 2) {
            let share = |n: u64| format!("{} ({})", count(n), percent(n as f64 / profile.rows.max(1) as f64));
            // The rarer value is more often the event, so it is offered first.
            let values = column.top.iter().rev().map(|(v, n)| (v.clone(), share(*n))).collect();
            candidates.push(Candidate { column: column.name.clone(), values, missing: count(column.missing) });
        }
        let listed = |c: &&ColumnProfile| c.distinct > 2 && c.top.len() as u64 == c.distinct;
        for column in profile.columns.iter().filter(listed) {
            let values = column.top.iter().map(|(v, n)| (v.clone(), count(*n))).collect();
            several.push(Candidate { column: column.name.clone(), values, missing: count(column.missing) });
        }
        let cut = profile.columns.iter().filter(|c| c.kind == Kind::Number && c.distinct > 2);
        numbers = cut
            .filter_map(|c| Some((c.name.clone(), c.numbers.as_ref()?)))
            .map(|(name, n)| {
                let range = format!("{} to {}", number::plain(n.min), number::plain(n.max));
                (name, range)
            })
            .collect();
    }
    let chosen = match (asking, event_sentence(&view)?) {
        (false, Some(sentence)) => Some(Chosen { sentence, split: view.state.split.sentence() }),
        _ => None,
    };
    let known = super::steps::columns_of(&view)?;
    let driver = match &query.column {
        Some(column) => app.store.driver(view.study.id, column).await?,
        None => None,
    };
    // What was found with other predictors is as true of this column.
    let same_rows = |basis: &Basis| {
        let present = view.state.basis();
        present
            .is_some_and(|p| (p.table, p.outcome, p.split) == (basis.table, basis.outcome.clone(), basis.split.clone()))
    };
    let driver = driver.filter(|(basis, _)| same_rows(basis)).map(|(_, driver)| driver);
    let lines = |verdict: Verdict| -> Vec<Line> {
        view.state
            .columns
            .iter()
            .filter(|c| c.stands_under() == verdict)
            .filter_map(|choice| {
                let open = query.column.as_ref() == Some(&choice.name);
                let mut column = match profile.column(&choice.name) {
                    Some(figures) => line(figures, profile.rows, open),
                    None => made_line(&choice.name, known.iter().find(|k| k.0 == choice.name)?.1, open),
                };
                if let Some(driver) = driver.as_ref().filter(|_| open) {
                    super::strip::draw(&mut column, driver);
                }
                Some(Line { choice: choice.clone(), column })
            })
            .collect()
    };
    let group = |verdict, heading: fn(usize) -> String, explanation, wedge| {
        let columns = lines(verdict);
        Group {
            heading: heading(columns.len()),
            explanation,
            wedge,
            can_leave_out: verdict == Verdict::ShouldNotGoIn,
            columns,
        }
    };
    let mut groups = vec![
        group(
            Verdict::ShouldNotGoIn,
            |n| format!("{n} should not go in"),
            "As predictors they would make the answer wrong, or teach nothing.",
            true,
        ),
        group(
            Verdict::AskedAbout,
            |n| format!("{n} asked about"),
            "Only you can say whether their values were known at the moment of the decision.",
            true,
        ),
        group(Verdict::GoesIn, |n| format!("{n} go in"), "Nothing speaks against them.", false),
        group(
            Verdict::KeptAside,
            |n| format!("{n} kept aside"),
            "They have another part to play, or were left out.",
            false,
        ),
    ];
    groups.retain(|g| !g.columns.is_empty());
    let heading = if view.state.outcome.is_none() {
        "What happened, and which value is the event?".into()
    } else {
        heading(&view)
    };
    let frame = Frame::of_study(&app, &visitor, &view, 3).await?;
    html(&Page {
        frame,
        views: Views::of(&view, ""),
        base: view.href("prepare"),
        candidates,
        several,
        numbers,
        chosen,
        groups,
        roles: Role::ALL,
        answers: KnownWhen::ALL,
        heading,
    })
}

fn heading(view: &StudyView) -> String {
    let of = |v: Verdict| view.state.columns.iter().filter(|c| c.stands_under() == v).count();
    let should_not = of(Verdict::ShouldNotGoIn);
    let asked = of(Verdict::AskedAbout);
    let all = view.state.columns.iter().filter(|c| c.goes_in()).count();
    let mut parts = vec![text::counted(all - should_not - asked, "column goes in", "columns go in")];
    if should_not > 0 {
        parts.push(format!("{should_not} should not"));
    }
    if asked > 0 {
        parts.push(if asked == 1 { "1 is asked about".into() } else { format!("{asked} are asked about") });
    }
    match parts.len() {
        1 => format!("{}.", parts[0]),
        2 => format!("{}, and {}.", parts[0], parts[1]),
        _ => format!("{}, {}, and {}.", parts[0], parts[1], parts[2]),
    }
}

/// The outcome that a form asks for: its fields are `column`, and `event` for
/// one value, or several of `any` with a `name`, or a number `at_least` or `below`.
fn asked_outcome(fields: &[(String, String)]) -> Result<Outcome, String> {
    let all = |name: &str| fields.iter().filter(|f| f.0 == name).map(|f| f.1.clone()).collect::<Vec<_>>();
    let one = |name: &str| all(name).into_iter().next().filter(|value| !value.trim().is_empty());
    let column = one("column").ok_or("Choose the column that says what happened.")?;
    let event = match (one("event"), one("at_least"), one("below")) {
        (Some(value), ..) => Event::Value(value),
        (None, Some(cut), None) => Event::AtLeast { at_least: text::typed_number(&cut)? },
        (None, None, Some(cut)) => Event::Below { below: text::typed_number(&cut)? },
        (None, Some(_), Some(_)) => return Err("Cut the number at one figure: fill in one of the two fields.".into()),
        (None, None, None) if fields.iter().any(|f| f.0 == "at_least") => {
            return Err("Say at which figure the number is cut in two.".into());
        }
        (None, None, None) => {
            Event::AnyOf { any_of: all("any"), name: one("name").unwrap_or_default().trim().to_owned() }
        }
    };
    Ok(Outcome { column, event })
}

/// Fixes the outcome, deals the rows out, and guesses what each column is for.
pub async fn choose_outcome(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Vec<(String, String)>>,
) -> PageResult {
    visitor.check(form.iter().find(|f| f.0 == "csrf").map_or("", |f| &f.1))?;
    let outcome = asked_outcome(&form).map_err(PageError::Refused)?;
    enter_outcome(&app, visitor.workspace_id(), visitor.account_id(), path.id, outcome).await?;
    see_other(&format!("/studies/{}/prepare", path.id))
}

/// Enters an outcome in a study.
pub(crate) async fn enter_outcome(
    app: &App,
    workspace: i64,
    account_id: i64,
    study: i64,
    outcome: Outcome,
) -> Result<(), PageError> {
    let mut view = StudyView::load(app, workspace, study).await?;
    let profile = view.table.figures()?;
    outcome.check(profile.column(&outcome.column)).map_err(|e| PageError::Refused(e.to_string()))?;
    let records = app.store.columns(&view.table, None).await?;
    let split = view.state.split.clone();
    let asked = outcome.clone();
    let (columns, counted) = web::block(move || guess_columns(&records, &profile, &asked, split))
        .await
        .map_err(|e| PageError::Refused(format!("The columns could not be looked at: {e}.")))?
        .map_err(PageError::Refused)?;
    let chosen = format!("Event: {}", outcome.words());
    let same_column = view.state.outcome.as_ref().is_some_and(|before| before.column == outcome.column);
    view.state.columns = if same_column { with_choices(columns, &view.state) } else { columns };
    view.state.outcome = Some(outcome);
    view.state.counted = Some(counted);
    let sentence = event_sentence(&view)?.unwrap_or_default();
    let figure = sentence.split_once(": ").map_or(sentence.as_str(), |(_, rest)| rest).to_owned();
    super::choose(app, &view.study, &view.state, &Choice { account_id, chosen, figure }).await?;
    Ok(())
}

/// Moves a study to another version of its records: the choices stay as far as
/// their columns are there, and new columns are guessed.
pub(crate) async fn enter_version(app: &App, view: &StudyView, account_id: i64, table: i64) -> Result<(), PageError> {
    let to = app.store.table(view.study.workspace_id, table).await?;
    if to.name != view.table.name || to.is_list {
        return Err(PageError::Refused(format!("{} is not a version of {}.", to.name, view.table.name)));
    }
    let mut state = view.state.clone();
    state.table = Some(to.id);
    let profile = to.figures()?;
    if let Some(outcome) = state.outcome.clone() {
        outcome.check(profile.column(&outcome.column)).map_err(|e| PageError::Refused(e.to_string()))?;
        let (records, split) = (app.store.columns(&to, None).await?, state.split.clone());
        let guessed = web::block(move || guess_columns(&records, &profile, &outcome, split)).await;
        let (columns, counted) = guessed
            .map_err(|e| PageError::Refused(format!("The columns could not be looked at: {e}.")))?
            .map_err(PageError::Refused)?;
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
    super::choose(app, &view.study, &state, &Choice { account_id, chosen, figure }).await
}

/// What each column is for, told by its figures and by how well it alone
/// foretells the outcome among training rows.
fn guess_columns(
    records: &Table,
    profile: &TableProfile,
    outcome: &Outcome,
    split: SplitPlan,
) -> Result<(Vec<ColumnChoice>, (u64, u64)), String> {
    let happened = outcome.read(records).map_err(|e| e.to_string())?;
    let rows = split.deal(records, &happened).map_err(|e| e.to_string())?.training;
    let event: Vec<bool> = rows.iter().map(|&r| happened[r] == Some(true)).collect();
    let areas = study::probe::areas(records, &rows, &event);
    let area = |name: &str| areas.iter().find(|a| a.0 == name).map(|a| a.1);
    let counted = |wanted: Option<bool>| happened.iter().filter(|h| **h == wanted).count() as u64;
    let (events, others) = (counted(Some(true)), counted(Some(false)));
    Ok((study::guess(profile, &outcome.column, area), (events, events + others)))
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

/// Leaves out everything that should not go in.
pub async fn leave_out(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<super::Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    enter_left_out(&app, visitor.workspace_id(), visitor.account_id(), path.id).await?;
    see_other(&format!("/studies/{}/prepare", path.id))
}

/// Leaves out every column of a study that should not go in; their names.
pub(crate) async fn enter_left_out(
    app: &App,
    workspace: i64,
    account_id: i64,
    study: i64,
) -> Result<Vec<String>, PageError> {
    let study = app.store.study(workspace, study).await?;
    let mut state = study.choices()?;
    let mut names = Vec::new();
    for column in &mut state.columns {
        if column.stands_under() == Verdict::ShouldNotGoIn {
            names.push(column.name.clone());
            *column = column.left_out();
        }
    }
    if !names.is_empty() {
        let chosen = format!("{} left out", text::counted(names.len(), "column", "columns"));
        super::choose(app, &study, &state, &Choice { account_id, chosen, figure: names.join(", ") }).await?;
    }
    Ok(names)
}

/// A role and an answer for one column.
#[derive(Deserialize)]
pub struct ColumnForm {
    csrf: String,
    column: String,
    role: String,
    known_when: String,
}

/// Changes what one column is for.
pub async fn change_column(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<ColumnForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let role: Role = form.role.parse().map_err(PageError::Refused)?;
    let known_when: KnownWhen = form.known_when.parse().map_err(PageError::Refused)?;
    let mut state = view.state.clone();
    let column = state.columns.iter_mut().find(|c| c.name == form.column).ok_or(PageError::NotFound)?;
    if (role == Role::Outcome) != (column.role == Role::Outcome) {
        return Err(PageError::Refused("The outcome is chosen at the head of this page; there is one of them.".into()));
    }
    if (column.role, column.known_when) == (role, known_when) {
        return see_other(&format!("{}?column={}#open", view.href("prepare"), encoded(&form.column)));
    }
    let before = format!("{}, {}", column.role.word(), column.known_when.word());
    column.role = role;
    column.known_when = known_when;
    // Somebody has said so now.
    if column.verdict == Verdict::AskedAbout && known_when != KnownWhen::Unsure {
        column.verdict = Verdict::GoesIn;
    }
    let choice = Choice {
        account_id: visitor.account_id(),
        chosen: format!("{}: {}, known {}", form.column, role.word(), known_when.word()),
        figure: format!("was {before}"),
    };
    super::choose(&app, &view.study, &state, &choice).await?;
    see_other(&format!("{}?column={}#open", view.href("prepare"), encoded(&form.column)))
}
