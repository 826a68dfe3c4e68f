//! The pages, one file per stop.

mod answer;
mod append;
pub(crate) mod campaigns;
mod cautions;
mod compare;
pub mod decide;
pub(crate) mod drivers;
mod find;
mod folder;
pub(crate) mod forms;
mod home;
mod jobs;
mod join;
pub(crate) mod lists;
pub(crate) mod live;
pub(crate) mod outcome;
pub(crate) mod prepare;
mod programs;
mod query;
mod records;
mod sign_in;
mod sources;
mod split;
pub(crate) mod statement;
pub mod steps;
mod strip;
pub(crate) mod train;
mod uploads;

use actix_web::web::{self, ServiceConfig, get, post, resource, scope};
use pronoia_core::Table;
use pronoia_core::score::{FileError, Form};
use pronoia_core::study::{Role, StudyState};
use pronoia_store::jobs::Work;
use pronoia_store::{studies::Choice, study};
use serde::Deserialize;

use crate::error::{PageError, PageResult, see_other};
use crate::{App, assets};

/// Every address and what answers there.
pub fn routes(config: &mut ServiceConfig) {
    config
        .route("/assets/{path:.*}", get().to(assets::file))
        .route("/health", get().to(health))
        .service(resource("/sign-in").route(get().to(sign_in::page)).route(post().to(sign_in::enter)))
        .route("/sign-out", post().to(sign_in::leave))
        .route("/theme", post().to(sign_in::theme))
        .route("/", get().to(home::page))
        .route("/find", get().to(find::page))
        .route("/folder", post().to(folder::fetch))
        .service(resource("/sources").route(get().to(sources::page)).route(post().to(sources::add)))
        .route("/sources/{id}", get().to(sources::source))
        .route("/sources/{id}/read", post().to(sources::read))
        .route("/sources/{id}/remove", post().to(sources::remove))
        .route("/uploads", post().to(uploads::receive))
        .route("/uploads/{id}", get().to(uploads::page))
        .route("/uploads/{id}/accept", post().to(uploads::accept))
        .route("/uploads/{id}/sheet", post().to(uploads::read_sheet))
        .route("/uploads/{id}/rejects.csv", get().to(uploads::rejects))
        .route("/tables/{id}", get().to(records::table))
        .route("/tables/{id}/meaning", post().to(records::write_meaning))
        .route("/tables/{id}/join", get().to(join::page))
        .route("/tables/{id}/join", post().to(join::make))
        .route("/tables/{id}/append", get().to(append::page))
        .route("/tables/{id}/append", post().to(append::make))
        .service(resource("/programs").route(get().to(programs::page)).route(post().to(programs::add)))
        .route("/programs/{id}/revoke", post().to(programs::revoke))
        .route("/query", get().to(query::page))
        .route("/query/keep", post().to(query::keep))
        .route("/query/answer.csv", get().to(query::download))
        .route("/families/{family}", get().to(train::families::page))
        .route("/jobs/{id}", get().to(jobs::page))
        .route("/jobs/{id}/log", get().to(jobs::log))
        .route("/jobs/{id}/events", get().to(jobs::events))
        .route("/jobs/{id}/cancel", post().to(jobs::cancel))
        .route("/studies", post().to(home::begin))
        .service(
            scope("/studies/{id}")
                .route("", get().to(home::study))
                .route("/take-back", post().to(home::take_back))
                .route("/records", get().to(records::page))
                .route("/records/version", post().to(records::move_study))
                .route("/drivers", get().to(drivers::page))
                .route("/drivers", post().to(drivers::look))
                .route("/drivers/rates.csv", get().to(drivers::rates_csv))
                .route("/drivers/together", get().to(drivers::together))
                .route("/drivers/region", post().to(drivers::region))
                .route("/drivers/segments", get().to(drivers::segments))
                .route("/drivers/totals", get().to(drivers::totals))
                .route("/prepare", get().to(prepare::page))
                .route("/prepare/outcome", post().to(outcome::choose))
                .route("/prepare/leave-out", post().to(prepare::leave_out))
                .route("/prepare/column", post().to(prepare::change_column))
                .route("/prepare/cautions", get().to(cautions::page))
                .route("/prepare/cautions", post().to(cautions::decide))
                .route("/prepare/split", get().to(split::page))
                .route("/prepare/split", post().to(split::change))
                .route("/prepare/split/balance", post().to(split::balance))
                .route("/prepare/steps", get().to(steps::page))
                .route("/prepare/steps", post().to(steps::add))
                .route("/prepare/steps/change", post().to(steps::change))
                .route("/prepare/rows", get().to(steps::received))
                .route("/prepare/expression", get().to(steps::preview))
                .route("/train", get().to(train::page))
                .route("/train", post().to(train::begin))
                .route("/train/search", post().to(train::search::begin))
                .route("/train/search/{search}", get().to(train::search::page))
                .route("/train/again", post().to(train::again))
                .route("/train/blend", post().to(train::blend))
                .route("/train/retire", post().to(train::retire))
                .route("/train/prove", post().to(train::prove))
                .route("/compare", get().to(compare::page))
                .route("/compare/rule", post().to(compare::rule::keep))
                .route("/compare/closer", post().to(compare::closer::begin))
                .route("/decide", get().to(decide::page))
                .route("/decide", post().to(decide::keep))
                .route("/decide/curve", get().to(decide::curve))
                .route("/decide/parts", get().to(decide::parts))
                .route("/decide/why", get().to(decide::why::page))
                .route("/decide/why", post().to(decide::why::begin))
                .route("/decide/customer", get().to(decide::customer::page))
                .route("/decide/groups", get().to(decide::groups::page))
                .route("/decide/groups/without", post().to(decide::without::begin))
                .route("/decide/sheet", get().to(decide::sheet::page))
                .route("/decide/confirm", post().to(decide::confirm))
                .route("/lists", get().to(lists::page))
                .route("/lists", post().to(lists::bring))
                .route("/lists/{list}", get().to(lists::list::page))
                .route("/lists/{list}/answers", post().to(lists::list::answer))
                .route("/lists/{list}/score", post().to(lists::list::score))
                .route("/lists/{list}/again", post().to(lists::list::again))
                .route("/lists/{list}/publish", post().to(lists::list::publish))
                .route("/lists/{list}/beside/{other}", get().to(lists::beside::page))
                .route("/lists/{list}/scored.{form}", get().to(lists::take::take))
                .route("/lists/{list}/campaign", post().to(campaigns::begin))
                .route("/campaigns/{campaign}", get().to(campaigns::page))
                .route("/statement", get().to(statement::page))
                .route("/statement.md", get().to(statement::markdown))
                .route("/forms", get().to(forms::page))
                .route("/forms/{form}", get().to(forms::take))
                .route("/live", get().to(live::page))
                .route("/live", post().to(live::release))
                .route("/live/{release}/version", post().to(live::set_live))
                .route("/live/{release}/challenger", post().to(live::challenge))
                .route("/live/{release}/keys", post().to(live::add_key))
                .route("/live/{release}/keys/{key}/revoke", post().to(live::revoke_key))
                .route("/live/{release}/try", post().to(live::try_out))
                .route("/live/{release}/happened", post().to(live::judge))
                .route("/campaigns/{campaign}/results", post().to(campaigns::results))
                .route("/campaigns/{campaign}/contacts.{form}", get().to(campaigns::contacts)),
        );
}

