//! The pages of a model: its questions, one question with its answer, and changes of it.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::extract::{Extension, Path, RawQuery, State};
use axum::response::{IntoResponse, Redirect, Response};
use cubrel::catalog::Catalog;
use cubrel::why::{Why, WhyOptions};
use cubrel::{Diagnostic, Error, Formats, Grid, Model, QueryOptions, QueryText, Value};
use maud::{Markup, html};

use super::answer::{self, Lead, Leads};
use super::sentence::{self, Change, Choice, Part, conditions, label, literal_of, shown};
use super::{address, chart, explain, page};
use crate::people::Person;
use crate::problem::Problem;
use crate::questions::{self, AskedModel, Told, formats, in_turn, text_of};
use crate::server::Server;

/// Values of a column that a list offers.
const VALUES: usize = 500;
/// Rows behind an aggregate that a page shows.
const ROWS: usize = 20;

/// What an address says.
#[derive(Clone, Debug, Default)]
struct Address {
    pairs: Vec<(String, String)>,
}

impl Address {
    fn read(query: Option<String>) -> Address {
        Address { pairs: serde_urlencoded::from_str(&query.unwrap_or_default()).unwrap_or_default() }
    }

    fn get(&self, name: &str) -> Option<&str> {
        self.pairs.iter().find(|(n, _)| n == name).map(|(_, value)| value.as_str())
    }

    fn all(&self, name: &str) -> Vec<String> {
        self.pairs.iter().filter(|(n, _)| n == name).map(|(_, value)| value.clone()).collect()
    }

    /// What stays the same when a question is changed: parameters, and whether it is drawn.
    fn kept(&self) -> Vec<(&str, &str)> {
        let stays = |name: &str| matches!(name, "set" | "chart");
        self.pairs.iter().filter(|(name, _)| stays(name)).map(|(n, v)| (n.as_str(), v.as_str())).collect()
    }

    fn parameters(&self) -> HashMap<String, Vec<Value>> {
        self.pairs.iter().filter(|(name, _)| name == "set").filter_map(|(_, set)| questions::parameter(set)).collect()
    }
}

/// A problem as a page.
fn refused(problem: Problem) -> Response {
    let told = problem.detail().to_string();
    let inner = html! { h1 { "Nothing is here" } p .warn { (told) } p { a href="/" { "What there is" } } };
    (problem.into_response().status(), page("Nothing is here", &html! { a href="/" { "cubrel" } }, &inner))
        .into_response()
}

/// The models, each with its saved questions.
pub async fn home(State(server): State<Arc<Server>>, Extension(person): Extension<Person>) -> Response {
    let asked: Vec<AskedModel> =
        server.models.iter().filter_map(|model| AskedModel::find(&server, &person, &model.name).ok()).collect();
    if let [only] = asked.as_slice() {
        return Redirect::to(&format!("/m/{}", only.served.name)).into_response();
    }
    let inner = html! {
        h1 { "Models" }
        @if asked.is_empty() { p { "There is nothing for you here yet: whoever keeps a model can give you a role in it." } }
        ul .cards { @for model in &asked {
            li { a href=(format!("/m/{}", model.served.name)) { (model.version.catalog().name.as_deref().unwrap_or(&model.served.name)) } }
        } }
        (signed_in(&person))
    };
    page("Models", &html! { "cubrel" }, &inner).into_response()
}

fn signed_in(person: &Person) -> Markup {
    html! {
        @if let Person::Named(named) = person {
            form .soft method="post" action="/sign-out" { "Signed in as " (named.name) " " button .link { "sign out" } }
        }
    }
}

/// What is asked of a model, once it has been worked out.
struct Answered {
    catalog: Catalog,
    formats: Formats,
    text: String,
    query: Option<QueryText>,
    grid: Result<Grid, Error>,
    warnings: Vec<Diagnostic>,
    took: Duration,
    why: Option<Result<Why, Error>>,
    /// Values of the column that a condition is to be made of.
    values: Option<Vec<Value>>,
}

