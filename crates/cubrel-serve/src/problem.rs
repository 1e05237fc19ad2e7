//! Errors as problem details (RFC 9457).

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use cubrel::{Diagnostic, Error, ErrorKind};
use serde::Serialize;
use utoipa::ToSchema;

use crate::people::Refused;

/// What went wrong, as RFC 9457 has it.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Problem {
    /// Tells the kind.
    #[serde(rename = "type", serialize_with = "of_kind")]
    #[schema(value_type = String)]
    kind: &'static str,
    /// The kind, for people.
    title: &'static str,
    /// As the status line has it.
    status: u16,
    /// What is wrong this time.
    detail: String,
    /// What to do about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    help: Option<String>,
    /// Each thing that is wrong with a text: what, where, and what to write instead.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schema(value_type = Vec<Object>)]
    problems: Vec<Diagnostic>,
    /// Seconds after which it may go better.
    #[serde(skip)]
    retry_after: Option<u32>,
}

fn of_kind<S: serde::Serializer>(kind: &str, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(&format_args!("urn:cubrel:problem:{kind}"))
}

impl Problem {
    /// A problem.
    pub fn new(status: StatusCode, kind: &'static str, title: &'static str, detail: impl Into<String>) -> Problem {
        Problem {
            kind,
            title,
            status: status.as_u16(),
            detail: detail.into(),
            help: None,
            problems: Vec::new(),
            retry_after: None,
        }
    }

    /// As the status line has it.
    pub fn status(&self) -> u16 {
        self.status
    }

    /// Tells the kind.
    pub fn kind(&self) -> &'static str {
        self.kind
    }

    /// All of it as one text: each thing that is wrong with its place, and what to do.
    pub fn told(&self) -> String {
        let mut text = match self.problems.as_slice() {
            [] => self.detail.clone(),
            problems => problems.iter().map(in_place).collect::<Vec<_>>().join("\n"),
        };
        // Problems tell by themselves what to write instead.
        if let (Some(help), true) = (&self.help, self.problems.is_empty()) {
            text += &format!("\n  help: {help}");
        }
        text
    }

    /// What is wrong this time.
    pub fn detail(&self) -> &str {
        &self.detail
    }

    /// What to do about it.
    #[must_use]
    pub fn help(self, help: impl Into<String>) -> Problem {
        Problem { help: Some(help.into()), ..self }
    }

    /// It may go better after so many seconds.
    #[must_use]
    pub fn later(self, seconds: u32) -> Problem {
        Problem { retry_after: Some(seconds), ..self }
    }

    /// The request is not what it should be.
    pub fn bad_request(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::BAD_REQUEST, "request", "the request cannot be read", detail)
    }

    /// There is nothing of that name, or nothing that who asks may see.
    pub fn not_found(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::NOT_FOUND, "unknown", "there is nothing of that name", detail)
    }

    /// Who asks may not do that.
    pub fn forbidden(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::FORBIDDEN, "forbidden", "not allowed", detail)
    }

    /// Too much at once.
    pub fn busy() -> Problem {
        let detail = "more is asked than can be worked on, and there is no room to wait";
        Problem::new(StatusCode::TOO_MANY_REQUESTS, "busy", "too many questions at once", detail)
            .later(crate::gate::TRY_AGAIN)
    }

    /// None of the forms that the request accepts can be had.
    pub fn not_acceptable(forms: &str) -> Problem {
        let title = "there is no such form of the answer";
        let detail = format!("the answer can be had as {forms}");
        Problem::new(StatusCode::NOT_ACCEPTABLE, "form", title, detail)
    }
}

/// A problem of a text with its place and what to write instead.
fn in_place(problem: &Diagnostic) -> String {
    let place = problem.place().map(|(_, line, column)| format!(" (line {line}, column {column})")).unwrap_or_default();
    let help = problem.help.as_ref().map(|help| format!("\n  help: {help}")).unwrap_or_default();
    format!("{}{place}{help}", problem.message)
}

impl From<Error> for Problem {
    fn from(e: Error) -> Problem {
        let (status, kind, title) = match e.kind() {
            ErrorKind::Problems => (StatusCode::UNPROCESSABLE_ENTITY, "question", "the question cannot be answered"),
            ErrorKind::Limit => (StatusCode::UNPROCESSABLE_ENTITY, "limit", "it would take more than it may"),
            ErrorKind::Unknown => (StatusCode::NOT_FOUND, "unknown", "there is nothing of that name"),
            ErrorKind::Form => (StatusCode::NOT_ACCEPTABLE, "form", "there is no such form of the answer"),
            ErrorKind::Cancelled => (StatusCode::SERVICE_UNAVAILABLE, "cancelled", "it was ended from outside"),
            _ => (StatusCode::INTERNAL_SERVER_ERROR, "server", "the server could not do it"),
        };
        if status == StatusCode::INTERNAL_SERVER_ERROR {
            // What is wrong may name files and folders, which nobody outside needs to know.
            tracing::error!("{e}");
            return Problem::new(status, kind, title, "its log tells why");
        }
        let problems = e.problems().to_vec();
        let detail = match problems.as_slice() {
            [] => e.to_string(),
            [first, ..] => first.message.clone(),
        };
        let help = problems.first().and_then(|p| p.help.clone());
        Problem { help, problems, ..Problem::new(status, kind, title, detail) }
    }
}

impl From<Refused> for Problem {
    fn from(refused: Refused) -> Problem {
        let title = "sign in first";
        let unauthorized = |detail: &str| Problem::new(StatusCode::UNAUTHORIZED, "sign-in", title, detail);
        match refused {
            Refused::NoToken => {
                unauthorized("this server answers people it knows").help("send `Authorization: Bearer` and your token")
            }
            Refused::Wrong => unauthorized("this token is none, or is one no more").help("ask for a new one"),
            Refused::Ended => unauthorized("this token was good, and is over").help("sign in again"),
            Refused::Unavailable => {
                let detail = "who could tell who you are cannot be asked now";
                Problem::new(StatusCode::SERVICE_UNAVAILABLE, "issuer", title, detail).later(10)
            }
            Refused::LockedOut(seconds) => {
                let detail = "too many wrong tokens came from where you are";
                Problem::new(StatusCode::TOO_MANY_REQUESTS, "locked-out", "wait a while", detail).later(seconds)
            }
        }
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&self).unwrap_or_default();
        let kind = HeaderValue::from_static("application/problem+json");
        let mut response = (status, [(header::CONTENT_TYPE, kind)], body).into_response();
        let headers = response.headers_mut();
        if let Some(seconds) = self.retry_after {
            headers.insert(header::RETRY_AFTER, HeaderValue::from(seconds));
        }
        if status == StatusCode::UNAUTHORIZED {
            headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer realm=\"cubrel\""));
        }
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
        response
    }
}
