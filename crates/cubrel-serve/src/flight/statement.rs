//! Questions as statements: what an answer will look like, and the answer as a stream of batches.

use std::collections::HashMap;
use std::io::Cursor;
use std::sync::Arc;

use arrow_flight::encode::FlightDataEncoderBuilder;
use arrow_flight::error::FlightError;
use arrow_flight::sql::{ProstMessageExt, TicketStatementQuery};
use arrow_flight::{FlightData, FlightDescriptor, FlightEndpoint, FlightInfo, Ticket};
use arrow_ipc::reader::StreamReader;
use arrow_schema::{Schema, SchemaRef};
use cubrel::{Cancel, Model, Value};
use futures_util::stream::BoxStream;
use futures_util::{StreamExt, TryStreamExt, stream};
use prost::Message;
use serde::{Deserialize, Serialize};
use tonic::Status;
use tonic::metadata::MetadataMap;

use super::status::fault;
use crate::answers::Body;
use crate::form::Form;
use crate::people::Person;
use crate::problem::Problem;
use crate::questions::{self, AskedModel, ModelQuestion, Told, in_turn, text_of};
use crate::server::Server;

/// The header that names the model.
pub const MODEL: &str = "model";

/// A stream of an answer.
pub type Batches = BoxStream<'static, Result<FlightData, Status>>;

/// What is asked, of which model.
#[derive(Clone, Debug, Default)]
pub struct Statement {
    pub model: String,
    pub text: String,
    /// The names of its parameters, in the order of the text.
    pub names: Vec<String>,
    /// Their values.
    pub parameters: HashMap<String, Vec<Value>>,
}

/// What a client shows to get an answer that it was promised.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Promise {
    /// Tells it from all others, for whoever cancels it.
    pub id: String,
    pub model: String,
    pub text: String,
}

impl Promise {
    /// From what a client shows.
    pub fn read(handle: &[u8]) -> Result<Promise, Status> {
        serde_json::from_slice(handle)
            .map_err(|_| Status::invalid_argument("this ticket is none of this server: ask for a new one"))
    }
}

/// The model that a call is about: the one that it names, or the only one that who calls sees.
pub fn model_of(server: &Server, person: &Person, metadata: &MetadataMap) -> Result<String, Problem> {
    if let Some(name) = metadata.get(MODEL) {
        let name = name.to_str().map_err(|_| Problem::bad_request("the header `model` cannot be read"))?;
        return AskedModel::find(server, person, name).map(|asked| asked.served.name.clone());
    }
    let seen = server.models.iter().filter(|model| AskedModel::find(server, person, &model.name).is_ok());
    let names: Vec<&str> = seen.map(|model| model.name.as_str()).collect();
    match names.as_slice() {
        [only] => Ok((*only).to_string()),
        [] => Err(Problem::not_found("there is no model for you here")),
        several => Err(Problem::bad_request("which model is meant has to be said")
            .help(format!("send a header `{MODEL}` with one of: {}", several.join(", ")))),
    }
}

/// What the answer to a statement will look like.
///
/// # Errors
/// When the statement is no question that can be answered.
pub async fn planned(server: &Arc<Server>, person: &Person, statement: &Statement) -> Result<Schema, Problem> {
    let who = AskedModel::find(server, person, &statement.model)?;
    let (options, text) = (who.options(server, statement.parameters.clone()), statement.text.clone());
    let of_plan = options.clone();
    let work = move || {
        let model = who.version.seen_as(&who.who)?;
        let planned = model.query_with(&text_of(&model, &text), &of_plan).map(|query| query.arrow_schema());
        Ok(planned.map_err(|e| explained(Problem::from(e), &model, &text)))
    };
    in_turn(server, person, &options, work).await?
}

/// The parameters of a statement, or of the saved query that it names.
///
/// # Errors
/// When there is no such model for who asks.
pub fn parameters(server: &Server, person: &Person, statement: &Statement) -> Result<Vec<String>, Problem> {
    let who = AskedModel::find(server, person, &statement.model)?;
    let model = who.version.seen_as(&who.who)?;
    Ok(cubrel::parameters(&text_of(&model, &statement.text)))
}

/// The words that statements of SQL begin with.
const SQL: [&str; 10] =
    ["select", "with", "insert", "update", "delete", "create", "drop", "show", "describe", "explain"];

