//! The document that says how releases are called, made from the code that answers.

use actix_web::HttpResponse;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{Modify, OpenApi};

use super::workspace::{fits, jobs, lists, studies, tables};
use super::{actions, answer, score};

/// How releases are called.
#[derive(OpenApi)]
#[openapi(
    info(title = "Pronoia", description = "Customers scored by models and policies that were released, and the work of a workspace done by programs."),
    paths(
        score::score,
        formula_schema,
        tables::all,
        tables::send,
        tables::file,
        tables::accept,
        jobs::one,
        studies::all,
        studies::begin,
        studies::one,
        fits::begin,
        lists::all,
        lists::bring,
        lists::score,
        lists::take,
    ),
    components(schemas(score::Request, score::ScoreResponse, score::Customer, answer::ApiProblem)),
    modifiers(&Keys)
)]
struct ApiDocument;

struct Keys;

impl Modify for Keys {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        let key = HttpBuilder::new()
            .scheme(HttpAuthScheme::Bearer)
            .description(Some("A key of the release, or of the workspace."))
            .build();
        document.components.get_or_insert_default().add_security_scheme("key", SecurityScheme::Http(key));
    }
}

/// The schema of the form in which a model is written as JSON.
#[utoipa::path(
    get,
    path = "/api/v1/formula.schema.json",
    responses((status = 200, description = "A JSON Schema", content((Object = "application/schema+json"))))
)]
pub async fn formula_schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(pronoia_core::export::SCHEMA)
}

/// The document.
pub async fn document() -> HttpResponse {
    let mut document = ApiDocument::openapi();
    actions::document(&mut document);
    HttpResponse::Ok().json(document)
}
