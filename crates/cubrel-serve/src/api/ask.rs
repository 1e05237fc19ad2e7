//! Questions: queries, explanations, costs, sizes.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use axum::body::Bytes;
use axum::extract::{Extension, Path, RawQuery, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use cubrel::why::WhyOptions;
use cubrel::{Cancel, Value};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use sha2::{Digest, Sha256};
use utoipa::ToSchema;

use crate::form::Form;
use crate::people::Person;
use crate::problem::Problem;
use crate::questions::{self, AskedModel, Told, in_turn, text_of};
use crate::served::Version;
use crate::server::Server;
use crate::settings::May;

/// The value of a parameter, or several.
#[derive(Clone, Debug, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum Parameter {
    /// One.
    One(ParameterValue),
    /// A list.
    Several(Vec<ParameterValue>),
}

/// A value of a parameter; text that is a date or timestamp is taken for one.
#[derive(Clone, Debug, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum ParameterValue {
    /// True or false.
    Bool(bool),
    /// A number.
    #[schema(value_type = f64)]
    Number(serde_json::Number),
    /// A text.
    Text(String),
}

/// A number without decimals, however it is written: JSON knows only one kind of numbers.
fn whole<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<usize, D::Error> {
    use serde::de::Error;
    let number = serde_json::Number::deserialize(deserializer)?;
    let of_float = || number.as_f64().filter(|f| f.fract() == 0.0 && *f >= 0.0 && *f < 1e15).map(|f| f as u64);
    let whole = number.as_u64().or_else(of_float).and_then(|n| usize::try_from(n).ok());
    whole.ok_or_else(|| D::Error::custom(format!("`{number}` is not a whole number from 0 on")))
}

/// A query.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Question {
    /// Its text, or the name of a saved one.
    text: String,
    /// The values of `$name`, one or a list of them.
    #[serde(default)]
    parameters: BTreeMap<String, Parameter>,
}

/// Why a cell has its value.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WhyQuestion {
    /// The text of the query, or the name of a saved one.
    text: String,
    /// Where the cell stands, such as `route.name = 'Ness–Holm'`; axes that are not named are totalled.
    #[serde(default)]
    at: String,
    /// Which item of the grid; by default the first.
    measure: Option<String>,
    /// How many of the rows behind each aggregate.
    #[serde(default, deserialize_with = "whole")]
    #[schema(minimum = 0)]
    rows: usize,
    /// The values of `$name`.
    #[serde(default)]
    parameters: BTreeMap<String, Parameter>,
}

/// What a query costs.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProfileQuestion {
    /// The text of the query, or the name of a saved one.
    text: String,
    /// How many warm runs; 0 as usual.
    #[serde(default, deserialize_with = "whole")]
    #[schema(minimum = 0)]
    runs: usize,
    /// The values of `$name`.
    #[serde(default)]
    parameters: BTreeMap<String, Parameter>,
}

/// The most rows behind an aggregate.
const ROWS: usize = 1000;
/// Warm runs, where nothing is said and at most.
const RUNS: (usize, usize) = (7, 100);

/// Tells what is the same from what is not: the version of the model, and what was asked of it as whom.
pub fn tag(version: &Version, asked: &impl std::fmt::Debug) -> HeaderValue {
    let digest = Sha256::digest(format!("{asked:?}").as_bytes());
    let short: String = digest.iter().take(8).map(|b| format!("{b:02x}")).collect();
    HeaderValue::from_str(&format!("\"{:x}-{short}\"", version.number())).unwrap_or(HeaderValue::from_static("\"\""))
}

/// Nothing, where who asks has the answer already (RFC 9110, section 13.1.2).
pub fn not_modified(headers: &HeaderMap, tag: &HeaderValue) -> Option<Response> {
    let wanted = tag.to_str().ok()?;
    let known = headers.get(header::IF_NONE_MATCH)?.to_str().ok()?;
    let is_known = known.split(',').map(|t| t.trim().trim_start_matches("W/")).any(|t| t == wanted || t == "*");
    is_known.then(|| (StatusCode::NOT_MODIFIED, [(header::ETAG, tag.clone())]).into_response())
}

