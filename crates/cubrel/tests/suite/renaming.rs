//! Names changed everywhere at once, parts taken out, changes taken back: nothing else moves, and no number does.

use std::collections::BTreeMap;
use std::path::Path;

use crate::common::{Random, shown};
use cubrel::{EditOptions, Model, ModelEdit, Silent};
use tempfile::TempDir;

/// A model file with a mark wherever a name stands: `‹K:…›` a key, `‹F:…›` in a formula, `‹D:…›` behind a point, `‹P:…›` and
/// `‹C:…›` the table and column of a path, `‹B:…›` by itself. Texts stand between `⟦` and `⟧`.
const TEMPLATE: &str = "# a model
[table.‹K:booking›]  # what was sold
source = \"booking.csv\"
key = ⟦‹B:ref›⟧
where = ⟦‹F:fare› > 0 and ‹F:booking›.‹D:fare› < 900⟧

[ table.‹K:booking›.column.‹K:net› ]
formula = ⟦‹F:fare› - 1 + coalesce(‹F:booking›.‹D:fare›, 0)⟧ # twice
display_order = ⟦‹B:ref›⟧
# about the second
[table.‹K:booking›.column]
‹K:double›.formula = ⟦2 * ‹F:net› + 0 * ‹F:route›.‹D:miles›⟧
‹K:double›.hidden = true

[table.‹K:route›]
source = 'route.csv'
column.‹K:miles› = { hidden = true , label = 'Miles' }
[table.‹K:route›.hierarchy.‹K:place›]
levels = [ ⟦‹B:region›⟧,
  ⟦‹B:id›⟧ ]

[table.‹K:other_route›]
same_as = ⟦‹B:route›⟧

[[relationship]]
many = ⟦‹P:booking›.‹C:route_id›⟧
one = ⟦‹P:route›.‹C:id›⟧
[[relationship]]
many = [⟦‹P:booking›.‹C:other_id›⟧]
one = [ ⟦‹P:other_route›.‹C:id›⟧ ]

[measure.‹K:revenue›]
formula = ⟦sum(‹F:booking›.‹D:net›) + 0 * sum(‹F:booking›.‹D:double› per ‹F:booking› where ‹F:booking›.‹D:fare› > 1)⟧
label = 'Revenue' # net
[measure]
‹K:share› = { formula = ⟦‹F:revenue› / ‹F:revenue› given (without (‹F:route›, ‹F:other_route›.‹D:region›))⟧, format = '0.0%' }
‹K:best› = { formula = ⟦let x = max(‹F:revenue› per ‹F:place›); x + rows(‹F:booking›) given (‹F:booking› where ‹F:booking›.‹D:fare› > 1)⟧ }

[lens.‹K:way›.reading.all]
formula = ⟦shown given (without ‹F:route›.‹D:region›)⟧

[role.‹K:north›]
rows.‹K:route› = ⟦‹F:region› = 'N' or ‹F:route›.‹D:id› = 'r2'⟧
deny = [⟦‹B:best›⟧, ⟦‹P:booking›.‹C:double›⟧]

[shortlist.‹K:front›]
list = [⟦‹B:revenue›⟧, ⟦‹P:booking›.‹C:fare›⟧, ⟦‹B:place›⟧, ⟦‹B:way›⟧, ⟦‹B:route›⟧]

[query.‹K:saved›]
text = ⟦grid ‹F:revenue›, ‹F:share› as ‹F:heading› by ‹F:place› split by ‹F:other_route›.‹D:region›, ‹F:way› totals⟧
[query.‹K:listed›]
text = ⟦records ‹F:booking›.‹D:ref›, ‹F:booking›.‹D:net›, ‹F:route›.‹D:region› order by ‹F:booking›.‹D:ref›⟧
[query.‹K:cells›]
text = ⟦measure own = 2 * ‹F:best›; grid own, ‹F:revenue› by ‹F:route›.‹D:place› having ‹F:revenue› > 0 order by ‹F:revenue› desc limit 3 within ‹F:route›.‹D:region›⟧

[[expect]]
query = ⟦‹B:saved›⟧
min_rows = 1
[[expect]]
same = [⟦‹F:revenue›⟧, ⟦sum(‹F:booking›.‹D:net›)⟧]
by = [⟦‹F:route›.‹D:region›⟧]
";

/// Names that can be given to anything.
const NAMES: &[&str] = &[
    "plain",
    "Netto_1",
    "of tax",
    "Preis €",
    "my.col",
    "ünit",
    "a\"b",
    "1st",
    "it's",
    "x-y",
    "日本",
    "tail ",
    "sales",
];

