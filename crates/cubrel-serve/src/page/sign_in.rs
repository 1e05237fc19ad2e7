//! Tokens in a browser: pasted once, and then kept where no script reads them and no other site sends them.

use std::sync::Arc;

use axum::Form;
use axum::extract::{Extension, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use maud::html;
use serde::Deserialize;

use crate::api::Connection;
use crate::page::page;
use crate::people::Refused;
use crate::server::Server;

/// The cookie's name.
const COOKIE: &str = "cubrel";

/// The token that a browser keeps.
pub fn token(headers: &HeaderMap) -> Option<String> {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|v| v.to_str().ok());
    let mut pairs = cookies.flat_map(|all| all.split(';')).filter_map(|pair| pair.trim().split_once('='));
    pairs.find(|(name, _)| *name == COOKIE).map(|(_, token)| token.to_string())
}

/// The form.
pub async fn form() -> Response {
    shown(StatusCode::OK, None)
}

fn shown(status: StatusCode, wrong: Option<&str>) -> Response {
    let inner = html! {
        h1 { "Sign in" }
        form .narrow method="post" action="/sign-in" {
            @if let Some(wrong) = wrong { p .warn role="alert" { (wrong) } }
            label for="token" { "Your token" }
            input id="token" name="token" type="password" autocomplete="current-password" required autofocus;
            p .soft { "Whoever keeps this server gives you one." }
            button { "Sign in" }
        }
    };
    (status, page("Sign in", &html! { "cubrel" }, &inner)).into_response()
}

/// What the form sends.
#[derive(Debug, Deserialize)]
pub struct SignIn {
    token: String,
}

/// Lets a browser in.
pub async fn sign_in(
    State(server): State<Arc<Server>>,
    Extension(connection): Extension<Connection>,
    Form(said): Form<SignIn>,
) -> Response {
    let (people, token) = (server.clone(), said.token.trim().to_string());
    let shown_as = format!("Bearer {token}");
    let who = move || people.people.who(Some(&shown_as), connection.from.ip());
    match tokio::task::spawn_blocking(who).await {
        Ok(Ok(_)) => {
            // Without TLS it goes to this machine only.
            let secure = if connection.is_tls { "; Secure" } else { "" };
            let cookie = format!("{COOKIE}={token}; HttpOnly; SameSite=Strict; Path=/; Max-Age=2592000{secure}");
            ([(header::SET_COOKIE, cookie)], Redirect::to("/")).into_response()
        }
        Ok(Err(Refused::LockedOut(seconds))) => {
            let wrong = format!("Too many wrong tokens came from where you are: try again in {seconds} seconds.");
            shown(StatusCode::TOO_MANY_REQUESTS, Some(&wrong))
        }
        _ => shown(StatusCode::UNAUTHORIZED, Some("This token is none, or is one no more.")),
    }
}

/// Forgets the token.
pub async fn sign_out() -> Response {
    let cookie = format!("{COOKIE}=; HttpOnly; SameSite=Strict; Path=/; Max-Age=0");
    ([(header::SET_COOKIE, cookie)], Redirect::to("/sign-in")).into_response()
}