fn worked_out(model: &Model, said: &Address, options: &QueryOptions) -> Result<Answered, Error> {
    let catalog = model.catalog();
    let text = text_of(model, said.get("text").unwrap_or_default());
    let query: Option<QueryText> = text.parse().ok();
    let start = Instant::now();
    let asked = model.query_with(&text, options);
    let warnings = asked.as_ref().map(|q| q.warnings().to_vec()).unwrap_or_default();
    let grid = asked.and_then(|q| q.run());
    let took = start.elapsed();
    let why = said.get("at").map(|at| {
        let options = WhyOptions { item: said.get("item").map(str::to_string), rows: ROWS, query: options.clone() };
        model.why(&text, at, &options)
    });
    let values = said.get("pick").map(|column| values(model, column, options)).transpose()?;
    Ok(Answered { formats: formats(model)?, catalog, text, query, grid, warnings, took, why, values })
}

/// The values of a column, in the order in which it is shown.
fn values(model: &Model, column: &str, options: &QueryOptions) -> Result<Vec<Value>, Error> {
    let table = column.rsplit_once('.').map_or(column, |(table, _)| table);
    let query = QueryText::grid([format!("rows({table})")]).by(column).limit(VALUES);
    let options = QueryOptions { parameters: HashMap::new(), ..options.clone() };
    let grid = model.query_with(&query.to_string(), &options)?.run()?;
    Ok(grid.lines.into_iter().filter_map(|line| line.values.into_iter().next()).collect())
}

/// A question with its answer; without one, what can be asked.
pub async fn question(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(name): Path<String>,
    RawQuery(query): RawQuery,
) -> Response {
    let who = match AskedModel::find(&server, &person, &name) {
        Ok(who) => who,
        Err(problem) => return refused(problem),
    };
    let said = Address::read(query);
    let options = who.options(&server, said.parameters());
    let (of_work, version, seen_as, asked) = (options.clone(), who.version.clone(), who.who.clone(), said.clone());
    let has_text = said.get("text").is_some_and(|text| !text.trim().is_empty());
    let work = move || {
        let model = version.seen_as(&seen_as)?;
        if has_text { worked_out(&model, &asked, &of_work).map(Ok) } else { Ok(Err(model.catalog())) }
    };
    let title = who.version.catalog().name.clone().unwrap_or_else(|| name.clone());
    let trail = html! { a href="/" { "cubrel" } " › " a href=(format!("/m/{name}")) { (title) } };
    match in_turn(&server, &person, &options, work).await {
        Ok(Ok(answered)) => {
            let rows = answered.grid.as_ref().ok().map(|grid| grid.lines.len());
            let mut response = page(&title, &trail, &shown_answer(&name, &said, &answered)).into_response();
            response.extensions_mut().insert(Told::new(&answered.text, rows));
            response
        }
        Ok(Err(catalog)) => page(&title, &trail, &start(&name, &title, &catalog, &person)).into_response(),
        Err(problem) => {
            let told = problem.detail().to_string();
            let response = problem.into_response();
            let inner = html! { h1 { "Not answered" } p .warn { (told) } p { a href=(format!("/m/{name}?{}", address(&said.kept()))) { "Ask again" } } };
            (response.status(), page(&title, &trail, &inner)).into_response()
        }
    }
}

