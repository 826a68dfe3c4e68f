//! What the policy means for groups of customers.

use actix_web::web;
use askama::Template;
use pronoia_core::decide::{GroupDecision, Order, PolicyAction};
use pronoia_core::drivers::Grouping;
use pronoia_core::question::Question;
use pronoia_core::stats::Count;
use pronoia_core::study::ColumnRole;
use pronoia_service::ServiceError;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::TypedFields;
use pronoia_service::study_view::{StudyView, whom};
use pronoia_service::text;
use serde::Deserialize;

use super::ablation::WithoutView;
use super::views::{DecideView, DecideViews};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, StudyPath};
use crate::run_blocking::apart;
use crate::session::Visitor;

/// Groups of a column at most.
const GROUPS: usize = 10;

/// Width of the ladder in its own units.
const WIDTH: f64 = 150.0;

#[derive(Template)]
#[template(path = "decide/groups.html")]
struct GroupsPage {
    frame: Frame,
    views: DecideViews,
    base: String,
    train: String,
    prepare: String,
    question: Question,
    /// Columns to choose from, and the one that was chosen.
    columns: Vec<(String, bool)>,
    heading: String,
    whom: String,
    ladders: Vec<GroupLadder>,
    without: Option<WithoutView>,
}

/// One column.
pub struct GroupLadder {
    pub(super) column: String,
    sensitive: bool,
    pub(super) finding: String,
    /// Whether the finding is one to look into.
    caution: bool,
    overall: String,
    pub(super) rungs: Vec<GroupRung>,
}

/// One group.
pub struct GroupRung {
    pub(super) label: String,
    pub(super) rows: String,
    pub(super) acted: String,
    /// Where its share, and the ends of its interval, lie on the ladder.
    at: [String; 3],
    thickness: String,
    /// How often acted on compared with others, and the interval of that.
    pub(super) ratio: (String, String),
    differs: bool,
    pub(super) precision: String,
    pub(super) recall: String,
    said: String,
    happened: String,
    misjudged: bool,
    pub(super) gain: String,
}

/// Which column, beside the sensitive ones.
#[derive(Deserialize)]
pub struct GroupsQuery {
    column: Option<String>,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    asked: web::Query<GroupsQuery>,
) -> PageResult {
    html(&apart(async move || compared(&app, &visitor, path.id, &asked).await).await?)
}

async fn compared(app: &App, visitor: &Visitor, study: i64, asked: &GroupsQuery) -> Result<GroupsPage, ServiceError> {
    let view = StudyView::load(app, visitor.workspace_id(), study).await?;
    let stored = view.table.names()?;
    if let Some(wrong) = asked.column.as_ref().filter(|name| !name.is_empty() && !stored.contains(name)) {
        return Err(ServiceError::Refused(format!("There is no column “{wrong}” in these records.")));
    }
    let sensitive: Vec<String> =
        view.state.columns.iter().filter(|c| c.role == ColumnRole::Sensitive).map(|c| c.name.clone()).collect();
    let mut looked_at = sensitive.clone();
    looked_at.extend(asked.column.clone().filter(|name| !name.is_empty() && !sensitive.contains(name)));
    let situation = Situation::of(app, &view, &TypedFields::default()).await?;
    let ladders = match &situation {
        Some(situation) if !looked_at.is_empty() => ladders(app, &view, situation, &looked_at, &sensitive).await?,
        _ => Vec::new(),
    };
    let heading = match (&situation, ladders.iter().find(|ladder| ladder.caution).or(ladders.first())) {
        (None, _) => "No column to compare groups by yet.".into(),
        (Some(_), None) => "No column is marked as sensitive; choose one to compare groups by.".into(),
        (Some(_), Some(ladder)) => ladder.finding.clone(),
    };
    let outcome = view.state.outcome.as_ref().map(|outcome| outcome.column.clone());
    Ok(GroupsPage {
        frame: Frame::of_study(app, visitor, &view, 6).await?,
        views: DecideViews::of(&view, DecideView::Groups),
        base: view.href("decide/groups"),
        train: view.href("train"),
        prepare: view.href("prepare"),
        question: view.study.kind(),
        columns: stored
            .into_iter()
            .filter(|name| Some(name) != outcome.as_ref())
            .map(|name| {
                let chosen = asked.column.as_ref() == Some(&name);
                (name, chosen)
            })
            .collect(),
        whom: situation.as_ref().map_or(String::new(), |s| whom(&s.chosen.population, &s.chosen.currency)),
        heading,
        ladders,
        without: WithoutView::of(app, &view).await?,
    })
}

