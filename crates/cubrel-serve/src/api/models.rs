//! Which models there are, what they have, and having them read again.

use std::sync::Arc;

use axum::extract::{Extension, Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use cubrel::Silent;
use serde::Serialize;
use utoipa::ToSchema;

use super::ask::{not_modified, tag};
use crate::people::Person;
use crate::problem::Problem;
use crate::questions::{AskedModel, off_thread};
use crate::served::NoRefresh;
use crate::server::Server;
use crate::settings::May;

/// A model that somebody sees.
#[derive(Debug, Serialize, ToSchema)]
pub struct ModelEntry {
    /// What it is called in addresses.
    name: String,
    /// What people call it.
    label: Option<String>,
    /// When the data came, as RFC 3339 has it.
    since: String,
    /// Why the data is old, where its sources could not be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    outdated: Option<&'static str>,
    /// Whether who asks may have it read again.
    may_refresh: bool,
    /// Whether who asks may see what questions cost.
    may_profile: bool,
}

/// The models that who asks sees anything of.
#[utoipa::path(get, path = "/api/models", responses((status = 200, body = [ModelEntry])))]
pub async fn list(State(server): State<Arc<Server>>, Extension(person): Extension<Person>) -> Response {
    let entry = |served: &Arc<crate::served::Served>| {
        let AskedModel { served, version, .. } = AskedModel::find(&server, &person, &served.name).ok()?;
        Some(ModelEntry {
            name: served.name.clone(),
            label: version.catalog().name.clone(),
            since: jiff::Timestamp::try_from(version.since()).map(|t| t.to_string()).unwrap_or_default(),
            // Why may name files.
            outdated: version.outdated().map(|_| "its sources cannot be read"),
            may_refresh: server.people.may(&person, May::Refresh),
            may_profile: server.people.may(&person, May::Profile),
        })
    };
    axum::Json(server.models.iter().filter_map(entry).collect::<Vec<_>>()).into_response()
}

/// What a model has, as who asks sees it: tables, columns, measures, hierarchies, lenses, saved queries, shortlists.
#[utoipa::path(
    get, path = "/api/models/{model}", params(("model" = String, Path)),
    responses((status = 200, body = Object))
)]
pub async fn catalog(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(model): Path<String>,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    let asked = AskedModel::find(&server, &person, &model)?;
    let tag = tag(&asked.version, &("catalog", &asked.who));
    if let Some(response) = not_modified(&headers, &tag) {
        return Ok(response);
    }
    let json = off_thread(move || {
        let catalog = asked.version.seen_as(&asked.who)?.catalog();
        Ok(serde_json::to_vec(&catalog).unwrap_or_default())
    })
    .await?;
    let kind = HeaderValue::from_static("application/json");
    Ok(([(header::CONTENT_TYPE, kind), (header::ETAG, tag)], json).into_response())
}

/// Has the sources read again where they have changed. What is asked meanwhile is answered from what was there.
#[utoipa::path(
    post, path = "/api/models/{model}/refresh", params(("model" = String, Path)),
    responses(
        (status = 200, body = Object, description = "how it went"),
        (status = 403, body = Problem, content_type = "application/problem+json", description = "who asks may not"),
        (status = 409, body = Problem, content_type = "application/problem+json", description = "another one is running")
    )
)]
pub async fn refresh(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(model): Path<String>,
) -> Result<Response, Problem> {
    let asked = AskedModel::find(&server, &person, &model)?;
    if !server.people.may(&person, May::Refresh) {
        return Err(Problem::forbidden(format!("`{}` may not have a model read again", person.name()))
            .help("who keeps the server can allow it: `may = [\"refresh\"]`"));
    }
    let served = asked.served.clone();
    // Nobody holds on to the version that is to go.
    drop(asked);
    let of = served.clone();
    let done = tokio::task::spawn_blocking(move || of.refresh(&Silent)).await;
    let title = "the model was not read again";
    match done {
        Ok(Ok(report)) => {
            server.answers.only_of(&served.name, served.current().number());
            Ok(axum::Json(report).into_response())
        }
        Ok(Err(NoRefresh::Running)) => {
            Err(Problem::new(StatusCode::CONFLICT, "running", title, "another refresh of it is running").later(5))
        }
        Ok(Err(NoRefresh::TooManyVersions(count))) => {
            let detail = format!("{count} versions of it are still being read");
            Err(Problem::new(StatusCode::SERVICE_UNAVAILABLE, "versions", title, detail).later(5))
        }
        Ok(Err(NoRefresh::Failed(e))) => Err(Problem::from(e)),
        Err(_) => Err(Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "server", title, "it ended before its time")),
    }
}
