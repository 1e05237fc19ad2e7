//! Questions: each in its turn, ended when nobody waits for it any more, and answered as before where the same was asked.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use axum::http::StatusCode;
use cubrel::{Cancel, Error, Formats, Model, QueryOptions, Value};

use crate::answers::{Asked, Body};
use crate::form::Form;
use crate::people::{Person, SeenAs};
use crate::problem::Problem;
use crate::served::{Served, Version};
use crate::server::Server;

/// A model as somebody asks it.
pub struct AskedModel {
    /// The model.
    pub served: Arc<Served>,
    /// The version that the question is answered from, to its end.
    pub version: Arc<Version>,
    /// As whom it is asked.
    pub who: SeenAs,
}

impl AskedModel {
    /// The model of a name, for somebody who sees anything of it.
    ///
    /// # Errors
    /// When there is none, or nothing of it for who asks: the same, so that nobody is told which models there are.
    pub fn find(server: &Server, person: &Person, name: &str) -> Result<AskedModel, Problem> {
        let unknown = || {
            let help = "`/api/models` has those that you see";
            Problem::not_found(format!("there is no model `{name}`, or nothing of it for you")).help(help)
        };
        let served = server.model(name).ok_or_else(unknown)?.clone();
        let version = served.current();
        let who = server.people.seen_as(person, version.catalog());
        if who.roles.as_ref().is_some_and(Vec::is_empty) {
            return Err(unknown());
        }
        Ok(AskedModel { served, version, who })
    }
}

impl AskedModel {
    /// What a question is asked with.
    pub fn options(&self, server: &Server, parameters: HashMap<String, Vec<Value>>) -> QueryOptions {
        QueryOptions { parameters, user: self.who.user.clone(), limits: server.limits, ..QueryOptions::default() }
    }

    /// What tells a question from all others.
    pub fn asked(&self, question: &ModelQuestion, form: Form) -> Asked {
        let written = question.parameters.iter().map(|(name, values)| format!("{name}={values:?}"));
        let mut written: Vec<String> = written.collect();
        written.sort();
        Asked {
            model: self.served.name.clone(),
            version: self.version.number(),
            day: today(),
            who: self.who.clone(),
            text: question.text.clone(),
            parameters: format!("{} {}", written.join(";"), question.is_shown),
            form: form.name(),
        }
    }
}

/// What is asked of a model.
#[derive(Clone, Debug)]
pub struct ModelQuestion {
    /// The text of a query, or the name of a saved one.
    pub text: String,
    /// The values of `$name`.
    pub parameters: HashMap<String, Vec<Value>>,
    /// Values as people read them, in forms that have texts.
    pub is_shown: bool,
    /// Ends it from outside.
    pub cancel: Cancel,
}

/// An answer in one form.
#[derive(Clone, Debug)]
pub struct Answer {
    /// Its bytes.
    pub body: Body,
    /// How many lines were worked out; nothing where it was there already.
    pub rows: Option<usize>,
}

/// What the log is told of a question and its answer.
#[derive(Clone, Debug)]
pub struct Told {
    /// What was asked, shortened.
    pub asked: String,
    /// How many lines were worked out; nothing where they were there already, or are not known.
    pub rows: Option<usize>,
}

impl Told {
    /// The most characters of a question that the log has.
    const MOST: usize = 300;

    /// A question, and how many lines its answer has.
    pub fn new(text: &str, rows: Option<usize>) -> Told {
        Told { asked: text.chars().take(Told::MOST).collect(), rows }
    }
}

/// The answer to a question, as it was or as it is worked out now.
///
/// # Errors
/// When it cannot be answered, or not now.
pub async fn answer(
    server: &Arc<Server>,
    person: &Person,
    who: &AskedModel,
    question: ModelQuestion,
    form: Form,
) -> Result<Answer, Problem> {
    let asked = who.asked(&question, form);
    if let Some(body) = server.answers.get(&asked) {
        server.watch.again.inc();
        return Ok(Answer { body, rows: None });
    }
    let options = QueryOptions { cancel: question.cancel, ..who.options(server, question.parameters) };
    let (of_run, version, seen_as) = (options.clone(), who.version.clone(), who.who.clone());
    let work = move || {
        let model = version.seen_as(&seen_as)?;
        let start = Instant::now();
        let grid = model.query_with(&text_of(&model, &question.text), &of_run)?.run()?;
        let elapsed = start.elapsed();
        let cells = grid.lines.len() * grid.columns.len();
        let body = form.of(&grid, || formats(&model), question.is_shown, elapsed)?;
        Ok((Body::from(body), grid.lines.len(), cells))
    };
    let (body, rows, cells) = in_turn(server, person, &options, work).await?;
    server.watch.questions.inc();
    server.watch.lines.inc_by(rows as u64);
    server.watch.cells.inc_by(cells as u64);
    server.answers.keep(asked, body.clone());
    Ok(Answer { body, rows: Some(rows) })
}

/// Cancels what runs when nobody waits for it any more.
struct Waited<'a> {
    cancel: Cancel,
    server: &'a Server,
    is_done: bool,
}

impl Drop for Waited<'_> {
    fn drop(&mut self) {
        if !self.is_done {
            self.cancel.cancel();
            self.server.watch.left.inc();
        }
    }
}

/// Does what takes a while away from the threads that answer.
pub async fn off_thread<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, Error> + Send + 'static,
) -> Result<T, Problem> {
    match tokio::task::spawn_blocking(work).await {
        Ok(done) => done.map_err(Problem::from),
        Err(_) => {
            let title = "the server could not do it";
            Err(Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "server", title, "a fault of the server"))
        }
    }
}

/// Works on a question when its turn comes; it ends when nobody waits for it.
pub async fn in_turn<T: Send + 'static>(
    server: &Arc<Server>,
    person: &Person,
    options: &QueryOptions,
    work: impl FnOnce() -> Result<T, Error> + Send + 'static,
) -> Result<T, Problem> {
    let turn = server.gate.enter(person.name()).await.map_err(|_| {
        server.watch.sent_away.inc();
        Problem::busy()
    })?;
    let mut waited = Waited { cancel: options.cancel.clone(), server, is_done: false };
    // Whoever goes away gives the turn back only when the work has really ended.
    let done = off_thread(move || {
        let done = work();
        drop(turn);
        done
    })
    .await;
    waited.is_done = true;
    done
}

/// The text of a question, or of the saved one that it names.
pub fn text_of(model: &Model, asked: &str) -> String {
    let name = asked.trim();
    // What could be a name costs a look at all of them.
    if name.contains(char::is_whitespace) {
        return asked.to_string();
    }
    let saved = model.catalog().queries.into_iter().find(|query| query.name == name);
    saved.map_or_else(|| asked.to_string(), |query| query.text)
}

/// The name and the values of `year=2025` or `region=North,South`.
pub fn parameter(set: &str) -> Option<(String, Vec<Value>)> {
    let (name, values) = set.split_once('=')?;
    let values = values.split(',').map(|v| cubrel::guessed(v.trim())).collect();
    Some((name.trim().trim_start_matches('$').to_string(), values))
}

/// How the model writes values.
///
/// # Errors
/// When it names a locale that nobody knows.
pub fn formats(model: &Model) -> Result<Formats, Error> {
    let catalog = model.catalog();
    Formats::new(catalog.locale.as_deref(), catalog.currency.as_deref()).map_err(Error::Form)
}

/// The day on the clock.
pub fn today() -> i32 {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    now.map_or(0, |d| (d.as_secs() / 86_400) as i32)
}
