//! The pages: a folder per stop, and one for the workspace.

pub(crate) mod compare;
pub mod decide;
pub(crate) mod drivers;
pub(crate) mod home;
mod ledger;
pub(crate) mod lists;
pub(crate) mod live;
pub(crate) mod prepare;
pub(crate) mod records;
pub(crate) mod train;
mod workspace;

use actix_web::{HttpRequest, web};
use pronoia_core::study::{ColumnRole, StudyState};
use pronoia_service::ServiceError;
use pronoia_store::jobs::Work;
use pronoia_store::study;
use serde::Deserialize;

use crate::error::{PageResult, see_other};
use crate::rights::doors;
use crate::{App, assets};

doors! {
    "";
    Anybody get "/assets/{path:.*}" => assets::file;
    Anybody get "/health" => health;
    Anybody get "/sign-in" => workspace::sign_in::page;
    Anybody post "/sign-in" => workspace::sign_in::enter;
    Reader post "/sign-out" => workspace::sign_in::leave;
    Reader post "/theme" => workspace::sign_in::theme;
    Reader post "/walk" => crate::walk::go;
    Reader get "/" => home::page;
    Reader get "/find" => workspace::find::page;
    Reader get "/glossary" => workspace::glossary::page;
    Analyst post "/folder" => records::folder::fetch;
    Reader get "/sources" => records::sources::page;
    Analyst post "/sources" => records::sources::add;
    Analyst get "/sources/{id}" => records::sources::source;
    Analyst post "/sources/{id}" => records::sources::look;
    Analyst post "/sources/{id}/read" => records::sources::read;
    Analyst post "/sources/{id}/remove" => records::sources::remove;
    Analyst post "/uploads" => records::uploads::receive;
    Reader get "/uploads/{id}" => records::uploads::page;
    Analyst post "/uploads/{id}/accept" => records::uploads::accept;
    Analyst post "/uploads/{id}/sheet" => records::uploads::read_sheet;
    Reader get "/uploads/{id}/rejects.csv" => records::uploads::rejects;
    Reader get "/tables/{id}" => records::table;
    Analyst post "/tables/{id}/meaning" => records::write_meaning;
    Reader get "/tables/{id}/join" => records::join::page;
    Analyst post "/tables/{id}/join" => records::join::make;
    Reader get "/tables/{id}/append" => records::append::page;
    Analyst post "/tables/{id}/append" => records::append::make;
    Owner get "/programs" => workspace::api_keys::page;
    Owner post "/programs" => workspace::api_keys::add;
    Owner post "/programs/{id}/revoke" => workspace::api_keys::revoke;
    Reader get "/query" => records::query::page;
    Reader post "/query" => records::query::ask;
    Analyst post "/query/keep" => records::query::keep;
    Reader post "/query/answer.csv" => records::query::download;
    Reader get "/families/{family}" => train::families::page;
    Reader get "/jobs/{id}" => workspace::job::page;
    Reader get "/jobs/{id}/log" => workspace::job::log;
    Reader get "/jobs/{id}/events" => workspace::job::events;
    Analyst post "/jobs/{id}/cancel" => workspace::job::cancel;
    Analyst post "/studies" => home::begin;
    Reader get "/studies/{id}" => home::study;
    Analyst post "/studies/{id}/take-back" => ledger::take_back;
    Reader get "/away" => workspace::archive::page;
    Analyst post "/studies/{id}/away" => workspace::archive::put_study;
    Analyst post "/tables/{id}/away" => workspace::archive::put_table;
    Analyst post "/away/{kind}/{id}/back" => workspace::archive::bring_back;
    Owner post "/away/{kind}/{id}/erase" => workspace::archive::erase;
    Analyst post "/studies/{id}/hand-over" => workspace::archive::hand_over;
    Reader get "/studies/{id}/ledger" => ledger::page;
    Reader get "/studies/{id}/ledger/compare" => ledger::compare::page;
    Reader get "/studies/{id}/ledger/remarks/{remark}" => ledger::remark::file;
    Reader get "/studies/{id}/ledger/{entry}" => ledger::entry::page;
    Analyst post "/studies/{id}/ledger/{entry}/remark" => ledger::remark::add;
    Analyst post "/studies/{id}/ledger/{entry}/branch" => ledger::entry::branch;
    Reader get "/studies/{id}/records" => records::page;
    Analyst post "/studies/{id}/records/version" => records::move_study;
    Reader get "/studies/{id}/drivers" => drivers::page;
    Analyst post "/studies/{id}/drivers" => drivers::look;
    Reader get "/studies/{id}/drivers/rates.csv" => drivers::rates_csv;
    Reader get "/studies/{id}/drivers/together" => drivers::together;
    Analyst post "/studies/{id}/drivers/region" => drivers::region;
    Reader get "/studies/{id}/drivers/segments" => drivers::segments;
    Reader get "/studies/{id}/drivers/totals" => drivers::totals;
    Reader get "/studies/{id}/prepare" => prepare::page;
    Analyst post "/studies/{id}/prepare/outcome" => prepare::outcome::choose;
    Analyst post "/studies/{id}/prepare/window" => prepare::outcome::set_window;
    Analyst post "/studies/{id}/prepare/leave-out" => prepare::leave_out;
    Analyst post "/studies/{id}/prepare/column" => prepare::change_column;
    Reader get "/studies/{id}/prepare/cautions" => prepare::cautions::page;
    Analyst post "/studies/{id}/prepare/cautions" => prepare::cautions::decide;
    Reader get "/studies/{id}/prepare/split" => prepare::split::page;
    Analyst post "/studies/{id}/prepare/split" => prepare::split::change;
    Analyst post "/studies/{id}/prepare/split/balance" => prepare::split::balance;
    Reader get "/studies/{id}/prepare/steps" => prepare::steps::page;
    Analyst post "/studies/{id}/prepare/steps" => prepare::steps::add;
    Analyst post "/studies/{id}/prepare/steps/change" => prepare::steps::change;
    Reader get "/studies/{id}/prepare/rows" => prepare::steps::received;
    Reader get "/studies/{id}/prepare/expression" => prepare::steps::preview;
    Reader get "/studies/{id}/train" => train::page;
    Analyst post "/studies/{id}/train" => train::begin;
    Analyst post "/studies/{id}/train/search" => train::tuning::begin;
    Reader get "/studies/{id}/train/search/{search}" => train::tuning::page;
    Analyst post "/studies/{id}/train/again" => train::again;
    Analyst post "/studies/{id}/train/blend" => train::blend;
    Analyst post "/studies/{id}/train/retire" => train::retire;
    Analyst post "/studies/{id}/train/prove" => train::prove;
    Reader get "/studies/{id}/compare" => compare::page;
    Analyst post "/studies/{id}/compare/rule" => compare::rule::keep;
    Analyst post "/studies/{id}/compare/closer" => compare::diagnostics::begin;
    Reader get "/studies/{id}/decide" => decide::page;
    Analyst post "/studies/{id}/decide" => decide::keep;
    Reader get "/studies/{id}/decide/curve" => decide::curve;
    Reader get "/studies/{id}/decide/parts" => decide::parts;
    Reader get "/studies/{id}/decide/why" => decide::importance::page;
    Analyst post "/studies/{id}/decide/why" => decide::importance::begin;
    Reader get "/studies/{id}/decide/customer" => decide::customer::page;
    Reader get "/studies/{id}/decide/groups" => decide::groups::page;
    Analyst post "/studies/{id}/decide/groups/without" => decide::ablation::begin;
    Reader get "/studies/{id}/decide/sheet" => decide::policy_sheet::page;
    Analyst post "/studies/{id}/decide/confirm" => decide::confirm;
    Reader get "/studies/{id}/lists" => lists::page;
    Analyst post "/studies/{id}/lists" => lists::bring;
    Analyst post "/studies/{id}/lists/do-not-contact" => lists::opt_outs::say;
    Reader get "/studies/{id}/lists/{list}" => lists::list::page;
    Analyst post "/studies/{id}/lists/{list}/answers" => lists::list::answer;
    Analyst post "/studies/{id}/lists/{list}/score" => lists::list::score;
    Analyst post "/studies/{id}/lists/{list}/again" => lists::list::again;
    Analyst post "/studies/{id}/lists/{list}/publish" => lists::list::publish;
    Reader get "/studies/{id}/lists/{list}/beside/{other}" => lists::decision_diff::page;
    Reader get "/studies/{id}/lists/{list}/scored.{form}" => lists::download::take;
    Analyst post "/studies/{id}/lists/{list}/campaign" => lists::campaigns::begin;
    Reader get "/studies/{id}/campaigns/{campaign}" => lists::campaigns::page;
    Reader get "/studies/{id}/statement" => live::statement::page;
    Analyst post "/studies/{id}/statement/links" => live::statement::sharing::share;
    Analyst post "/studies/{id}/statement/links/{share}/withdraw" => live::statement::sharing::withdraw;
    Anybody get "/shared/{link}" => live::statement::sharing::follow;
    Reader get "/studies/{id}/statement.md" => live::statement::markdown;
    Reader get "/studies/{id}/forms" => live::exports::page;
    Reader get "/studies/{id}/forms/{form}" => live::exports::take;
    Reader get "/studies/{id}/live" => live::page;
    Analyst post "/studies/{id}/live" => live::release;
    Analyst post "/studies/{id}/live/{release}/version" => live::set_live;
    Analyst post "/studies/{id}/live/{release}/challenger" => live::challenge;
    Analyst post "/studies/{id}/live/{release}/keys" => live::add_key;
    Analyst post "/studies/{id}/live/{release}/keys/{key}/revoke" => live::revoke_key;
    Analyst post "/studies/{id}/live/{release}/try" => live::try_out;
    Analyst post "/studies/{id}/live/{release}/happened" => live::judge;
    Analyst post "/studies/{id}/campaigns/{campaign}/results" => lists::campaigns::results;
    Reader get "/studies/{id}/campaigns/{campaign}/contacts.{form}" => lists::campaigns::contacts;
    Anybody get "/join/{link}" => workspace::people::join;
    Anybody post "/join/{link}" => workspace::people::accept;
    Owner get "/erasure" => workspace::erasure::page;
    Owner post "/erasure" => workspace::erasure::look;
    Owner post "/erasure/person" => workspace::erasure::erase;
    Reader get "/people" => workspace::people::page;
    Reader get "/account" => workspace::account::page;
    Reader post "/account/password" => workspace::account::change_password;
    Reader post "/account/sessions" => workspace::account::end_others;
    Reader post "/account/sessions/{id}" => workspace::account::end;
    Owner post "/people" => workspace::people::invite;
    Owner post "/people/invitations/{id}/withdraw" => workspace::people::withdraw;
    Owner post "/people/{account}/role" => workspace::people::set_role;
}