/// For every address that leads nowhere.
pub async fn nothing_here() -> PageResult {
    Err(PageError::NotFound)
}

/// Tells whether pages can be served now.
async fn health(app: web::Data<App>) -> PageResult {
    app.store.ping().await?;
    Ok(actix_web::HttpResponse::Ok().content_type("text/plain").body("ok"))
}

/// Puts new choices in place, and has the rows looked at again if what models
/// are fitted on has changed.
pub(crate) async fn choose(
    app: &App,
    seen: &study::Model,
    state: &StudyState,
    choice: &Choice,
) -> Result<(), PageError> {
    app.store.choose(seen, state, choice).await?;
    look_again(app, seen).await
}

/// Has the rows of a study looked at again if what models are fitted on is not
/// what it was when the study was `seen`.
async fn look_again(app: &App, seen: &study::Model) -> Result<(), PageError> {
    let present = app.store.study(seen.workspace_id, seen.id).await?.choices()?.basis();
    if present.is_some() && present != seen.choices()?.basis() {
        drivers::enqueue(app, seen.workspace_id, seen.id).await?;
    }
    Ok(())
}

/// Whoever judges counts customers, though a fit may weigh them.
fn once_each(state: &StudyState) -> String {
    let weight = state.columns.iter().find(|c| c.role == Role::CaseWeight);
    weight.map_or(String::new(), |c| format!(" Each counts once here; {} only weighs the rows of a fit.", c.name))
}

/// What a new table is to be called.
fn table_name(given: &str) -> Result<String, PageError> {
    match given.trim() {
        name if name.is_empty() || name.chars().count() > 120 => {
            Err(PageError::Refused("Give the new table a name of at most 120 letters.".into()))
        }
        name => Ok(name.to_owned()),
    }
}

/// The same where the table comes in as a file of that name.
fn file_stem(given: &str) -> Result<String, PageError> {
    let name: String = table_name(given)?.chars().filter(|c| !c.is_control() && !"/\\".contains(*c)).take(60).collect();
    if name.is_empty() { Err(PageError::Refused("Give the table a name of letters.".into())) } else { Ok(name) }
}

/// Whether work for a study waits or is being done.
async fn is_asked(app: &App, study: &study::Model, work: &Work) -> Result<bool, PageError> {
    Ok(!app.store.jobs_to(study.workspace_id, work).await?.is_empty())
}

/// Puts work for a study in the queue, unless it is there.
async fn ask_once(app: &App, study: &study::Model, title: &str, work: &Work) -> Result<(), PageError> {
    if !is_asked(app, study, work).await? {
        app.store.enqueue(study.workspace_id, Some(study.id), title, work).await?;
    }
    Ok(())
}

/// Rows as a file to be taken away, chosen and written beside the threads that answer.
async fn file_of(name: &str, form: Form, rows: impl FnOnce() -> Result<Table, String> + Send + 'static) -> PageResult {
    let written = web::block(move || {
        let mut bytes = Vec::new();
        form.write(&rows().map_err(FileError::DoesNotFit)?, &mut bytes).map(|()| bytes)
    });
    let bytes = written
        .await
        .map_err(|e| PageError::Refused(format!("The file could not be written: {e}.")))?
        .map_err(|e| PageError::Refused(e.to_string()))?;
    Ok(actix_web::HttpResponse::Ok()
        .content_type(form.media_type())
        .insert_header(("Content-Disposition", format!("attachment; filename=\"{name}.{}\"", form.extension())))
        .body(bytes))
}

/// A file of delimited text to be taken away.
fn csv_file(name: &str, bytes: Vec<u8>) -> PageResult {
    Ok(actix_web::HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(("Content-Disposition", format!("attachment; filename=\"{name}\"")))
        .body(bytes))
}

/// A form that only says who sends it.
#[derive(Deserialize)]
pub(crate) struct Signed {
    csrf: String,
}

/// The key in the address of a study's page.
#[derive(Deserialize)]
pub(crate) struct StudyPath {
    id: i64,
}
