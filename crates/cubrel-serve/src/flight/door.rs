//! Who calls: a bearer of a token, or a name with a token in place of a password; and what the log is told of the call.

use std::sync::Arc;
use std::time::Instant;

use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderValue, header};
use axum::middleware::Next;
use axum::response::Response;
use base64::Engine;
use base64::alphabet::STANDARD;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};
use tonic::Status;

use crate::listen::Connection;
use crate::people::{Person, Refused};
use crate::problem::Problem;
use crate::questions::Told;
use crate::server::Server;
use crate::watch::Kind;

/// Some clients leave the padding of what they encode out.
const BASE64: GeneralPurpose = GeneralPurpose::new(
    &STANDARD,
    GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent),
);

/// What is answered to who signs in once, for all calls that follow.
#[derive(Clone, Debug)]
pub struct Token(pub Option<String>);

/// Lets in whom the server knows, counts the call, and tells the log of it.
pub async fn let_in(State(server): State<Arc<Server>>, mut request: Request, next: Next) -> Response {
    let start = Instant::now();
    let call = request.uri().path().rsplit('/').next().unwrap_or_default().to_string();
    let connection = request.extensions().get::<Connection>().copied();
    let (who, response) = match who(&server, connection, shown(request.headers())).await {
        Ok((person, token)) => {
            let name = person.name().to_string();
            request.extensions_mut().insert(person);
            request.extensions_mut().insert(Token(token));
            (name, next.run(request).await)
        }
        Err(refused) => (String::new(), Status::from(Problem::from(refused)).into_http()),
    };
    // Of an answer that streams, how it ends is not known yet.
    let code = response.headers().get("grpc-status").and_then(|code| code.to_str().ok()).unwrap_or("0").to_string();
    let seconds = start.elapsed().as_secs_f64();
    let status = if code == "0" { "2xx" } else { "4xx" };
    server.watch.answered(&Kind { route: format!("flight/{call}"), status }, seconds);
    let milliseconds = (seconds * 1e6).round() / 1e3;
    let told = response.extensions().get::<Told>();
    let (asked, rows) = (told.map(|told| told.asked.as_str()), told.and_then(|told| told.rows));
    tracing::info!(target: "access", method = "flight", path = call, status = code, who, milliseconds, rows, asked);
    response
}

/// Who calls, and by which token.
async fn who(
    server: &Arc<Server>,
    connection: Option<Connection>,
    shown: Option<Shown>,
) -> Result<(Person, Option<String>), Refused> {
    let connection = connection.ok_or(Refused::Unavailable)?;
    let server = server.clone();
    let prove = move || {
        let (name, token) = shown.unzip();
        let bearer = token.as_ref().map(|token| format!("Bearer {token}"));
        let person = server.people.who(bearer.as_deref(), connection.from.ip())?;
        match &person {
            // A name that is said has to be that of the token.
            Person::Named(named) if name.flatten().is_some_and(|name| name != named.name) => Err(Refused::Wrong),
            _ => Ok((person, token)),
        }
    };
    // To prove a token takes a while.
    tokio::task::spawn_blocking(prove).await.unwrap_or(Err(Refused::Unavailable))
}

/// A name, where one is said, and a token.
type Shown = (Option<String>, String);

/// The token that a call shows, perhaps with a name: `Bearer TOKEN` (RFC 6750), or `Basic` with the token as password (RFC 7617).
fn shown(headers: &HeaderMap) -> Option<Shown> {
    let said = headers.get(header::AUTHORIZATION).map(HeaderValue::to_str)?.ok()?;
    let (scheme, rest) = said.split_once(' ')?;
    if scheme.eq_ignore_ascii_case("bearer") {
        return Some((None, rest.trim().to_string()));
    }
    let both = scheme.eq_ignore_ascii_case("basic").then(|| BASE64.decode(rest.trim()).ok()).flatten()?;
    let both = String::from_utf8(both).ok()?;
    let (name, token) = both.split_once(':')?;
    Some((Some(name.to_string()).filter(|name| !name.is_empty()), token.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_come_alone_or_with_a_name() {
        let of = |text: &str| {
            let mut headers = HeaderMap::new();
            headers.insert(header::AUTHORIZATION, HeaderValue::from_str(text).unwrap());
            shown(&headers)
        };
        let basic = |text: &str| format!("Basic {}", BASE64.encode(text));
        assert_eq!(of("Bearer a.b"), Some((None, "a.b".into())));
        assert_eq!(of(&basic("ann:a.b")), Some((Some("ann".into()), "a.b".into())));
        assert_eq!(of(basic("ann:a.b").trim_end_matches('=')), Some((Some("ann".into()), "a.b".into())), "no padding");
        assert_eq!(of(&basic(":a:b")), Some((None, "a:b".into())));
        for wrong in ["", "Bearer", "Basic ?", &basic("ann"), "Digest x"] {
            assert_eq!(of(wrong), None, "{wrong}");
        }
        assert_eq!(shown(&HeaderMap::new()), None);
    }
}