/// What is named in the template, with the name that it is renamed by.
const PARTS: &[(&str, &str)] = &[
    ("booking", "table."),
    ("route", "table."),
    ("other_route", "table."),
    ("ref", "booking"),
    ("fare", "booking"),
    ("net", "booking"),
    ("double", "booking"),
    ("route_id", "booking"),
    ("miles", "route"),
    ("region", "route"),
    ("id", "route"),
    ("place", "hierarchy."),
    ("revenue", "measure."),
    ("share", "measure."),
    ("best", "measure."),
    ("way", "lens."),
    ("north", "role."),
    ("front", "shortlist."),
    ("saved", "query."),
    ("listed", "query."),
];

type Names = BTreeMap<String, String>;

fn is_plain(name: &str) -> bool {
    let starts = name.starts_with(|c: char| c.is_alphabetic() || c == '_');
    starts && name.chars().all(|c| c.is_alphanumeric() || c == '_')
}

fn doubled(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A name as a place of this kind has it; sometimes in quotes that it does not need.
fn name_at(form: char, name: &str, quotes: bool, r: &mut Random) -> String {
    let extra = quotes && r.chance(10);
    match form {
        'K' if name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-') && !extra => name.to_string(),
        'K' if !name.contains('\'') && extra => format!("'{name}'"),
        'K' => format!("\"{}\"", name.replace('\\', "\\\\").replace('"', "\\\"")),
        'F' | 'D' if is_plain(name) && !extra => name.to_string(),
        'F' | 'D' => doubled(name),
        'P' if name.contains('.') || name.trim() != name || extra => doubled(name),
        'C' if name.trim() != name || extra => doubled(name),
        _ => name.to_string(),
    }
}

/// A text in one of TOML's quotes that can hold it.
fn literal(text: &str, r: &mut Random) -> String {
    let basic = format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
    match r.below(4) {
        0 if !text.contains('\'') => format!("'{text}'"),
        1 if !text.contains("'''") && !text.ends_with('\'') => format!("'''\n{text}'''"),
        2 => format!("\"\"\"{}\"\"\"", text.replace('\\', "\\\\").replace('"', "\\\"")),
        _ => basic,
    }
}

fn model_text(names: &Names, quotes: bool, r: &mut Random) -> String {
    let mut text = String::new();
    let mut inside: Option<String> = None;
    let mut rest = TEMPLATE;
    while let Some(c) = rest.chars().next() {
        let mut taken = c.len_utf8();
        let mut piece = c.to_string();
        match c {
            '‹' => {
                let end = rest.find('›').unwrap();
                let (form, name) = rest[taken..end].split_once(':').unwrap();
                let named = names.get(name).map_or(name, String::as_str);
                piece = name_at(form.chars().next().unwrap(), named, quotes, r);
                taken = end + '›'.len_utf8();
            }
            '⟦' => {
                inside = Some(String::new());
                piece.clear();
            }
            '⟧' => piece = literal(&inside.take().unwrap(), r),
            _ => {}
        }
        inside.as_mut().unwrap_or(&mut text).push_str(&piece);
        rest = &rest[taken..];
    }
    if r.chance(30) { text.replace('\n', "\r\n") } else { text }
}

fn folder(names: &Names, quotes: bool, r: &mut Random) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let name = |own: &str| doubled(names.get(own).map_or(own, String::as_str).trim());
    let header = |own: &[&str]| own.iter().map(|n| name(n)).collect::<Vec<_>>().join(",");
    let bookings = header(&["ref", "fare", "route_id", "other_id"]);
    let routes = header(&["id", "region", "miles"]);
    let write = |file: &str, text: String| std::fs::write(folder.path().join(file), text).unwrap();
    write("booking.csv", format!("{bookings}\n1,10,r1,r2\n2,4,r2,r1\n3,8,r1,r1\n4,7,r9,r2\n"));
    write("route.csv", format!("{routes}\nr1,N,12\nr2,S,4\n"));
    write("model.toml", model_text(names, quotes, r));
    folder
}

fn text(folder: &Path) -> String {
    std::fs::read_to_string(folder.join("model.toml")).unwrap()
}

fn answers(folder: &Path) -> Vec<Vec<String>> {
    let model = Model::open(folder).unwrap_or_else(|e| panic!("{e}\n{}", text(folder)));
    let queries = model.catalog().queries;
    queries
        .iter()
        .map(|q| shown(&model.query(&q.text).and_then(|q| q.run()).unwrap_or_else(|e| panic!("{e}\n{}", q.text))))
        .collect()
}

