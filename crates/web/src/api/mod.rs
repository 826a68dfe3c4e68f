//! What other programs call: releases that score customers, and a document that says how.

mod answer;
mod document;
mod limits;
mod opened;
mod product;
mod score;
pub mod served;

use actix_web::web::{self, ServiceConfig, get, post, scope};

pub use score::{Request, scored_by, written};

/// Bytes of a request at most.
const MOST_BYTES: usize = 8_000_000;

/// Every address and what answers there.
pub fn routes(config: &mut ServiceConfig) {
    config.service(
        scope("/api/v1")
            .app_data(web::PayloadConfig::new(MOST_BYTES))
            .route("/openapi.json", get().to(document::document))
            .route("/formula.schema.json", get().to(document::formula_schema))
            .route("/releases/{name}/score", post().to(score::score))
            .configure(product::routes)
            .default_service(web::to(answer::nothing_here)),
    );
}
