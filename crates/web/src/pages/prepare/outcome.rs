//! What happened: the outcome of a study, entered, and what follows from it for every column.

use actix_web::web;
use pronoia_core::Kind;
use pronoia_core::profile::TableProfile;
use pronoia_core::study::{EventRule, Outcome, OutcomeWindow};
use pronoia_core::table::written_date;
use pronoia_service::ServiceError;
use pronoia_service::prepare::outcome::{SetOutcome, SetOutcomeWindow};
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use serde::Deserialize;

use crate::App;
use crate::pages::{PageResult, StudyPath, see_other};
use crate::session::Visitor;

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
    let outcome = asked_outcome(&form).map_err(ServiceError::Refused)?;
    app.perform(visitor.actor(), SetOutcome { study: path.id, outcome }).await?;
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
    app.perform(visitor.actor(), SetOutcomeWindow { study: path.id, window }).await?;
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
