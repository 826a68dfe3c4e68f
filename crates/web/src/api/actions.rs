//! Every action under its path: what is asked for comes from the path and the body, and the answer is what comes of it.

use actix_web::http::StatusCode;
use actix_web::http::header::IF_MATCH;
use actix_web::web::ServiceConfig;
use actix_web::{HttpRequest, HttpResponse, web};
use pronoia_service::{Action, Actor, Declaration, ServiceError, every_action};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value};
use utoipa::openapi::path::{HttpMethod, OperationBuilder, Parameter, ParameterBuilder, ParameterIn};
use utoipa::openapi::request_body::RequestBodyBuilder;
use utoipa::openapi::schema::{ObjectBuilder, Schema, Type};
use utoipa::openapi::security::SecurityRequirement;
use utoipa::openapi::{ContentBuilder, OpenApi, PathItem, Ref, RefOr, Required, ResponseBuilder};
use utoipa::{PartialSchema, ToSchema};

use super::answer::{ApiError, entity_tag};
use super::workspace::Program;
use crate::App;
use crate::rights::{Right, Route};

/// Why a call of an action is not answered: the status, and when.
const PROBLEMS: [(&str, &str); 9] = [
    ("401", "No key, or one that opens nothing"),
    ("403", "The key may not do this"),
    ("404", "What is named is not in this workspace"),
    ("409", "Somebody changed the same in the meantime; nothing was overwritten"),
    ("412", "The study has another revision than If-Match says"),
    ("413", "Too many bytes"),
    ("415", "Not JSON"),
    ("422", "It cannot be done; the sentence says why"),
    ("429", "Called too often; Retry-After says for how long"),
];

/// The places in braces of a path.
fn places(path: &str) -> impl Iterator<Item = &str> {
    path.split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'))
}

/// A path without the names of its places, by which two of them are the same.
fn shape(path: &str) -> String {
    path.split('/').map(|part| if part.starts_with('{') { "{}" } else { part }).collect::<Vec<_>>().join("/")
}

/// Whether the action of a path is answered by a function of its own, which was there before.
fn has_own_function(path: &str) -> bool {
    super::DOORS.iter().any(|door| door.method == "post" && shape(door.path) == shape(path))
}

macro_rules! answered {
    ($($action:path,)+) => {
        /// Every action, as an address.
        const ROUTES: &[Route] = &[$(Route {
            method: "post",
            path: <$action as Action>::DECLARATION.path,
            right: Right::Program,
        }),+];

        /// Has every action answered that has no function of its own.
        pub(crate) fn routes(config: &mut ServiceConfig) {
            $(
                let path = <$action as Action>::DECLARATION.path;
                if !has_own_function(path) {
                    let path = path.strip_prefix(super::PREFIX).unwrap_or(path);
                    config.route(path, web::post().to(perform::<$action>));
                }
            )+
        }

        /// Enters every action that has no function of its own in the document.
        pub(crate) fn document(into: &mut OpenApi) {
            $(
                if !has_own_function(<$action as Action>::DECLARATION.path) {
                    describe::<$action>(into);
                }
            )+
        }
    };
}

every_action!(answered);

/// Every action that is answered here and has no function of its own.
pub(crate) fn doors() -> impl Iterator<Item = &'static Route> {
    ROUTES.iter().filter(|route| !has_own_function(route.path))
}

/// Performs an action for a program.
async fn perform<A: Action + DeserializeOwned>(
    app: web::Data<App>,
    program: Program,
    request: HttpRequest,
    body: Result<web::Bytes, actix_web::Error>,
) -> Result<HttpResponse, ApiError>
where
    A::Done: Serialize,
{
    let body = body.map_err(|e| ApiError::of_body(&e))?;
    let mut asked = match body.as_ref() {
        [] => Map::new(),
        body => match serde_json::from_slice(body) {
            Ok(Value::Object(asked)) => asked,
            Ok(_) => return Err(ApiError::Refused("The body is a JSON object.".into())),
            Err(e) => return Err(ApiError::Refused(format!("The body is no JSON: {e}."))),
        },
    };
    for place in places(A::DECLARATION.path) {
        let key: i64 = request.match_info().query(place).parse().map_err(|_| ServiceError::NotFound)?;
        if asked.insert(place.to_owned(), key.into()).is_some() {
            return Err(ApiError::Refused(format!("“{place}” stands in the path; leave it out of the body.")));
        }
    }
    let study = asked.get("study").and_then(Value::as_i64);
    let action: A = serde_json::from_value(Value::Object(asked))
        .map_err(|e| ApiError::Refused(format!("The body cannot be read: {e}.")))?;
    let seen = match (study, request.headers().get(IF_MATCH)) {
        (Some(study), Some(tag)) => Some(matched(&app, program, study, tag.to_str().unwrap_or_default()).await?),
        _ => None,
    };
    let done = app.perform(Actor { seen, ..program.actor() }, action).await?;
    let status = StatusCode::from_u16(A::DECLARATION.status).unwrap_or(StatusCode::OK);
    let mut answer = HttpResponse::build(status);
    Ok(if status == StatusCode::NO_CONTENT { answer.finish() } else { answer.json(done) })
}

