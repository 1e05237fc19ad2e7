//! The page in a real browser: ask, narrow, why, share a link, by mouse and by keyboard; two people who see different rows.

mod driver;

use driver::{Browser, Driver};
use serde_json::json;

use crate::common::{Running, serving};
use crate::issuer::Issuer;

/// Keys, as WebDriver names them.
const TAB: char = '\u{e004}';
const ENTER: char = '\u{e007}';
const ESCAPE: char = '\u{e00c}';
const SPACE: char = ' ';

const DESK: (u32, u32) = (1280, 800);
const PHONE: (u32, u32) = (390, 844);

fn home(server: &Running) -> String {
    format!("http://{}", server.address)
}

/// The question that a page is about.
fn question(browser: &Browser) -> String {
    let address = browser.address();
    let pairs: Vec<(String, String)> =
        serde_urlencoded::from_str(address.split_once('?').map_or("", |(_, pairs)| pairs)).unwrap();
    pairs.into_iter().find(|(name, _)| name == "text").map(|(_, text)| text).unwrap_or_default()
}

fn heads(browser: &Browser) -> Vec<String> {
    browser.texts(".grid tbody th")
}

#[test]
fn somebody_asks_narrows_asks_why_and_sends_the_link() {
    let Some(driver) = Driver::start() else { return };
    let server = serving("");
    let browser = driver.browser(DESK);
    browser.open(&home(&server));
    browser.click_text("ul.cards a", "Net");
    browser.until("a figure", || browser.texts(".grid tbody td").len() == 1);
    assert_eq!(question(&browser), "grid net");

    // By region, found in the list by a part of its name.
    browser.click_text("details.part summary", "by");
    browser.write("details.part[open] input.find", "regi");
    let shown =
        || browser.texts("details.part[open] .choices label").into_iter().filter(|t| !t.is_empty()).collect::<Vec<_>>();
    browser.until("only what is looked for", || shown() == ["Region"]);
    browser.click("details.part[open] .choices label:not([hidden]) input");
    browser.click_text("details.part[open] button", "Add");
    browser.until("by region", || heads(&browser) == ["North", "South"]);
    assert_eq!(question(&browser), "grid net by port.region");

    // Narrowed to one region by its values.
    browser.click_text("details.part summary", "where");
    browser.script("document.getElementById('pick').value = 'port.region'", json!([]));
    browser.click_text("details.part[open] button", "Choose values");
    browser.click("input[value=\"'South'\"]");
    browser.click_text("details.part[open] button", "Show these");
    browser.until("one region", || heads(&browser) == ["South"]);

    // A number leads to why it is what it is.
    browser.click(".grid tbody td a");
    browser.until("why", || browser.text("#why").contains("net is 5,000.0"));
    assert!(browser.text("#why").contains("port.region") && browser.text("#why").contains("sum(booking.net)"));

    // Whoever gets the link sees the same.
    let other = driver.browser(PHONE);
    other.open(&browser.address());
    other.until("the same", || other.text("#why") == browser.text("#why"));
    assert_eq!(heads(&other), ["South"]);
    let wide = other.script("return document.documentElement.scrollWidth > window.innerWidth;", json!([]));
    assert_eq!(wide, json!(false), "nothing is wider than a phone");
    let heads_before = heads(&other);
    other.click_text("a.toggle", "totals");
    other.until("totals", || heads(&other).len() > heads_before.len());
}

