//! People whom an issuer of OpenID Connect vouches for: its tokens are checked against its keys (OpenID Connect Core 1.0,
//! section 3.1.3.7; RFC 7519), and browsers are sent there and back (`flow`).

pub mod flow;
mod signatures;

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use jsonwebtoken::errors::ErrorKind;
use jsonwebtoken::jwk::{JwkSet, PublicKeyUse};
use jsonwebtoken::{DecodingKey, Header, Validation};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value as Json};
use ureq::Agent;
use ureq::tls::{PemItem, RootCerts, TlsConfig, parse_pem};

use super::person::{Named, Refused};
use crate::Failure;
use crate::address::is_safe;
use crate::settings::OidcSection;

/// How long the issuer may take to answer.
const PATIENCE: Duration = Duration::from_secs(5);
/// The largest answer that is read.
const LARGEST: u64 = 1 << 20;
/// How long its keys are taken for good.
const FRESH: Duration = Duration::from_secs(3600);
/// It is asked no more often than this, whatever tokens are shown.
const RATE: Duration = Duration::from_secs(10);
/// How far its clock may be off, in seconds.
const LEEWAY: u64 = 60;
/// The claim that has the name where nothing is said.
const NAME: &str = "email";

/// What an issuer says of itself (OpenID Connect Discovery 1.0).
#[derive(Clone, Debug, Deserialize)]
struct Discovery {
    issuer: String,
    jwks_uri: String,
    authorization_endpoint: Option<String>,
    token_endpoint: Option<String>,
}

/// What is known of an issuer.
#[derive(Debug)]
struct Known {
    about: Discovery,
    keys: JwkSet,
    read: Instant,
}

/// An issuer.
#[derive(Debug)]
pub struct Issuer {
    section: OidcSection,
    secret: Option<String>,
    agent: Agent,
    known: Mutex<Option<Arc<Known>>>,
    /// When it was last asked, whatever came of it.
    tried: Mutex<Option<Instant>>,
}

impl Issuer {
    /// The one of the settings. It need not be there yet.
    ///
    /// # Errors
    /// When the files with the secret or the certificates cannot be read.
    pub fn new(section: &OidcSection) -> Result<Issuer, Failure> {
        signatures::install();
        let read = |file: &std::path::Path| {
            std::fs::read_to_string(file).map_err(|e| {
                Failure::new(format!("{}: {e}", file.display()), "it has to be a file that the server can read")
            })
        };
        let secret = section.secret.as_deref().map(read).transpose()?.map(|text| text.trim().to_string());
        let roots = match section.certificate.as_deref() {
            None => RootCerts::WebPki,
            Some(file) => {
                let text = read(file)?;
                let all = parse_pem(text.as_bytes()).filter_map(|item| match item {
                    Ok(PemItem::Certificate(certificate)) => Some(certificate),
                    _ => None,
                });
                let all: Vec<_> = all.collect();
                if all.is_empty() {
                    let message = format!("{}: there is no certificate in it", file.display());
                    return Err(Failure::new(message, "it has to be a PEM file"));
                }
                RootCerts::new_with_certs(&all)
            }
        };
        let agent = Agent::config_builder()
            .timeout_global(Some(PATIENCE))
            .max_redirects(0)
            .tls_config(TlsConfig::builder().root_certs(roots).build())
            .build()
            .new_agent();
        Ok(Issuer { section: section.clone(), secret, agent, known: Mutex::default(), tried: Mutex::default() })
    }

    /// Where browsers come back to, of a server that they call so.
    pub fn back(&self, called: &str) -> String {
        let address = self.section.address.as_deref().unwrap_or(called);
        format!("{}/sign-in/back", address.trim_end_matches('/'))
    }

    /// What it is called.
    pub fn name(&self) -> &str {
        let name = self.section.issuer.split_once("://").map_or(self.section.issuer.as_str(), |(_, rest)| rest);
        name.trim_end_matches('/')
    }

    /// Who shows a token. `nonce` is what was sent with whoever asked for it here.
    ///
    /// # Errors
    /// When the issuer has not made it, for this server and this time; or when its keys cannot be had.
    pub fn person(&self, token: &str, nonce: Option<&str>) -> Result<Named, Refused> {
        let header = jsonwebtoken::decode_header(token).map_err(|_| Refused::Wrong)?;
        if !signatures::ALGORITHMS.contains(&header.alg) {
            return Err(Refused::Wrong);
        }
        let key = self.key(&header)?;
        let mut validation = Validation::new(header.alg);
        validation.set_issuer(&[&self.section.issuer]);
        validation.set_audience(&[&self.section.audience]);
        validation.set_required_spec_claims(&["exp", "iss", "aud"]);
        validation.validate_nbf = true;
        validation.leeway = LEEWAY;
        let claims = jsonwebtoken::decode::<Map<String, Json>>(token, &key, &validation)
            .map_err(|e| match e.kind() {
                // The signature was good: nobody guesses.
                ErrorKind::ExpiredSignature => Refused::Ended,
                _ => Refused::Wrong,
            })?
            .claims;
        if nonce.is_some_and(|nonce| claims.get("nonce").and_then(Json::as_str) != Some(nonce)) {
            return Err(Refused::Wrong);
        }
        self.named(&claims).ok_or(Refused::Wrong)
    }