fn rename(folder: &Path, old: &str, new: &str) -> ModelEdit {
    Model::rename(folder, old, new, &EditOptions::default(), &Silent)
        .unwrap_or_else(|e| panic!("{old} to {new}: {e}\n{}", text(folder)))
}

/// How a part is called on the command line.
fn long_name(names: &Names, (part, kind): (&str, &str)) -> String {
    let name = |own: &str| names.get(own).cloned().unwrap_or(own.to_string());
    if kind.ends_with('.') {
        let own = name(part);
        let quoted =
            if matches!(kind, "query." | "role." | "shortlist.") || is_plain(&own) { own } else { doubled(&own) };
        return format!("{kind}{quoted}");
    }
    let quoted = |own: String| if is_plain(&own) { own } else { doubled(&own) };
    format!("{}.{}", quoted(name(kind)), quoted(name(part)))
}

#[test]
fn renames_there_and_back_leave_every_byte_and_every_number() {
    let (mut done, mut refused) = (0, 0);
    for seed in 0..120 {
        let r = &mut Random(seed);
        let mut names = Names::new();
        let mut free: Vec<&str> = NAMES.iter().filter(|n| n.trim() == **n).copied().collect();
        for _ in 0..r.below(4) {
            let (part, kind) = PARTS[r.below(PARTS.len() as u64) as usize];
            // A column of a file whose name is trimmed is another one.
            let name = free.swap_remove(r.below(free.len() as u64) as usize);
            if kind != "role." {
                names.insert(part.to_string(), name.to_string());
            }
        }
        let new_name = NAMES[r.below(NAMES.len() as u64) as usize].trim();
        // Quotes that are not needed cannot be told from those that a name on the way has needed.
        let folder = folder(&names, is_plain(new_name) && new_name.is_ascii(), r);
        let (before, numbers) = (text(folder.path()), answers(folder.path()));
        let part = PARTS[r.below(PARTS.len() as u64) as usize];
        let old_name = names.get(part.0).cloned().unwrap_or(part.0.to_string());
        let edit = rename(folder.path(), &long_name(&names, part), new_name);
        if !edit.refused.is_empty() {
            assert!(!edit.written);
            assert_eq!(text(folder.path()), before, "{seed}: nothing is written");
            refused += 1;
            continue;
        }
        done += 1;
        assert!(edit.written && edit.proved > 0, "{seed}: {edit:?}");
        assert_eq!(answers(folder.path()), numbers, "{seed}: {} to {new_name}\n{}", part.0, text(folder.path()));
        let model = Model::open(folder.path()).unwrap();
        assert!(model.wrong_measures().is_empty(), "{seed}: {:?}", model.wrong_measures());
        let mut now = names.clone();
        now.insert(part.0.to_string(), new_name.to_string());
        let back = rename(folder.path(), &long_name(&now, part), &old_name);
        assert!(back.written, "{seed}: {} to {new_name} and back: {:?}\n{}", part.0, back.refused, text(folder.path()));
        // Quotes that cannot hold a name are others afterwards.
        if !new_name.contains('\'') {
            assert_eq!(text(folder.path()), before, "{seed}: {} to {new_name} and back", part.0);
        }
        assert_eq!(answers(folder.path()), numbers, "{seed}");
    }
    assert!(done > 60 && refused > 0, "{done} {refused}");
}

/// A model that is changed, with the lines that change.
fn changed(model: &str, old: &str, new: &str) -> Result<Vec<(String, String)>, Vec<String>> {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("model.toml"), model).unwrap();
    std::fs::write(folder.path().join("a.csv"), "x,y,z\n1,2,k\n3,4,l\n").unwrap();
    std::fs::write(folder.path().join("b.csv"), "k,v\nk,1\nl,2\n").unwrap();
    let edit = rename(folder.path(), old, new);
    assert_eq!(text(folder.path()) != model, edit.written);
    if !edit.refused.is_empty() {
        return Err(edit.refused.iter().map(|r| format!("{}: {}", r.name, r.why)).collect());
    }
    let text = |line: &Option<String>| line.clone().unwrap_or_default();
    Ok(edit.changed.iter().map(|l| (text(&l.before), text(&l.after))).collect())
}

const SMALL: &str = "[table.a]
source = 'a.csv'
[table.a.column.both]
formula = 'x + y'
[table.a.column.bound]
formula = 'let w = 5; x + w'
[table.b]
source = 'b.csv'
[[relationship]]
many = 'a.z'
one = 'b.k'
[measure.m]
formula = 'sum(a.both)'
[measure.n]
formula = 'sum(m per b)'
[table.made]
query = 'grid m, n as other by b.k'
[query.q]
text = 'grid m by b.v'
";