/// What the policy means by each of some columns.
pub(super) async fn ladders(
    app: &App,
    view: &StudyView,
    situation: &Situation<'_>,
    looked_at: &[String],
    sensitive: &[String],
) -> Result<Vec<GroupLadder>, ServiceError> {
    let refused = |e: String| ServiceError::Refused(e);
    let mut names = looked_at.to_vec();
    let mut policy = situation.chosen.policy.clone();
    names.extend(policy.inputs().into_iter().filter(|name| !looked_at.contains(name)));
    let book = app.predictions.open(app, view, situation.model, names).await?;
    let (offered, _) = policy.worked_out(&book.table, &book.rows).map_err(|e| refused(e.to_string()))?;
    let shift = situation.chosen.population.shift();
    let probability: Vec<f64> = book.probability.iter().map(|&p| shift.there(p)).collect();
    let rule = &policy.rule;
    let given = offered.given(rule.by, &probability);
    let payoffs = |at: usize| given.payoffs_of(at);
    let actions: Vec<PolicyAction> = (0..probability.len())
        .map(|at| {
            let p = probability[at];
            let key = if rule.by == Order::Probability { p } else { rule.by.key(p, &payoffs(at)) };
            situation.action(key, p)
        })
        .collect();
    let question = view.study.kind();
    let weights = situation.weighing.weights;
    let mut ladders = Vec::new();
    for name in looked_at {
        let Some(column) = book.table.column(name) else { continue };
        let grouping = Grouping::of(column, &book.rows, &book.event, GROUPS);
        let groups = GroupDecision::of_all(&grouping, (&actions, &probability), &book.event, payoffs, weights);
        ladders.push(GroupLadder::of(name, sensitive.contains(name), &groups, question));
    }
    Ok(ladders)
}

impl GroupLadder {
    fn of(column: &str, sensitive: bool, groups: &[GroupDecision], question: Question) -> Self {
        let all = groups.iter().fold(Count::default(), |sum, group| sum.plus(group.acted));
        let most = groups.iter().map(|g| g.acted.interval().1).fold(all.rate(), f64::max).max(f64::MIN_POSITIVE);
        let place = |share: f64| format!("{:.1}", share / most * WIDTH);
        let widest = groups.iter().map(|g| g.all.rows).max().unwrap_or(1).max(1) as f64;
        let rungs = groups.iter().map(|group| {
            let (low, high) = group.acted.interval();
            let of = |count: Count| if count.rows > 0 { text::fixed(count.rate() * 100.0, 0) } else { "–".into() };
            GroupRung {
                label: group.label.clone(),
                rows: text::count(group.all.rows),
                acted: text::percent(group.acted.rate()),
                at: [group.acted.rate(), low, high].map(place),
                thickness: format!("{:.1}", 2.0 + 8.0 * group.all.rows as f64 / widest),
                ratio: ratio_said(group),
                differs: group.differs(),
                precision: of(group.right),
                recall: of(group.found),
                said: text::percent(group.said),
                happened: text::percent(group.all.rate()),
                misjudged: group.is_misjudged(),
                gain: text::money(group.gain.profit),
            }
        });
        let clear = groups.iter().filter(|group| group.differs());
        let farthest = clear.max_by(|a, b| distance(a).total_cmp(&distance(b)));
        let finding = match farthest.and_then(|group| Some((group, group.ratio?))) {
            None => format!("By {column}, no group has a significantly different selection rate."),
            Some((group, (ratio, ..))) => {
                let how = if ratio >= 1.0 {
                    format!("{} times as often as others", text::fixed(ratio, 2))
                } else {
                    format!("{} as often as others", text::percent(ratio))
                };
                format!(
                    "By {column}, “{}” {} {how}; {} of 100 of them {}.",
                    group.label,
                    if question == Question::Credit { "are declined" } else { "are acted on" },
                    text::fixed(group.all.rate() * 100.0, 0),
                    question.event_verb()
                )
            }
        };
        Self {
            column: column.to_owned(),
            sensitive,
            caution: sensitive && groups.iter().any(GroupDecision::differs),
            finding,
            overall: place(all.rate()),
            rungs: rungs.collect(),
        }
    }
}

/// How often a group is acted on compared with others, and the interval of that.
pub(super) fn ratio_said(group: &GroupDecision) -> (String, String) {
    group.ratio.map_or(("–".into(), String::new()), |(ratio, low, high)| {
        (text::fixed(ratio, 2), format!("{} to {}", text::fixed(low, 2), text::fixed(high, 2)))
    })
}

/// How far a group is from being treated as the others are, either way.
fn distance(group: &GroupDecision) -> f64 {
    group.ratio.map_or(0.0, |(ratio, ..)| ratio.ln().abs())
}
