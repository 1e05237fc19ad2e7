//! Who uses what: every kind of place that can name something, and what breaks when it is taken away.

use std::path::Path;

use cubrel::uses::Uses;
use cubrel::{Error, Model, Type, Value};
use tempfile::TempDir;

/// A model in which everything is named from everywhere.
pub const MODEL: &str = r#"[table.booking]
source = "booking.csv"
key = "ref"
where = "passengers > 0"
[table.booking.column.net]
formula = "fare - concession"
[table.booking.column.dear]
formula = "net > 2 * fare_class.list_fare"
display_order = "passengers"
[table.route]
source = "route.csv"
[table.route.hierarchy.place]
levels = ["region", "id"]
[table.route.column.miles]
keep = false
[table.route.column.long]
formula = "miles > 10"
[table.fare_class]
source = "fare_class.csv"
[table.calendar]
calendar = "date"
generate = { from = "2026-01-01", to = "2026-12-31" }
[table.booked]
same_as = "calendar"
[table.top_route]
query = "grid revenue as revenue by route.id limit 1"

[[relationship]]
many = "booking.route"
one = "route.id"
[[relationship]]
many = "booking.class"
one = "fare_class.code"
[[relationship]]
many = "booking.sailed"
one = "calendar.date"
[[relationship]]
many = "booking.booked"
one = "calendar.date"
spare = true
[[relationship]]
many = "booking.booked"
one = "booked.date"

[measure.revenue]
formula = "sum(booking.net)"
[measure.by_booking]
formula = """
revenue
  via booking.booked"""
[measure.last_year]
formula = 'let base = 1; base * revenue given (shift(-1 year) on calendar) + rows(booking)'
[measure.shadowed]
formula = 'let revenue = 1; revenue + rows(booking)'
[measure.highest]
formula = "max(top_route.revenue)"
[measure.in_region]
formula = "revenue given (without all but (route.region, calendar))"

[lens.period]
[lens.period.reading.now]
formula = "shown"
[lens.period.reading.cheap]
formula = "shown given (booking where not booking.dear)"
[lens.change]
wraps = ["period"]
[lens.change.reading.plain]
formula = "shown"

[role.north]
rows.route = "region = 'N' and long"
deny = ["booking.concession", "highest"]

[shortlist.front]
list = ["booking.passengers", "revenue", "place", "calendar", "period"]

[query.by_place]
text = "grid revenue, highest by place split by period where calendar.month_name = 'January'"

[[expect]]
query = "by_place"
min_rows = 0
[[expect]]
name = "the same"
same = ["revenue", "sum(booking.net)"]
by = ["route.region"]
where = "booking.passengers > 1"
[[expect]]
unique = "booking.ref"
[[expect]]
no_orphans = ["booking.class"]
[[expect]]
fresh = "booking.sailed"
within = "3 days"
"#;

fn write(folder: &Path, model: &str) {
    let file = |name: &str, text: &str| std::fs::write(folder.join(name), text).unwrap();
    file("model.toml", model);
    file(
        "booking.csv",
        "ref,route,class,sailed,booked,passengers,fare,concession\n\
         1,r1,a,2026-01-03,2026-01-02,2,10.50,0.50\n2,r2,b,2026-02-03,2026-01-05,1,4,0\n3,r1,b,2026-03-03,2026-03-01,3,8,1\n",
    );
    file("route.csv", "id,region,miles\nr1,N,12\nr2,S,4\n");
    file("fare_class.csv", "code,list_fare\na,4\nb,5\n");
}

pub fn folder(model: &str) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), model);
    folder
}

fn model() -> (TempDir, Model) {
    let folder = folder(MODEL);
    let model = Model::open(folder.path()).unwrap();
    (folder, model)
}

/// Direct uses as `kind name @ what stands there`, the others as `name < through < through`.
fn told(uses: &Uses) -> Vec<String> {
    let lines: Vec<&str> = MODEL.lines().collect();
    let one = |u: &cubrel::uses::Use| {
        if !u.direct {
            return format!("{} < {}", u.name, u.through.join(" < "));
        }
        let (line, column) = (u.line.unwrap_or(1), u.column.unwrap_or(1));
        let there: String = lines[line - 1].chars().skip(column - 1).collect();
        let end = there.find([' ', ',', ')', '"', '+', '\'']).unwrap_or(there.len());
        format!("{} {} @ {}", u.kind.name(), u.name, &there[..end])
    };
    uses.used_by.iter().map(one).collect()
}

