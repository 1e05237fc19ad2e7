//! Serves models over HTTP: whoever may ask needs no files, no shell and no copy of the data.
//!
//! * `settings`: `server.toml`, and what would let anybody in
//! * `people`: who asks, by which token, and as whom
//! * `served`: the models, each in the version that is newest, and refreshing them
//! * `schedule`: refreshes by the clock and when folders change
//! * `gate`, `answers`: what is worked on at once, and what was answered before
//! * `api`: what can be asked, and in which form it is answered
//! * `page`: the page: a question as a sentence, its answer, why
//! * `listen`: connections
//! * `watch`: what is counted
//!
//! Everything that is computed is computed by the crate `cubrel`, for the model that the asker's roles leave.

#![cfg_attr(test, allow(clippy::unwrap_used))]

pub mod answers;
pub mod api;
mod failure;
pub mod gate;
pub mod listen;
pub mod page;
pub mod people;
pub mod schedule;
pub mod served;
pub mod server;
pub mod settings;
pub mod watch;

use std::net::SocketAddr;
use std::sync::Arc;

use tokio::net::TcpListener;

pub use failure::Failure;
use server::Server;
use settings::Settings;

/// A server that is about to answer.
pub struct Ready {
    server: Arc<Server>,
    listener: TcpListener,
    tls: Option<tokio_rustls::TlsAcceptor>,
    connections: usize,
}

impl Ready {
    /// Opens the models and the address.
    ///
    /// # Errors
    /// When a model cannot be opened, a certificate cannot be read, or the address is taken.
    pub async fn new(settings: &Settings) -> Result<Ready, Failure> {
        let tls = settings.tls.as_ref().map(listen::acceptor).transpose()?;
        let listener = listen::bind(settings.http).await?;
        let watched = schedule::watch(&settings.models)?;
        let of_models = settings.clone();
        let opened = tokio::task::spawn_blocking(move || Server::open(&of_models)).await;
        let ended = |_| Failure::new("a model could not be opened: a fault of the server", "please report it");
        let server = Arc::new(opened.map_err(ended)??);
        schedule::start(&server, &settings.models, watched)?;
        Ok(Ready { server, listener, tls, connections: settings.connections })
    }

    /// Where it answers.
    pub fn address(&self) -> Option<SocketAddr> {
        self.listener.local_addr().ok()
    }

    /// Where it answers, as people type it.
    pub fn url(&self) -> String {
        let scheme = if self.tls.is_some() { "https" } else { "http" };
        self.address().map_or_else(String::new, |address| format!("{scheme}://{address}"))
    }

    /// The names of the models.
    pub fn models(&self) -> Vec<&str> {
        self.server.models.iter().map(|model| model.name.as_str()).collect()
    }

    /// Answers until `stop` is there, and lets running questions end.
    pub async fn serve(self, stop: impl Future<Output = ()>) {
        let router = api::router(self.server.clone());
        let longest = gate::LONGEST_WAIT + self.server.limits.time.unwrap_or_default();
        listen::serve(self.listener, self.tls, router, (self.connections, longest), stop).await;
        self.server.stop.cancel();
    }
}
