//! Who is let in, and what each of them sees.

use std::fs;

use cubrel::{Model, Value};
use cubrel_serve::settings::Anybody;
use serde_json::json;

use crate::common::{Running, serving, serving_as};

const TOKENS: &str = "sign_in = 'token'\n[person.ann]\nmay = ['profile', 'refresh']\n";

fn bearer(token: &str) -> String {
    format!("Bearer {token}")
}

fn post(server: &Running, path: &str, token: &str, body: &serde_json::Value) -> u16 {
    let bearer = bearer(token);
    let headers = [("Content-Type", "application/json"), ("Authorization", bearer.as_str())];
    server.request("POST", path, &headers, body.to_string().as_bytes()).status
}

#[test]
fn only_a_token_that_is_good_now_lets_somebody_in() {
    let server = serving(TOKENS);
    let (ann, old) = (server.token("ann", 30), server.token("ann", 0));
    for headers in [
        vec![],
        vec![("Authorization", "Basic YW5uOmFubg==".to_string())],
        vec![("Authorization", bearer(&old))],
        vec![("Authorization", bearer(&ann.replace('.', "")))],
    ] {
        let headers: Vec<(&str, &str)> = headers.iter().map(|(n, v)| (*n, v.as_str())).collect();
        for path in
            ["/api/models", "/api/models/ferries", "/api/models/ferries/sizes", "/metrics", "/api/models/nothing"]
        {
            let reply = server.request("GET", path, &headers, b"");
            assert_eq!(reply.status, 401, "{path} {headers:?}: {}", reply.text());
            assert!(reply.header("www-authenticate").is_some_and(|h| h.starts_with("Bearer")));
        }
        if headers.len() == 1 {
            // So many wrong ones are not put up with; a good one in between says that it is no attack.
            server.ask("grid net", Some(&ann));
        }
    }
    assert_eq!(server.ask("grid net", Some(&ann)).status, 200);
    assert_eq!(server.get("/health").status, 200, "whoever looks after the server need not sign in for that");
    server.tokens().revoke("ann").unwrap();
    assert_eq!(server.ask("grid net", Some(&ann)).status, 401, "revoked while it runs");
}

#[test]
fn who_guesses_has_to_wait() {
    let server = serving(TOKENS);
    let ann = server.token("ann", 30);
    let guess = |n: usize| server.ask("grid net", Some(&format!("{n:08x}.{n:064x}")));
    let seen: Vec<u16> = (0..8).map(|n| guess(n).status).collect();
    assert_eq!(seen[..5], [401; 5]);
    assert!(seen[6..].iter().all(|status| *status == 429), "{seen:?}");
    let reply = server.ask("grid net", Some(&ann));
    assert_eq!(reply.status, 429, "from there nobody is listened to");
    assert!(reply.header("retry-after").unwrap().parse::<u64>().unwrap() >= 1);
}

#[test]
fn each_sees_what_the_roles_that_name_them_let_through() {
    let server = serving(TOKENS);
    let model = Model::open(&server.model).unwrap();
    let texts = [
        "grid net by port.region",
        "grid net by port.port totals",
        "grid rows(booking) as n",
        "grid secret_cost",
        "by_cost",
        "records port.port, port.keeper",
        "grid sum(booking.cost) as x by port.port",
        "grid net by booking.day where port.region = 'South'",
    ];
    for (name, roles) in [("ann", &["north"][..]), ("ben", &["own"]), ("both", &["north", "own"]), ("cid", &[])] {
        let token = server.token(name, 1);
        let view = model.as_user(roles, Some(name)).unwrap();
        for text in texts {
            let reply = server.ask(text, Some(&token));
            if roles.is_empty() {
                assert_eq!(reply.status, 404, "{name}: {text}");
                continue;
            }
            let own = if text == "by_cost" { "grid secret_cost by port.region" } else { text };
            match view.query(own).and_then(|q| q.run()) {
                Ok(grid) => assert_eq!(reply.rows(), grid.to_json(std::time::Duration::ZERO)["rows"], "{name}: {text}"),
                Err(_) => {
                    assert_eq!(reply.status, 422, "{name}: {text}: {}", reply.text());
                    assert!(!reply.text().contains("denied"), "{}", reply.text());
                }
            }
        }
        let get = |path: &str| server.request("GET", path, &[("Authorization", bearer(&token).as_str())], b"");
        let listed = get("/api/models").json();
        assert_eq!(listed.as_array().unwrap().len(), usize::from(!roles.is_empty()), "{name}");
        let catalog = get("/api/models/ferries");
        if roles.contains(&"north") {
            assert!(
                !catalog.text().contains("secret_cost") && !catalog.text().contains("\"cost\""),
                "{}",
                catalog.text()
            );
        }
        assert!(!catalog.text().contains("cid"), "who else there is, nobody is told");
        if roles.is_empty() {
            let (hidden, missing) = (get("/api/models/ferries").text(), get("/api/models/harbours").text());
            assert_eq!(hidden.replace("ferries", "harbours"), missing, "nobody is told which models there are");
        } else {
            assert_eq!(get("/api/models/ferries").json(), json!(view.catalog()));
        }
    }
}

