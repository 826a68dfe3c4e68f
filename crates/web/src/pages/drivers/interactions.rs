//! Two columns together: the event rate as a map.

use actix_web::web;
use askama::Template;
use pronoia_core::drivers::{PairMap, RateGroup};
use pronoia_core::number::{count, percent};
use pronoia_core::prepare::StepAction;
use pronoia_core::stats::Count;
use pronoia_service::ServiceError;
use pronoia_service::prepare::steps::AddStep;
use pronoia_service::study_view::StudyView;
use serde::Deserialize;

use super::super::{PageResult, StudyPath, see_other};
use super::{DriversContext, DriversRows, DriversStop, ratio};
use crate::App;
use crate::definitions::{self, Meanings};
use crate::error::html;
use crate::frame::{Frame, encoded};
use crate::session::Visitor;

/// Shades of a map.
const SHADES: f64 = 8.0;

#[derive(Template)]
#[template(path = "drivers/interactions.html")]
struct InteractionsPage {
    frame: Frame,
    stop: DriversStop,
    heading: String,
    pairs: Vec<Pair>,
    columns: Vec<String>,
    map: Option<RateMap>,
    meaning: Meanings,
    looked: bool,
}

/// A pair that is offered.
struct Pair {
    down: String,
    across: String,
    href: String,
    open: bool,
    beyond: String,
}

struct RateMap {
    down: String,
    across: String,
    beyond: String,
    down_labels: Vec<String>,
    across_labels: Vec<String>,
    cells: Vec<Vec<RateCell>>,
}

struct RateCell {
    rate: String,
    rows: String,
    explained: String,
    shade: usize,
    empty: bool,
}

/// The two columns.
#[derive(Deserialize)]
pub struct InteractionsQuery {
    down: Option<String>,
    across: Option<String>,
}

/// The page.
pub async fn together(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<InteractionsQuery>,
) -> PageResult {
    let DriversContext { study, frame, stop, drivers } =
        DriversContext::at(&app, &visitor, path.id, "together").await?;
    let Some(drivers) = drivers else {
        let heading = "Which columns matter together?".into();
        return html(&InteractionsPage {
            frame,
            stop,
            heading,
            pairs: Vec::new(),
            columns: Vec::new(),
            map: None,
            meaning: Meanings::new(),
            looked: false,
        });
    };
    let chosen = match (&query.down, &query.across) {
        (Some(down), Some(across)) if down == across => {
            return Err(ServiceError::Refused("Choose two different columns for the map.".into()).into());
        }
        (Some(down), Some(across)) => Some((down.clone(), across.clone())),
        _ => drivers.pairs.first().map(|p| (p.down.clone(), p.across.clone())),
    };
    let map = match &chosen {
        None => None,
        Some((down, across)) => match drivers.pairs.iter().find(|p| p.down == *down && p.across == *across) {
            Some(kept) => Some(kept.clone()),
            None => Some(computed(&app, &study, down, across).await?),
        },
    };
    let pairs = drivers
        .pairs
        .iter()
        .map(|p| Pair {
            href: format!("{}/together?down={}&across={}", stop.base, encoded(&p.down), encoded(&p.across)),
            open: chosen.as_ref().is_some_and(|(d, a)| *d == p.down && *a == p.across),
            beyond: thousandths(p.beyond),
            down: p.down.clone(),
            across: p.across.clone(),
        })
        .collect();
    let heading = match drivers.pairs.first() {
        Some(p) => format!("{} and {} interact.", p.down, p.across),
        None => "No two columns interact significantly.".into(),
    };
    let mut columns: Vec<String> = drivers.columns.iter().map(|d| d.column.clone()).collect();
    columns.sort();
    let overall = drivers.all.rate();
    let meaning = map.as_ref().map_or(Meanings::new(), definitions::pair);
    html(&InteractionsPage {
        frame,
        map: map.map(|m| written(&m, overall)),
        stop,
        heading,
        pairs,
        columns,
        meaning,
        looked: true,
    })
}

