//! The text of a model's file while it is written: held against what the same text makes once it is there.

use std::ops::Range;
use std::path::Path;

use cubrel::{
    Completion, Diagnostic, EditOptions, Error, Model, ModelText, PartKind, RefreshOptions, Severity, Silent,
};

use crate::uses::{MODEL, folder};

fn read(folder: &Path, text: &str, loaded: Option<&Model>) -> ModelText {
    ModelText::read(folder, "model.toml", text, loaded, None)
}

/// A text without its mark, and where that stood.
fn marked(text: &str) -> (String, usize) {
    (text.replacen('|', "", 1), text.find('|').unwrap())
}

fn texts(all: &[Completion]) -> Vec<&str> {
    all.iter().map(|c| c.text.as_str()).collect()
}

#[test]
fn what_can_be_written_is_offered_wherever_it_can() {
    let folder = folder(MODEL);
    let loaded = Model::open(folder.path()).unwrap();
    for (written, expected) in [
        // Formulas, in each kind of quotes, closed or not.
        ("[measure.x]\nformula = \"sum(booking.n|\"", &["net", "concession"][..]),
        ("[measure.x]\nformula = 'sum(booking.n|", &["net", "concession"]),
        ("[measure.x]\nformula = \"\"\"\n  high|\n\"\"\"", &["highest"]),
        ("[measure.x]\nformula = '''high|", &["highest"]),
        ("[measure.x]\nformula = \"sum(\\\"booking\\\".\\\"ne|", &["net"]),
        ("[measure]\nx = { formula = \"high|\" }", &["highest"]),
        ("[measure]\nx.formula = \"high|\"", &["highest"]),
        // The columns of the own table come first, without it.
        ("[table.booking.column.x]\nformula = \"ne|\"", &["net", "booking.net"]),
        ("[role.x]\nrows.route = \"re|\"", &["region", "revenue"]),
        ("[lens.x.reading.y]\nformula = \"sh|\"", &["shown", "shadowed", "shift"]),
        // Queries, and names of saved ones where these can stand.
        ("[query.x]\ntext = \"grid revenue by pla|\"", &["place"]),
        ("[[expect]]\nquery = \"by_|\"", &["by_place", "by_booking"]),
        // Names by themselves.
        ("[table.booking.column.fare]\ndisplay_order = \"fa|\"", &["fare"]),
        ("[table.route.hierarchy.x]\nlevels = [\"region\", \"i|\"]", &["id", "region"]),
        ("[[relationship]]\nmany = \"booking.cl|\"", &["booking.class"]),
        ("[[relationship]]\nmany = [\"booking.class\", \"booking.bo|\"]", &["booking.booked"]),
        ("[table.x]\nsame_as = \"cal|\"", &["calendar"]),
        ("[lens.x]\nwraps = [\"per|\"]", &["period"]),
        ("[shortlist.x]\nlist = [\"pla|\"]", &["place"]),
        ("[measure.x]\nallow = [\"un|\"]", &["unused"]),
        // Keys, and what they can be.
        ("[measure.x]\nfor|", &["format", "formula"]),
        ("[measure.x]\nformula = '1'\nfor|", &["format"]),
        ("[table.booking.column]\nfare.lab|", &["label"]),
        ("[table.booking.column]\nfa|", &["fare"]),
        ("[role.x.rows]\nro|", &["route", "top_route"]),
        ("[role.x]\nrows = { ro|", &["route", "top_route"]),
        ("[role.x]\nrows = { booking = 'net > 1', rou|", &["route", "top_route"]),
        ("[role.x]\nrows = { booking = 'ne|", &["net", "booking.net"]),
        ("[table.booking]\ncolumn.fare = { lab|", &["label"]),
        ("[table.booking]\ncolumn = { fare = { hid|", &["hidden"]),
        ("[table.booking]\ncolumn = { fare = { hidden = t|", &["true"]),
        ("[table.x]\ngenerate = { fr|", &["from"]),
        ("[table.x]\ngenerate = { from = '2026-01-01', to = '2026-12-31' }|", &[]),
        ("[[expect]]\nrows = [{ |", &[]),
        ("[measure.x]\nhidden = |", &["true", "false"]),
        ("[[relationship]]\nmatch = |", &["\"exact\"", "\"at_or_before\""]),
        ("[[relationship]]\nmatch = \"at|\"", &["at_or_before"]),
        // Headers.
        ("[me|", &["measure"]),
        ("[table.bo|", &["booking", "booked"]),
        ("[table.booking.col|", &["column"]),
        ("[table.booking.column.pass|", &["passengers"]),
        ("[[ex|", &["expect"]),
        // Nowhere.
        ("[measure.x]\nformula = \"'net|'\"", &[]),
        ("[measure.x]\n# form|", &[]),
        ("[measure.x]\nformula = '1' # for|", &[]),
        ("[measure.x]\nnote = \"reve|\"", &[]),
        ("[table.route.hierarchy.x]\nlevels = [\n  |\n]", &[]),
        ("[measure.x]|", &[]),
    ] {
        let (text, at) = marked(&format!("{MODEL}\n{written}"));
        // What is not closed must not take what comes before it away.
        let before = read(folder.path(), MODEL, Some(&loaded));
        let found = ModelText::read(folder.path(), "model.toml", &text, Some(&loaded), Some(&before)).completions(at);
        let shown = texts(&found);
        let places: Vec<Option<usize>> = expected.iter().map(|e| shown.iter().position(|t| t == e)).collect();
        assert!(places.iter().all(Option::is_some) && places.is_sorted(), "{written}: {shown:?}");
        assert!(!expected.is_empty() || shown.is_empty(), "{written}: {shown:?}");
        assert!(found.iter().all(|c| c.replaces.end == at), "{written}");
    }
}

