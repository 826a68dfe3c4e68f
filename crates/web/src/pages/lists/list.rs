//! One list: how it matches, and once it is scored, who is acted on.

use std::collections::HashMap;

use actix_web::web;
use askama::Template;
use pronoia_core::score::{Extras, MOST_REASONS, MatchReport};
use pronoia_core::sentence::capital;
use pronoia_service::ServiceError;
use pronoia_service::lists::{ImportList, PublishList, ScoreList};
use pronoia_service::study_view::{StudyView, decide_alike, whom};
use pronoia_service::text;
use pronoia_store::jobs::{StateChange, Work};
use pronoia_store::{list, record_table};
use serde::Deserialize;

use super::decision_diff;
use super::download::TakeView;
use super::groups::GroupsView;
use super::match_report::{self, MatchView};
use super::rows::{ScoredRowsQuery, ScoredRowsView};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::lists::campaigns::CampaignProposal;
use crate::pages::{PageResult, Signed, is_asked, see_other};
use crate::session::Visitor;

/// Rows of a list up to which reasons are proposed; they take a while where there are more.
const FEW: i64 = 20_000;

#[derive(Template)]
#[template(path = "lists/list.html")]
struct ListPage {
    frame: Frame,
    base: String,
    lists: String,
    name: String,
    heading: String,
    model: String,
    /// On whom its policy acts.
    acting: String,
    state: String,
    /// Whether it is being matched anew.
    matching: bool,
    /// Whether the study's policy is another one by now.
    policy_changed: bool,
    matched: MatchView,
    can_score: bool,
    extras: Extras,
    most_reasons: usize,
    scored: Option<ScoredView>,
    /// Where it stands for other programs to read.
    published: Option<String>,
    /// The same customers scored otherwise: address, and how.
    beside: Vec<(String, String)>,
}

/// Who is acted on.
struct ScoredView {
    rows: ScoredRowsView,
    groups: GroupsView,
    take: TakeView,
    proposal: CampaignProposal,
    lacking: Option<String>,
    /// How many are left alone because they are not to be contacted.
    suppressed: Option<String>,
}

/// The keys in the address of a list.
#[derive(Deserialize)]
pub struct ListPath {
    pub id: i64,
    pub list: i64,
}

/// The list of an address, with its study.
pub(crate) async fn find(
    app: &App,
    visitor: &Visitor,
    (study, list): (i64, i64),
) -> Result<(StudyView, list::Model), ServiceError> {
    let view = StudyView::load(app, visitor.workspace_id(), study).await?;
    let list = view.lists.iter().find(|l| l.id == list).cloned().ok_or(ServiceError::NotFound)?;
    Ok((view, list))
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ListPath>,
    asked: web::Query<ScoredRowsQuery>,
) -> PageResult {
    let (view, list) = find(&app, &visitor, (path.id, path.list)).await?;
    let report = list.matched()?;
    let source = app.store.table(visitor.workspace_id(), list.table_id).await?;
    let matching = is_asked(&app, &view.study, &Work::Match { list: list.id }).await?;
    let scored = match list.scored_id {
        None => None,
        Some(id) => {
            let table = app.store.table(visitor.workspace_id(), id).await?;
            Some(scored(&app, &view, &list, &table, &asked).await?)
        }
    };
    let chosen = list.decided_by()?;
    let whom = whom(&chosen.population, "");
    let extras = match list.scored_id {
        None if list.state == "matched" => {
            Extras { reasons: if source.rows <= FEW { 3 } else { 0 }, ..Extras::usual() }
        }
        _ => list.held()?,
    };
    let in_works = list.state == "scoring";
    html(&ListPage {
        frame: Frame::of_study(&app, &visitor, &view, 7).await?,
        lists: view.href("lists"),
        base: format!("{}/{}", view.href("lists"), list.id),
        heading: heading(&view, &list, &source, &report, &chosen.currency),
        name: source.name.clone(),
        model: app.store.model_name(list.model_id).await?,
        acting: format!("{}; the policy was chosen {whom}", chosen.policy.rule.in_words()),
        policy_changed: view.state.policy.as_ref().is_some_and(|now| !decide_alike(now, &chosen)),
        matched: MatchView::of(&report, &list, &source)?,
        can_score: report.is_complete() && !in_works && !matching && list.scored_id.is_none(),
        extras,
        most_reasons: MOST_REASONS,
        beside: decision_diff::others(&app, &view, &list).await?,
        published: list.published,
        state: list.state,
        matching,
        scored,
    })
}