/// What can be asked of a model.
fn start(name: &str, title: &str, catalog: &Catalog, person: &Person) -> Markup {
    let measures = sentence::measures(catalog);
    html! {
        h1 { (title) }
        (ask_form(name, "", ""))
        @if !catalog.queries.is_empty() {
            h2 { "Saved queries" }
            ul .cards { @for query in &catalog.queries {
                li {
                    a href=(format!("/m/{name}?{}", address(&[("text", &query.text)]))) { (sentence::spaced(&query.name)) }
                    @if let Some(note) = &query.note { p .soft { (note) } }
                }
            } }
        }
        h2 { "Figures" }
        @if measures.is_empty() { p .soft { "The model has no measures for you: a question can still name any column." } }
        ul .cards { @for measure in &measures {
            li {
                a href=(format!("/m/{name}?{}", address(&[("text", &format!("grid {}", measure.text))]))) { (measure.label) }
                @if let Some(note) = &measure.note { p .soft { (note) } }
            }
        } }
        (signed_in(person))
    }
}

fn ask_form(name: &str, text: &str, kept: &str) -> Markup {
    html! {
        form .ask method="get" action=(format!("/m/{name}")) {
            label for="text" { "The question as text" }
            div .writing {
                textarea id="text" name="text" rows="2" spellcheck="false" autocomplete="off" placeholder="grid net_revenue by port.region" data-complete=(format!("/m/{name}/complete")) { (text) }
                ul id="offers" hidden role="listbox" aria-label="What could stand here" {}
            }
            @for (n, v) in serde_urlencoded::from_str::<Vec<(String, String)>>(kept).unwrap_or_default() { input type="hidden" name=(n) value=(v); }
            button { "Ask" }
        }
    }
}

fn shown_answer(name: &str, said: &Address, answered: &Answered) -> Markup {
    let kept = said.kept();
    let to = |pairs: &[(&str, &str)]| {
        let all: Vec<(&str, &str)> = [("text", answered.text.as_str())]
            .into_iter()
            .chain(kept.iter().copied())
            .chain(pairs.iter().copied())
            .collect();
        format!("/m/{name}?{}", address(&all))
    };
    let change = |pairs: &[(&str, &str)]| to(pairs).replacen('?', "/change?", 1);
    let is_drawn = said.get("chart").is_some();
    let drawing = |on: bool| {
        let mut pairs: Vec<(&str, &str)> = kept.iter().copied().filter(|(n, _)| *n != "chart").collect();
        pairs.insert(0, ("text", &answered.text));
        if on {
            pairs.push(("chart", "1"));
        }
        format!("/m/{name}?{}", address(&pairs))
    };
    let sets: Vec<(&str, &str)> = kept.iter().copied().filter(|(n, _)| *n == "set").collect();
    let file = |form: &str| {
        let mut pairs = vec![("text", answered.text.as_str()), ("form", form)];
        pairs.extend(sets.iter().copied());
        format!("/api/models/{name}/query?{}", address(&pairs))
    };
    html! {
        h1 .unseen { (answered.catalog.name.as_deref().unwrap_or(name)) ": a question" }
        @if let Some(query) = answered.query.as_ref().filter(|q| !q.records) { (sentence_of(name, query, answered, said, &change, &to)) }
        details .text open[answered.grid.is_err()] { summary { "As text" } (ask_form(name, &answered.text, &address(&kept))) }
        @for warning in &answered.warnings { p .warn { (warning.message) @if let Some(help) = &warning.help { span .soft { " — " (help) } } } }
        @match &answered.grid {
            Err(e) => (problems(e)),
            Ok(grid) => {
                @let layout = grid.layout(&answered.formats);
                p .bar-of-tools {
                    span { (answer::counted(&layout)) " in " (format!("{:.1} ms", answered.took.as_secs_f64() * 1e3)) }
                    @if is_drawn { a href=(drawing(false)) { "without the chart" } } @else { a href=(drawing(true)) { "draw it" } }
                    a href=(file("csv")) download=(format!("{name}.csv")) { "CSV" }
                    a href=(file("xlsx")) download=(format!("{name}.xlsx")) { "XLSX" }
                    a href=(file("json")) { "JSON" }
                }
                @match &answered.why {
                    Some(Ok(why)) => (explain::explained(why, &answered.formats, said.get("at").unwrap_or_default(), &to(&[]))),
                    Some(Err(e)) => (problems(e)),
                    None => {},
                }
                @if is_drawn {
                    @match chart::chart(grid, &layout) { Some(drawn) => (drawn), None => { p .soft { "There is nothing to draw: a chart needs numbers by something." } } }
                }
                @if grid.lines.is_empty() { p { "Nothing matches." } }
                @else {
                    @let plain = QueryText::default();
                    @let leads = Leads { query: answered.query.as_ref().unwrap_or(&plain), to: &to, change: &change };
                    (answer::table(grid, &layout, &leads))
                }
            },
        }
    }
}