#[test]
fn everything_can_be_done_by_keyboard() {
    let Some(driver) = Driver::start() else { return };
    let server = serving("");
    let browser = driver.browser(DESK);
    browser.open(&format!("{}/m/ferries?text=grid+net+by+port.region", home(&server)));
    let focused =
        || browser.script("return document.activeElement.innerText || document.activeElement.tagName;", json!([]));
    let reach = |what: &str| {
        for _ in 0..60 {
            if focused().as_str().unwrap_or_default().trim().starts_with(what) {
                return;
            }
            browser.press(&[TAB]);
        }
        panic!("{what} is not reached: {}", focused());
    };
    reach("split by");
    browser.press(&[ENTER]);
    browser.until("the list has what is looked for first", || focused() == json!("INPUT"));
    browser.press(&['c', 'o', 's', 't', TAB, SPACE]);
    browser.press(&[ESCAPE]);
    browser.until("closed", || browser.texts("details.part[open]").is_empty());
    browser.press(&[ENTER]);
    browser.until("open again, with what was ticked", || browser.texts("details.part[open] input:checked").len() == 1);
    reach("Add");
    browser.press(&[ENTER]);
    browser.until("split", || question(&browser) == "grid net by port.region split by booking.cost");

    // The text, with what could be written offered and taken.
    browser.open(&format!("{}/m/ferries", home(&server)));
    browser.click("#text");
    browser.press(&['g', 'r', 'i', 'd', ' ', 'n', 'e']);
    browser.until("offers", || browser.texts("#offers li").iter().any(|offer| offer.starts_with("net")));
    let at = browser.texts("#offers li").iter().position(|offer| offer.starts_with("net")).unwrap();
    browser.press(&vec!['\u{e015}'; at]);
    browser.press(&[TAB]);
    let written = || browser.script("return document.getElementById('text').value;", json!([]));
    browser.until("taken", || written() == json!("grid net"));
    browser.press(&[TAB, ENTER]);
    browser.until("asked", || question(&browser) == "grid net" && browser.texts(".grid tbody td").len() == 1);
}

fn signed_in(driver: &Driver, server: &Running, name: &str) -> Browser {
    let browser = driver.browser(DESK);
    browser.open(&format!("{}/m/ferries?text=grid+net+by+port.region,+port.port", home(server)));
    browser.until("a stranger is led to the sign-in", || browser.address().ends_with("/sign-in"));
    browser.write("#token", &server.token(name, 1));
    browser.press(&[ENTER]);
    browser.until("signed in", || browser.text("body").contains(&format!("Signed in as {name}")));
    browser.open(&format!("{}/m/ferries?text=grid+net+by+port.region,+port.port", home(server)));
    browser
}

#[test]
fn two_people_see_different_rows_behind_one_link() {
    let Some(driver) = Driver::start() else { return };
    let server = serving("sign_in = 'token'");
    let (ann, ben) = (signed_in(&driver, &server, "ann"), signed_in(&driver, &server, "ben"));
    assert_eq!(ann.address(), ben.address());
    ann.until("ann", || heads(&ann).iter().filter(|h| !h.is_empty()).eq(["North", "Hol", "Nes"].iter()));
    ben.until("ben", || heads(&ben).iter().filter(|h| !h.is_empty()).eq(["North", "Hol", "South", "Ska"].iter()));
    ann.open(&format!("{}/m/ferries?text=grid+secret_cost", home(&server)));
    ann.until("what she may not see is unknown", || ann.text("main").contains("secret_cost"));
    assert!(ann.texts(".grid tbody td").is_empty());
    let cookies = ann.script("return document.cookie;", json!([]));
    assert_eq!(cookies, json!(""), "no script reads the token");
    ann.open(&home(&server));
    ann.click_text("button", "sign out");
    ann.until("gone", || ann.address().ends_with("/sign-in"));
}

#[test]
fn a_browser_is_sent_to_the_issuer_and_comes_back() {
    let Some(driver) = Driver::start() else { return };
    let issuer = Issuer::new();
    let server = serving(&issuer.settings(""));
    let browser = driver.browser(DESK);
    browser.open(&format!("{}/m/ferries", home(&server)));
    browser.click_text("a", "Sign in at");
    browser.until("signed in", || browser.text("body").contains("Signed in as ann"));
    browser.until("led on", || browser.address().ends_with("/m/ferries"));
    browser.open(&format!("{}/m/ferries?text=grid+net+by+port.region", home(&server)));
    browser.until("what ann sees", || heads(&browser) == ["North"]);
}
