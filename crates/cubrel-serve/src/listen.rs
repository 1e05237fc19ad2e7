//! Connections: with TLS or without, so many at once, none of which may dawdle.

use std::io;
use std::net::SocketAddr;
use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::Request;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use rustls::ServerConfig;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio_io_timeout::TimeoutStream;
use tokio_rustls::TlsAcceptor;
use tower::ServiceExt;

use crate::Failure;
use crate::api::Connection;
use crate::settings::TlsSection;

/// Who has not said what is wanted after so long is not waited for.
const HEADERS: Duration = Duration::from_secs(10);
/// Who takes nothing of an answer, or gives nothing of a body, for so long is not waited for either.
const STILL: Duration = Duration::from_secs(60);
/// How long running questions have when the server stops.
const FAREWELL: Duration = Duration::from_secs(30);

/// What TLS needs.
///
/// # Errors
/// When certificate or key cannot be read, or do not belong together.
pub fn acceptor(tls: &TlsSection) -> Result<TlsAcceptor, Failure> {
    let wrong = |file: &std::path::Path, e: &dyn std::fmt::Display| {
        Failure::new(format!("{}: {e}", file.display()), "it has to be a PEM file that the server can read")
    };
    let chain = CertificateDer::pem_file_iter(&tls.certificate)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(|e| wrong(&tls.certificate, &e))?;
    let key = PrivateKeyDer::from_pem_file(&tls.key).map_err(|e| wrong(&tls.key, &e))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .and_then(|builder| builder.with_no_client_auth().with_single_cert(chain, key))
        .map_err(|e| wrong(&tls.certificate, &e))?;
    Ok(TlsAcceptor::from(Arc::new(config)))
}

/// Answers so many connections until `stop` says so; then those that run have a while to end. An answer takes no longer than
/// `longest`.
pub async fn serve(
    listener: TcpListener,
    tls: Option<TlsAcceptor>,
    router: Router,
    (connections, longest): (usize, Duration),
    stop: impl Future<Output = ()>,
) {
    let room = Arc::new(Semaphore::new(connections));
    let graceful = Arc::new(GracefulShutdown::new());
    let mut stop = pin!(stop);
    loop {
        let permit = tokio::select! {
            permit = room.clone().acquire_owned() => permit,
            () = &mut stop => break,
        };
        let Ok(permit) = permit else { break };
        let (stream, from) = tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(e) => {
                    // There may be no more files for now; to ask again at once would help nobody.
                    tracing::warn!("no connection: {e}");
                    tokio::time::sleep(Duration::from_millis(50)).await;
                    continue;
                }
            },
            () = &mut stop => break,
        };
        let (router, tls, watcher) = (router.clone(), tls.clone(), graceful.watcher());
        let connection = Connection { from, is_tls: tls.is_some() };
        tokio::spawn(async move {
            let _permit = permit;
            if let Err(e) = one(stream, tls, router, (connection, longest), watcher).await {
                tracing::debug!(%from, "connection ended: {e}");
            }
        });
    }
    drop(listener);
    let Ok(graceful) = Arc::try_unwrap(graceful) else { return };
    if tokio::time::timeout(FAREWELL, graceful.shutdown()).await.is_err() {
        tracing::warn!("some questions did not end in time");
    }
}

type Ended = Result<(), Box<dyn std::error::Error + Send + Sync>>;

async fn one(
    stream: TcpStream,
    tls: Option<TlsAcceptor>,
    router: Router,
    (connection, longest): (Connection, Duration),
    watcher: hyper_util::server::graceful::Watcher,
) -> Ended {
    stream.set_nodelay(true)?;
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(STILL));
    // Who waits for an answer says nothing meanwhile.
    stream.set_read_timeout(Some(longest + STILL));
    let stream = Box::pin(stream);
    match tls {
        None => talk(stream, router, connection, watcher).await,
        Some(tls) => {
            let hello = tokio::time::timeout(HEADERS, tls.accept(stream)).await;
            let stream = hello.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
            talk(stream, router, connection, watcher).await
        }
    }
}

async fn talk(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    router: Router,
    connection: Connection,
    watcher: hyper_util::server::graceful::Watcher,
) -> Ended {
    let service = hyper::service::service_fn(move |mut request: Request<Incoming>| {
        request.extensions_mut().insert(connection);
        router.clone().oneshot(request.map(axum::body::Body::new))
    });
    let talk = http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEADERS)
        .max_buf_size(64 << 10)
        .serve_connection(TokioIo::new(stream), service);
    Ok(watcher.watch(talk).await?)
}

/// The address that is listened at.
///
/// # Errors
/// When it is taken, or not of this machine.
pub async fn bind(address: SocketAddr) -> Result<TcpListener, Failure> {
    TcpListener::bind(address).await.map_err(|e| {
        Failure::new(
            format!("{address} cannot be listened at: {e}"),
            "choose another one: `--http 127.0.0.1:0` takes any",
        )
    })
}