#[test]
fn a_name_is_offered_as_the_quotes_around_it_ask_for() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("stop.csv"), "id,on day,of \"x\" sort\n1,2,3\n").unwrap();
    let model = "[table.stop]\nsource = 'stop.csv'\n";
    std::fs::write(folder.path().join("model.toml"), model).unwrap();
    let loaded = Model::open(folder.path()).unwrap();
    for (quotes, expected) in [
        ("\"", [r#"\"on day\""#, r#"\"of \"\"x\"\" sort\""#]),
        ("'", ["\"on day\"", "\"of \"\"x\"\" sort\""]),
        ("\"\"\"", ["\"on day\"", "\"of \"\"x\"\" sort\""]),
    ] {
        for (typed, expected) in ["on", "of"].into_iter().zip(expected) {
            let start = format!("{model}[measure.x]\nformula = {quotes}sum(stop.");
            let text = format!("{start}{typed}{quotes}");
            let at = start.len() + typed.len();
            let found = read(folder.path(), &text, Some(&loaded)).completions(at);
            assert_eq!(found.first().map(|c| (c.text.as_str(), c.replaces.clone())), Some((expected, start.len()..at)));
            // What is taken makes a formula.
            let mut taken = text.clone();
            taken.replace_range(found[0].replaces.clone(), &found[0].text);
            taken.insert(start.len() + found[0].text.len(), ')');
            let problems = errors(read(folder.path(), &taken, Some(&loaded)).problems());
            assert!(problems.is_empty(), "{taken}: {problems:?}");
        }
    }
}

/// The kind and the name of each part of the example that its file defines.
fn defined(text: &ModelText) -> Vec<(PartKind, String, Range<usize>)> {
    let full = |e: &cubrel::OutlineEntry| match &e.table {
        Some(table) => format!("{table}.{}", e.name),
        None => e.name.clone(),
    };
    text.outline().iter().map(|e| (e.kind, full(e), e.name_span.clone())).collect()
}

#[test]
fn whatever_is_named_is_found_from_wherever_it_is_named() {
    let folder = folder(MODEL);
    let loaded = Model::open(folder.path()).unwrap();
    let text = read(folder.path(), MODEL, Some(&loaded));
    let mut seen = 0;
    for (kind, name, span) in defined(&text) {
        if matches!(kind, PartKind::Relationship | PartKind::Expectation) {
            continue;
        }
        let named = text.named_at(span.start).unwrap();
        assert_eq!((named.kind, &named.name, named.span.clone()), (kind, &name, span.clone()));
        let places = text.places_of(&named);
        assert!(places.contains(&span), "{name}");
        let definition = text.definition(&named).unwrap();
        assert!(definition.start <= span.start, "{name}");
        for place in places {
            let again = text.named_at(place.start).unwrap();
            assert_eq!((again.kind, &again.name), (kind, &name), "at {}", &MODEL[place.start..]);
            assert_eq!(text.definition(&again), Some(definition.clone()));
            seen += 1;
            // What is written there is the beginning of something that could be; keys are there, and not offered again.
            let begins = |c: &Completion| c.text.starts_with(&MODEL[c.replaces.start..place.end]);
            let is_key = MODEL[place.end..].trim_start_matches(['"', '.']).starts_with([']', '=']);
            let found = text.completions(place.end);
            let is_header = MODEL[..place.start].rsplit('\n').next().unwrap().starts_with('[');
            assert!(is_key || is_header || found.iter().any(begins), "{name} at {}", &MODEL[place.start..]);
        }
        let about = text.about(span.start).map(|(about, _)| about);
        assert!(about.is_some_and(|about| !about.is_empty()), "{name}");
    }
    assert!(seen > 60, "{seen} places");
}

#[test]
fn a_new_name_changes_the_text_as_it_changes_the_file() {
    let folder = folder(MODEL);
    let loaded = Model::open(folder.path()).unwrap();
    let text = read(folder.path(), MODEL, Some(&loaded));
    let options = EditOptions { dry_run: true, ..EditOptions::default() };
    let mut changed = 0;
    for (kind, name, span) in defined(&text) {
        if matches!(kind, PartKind::Relationship | PartKind::Expectation) {
            continue;
        }
        let named = text.named_at(span.start).unwrap();
        let full = if kind == PartKind::Hierarchy { name.split('.').next_back().unwrap().to_string() } else { name };
        for new in ["new_name", "a new \"one\"", "grid", "revenue"] {
            let here = text.renamed(&named, new);
            let there = Model::rename(folder.path(), &format!("{}.{full}", kind.name()), new, &options, &Silent)
                .or_else(|_| Model::rename(folder.path(), &full, new, &options, &Silent));
            match (here, there) {
                (Ok(here), Ok(there)) => {
                    assert_eq!((&here.after, &here.refused), (&there.after, &there.refused), "{full} to {new}");
                    changed += usize::from(here.refused.is_empty());
                    assert!(!here.written);
                }
                (Err(here), Err(there)) => assert_eq!(here.to_string(), there.to_string(), "{full} to {new}"),
                (here, there) => panic!("{full} to {new}: {here:?}\n{there:?}"),
            }
        }
    }
    assert!(changed > 30, "{changed} changes");
    assert_eq!(std::fs::read_to_string(folder.path().join("model.toml")).unwrap(), MODEL, "nothing is written");
}

fn errors(problems: &[Diagnostic]) -> Vec<String> {
    let mut all: Vec<String> =
        problems.iter().filter(|p| p.severity == Severity::Error).map(ToString::to_string).collect();
    all.sort();
    all.dedup();
    all
}

#[test]
fn what_is_wrong_is_what_would_be_wrong_with_the_file() {
    let folder = folder(MODEL);
    let loaded = Model::open(folder.path()).unwrap();
    let mut wrong = 0;
    for (old, new) in [
        ("", ""),
        ("sum(booking.net)\"\n[measure.by", "sum(booking.nett)\"\n[measure.by"),
        ("max(top_route.revenue)", "max(top_route.revenu)"),
        ("formula = \"max(", "formula = \"max("),
        ("max(top_route.revenue)", "max(top_route."),
        ("\"max(top_route.revenue)\"", "\"max(top_route.revenue)"),
        ("\"max(top_route.revenue)\"", "\"highest + 1\""),
        ("fare - concession", "fare - 'x'"),
        ("fare - concession", "fare - dear"),
        ("many = \"booking.route\"", "many = \"booking.routes\""),
        ("one = \"route.id\"", "one = \"rout.id\""),
        ("label", "lable"),
        ("wraps = [\"period\"]", "wraps = [\"periods\"]"),
        ("levels = [\"region\", \"id\"]", "levels = [\"regions\", \"id\"]"),
        ("where = \"booking.passengers > 1\"", "where = \"booking.passenger > 1\""),
        ("list = [\"booking.passengers\"", "list = [\"booking.passenger\""),
        ("text = \"grid revenue, highest by place", "text = \"grid revenue, highest by plac"),
        ("deny = [\"booking.concession\", ", "deny = [\"booking.concessions\", "),
        ("rows.route = \"region = 'N'", "rows.route = \"region = 1"),
        ("spare = true", "spar = true"),
        ("spare = true\n", ""),
        ("query = \"by_place\"", "query = \"by_places\""),
        ("[measure.highest]", "[measure.revenue]"),
        ("by route.id limit 1", "by route.id limit x"),
    ] {
        let text = MODEL.replacen(old, new, 1);
        let here = read(folder.path(), &text, Some(&loaded));
        let there = Model::open_text(folder.path(), "model.toml", &text, &RefreshOptions::default(), &Silent);
        let there = match there {
            Ok(model) => errors(&model.check()),
            Err(Error::Problems(problems)) => errors(&problems),
            Err(other) => panic!("{new}: {other}"),
        };
        assert_eq!(errors(here.problems()), there, "{old} → {new}");
        wrong += usize::from(!there.is_empty());
        // The store is there, too, for whoever has loaded nothing.
        assert_eq!(errors(read(folder.path(), &text, None).problems()), there, "{old} → {new}, from the store");
    }
    assert!(wrong > 15, "{wrong} texts were wrong");
    let untidy = read(folder.path(), &format!("{MODEL}\n[measure.idle]\nformula = '1'\n"), Some(&loaded));
    assert!(untidy.problems().iter().any(|p| p.hint == Some("unused")), "what is right and untidy is told");
    let unfinished = read(folder.path(), &format!("{MODEL}\n[measure.idle]\nformula = '1 +'\n"), Some(&loaded));
    assert!(unfinished.problems().iter().all(|p| p.hint.is_none()), "and not to someone who has not finished");
}

#[test]
fn what_was_meant_can_be_taken() {
    let folder = folder(MODEL);
    let loaded = Model::open(folder.path()).unwrap();
    for (old, new) in [
        ("sum(booking.net)\"\n[measure.by", "sum(booking.nett)\"\n[measure.by"),
        ("max(top_route.revenue)", "max(top_route.revenu)"),
        ("max(top_route", "maxi(top_route"),
        ("spare = true", "spar = true"),
        ("fare - concession", "fare - concesion"),
    ] {
        let wrong = MODEL.replacen(old, new, 1);
        let text = read(folder.path(), &wrong, Some(&loaded));
        let (meant, span) = text.problems().iter().find_map(|p| text.correction(p)).unwrap_or_else(|| panic!("{new}"));
        let mut mended = wrong.clone();
        mended.replace_range(span, &meant);
        let problems = errors(read(folder.path(), &mended, Some(&loaded)).problems());
        assert!(problems.is_empty(), "{new}, mended with {meant}: {problems:?}");
    }
}

#[test]
fn a_text_that_ends_anywhere_is_put_up_with() {
    let folder = folder(MODEL);
    let loaded = Model::open(folder.path()).unwrap();
    let text = MODEL.replace("'N'", "'Nörd'").replace("booking.route\"", "booking.\\\"route\\\"\"");
    let mut before: Option<ModelText> = None;
    for at in (0..=text.len()).step_by(5).filter(|at| text.is_char_boundary(*at)) {
        let read = ModelText::read(folder.path(), "model.toml", &text[..at], Some(&loaded), before.as_ref());
        for completion in read.completions(at) {
            let replaces = completion.replaces;
            assert!(replaces.end <= at && text.is_char_boundary(replaces.start), "{at}: {replaces:?}");
        }
        let spans = read.outline().into_iter().flat_map(|e| [e.span, e.name_span]);
        let spans = spans.chain(read.about(at).map(|(_, span)| span));
        let named = read.named_at(at);
        let spans = spans.chain(named.iter().flat_map(|named| read.places_of(named)));
        spans.for_each(|span| assert!(span.start <= span.end && span.end <= at, "{at}: {span:?}"));
        read.call_at(at);
        let pieces = read.lexemes();
        assert!(pieces.windows(2).all(|pair| pair[0].0.span.end <= pair[1].0.span.start), "{at}: {pieces:?}");
        before = Some(read);
    }
}

#[test]
fn the_outline_has_everything_once_and_in_its_place() {
    let folder = folder(MODEL);
    let text = read(folder.path(), MODEL, None);
    let all = text.outline();
    let of = |kind: PartKind| all.iter().filter(|e| e.kind == kind).map(|e| e.name.as_str()).collect::<Vec<_>>();
    assert_eq!(of(PartKind::Table), ["booking", "route", "fare_class", "calendar", "booked", "top_route"]);
    assert_eq!(of(PartKind::Column), ["net", "dear", "miles", "long"]);
    assert_eq!(of(PartKind::Hierarchy), ["place"]);
    assert_eq!(of(PartKind::Relationship).len(), 5);
    assert_eq!(of(PartKind::Relationship)[0], "booking.route → route.id");
    assert_eq!(of(PartKind::Lens), ["period", "change"]);
    assert_eq!(of(PartKind::Expectation)[1], "the same");
    assert!(all.is_sorted_by_key(|e| e.name_span.start));
    for entry in &all {
        let inside = entry.span.start <= entry.name_span.start && entry.name_span.end <= entry.span.end;
        assert!(inside, "{}: {:?} in {:?}", entry.name, entry.name_span, entry.span);
    }
    let net = all.iter().find(|e| e.name == "net").unwrap();
    assert_eq!(&MODEL[net.span.clone()], "[table.booking.column.net]\nformula = \"fare - concession\"");
    let inline = "[measure]\na = { formula = '1' }\nb.formula = '2'\n";
    let outline = read(folder.path(), inline, None).outline();
    let told: Vec<(&str, &str)> = outline.iter().map(|e| (e.name.as_str(), &inline[e.span.clone()])).collect();
    assert_eq!(told, [("a", "a = { formula = '1' }"), ("b", "b.formula = '2'")]);
}

#[test]
fn queries_beside_the_file_know_its_names() {
    let folder = folder(MODEL);
    let loaded = Model::open(folder.path()).unwrap();
    let text = read(folder.path(), MODEL, Some(&loaded));
    let query = "measure n = rows(booking);\ngrid n, revenue by route.region where booking.net > 1\n";
    assert!(text.problems_of_query("a query", query).is_empty());
    let named = |what: &str| text.named_in_query(query, query.find(what).unwrap() + 1);
    assert_eq!(named("revenue").unwrap().name, "revenue");
    assert_eq!(named("region").unwrap().name, "route.region");
    assert_eq!(named("n, "), None, "a measure of the query's own");
    let of_net = text.definition(&named("net").unwrap()).unwrap();
    assert_eq!(&MODEL[of_net], "net");
    assert!(text.about_in_query(query, query.find("rows").unwrap()).unwrap().0.starts_with("rows("));
    let wrong = text.problems_of_query("a query", "grid revenue by route.regio");
    assert_eq!(wrong[0].meant(), Some("route.region"));
    let (call, argument) = cubrel::call_at("grid if(revenue > 1, round(2), ", 31).unwrap();
    assert_eq!((call.name, argument), ("if", 2));
    assert_eq!(cubrel::call_at("grid ('round(', ", 16), None);
}

#[test]
fn what_the_store_has_is_known_from_text_to_text() {
    let folder = folder(MODEL);
    Model::open(folder.path()).unwrap();
    let mut before: Option<ModelText> = None;
    // Broken, whole, without a table, whole again: each is what it is by itself.
    let without = MODEL.replace("[measure.highest]\nformula = \"max(top_route.revenue)\"", "");
    for text in ["[table.booking", MODEL, &without, "[x", MODEL, &MODEL.replace("booking.net)", "booking.nett)")] {
        let alone = errors(read(folder.path(), text, None).problems());
        let after = ModelText::read(folder.path(), "model.toml", text, None, before.as_ref());
        assert_eq!(errors(after.problems()), alone, "{text}");
        assert!(before.is_none() || !after.catalog().tables.is_empty());
        before = Some(after);
    }
    let asks = MODEL
        .replace("source = \"route.csv\"", "source = [\"route.csv\", \"postgres://ann@host/ferries?table=route\"]");
    assert!(read(folder.path(), &asks, None).asks_servers() && !read(folder.path(), MODEL, None).asks_servers());
}

#[test]
fn a_model_that_was_never_loaded_is_read_as_far_as_it_can_be() {
    let folder = tempfile::tempdir().unwrap();
    let text = "[table.a]\nsource = 'a.csv'\n[measure.m]\nformula = 'sum('\n[measure.n]\nformula = 'n + 1'\nfo";
    let read = read(folder.path(), text.trim_end_matches("\nfo"), None);
    let found = errors(read.problems());
    assert!(
        found.iter().any(|p| p.contains("model.toml:4:")) && found.iter().any(|p| p.contains("n → n")),
        "{found:?}"
    );
    assert!(!folder.path().join(".cubrel").exists(), "nothing is written");
    let unfinished = ModelText::read(folder.path(), "model.toml", text, None, None);
    assert_eq!(texts(&unfinished.completions(text.len())), ["format"]);
}