#[test]
fn a_rename_that_breaks_or_changes_a_meaning_is_refused_with_the_list() {
    for (old, new, expected) in [
        ("a.x", "y", "a.y: this column has the name already"),
        ("m", "b", "b: this table has the name already"),
        ("b", "n", "n: this measure has the name already"),
        ("a.x", "w", "a.bound: it would no longer name column a.w"),
        ("m", "both", "made: a column of table `made` is called after it"),
        ("b.k", "key", "made: a column of table `made` is called after it"),
        ("made.k", "key", "made.k: its table's query gives it its name"),
        ("a.z -> b.k", "z", "a relationship is called after its columns"),
    ] {
        let refused = changed(SMALL, old, new);
        let refused = refused.expect_err(&format!("{old} to {new}"));
        assert!(refused.iter().any(|r| r.contains(expected)), "{old} to {new}: {refused:?}");
    }
    // A measure that is called like a column whose formula names that.
    let text = SMALL
        .replace("[query.q]", "[table.a.column.more]\nformula = 'x + n'\n[query.q]")
        .replace("formula = 'x + y'", "formula = '2 * y'");
    let refused = changed(&text, "n", "x").unwrap_err();
    assert!(refused.iter().any(|r| r.contains("`x` is both a column of this table and a measure")), "{refused:?}");
}

#[test]
fn names_that_cannot_be_given_are_errors() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("model.toml"), SMALL).unwrap();
    std::fs::write(folder.path().join("a.csv"), "x,y,z\n1,2,k\n").unwrap();
    std::fs::write(folder.path().join("b.csv"), "k,v\nk,1\n").unwrap();
    for (old, new, expected) in [
        ("m", "", "at least one character"),
        ("m", "a\nb", "none that cannot be seen"),
        ("m", "where", "`where` is a word of the language"),
        ("a.x", "sum", "`sum` is a word of the language"),
        ("a.x", "b.x", "a column stays in its table"),
        ("nothing", "x", "nothing of this model is called `nothing`"),
    ] {
        let error = Model::rename(folder.path(), old, new, &EditOptions::default(), &Silent).unwrap_err().to_string();
        assert!(error.contains(expected), "{old} to {new}: {error}");
    }
    assert_eq!(text(folder.path()), SMALL);
}

#[test]
fn columns_of_files_keep_their_name_there() {
    let changes = changed(SMALL, "a.x", "a.width").unwrap();
    let after: Vec<&str> = changes.iter().map(|(_, after)| after.as_str()).collect();
    assert_eq!(
        after,
        [
            "formula = 'width + y'",
            "formula = 'let w = 5; width + w'",
            "",
            "[table.a.column.width]",
            "source_name = \"x\""
        ]
    );
}

#[test]
fn changes_are_taken_back_one_after_the_other_unless_somebody_wrote_since() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("model.toml");
    std::fs::write(&path, SMALL).unwrap();
    std::fs::write(folder.path().join("a.csv"), "x,y,z\n1,2,k\n").unwrap();
    std::fs::write(folder.path().join("b.csv"), "k,v\nk,1\n").unwrap();
    let options = EditOptions::default();
    let mut states = vec![SMALL.to_string()];
    for (old, new) in [("q", "asked"), ("b.v", "value"), ("a.both", "all")] {
        // `all` is a word.
        let new = if new == "all" { "everything" } else { new };
        let old = if old == "q" { "query.q" } else { old };
        assert!(rename(folder.path(), old, new).written, "{old}");
        states.push(text(folder.path()));
    }
    let dry = Model::undo(folder.path(), &EditOptions { dry_run: true, ..options.clone() }).unwrap();
    assert!(!dry.written && text(folder.path()) == states[3]);
    assert!(Model::undo(folder.path(), &options).unwrap().written);
    assert_eq!(text(folder.path()), states[2]);
    // Somebody edits.
    std::fs::write(&path, states[2].replace("'x + y'", "'x - y'")).unwrap();
    let refused = Model::undo(folder.path(), &options).unwrap();
    assert!(
        !refused.written && refused.refused[0].why.contains("`formula = 'x + y'` is `formula = 'x - y'` now"),
        "{refused:?}"
    );
    std::fs::write(&path, &states[2]).unwrap();
    for state in [&states[1], &states[0]] {
        assert!(Model::undo(folder.path(), &options).unwrap().written);
        assert_eq!(&text(folder.path()), state);
    }
    let error = Model::undo(folder.path(), &options).unwrap_err().to_string();
    assert!(error.contains("there is no change to take back"), "{error}");
}

