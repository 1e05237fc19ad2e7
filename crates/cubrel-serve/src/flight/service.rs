//! The calls of Arrow Flight SQL, each led to where it is answered.

use std::pin::Pin;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_flight::decode::FlightRecordBatchStream;
use arrow_flight::flight_service_server::FlightService;
use arrow_flight::sql::server::{FlightSqlService, PeekableFlightDataStream};
use arrow_flight::sql::{
    ActionCancelQueryRequest, ActionCancelQueryResult, ActionClosePreparedStatementRequest,
    ActionCreatePreparedStatementRequest, ActionCreatePreparedStatementResult, Any, CommandGetCatalogs,
    CommandGetCrossReference, CommandGetDbSchemas, CommandGetExportedKeys, CommandGetImportedKeys,
    CommandGetPrimaryKeys, CommandGetSqlInfo, CommandGetTableTypes, CommandGetTables, CommandGetXdbcTypeInfo,
    CommandPreparedStatementQuery, CommandStatementQuery, CommandStatementUpdate, DoPutPreparedStatementResult,
    TicketStatementQuery,
};
use arrow_flight::{
    Action, ActionType, CancelFlightInfoRequest, CancelFlightInfoResult, CancelStatus, FlightDescriptor, FlightInfo,
    HandshakeRequest, HandshakeResponse, IpcMessage, SchemaAsIpc, Ticket,
};
use arrow_ipc::writer::IpcWriteOptions;
use arrow_schema::{DataType, Field, Schema};
use cubrel::Cancel;
use futures_util::{Stream, TryStreamExt, stream};
use prost::Message;
use prost::bytes::Bytes;
use tonic::{Request, Response, Status, Streaming};

use super::about;
use super::door::Token;
use super::listing::{self, Seen, Wanted};
use super::prepared::{self, Prepared};
use super::statement::{self, Batches, Promise, Statement, answered, info, model_of, one_batch, planned};
use super::status::{fault, unreadable};
use crate::people::Person;
use crate::questions::off_thread;
use crate::server::Server;

/// The action that cancels what a promise was made for.
const CANCEL: &str = "CancelFlightInfo";

/// Answers calls.
pub struct Service {
    server: Arc<Server>,
    prepared: Arc<Prepared>,
}

/// The rows of parameters that a client sends.
async fn sent(stream: PeekableFlightDataStream) -> Result<Vec<RecordBatch>, Status> {
    let data = stream.into_peekable().map_err(Into::into);
    FlightRecordBatchStream::new_from_flight_data(data).try_collect().await.map_err(unreadable)
}

/// A schema as a message.
fn message(schema: &Schema) -> Result<Bytes, Status> {
    let IpcMessage(bytes) = SchemaAsIpc::new(schema, &IpcWriteOptions::default()).try_into().map_err(fault)?;
    Ok(bytes)
}

/// Who calls.
fn caller<T>(request: &Request<T>) -> Result<Person, Status> {
    request.extensions().get::<Person>().cloned().ok_or_else(|| fault("a call came in by another door"))
}

/// The promise of a list: whoever shows the same call again gets it.
fn list_of(request: Request<FlightDescriptor>, schema: &Schema) -> Result<Response<FlightInfo>, Status> {
    let descriptor = request.into_inner();
    let ticket = descriptor.cmd.to_vec();
    Ok(Response::new(info(descriptor, schema, ticket)?))
}

type Get = Result<Response<Batches>, Status>;
type Promised = Result<Response<FlightInfo>, Status>;

impl Service {
    /// Answers calls for a server.
    pub fn new(server: Arc<Server>) -> Service {
        Service { server, prepared: Arc::default() }
    }

    /// A list of what who calls may see.
    async fn listed(
        &self,
        request: Request<Ticket>,
        list: impl FnOnce(&[Seen]) -> arrow_flight::error::Result<RecordBatch> + Send + 'static,
    ) -> Get {
        let (person, server) = (caller(&request)?, self.server.clone());
        let work = move || Ok(list(&listing::seen(&server, &person)?));
        let batch = off_thread(work).await?.map_err(fault)?;
        Ok(Response::new(one_batch(batch)))
    }

