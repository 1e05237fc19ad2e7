//! The page: the question stands as a sentence, and below it the answer. Everything that is chosen stands in the address, so
//! that a link has it all; without a script everything works, with one some of it is quicker.
//!
//! * `sentence`: a question in parts, and what becomes of it when one is changed
//! * `ask`: the pages of a model
//! * `answer`: a grid as a table and as a chart; `chart`: the drawing
//! * `explain`: why a cell has its value
//! * `sign_in`: tokens in a browser

mod answer;
pub mod ask;
mod chart;
mod explain;
pub mod sentence;
pub mod sign_in;

use std::fmt::Write;

use axum::http::header;
use axum::response::{Html, IntoResponse, Response};
use maud::{DOCTYPE, Markup, html};

const STYLE: &str = include_str!("style.css");
const SCRIPT: &str = include_str!("page.js");

/// What a browser may load and run: what comes from here, and nothing else.
pub const POLICY: &str = "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'; img-src 'self' data:; \
     form-action 'self'; frame-ancestors 'none'; base-uri 'none'";

/// The style sheet, with a width for each hundredth that a bar can have: a page says nothing of style itself.
pub async fn style() -> Response {
    let mut text = STYLE.to_string();
    for share in 0..=100 {
        let _ = writeln!(text, ".s{share} {{ --share: {share}%; }}");
    }
    ([(header::CONTENT_TYPE, "text/css; charset=utf-8"), (header::CACHE_CONTROL, "max-age=300")], text).into_response()
}

/// The script.
pub async fn script() -> Response {
    let kind = "text/javascript; charset=utf-8";
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, "max-age=300")], SCRIPT).into_response()
}

/// A whole page.
pub fn page(title: &str, trail: &Markup, inner: &Markup) -> Html<String> {
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (title) }
                link rel="stylesheet" href="/style.css";
                link rel="icon" href="data:,";
                script src="/page.js" defer {}
            }
            body {
                a .skip href="#main" { "To the content" }
                header { nav aria-label="Where this is" { (trail) } }
                main id="main" { (inner) }
            }
        }
    };
    Html(page.into_string())
}

/// Pairs as what follows `?` in an address.
pub fn address(pairs: &[(&str, &str)]) -> String {
    serde_urlencoded::to_string(pairs).unwrap_or_default()
}
