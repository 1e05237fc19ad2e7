//! What can be asked, as OpenAPI 3.1 has it: made from the routes and types themselves.

use axum::response::{IntoResponse, Response};
use utoipa::OpenApi;
use utoipa::openapi::content::ContentBuilder;
use utoipa::openapi::response::ResponseBuilder;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::openapi::{Ref, RefOr};

use super::{ask, models};
use crate::form::Form;
use crate::problem::Problem;

#[derive(OpenApi)]
#[openapi(
    info(title = "cubrel", description = "Models of related tables, asked over HTTP"),
    paths(
        models::list, models::catalog, models::refresh,
        ask::query, ask::query_by_address, ask::why, ask::profile, ask::sizes
    ),
    components(schemas(Form, Problem)),
    modifiers(&Bearer, &Problems),
    security((), ("token" = []))
)]
struct Api;

/// Tokens in the header `Authorization`.
struct Bearer;

impl utoipa::Modify for Bearer {
    fn modify(&self, api: &mut utoipa::openapi::OpenApi) {
        let scheme = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build();
        api.components.get_or_insert_default().add_security_scheme("token", SecurityScheme::Http(scheme));
    }
}

/// What every request can be answered with, whatever it asks.
struct Problems;

impl utoipa::Modify for Problems {
    fn modify(&self, api: &mut utoipa::openapi::OpenApi) {
        let problem = |told: &str| {
            let content = ContentBuilder::new().schema(Some(Ref::from_schema_name("Problem"))).build();
            ResponseBuilder::new().description(told).content("application/problem+json", content).build()
        };
        let of_all = [
            ("401", "nobody has signed in"),
            ("404", "there is no such model, or nothing of it for who asks"),
            ("421", "without sign-in only this machine is answered"),
            ("429", "too much at once, or too many wrong tokens"),
            ("500", "a fault of the server"),
            ("503", "not now"),
        ];
        let of_bodies = [
            ("400", "the request cannot be read"),
            ("413", "the body is too large"),
            ("415", "the body is no JSON"),
            ("422", "the question cannot be answered, or would take more than it may"),
        ];
        for item in api.paths.paths.values_mut() {
            let with_body = item.post.iter_mut().map(|operation| (operation, true));
            for (operation, has_body) in item.get.iter_mut().map(|operation| (operation, false)).chain(with_body) {
                let takes = has_body || operation.parameters.as_ref().is_some_and(|all| all.len() > 1);
                let more = of_bodies.iter().filter(|_| takes);
                for (status, told) in of_all.iter().chain(more) {
                    let known = &mut operation.responses.responses;
                    known.entry((*status).to_string()).or_insert_with(|| RefOr::T(problem(told)));
                }
            }
        }
    }
}

/// The document.
pub async fn document() -> Response {
    axum::Json(Api::openapi()).into_response()
}