    /// An answer under a name by which it can be cancelled.
    async fn run(&self, person: &Person, name: &str, statement: Statement) -> Get {
        let cancel = Cancel::default();
        let _running = self.prepared.running(person, name, &cancel);
        let (batches, told) = answered(&self.server, person, statement, cancel).await?;
        let mut response = Response::new(batches);
        response.extensions_mut().insert(told);
        Ok(response)
    }

    /// Cancels what a promise was made for.
    fn cancelled(&self, person: &Person, info: &FlightInfo) -> CancelStatus {
        let tickets = info.endpoint.iter().filter_map(|endpoint| endpoint.ticket.as_ref());
        let names = tickets.filter_map(|ticket| {
            let any = Any::decode(&*ticket.ticket).ok()?;
            if let Ok(Some(ticket)) = any.unpack::<TicketStatementQuery>() {
                return Some(Promise::read(&ticket.statement_handle).ok()?.id);
            }
            let prepared = any.unpack::<CommandPreparedStatementQuery>().ok()??;
            String::from_utf8(prepared.prepared_statement_handle.to_vec()).ok()
        });
        match names.filter(|name| self.prepared.cancel(person, name)).count() {
            // It is done, or has not begun.
            0 => CancelStatus::NotCancellable,
            _ => CancelStatus::Cancelled,
        }
    }
}

#[tonic::async_trait]
impl FlightSqlService for Service {
    type FlightService = Service;

    async fn do_handshake(
        &self,
        request: Request<Streaming<HandshakeRequest>>,
    ) -> Result<Response<Pin<Box<dyn Stream<Item = Result<HandshakeResponse, Status>> + Send>>>, Status> {
        let token = request.extensions().get::<Token>().and_then(|token| token.0.clone());
        let payload = Bytes::from(token.clone().unwrap_or_default());
        let reply = HandshakeResponse { protocol_version: 0, payload };
        let reply: Pin<Box<dyn Stream<Item = _> + Send>> = Box::pin(stream::iter([Ok(reply)]));
        let mut response = Response::new(reply);
        if let Some(token) = token {
            let bearer = format!("Bearer {token}").parse().map_err(unreadable)?;
            response.metadata_mut().insert("authorization", bearer);
        }
        Ok(response)
    }

    async fn get_flight_info_statement(
        &self,
        query: CommandStatementQuery,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        let person = caller(&request)?;
        let model = model_of(&self.server, &person, request.metadata())?;
        let statement = Statement { model, text: query.query, ..Statement::default() };
        let schema = planned(&self.server, &person, &statement).await?;
        let id = prepared::handle().ok_or_else(|| fault("there are no random numbers"))?;
        let ticket = statement::ticket(&Promise { id, model: statement.model, text: statement.text })?;
        Ok(Response::new(info(request.into_inner(), &schema, ticket)?))
    }

    async fn do_get_statement(&self, ticket: TicketStatementQuery, request: Request<Ticket>) -> Get {
        let person = caller(&request)?;
        let Promise { id, model, text } = Promise::read(&ticket.statement_handle)?;
        self.run(&person, &id, Statement { model, text, ..Statement::default() }).await
    }

    async fn do_action_create_prepared_statement(
        &self,
        query: ActionCreatePreparedStatementRequest,
        request: Request<Action>,
    ) -> Result<ActionCreatePreparedStatementResult, Status> {
        let person = caller(&request)?;
        let model = model_of(&self.server, &person, request.metadata())?;
        let mut statement = Statement { model, text: query.query, ..Statement::default() };
        statement.names = statement::parameters(&self.server, &person, &statement)?;
        // What depends on parameters is known only when these have values.
        let dataset_schema = match statement.names.as_slice() {
            [] => message(&planned(&self.server, &person, &statement).await?)?,
            _ => Bytes::new(),
        };
        let fields = statement.names.iter().map(|name| Field::new(name, DataType::Utf8, true));
        let parameter_schema = message(&Schema::new(fields.collect::<Vec<Field>>()))?;
        let handle = self.prepared.keep(&person, statement).ok_or_else(|| fault("there are no random numbers"))?;
        Ok(ActionCreatePreparedStatementResult {
            prepared_statement_handle: handle.into(),
            dataset_schema,
            parameter_schema,
        })
    }

