//! Over TLS: what is answered, and that nothing is without it.

use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;

use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, StreamOwned};

use crate::common::{Running, serving_in};

fn certified() -> (Running, CertificateDer<'static>) {
    let folder = crate::common::folder();
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_string()]).unwrap();
    fs::write(folder.path().join("cert.pem"), made.cert.pem()).unwrap();
    fs::write(folder.path().join("key.pem"), made.signing_key.serialize_pem()).unwrap();
    let settings = "sign_in = 'token'\ntls = { certificate = 'cert.pem', key = 'key.pem' }";
    (serving_in(folder, settings, Default::default()), made.cert.der().clone())
}

fn asked(server: &Running, trusted: &CertificateDer<'static>, request: &str) -> Result<String, std::io::Error> {
    let mut roots = RootCertStore::empty();
    roots.add(trusted.clone()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_no_client_auth();
    let name = ServerName::try_from("localhost").unwrap();
    let client = ClientConnection::new(Arc::new(config), name).unwrap();
    let mut stream = StreamOwned::new(client, TcpStream::connect(server.address)?);
    stream.write_all(request.as_bytes())?;
    let mut reply = Vec::new();
    // A server may close without a farewell.
    let _ = stream.read_to_end(&mut reply);
    Ok(String::from_utf8_lossy(&reply).to_string())
}

#[test]
fn people_are_answered_over_tls_and_only_so() {
    let (server, certificate) = certified();
    let ann = server.token("ann", 1);
    let get =
        |headers: &str| format!("GET /api/models HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n{headers}\r\n");
    let reply = asked(&server, &certificate, &get(&format!("Authorization: Bearer {ann}\r\n"))).unwrap();
    assert!(reply.starts_with("HTTP/1.1 200") && reply.contains("\"ferries\""), "{reply}");
    let reply = asked(&server, &certificate, &get("")).unwrap();
    assert!(reply.starts_with("HTTP/1.1 401"), "{reply}");
    let form = format!("token={ann}");
    let signing = format!(
        "POST /sign-in HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\n\r\n{form}",
        form.len()
    );
    let reply = asked(&server, &certificate, &signing).unwrap();
    assert!(reply.to_lowercase().contains("samesite=strict") && reply.contains("Secure"), "{reply}");
    assert_ne!(server.get("/health").status, 200, "without TLS nothing is said");
    let other = rcgen::generate_simple_self_signed(vec!["localhost".to_string()]).unwrap();
    assert!(asked(&server, other.cert.der(), &get("")).is_err(), "who trusts another one does not talk to it");
}
