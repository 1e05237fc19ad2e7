//! Arrow Flight SQL: whatever knows databases by ADBC, JDBC or ODBC asks here. The text of a statement is a query of ours, or the
//! name of a saved one; each model is a catalogue.
//!
//! * `service`: the calls of the protocol, each led to where it is answered
//! * `door`: who calls, and what the log is told
//! * `statement`: questions and their answers; `prepared`: those that are kept, with parameters
//! * `listing`: what there is: catalogues, tables, keys; `about`: the server and its types
//! * `status`: problems as gRPC has them

mod about;
mod door;
mod listing;
mod prepared;
mod service;
mod statement;
mod status;

use std::sync::Arc;

use arrow_flight::flight_service_server::FlightServiceServer;
use axum::middleware;

use crate::server::Server;
use service::Service;

/// All calls.
pub fn router(server: Arc<Server>) -> axum::Router {
    let service = FlightServiceServer::new(Service::new(server.clone()));
    tonic::service::Routes::new(service).into_axum_router().layer(middleware::from_fn_with_state(server, door::let_in))
}
