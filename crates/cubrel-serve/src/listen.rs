//! Connections: with TLS or without, so many at once, none of which may dawdle.

use std::io;
use std::net::SocketAddr;
use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::Request;
use hyper::body::Incoming;
use hyper::server::conn::{http1, http2};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use rustls::ServerConfig;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio_io_timeout::TimeoutStream;
use tokio_rustls::TlsAcceptor;
use tower::ServiceExt;

use crate::Failure;
use crate::settings::TlsSection;

/// Who has not said what is wanted after so long is not waited for.
const HEADERS: Duration = Duration::from_secs(10);
/// Who takes nothing of an answer, or gives nothing of a body, for so long is not waited for either.
const STILL: Duration = Duration::from_secs(60);
/// How often whoever holds a connection and asks nothing is asked whether they are there.
const PING: Duration = Duration::from_secs(20);
/// Requests at once over one connection.
const STREAMS: u32 = 64;
/// How long running questions have when the server stops.
const FAREWELL: Duration = Duration::from_secs(30);

/// Whom a request comes from, and where it came to.
#[derive(Clone, Copy, Debug)]
pub struct Connection {
    /// Whom.
    pub from: SocketAddr,
    /// Whether nobody on the way can listen.
    pub is_tls: bool,
}

/// What is spoken over a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Protocol {
    /// HTTP/1.1, as browsers and scripts do.
    Http1,
    /// HTTP/2 alone, as gRPC does.
    Http2,
}

impl Protocol {
    /// Its name where TLS agrees on one (RFC 7301).
    fn alpn(self) -> Vec<u8> {
        match self {
            Protocol::Http1 => b"http/1.1".to_vec(),
            Protocol::Http2 => b"h2".to_vec(),
        }
    }
}

/// What TLS needs.
///
/// # Errors
/// When certificate or key cannot be read, or do not belong together.
fn acceptor(tls: &TlsSection, protocol: Protocol) -> Result<TlsAcceptor, Failure> {
    let wrong = |file: &std::path::Path, e: &dyn std::fmt::Display| {
        Failure::new(format!("{}: {e}", file.display()), "it has to be a PEM file that the server can read")
    };
    let chain = CertificateDer::pem_file_iter(&tls.certificate)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(|e| wrong(&tls.certificate, &e))?;
    let key = PrivateKeyDer::from_pem_file(&tls.key).map_err(|e| wrong(&tls.key, &e))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .and_then(|builder| builder.with_no_client_auth().with_single_cert(chain, key))
        .map_err(|e| wrong(&tls.certificate, &e))?;
    config.alpn_protocols = vec![protocol.alpn()];
    Ok(TlsAcceptor::from(Arc::new(config)))
}

/// An address that is listened at, what is spoken there, and how many may at once.
pub struct Door {
    listener: TcpListener,
    protocol: Protocol,
    tls: Option<TlsAcceptor>,
    room: Arc<Semaphore>,
}

impl Door {
    /// Opens it. `option` is where another address would be named.
    ///
    /// # Errors
    /// When the address is taken or not of this machine, or the certificate cannot be used.
    pub async fn open(
        address: SocketAddr,
        option: &str,
        protocol: Protocol,
        tls: Option<&TlsSection>,
        connections: usize,
    ) -> Result<Door, Failure> {
        let tls = tls.map(|tls| acceptor(tls, protocol)).transpose()?;
        let listener = TcpListener::bind(address).await.map_err(|e| {
            let help = format!("choose another one: `{option} 127.0.0.1:0` takes any");
            Failure::new(format!("{address} cannot be listened at: {e}"), help)
        })?;
        Ok(Door { listener, protocol, tls, room: Arc::new(Semaphore::new(connections)) })
    }

    /// Where it is.
    pub fn address(&self) -> Option<SocketAddr> {
        self.listener.local_addr().ok()
    }

    /// Whether nobody on the way can listen.
    pub fn is_tls(&self) -> bool {
        self.tls.is_some()
    }