#[test]
fn answers_of_one_are_not_given_to_another() {
    let server = serving(TOKENS);
    let (ann, ben) = (server.token("ann", 1), server.token("ben", 1));
    let text = "grid net by port.port";
    let of_ann = server.ask(text, Some(&ann));
    let of_ben = server.ask(text, Some(&ben));
    assert_ne!(of_ann.rows(), of_ben.rows());
    assert_ne!(of_ann.header("etag"), of_ben.header("etag"));
    assert_eq!(server.ask(text, Some(&ann)).rows(), of_ann.rows());
}

#[test]
fn what_not_everybody_may_is_asked_for_each_time() {
    let server = serving(TOKENS);
    let (ann, ben) = (server.token("ann", 1), server.token("ben", 1));
    let body = json!({"text": "grid net"});
    for (path, status) in [("profile", 403), ("refresh", 403), ("why", 200)] {
        let path = format!("/api/models/ferries/{path}");
        assert_eq!(post(&server, &path, &ben, &body), status, "{path}");
        assert_eq!(post(&server, &path, &ann, &body), 200, "{path}");
    }
}

#[test]
fn without_sign_in_all_are_who_the_server_was_told() {
    let asker = Anybody { roles: vec!["own".into()], user: Some("cid".into()) };
    let server = serving_as("", asker);
    assert_eq!(server.ask("grid rows(port) as n", None).rows(), json!([[1]]));
    let model = Model::open(&server.model).unwrap();
    let view = model.as_user(&["own"], Some("cid")).unwrap();
    let grid = view.query("grid net").unwrap().run().unwrap();
    assert_ne!(grid.lines[0].values[0], Value::Null);
    assert_eq!(server.ask("grid net", None).rows(), grid.to_json(std::time::Duration::ZERO)["rows"]);
}

#[test]
fn a_model_without_roles_hides_nothing_from_who_signs_in() {
    let server = serving(TOKENS);
    let text = fs::read_to_string(server.model.join("model.toml")).unwrap();
    fs::write(server.model.join("model.toml"), text.split("[role.north]").next().unwrap()).unwrap();
    let (ann, cid) = (server.token("ann", 1), server.token("cid", 1));
    assert_eq!(server.ask("grid net", Some(&cid)).status, 404, "the roles of the version that is served count");
    assert_eq!(post(&server, "/api/models/ferries/refresh", &ann, &json!({})), 200);
    assert_eq!(server.ask("grid rows(port) as n", Some(&cid)).rows(), json!([[4]]));
}

/// Numbers that look random, and are the same every time.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize
    }

    fn of<'a>(&mut self, list: &[&'a str]) -> &'a str {
        list[self.next() % list.len()]
    }
}

#[test]
fn random_questions_of_random_people_have_the_answers_of_their_views() {
    let server = serving(TOKENS);
    let model = Model::open(&server.model).unwrap();
    let people: Vec<_> = [("ann", &["north"][..]), ("ben", &["own"]), ("both", &["north", "own"])]
        .into_iter()
        .map(|(name, roles)| (name, server.token(name, 1), model.as_user(roles, Some(name)).unwrap()))
        .collect();
    let mut chance = Chance(7);
    let mut answered = 0;
    // More of them on request: CUBREL_QUESTIONS=10000.
    let questions = std::env::var("CUBREL_QUESTIONS").ok().and_then(|n| n.parse().ok()).unwrap_or(400);
    for _ in 0..questions {
        let item = chance.of(&[
            "net",
            "secret_cost",
            "rows(booking) as n",
            "avg(booking.net) as a",
            "count(booking.day) as d",
            "sum(booking.cost) as c",
        ]);
        let by = chance.of(&[
            "",
            " by port.region",
            " by port.keeper, port.port",
            " by booking.day",
            " by booking.cost",
            " by port.region split by port.keeper",
        ]);
        let filter = chance.of(&[
            "",
            " where port.region = 'South'",
            " where booking.net > 20",
            " where port.keeper = user()",
            " where booking.cost = 3",
        ]);
        let end = chance.of(&["", " totals", " limit 2", " limit 1 others"]);
        let edit = chance.of(&["", "", " given (without port.region) as w", " given (port.region = 'North') as w"]);
        let second = chance.of(&["", ", min(booking.net) as least", ", net / rows(booking) as each"]);
        let number = chance.next() % 50;
        let filter = filter.replace("20", &number.to_string()).replace("= 3", &format!("= {}", number % 9));
        let item = if edit.is_empty() { item } else { "net" };
        let text = format!("grid {item}{edit}{second}{by}{filter}{end}");
        let (name, token, view) = &people[chance.of(&["0", "1", "2"]).parse::<usize>().unwrap()];
        let reply = server.ask(&text, Some(token));
        match view.query(&text).and_then(|q| q.run()) {
            Ok(grid) => {
                assert_eq!(reply.rows(), grid.to_json(std::time::Duration::ZERO)["rows"], "{name}: {text}");
                answered += 1;
            }
            Err(e) => {
                assert_eq!(reply.status, 422, "{name}: {text}: {}", reply.text());
                let detail = e.problems().first().map(|p| p.message.clone());
                assert_eq!(reply.json()["detail"].as_str().map(str::to_string), detail, "{name}: {text}");
            }
        }
    }
    assert!(answered > questions / 3, "{answered}");
}