    async fn do_put_prepared_statement_query(
        &self,
        query: CommandPreparedStatementQuery,
        request: Request<PeekableFlightDataStream>,
    ) -> Result<DoPutPreparedStatementResult, Status> {
        let person = caller(&request)?;
        let handle = query.prepared_statement_handle;
        let batches = sent(request.into_inner()).await?;
        let mut statement = self.prepared.bound(&person, &handle, &batches)?;
        // Some clients have everything as text: what can only be asked with a number means one.
        if let Some(parameters) = prepared::guessed(&statement.parameters)
            && planned(&self.server, &person, &statement).await.is_err()
        {
            let other = Statement { parameters, ..statement.clone() };
            if planned(&self.server, &person, &other).await.is_ok() {
                statement = other;
            }
        }
        self.prepared.set(&person, &handle, statement.parameters)?;
        Ok(DoPutPreparedStatementResult { prepared_statement_handle: Some(handle) })
    }

    async fn get_flight_info_prepared_statement(
        &self,
        query: CommandPreparedStatementQuery,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        let person = caller(&request)?;
        let statement = self.prepared.get(&person, &query.prepared_statement_handle)?;
        let schema = planned(&self.server, &person, &statement).await?;
        list_of(request, &schema)
    }

    async fn do_get_prepared_statement(&self, query: CommandPreparedStatementQuery, request: Request<Ticket>) -> Get {
        let person = caller(&request)?;
        let statement = self.prepared.get(&person, &query.prepared_statement_handle)?;
        let name = String::from_utf8_lossy(&query.prepared_statement_handle).to_string();
        self.run(&person, &name, statement).await
    }

    async fn do_action_close_prepared_statement(
        &self,
        query: ActionClosePreparedStatementRequest,
        request: Request<Action>,
    ) -> Result<(), Status> {
        self.prepared.close(&caller(&request)?, &query.prepared_statement_handle);
        Ok(())
    }

    async fn do_action_cancel_query(
        &self,
        query: ActionCancelQueryRequest,
        request: Request<Action>,
    ) -> Result<ActionCancelQueryResult, Status> {
        let info = FlightInfo::decode(&*query.info).map_err(unreadable)?;
        // Both enumerations have the same numbers.
        Ok(ActionCancelQueryResult { result: self.cancelled(&caller(&request)?, &info) as i32 })
    }

