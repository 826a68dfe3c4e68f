//! Prepare: which columns may know of what happened.

pub(crate) mod cautions;
pub(crate) mod outcome;
pub(crate) mod split;
pub(crate) mod steps;

use actix_web::web;
use askama::Template;
use pronoia_core::Kind;
use pronoia_core::number::{self, count, percent};
use pronoia_core::profile::ColumnProfile;
use pronoia_core::study::{Basis, ColumnChoice, ColumnRole, KnownWhen, Verdict};
use pronoia_service::prepare::columns::{ExcludeProposed, SetColumnRole};
use pronoia_service::prepare::outcome::event_sentence;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use serde::Deserialize;

use super::records::{ColumnLine, line, made_line};
use super::{PageResult, StudyPath, see_other};
use crate::App;
use crate::error::html;
use crate::frame::{Frame, encoded};
use crate::pages::prepare::outcome::WindowView;
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "prepare/prepare.html")]
struct PreparePage {
    frame: Frame,
    views: PrepareViews,
    base: String,
    /// Columns that can be the outcome, with their two values and counts.
    candidates: Vec<OutcomeCandidate>,
    /// Columns with a few values, any of which may be the event.
    several: Vec<OutcomeCandidate>,
    /// Numbers that can be cut in two, with their range.
    numbers: Vec<(String, String)>,
    chosen: Option<ChosenOutcome>,
    groups: Vec<VerdictGroup>,
    roles: [ColumnRole; 9],
    answers: [KnownWhen; 4],
    heading: String,
}

/// The ways to look at the stop.
pub(super) struct PrepareViews {
    pub(super) all: Vec<ViewLink>,
}

/// One of them.
pub(super) struct ViewLink {
    pub(super) name: String,
    pub(super) href: String,
    pub(super) current: bool,
}

impl PrepareViews {
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

struct OutcomeCandidate {
    column: String,
    values: Vec<(String, String)>,
    missing: String,
}

struct ChosenOutcome {
    sentence: String,
    window: Option<WindowView>,
    split: String,
}

struct VerdictGroup {
    heading: String,
    explanation: &'static str,
    wedge: bool,
    can_leave_out: bool,
    columns: Vec<ChoiceLine>,
}

struct ChoiceLine {
    choice: ColumnChoice,
    column: ColumnLine,
}

/// What is open on the page.
#[derive(Deserialize)]
pub struct PrepareQuery {
    column: Option<String>,
    change: Option<String>,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<PrepareQuery>,
) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let profile = view.table.figures()?;
    let asking = view.state.outcome.is_none() || query.change.as_deref() == Some("outcome");
    let (mut candidates, mut several, mut numbers) = (Vec::new(), Vec::new(), Vec::new());
    if asking {
        for column in profile.columns.iter().filter(|c| c.distinct == 2) {
            let share = |n: u64| format!("{} ({})", count(n), percent(n as f64 / profile.rows.max(1) as f64));
            // The rarer value is more often the event, so it is offered first.
            let values = column.top.iter().rev().map(|(v, n)| (v.clone(), share(*n))).collect();
            candidates.push(OutcomeCandidate { column: column.name.clone(), values, missing: count(column.missing) });
        }
        let listed = |c: &&ColumnProfile| c.distinct > 2 && c.top.len() as u64 == c.distinct;
        for column in profile.columns.iter().filter(listed) {
            let values = column.top.iter().map(|(v, n)| (v.clone(), count(*n))).collect();
            several.push(OutcomeCandidate { column: column.name.clone(), values, missing: count(column.missing) });
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
        (false, Some(sentence)) => Some(ChosenOutcome {
            sentence,
            window: WindowView::of(&view, &profile, query.change.as_deref() == Some("window")),
            split: view.state.split.sentence(),
        }),
        _ => None,
    };
    let known = pronoia_service::prepare::steps::columns_of(&view)?;
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
    let lines = |verdict: Verdict| -> Vec<ChoiceLine> {
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
                    crate::pages::drivers::rate_strip::draw(&mut column, driver);
                }
                Some(ChoiceLine { choice: choice.clone(), column })
            })
            .collect()
    };
    let group = |verdict, heading: fn(usize) -> String, explanation, wedge| {
        let columns = lines(verdict);
        VerdictGroup {
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
            |n| format!("{n} to exclude"),
            "As predictors they would cause leakage, or carry no information.",
            true,
        ),
        group(
            Verdict::AskedAbout,
            |n| format!("{n} to confirm"),
            "Were their values known at the moment of the decision? The records cannot tell.",
            true,
        ),
        group(Verdict::GoesIn, |n| format!("{n} predictors"), "No caution raised.", false),
        group(
            Verdict::KeptAside,
            |n| format!("{n} with other roles"),
            "They have another role, or are excluded.",
            false,
        ),
    ];
    groups.retain(|g| !g.columns.is_empty());
    let heading = if view.state.outcome.is_none() {
        "Which column is the outcome, and which value is the event?".into()
    } else {
        heading(&view)
    };
    let frame = Frame::of_study(&app, &visitor, &view, 3).await?;
    html(&PreparePage {
        frame,
        views: PrepareViews::of(&view, ""),
        base: view.href("prepare"),
        candidates,
        several,
        numbers,
        chosen,
        groups,
        roles: ColumnRole::ALL,
        answers: KnownWhen::ALL,
        heading,
    })
}

fn heading(view: &StudyView) -> String {
    let of = |v: Verdict| view.state.columns.iter().filter(|c| c.stands_under() == v).count();
    let should_not = of(Verdict::ShouldNotGoIn);
    let asked = of(Verdict::AskedAbout);
    let all = view.state.columns.iter().filter(|c| c.goes_in()).count();
    let mut parts = vec![text::counted(all - should_not - asked, "predictor", "predictors")];
    if should_not > 0 {
        parts.push(format!("{should_not} to exclude"));
    }
    if asked > 0 {
        parts.push(if asked == 1 { "1 to confirm".into() } else { format!("{asked} to confirm") });
    }
    match parts.len() {
        1 => format!("{}.", parts[0]),
        2 => format!("{}, and {}.", parts[0], parts[1]),
        _ => format!("{}, {}, and {}.", parts[0], parts[1], parts[2]),
    }
}

/// Excludes every column that should not be a predictor.
pub async fn leave_out(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<super::Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), ExcludeProposed { study: path.id }).await?;
    see_other(&format!("/studies/{}/prepare", path.id))
}

/// A role and an answer for one column.
#[derive(Deserialize)]
pub struct ColumnForm {
    csrf: String,
    column: String,
    role: String,
    known_when: String,
}

/// Changes the role of a column.
pub async fn change_column(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<ColumnForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let ColumnForm { column, role, known_when, .. } = form.into_inner();
    let open = format!("/studies/{}/prepare?column={}#open", path.id, encoded(&column));
    app.perform(
        visitor.actor(),
        SetColumnRole { study: path.id, column, role, known_when: Some(known_when), reason: String::new() },
    )
    .await?;
    see_other(&open)
}