/// What is wrong with a question, with the place in it.
fn problems(e: &Error) -> Markup {
    html! {
        div .problem role="alert" {
            @if e.problems().is_empty() { p .warn { (e) } }
            @for problem in e.problems() {
                p .warn { (problem.message) }
                @if let (Some((_, line, column)), Some(source)) = (problem.place(), &problem.source) {
                    @let text = source.text.lines().nth(line - 1).unwrap_or_default();
                    pre { (text) "\n" (" ".repeat(column - 1)) "^" }
                }
                @if let Some(help) = &problem.help { p .soft { (help) } }
            }
        }
    }
}

/// The question as a sentence: each part opens a list.
fn sentence_of(
    name: &str,
    query: &QueryText,
    answered: &Answered,
    said: &Address,
    change: Lead<'_>,
    to: Lead<'_>,
) -> Markup {
    let (measures, axes) = (sentence::measures(&answered.catalog), sentence::axes(&answered.catalog));
    let choices = |part: Part| if part == Part::Items { &measures } else { &axes };
    let filter = query.filter.as_deref().unwrap_or_default();
    html! {
        section .sentence aria-label="The question" {
            @for part in Part::ALL { (list_of(name, part, query, choices(part), answered, said, change)) }
            (conditions_of(name, filter, &axes, answered, said, change, to))
            (limit_of(name, query, answered, said))
            a .part .toggle href=(change(&[("totals", if query.totals { "0" } else { "1" })])) aria-label=(if query.totals { "leave the totals out" } else { "with totals" }) {
                @if query.totals { "totals ✓" } @else { "totals" }
            }
        }
    }
}

/// The hidden fields that a form of the page needs: the question, and what stays.
fn hidden(answered: &Answered, said: &Address) -> Markup {
    html! {
        input type="hidden" name="text" value=(answered.text);
        @for (n, v) in said.kept() { input type="hidden" name=(n) value=(v); }
    }
}

/// A part that is a list: what it has, in its order, and what it could have.
fn list_of(
    name: &str,
    part: Part,
    query: &QueryText,
    choices: &[Choice],
    answered: &Answered,
    said: &Address,
    change: Lead<'_>,
) -> Markup {
    let chosen = part.of(query);
    let heading = |text: &String| match part {
        Part::Items => {
            let item = query.items.iter().find(|item| item.formula == *text);
            item.and_then(|item| item.heading.clone()).unwrap_or_else(|| label(choices, text))
        }
        _ => label(choices, text),
    };
    let rest = || choices.iter().filter(|c| !chosen.contains(&c.text));
    let mut groups: Vec<&str> = Vec::new();
    rest().for_each(|c| {
        if !groups.contains(&c.group.as_str()) {
            groups.push(&c.group);
        }
    });
    html! {
        details .part name="part" {
            summary { span .word { (part.word()) } " " @if chosen.is_empty() { span .soft { "…" } } @else { (chosen.iter().map(heading).collect::<Vec<_>>().join(", ")) } }
            div .list {
                ul { @for text in &chosen {
                    li {
                        span { (heading(text)) }
                        span .acts {
                            a href=(change(&[("earlier", part.name()), ("one", text)])) aria-label=(format!("{} further to the front", heading(text))) { "↑" }
                            @if part != Part::Items || chosen.len() > 1 {
                                a href=(change(&[("drop", part.name()), ("one", text)])) aria-label=(format!("without {}", heading(text))) { "✕" }
                            }
                        }
                    }
                } }
                form method="get" action=(format!("/m/{name}/change")) {
                    (hidden(answered, said))
                    input type="hidden" name="add" value=(part.name());
                    input .find type="search" placeholder="find" aria-label="Find in the list";
                    div .choices {
                        @for group in &groups {
                            fieldset {
                                legend { (group) }
                                @for choice in rest().filter(|c| c.group == *group) {
                                    label { input type="checkbox" name="one" value=(choice.text); " " (choice.label) @if let Some(note) = &choice.note { span .soft { " " (note) } } }
                                }
                            }
                        }
                    }
                    button { "Add" }
                }
            }
        }
    }
}

