//! Erase one person: where their rows stand, and making them blank.

use actix_web::web;
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::text;
use pronoia_store::StoreError;
use pronoia_store::erasure::{Person, PersonPlace};
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, see_other};
use crate::session::Visitor;

/// The longest value that a person is told by, in characters.
const LONGEST: usize = 200;

#[derive(Template)]
#[template(path = "workspace/erasure.html")]
struct ErasurePage {
    frame: Frame,
    heading: String,
    column: String,
    value: String,
    places: Vec<ErasureLine>,
    asked: bool,
}

/// A table in which rows of theirs stand.
struct ErasureLine {
    table: String,
    kind: &'static str,
    column: String,
    rows: String,
    is_wish: bool,
}

impl From<PersonPlace> for ErasureLine {
    fn from(place: PersonPlace) -> Self {
        Self {
            table: match place.table.is_list {
                true => place.table.name,
                false => format!("{}, version {}", place.table.name, place.table.version),
            },
            kind: match (place.table.put_away_at, place.table.is_list) {
                (Some(_), _) => "archived",
                (None, true) => "list",
                (None, false) => "records",
            },
            column: place.column,
            rows: text::count(place.rows),
            is_wish: place.is_wish,
        }
    }
}

/// What the person is told by.
#[derive(Deserialize)]
pub struct PersonForm {
    csrf: String,
    column: String,
    value: String,
}

impl PersonForm {
    fn person(&self) -> Result<Person<'_>, ServiceError> {
        let (column, value) = (self.column.trim(), self.value.trim());
        if column.is_empty() || value.is_empty() || value.chars().count() > LONGEST {
            return Err(ServiceError::Refused(format!(
                "Give the column that identifies the person, and its value, in up to {LONGEST} letters."
            )));
        }
        Ok(Person { column, value })
    }
}

/// The page, before anybody is asked for.
pub async fn page(app: web::Data<App>, visitor: Visitor) -> PageResult {
    html(&ErasurePage {
        frame: Frame::plain(&app, &visitor).await?,
        heading: "Erase one person’s records".into(),
        column: String::new(),
        value: String::new(),
        places: Vec::new(),
        asked: false,
    })
}

/// Says where a person’s rows stand. Sent as a form, so that the value is in no address and no log.
pub async fn look(app: web::Data<App>, visitor: Visitor, form: web::Form<PersonForm>) -> PageResult {
    visitor.check(&form.csrf)?;
    let person = form.person()?;
    let places = app.store.find_person(visitor.workspace_id(), person).await?;
    let rows: u64 = places.iter().map(|place| place.rows).sum();
    let heading = match places.len() {
        0 => format!("Nobody has “{}” in a column like {}.", person.value, person.column),
        tables => format!(
            "{} of this person in {}",
            text::counted(rows as usize, "row", "rows"),
            text::counted(tables, "table", "tables")
        ),
    };
    html(&ErasurePage {
        frame: Frame::plain(&app, &visitor).await?,
        heading,
        column: person.column.to_owned(),
        value: person.value.to_owned(),
        places: places.into_iter().map(ErasureLine::from).collect(),
        asked: true,
    })
}

/// Erases a person; the job that takes them out of figures and models is shown.
pub async fn erase(app: web::Data<App>, visitor: Visitor, form: web::Form<PersonForm>) -> PageResult {
    visitor.check(&form.csrf)?;
    let by = (visitor.workspace_id(), visitor.account_id());
    let erased = app.store.erase_person(by, form.person()?).await.map_err(|e| match e {
        StoreError::NotFound(_) => ServiceError::Refused("No row of this person is here. Nothing was changed.".into()),
        e => e.into(),
    })?;
    app.forget_customers();
    tracing::info!("one person erased: {} rows in {} tables", erased.rows, erased.tables);
    see_other(&format!("/jobs/{}", erased.job))
}