    async fn list_custom_actions(&self) -> Option<Vec<Result<ActionType, Status>>> {
        let about =
            "Ends what runs for a FlightInfo. Request: CancelFlightInfoRequest. Response: CancelFlightInfoResult";
        Some(vec![Ok(ActionType { r#type: CANCEL.into(), description: about.into() })])
    }

    async fn do_action_fallback(
        &self,
        request: Request<Action>,
    ) -> Result<Response<<Self as FlightService>::DoActionStream>, Status> {
        let person = caller(&request)?;
        let action = request.into_inner();
        if action.r#type != CANCEL {
            return Err(Status::unimplemented(format!("there is no action `{}`", action.r#type)));
        }
        let asked = CancelFlightInfoRequest::decode(&*action.body).map_err(unreadable)?;
        let status = self.cancelled(&person, &asked.info.unwrap_or_default()) as i32;
        let body = CancelFlightInfoResult { status }.encode_to_vec().into();
        Ok(Response::new(Box::pin(stream::iter([Ok(arrow_flight::Result { body })]))))
    }

    async fn do_put_statement_update(
        &self,
        _: CommandStatementUpdate,
        _: Request<PeekableFlightDataStream>,
    ) -> Result<i64, Status> {
        Err(Status::invalid_argument("a model is only read here: ask a query, such as `grid … by …`"))
    }

    async fn get_flight_info_catalogs(
        &self,
        query: CommandGetCatalogs,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        list_of(request, &query.into_builder().schema())
    }

    async fn do_get_catalogs(&self, query: CommandGetCatalogs, request: Request<Ticket>) -> Get {
        self.listed(request, move |seen| listing::catalogs(seen, query.into_builder())).await
    }

    async fn get_flight_info_schemas(
        &self,
        query: CommandGetDbSchemas,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        list_of(request, &query.into_builder().schema())
    }

    async fn do_get_schemas(&self, query: CommandGetDbSchemas, request: Request<Ticket>) -> Get {
        self.listed(request, move |seen| listing::schemas(seen, query.into_builder())).await
    }

    async fn get_flight_info_tables(&self, query: CommandGetTables, request: Request<FlightDescriptor>) -> Promised {
        list_of(request, &query.into_builder().schema())
    }

    async fn do_get_tables(&self, query: CommandGetTables, request: Request<Ticket>) -> Get {
        self.listed(request, move |seen| listing::tables(seen, query.into_builder())).await
    }

    async fn get_flight_info_table_types(
        &self,
        query: CommandGetTableTypes,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        list_of(request, &query.into_builder().schema())
    }

    async fn do_get_table_types(&self, query: CommandGetTableTypes, request: Request<Ticket>) -> Get {
        self.listed(request, move |_| listing::table_types(query)).await
    }

    async fn get_flight_info_primary_keys(
        &self,
        _: CommandGetPrimaryKeys,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        list_of(request, &listing::primary_schema())
    }

    async fn do_get_primary_keys(&self, query: CommandGetPrimaryKeys, request: Request<Ticket>) -> Get {
        let wanted = Wanted { catalog: query.catalog, db_schema: query.db_schema, table: Some(query.table) };
        self.listed(request, move |seen| listing::primary_keys(seen, &wanted)).await
    }

    async fn get_flight_info_exported_keys(
        &self,
        _: CommandGetExportedKeys,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        list_of(request, &listing::foreign_schema())
    }

    async fn do_get_exported_keys(&self, query: CommandGetExportedKeys, request: Request<Ticket>) -> Get {
        let one = Wanted { catalog: query.catalog, db_schema: query.db_schema, table: Some(query.table) };
        self.listed(request, move |seen| listing::foreign_keys(seen, &one, &Wanted::default())).await
    }

    async fn get_flight_info_imported_keys(
        &self,
        _: CommandGetImportedKeys,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        list_of(request, &listing::foreign_schema())
    }

    async fn do_get_imported_keys(&self, query: CommandGetImportedKeys, request: Request<Ticket>) -> Get {
        let many = Wanted { catalog: query.catalog, db_schema: query.db_schema, table: Some(query.table) };
        self.listed(request, move |seen| listing::foreign_keys(seen, &Wanted::default(), &many)).await
    }

    async fn get_flight_info_cross_reference(
        &self,
        _: CommandGetCrossReference,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        list_of(request, &listing::foreign_schema())
    }

    async fn do_get_cross_reference(&self, query: CommandGetCrossReference, request: Request<Ticket>) -> Get {
        let one = Wanted { catalog: query.pk_catalog, db_schema: query.pk_db_schema, table: Some(query.pk_table) };
        let many = Wanted { catalog: query.fk_catalog, db_schema: query.fk_db_schema, table: Some(query.fk_table) };
        self.listed(request, move |seen| listing::foreign_keys(seen, &one, &many)).await
    }

    async fn get_flight_info_sql_info(&self, query: CommandGetSqlInfo, request: Request<FlightDescriptor>) -> Promised {
        list_of(request, &query.into_builder(&about::server().map_err(fault)?).schema())
    }

    async fn do_get_sql_info(&self, query: CommandGetSqlInfo, _: Request<Ticket>) -> Get {
        let batch = about::server().and_then(|info| query.into_builder(&info).build()).map_err(fault)?;
        Ok(Response::new(one_batch(batch)))
    }

    async fn get_flight_info_xdbc_type_info(
        &self,
        query: CommandGetXdbcTypeInfo,
        request: Request<FlightDescriptor>,
    ) -> Promised {
        list_of(request, &query.into_builder(&about::types().map_err(fault)?).schema())
    }

    async fn do_get_xdbc_type_info(&self, query: CommandGetXdbcTypeInfo, _: Request<Ticket>) -> Get {
        let batch = about::types().and_then(|types| query.into_builder(&types).build()).map_err(fault)?;
        Ok(Response::new(one_batch(batch)))
    }
}
