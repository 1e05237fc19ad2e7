//! Answers are those of the library, in every form; what is wrong is told as the standard has it.

use cubrel::{Model, QueryOptions, Value};
use serde_json::{Value as Json, json};

use crate::common::serving;

const TEXTS: &[&str] = &[
    "grid net by port.region",
    "grid net, rows(booking) as n by port.region, port.port totals",
    "grid net by booking.day split by port.region",
    "grid net by port.port limit 2 others",
    "records booking.day, booking.net where port.region = 'South' limit 5",
    "by_region",
];

#[test]
fn every_form_has_the_librarys_answer() {
    let server = serving("");
    let model = Model::open(&server.model).unwrap();
    for text in TEXTS {
        let own = model.catalog().queries.iter().find(|q| q.name == *text).map_or(text.to_string(), |q| q.text.clone());
        let grid = model.query(&own).unwrap_or_else(|e| panic!("{text}: {e}")).run().unwrap();
        let mut json = server.ask(text, None).json();
        let mut expected = grid.to_json(std::time::Duration::ZERO);
        [&mut json, &mut expected].into_iter().for_each(|j| j["elapsed_ms"] = Json::Null);
        assert_eq!(json, expected, "{text}");
        let csv = server.ask_in("text/csv", text, None);
        assert_eq!((csv.text(), csv.header("content-type")), (grid.to_csv(None), Some("text/csv; charset=utf-8")));
        let arrow = server.ask_in("application/vnd.apache.arrow.stream", text, None);
        let reader = arrow_ipc::reader::StreamReader::try_new(std::io::Cursor::new(arrow.body), None).unwrap();
        let batches: Vec<_> = reader.map(Result::unwrap).collect();
        assert_eq!(batches, [grid.to_record_batch().unwrap()], "{text}");
    }
}

#[test]
fn an_address_alone_will_do_for_a_spreadsheet() {
    let server = serving("");
    let reply = server.get("/api/models/ferries/query?text=grid+net+by+port.region+where+port.port+in+(%24ports)&form=csv&set=ports=Nes,Ska&shown=true");
    let model = Model::open(&server.model).unwrap();
    let parameters = [("ports".to_string(), vec![Value::text("Nes"), Value::text("Ska")])].into();
    let options = QueryOptions { parameters, ..QueryOptions::default() };
    let grid =
        model.query_with("grid net by port.region where port.port in ($ports)", &options).unwrap().run().unwrap();
    let formats = cubrel::Formats::default();
    assert_eq!((reply.status, reply.text()), (200, grid.to_csv(Some(&formats))));
    for (wrong, part) in [
        ("", "text"),
        ("text=grid+net&form=pdf", "form"),
        ("text=grid+net&set=x", "sets nothing"),
        ("text=a&x=1", "`x`"),
    ] {
        let reply = server.get(&format!("/api/models/ferries/query?{wrong}"));
        assert_eq!(reply.status, 400, "{wrong}");
        assert!(reply.json()["detail"].as_str().unwrap().contains(part), "{wrong}: {}", reply.text());
    }
}

#[test]
fn parameters_are_what_json_says_that_they_are() {
    let server = serving("");
    let ask = |text: &str, parameters: Json| {
        server.post("/api/models/ferries/query", &json!({"text": text, "parameters": parameters}))
    };
    let rows = |text: &str, parameters: Json| ask(text, parameters).rows();
    let of = "grid rows(booking) as n where";
    assert_eq!(rows(&format!("{of} port.port = $p"), json!({"p": "Nes"})), json!([[100]]));
    assert_eq!(rows(&format!("{of} port.port in ($p)"), json!({"p": ["Nes", "Hol"]})), json!([[200]]));
    assert_eq!(
        rows(&format!("{of} booking.day = $d"), json!({"d": "2026-01-01"})),
        rows(&format!("{of} booking.day = date '2026-01-01'"), json!({}))
    );
    assert_eq!(
        rows(&format!("{of} booking.net > $n"), json!({"$n": 10.5})),
        rows(&format!("{of} booking.net > 10.5"), json!({}))
    );
    assert_eq!(ask(of, json!({"p": {"a": 1}})).status, 400);
    assert_eq!(ask(&format!("{of} port.port = $p"), json!({})).status, 422, "nobody says what it is");
}

#[test]
fn why_costs_and_sizes_are_those_of_the_library() {
    let server = serving("");
    let model = Model::open(&server.model).unwrap();
    let why =
        server.post("/api/models/ferries/why", &json!({"text": "by_region", "at": "port.region = 'North'", "rows": 3}));
    let options = cubrel::why::WhyOptions { rows: 3, ..Default::default() };
    let expected = model.why("grid net by port.region", "port.region = 'North'", &options).unwrap();
    assert_eq!(why.json(), json!(expected));
    let profile = server.post("/api/models/ferries/profile", &json!({"text": "by_region", "runs": 3})).json();
    assert_eq!(profile["warm"]["runs"], 3);
    assert!(profile["tree"][0]["part"].is_string(), "{profile}");
    assert_eq!(server.get("/api/models/ferries/sizes").json(), json!(model.sizes()));
    assert_eq!(server.get("/api/models/ferries").json(), json!(model.catalog()));
    let list = server.get("/api/models").json();
    assert_eq!((&list[0]["name"], &list[0]["label"]), (&json!("ferries"), &json!("Ferries")));
}

