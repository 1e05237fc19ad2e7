//! Signing in with a browser: a token is pasted once, or an issuer is asked for one, and then it is kept where no script reads
//! it and no other site sends it.

use std::sync::Arc;

use axum::Form;
use axum::extract::{Extension, Query, State};
use axum::http::{HeaderMap, HeaderName, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Redirect, Response};
use maud::html;
use serde::Deserialize;

use crate::listen::Connection;
use crate::page::page;
use crate::people::Refused;
use crate::people::oidc::flow::Errand;
use crate::server::Server;

/// The cookie that has the token.
const COOKIE: &str = "cubrel";
/// The cookie that has what is needed when somebody comes back from the issuer.
const ERRAND: &str = "cubrel-errand";
/// How long a browser keeps a token, in seconds: those of an issuer last for hours only.
const TOKEN_KEPT: u32 = 30 * 24 * 3600;
const ISSUED_KEPT: u32 = 24 * 3600;
/// How long somebody may take at the issuer.
const ERRAND_KEPT: u32 = 600;
/// The longest cookie that browsers keep.
const LONGEST: usize = 4000;

fn cookie(headers: &HeaderMap, wanted: &str) -> Option<String> {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|v| v.to_str().ok());
    let mut pairs = cookies.flat_map(|all| all.split(';')).filter_map(|pair| pair.trim().split_once('='));
    pairs.find(|(name, _)| *name == wanted).map(|(_, value)| value.to_string())
}

/// The token that a browser keeps.
pub fn token(headers: &HeaderMap) -> Option<String> {
    cookie(headers, COOKIE)
}

/// What has a browser keep a cookie. Without TLS it goes to this machine only.
fn kept(name: &str, value: &str, seconds: u32, same_site: &str, connection: Connection) -> (HeaderName, String) {
    let secure = if connection.is_tls { "; Secure" } else { "" };
    let text = format!("{name}={value}; HttpOnly; SameSite={same_site}; Path=/; Max-Age={seconds}{secure}");
    (header::SET_COOKIE, text)
}

/// The form, or the way to the issuer.
pub async fn form(State(server): State<Arc<Server>>) -> Response {
    shown(&server, StatusCode::OK, None)
}

fn shown(server: &Server, status: StatusCode, wrong: Option<&str>) -> Response {
    let inner = html! {
        h1 { "Sign in" }
        @if let Some(wrong) = wrong { p .warn role="alert" { (wrong) } }
        @match server.people.issuer() {
            Some(issuer) => {
                p { a .action href="/sign-in/begin" { "Sign in at " (issuer.name()) } }
                p .soft { "You come back here when it knows you." }
            },
            None => form .narrow method="post" action="/sign-in" {
                label for="token" { "Your token" }
                input id="token" name="token" type="password" autocomplete="current-password" required autofocus;
                p .soft { "Whoever keeps this server gives you one." }
                button { "Sign in" }
            },
        }
    };
    (status, page("Sign in", &html! { "cubrel" }, &inner)).into_response()
}

fn not_let_in(server: &Server, refused: Refused) -> Response {
    match refused {
        Refused::LockedOut(seconds) => {
            let wrong = format!("Too many wrong tokens came from where you are: try again in {seconds} seconds.");
            shown(server, StatusCode::TOO_MANY_REQUESTS, Some(&wrong))
        }
        Refused::Unavailable => {
            shown(server, StatusCode::SERVICE_UNAVAILABLE, Some("Who could tell who you are cannot be asked now."))
        }
        Refused::Ended => shown(server, StatusCode::UNAUTHORIZED, Some("This token was good, and is over.")),
        Refused::Wrong | Refused::NoToken => {
            shown(server, StatusCode::UNAUTHORIZED, Some("This token is none, or is one no more."))
        }
    }
}

/// What browsers call this server.
fn called(connection: Connection, headers: &HeaderMap) -> String {
    let scheme = if connection.is_tls { "https" } else { "http" };
    let host = headers.get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or("localhost");
    format!("{scheme}://{host}")
}