/// The body of a request as what it should be. Only who says that it is JSON can mean it: no page from elsewhere can send that
/// unasked.
fn read<T: DeserializeOwned>(headers: &HeaderMap, body: &Bytes) -> Result<T, Problem> {
    let kind = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let name = kind.split(';').next().unwrap_or_default().trim();
    if !name.eq_ignore_ascii_case("application/json") {
        let title = "the request has another form";
        return Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "form", title, "the body has to be JSON")
            .help("send `Content-Type: application/json`"));
    }
    serde_json::from_slice(body).map_err(|e| {
        let help = "for example {\"text\": \"grid net_revenue by port.region where calendar.year in ($years)\", \
                    \"parameters\": {\"years\": [2025, 2026]}}";
        Problem::bad_request(format!("the body is not what is expected: {e}")).help(help)
    })
}

/// The values of a parameter. A number is what formulas would read it as, and JSON writes dates as text.
fn values(parameter: &Parameter) -> Vec<Value> {
    let one = |value: &ParameterValue| match value {
        ParameterValue::Bool(b) => Value::Bool(*b),
        ParameterValue::Number(n) => cubrel::guessed(&n.to_string()),
        ParameterValue::Text(text) => match cubrel::guessed(text) {
            moment @ (Value::Date(_) | Value::Timestamp(_)) => moment,
            _ => Value::text(text),
        },
    };
    match parameter {
        Parameter::One(value) => vec![one(value)],
        Parameter::Several(list) => list.iter().map(one).collect(),
    }
}

fn parameters(said: &BTreeMap<String, Parameter>) -> HashMap<String, Vec<Value>> {
    said.iter().map(|(name, parameter)| (name.trim_start_matches('$').to_string(), values(parameter))).collect()
}

/// The answer to a query, where who asks does not have it already.
async fn answered(
    server: Arc<Server>,
    person: Person,
    model: &str,
    question: questions::ModelQuestion,
    form: Form,
    headers: &HeaderMap,
) -> Result<Response, Problem> {
    let who = AskedModel::find(&server, &person, model)?;
    let tag = tag(&who.version, &who.asked(&question, form));
    if let Some(response) = not_modified(headers, &tag) {
        return Ok(response);
    }
    let text = question.text.clone();
    let answer = questions::answer(&server, &person, &who, question, form).await?;
    let kind = HeaderValue::from_static(form.media_type());
    let vary = HeaderValue::from_static("accept, authorization, cookie");
    let body = axum::body::Body::from(Bytes::from_owner(answer.body));
    let mut response =
        ([(header::CONTENT_TYPE, kind), (header::ETAG, tag), (header::VARY, vary)], body).into_response();
    response.extensions_mut().insert(Told::new(&text, answer.rows));
    Ok(response)
}