    /// Somebody, as soon as there is room.
    async fn next(&self) -> Option<(TcpStream, SocketAddr, OwnedSemaphorePermit)> {
        let permit = self.room.clone().acquire_owned().await.ok()?;
        loop {
            match self.listener.accept().await {
                Ok((stream, from)) => return Some((stream, from, permit)),
                Err(e) => {
                    // There may be no more files for now; to ask again at once would help nobody.
                    tracing::warn!("no connection: {e}");
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
            }
        }
    }

    /// Lets people in until `stop` says so; then what runs has a while to end. An answer takes no longer than `longest`.
    pub async fn serve(self, router: Router, longest: Duration, stop: impl Future<Output = ()>) {
        let graceful = Arc::new(GracefulShutdown::new());
        let mut stop = pin!(stop);
        loop {
            let (stream, from, permit) = tokio::select! {
                next = self.next() => match next {
                    Some(next) => next,
                    None => break,
                },
                () = &mut stop => break,
            };
            let (router, tls, watcher) = (router.clone(), self.tls.clone(), graceful.watcher());
            let (connection, protocol) = (Connection { from, is_tls: tls.is_some() }, self.protocol);
            tokio::spawn(async move {
                let _permit = permit;
                if let Err(e) = one(stream, tls, router, (connection, protocol, longest), watcher).await {
                    tracing::debug!(%from, "connection ended: {e}");
                }
            });
        }
        drop(self);
        let Ok(graceful) = Arc::try_unwrap(graceful) else { return };
        if tokio::time::timeout(FAREWELL, graceful.shutdown()).await.is_err() {
            tracing::warn!("some questions did not end in time");
        }
    }
}

type Ended = Result<(), Box<dyn std::error::Error + Send + Sync>>;

async fn one(
    stream: TcpStream,
    tls: Option<TlsAcceptor>,
    router: Router,
    (connection, protocol, longest): (Connection, Protocol, Duration),
    watcher: hyper_util::server::graceful::Watcher,
) -> Ended {
    stream.set_nodelay(true)?;
    if protocol == Protocol::Http2 {
        // Whoever says nothing at all is not waited for as long as who waits for an answer.
        let first = tokio::time::timeout(HEADERS, stream.peek(&mut [0])).await;
        first.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
    }
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(STILL));
    // Who waits for an answer says nothing meanwhile.
    stream.set_read_timeout(Some(longest + STILL));
    let stream = Box::pin(stream);
    match tls {
        None => talk(stream, protocol, router, connection, watcher).await,
        Some(tls) => {
            let hello = tokio::time::timeout(HEADERS, tls.accept(stream)).await;
            let stream = hello.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
            talk(stream, protocol, router, connection, watcher).await
        }
    }
}

async fn talk(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    protocol: Protocol,
    router: Router,
    connection: Connection,
    watcher: hyper_util::server::graceful::Watcher,
) -> Ended {
    let service = hyper::service::service_fn(move |mut request: Request<Incoming>| {
        request.extensions_mut().insert(connection);
        router.clone().oneshot(request.map(axum::body::Body::new))
    });
    let stream = TokioIo::new(stream);
    match protocol {
        Protocol::Http1 => {
            let talk = http1::Builder::new()
                .timer(TokioTimer::new())
                .header_read_timeout(HEADERS)
                .max_buf_size(64 << 10)
                .serve_connection(stream, service);
            Ok(watcher.watch(talk).await?)
        }
        Protocol::Http2 => {
            // Who is there answers a ping; who is not is not waited for.
            let talk = http2::Builder::new(TokioExecutor::new())
                .timer(TokioTimer::new())
                .keep_alive_interval(PING)
                .keep_alive_timeout(HEADERS)
                .max_concurrent_streams(STREAMS)
                .max_header_list_size(64 << 10)
                .serve_connection(stream, service);
            Ok(watcher.watch(talk).await?)
        }
    }
}