#[test]
fn whatever_is_wrong_is_told_in_one_form() {
    let server = serving("");
    let json = ("Content-Type", "application/json");
    let query = "/api/models/ferries/query";
    let large = vec![b' '; 3 << 20];
    let deep = "[".repeat(100_000);
    type Case<'c> = (&'c str, &'c str, &'c [(&'c str, &'c str)], &'c [u8], u16);
    let cases: &[Case<'_>] = &[
        ("POST", query, &[json], b"{", 400),
        ("POST", query, &[json], b"[]", 400),
        ("POST", query, &[json], b"{\"text\": 3}", 400),
        ("POST", query, &[json], b"{\"text\": \"grid net\", \"role\": \"north\"}", 400),
        ("POST", query, &[json], b"{\"text\": \"\xff\"}", 400),
        ("POST", query, &[json], deep.as_bytes(), 400),
        ("POST", query, &[json], &large, 413),
        ("POST", query, &[], b"{\"text\": \"grid net\"}", 415),
        ("POST", query, &[("Content-Type", "text/plain")], b"{\"text\": \"grid net\"}", 415),
        ("POST", query, &[json, ("Accept", "image/png")], b"{\"text\": \"grid net\"}", 406),
        ("POST", query, &[json], b"{\"text\": \"\"}", 422),
        ("POST", query, &[json], b"{\"text\": \"select 1\"}", 422),
        ("POST", query, &[json], b"{\"text\": \"grid nothing\"}", 422),
        ("POST", "/api/models/harbours/query", &[json], b"{\"text\": \"grid net\"}", 404),
        ("POST", "/api/models/..%2f..%2fetc/query", &[json], b"{\"text\": \"grid net\"}", 404),
        ("GET", "/api/models/%ff", &[], b"", 400),
        ("GET", "/api/../etc/passwd", &[], b"", 404),
        ("GET", "/nothing", &[], b"", 404),
        ("DELETE", "/api/models/ferries", &[], b"", 405),
        ("PUT", query, &[json], b"{}", 405),
        ("GET", "/api/models", &[("Host", "evil.example.org")], b"", 421),
        ("GET", "/api/models", &[("Host", "localhost.evil.example.org:80")], b"", 421),
        ("GET", "/api/models", &[("Host", "[::1]:8080")], b"", 200),
    ];
    for (method, path, headers, body, status) in cases {
        let reply = server.request(method, path, headers, body);
        let what = format!("{method} {path} {headers:?} {}", String::from_utf8_lossy(&body[..body.len().min(60)]));
        assert_eq!(reply.status, *status, "{what}: {}", reply.text());
        if *status != 200 {
            assert_eq!(reply.header("content-type"), Some("application/problem+json"), "{what}: {}", reply.text());
            let problem = reply.json();
            assert_eq!(problem["status"], *status, "{what}");
            assert!(problem["detail"].as_str().is_some_and(|d| !d.is_empty()), "{what}: {problem}");
        }
    }
    let problem = server.ask("grid net by port.regoin", None).json();
    assert_eq!(
        (&problem["problems"][0]["line"], &problem["problems"][0]["column"]),
        (&json!(1), &json!(13)),
        "{problem}"
    );
    assert!(problem["help"].as_str().unwrap().contains("region"), "{problem}");
    for broken in [
        &b"GET / HTTP/1.1\r\nHost: a\r\nX: a\rb\r\n\r\n"[..],
        b"\x16\x03\x01 no http at all\r\n\r\n",
        b"GET /\xff HTTP/1.1\r\n\r\n",
    ] {
        assert!([0, 400].contains(&server.raw(broken).status), "{broken:?}");
    }
    assert_eq!(server.ask("grid net", None).status, 200, "and it still answers");
}

#[test]
fn what_the_api_has_is_told_from_its_own_types() {
    let server = serving("");
    let api = server.get("/openapi.json").json();
    assert!(api["openapi"].as_str().unwrap().starts_with("3.1"), "{}", api["openapi"]);
    let paths = api["paths"].as_object().unwrap();
    for path in
        ["", "/{model}", "/{model}/query", "/{model}/why", "/{model}/profile", "/{model}/sizes", "/{model}/refresh"]
    {
        assert!(paths.contains_key(&format!("/api/models{path}")), "{path}");
    }
    assert_eq!(server.get("/health").text(), "alive\n");
    assert_eq!(server.get("/ready").text(), "ready\n");
}

#[test]
fn what_somebody_has_already_is_not_sent_again() {
    let server = serving("");
    let path = "/api/models/ferries/query?text=by_region";
    let first = server.get(path);
    let tag = first.header("etag").unwrap().to_string();
    let again = server.request("GET", path, &[("If-None-Match", &tag)], b"");
    assert_eq!((again.status, again.body.len()), (304, 0));
    let other = server.request("GET", &format!("{path}&form=csv"), &[("If-None-Match", &tag)], b"");
    assert_eq!(other.status, 200, "another form is another answer");
    let catalog = server.get("/api/models/ferries");
    let tag = catalog.header("etag").unwrap().to_string();
    assert_eq!(
        server.request("GET", "/api/models/ferries", &[("If-None-Match", &format!("\"x\", W/{tag}"))], b"").status,
        304
    );
    assert!(server.counted("cubrel_answers_again_total") == 0.0);
    server.get(path);
    assert!(server.counted("cubrel_answers_again_total") == 1.0);
    assert!(server.counted("cubrel_questions_total") == 2.0, "in two forms");
    assert!(server.counted("cubrel_lines_total") >= 2.0);
    let packed = server.request("GET", "/api/models/ferries", &[("Accept-Encoding", "gzip")], b"");
    assert_eq!((packed.header("content-encoding"), &packed.body[..2]), (Some("gzip"), &[0x1f, 0x8b][..]));
}
