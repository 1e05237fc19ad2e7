//! The API: what can be asked over HTTP.

pub mod ask;
pub mod models;
pub mod openapi;

use std::sync::Arc;
use std::time::Instant;

use axum::Router;
use axum::extract::{DefaultBodyLimit, MatchedPath, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use tower_http::compression::CompressionLayer;

use crate::listen::Connection;
use crate::metrics;
use crate::page::{self, sign_in};
use crate::problem::Problem;
use crate::questions::Told;
use crate::server::Server;
use crate::watch::Kind;

/// The largest body of a request.
const BODY: usize = 1 << 20;

/// All routes.
pub fn router(server: Arc<Server>) -> Router {
    let asked = Router::new()
        .route("/api/models", get(models::list))
        .route("/api/models/{model}", get(models::catalog))
        .route("/api/models/{model}/query", post(ask::query).get(ask::query_by_address))
        .route("/api/models/{model}/why", post(ask::why))
        .route("/api/models/{model}/profile", post(ask::profile))
        .route("/api/models/{model}/sizes", get(ask::sizes))
        .route("/api/models/{model}/refresh", post(models::refresh))
        .route("/metrics", get(metrics))
        .route_layer(middleware::from_fn_with_state(server.clone(), signed_in));
    let pages = Router::new()
        .route("/", get(page::ask::home))
        .route("/m/{model}", get(page::ask::question))
        .route("/m/{model}/change", get(page::ask::change))
        .route("/m/{model}/complete", get(page::ask::complete))
        .route_layer(middleware::from_fn_with_state(server.clone(), signed_in))
        .route_layer(middleware::from_fn_with_state(server.clone(), to_sign_in))
        .route("/sign-in", get(sign_in::form).post(sign_in::sign_in))
        .route("/sign-in/begin", get(sign_in::begin))
        .route("/sign-in/back", get(sign_in::back))
        .route("/sign-out", post(sign_in::sign_out))
        .route("/style.css", get(page::style))
        .route("/page.js", get(page::script));
    asked
        .merge(pages)
        .route("/openapi.json", get(openapi::document))
        .route("/health", get(async || "alive\n"))
        .route("/ready", get(ready))
        .fallback(async || {
            Problem::not_found("there is nothing at this address").help("`/openapi.json` has all addresses")
        })
        .method_not_allowed_fallback(not_so)
        .layer(DefaultBodyLimit::max(BODY))
        .layer(middleware::from_fn(in_one_form))
        .layer(CompressionLayer::new().gzip(true).zstd(true))
        .layer(middleware::from_fn_with_state(server.clone(), told))
        .with_state(server)
}

/// Whatever is refused before it reaches a route is told as everything else is.
async fn in_one_form(request: Request, next: Next) -> Response {
    let response = next.run(request).await;
    let status = response.status();
    let kind = response.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    // A page says for itself what is wrong, to people.
    let is_told = kind.starts_with("application/problem+json") || kind.starts_with("text/html");
    if !(status.is_client_error() || status.is_server_error()) || is_told {
        return response;
    }
    let said = axum::body::to_bytes(response.into_body(), BODY).await.unwrap_or_default();
    let said = String::from_utf8_lossy(&said).trim().to_string();
    let detail = if said.is_empty() { status.to_string() } else { said };
    Problem::new(status, "request", "the request cannot be read", detail).into_response()
}

async fn not_so() -> Problem {
    Problem::new(StatusCode::METHOD_NOT_ALLOWED, "method", "not asked for like this", "this address has another method")
        .help("`/openapi.json` tells which")
}

/// Leads a browser that has shown no good token to where it can.
async fn to_sign_in(State(server): State<Arc<Server>>, request: Request, next: Next) -> Response {
    let response = next.run(request).await;
    if server.people.sign_in() && response.status() == StatusCode::UNAUTHORIZED {
        return Redirect::to("/sign-in").into_response();
    }
    response
}

/// Lets in whom the server knows, and tells the rest of the request who it is.
async fn signed_in(State(server): State<Arc<Server>>, mut request: Request, next: Next) -> Response {
    let Some(connection) = request.extensions().get::<Connection>().copied() else {
        return Problem::forbidden("nobody knows where this came from").into_response();
    };
    if !server.people.sign_in() && !names_this_machine(request.headers()) {
        // A page from elsewhere may have a name that leads here.
        let detail = "without sign-in only this machine is answered, by the name `localhost` or its address";
        return Problem::new(StatusCode::MISDIRECTED_REQUEST, "host", "asked for by another name", detail)
            .into_response();
    }
    let said = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).map(str::to_string);
    let authorization = said.or_else(|| sign_in::token(request.headers()).map(|token| format!("Bearer {token}")));
    let people = server.clone();
    let who = move || people.people.who(authorization.as_deref(), connection.from.ip());
    // To prove a token takes a while.
    let who = match tokio::task::spawn_blocking(who).await {
        Ok(Ok(person)) => person,
        Ok(Err(refused)) => return Problem::from(refused).into_response(),
        Err(_) => return Problem::forbidden("who asks cannot be found out").into_response(),
    };
    let name = who.name().to_string();
    request.extensions_mut().insert(who);
    let mut response = next.run(request).await;
    response.extensions_mut().insert(AskedBy(name));
    response
}

/// Whether a request calls the server what only this machine calls it.
fn names_this_machine(headers: &HeaderMap) -> bool {
    let Some(host) = headers.get(header::HOST).and_then(|h| h.to_str().ok()) else { return false };
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    };
    let name = name.trim_start_matches('[').trim_end_matches(']');
    name.eq_ignore_ascii_case("localhost") || name.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

/// Who asked, for the log.
#[derive(Clone, Debug)]
struct AskedBy(String);

/// Counts a request, and tells the log of it: who asked what, how it ended, how long it took, and how much came of it.
async fn told(State(server): State<Arc<Server>>, request: Request, next: Next) -> Response {
    let start = Instant::now();
    let route = request.extensions().get::<MatchedPath>().map_or("", |path| path.as_str()).to_string();
    let (method, path) = (request.method().clone(), request.uri().path().to_string());
    let mut response = next.run(request).await;
    let seconds = start.elapsed().as_secs_f64();
    let status = match response.status().as_u16() {
        200..400 => "2xx",
        400..500 => "4xx",
        _ => "5xx",
    };
    server.watch.answered(&Kind { route, status }, seconds);
    let who = response.extensions().get::<AskedBy>().map(|who| who.0.clone()).unwrap_or_default();
    let told = response.extensions().get::<Told>();
    let (asked, rows) = (told.map(|told| told.asked.as_str()), told.and_then(|told| told.rows));
    let milliseconds = (seconds * 1e6).round() / 1e3;
    let status = response.status().as_u16();
    tracing::info!(target: "access", %method, path, status, who, milliseconds, rows, asked);
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(page::POLICY));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("private, no-cache"));
    response
}

async fn ready(State(server): State<Arc<Server>>) -> Response {
    let old: Vec<String> = server
        .models
        .iter()
        .filter_map(|model| Some(format!("{}: {}", model.name, model.current().outdated()?)))
        .collect();
    // Old data is better than none: it is served, and told.
    let told =
        if old.is_empty() { "ready\n".to_string() } else { format!("ready, with old data\n{}\n", old.join("\n")) };
    told.into_response()
}

async fn metrics(State(server): State<Arc<Server>>) -> Response {
    let kind = "application/openmetrics-text; version=1.0.0; charset=utf-8";
    ([(header::CONTENT_TYPE, kind)], metrics::text(&server)).into_response()
}