/// The path of the page that a form was sent from, without the host, so that nobody is sent elsewhere.
pub(crate) fn came_from(request: &HttpRequest) -> String {
    let path_of = |address: &str| {
        let rest = address.split_once("://")?.1;
        let path = &rest[rest.find('/')?..];
        (!path.starts_with("//")).then(|| path.to_owned())
    };
    let referer = request.headers().get("referer").and_then(|referer| referer.to_str().ok());
    referer.and_then(path_of).unwrap_or_else(|| "/".into())
}

/// Where this server was reached: what stands before the paths of its addresses.
pub(crate) fn reached_at(request: &HttpRequest) -> String {
    let connection = request.connection_info();
    format!("{}://{}", connection.scheme(), connection.host())
}

/// For every address that leads nowhere.
pub async fn nothing_here() -> PageResult {
    Err(ServiceError::NotFound.into())
}

/// Tells whether pages can be served now.
async fn health(app: web::Data<App>) -> PageResult {
    app.store.ping().await?;
    Ok(actix_web::HttpResponse::Ok().content_type("text/plain").body("ok"))
}

/// Whoever judges counts customers, though a fit may weigh them.
fn once_each(state: &StudyState) -> String {
    let weight = state.columns.iter().find(|c| c.role == ColumnRole::CaseWeight);
    weight.map_or(String::new(), |c| format!(" Each counts once here; {} is the fit weight.", c.name))
}

/// What a new table is to be called.
fn table_name(given: &str) -> Result<String, ServiceError> {
    match given.trim() {
        name if name.is_empty() || name.chars().count() > 120 => {
            Err(ServiceError::Refused("Give the new table a name of at most 120 letters.".into()))
        }
        name => Ok(name.to_owned()),
    }
}

/// The same where the table comes in as a file of that name.
fn file_stem(given: &str) -> Result<String, ServiceError> {
    let name: String = table_name(given)?.chars().filter(|c| !c.is_control() && !"/\\".contains(*c)).take(60).collect();
    if name.is_empty() { Err(ServiceError::Refused("Give the table a name of letters.".into())) } else { Ok(name) }
}

/// Whether work for a study waits or is being done.
async fn is_asked(app: &App, study: &study::Model, work: &Work) -> Result<bool, ServiceError> {
    Ok(!app.store.jobs_to(study.workspace_id, work).await?.is_empty())
}

/// Puts work for a study in the queue, unless it is there.
async fn ask_once(app: &App, study: &study::Model, title: &str, work: &Work) -> Result<(), ServiceError> {
    app.store.enqueue_once(study.workspace_id, Some(study.id), title, work).await?;
    Ok(())
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