/// The revision of a study that `If-Match` names, if the study has it.
async fn matched(app: &App, program: Program, study: i64, tag: &str) -> Result<i64, ApiError> {
    let revision = app.store.study(program.workspace, study).await?.revision;
    let present = entity_tag(revision);
    if tag == "*" || tag == present { Ok(revision) } else { Err(ApiError::Changed(present)) }
}

/// Enters an action in the document.
fn describe<A: Action + ToSchema>(into: &mut OpenApi)
where
    A::Done: PartialSchema,
{
    let Declaration { title, path, status, .. } = A::DECLARATION;
    let mut operation = OperationBuilder::new()
        .summary(Some(title))
        .operation_id(Some(A::name().to_string()))
        .security(SecurityRequirement::new("key", [""; 0]));
    for place in places(path) {
        operation = operation.parameter(parameter(place, ParameterIn::Path, Type::Integer, Required::True));
    }
    if places(path).any(|place| place == "study") {
        operation = operation.parameter(parameter("If-Match", ParameterIn::Header, Type::String, Required::False));
    }
    let body = body_of::<A>(path);
    if !body.properties.is_empty() {
        let content = ContentBuilder::new().schema(Some(Schema::Object(body))).build();
        let body = RequestBodyBuilder::new().content("application/json", content).required(Some(Required::True));
        operation = operation.request_body(Some(body.build()));
    }
    let mut done = ResponseBuilder::new().description("It was done");
    if status != 204 {
        done = done.content("application/json", ContentBuilder::new().schema(Some(A::Done::schema())).build());
    }
    operation = operation.response(status.to_string(), done.build());
    for (status, when) in PROBLEMS {
        let problem = ContentBuilder::new().schema(Some(Ref::from_schema_name("ApiProblem"))).build();
        let answer = ResponseBuilder::new().description(when).content("application/problem+json", problem).build();
        operation = operation.response(status, answer);
    }
    let item = PathItem::new(HttpMethod::Post, operation.build());
    into.paths.paths.entry(path.to_owned()).or_default().merge_operations(item);
}

fn parameter(name: &str, within: ParameterIn, kind: Type, required: Required) -> Parameter {
    let schema = ObjectBuilder::new().schema_type(kind).build();
    ParameterBuilder::new().name(name).parameter_in(within).required(required).schema(Some(schema)).build()
}

/// The schema of an action without what stands in its path.
fn body_of<A: ToSchema>(path: &str) -> utoipa::openapi::Object {
    let RefOr::T(Schema::Object(mut object)) = A::schema() else { return utoipa::openapi::Object::default() };
    for place in places(path) {
        object.properties.remove(place);
        object.required.retain(|name| name != place);
    }
    object
}

#[cfg(test)]
mod tests {
    use pronoia_service::actions::DECLARATIONS;

    use super::*;

    #[test]
    fn every_action_has_a_path_of_its_own() {
        for (at, declared) in DECLARATIONS.iter().enumerate() {
            assert!(declared.path.starts_with("/api/v1/"), "{declared:?}");
            let others = DECLARATIONS[..at].iter();
            assert!(others.clone().all(|other| shape(other.path) != shape(declared.path)), "{declared:?}");
            let answers = |door: &&Route| door.method == "post" && shape(door.path) == shape(declared.path);
            assert!(super::super::DOORS.iter().chain(doors()).any(|door| answers(&door)), "{declared:?}");
        }
    }

    #[test]
    fn the_document_has_the_body_of_an_action_without_what_stands_in_its_path() {
        let body = body_of::<pronoia_service::prepare::columns::SetColumnRole>("/api/v1/studies/{study}/columns");
        let names: Vec<&String> = body.properties.keys().collect();
        assert_eq!(names, ["column", "known_when", "reason", "role"]);
        assert_eq!(body.required, ["column", "role"]);
    }
}