#[test]
fn every_place_that_names_something_is_a_use_of_it() {
    let (_folder, model) = model();
    let cases: &[(&str, &[&str])] = &[
        (
            "revenue",
            &[
                "table top_route @ revenue",
                "measure by_booking @ revenue",
                "measure last_year @ revenue",
                "measure in_region @ revenue",
                "shortlist front @ revenue",
                "query by_place @ revenue",
                "expectation the same @ revenue",
                "north < top_route < highest",
                "by_place < by_place",
            ],
        ),
        ("booking.fare", &["column booking.net @ fare"]),
        ("route.miles", &["column route.long @ miles"]),
        ("route.long", &["role north @ long"]),
        ("booking.ref", &["table booking @ ref", "expectation booking.ref is unique @ booking.ref"]),
        ("booking.concession", &["column booking.net @ concession", "role north @ booking.concession"]),
        ("place", &["shortlist front @ place", "query by_place @ place", "by_place < by_place"]),
        ("period", &["lens change @ period", "shortlist front @ period", "query by_place @ period"]),
        ("change", &[]),
        ("query.by_place", &["expectation by_place @ by_place"]),
        (
            "fare_class",
            &[
                "column booking.dear @ fare_class.list_fare",
                "relationship booking.class → fare_class.code @ fare_class.code",
            ],
        ),
        ("booking.booked → calendar.date", &["measure by_booking @ booking.booked"]),
        ("booking.booked -> booked.date", &[]),
        (
            "booking.class",
            &[
                "relationship booking.class → fare_class.code @ booking.class",
                "expectation booking.class has no orphans @ booking.class",
            ],
        ),
        ("booking.class → fare_class.code", &["column booking.dear @ net"]),
        ("calendar.month_of_year", &["column calendar.month_name @ date", "column booked.month_of_year @ calendar"]),
        ("booking.dear", &["lens period @ booking.dear"]),
        (
            "booking.sailed",
            &[
                "relationship booking.sailed → calendar.date @ booking.sailed",
                "expectation booking.sailed is fresh @ booking.sailed",
            ],
        ),
        ("top_route.revenue", &["measure highest @ top_route.revenue"]),
    ];
    for (name, expected) in cases {
        let uses = model.uses(name).unwrap_or_else(|e| panic!("{name}: {e}"));
        let told = told(&uses);
        // A relationship is used by whatever follows it; that is held below.
        let is_followed = name.contains('→');
        let direct: Vec<&str> = told.iter().map(String::as_str).filter(|t| !t.contains(" < ")).collect();
        let wanted: Vec<&str> = expected.iter().copied().filter(|t| !t.contains(" < ")).collect();
        if is_followed {
            assert!(wanted.iter().all(|w| direct.contains(w)), "{name}: {told:#?}");
        } else {
            let (mut direct, mut wanted) = (direct, wanted);
            direct.sort_unstable();
            wanted.sort_unstable();
            direct.dedup();
            wanted.dedup();
            assert_eq!(direct, wanted, "{name}");
        }
        for indirect in expected.iter().filter(|t| t.contains(" < ")) {
            assert!(told.iter().any(|t| t == indirect), "{name}: no {indirect} in {told:#?}");
        }
        for used in uses.used_by.iter().filter(|u| u.direct) {
            let line = MODEL.lines().nth(used.line.unwrap() - 1).unwrap();
            assert!(line.contains(used.text.trim()), "{name}: {:?} is not in {line:?}", used.text);
            assert!(used.marked.end <= used.text.chars().count(), "{name}: {used:?}");
        }
    }
}

#[test]
fn relationships_are_used_by_what_follows_them() {
    let (_folder, model) = model();
    let users = |name: &str| -> Vec<String> {
        let uses = model.uses(name).unwrap();
        let direct = uses.used_by.iter().filter(|u| u.direct);
        direct.map(|u| format!("{} {}", u.kind.name(), u.name)).collect()
    };
    // The query groups bookings by columns of routes; the role hides bookings of routes.
    let by_route = users("booking.route → route.id");
    for user in ["query by_place", "role north", "table top_route", "expectation the same"] {
        assert!(by_route.iter().any(|u| u == user), "{user}: {by_route:?}");
    }
    assert!(!by_route.iter().any(|u| u == "measure revenue"), "a sum of bookings follows nothing: {by_route:?}");
    let by_day = users("booking.sailed → calendar.date");
    assert!(
        by_day.iter().any(|u| u == "query by_place") && by_day.iter().any(|u| u == "measure last_year"),
        "{by_day:?}"
    );
}