fn heading(
    view: &StudyView,
    list: &list::Model,
    source: &record_table::Model,
    report: &MatchReport,
    currency: &str,
) -> String {
    let rows = text::count_of(source.rows);
    match (list.acted, report.lacking().len(), match_report::remarkable(report)) {
        (Some(acted), ..) => {
            let gain = list.gain.map_or(String::new(), |gain| {
                format!(" Expected incremental profit: {}.", text::money_in(gain, currency))
            });
            format!("{} {} of {rows} customers.{gain}", capital(view.study.kind().act()), text::count_of(acted))
        }
        (None, 0, 0) => format!("{} fits the model: {rows} customers can be scored.", source.name),
        (None, 0, n) => format!("{} can be scored; {}.", source.name, text::counted(n, "remark", "remarks")),
        (None, n, _) => format!(
            "{} before {} can be scored.",
            capital(&text::counted(n, "column needs a mapping", "columns need a mapping")),
            source.name
        ),
    }
}

async fn scored(
    app: &App,
    view: &StudyView,
    list: &list::Model,
    table: &record_table::Model,
    asked: &ScoredRowsQuery,
) -> Result<ScoredView, ServiceError> {
    let base = format!("{}/{}", view.href("lists"), list.id);
    Ok(ScoredView {
        rows: ScoredRowsView::of(app, table, asked, &base).await?,
        groups: GroupsView::of(app, table, asked).await?,
        take: TakeView::of(table)?,
        suppressed: (list.suppressed > 0).then(|| {
            format!(
                "{} suppressed (opted out), whatever the policy.",
                text::counted(list.suppressed as usize, "customer is", "customers are")
            )
        }),
        proposal: CampaignProposal::of(app, view, list, table).await?,
        lacking: (list.lacking > 0).then(|| {
            format!(
                "For {} an amount has no valid value; its mean when the policy was kept is used.",
                text::counted(list.lacking as usize, "customer", "customers")
            )
        }),
    })
}

/// What a scored list is to hold besides.
#[derive(Deserialize)]
pub struct ScoreForm {
    csrf: String,
    #[serde(flatten)]
    fields: HashMap<String, String>,
}

impl ScoreForm {
    fn extras(&self) -> Result<Extras, ServiceError> {
        let ticked = |name: &str| self.fields.contains_key(name);
        let reasons = self.fields.get("reasons").map_or("0", String::as_str);
        let reasons = reasons.trim().parse::<usize>().ok().filter(|n| *n <= MOST_REASONS).ok_or_else(|| {
            ServiceError::Refused(format!("Between 0 and {MOST_REASONS} reasons can be written; it is “{reasons}”."))
        })?;
        Ok(Extras {
            other_probability: ticked("other_probability"),
            gain: ticked("gain"),
            band: ticked("band"),
            remarks: ticked("remarks"),
            reasons,
        })
    }
}

/// Puts the scoring in the queue.
pub async fn score(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ListPath>,
    form: web::Form<ScoreForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let (view, list) = find(&app, &visitor, (path.id, path.list)).await?;
    if !can_be_scored(&list) {
        return see_other(&format!("{}/{}", view.href("lists"), list.id));
    }
    let job =
        app.perform(visitor.actor(), ScoreList { study: path.id, list: list.id, extras: form.extras()? }).await?.job;
    see_other(&format!("/jobs/{job}"))
}

/// Whether a list may be put in the queue to be scored.
pub fn can_be_scored(list: &list::Model) -> bool {
    matches!(list.state.as_str(), "matched" | "stopped" | "failed")
}

/// Brings the same customers in once more, to be decided about by the policy kept now.
pub async fn again(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ListPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let (view, list) = find(&app, &visitor, (path.id, path.list)).await?;
    let job = app.perform(visitor.actor(), ImportList { study: view.study.id, table: list.table_id }).await?.job;
    see_other(&format!("/jobs/{job}"))
}

/// Makes the scored list a table that other programs read.
pub async fn publish(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ListPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let job = app.perform(visitor.actor(), PublishList { study: path.id, list: path.list }).await?.job;
    see_other(&format!("/jobs/{job}"))
}

/// What somebody says about the columns.
#[derive(Deserialize)]
pub struct MappingForm {
    csrf: String,
    #[serde(flatten)]
    fields: HashMap<String, String>,
}

/// Keeps what is said about the columns, and matches the list anew.
pub async fn answer(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ListPath>,
    form: web::Form<MappingForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let (view, list) = find(&app, &visitor, (path.id, path.list)).await?;
    let address = format!("{}/{}", view.href("lists"), list.id);
    let source = app.store.table(visitor.workspace_id(), list.table_id).await?;
    let answers = match_report::answers(&form.fields, &list.matched()?, &source)?;
    if answers == list.said()? {
        return see_other(&address);
    }
    let (work, change) =
        (Work::Match { list: list.id }, StateChange::ListAnswered { list: list.id, answers: &answers });
    let of_study = (visitor.workspace_id(), Some(view.study.id));
    let job = app.store.change_and_enqueue(of_study, ("Matching the list", &work), change).await?;
    see_other(&format!("/jobs/{job}"))
}