/// What holds: conditions that are lists by their values, others as they are written.
fn conditions_of(
    name: &str,
    filter: &str,
    axes: &[Choice],
    answered: &Answered,
    said: &Address,
    change: Lead<'_>,
    to: Lead<'_>,
) -> Markup {
    let all = conditions(filter);
    let pick = said.get("pick");
    let picked = pick.map(|column| {
        let own = all.iter().filter_map(|c| c.list.as_ref()).find(|(of, _)| of == column);
        (column, own.map(|(_, values)| values.clone()).unwrap_or_default())
    });
    html! {
        details .part name="part" open[pick.is_some()] {
            summary {
                span .word { "where" } " "
                @if all.is_empty() { span .soft { "…" } }
                @for (i, condition) in all.iter().enumerate() {
                    @if i > 0 { ", " }
                    @match &condition.list {
                        Some((column, values)) => { (label(axes, column)) " is " (values.iter().map(|v| shown(v)).collect::<Vec<_>>().join(", ")) },
                        None => code { (condition.text) },
                    }
                }
            }
            div .list {
                ul { @for condition in &all {
                    li {
                        @match &condition.list {
                            Some((column, _)) => a href=(to(&[("pick", column)])) { (label(axes, column)) },
                            None => code { (condition.text) },
                        }
                        span .acts { a href=(change(&[("without", &condition.text)])) aria-label="without this condition" { "✕" } }
                    }
                } }
                @match (&picked, &answered.values) {
                    (Some((column, own)), Some(values)) => {
                        form method="get" action=(format!("/m/{name}/change")) {
                            (hidden(answered, said))
                            input type="hidden" name="among" value=(column);
                            p { b { (label(axes, column)) } " is one of" }
                            input .find type="search" placeholder="find" aria-label="Find in the list";
                            div .choices { @for value in values.iter().filter_map(literal_of) {
                                label { input type="checkbox" name="one" value=(value) checked[own.contains(&value)]; " " (shown(&value)) }
                            } }
                            button { "Show these" }
                        }
                    },
                    _ => {
                        form method="get" action=(format!("/m/{name}")) {
                            (hidden(answered, said))
                            label for="pick" { "By the values of" }
                            select id="pick" name="pick" {
                                @for axis in axes.iter().filter(|a| a.text.contains('.')) { option value=(axis.text) { (axis.group) " · " (axis.label) } }
                            }
                            button { "Choose values" }
                        }
                    },
                }
            }
        }
    }
}

/// How many lines.
fn limit_of(name: &str, query: &QueryText, answered: &Answered, said: &Address) -> Markup {
    let count = query.limit.as_ref().map(|limit| limit.count.to_string()).unwrap_or_default();
    let others = query.limit.as_ref().is_some_and(|limit| limit.others);
    html! {
        details .part name="part" {
            summary { @if count.is_empty() { span .word { "all lines" } } @else { span .word { "the first" } " " (count) @if others { " and others" } } }
            form .list method="get" action=(format!("/m/{name}/change")) {
                (hidden(answered, said))
                input type="hidden" name="limit" value="1";
                label { "Lines; none for all " input type="number" name="count" min="1" max="100000" value=(count); }
                label { input type="checkbox" name="others" value="1" checked[others]; " and the rest as one line" }
                button { "Show so many" }
            }
        }
    }
}