/// Whoever sends SQL is told how questions are written here, by what this model has.
fn explained(problem: Problem, model: &Model, text: &str) -> Problem {
    let first = text.split_whitespace().next().unwrap_or_default().to_ascii_lowercase();
    if !SQL.contains(&first.as_str()) {
        return problem;
    }
    let catalog = model.catalog();
    // What tells rows apart is no good example of what they are grouped by.
    let joins: Vec<&String> = catalog.relationships.iter().flat_map(|r| r.many.iter().chain(&r.one)).collect();
    let axis = catalog.tables.iter().filter(|table| !table.hidden).find_map(|table| {
        let path = |name: &str| format!("{}.{}", cubrel::quote_name(&table.name), cubrel::quote_name(name));
        let columns =
            table.columns.iter().filter(|c| !c.hidden && c.ty == "text" && table.key.as_ref() != Some(&c.name));
        columns.map(|column| path(&column.name)).find(|path| !joins.contains(&path))
    });
    let measure = catalog.measures.iter().find(|m| !m.hidden && m.wrong.is_none());
    let example = match (measure, axis) {
        (Some(measure), Some(axis)) => format!("`grid {} by {axis}`", cubrel::quote_name(&measure.name)),
        (Some(measure), None) => format!("`grid {}`", cubrel::quote_name(&measure.name)),
        (None, Some(axis)) => format!("`records {axis}`"),
        (None, None) => "`grid … by …`".to_string(),
    };
    let saved: Vec<&str> = catalog.queries.iter().take(5).map(|query| query.name.as_str()).collect();
    let saved = if saved.is_empty() { String::new() } else { format!(", or name a saved one: {}", saved.join(", ")) };
    Problem::bad_request("this is SQL, and questions are written otherwise here")
        .help(format!("for example {example}{saved}"))
}

/// The promise of an answer.
pub fn info(descriptor: FlightDescriptor, schema: &Schema, ticket: Vec<u8>) -> Result<FlightInfo, Status> {
    let endpoint = FlightEndpoint::new().with_ticket(Ticket { ticket: ticket.into() });
    let info = FlightInfo::new().try_with_schema(schema).map_err(fault)?;
    Ok(info.with_endpoint(endpoint).with_descriptor(descriptor).with_ordered(true))
}

/// The ticket of a statement.
pub fn ticket(promise: &Promise) -> Result<Vec<u8>, Status> {
    let handle = serde_json::to_vec(promise).map_err(fault)?;
    Ok(TicketStatementQuery { statement_handle: handle.into() }.as_any().encode_to_vec())
}

/// The answer to a statement.
///
/// # Errors
/// When it cannot be answered, or not now.
pub async fn answered(
    server: &Arc<Server>,
    person: &Person,
    statement: Statement,
    cancel: Cancel,
) -> Result<(Batches, Told), Status> {
    let promised = planned(server, person, &statement).await?;
    let who = AskedModel::find(server, person, &statement.model)?;
    let Statement { text, parameters, .. } = statement;
    let question = ModelQuestion { text: text.clone(), parameters, is_shown: false, cancel };
    let answer = questions::answer(server, person, &who, question, Form::Arrow).await?;
    Ok((batches(answer.body, promised.into())?, Told::new(&text, answer.rows)))
}

/// An answer as batches that are small enough for a message each.
fn batches(body: Body, promised: SchemaRef) -> Result<Batches, Status> {
    let reader = StreamReader::try_new(Cursor::new(body), None).map_err(fault)?;
    if reader.schema() != promised {
        // A client takes only what it was promised.
        return Err(Status::out_of_range(
            "a whole number of the answer does not fit 64 bits: round it, or divide it by 1.0 to have a decimal",
        ));
    }
    let schema = reader.schema();
    let read = stream::iter(reader).map_err(FlightError::Arrow);
    let encoded = FlightDataEncoderBuilder::new().with_schema(schema).build(read);
    Ok(encoded.map_err(fault).boxed())
}

/// A batch that is there already, as a stream.
pub fn one_batch(batch: arrow_array::RecordBatch) -> Batches {
    let encoded = FlightDataEncoderBuilder::new().with_schema(batch.schema()).build(stream::iter([Ok(batch)]));
    encoded.map_err(fault).boxed()
}
