//! A small issuer of OpenID Connect: it says of everybody who comes what it was told to say.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use axum::extract::{Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Form, Json, Router};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

/// What it was asked when somebody came, by the code that they went away with.
type Codes = HashMap<String, HashMap<String, String>>;

/// A key with its name.
pub struct Key {
    pub name: String,
    pair: EcdsaKeyPair,
}

impl Key {
    pub fn new(name: &str) -> Key {
        let random = SystemRandom::new();
        let document = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).unwrap();
        let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, document.as_ref(), &random).unwrap();
        Key { name: name.into(), pair }
    }

    /// A token with a header and claims.
    pub fn signed(&self, header: &Value, claims: &Value) -> String {
        let part = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
        let text = format!("{}.{}", part(header), part(claims));
        let signature = self.pair.sign(&SystemRandom::new(), text.as_bytes()).unwrap();
        format!("{text}.{}", URL_SAFE_NO_PAD.encode(signature.as_ref()))
    }

    fn public(&self) -> Value {
        let point = self.pair.public_key().as_ref();
        let of = |range: std::ops::Range<usize>| URL_SAFE_NO_PAD.encode(&point[range]);
        json!({"kty": "EC", "crv": "P-256", "alg": "ES256", "use": "sig", "kid": self.name, "x": of(1..33), "y": of(33..65)})
    }
}

struct Inside {
    url: Mutex<String>,
    key: Mutex<Arc<Key>>,
    codes: Mutex<Codes>,
    /// Who comes, and what is said of them beside.
    claims: Mutex<Value>,
    asked_for_keys: Mutex<usize>,
}

/// An issuer that answers as long as this is kept.
pub struct Issuer {
    inside: Arc<Inside>,
    pub url: String,
    _runtime: tokio::runtime::Runtime,
}

pub fn now() -> i64 {
    jiff::Timestamp::now().as_second()
}

impl Issuer {
    pub fn new() -> Issuer {
        let inside = Arc::new(Inside {
            url: Mutex::default(),
            key: Mutex::new(Arc::new(Key::new("first"))),
            codes: Mutex::default(),
            claims: Mutex::new(json!({"email": "ann"})),
            asked_for_keys: Mutex::default(),
        });
        let router = Router::new()
            .route("/.well-known/openid-configuration", get(about))
            .route("/keys", get(keys))
            .route("/authorize", get(authorize))
            .route("/token", post(token))
            .with_state(inside.clone());
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let listener = runtime.block_on(tokio::net::TcpListener::bind("127.0.0.1:0")).unwrap();
        let address: SocketAddr = listener.local_addr().unwrap();
        runtime.spawn(async move { axum::serve(listener, router).await });
        let url = format!("http://{address}");
        *inside.url.lock().unwrap() = url.clone();
        Issuer { inside, url, _runtime: runtime }
    }

    /// What a server's settings say of it.
    pub fn settings(&self, more: &str) -> String {
        format!("sign_in = 'oidc'\noidc = {{ issuer = '{}', audience = 'cubrel'{more} }}\n", self.url)
    }

    /// Whom it speaks of from now on.
    pub fn says(&self, claims: Value) {
        *self.inside.claims.lock().unwrap() = claims;
    }

    pub fn key(&self) -> Arc<Key> {
        self.inside.key.lock().unwrap().clone()
    }

    pub fn changes_its_key(&self, key: Key) {
        *self.inside.key.lock().unwrap() = Arc::new(key);
    }

    pub fn asked_for_keys(&self) -> usize {
        *self.inside.asked_for_keys.lock().unwrap()
    }

    /// Good claims of a person, of which some are others.
    pub fn claims(&self, name: &str, others: &Value) -> Value {
        let mut claims = json!({"iss": self.url, "aud": "cubrel", "exp": now() + 600, "iat": now(), "email": name});
        others.as_object().unwrap().iter().for_each(|(key, value)| {
            claims[key] = value.clone();
        });
        claims
    }

    /// A token that is good.
    pub fn token(&self, name: &str, others: &Value) -> String {
        let key = self.key();
        key.signed(&json!({"alg": "ES256", "typ": "JWT", "kid": key.name}), &self.claims(name, others))
    }
}

async fn about(State(inside): State<Arc<Inside>>) -> Json<Value> {
    let url = inside.url.lock().unwrap().clone();
    let at = |path: &str| format!("{url}/{path}");
    Json(json!({
        "issuer": url, "jwks_uri": at("keys"), "authorization_endpoint": at("authorize"), "token_endpoint": at("token"),
    }))
}

async fn keys(State(inside): State<Arc<Inside>>) -> Json<Value> {
    *inside.asked_for_keys.lock().unwrap() += 1;
    Json(json!({"keys": [inside.key.lock().unwrap().public()]}))
}

/// Everybody who comes is let through at once.
async fn authorize(State(inside): State<Arc<Inside>>, Query(asked): Query<HashMap<String, String>>) -> Redirect {
    let code = format!("code{}", inside.codes.lock().unwrap().len());
    let to = format!("{}?code={code}&state={}", asked["redirect_uri"], asked["state"]);
    inside.codes.lock().unwrap().insert(code, asked);
    Redirect::to(&to)
}

/// A code is good once, for whoever can prove that they began.
async fn token(State(inside): State<Arc<Inside>>, Form(shown): Form<HashMap<String, String>>) -> Response {
    let Some(asked) = inside.codes.lock().unwrap().remove(&shown["code"]) else {
        return (StatusCode::BAD_REQUEST, Json(json!({"error": "invalid_grant"}))).into_response();
    };
    let proof = URL_SAFE_NO_PAD.encode(Sha256::digest(shown["code_verifier"].as_bytes()));
    let holds = proof == asked["code_challenge"]
        && shown["client_id"] == asked["client_id"]
        && shown["redirect_uri"] == asked["redirect_uri"]
        && shown.get("client_secret").is_none_or(|secret| secret == "hush");
    if !holds {
        return (StatusCode::BAD_REQUEST, Json(json!({"error": "invalid_grant"}))).into_response();
    }
    let key = inside.key.lock().unwrap().clone();
    let mut claims = json!({
        "iss": inside.url.lock().unwrap().clone(), "aud": asked["client_id"], "exp": now() + 600, "iat": now(), "nonce": asked["nonce"],
    });
    inside.claims.lock().unwrap().as_object().unwrap().iter().for_each(|(name, value)| {
        claims[name] = value.clone();
    });
    let token = key.signed(&json!({"alg": "ES256", "kid": key.name}), &claims);
    Json(json!({"access_token": "x", "token_type": "Bearer", "id_token": token})).into_response()
}