/// Cells of a map, and the name of the column to make of them.
#[derive(Deserialize)]
pub struct Region {
    csrf: String,
    down: String,
    across: String,
    name: String,
    #[serde(flatten)]
    cells: std::collections::BTreeMap<String, String>,
}

/// Makes a column that says who is in the cells chosen. What it is worth is
/// measured on validation rows, from which the cells were not chosen.
pub async fn region(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Region>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let training = DriversRows::of(&app, &study, &[&form.down, &form.across]).await?;
    let (down, across) = (training.column(&form.down)?, training.column(&form.across)?);
    let map = PairMap::of(down, across, &training.rows, &training.event);
    let cells: Vec<(usize, usize)> = form
        .cells
        .keys()
        .filter_map(|key| key.strip_prefix("cell_")?.split_once('_'))
        .filter_map(|(i, j)| Some((i.parse().ok()?, j.parse().ok()?)))
        .collect();
    let expression = map.region(&cells).ok_or_else(|| {
        ServiceError::Refused("No cell of the map is chosen. Tick the cells of the new column.".into())
    })?;
    let inside = |row: usize| {
        cells.iter().any(|&(i, j)| {
            let is_in = |groups: &[RateGroup], at: usize, c| groups.get(at).is_some_and(|g| g.members.contain(c, row));
            is_in(&map.down_groups, i, down) && is_in(&map.across_groups, j, across)
        })
    };
    let (mut within, mut without) = (Count::default(), Count::default());
    for (&row, &event) in training.validation.iter().zip(&training.later) {
        if inside(row) { within.add(event) } else { without.add(event) }
    }
    let figure = format!(
        "on {} validation rows, which it was not derived from, {} inside and {} outside have the event",
        count(within.rows + without.rows),
        percent(within.rate()),
        percent(without.rate())
    );
    let action = StepAction::Derive { name: form.name.trim().to_owned(), expression };
    let added = app.perform(visitor.actor(), AddStep { study: path.id, step: action, reason: figure }).await?.step;
    see_other(&format!("{}?step={added}", study.href("prepare/steps")))
}

/// A pair that was not kept is counted now.
async fn computed(app: &App, study: &StudyView, down: &str, across: &str) -> Result<PairMap, ServiceError> {
    let training = DriversRows::of(app, study, &[down, across]).await?;
    Ok(PairMap::of(training.column(down)?, training.column(across)?, &training.rows, &training.event))
}

/// Bits in thousandths, as a figure that can be read.
fn thousandths(bits: f64) -> String {
    pronoia_core::number::fixed(bits * 1_000.0, 1)
}

fn written(map: &PairMap, overall: f64) -> RateMap {
    let rates = map.cells.iter().filter(|c| c.rows >= 20).map(|c| c.rate());
    let most = rates.fold(overall, f64::max);
    let cell = |i: usize, j: usize| {
        let c = map.cell(i, j);
        let (low, high) = c.interval();
        RateCell {
            rate: percent(c.rate()),
            rows: count(c.rows),
            explained: format!(
                "{}: {}, {}: {} – {} of {} customers, 95 % CI {} to {}, {} the overall rate",
                map.down,
                map.down_groups[i].label,
                map.across,
                map.across_groups[j].label,
                count(c.events),
                count(c.rows),
                percent(low),
                percent(high),
                ratio(c.rate(), overall)
            ),
            shade: if c.rows == 0 { 0 } else { ((c.rate() / most).min(1.0) * SHADES).round() as usize },
            empty: c.rows == 0,
        }
    };
    RateMap {
        beyond: if map.chance < 0.01 {
            format!(
                "Interaction: {} thousandths of a bit of mutual information beyond the two columns alone; significant (permutation test).",
                thousandths(map.beyond)
            )
        } else {
            "No significant interaction (permutation test).".into()
        },
        cells: (0..map.down_groups.len()).map(|i| (0..map.across_groups.len()).map(|j| cell(i, j)).collect()).collect(),
        down_labels: map.down_groups.iter().map(|g| g.label.clone()).collect(),
        across_labels: map.across_groups.iter().map(|g| g.label.clone()).collect(),
        down: map.down.clone(),
        across: map.across.clone(),
    }
}