/// A change as an address says it.
fn change_of(said: &Address) -> Option<Change> {
    let part = |name: &str| said.get(name).and_then(Part::named);
    let one = || said.get("one").map(str::to_string);
    if let (Some(part), Some(one)) = (part("drop"), one()) {
        return Some(Change::Drop(part, one));
    }
    if let (Some(part), Some(one)) = (part("earlier"), one()) {
        return Some(Change::Earlier(part, one));
    }
    if let Some(column) = said.get("among") {
        return Some(Change::Among(column.to_string(), said.all("one")));
    }
    if let Some(text) = said.get("without") {
        return Some(Change::Without(text.to_string()));
    }
    if let Some(totals) = said.get("totals") {
        return Some(Change::Totals(totals == "1"));
    }
    if let (Some(how), Some(item)) = (said.get("order"), said.get("item")) {
        return Some(Change::Order((how != "none").then(|| (item.to_string(), how == "desc"))));
    }
    if said.get("limit").is_some() {
        let count = said.get("count").and_then(|c| c.trim().parse::<usize>().ok()).filter(|c| *c > 0);
        return Some(Change::Limit(count.map(|count| (count, said.get("others").is_some()))));
    }
    None
}

/// Changes a question, and leads to it.
pub async fn change(Path(name): Path<String>, RawQuery(query): RawQuery) -> Response {
    let said = Address::read(query);
    let text = said.get("text").unwrap_or_default();
    let Ok(mut query) = text.parse::<QueryText>() else {
        return Redirect::to(&format!("/m/{name}?{}", address(&[("text", text)]))).into_response();
    };
    match (said.get("add").and_then(Part::named), change_of(&said)) {
        (Some(part), _) => {
            for one in said.all("one") {
                query = Change::Add(part, one).made(query);
            }
        }
        (None, Some(change)) => query = change.made(query),
        (None, None) => {}
    }
    let text = query.to_string();
    let pairs: Vec<(&str, &str)> = [("text", text.as_str())].into_iter().chain(said.kept()).collect();
    Redirect::to(&format!("/m/{name}?{}", address(&pairs))).into_response()
}

/// What could stand at a place of a text.
pub async fn complete(
    State(server): State<Arc<Server>>,
    Extension(person): Extension<Person>,
    Path(name): Path<String>,
    RawQuery(query): RawQuery,
) -> Result<Response, Problem> {
    /// Offers that a list shows.
    const OFFERS: usize = 12;
    let who = AskedModel::find(&server, &person, &name)?;
    let said = Address::read(query);
    let text = said.get("text").unwrap_or_default().to_string();
    // A script counts in units of UTF-16.
    let units = said.get("cursor").and_then(|c| c.parse::<usize>().ok()).unwrap_or(usize::MAX);
    let bytes_of = |units: usize| {
        let mut left = units;
        let fits = text.chars().take_while(|c| {
            let fits = left >= c.len_utf16();
            left = left.saturating_sub(c.len_utf16());
            fits
        });
        fits.map(char::len_utf8).sum::<usize>()
    };
    let cursor = bytes_of(units);
    let units_of = |bytes: usize| text.get(..bytes).unwrap_or(&text).encode_utf16().count();
    let model = who.version.seen_as(&who.who)?;
    let offers: Vec<serde_json::Value> = cubrel::complete(&model.catalog(), &text, cursor)
        .into_iter()
        .take(OFFERS)
        .map(|o| serde_json::json!({"text": o.text, "about": o.about, "from": units_of(o.replaces.start), "to": units_of(o.replaces.end)}))
        .collect();
    Ok(axum::Json(offers).into_response())
}
