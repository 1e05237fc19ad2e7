//! What can be asked, as OpenAPI 3.1 has it: made from the routes and types themselves.

use axum::response::{IntoResponse, Response};
use utoipa::OpenApi;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};

use super::problem::Problem;
use super::{ask, models};

#[derive(OpenApi)]
#[openapi(
    info(title = "cubrel", description = "Models of related tables, asked over HTTP"),
    paths(
        models::list, models::catalog, models::refresh,
        ask::query, ask::query_by_address, ask::why, ask::profile, ask::sizes
    ),
    components(schemas(Problem)),
    modifiers(&Bearer),
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

/// The document.
pub async fn document() -> Response {
    axum::Json(Api::openapi()).into_response()
}
