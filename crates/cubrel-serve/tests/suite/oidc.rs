//! People whom an issuer vouches for: which of its tokens are good, and how browsers get there and back.

use std::fs;

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde_json::{Value, json};

use crate::common::{Reply, Running, folder, serving, serving_in};
use crate::issuer::{Issuer, Key, now};

const NORTH: &str = "grid rows(port) as n by port.region";

#[test]
fn a_token_is_good_when_the_issuer_made_it_for_this_server_and_this_time() {
    let issuer = Issuer::new();
    let server = serving(&issuer.settings(""));
    let key = issuer.key();
    let header = json!({"alg": "ES256", "kid": key.name});
    let seen = |token: &str| server.ask(NORTH, Some(token)).status;
    let good = issuer.token("ann", &json!({}));
    assert_eq!(server.ask(NORTH, Some(&good)).rows(), json!([["North", 2]]), "the roles are those that name ann");
    let with = |others: Value| key.signed(&header, &issuer.claims("ann", &others));
    assert_eq!(seen(&with(json!({"aud": ["other", "cubrel"]}))), 200);
    assert_eq!(seen(&with(json!({"exp": now() - 30}))), 200, "clocks differ a little");
    let without = |claim: &str| {
        let mut claims = issuer.claims("ann", &json!({}));
        claims.as_object_mut().unwrap().remove(claim);
        key.signed(&header, &claims)
    };
    let other = Key::new(&key.name);
    let unsigned = |header: Value| {
        let part = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
        format!("{}.{}.", part(&header), part(&issuer.claims("ann", &json!({}))))
    };
    let parts: Vec<&str> = good.split('.').collect();
    let of_ben = URL_SAFE_NO_PAD.encode(issuer.claims("ben", &json!({})).to_string());
    for (why, token) in [
        ("over", with(json!({"exp": now() - 120}))),
        ("not yet", with(json!({"nbf": now() + 600}))),
        ("for another", with(json!({"aud": "other"}))),
        ("of another", with(json!({"iss": "http://127.0.0.1:1"}))),
        ("for ever", without("exp")),
        ("for nobody", without("aud")),
        ("of nobody", without("iss")),
        ("without a name", without("email")),
        ("not verified", with(json!({"email_verified": false}))),
        ("another key of the same name", other.signed(&header, &issuer.claims("ann", &json!({})))),
        ("another claim, the same signature", format!("{}.{of_ben}.{}", parts[0], parts[2])),
        ("no signature", unsigned(json!({"alg": "none"}))),
        ("no signature, said to be one", unsigned(json!({"alg": "ES256", "kid": key.name}))),
        ("a secret that all know", unsigned(json!({"alg": "HS256", "kid": key.name}))),
        ("no token", "abc".into()),
        ("a token of ours", server.token("ann", 1)),
    ] {
        assert_eq!(seen(&token), 401, "{why}");
        assert_eq!(seen(&good), 200, "{why}: a good one in between says that it is no attack");
    }
}

#[test]
fn who_is_nobody_here_sees_nothing_and_roles_come_with_the_token_where_that_is_said() {
    let issuer = Issuer::new();
    let server = serving(&issuer.settings(", roles = 'groups'"));
    let seen = |name: &str, groups: Value| server.ask(NORTH, Some(&issuer.token(name, &json!({"groups": groups}))));
    assert_eq!(seen("eve", json!([])).status, 404);
    assert_eq!(seen("eve", json!(["nothing"])).status, 404);
    assert_eq!(seen("eve", json!(["north"])).rows(), json!([["North", 2]]));
    assert_eq!(seen("eve", json!("north, other")).rows(), json!([["North", 2]]));
    assert_eq!(seen("ben", json!(["north"])).rows(), json!([["North", 2], ["South", 1]]), "and those that name him");
    let plain = serving(&issuer.settings(""));
    let token = issuer.token("eve", &json!({"groups": ["north"]}));
    assert_eq!(plain.ask(NORTH, Some(&token)).status, 404, "a claim that nobody named gives nothing");
}

#[test]
fn keys_change_and_are_not_asked_for_at_every_token() {
    let issuer = Issuer::new();
    let server = serving(&issuer.settings(""));
    let old = issuer.token("ann", &json!({}));
    assert_eq!(server.ask(NORTH, Some(&old)).status, 200);
    for n in 0..4 {
        let stranger = Key::new(&format!("stranger{n}"));
        let token = stranger.signed(&json!({"alg": "ES256", "kid": stranger.name}), &issuer.claims("ann", &json!({})));
        assert_eq!(server.ask(NORTH, Some(&token)).status, 401);
        assert_eq!(server.ask(NORTH, Some(&old)).status, 200);
    }
    assert_eq!(issuer.asked_for_keys(), 1, "whoever shows tokens does not make the server ask");
    let other = serving(&issuer.settings(""));
    issuer.changes_its_key(Key::new("second"));
    assert_eq!(other.ask(NORTH, Some(&issuer.token("ann", &json!({})))).status, 200);
    assert_eq!(other.ask(NORTH, Some(&old)).status, 401, "the old key is none any more");
}

