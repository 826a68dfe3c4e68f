//! The work of a workspace, done by a program: tables, studies, fits, lists.

pub mod fits;
pub mod jobs;
pub mod lists;
mod program;
pub mod studies;
pub mod tables;

use actix_web::web::{ServiceConfig, get, post};

pub use program::Program;

/// Every address, within that of the API.
pub fn routes(config: &mut ServiceConfig) {
    config
        .route("/tables", get().to(tables::all))
        .route("/files", post().to(tables::send))
        .route("/files/{id}", get().to(tables::file))
        .route("/files/{id}/accept", post().to(tables::accept))
        .route("/jobs/{id}", get().to(jobs::one))
        .route("/studies", get().to(studies::all))
        .route("/studies", post().to(studies::begin))
        .route("/studies/{id}", get().to(studies::one))
        .route("/studies/{id}/fits", post().to(fits::begin))
        .route("/studies/{id}/lists", get().to(lists::all))
        .route("/studies/{id}/lists", post().to(lists::bring))
        .route("/studies/{id}/lists/{list}/score", post().to(lists::score))
        .route("/studies/{id}/lists/{list}/scored.{form}", get().to(lists::take));
}