    /// The person that claims tell of.
    fn named(&self, claims: &Map<String, Json>) -> Option<Named> {
        let claim = self.section.name.as_deref().unwrap_or(NAME);
        if claim == "email" && claims.get("email_verified") == Some(&Json::Bool(false)) {
            return None;
        }
        let name = claims.get(claim)?.as_str().filter(|name| !name.trim().is_empty())?.to_string();
        let roles = self.section.roles.as_ref().and_then(|claim| claims.get(claim)).map(|said| match said {
            Json::Array(list) => list.iter().filter_map(|role| role.as_str().map(str::to_string)).collect(),
            Json::String(text) => text.split([' ', ',']).filter(|r| !r.is_empty()).map(str::to_string).collect(),
            _ => Vec::new(),
        });
        Some(Named { name, roles: roles.unwrap_or_default() })
    }

    /// The key that a token says it was signed with.
    fn key(&self, header: &Header) -> Result<DecodingKey, Refused> {
        let of = |known: &Known| {
            let all = known.keys.keys.iter().filter(|key| {
                key.common.public_key_use != Some(PublicKeyUse::Encryption)
                    && key.common.key_algorithm.is_none_or(|a| a.to_string() == format!("{:?}", header.alg))
            });
            let mut fitting = all.filter(|key| header.kid.is_none() || key.common.key_id == header.kid);
            let key = fitting.next()?;
            // Which of several is meant has to be said.
            if header.kid.is_none() && fitting.next().is_some() {
                return None;
            }
            DecodingKey::from_jwk(key).ok().filter(|key| key.family() == header.alg.family())
        };
        let before = self.known.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let of_before = before.as_deref().and_then(of);
        if let (Some(known), Some(key)) = (&before, &of_before)
            && known.read.elapsed() < FRESH
        {
            return Ok(key.clone());
        }
        match self.read() {
            Ok(known) => of(&known).ok_or(Refused::Wrong),
            Err(refused) => match (of_before, before) {
                (Some(key), _) => Ok(key),
                // What is known does not have the key, and nothing newer can be had so soon.
                (None, Some(_)) => Err(Refused::Wrong),
                (None, None) => Err(refused),
            },
        }
    }

    /// Asks the issuer what it says of itself, and for its keys.
    fn read(&self) -> Result<Arc<Known>, Refused> {
        {
            let mut tried = self.tried.lock().unwrap_or_else(PoisonError::into_inner);
            if tried.is_some_and(|at| at.elapsed() < RATE) {
                return Err(Refused::Unavailable);
            }
            *tried = Some(Instant::now());
        }
        let known = self.asked().map_err(|why| {
            tracing::error!(issuer = self.section.issuer, why, "the issuer cannot be asked");
            Refused::Unavailable
        })?;
        let known = Arc::new(known);
        *self.known.lock().unwrap_or_else(PoisonError::into_inner) = Some(known.clone());
        Ok(known)
    }

    fn asked(&self) -> Result<Known, String> {
        let issuer = self.section.issuer.trim_end_matches('/');
        let about: Discovery = self.get(&format!("{issuer}/.well-known/openid-configuration"))?;
        if about.issuer != self.section.issuer {
            return Err(format!("it calls itself `{}`", about.issuer));
        }
        let keys = self.get(&about.jwks_uri)?;
        Ok(Known { about, keys, read: Instant::now() })
    }

    fn get<T: DeserializeOwned>(&self, url: &str) -> Result<T, String> {
        if !is_safe(url) {
            return Err(format!("anybody could listen to what `{url}` says"));
        }
        let mut reply = self.agent.get(url).call().map_err(|e| format!("{url}: {e}"))?;
        reply.body_mut().with_config().limit(LARGEST).read_json().map_err(|e| format!("{url}: {e}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_roles_are_those_of_the_claims() {
        let issuer = |name: Option<&str>| {
            let mut section: OidcSection =
                toml::from_str("issuer = 'https://a.example'\naudience = 'b'\nroles = 'groups'").unwrap();
            section.name = name.map(str::to_string);
            Issuer::new(&section).unwrap()
        };
        let named = |name: Option<&str>, claims: &str| issuer(name).named(&serde_json::from_str(claims).unwrap());
        let ann =
            |roles: &[&str]| Some(Named { name: "ann".into(), roles: roles.iter().map(ToString::to_string).collect() });
        assert_eq!(named(None, r#"{"email": "ann", "groups": ["north", 3]}"#), ann(&["north"]));
        assert_eq!(named(None, r#"{"email": "ann", "groups": "north, south"}"#), ann(&["north", "south"]));
        assert_eq!(named(None, r#"{"email": "ann", "email_verified": true}"#), ann(&[]));
        assert_eq!(named(None, r#"{"email": "ann", "email_verified": false}"#), None);
        assert_eq!(named(Some("sub"), r#"{"sub": "ann", "email_verified": false}"#), ann(&[]));
        assert_eq!(named(Some("sub"), r#"{"sub": " "}"#), None);
        assert_eq!(named(Some("sub"), r#"{"sub": 7, "email": "ann"}"#), None);
    }
}