/// Proves somebody away from the threads that answer.
async fn proved<T: Send + 'static>(
    server: &Arc<Server>,
    connection: Connection,
    prove: impl FnOnce(&Server) -> Result<T, Refused> + Send + 'static,
) -> Result<T, Refused> {
    let server = server.clone();
    let work = move || server.people.guarded(connection.from.ip(), || prove(&server));
    tokio::task::spawn_blocking(work).await.unwrap_or(Err(Refused::Unavailable))
}

/// Sends a browser to the issuer.
pub async fn begin(
    State(server): State<Arc<Server>>,
    Extension(connection): Extension<Connection>,
    headers: HeaderMap,
) -> Response {
    let called = called(connection, &headers);
    let begun = proved(&server, connection, move |server| {
        let issuer = server.people.issuer().ok_or(Refused::NoToken)?;
        issuer.begin(&issuer.back(&called))
    });
    match begun.await {
        // It comes back from another site, which the stricter kind of cookies does not survive.
        Ok((to, errand)) => {
            let kept = kept(ERRAND, &errand.to_cookie(), ERRAND_KEPT, "Lax", connection);
            ([kept], Redirect::to(&to)).into_response()
        }
        Err(refused) => not_let_in(&server, refused),
    }
}

/// What the issuer sends a browser back with.
#[derive(Debug, Default, Deserialize)]
pub struct Back {
    #[serde(default)]
    state: String,
    #[serde(default)]
    code: String,
}

/// Lets in who comes back from the issuer.
pub async fn back(
    State(server): State<Arc<Server>>,
    Extension(connection): Extension<Connection>,
    headers: HeaderMap,
    Query(said): Query<Back>,
) -> Response {
    let called = called(connection, &headers);
    let errand = cookie(&headers, ERRAND).as_deref().and_then(Errand::from_cookie);
    let ended = proved(&server, connection, move |server| {
        let issuer = server.people.issuer().ok_or(Refused::NoToken)?;
        // Who has been away for too long has forgotten why; nobody has guessed anything.
        let errand = errand.ok_or(Refused::Ended)?;
        if said.code.is_empty() {
            return Err(Refused::Ended);
        }
        issuer.end(&errand, &said.state, &said.code, &issuer.back(&called))
    });
    match ended.await {
        Ok((_, token)) if token.len() > LONGEST => {
            let wrong =
                "What the issuer says of you is longer than a browser keeps: it should say less, to this server.";
            shown(&server, StatusCode::BAD_GATEWAY, Some(wrong))
        }
        Ok((named, token)) => {
            // A redirect from another site would not yet have the cookie: the browser begins again from here.
            let inner = html! { h1 { "Signed in as " (named.name) } p { a href="/" { "What there is" } } };
            let headers = AppendHeaders([
                kept(COOKIE, &token, ISSUED_KEPT, "Strict", connection),
                kept(ERRAND, "", 0, "Lax", connection),
                (header::REFRESH, "0; url=/".to_string()),
            ]);
            (headers, page("Signed in", &html! { "cubrel" }, &inner)).into_response()
        }
        Err(refused) => not_let_in(&server, refused),
    }
}

/// What the form sends.
#[derive(Debug, Deserialize)]
pub struct SignInForm {
    token: String,
}

/// Lets a browser in.
pub async fn sign_in(
    State(server): State<Arc<Server>>,
    Extension(connection): Extension<Connection>,
    Form(said): Form<SignInForm>,
) -> Response {
    let (people, token) = (server.clone(), said.token.trim().to_string());
    let shown_as = format!("Bearer {token}");
    let who = move || people.people.who(Some(&shown_as), connection.from.ip());
    match tokio::task::spawn_blocking(who).await {
        Ok(Ok(_)) => {
            let kept = kept(COOKIE, &token, TOKEN_KEPT, "Strict", connection);
            ([kept], Redirect::to("/")).into_response()
        }
        Ok(Err(refused)) => not_let_in(&server, refused),
        Err(_) => not_let_in(&server, Refused::Unavailable),
    }
}

/// Forgets the token.
pub async fn sign_out(Extension(connection): Extension<Connection>) -> Response {
    ([kept(COOKIE, "", 0, "Strict", connection)], Redirect::to("/sign-in")).into_response()
}
