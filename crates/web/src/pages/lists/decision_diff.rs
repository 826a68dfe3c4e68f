//! A list scored twice, by two models or two policies: who changes hands.

use actix_web::web;
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::scored_list::ADDED;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::list;
use pronoia_store::records::{Hands, StoredColumn};
use serde::Deserialize;

use super::list::find;
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::PageResult;
use crate::session::Visitor;

/// Customers who change hands that are shown.
const SHOWN: u64 = 25;

/// Columns of theirs that are shown.
const COLUMNS: usize = 6;

#[derive(Template)]
#[template(path = "lists/decision_diff.html")]
struct DecisionDiffPage {
    frame: Frame,
    list: String,
    heading: String,
    finding: String,
    /// What either is: model and rule, and where its list is.
    sides: [(String, String, String); 2],
    lines: Vec<HandsLine>,
    has_gain: bool,
    columns: Vec<String>,
    movers: Vec<MoverLine>,
}

struct HandsLine {
    decisions: [String; 2],
    same: bool,
    customers: String,
    share: String,
    probability: [String; 2],
    gain: [String; 2],
}

struct MoverLine {
    values: Vec<String>,
    probability: [String; 2],
    decisions: [String; 2],
}

/// The keys in the address of two lists.
#[derive(Deserialize)]
pub struct BesidePath {
    id: i64,
    list: i64,
    other: i64,
}

/// Scored lists of the same table, to be laid beside a list: address and what they are.
pub async fn others(app: &App, view: &StudyView, list: &list::Model) -> Result<Vec<(String, String)>, ServiceError> {
    let mut found = Vec::new();
    if list.scored_id.is_none() {
        return Ok(found);
    }
    let same =
        |other: &&list::Model| other.id != list.id && other.table_id == list.table_id && other.scored_id.is_some();
    for other in view.lists.iter().filter(same) {
        let (model, rule) = about(app, other).await?;
        found.push((format!("{}/{}/beside/{}", view.href("lists"), list.id, other.id), format!("{model}, {rule}")));
    }
    Ok(found)
}

async fn about(app: &App, list: &list::Model) -> Result<(String, String), ServiceError> {
    let model = app.store.model_name(list.model_id).await?;
    Ok((model, list.decided_by()?.policy.rule.in_short()))
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<BesidePath>) -> PageResult {
    let (view, first) = find(&app, &visitor, (path.id, path.list)).await?;
    let second =
        view.lists.iter().find(|list| list.id == path.other && list.id != first.id).ok_or(ServiceError::NotFound)?;
    if first.table_id != second.table_id {
        return Err(ServiceError::Refused(
            "These lists have different customers; only lists of the same customers can be compared.".into(),
        )
        .into());
    }
    let (Some(one), Some(other)) = (first.scored_id, second.scored_id) else {
        return Err(ServiceError::Refused("One of the lists is not scored yet.".into()).into());
    };
    let one = app.store.table(visitor.workspace_id(), one).await?;
    let other = app.store.table(visitor.workspace_id(), other).await?;
    // Worked out once, since lists never change.
    let work = async {
        let hands = app.store.hands(&one, &other).await?;
        Ok::<_, ServiceError>((hands, app.store.movers(&one, &other, SHOWN).await?))
    };
    let both = app.decision_diffs.or_put((one.id, other.id), work).await?;
    let (hands, movers) = &*both;
    let columns = one.stored_columns()?;
    let shown: Vec<usize> =
        (0..columns.len()).filter(|&at| !columns[at].name.starts_with(ADDED)).take(COLUMNS).collect();
    let mut sides = Vec::new();
    for list in [&first, second] {
        let (model, rule) = about(&app, list).await?;
        sides.push((model, rule, format!("{}/{}", view.href("lists"), list.id)));
    }
    let [side, other_side] = [sides.remove(0), sides.remove(0)];
    let (heading, finding) = said(hands);
    let total: u64 = hands.iter().map(|hands| hands.customers).sum();
    html(&DecisionDiffPage {
        frame: Frame::of_study(&app, &visitor, &view, 7).await?,
        list: side.2.clone(),
        heading,
        finding,
        sides: [side, other_side],
        has_gain: hands.iter().any(|hands| hands.gain.is_some()),
        lines: hands.iter().map(|hands| HandsLine::of(hands, total)).collect(),
        columns: shown.iter().map(|&at| StoredColumn::clone(&columns[at]).name).collect(),
        movers: movers
            .iter()
            .map(|mover| MoverLine {
                values: shown.iter().map(|&at| mover.values[at].clone().unwrap_or_else(|| "–".into())).collect(),
                probability: mover.probability.map(|p| text::fixed(p, 3)),
                decisions: mover.decisions.clone(),
            })
            .collect(),
    })
}

/// Who changes hands, in a heading and a sentence.
fn said(hands: &[Hands]) -> (String, String) {
    let total: u64 = hands.iter().map(|hands| hands.customers).sum();
    let changed = || hands.iter().filter(|hands| hands.decisions[0] != hands.decisions[1]);
    let moved: u64 = changed().map(|hands| hands.customers).sum();
    let of = |first: bool| -> u64 {
        let acts = |hands: &&Hands| (hands.decisions[0] == "act") == first && (hands.decisions[1] == "act") != first;
        changed().filter(acts).map(|hands| hands.customers).sum()
    };
    let heading = match moved {
        0 => format!("Both make the same decision for all {} customers.", text::count(total)),
        n => format!("The decision differs for {} of {} customers.", text::count(n), text::count(total)),
    };
    let finding = match (moved, of(true), of(false)) {
        (0, ..) => String::new(),
        (_, only_first, only_second) => format!(
            "{} are selected by the first only, {} by the second only ({} of all customers together).",
            text::count(only_first),
            text::count(only_second),
            text::percent(moved as f64 / total.max(1) as f64)
        ),
    };
    (heading, finding)
}

impl HandsLine {
    fn of(hands: &Hands, total: u64) -> Self {
        Self {
            decisions: hands.decisions.clone(),
            same: hands.decisions[0] == hands.decisions[1],
            customers: text::count(hands.customers),
            share: text::percent(hands.customers as f64 / total.max(1) as f64),
            probability: hands.probability.map(|p| text::fixed(p, 3)),
            gain: hands.gain.map_or([String::new(), String::new()], |gain| gain.map(text::money)),
        }
    }
}