#[test]
fn names_are_found_as_formulas_write_them_and_with_their_kind() {
    let text = MODEL.replace("[query.by_place]", "[query.revenue]\ntext = \"grid highest\"\n[query.by_place]");
    let folder = folder(&text);
    let model = Model::open(folder.path()).unwrap();
    let kind = |name: &str| model.uses(name).map(|u| u.kind.name()).map_err(|e| e.to_string());
    for (name, expected) in [
        ("measure.revenue", "measure"),
        ("query.revenue", "query"),
        ("table.route", "table"),
        ("hierarchy.place", "hierarchy"),
        ("route.place", "hierarchy"),
        ("\"route\".\"region\"", "column"),
        ("role.north", "role"),
        ("booking.booked->booked.date", "relationship"),
        (" booking.booked  →  booked.date ", "relationship"),
    ] {
        assert_eq!(kind(name).as_deref(), Ok(expected), "{name}");
    }
    let several = kind("revenue").unwrap_err();
    assert!(several.contains("`revenue` is the name of several: `measure.revenue`, `query.revenue`"), "{several}");
    for (name, expected) in [
        ("revenu", "did you mean `revenue`?"),
        ("route.regoin", "did you mean `route.region`?"),
        ("", "nothing of this model is called ``"),
        ("nothing at all", "name a table"),
    ] {
        let error = kind(name).unwrap_err();
        assert!(error.contains(expected), "{name}: {error}");
    }
}

/// The sections of a model's text, each with its header.
fn sections(text: &str) -> Vec<String> {
    let mut sections: Vec<String> = Vec::new();
    for line in text.lines() {
        if line.starts_with('[') {
            sections.push(String::new());
        }
        let last = sections.last_mut().unwrap();
        last.push_str(line);
        last.push('\n');
    }
    sections
}

/// Whether a model opens, none of its measures is wrong, and its saved queries can be asked.
fn stands(text: &str) -> bool {
    let folder = folder(text);
    let Ok(model) = Model::open(folder.path()) else { return false };
    let asked = |name: &String| {
        let text = model.catalog().queries.iter().find(|q| q.name == *name).map(|q| q.text.clone());
        text.is_some_and(|text| model.query(&text).is_ok())
    };
    let names: Vec<String> = model.catalog().queries.iter().map(|q| q.name.clone()).collect();
    model.wrong_measures().is_empty()
        && names.iter().all(asked)
        && model.check().iter().all(|p| p.severity == cubrel::Severity::Warning)
}

#[test]
fn what_is_used_breaks_something_when_it_goes_and_what_is_not_does_not() {
    let (_folder, model) = model();
    let all = sections(MODEL);
    let (mut used, mut unused) = (0, 0);
    for (i, section) in all.iter().enumerate() {
        let header = section.lines().next().unwrap().trim_matches(['[', ']']);
        let parts: Vec<&str> = header.split('.').collect();
        let name = match parts.as_slice() {
            ["measure" | "lens" | "query", name] => format!("{}.{name}", parts[0]),
            ["table", table, "column", column] if section.contains("formula") => format!("{table}.{column}"),
            ["table", _, "hierarchy", name] => format!("hierarchy.{name}"),
            _ => continue,
        };
        let without: String = all
            .iter()
            .enumerate()
            .filter(|(j, other)| i != *j && !(parts[0] == "lens" && other.contains(&format!("[lens.{}.", parts[1]))))
            .map(|(_, section)| section.as_str())
            .collect();
        let uses = model.uses(&name).unwrap();
        let is_used = uses.used_by.iter().any(|u| u.direct && u.kind.name() != "shortlist");
        assert_eq!(!stands(&without), is_used, "{name}: {:#?}", told(&uses));
        if is_used { used += 1 } else { unused += 1 }
    }
    assert!(used > 5 && unused > 2, "{used} {unused}");
}