/// A query: JSON as `cubrel query --format json` prints it, CSV, or a stream of Arrow, by `Accept`.
#[utoipa::path(
    post, path = "/api/models/{model}/query", params(("model" = String, Path)), request_body = Question,
    responses(
        (status = 200, content((Object = "application/json"), (String = "text/csv"), (Vec<u8> = "application/vnd.apache.arrow.stream"), (Vec<u8> = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"))),
        (status = 304, description = "what `If-None-Match` names is still the answer")
    )
)]
pub async fn query(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(model): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response, Problem> {
    AskedModel::find(&server, &person, &model)?;
    let question: Question = read(&headers, &body)?;
    let accept = headers.get(header::ACCEPT).and_then(|v| v.to_str().ok());
    let form = Form::accepted(accept).ok_or_else(|| Problem::not_acceptable(&Form::all()))?;
    let parameters = parameters(&question.parameters);
    let question =
        questions::ModelQuestion { text: question.text, parameters, is_shown: false, cancel: Cancel::default() };
    answered(server, person, &model, question, form, &headers).await
}

/// The same by its address alone, for links and spreadsheets: `?text=routes&form=csv&set=year=2025`. `shown=true` writes values
/// as people read them.
#[utoipa::path(
    get, path = "/api/models/{model}/query",
    params(
        ("model" = String, Path), ("text" = String, Query), ("form" = Option<Form>, Query),
        ("set" = Option<Vec<String>>, Query), ("shown" = Option<bool>, Query)
    ),
    responses(
        (status = 200, content((Object = "application/json"), (String = "text/csv"), (Vec<u8> = "application/vnd.apache.arrow.stream"), (Vec<u8> = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")))
    )
)]
pub async fn query_by_address(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(model): Path<String>,
    RawQuery(address): RawQuery,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    AskedModel::find(&server, &person, &model)?;
    let pairs: Vec<(String, String)> = serde_urlencoded::from_str(&address.unwrap_or_default())
        .map_err(|e| Problem::bad_request(format!("what follows `?` cannot be read: {e}")))?;
    let (mut text, mut form, mut is_shown, mut parameters) = (None, None, false, HashMap::new());
    for (name, value) in pairs {
        match name.as_str() {
            "text" => text = Some(value),
            "form" => {
                let named =
                    Form::named(&value).ok_or_else(|| Problem::bad_request("`form` is json, csv, arrow or xlsx"))?;
                form = Some(named);
            }
            "shown" => is_shown = value == "true",
            "set" => {
                let (name, values) = questions::parameter(&value)
                    .ok_or_else(|| Problem::bad_request(format!("`{value}` sets nothing")).help("set=year=2025"))?;
                parameters.insert(name, values);
            }
            other => {
                let detail = format!("nothing is known of `{other}`");
                return Err(Problem::bad_request(detail).help("there are `text`, `form`, `set` and `shown`"));
            }
        }
    }
    let text = text.ok_or_else(|| Problem::bad_request("`text` is missing").help("?text=grid%20net_revenue"))?;
    let accept = headers.get(header::ACCEPT).and_then(|v| v.to_str().ok());
    let form = form.or_else(|| Form::accepted(accept)).ok_or_else(|| Problem::not_acceptable(&Form::all()))?;
    let question = questions::ModelQuestion { text, parameters, is_shown, cancel: Cancel::default() };
    answered(server, person, &model, question, form, &headers).await
}

fn as_json(value: &impl serde::Serialize) -> Vec<u8> {
    serde_json::to_vec(value).unwrap_or_default()
}

fn json_response(json: Vec<u8>) -> Response {
    ([(header::CONTENT_TYPE, HeaderValue::from_static("application/json"))], json).into_response()
}

/// Why a cell has its value: filters with their origin, rows left hop by hop, the formula as a tree, rows behind it.
#[utoipa::path(
    post, path = "/api/models/{model}/why", params(("model" = String, Path)), request_body = WhyQuestion,
    responses(
        (status = 200, body = Object)
    )
)]
pub async fn why(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(model): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response, Problem> {
    let who = AskedModel::find(&server, &person, &model)?;
    let question: WhyQuestion = read(&headers, &body)?;
    let options = who.options(&server, parameters(&question.parameters));
    let (of_why, told) = (options.clone(), Told::new(&question.text, None));
    let work = move || {
        let model = who.version.seen_as(&who.who)?;
        let options = WhyOptions { item: question.measure, rows: question.rows.min(ROWS), query: of_why };
        Ok(as_json(&model.why(&text_of(&model, &question.text), &question.at, &options)?))
    };
    let mut response = json_response(in_turn(&server, &person, &options, work).await?);
    response.extensions_mut().insert(told);
    Ok(response)
}

/// What a query costs, part by part.
#[utoipa::path(
    post, path = "/api/models/{model}/profile", params(("model" = String, Path)), request_body = ProfileQuestion,
    responses(
        (status = 200, body = Object),
        (status = 403, body = Problem, content_type = "application/problem+json", description = "who asks may not")
    )
)]
pub async fn profile(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(model): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response, Problem> {
    let who = AskedModel::find(&server, &person, &model)?;
    let question: ProfileQuestion = read(&headers, &body)?;
    if !server.people.may(&person, May::Profile) {
        return Err(Problem::forbidden(format!("`{}` may not see what questions cost", person.name()))
            .help("who keeps the server can allow it: `may = [\"profile\"]`"));
    }
    let options = who.options(&server, parameters(&question.parameters));
    let (of_profile, told) = (options.clone(), Told::new(&question.text, None));
    let work = move || {
        let model = who.version.seen_as(&who.who)?;
        let runs = if question.runs == 0 { RUNS.0 } else { question.runs.min(RUNS.1) };
        let (profile, _) = model.profile(&text_of(&model, &question.text), &of_profile, runs)?;
        Ok(as_json(&profile))
    };
    let mut response = json_response(in_turn(&server, &person, &options, work).await?);
    response.extensions_mut().insert(told);
    Ok(response)
}

/// What the model weighs, as who asks sees it.
#[utoipa::path(
    get, path = "/api/models/{model}/sizes", params(("model" = String, Path)),
    responses((status = 200, body = Object))
)]
pub async fn sizes(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(model): Path<String>,
) -> Result<Response, Problem> {
    let who = AskedModel::find(&server, &person, &model)?;
    let options = who.options(&server, HashMap::new());
    let work = move || Ok(as_json(&who.version.seen_as(&who.who)?.sizes()));
    Ok(json_response(in_turn(&server, &person, &options, work).await?))
}
