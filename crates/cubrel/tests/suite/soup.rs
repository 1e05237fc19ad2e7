//! Texts that are no formulas: lexer, parser, checker and planner answer all of them, soon, and without a panic.

use std::time::{Duration, Instant};

use crate::common::Random;
use cubrel::Model;

const PIECES: &[&str] = &[
    "grid",
    "records",
    "net",
    "booking",
    "route",
    ".",
    ".",
    "name",
    "region",
    "net",
    "by",
    "split",
    "where",
    "having",
    "order",
    "limit",
    "within",
    "others",
    "totals",
    "with",
    "empty",
    "given",
    "(",
    ")",
    "(",
    ")",
    "without",
    "but",
    "leave",
    "instead",
    "row",
    "axes",
    "all",
    "per",
    "of",
    "sum",
    "avg",
    "count",
    "distinct",
    "rows",
    "rank",
    "top",
    "bottom",
    "single",
    "in",
    "and",
    "or",
    "not",
    "is",
    "null",
    "like",
    "between",
    "case",
    "when",
    "then",
    "else",
    "end",
    "let",
    "=",
    ";",
    ",",
    "+",
    "-",
    "*",
    "/",
    "%",
    "||",
    "<>",
    "<=",
    ">",
    "1",
    "2.50",
    "1e6",
    "'x'",
    "'",
    "\"",
    "\"net\"",
    "date '2026-03-01'",
    "via",
    "both_ways",
    "so_far",
    "trailing",
    "shift",
    "whole",
    "at_end",
    "year",
    "months",
    "on",
    "calendar",
    "$p",
    "measure",
    "as",
    "format",
    "narrowed",
    "grouping",
    "user",
    "if",
    "coalesce",
    "cast",
    "int",
    "--",
    "/*",
    "*/",
    "é",
    "\u{0}",
    "99999999999999999999999999999999999999999",
    "period",
    "shown",
    "asc",
    "desc",
];

const TEXTS: &[&str] = &[
    "grid net / net given (without route) as share by route.region totals",
    "grid max(net per calendar.month where net > 1), net given (so_far(year), route.region = 'North') by period",
    "measure x = (let a = net; a + 1); grid x split by calendar.year where route.name in top(2, net per route.name)",
    "records booking.net, route.name where booking.net between 1 and 9 order by booking.net desc limit 3",
    "grid case when net > 1 then 'a' when net is null then to_text(1.5, '0.0', 'de') else upper('x') || 'y' end as z",
    "grid rank(net per route.name asc) by route.name having net > 3 order by net desc limit 2 within route.name others",
];

fn model() -> Model {
    crate::common::worked_example()
        .definitions(
            "[table.calendar]\ncalendar = 'date'\ngenerate = { from = '2025-01-01', to = '2025-01-31' }\n
             [lens.period.reading.now]\nformula = 'shown'\n[lens.period.reading.ytd]\nformula = 'shown given (so_far(year))'",
        )
        .build()
        .unwrap()
}

fn soup(r: &mut Random) -> String {
    let count = r.below(25) + 1;
    let mut text = if r.chance(60) { String::from("grid ") } else { String::new() };
    for _ in 0..count {
        text += r.pick(PIECES);
        if r.chance(80) {
            text.push(' ');
        }
    }
    text
}

/// A right text with some of its characters or words changed.
fn spoiled(r: &mut Random) -> String {
    let mut chars: Vec<char> = r.pick(TEXTS).chars().collect();
    for _ in 0..r.below(4) + 1 {
        let at = r.below(chars.len() as u64) as usize;
        match r.below(4) {
            0 => {
                chars.remove(at);
            }
            1 => chars.splice(at..at, r.pick(PIECES).chars()).for_each(drop),
            2 => chars.truncate(at.max(5)),
            _ => {
                let to = r.below(chars.len() as u64) as usize;
                chars.swap(at, to);
            }
        }
    }
    chars.into_iter().collect()
}

#[test]
fn every_text_gets_an_answer() {
    let model = model();
    let r = &mut Random(0xD1CE);
    let mut understood = 0;
    for case in 0..60_000 {
        let text = if case % 2 == 0 { soup(r) } else { spoiled(r) };
        let start = Instant::now();
        match model.query(&text) {
            // What can be planned can be run, or says why not.
            Ok(query) => {
                understood += 1;
                let _ = query.run();
            }
            Err(e) => {
                assert!(!e.problems().is_empty(), "nothing is said of: {text}");
                for p in e.problems() {
                    let source = p.source.as_ref().map_or("", |s| s.text.as_str());
                    let place = source.get(p.span.range());
                    assert!(
                        p.source.is_none() || place.is_some(),
                        "a place beyond the text, or inside a character: {text}"
                    );
                }
            }
        }
        assert!(start.elapsed() < Duration::from_secs(5), "this took too long: {text}");
    }
    assert!(understood > 500, "some of the spoiled texts are right: {understood}");
}

#[test]
fn nesting_is_bounded_wherever_it_stands() {
    let model = model();
    for (open, middle, close) in [
        ("(", "net", ")"),
        ("abs(", "net", ")"),
        ("sum(", "booking.net", " per route)"),
        ("if(true, ", "net", ", 0)"),
        ("(", "net", " given (without all))"),
        ("-", "net", ""),
        ("not ", "true", ""),
        ("case when true then ", "net", " end"),
        ("(let x = 1; ", "net", ")"),
        ("coalesce(1, ", "net", ")"),
        ("net given (route.region = 'x' and booking.net > ", "net", ")"),
        ("(net + ", "net", ")"),
    ] {
        for depth in [10, 50, 20_000] {
            let text = format!("grid {}{middle}{} as x", open.repeat(depth), close.repeat(depth));
            let start = Instant::now();
            let _ = model.query(&text).map(|q| q.run());
            assert!(start.elapsed() < Duration::from_secs(20), "{open} {depth} deep");
        }
    }
}
