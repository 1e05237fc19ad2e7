//! Serves models over HTTP and Arrow Flight SQL: whoever may ask needs no files, no shell and no copy of the data.
//!
//! * `settings`: `server.toml`, and what would let anybody in
//! * `address`: addresses of others
//! * `people`: who asks, by which token, and as whom
//! * `served`: the models, each in the version that is newest, and refreshing them
//! * `schedule`: refreshes by the clock and when folders change
//! * `gate`, `answers`: what is worked on at once, and what was answered before
//! * `questions`: what is asked of a model, in its turn; `form`: in which form it is answered; `problem`: why not
//! * `api`: the same over HTTP, for programs
//! * `page`: and for people: a question as a sentence, its answer, why
//! * `flight`: and over Arrow Flight SQL, for whatever knows databases
//! * `listen`: connections
//! * `watch`: what is counted; `metrics`: as text for who watches
//!
//! Everything that is computed is computed by the crate `cubrel`, for the model that the asker's roles leave.

#![cfg_attr(test, allow(clippy::unwrap_used))]

mod address;
pub mod answers;
pub mod api;
mod failure;
pub mod flight;
pub mod form;
pub mod gate;
pub mod listen;
pub mod metrics;
pub mod page;
pub mod people;
pub mod problem;
pub mod questions;
pub mod schedule;
pub mod served;
pub mod server;
pub mod settings;
pub mod watch;

use std::net::SocketAddr;
use std::sync::Arc;

pub use failure::Failure;
use listen::{Door, Protocol};
use server::Server;
use settings::Settings;

/// A server that is about to answer.
pub struct Ready {
    server: Arc<Server>,
    http: Door,
    flight: Option<Door>,
}

impl Ready {
    /// Opens the models and the addresses.
    ///
    /// # Errors
    /// When a model cannot be opened, a certificate cannot be read, or an address is taken.
    pub async fn new(settings: &Settings) -> Result<Ready, Failure> {
        let (tls, connections) = (settings.tls.as_ref(), settings.connections);
        let http = Door::open(settings.http, "--http", Protocol::Http1, tls, connections).await?;
        let flight = match settings.flight {
            Some(address) => Some(Door::open(address, "--flight", Protocol::Http2, tls, connections).await?),
            None => None,
        };
        let watched = schedule::watch(&settings.models)?;
        let of_models = settings.clone();
        let opened = tokio::task::spawn_blocking(move || Server::open(&of_models)).await;
        let ended = |_| Failure::new("a model could not be opened: a fault of the server", "please report it");
        let server = Arc::new(opened.map_err(ended)??);
        schedule::start(&server, &settings.models, watched)?;
        Ok(Ready { server, http, flight })
    }

    /// Where HTTP is answered.
    pub fn address(&self) -> Option<SocketAddr> {
        self.http.address()
    }

    /// Where HTTP is answered, as people type it.
    pub fn url(&self) -> String {
        let scheme = if self.http.is_tls() { "https" } else { "http" };
        self.address().map_or_else(String::new, |address| format!("{scheme}://{address}"))
    }

    /// Where Arrow Flight SQL is answered, as clients are told it.
    pub fn flight(&self) -> Option<String> {
        let door = self.flight.as_ref()?;
        let scheme = if door.is_tls() { "grpc+tls" } else { "grpc" };
        Some(format!("{scheme}://{}", door.address()?))
    }

    /// The names of the models.
    pub fn models(&self) -> Vec<&str> {
        self.server.models.iter().map(|model| model.name.as_str()).collect()
    }

    /// Answers until `stop` is there, and lets running questions end.
    pub async fn serve(self, stop: impl Future<Output = ()>) {
        let longest = gate::LONGEST_WAIT + self.server.limits.time.unwrap_or_default();
        let (told, hears) = tokio::sync::watch::channel(false);
        let stopped = |mut hears: tokio::sync::watch::Receiver<bool>| async move {
            // That nobody can say it any more says it, too.
            let _ = hears.wait_for(|stop| *stop).await;
        };
        let http = self.http.serve(api::router(self.server.clone()), longest, stopped(hears.clone()));
        let flight = async {
            if let Some(door) = self.flight {
                door.serve(flight::router(self.server.clone()), longest, stopped(hears)).await;
            }
        };
        let stop = async {
            stop.await;
            let _ = told.send(true);
        };
        tokio::join!(http, flight, stop);
        self.server.stop.cancel();
    }
}
