//! What other programs call: releases that score customers, and a document that says how.

mod answer;
mod document;
mod limits;
mod opened;
mod product;
mod score;
pub mod served;

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
    Program get "/tables" => product::tables::all;
    Program post "/files" => product::tables::send;
    Program get "/files/{id}" => product::tables::file;
    Program post "/files/{id}/accept" => product::tables::accept;
    Program get "/jobs/{id}" => product::jobs::one;
    Program get "/studies" => product::studies::all;
    Program post "/studies" => product::studies::begin;
    Program get "/studies/{id}" => product::studies::one;
    Program post "/studies/{id}/fits" => product::fits::begin;
    Program get "/studies/{id}/lists" => product::lists::all;
    Program post "/studies/{id}/lists" => product::lists::bring;
    Program post "/studies/{id}/lists/{list}/score" => product::lists::score;
    Program get "/studies/{id}/lists/{list}/scored.{form}" => product::lists::take;
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
