//! The page, as a browser gets it: what can be asked, the answer, changes of the question, why.

use crate::common::{Reply, Running, serving};

fn encoded(text: &str) -> String {
    serde_urlencoded::to_string([("text", text)]).unwrap()
}

fn page(server: &Running, text: &str, more: &str) -> Reply {
    server.get(&format!("/m/ferries?{}{more}", encoded(text)))
}

/// Where a change leads: the question that is asked then.
fn changed(server: &Running, text: &str, change: &[(&str, &str)]) -> String {
    let pairs: Vec<(&str, &str)> = [("text", text)].iter().chain(change).copied().collect();
    let reply = server.get(&format!("/m/ferries/change?{}", serde_urlencoded::to_string(pairs).unwrap()));
    assert_eq!(reply.status, 303, "{}", reply.text());
    let to = reply.header("location").unwrap().split_once('?').unwrap().1.to_string();
    let pairs: Vec<(String, String)> = serde_urlencoded::from_str(&to).unwrap();
    pairs.into_iter().find(|(name, _)| name == "text").unwrap().1
}

#[test]
fn the_first_page_leads_to_what_can_be_asked() {
    let server = serving("");
    let home = server.get("/");
    assert_eq!((home.status, home.header("location")), (303, Some("/m/ferries")), "there is one model");
    let start = server.get("/m/ferries");
    assert_eq!(start.status, 200);
    for part in ["<title>Ferries</title>", "By region", "Secret cost", "grid+net+by+port.region"] {
        assert!(start.text().contains(part), "{part}: {}", start.text());
    }
    let policy = start.header("content-security-policy").unwrap();
    assert!(policy.contains("default-src 'none'") && !policy.contains("unsafe"), "{policy}");
    assert!(!start.text().contains("style=") && !start.text().contains("onclick"), "the policy would not let it");
    assert_eq!(server.get("/m/harbours").status, 404);
    for asset in ["/style.css", "/page.js"] {
        assert_eq!(server.get(asset).status, 200, "{asset}");
    }
}

