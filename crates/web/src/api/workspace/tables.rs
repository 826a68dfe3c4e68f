//! Tables, and the files that they are made of.

use actix_web::{HttpResponse, web};
use pronoia_service::Queued;
use pronoia_service::records::{AcceptFile, name_of, take_in};
use pronoia_store::uploads::Arrived;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::super::answer::{ApiError, ApiProblem};
use super::Program;

use super::jobs::queued;
use crate::App;
use std::collections::BTreeMap;

/// A table of the workspace.
#[derive(Debug, Serialize, ToSchema)]
pub struct TableSummary {
    /// Its key.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// Which version of it.
    pub version: i32,
    /// Its rows.
    pub rows: i64,
    /// Its columns in order.
    pub columns: Vec<ColumnSummary>,
}

/// A column of a table.
#[derive(Debug, Serialize, ToSchema)]
pub struct ColumnSummary {
    /// Its name.
    pub name: String,
    /// `number`, `ordered`, `category`, `yes/no`, `date`, `code` or `text`.
    pub kind: String,
}

/// The tables of the workspace, newest first.
#[utoipa::path(
    get,
    path = "/api/v1/tables",
    responses(
        (status = 200, description = "The tables", body = Vec<TableSummary>),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn all(app: web::Data<App>, program: Program) -> Result<HttpResponse, ApiError> {
    let mut tables = Vec::new();
    for table in app.store.tables(program.workspace).await? {
        let columns = table.stored_columns()?.into_iter();
        let columns = columns.map(|c| ColumnSummary { name: c.name, kind: c.kind.word().to_owned() }).collect();
        tables.push(TableSummary { id: table.id, name: table.name, version: table.version, rows: table.rows, columns });
    }
    Ok(HttpResponse::Ok().json(tables))
}

/// What the file is called, which says what it is by its ending.
#[derive(Debug, Deserialize)]
pub struct FileName {
    name: String,
    /// The study that it is a list for, if it is one.
    study: Option<i64>,
}

/// A file that is being read.
#[derive(Debug, Serialize, ToSchema)]
pub struct Sent {
    /// The file's key.
    pub file: i64,
    /// The job that reads it.
    pub job: i64,
}

/// Sends a file: delimited text, a workbook, Parquet, Arrow or JSON lines. Once its job is done it waits
/// to be accepted; a list is matched at once.
#[utoipa::path(
    post,
    path = "/api/v1/files",
    params(
        ("name" = String, Query, description = "What the file is called: members.csv"),
        ("study" = Option<i64>, Query, description = "The study that it is a list for, if it is one"),
    ),
    request_body(content((String = "application/octet-stream")), description = "The file as it is"),
    responses(
        (status = 202, description = "It is being read", body = Sent),
        (status = 400, description = "No name was given", body = ApiProblem),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such study in this workspace", body = ApiProblem),
        (status = 413, description = "Too many bytes", body = ApiProblem),
        (status = 422, description = "Nothing arrived, or it has no name", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn send(
    app: web::Data<App>,
    program: Program,
    named: Result<web::Query<FileName>, actix_web::Error>,
    mut body: web::Payload,
) -> Result<HttpResponse, ApiError> {
    let named =
        named.map_err(|e| ApiError::BadQuery(format!("Say what the file is called: ?name=members.csv ({e}).")))?;
    let name = name_of(&named.name);
    if name.trim().is_empty() {
        return Err(ApiError::Refused("Say what the file is called: ?name=members.csv.".into()));
    }
    let study = match named.study {
        Some(id) => Some(app.store.study(program.workspace, id).await?.id),
        None => None,
    };
    let (path, size) = crate::received_file::stored(&app, &mut body).await?;
    if size == 0 {
        let _ = tokio::fs::remove_file(&path).await;
        return Err(ApiError::Refused("The file is empty; send its bytes as the body.".into()));
    }
    let arrived = Arrived { file_name: &name, origin: None, path: &path, size };
    let taken = take_in(&app, program.workspace, study, &arrived).await?;
    Ok(HttpResponse::Accepted().json(Sent { file: taken.upload, job: taken.job }))
}

/// A file, and how it was understood.
#[derive(Debug, Serialize, ToSchema)]
pub struct File {
    /// Its key.
    pub id: i64,
    /// What it is called.
    pub name: String,
    /// `reading`, `ready`, `importing`, `done`, `failed` or `stopped`.
    pub state: String,
    /// Rows that fit.
    pub rows: Option<u64>,
    /// Rows that do not, and will be left out.
    pub rejected: Option<u64>,
    /// Cells that will be taken as missing.
    pub misfit_cells: Option<u64>,
    /// Its columns as they were understood.
    pub columns: Vec<ColumnSummary>,
    /// Why it cannot be read.
    pub error: Option<String>,
    /// The table that was made of it.
    pub table: Option<i64>,
}

/// A file, and how it was understood.
#[utoipa::path(
    get,
    path = "/api/v1/files/{id}",
    params(("id" = i64, Path, description = "The file")),
    responses(
        (status = 200, description = "The detected columns", body = File),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such file in this workspace", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn file(app: web::Data<App>, program: Program, id: web::Path<i64>) -> Result<HttpResponse, ApiError> {
    let upload = app.store.upload(program.workspace, *id).await?;
    let scan = upload.scanned()?;
    let columns = scan.iter().flat_map(|scan| &scan.plan.columns);
    Ok(HttpResponse::Ok().json(File {
        id: upload.id,
        name: upload.file_name.clone(),
        state: upload.state.clone(),
        rows: scan.as_ref().map(|scan| scan.rows),
        rejected: scan.as_ref().map(|scan| scan.rejected),
        misfit_cells: scan.as_ref().map(|scan| scan.misfit_cells),
        columns: columns.map(|c| ColumnSummary { name: c.name.clone(), kind: c.kind.word().to_owned() }).collect(),
        error: upload.error.clone(),
        table: upload.table_id,
    }))
}

/// Makes a file that was read a table, as it was understood.
#[utoipa::path(
    post,
    path = "/api/v1/files/{id}/accept",
    params(("id" = i64, Path, description = "The file")),
    responses(
        (status = 202, description = "It is being imported", body = Queued),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such file in this workspace", body = ApiProblem),
        (status = 422, description = "It is still being read, or was accepted already", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn accept(app: web::Data<App>, program: Program, id: web::Path<i64>) -> Result<HttpResponse, ApiError> {
    let accept = AcceptFile { file: *id, kinds: BTreeMap::new(), orders: BTreeMap::new() };
    Ok(queued(app.perform(program.actor(), accept).await?.job))
}