#[test]
fn what_nothing_uses_is_listed_with_its_bytes_and_what_follows() {
    let (_folder, model) = model();
    let unused = model.unused();
    let find = |name: &str| unused.unused.iter().find(|p| p.name == name);
    for name in ["by_booking", "last_year", "in_region", "change", "booked"] {
        assert!(find(name).is_some(), "{name}: {unused:#?}");
    }
    for name in
        ["revenue", "highest", "booking.net", "route.region", "calendar", "booking.ref", "booked.year", "period"]
    {
        assert!(find(name).is_none(), "{name}: {unused:#?}");
    }
    let by_booking = find("by_booking").unwrap();
    assert_eq!(by_booking.then_unused, ["booking.booked", "booking.booked → calendar.date"]);
    // Its relationship is unused already; of the calendar go the columns that nobody else asked for.
    assert!(find("booked").unwrap().then_unused.iter().all(|name| name.starts_with("calendar.")));
    assert_eq!(find("booked").unwrap().bytes, 0, "a copy shares all that it has");
    let columns: u64 = unused.unused.iter().map(|p| p.bytes).sum();
    assert!(unused.bytes >= columns && unused.bytes < model.sizes().model.bytes, "{unused:#?}");
}

#[test]
fn bytes_of_the_unused_are_those_that_a_model_without_it_does_not_have() {
    let rows: Vec<Vec<Value>> =
        (0..1000).map(|i| vec![Value::Int(i % 7), Value::text(format!("n{}", i * i % 900)), Value::Int(i)]).collect();
    let columns = [("a", Type::Int), ("b", Type::Text), ("c", Type::Int)];
    let saved = "[query.all]\ntext = 'grid sum(t.a)'";
    let model = Model::builder().rows("t", &columns, &rows).definitions(saved).build().unwrap();
    let less: Vec<Vec<Value>> = rows.iter().map(|r| r[..1].to_vec()).collect();
    let without = Model::builder().rows("t", &columns[..1], &less).definitions(saved).build().unwrap();
    let (sizes, unused) = (model.sizes(), model.unused());
    let of = |name: &str| sizes.tables[0].columns.iter().find(|c| c.name == name).unwrap().bytes;
    let expected = of("b") + of("c");
    assert_eq!(unused.bytes, expected);
    assert!(sizes.model.bytes - expected >= without.sizes().model.bytes, "rows in another order may pack less well");
    assert_eq!(unused.unused.iter().map(|p| p.name.as_str()).collect::<Vec<_>>(), ["t.b", "t.c"]);
}

#[test]
fn chains_of_the_unused_are_followed_to_the_end() {
    let text = "[measure.a]\nformula = '1'\n[measure.b]\nformula = 'a + 1'\n[measure.c]\nformula = 'b + 1'\n[measure.d]\nformula = 'b * 2'\n";
    let model = Model::builder().definitions(text).build().unwrap();
    let unused = model.unused();
    let told: Vec<(&str, &[String])> =
        unused.unused.iter().map(|p| (p.name.as_str(), p.then_unused.as_slice())).collect();
    assert_eq!(told, [("c", &[][..]), ("d", &[][..])], "each alone leaves the other");
    let text = text.replace("[measure.d]\nformula = 'b * 2'\n", "");
    let model = Model::builder().definitions(&text).build().unwrap();
    assert_eq!(model.unused().unused[0].then_unused, ["b", "a"]);
}

#[test]
fn somebody_in_a_role_is_told_of_what_they_see_only() {
    let (_folder, model) = model();
    let view = model.as_user(&["north"], None).unwrap();
    for name in ["booking.concession", "booking.net", "revenue", "highest", "by_place", "north"] {
        let error = view.uses(name).unwrap_err();
        assert!(matches!(error, Error::Problems(_)), "{name}");
        let text = error.to_string();
        assert!(!text.contains("did you mean") || !text.contains("concession"), "{text}");
    }
    let all = ["route.region", "booking.fare", "booking.route", "calendar", "booking"];
    for name in all {
        let uses = view.uses(name).unwrap();
        for used in &uses.used_by {
            assert!(used.line.is_none() && used.column.is_none(), "{used:?}");
            for hidden in ["concession", "revenue", "highest", "net", "north", "dear"] {
                assert!(!used.text.contains(hidden) && !used.name.contains(hidden), "{name}: {used:?}");
            }
        }
    }
    let text = format!("{:?}", view.unused());
    assert!(!text.contains("concession") && !text.contains("revenue"), "{text}");
    assert!(model.as_user::<&str>(&[], None).unwrap().unused().unused.is_empty());
}