#[test]
fn a_question_stands_above_its_answer() {
    let server = serving("");
    let reply =
        page(&server, "grid net by port.region split by port.keeper where port.port in ('Nes', 'Ska') totals", "");
    assert_eq!(reply.status, 200);
    let text = reply.text();
    for part in [
        "Net",
        "split by",
        "Keeper",
        "is Nes, Ska",
        "totals ✓",
        "2 lines",
        "<th scope=\"row\" class=\"\">North</th>",
        "form=csv",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    let wrong = page(&server, "grid net by port.regoin", "");
    assert!(wrong.text().contains("regoin") && wrong.text().contains("^"), "{}", wrong.text());
    let drawn = page(&server, "grid net by port.region", "&chart=1").text();
    assert!(drawn.contains("<svg") && drawn.contains("role=\"img\""), "{drawn}");
    let over_time = page(&server, "grid net by booking.day", "&chart=1").text();
    assert!(over_time.contains("class=\"trend c0\""), "{over_time}");
    let sets = page(&server, "grid net where port.port = $p", "&set=p%3DNes").text();
    assert!(sets.contains("1 line"), "{sets}");
}

#[test]
fn a_cell_leads_to_why_and_back() {
    let server = serving("");
    let text = page(&server, "grid net by port.region", "").text();
    let link = text.split("class=\"cell\" href=\"").nth(1).unwrap().split('"').next().unwrap().replace("&amp;", "&");
    let why = server.get(link.split('#').next().unwrap()).text();
    for part in ["id=\"why\"", "port.region = 'North'", "Rows left", "Rows behind", "close"] {
        assert!(why.contains(part), "{part}: {why}");
    }
}

#[test]
fn each_part_can_be_changed_by_an_address() {
    let server = serving("");
    let text = "grid net by port.region, port.keeper where port.port = 'Nes'";
    for (change, expected) in [
        (
            &[("add", "items"), ("one", "secret_cost")][..],
            "grid net, secret_cost by port.region, port.keeper where port.port = 'Nes'",
        ),
        (
            &[("add", "split"), ("one", "port.keeper")],
            "grid net by port.region split by port.keeper where port.port = 'Nes'",
        ),
        (&[("drop", "by"), ("one", "port.region")], "grid net by port.keeper where port.port = 'Nes'"),
        (&[("earlier", "by"), ("one", "port.keeper")], "grid net by port.keeper, port.region where port.port = 'Nes'"),
        (
            &[("among", "port.port"), ("one", "'Hol'"), ("one", "'Ska'")],
            "grid net by port.region, port.keeper where port.port in ('Hol', 'Ska')",
        ),
        (&[("without", "port.port = 'Nes'")], "grid net by port.region, port.keeper"),
        (&[("totals", "1")], "grid net by port.region, port.keeper where port.port = 'Nes' totals"),
        (
            &[("order", "desc"), ("item", "net")],
            "grid net by port.region, port.keeper where port.port = 'Nes' order by net desc",
        ),
        (
            &[("limit", "1"), ("count", "2"), ("others", "1")],
            "grid net by port.region, port.keeper where port.port = 'Nes' limit 2 others",
        ),
        (&[("limit", "1"), ("count", "")], text),
        (&[("nothing", "1")], text),
    ] {
        let found = changed(&server, text, change);
        assert_eq!(found, expected, "{change:?}");
        assert!(page(&server, &found, "").text().contains(" in "), "{found}");
    }
    let picking = page(&server, text, "&pick=port.port").text();
    assert!(picking.contains("value=\"'Hol'\"") && picking.contains("value=\"'Nes'\" checked"), "{picking}");
    assert_eq!(
        changed(&server, "no question", &[("totals", "1")]),
        "no question",
        "what cannot be read is left as it is"
    );
}

#[test]
fn what_is_refused_is_a_page_too() {
    let server = serving("limits = { cells = 3 }");
    let too_many = encoded("grid net by booking.day");
    for (path, status, part) in [
        ("/m/harbours".to_string(), 404, "no model `harbours`"),
        (format!("/m/ferries?{too_many}"), 200, "cells"),
        ("/m/ferries?text=nonsense".to_string(), 200, "begins with"),
        ("/m/ferries?text=grid+net+by+port.port&pick=port.nothing".to_string(), 422, "nothing"),
    ] {
        let reply = server.get(&path);
        assert!(reply.header("content-type").unwrap().starts_with("text/html"), "{path}: {}", reply.text());
        assert!(reply.status == status && reply.text().contains(part), "{path}: {} {}", reply.status, reply.text());
        assert!(reply.text().contains("<a"), "there is a way on: {}", reply.text());
    }
    assert!(serde_json::from_slice::<serde_json::Value>(&server.get("/nowhere").body).is_ok());
}

#[test]
fn what_is_typed_is_never_markup() {
    let server = serving("");
    let evil = "<script>alert(1)</script>\" onfocus=\"x";
    for more in [
        "",
        "&at=%3Cscript%3E&item=%3Cscript%3E",
        "&pick=%3Cscript%3E",
        "&set=%3Cscript%3E%3D1&chart=%22%3E%3Cscript%3E",
    ] {
        for text in [
            evil.to_string(),
            format!("grid net as \"{}\" by port.region", evil.replace('"', "'")),
            format!("grid net by port.region where port.port = '{}'", evil.replace('\'', "")),
        ] {
            let reply = page(&server, &text, more);
            assert!(
                !reply.text().contains("<script>alert") && !reply.text().contains("\" onfocus"),
                "{text} {more}: {}",
                reply.text()
            );
        }
    }
}

#[test]
fn what_could_be_written_is_offered_with_its_place() {
    let server = serving("");
    let offers = server.get("/m/ferries/complete?text=grid+n&cursor=6").json();
    let net = offers.as_array().unwrap().iter().find(|o| o["text"] == "net").unwrap_or_else(|| panic!("{offers}"));
    assert_eq!((&net["from"], &net["to"]), (&serde_json::json!(5), &serde_json::json!(6)));
    // A place is counted as a script counts it, and one outside of the text is its end.
    for address in [
        "text=grid+net+where+port.port+%3D+%27%F0%9F%9B%B3%27+and+po&cursor=34",
        "text=grid+&cursor=999",
        "text=&cursor=x",
        "",
    ] {
        assert_eq!(server.get(&format!("/m/ferries/complete?{address}")).status, 200, "{address}");
    }
}

#[test]
fn a_browser_signs_in_once_and_sees_what_its_person_sees() {
    let server = serving("sign_in = 'token'");
    let ann = server.token("ann", 1);
    let away = server.get("/m/ferries");
    assert_eq!((away.status, away.header("location")), (303, Some("/sign-in")));
    let form = ("Content-Type", "application/x-www-form-urlencoded");
    let wrong = server.request("POST", "/sign-in", &[form], b"token=nothing");
    assert_eq!((wrong.status, wrong.header("set-cookie")), (401, None));
    assert!(wrong.header("content-type").unwrap().starts_with("text/html"), "{wrong:?}");
    assert!(wrong.text().contains("This token is none") && wrong.text().contains("<form"), "{}", wrong.text());
    let right = server.request("POST", "/sign-in", &[form], format!("token={ann}").as_bytes());
    let cookie = right.header("set-cookie").unwrap();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let cookie = ("Cookie", cookie.split(';').next().unwrap());
    let seen = server.request("GET", &format!("/m/ferries?{}", encoded("grid net by port.region")), &[cookie], b"");
    assert!(seen.text().contains("North") && !seen.text().contains("South"), "{}", seen.text());
    let start = server.request("GET", "/m/ferries", &[cookie], b"").text();
    assert!(start.contains("Signed in as ann") && !start.to_lowercase().contains("secret"), "{start}");
    let out = server.request("POST", "/sign-out", &[cookie], b"");
    assert!(out.header("set-cookie").unwrap().contains("Max-Age=0"));
}
