//! Drivers: what goes with the outcome, among training rows.

mod interactions;
pub(crate) mod rate_strip;
mod rates;
mod segments;
mod totals;

pub use interactions::{region, together};
pub use rates::{page, rates_csv};
pub use segments::segments;
pub use totals::totals;

use actix_web::web;
use pronoia_core::Table;
use pronoia_core::drivers::Drivers;
use pronoia_core::number::{count, percent};
use pronoia_core::split::Split;
use pronoia_core::study::{Basis, Outcome};
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;

use super::{PageResult, Signed, StudyPath, see_other};
use crate::App;
use crate::frame::Frame;
use crate::session::Visitor;

/// What the four views of the stop share.
struct DriversStop {
    base: String,
    /// Where the outcome is chosen.
    prepare: String,
    csrf: String,
    /// The view that is open: its word in the address.
    view: &'static str,
    /// Whether the study has an outcome.
    asked: bool,
    stale: bool,
    /// On which rows, and how often the event happens there.
    rows: String,
    /// The event in words: “cancelled is “yes””.
    event: String,
}

impl DriversStop {
    fn of(frame: &Frame, study: &StudyView, view: &'static str, found: Option<&Drivers>) -> Self {
        let rows = found.map(|found| {
            format!(
                "On {} training rows, {} of them with the event ({})",
                count(found.all.rows),
                count(found.all.events),
                percent(found.all.rate())
            )
        });
        let event = Outcome::words;
        Self {
            base: study.href("drivers"),
            prepare: study.href("prepare"),
            csrf: frame.csrf.clone(),
            view,
            asked: study.state.outcome.is_some(),
            stale: study.finding_is_stale(),
            rows: rows.unwrap_or_default(),
            event: study.state.outcome.as_ref().map_or(String::new(), event),
        }
    }

    fn is_open(&self, view: &str) -> bool {
        self.view == view
    }
}

/// What every view of the stop begins with.
struct DriversContext {
    study: StudyView,
    frame: Frame,
    stop: DriversStop,
    drivers: Option<Drivers>,
}

impl DriversContext {
    async fn at(app: &App, visitor: &Visitor, study: i64, view: &'static str) -> Result<Self, ServiceError> {
        let study = StudyView::load(app, visitor.workspace_id(), study).await?;
        let drivers = found(app, &study).await?;
        let frame = Frame::of_study(app, visitor, &study, 2).await?;
        let stop = DriversStop::of(&frame, &study, view, drivers.as_ref());
        Ok(Self { study, frame, stop, drivers })
    }
}

/// What was found for a study, if it was looked for.
async fn found(app: &App, study: &StudyView) -> Result<Option<Drivers>, ServiceError> {
    Ok(match app.store.finding(study.study.id).await? {
        Some(finding) => Some(finding.found()?),
        None => None,
    })
}

/// Looks again, with the present choices.
pub async fn look(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let study = app.store.study(visitor.workspace_id(), path.id).await?;
    if study.choices()?.outcome.is_none() {
        return Err(
            ServiceError::Refused("First set the outcome: choose the outcome on the Prepare page.".into()).into()
        );
    }
    let job = app.store.look_again(visitor.workspace_id(), path.id).await?;
    see_other(&format!("/jobs/{job}"))
}

/// The training rows of a study, with some of its columns.
struct DriversRows {
    table: Table,
    rows: Vec<usize>,
    event: Vec<bool>,
    /// The rows that nothing here was drawn from.
    validation: Vec<usize>,
    /// What happened in them.
    later: Vec<bool>,
}

impl DriversRows {
    /// Reads the columns named, and the outcome, and deals the rows out.
    async fn of(app: &App, study: &StudyView, columns: &[&str]) -> Result<Self, ServiceError> {
        let basis = study.state.basis().ok_or_else(|| ServiceError::Refused("The study has no outcome yet.".into()))?;
        let kinds = study.table.kinds()?;
        let asked = Basis { predictors: columns.iter().map(|c| (*c).to_owned()).collect(), ..basis.clone() };
        let names = asked.columns_read(&kinds).map_err(|e| ServiceError::Refused(e.to_string()))?;
        let table = app.store.columns(&study.table, Some(&names)).await?;
        let dealt = web::block(move || {
            let (table, happened) = basis.population(&table)?;
            let Split { training, validation, .. } = basis.split.deal(&table, &happened).map_err(|e| e.to_string())?;
            let of = |rows: &[usize]| rows.iter().map(|&row| happened[row] == Some(true)).collect();
            let (event, later) = (of(&training), of(&validation));
            Ok::<_, String>(Self { table, rows: training, event, validation, later })
        });
        let dealt = dealt.await.map_err(|e| ServiceError::Refused(format!("The rows could not be split: {e}.")))?;
        dealt.map_err(ServiceError::Refused)
    }

    fn column(&self, name: &str) -> Result<&pronoia_core::Column, ServiceError> {
        self.table.column(name).ok_or(ServiceError::NotFound)
    }
}

/// How much of the outcome's uncertainty, for a page.
fn share_of(share: f64) -> String {
    if share < 0.001 { format!("under 0.1{}%", pronoia_core::number::THIN) } else { percent(share) }
}

/// A rate relative to another: “× 1.9”.
fn ratio(rate: f64, overall: f64) -> String {
    format!("×{}{}", pronoia_core::number::THIN, text::fixed(rate / overall, 2))
}