#[test]
fn without_the_issuer_nobody_is_let_in_and_nobody_is_locked_out() {
    let settings = "sign_in = 'oidc'\noidc = { issuer = 'http://127.0.0.1:1', audience = 'cubrel' }";
    let server = serving(settings);
    let key = Key::new("k");
    let token = key.signed(&json!({"alg": "ES256", "kid": "k"}), &json!({"iss": "x"}));
    for _ in 0..8 {
        let reply = server.ask(NORTH, Some(&token));
        assert_eq!((reply.status, reply.header("retry-after")), (503, Some("10")), "{}", reply.text());
    }
    let page = server.get("/sign-in/begin");
    assert!(
        page.status == 503 && page.text().contains("cannot be asked now") && page.text().contains("<h1>"),
        "{}",
        page.text()
    );
}

fn cookie(reply: &Reply, name: &str) -> String {
    let all = reply.headers.iter().filter(|(n, _)| n == "set-cookie").map(|(_, value)| value);
    let start = format!("{name}=");
    let one = all.into_iter().find(|value| value.starts_with(&start)).unwrap_or_else(|| panic!("{name}: {reply:?}"));
    one.split(';').next().unwrap().to_string()
}

/// Goes to the issuer; what was set, and where it leads back to.
fn gone(server: &Running, issuer: &Issuer) -> (String, String) {
    let host = server.address.to_string();
    let begun = server.request("GET", "/sign-in/begin", &[("Host", &host)], b"");
    assert_eq!(begun.status, 303, "{}", begun.text());
    let to = begun.header("location").unwrap();
    assert!(to.starts_with(&format!("{}/authorize?", issuer.url)), "{to}");
    assert!(to.contains("code_challenge_method=S256") && to.contains("scope=openid"), "{to}");
    let config = ureq::Agent::config_builder().max_redirects(0).build();
    let there = config.new_agent().get(to).call().unwrap();
    let back = there.headers()["location"].to_str().unwrap().to_string();
    (cookie(&begun, "cubrel-errand"), back.split_once(&host).unwrap().1.to_string())
}

#[test]
fn a_browser_goes_to_the_issuer_and_comes_back_signed_in() {
    let issuer = Issuer::new();
    let folder = folder();
    fs::write(folder.path().join("secret"), "hush\n").unwrap();
    let server = serving_in(folder, &issuer.settings(", secret = 'secret'"), Default::default());
    let host = server.address.to_string();
    let get = |path: &str, cookie: &str| server.request("GET", path, &[("Cookie", cookie), ("Host", &host)], b"");
    assert_eq!(server.get("/m/ferries").header("location"), Some("/sign-in"));
    assert!(server.get("/sign-in").text().contains("/sign-in/begin"));
    let (errand, back) = gone(&server, &issuer);
    let ended = get(&back, &errand);
    assert_eq!((ended.status, ended.header("refresh")), (200, Some("0; url=/")), "{}", ended.text());
    assert!(ended.text().contains("Signed in as ann"), "{}", ended.text());
    let token = cookie(&ended, "cubrel");
    let page = get("/m/ferries?text=grid+net+by+port.region", &token);
    assert!(page.text().contains("North") && !page.text().contains("South"), "{}", page.text());
    assert_eq!(get(&back, &errand).status, 401, "a code is good once");

    let (errand, back) = gone(&server, &issuer);
    let (of_other, _) = gone(&server, &issuer);
    assert_eq!(get(&back, &of_other).status, 401, "who comes back is not who went");
    assert_eq!(get(&back, "").status, 401, "nor is who never went");
    let path = back.split_once("state=").unwrap().0.to_string();
    assert_eq!(get(&format!("{path}state=x"), &errand).status, 401);
    assert_eq!(get("/sign-in/back?error=access_denied", &errand).status, 401);
    // A token of another errand, by whoever can put one into the answer.
    issuer.says(json!({"email": "ann", "nonce": "of another"}));
    let (errand, back) = gone(&server, &issuer);
    assert_eq!(get(&back, &errand).status, 401);
}

#[test]
fn certificates_and_secrets_that_are_not_there_are_told_at_the_start() {
    for (more, part) in [
        (", secret = 'nothing'", "nothing"),
        (", certificate = 'nothing.pem'", "nothing.pem"),
        (", certificate = 'ferries/port.csv'", "no certificate"),
    ] {
        let settings = format!(
            "sign_in = 'oidc'\noidc = {{ issuer = 'https://a.example', audience = 'b'{more} }}\n[[model]]\npath = 'ferries'"
        );
        let folder = folder();
        fs::write(folder.path().join("server.toml"), settings).unwrap();
        let program = env!("CARGO_BIN_EXE_cubrel-serve");
        let out = std::process::Command::new(program)
            .current_dir(folder.path())
            .args(["--http", "127.0.0.1:0", "--flight", "none"])
            .output()
            .unwrap();
        let told = String::from_utf8(out.stderr).unwrap();
        assert!(out.status.code() == Some(2) && told.contains(part), "{told}");
    }
}
