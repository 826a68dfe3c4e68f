//! What other programs call: releases that score customers, and a document that says how.

mod answer;
mod document;
mod key_cache;
mod score;
mod workspace;

use actix_web::web::{self, ServiceConfig};

use crate::rights::doors;

pub use score::{Request, scored_by, written};

/// Bytes of a request at most.
const MOST_BYTES: usize = 8_000_000;

doors! {
    "/api/v1";
    Anybody get "/openapi.json" => document::document;
    Anybody get "/formula.schema.json" => document::formula_schema;
    Program post "/releases/{name}/score" => score::score;
    Program get "/tables" => workspace::tables::all;
    Program post "/files" => workspace::tables::send;
    Program get "/files/{id}" => workspace::tables::file;
    Program post "/files/{id}/accept" => workspace::tables::accept;
    Program get "/jobs/{id}" => workspace::jobs::one;
    Program get "/studies" => workspace::studies::all;
    Program post "/studies" => workspace::studies::begin;
    Program get "/studies/{id}" => workspace::studies::one;
    Program post "/studies/{id}/fits" => workspace::fits::begin;
    Program get "/studies/{id}/lists" => workspace::lists::all;
    Program post "/studies/{id}/lists" => workspace::lists::bring;
    Program post "/studies/{id}/lists/{list}/score" => workspace::lists::score;
    Program get "/studies/{id}/lists/{list}/scored.{form}" => workspace::lists::take;
}

/// The addresses with what holds for all of them.
pub fn service(config: &mut ServiceConfig) {
    config.service(
        web::scope(PREFIX)
            .app_data(web::PayloadConfig::new(MOST_BYTES))
            .configure(routes)
            .default_service(web::to(answer::nothing_here)),
    );
}