#[test]
fn only_what_nothing_uses_is_removed_and_a_column_of_a_file_is_left_out() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("model.toml");
    let fresh = |text: &str| {
        std::fs::write(&path, text).unwrap();
        std::fs::write(folder.path().join("a.csv"), "x,y,z\n1,2,k\n").unwrap();
        std::fs::write(folder.path().join("b.csv"), "k,v\nk,1\n").unwrap();
    };
    let remove = |name: &str| Model::remove(folder.path(), name, &EditOptions::default(), &Silent).unwrap();
    fresh(SMALL);
    for (name, against) in [
        ("m", &["made", "n", "q"][..]),
        ("a.x", &["a.both", "a.bound"]),
        ("b", &["a.z → b.k", "made", "n", "q"]),
        ("b.v", &["q"]),
        ("made.k", &["made.k"]),
    ] {
        let refused = remove(name);
        assert!(!refused.written, "{name}");
        let names: Vec<&str> = refused.refused.iter().map(|r| r.name.as_str()).collect();
        assert!(against.iter().all(|a| names.contains(a)), "{name}: {names:?}");
        assert_eq!(text(folder.path()), SMALL);
    }
    for (name, gone) in [
        ("a.bound", "[table.a.column.bound]\nformula = 'let w = 5; x + w'\n"),
        ("query.q", "[query.q]\ntext = 'grid m by b.v'\n"),
        ("made", "[table.made]\nquery = 'grid m, n as other by b.k'\n"),
    ] {
        fresh(SMALL);
        let edit = remove(name);
        assert!(edit.written, "{name}: {edit:?}");
        assert_eq!(text(folder.path()), SMALL.replace(gone, ""), "{name}");
        Model::open(folder.path()).unwrap();
        assert!(Model::undo(folder.path(), &EditOptions::default()).unwrap().written);
        assert_eq!(text(folder.path()), SMALL);
    }
    fresh(&SMALL.replace("text = 'grid m by b.v'", "text = 'grid m'"));
    assert!(remove("b.v").written);
    assert!(text(folder.path()).contains("[table.b.column.v]\nkeep = false\n"), "{}", text(folder.path()));
    let model = Model::open(folder.path()).unwrap();
    assert!(model.query("grid min(b.v)").is_err());
}

#[test]
fn relationships_that_are_left_mean_what_they_meant() {
    let folder = tempfile::tempdir().unwrap();
    let text_of = "[table.a]\nsource = 'a.csv'\n[table.b]\nsource = 'b.csv'\n[[relationship]]\nmany = 'a.x'\none = 'b.v'\nspare = true\n# the one that counts\n[[relationship]]\nmany = 'a.z'\none = 'b.k'\n[query.q]\ntext = 'grid sum(a.x) by b.v'\n";
    std::fs::write(folder.path().join("model.toml"), text_of).unwrap();
    std::fs::write(folder.path().join("a.csv"), "x,y,z\n1,2,k\n2,2,l\n").unwrap();
    std::fs::write(folder.path().join("b.csv"), "k,v\nk,1\nl,2\n").unwrap();
    let remove = |name: &str| Model::remove(folder.path(), name, &EditOptions::default(), &Silent).unwrap();
    let refused = remove("a.z → b.k");
    assert_eq!(refused.refused.iter().map(|r| r.name.as_str()).collect::<Vec<_>>(), ["q"]);
    assert!(remove("a.x → b.v").written);
    let expected = text_of.replace("[[relationship]]\nmany = 'a.x'\none = 'b.v'\nspare = true\n", "");
    assert_eq!(text(folder.path()), expected);
}

#[test]
fn nothing_is_written_where_the_file_cannot_be_or_was_changed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("model.toml");
    std::fs::write(&path, SMALL).unwrap();
    std::fs::write(folder.path().join("a.csv"), "x,y,z\n1,2,k\n").unwrap();
    std::fs::write(folder.path().join("b.csv"), "k,v\nk,1\n").unwrap();
    Model::open(folder.path()).unwrap();
    let mut permissions = std::fs::metadata(&path).unwrap().permissions();
    permissions.set_readonly(true);
    std::fs::set_permissions(&path, permissions.clone()).unwrap();
    let error = Model::rename(folder.path(), "a.both", "total", &EditOptions::default(), &Silent).unwrap_err();
    assert!(error.to_string().contains("it can only be read"), "{error}");
    assert_eq!(text(folder.path()), SMALL);
    let error = Model::undo(folder.path(), &EditOptions::default()).unwrap_err().to_string();
    assert!(error.contains("there is no change to take back"), "{error}");
}
