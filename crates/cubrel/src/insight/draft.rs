//! A first model from files: tables, keys, relationships with the evidence for them, a calendar, display orders, first
//! measures. What it writes is meant to be read and changed.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fmt::Write;
use std::path::{Path, PathBuf};

use crate::Error;
use crate::formula::check::Settings;
use crate::formula::source::{Diagnostic, Problem};
use crate::formula::words::quote_name;
use crate::load::dialect::DatePattern;
use crate::load::tables::{LoadedColumn, LoadedTable, Loader};
use crate::load::{NO_UTF8, Observer, bytes};
use crate::model::Document;
use crate::model::dependencies::Formulas;
use crate::model::file::{ColumnSection, CsvSection, ModelFile, TableSection};
use crate::store::Column;
use crate::value::{Type, Value, parse};

/// Kinds of files that are looked for in a folder.
const KINDS: &[&str] = &["csv", "tsv", "parquet", "arrow", "arrows", "jsonl", "ndjson", "db", "sqlite"];
/// How much of a column's values have to be keys of the other table.
const CONTAINED: f64 = 0.9;
/// Patterns of dates that are tried, the likelier ones first.
const DATE_PATTERNS: &[&str] = &[
    "dd/MM/yyyy",
    "MM/dd/yyyy",
    "dd.MM.yyyy",
    "dd-MM-yyyy",
    "yyyy/MM/dd",
    "dd/MM/yyyy HH:mm",
    "dd.MM.yyyy HH:mm",
    "d MMM yyyy",
];
/// Words for nothing.
const NOTHING: &[&str] = &["na", "n/a", "#n/a", "null", "nil", "none", "nan", "-", "--", "?", ".", "unknown"];
/// What text is mostly written in that is not UTF-8.
const ENCODING: &str = "windows-1252";
/// Values that a column is asked for when its dates are looked at.
const SAMPLE: usize = 2000;

/// A drafted model.
#[derive(Clone, Debug)]
pub struct Draft {
    /// The text of its `model.toml`.
    pub toml: String,
    /// What was found, for people.
    pub findings: Vec<String>,
}

/// A table on its way into the draft.
struct Table {
    name: String,
    section: TableSection,
    loaded: LoadedTable,
    notes: Vec<String>,
    key: Option<String>,
}

/// A relationship with the evidence for it.
struct Link {
    many: (usize, String),
    one: (usize, String),
    evidence: String,
    spare: bool,
    score: f64,
}

/// Drafts a model for a folder from files and folders of files.
///
/// # Errors
/// When no file can be read.
pub fn draft(into: &Path, inputs: &[PathBuf], observer: &dyn Observer) -> Result<Draft, Error> {
    let mut files = Vec::new();
    for input in inputs {
        collect(input, &mut files).map_err(|error| Error::Io { path: input.display().to_string(), error })?;
    }
    if files.is_empty() {
        let problem = Diagnostic::general(Problem::Data, "there are no files to draft a model from");
        return Err(Error::Problems(vec![
            problem.help(format!("name files, or a folder with files: {}", KINDS.join(", "))),
        ]));
    }
    let mut tables = Vec::new();
    let mut findings = Vec::new();
    for (name, source) in sources(into, &files) {
        match load(into, &name, &source, observer) {
            Ok(table) => tables.push(table),
            Err(e) => findings.push(format!("{source} is left out: {e}")),
        }
    }
    if tables.is_empty() {
        let message = format!("none of the files can be read:\n  {}", findings.join("\n  "));
        return Err(Error::Problems(vec![Diagnostic::general(Problem::Data, message)]));
    }
    let taken: Vec<String> = tables.iter().map(|t| t.name.clone()).collect();
    tables.iter_mut().for_each(|t| t.key = key_of(t));
    let links = links(&tables);
    for table in &tables {
        let kind = if is_one(&links, &tables, &table.name) { "describes others" } else { "is pointed at by none" };
        findings.push(format!(
            "{}: {} rows, {} columns; {kind}",
            table.name,
            table.loaded.rows,
            table.loaded.columns.len()
        ));
    }
    findings.extend(links.iter().map(|l| {
        let spare = if l.spare { ", spare" } else { "" };
        format!("{} points at {}{spare}: {}", place(&tables, &l.many), place(&tables, &l.one), l.evidence)
    }));
    let toml = write(into, &tables, &links, &taken);
    Ok(Draft { toml, findings })
}

fn collect(path: &Path, files: &mut Vec<PathBuf>) -> std::io::Result<()> {
    if !path.is_dir() {
        std::fs::metadata(path)?;
        files.push(path.to_path_buf());
        return Ok(());
    }
    let mut entries: Vec<PathBuf> = std::fs::read_dir(path)?.filter_map(|e| Some(e.ok()?.path())).collect();
    entries.sort();
    for entry in entries {
        let hidden = entry.file_name().is_some_and(|n| n.to_string_lossy().starts_with('.'));
        if entry.is_dir() && !hidden {
            collect(&entry, files)?;
        } else if KINDS.contains(&bytes::kind(&entry).as_str()) {
            files.push(entry);
        }
    }
    Ok(())
}

/// A file's name without folder, packing and extension.
fn stem(path: &Path) -> String {
    let name = path.file_name().map(|n| n.to_string_lossy().to_string()).unwrap_or_default();
    name.split('.').next().unwrap_or_default().to_string()
}

/// The stem without what tells the files of one table apart: years, months, numbers at its end.
fn base(stem: &str) -> &str {
    let cut = stem.trim_end_matches(|c: char| c.is_ascii_digit() || matches!(c, '-' | '_' | ' '));
    if cut.is_empty() { stem } else { cut }
}

/// A name that formulas can use without quotes.
fn table_name(text: &str) -> String {
    let plain: String = text.to_lowercase().chars().map(|c| if c.is_alphanumeric() { c } else { '_' }).collect();
    let plain = plain.trim_matches('_').to_string();
    if plain.is_empty() || plain.starts_with(|c: char| c.is_ascii_digit()) { format!("t_{plain}") } else { plain }
}

/// Table names with their sources: files that differ only in a number at the end are one table.
fn sources(into: &Path, files: &[PathBuf]) -> Vec<(String, String)> {
    let shown = |path: &Path| path.strip_prefix(into).unwrap_or(path).display().to_string();
    let mut groups: BTreeMap<(PathBuf, String, String), Vec<&PathBuf>> = BTreeMap::new();
    for file in files {
        let folder = file.parent().map_or_else(PathBuf::new, Path::to_path_buf);
        let name = file.file_name().map(|n| n.to_string_lossy().to_string()).unwrap_or_default();
        let ending = name[stem(file).len()..].to_string();
        groups.entry((folder, base(&stem(file)).to_string(), ending)).or_default().push(file);
    }
    let mut list = Vec::new();
    for ((folder, name, ending), members) in groups {
        match members.as_slice() {
            [one] if matches!(bytes::kind(one).as_str(), "db" | "sqlite") => {
                list.extend(
                    database_tables(one)
                        .into_iter()
                        .map(|t| (table_name(&t), format!("sqlite:{}?table={t}", shown(one)))),
                );
            }
            [one] => list.push((table_name(&stem(one)), shown(one))),
            _ => list.push((table_name(&name), shown(&folder.join(format!("{name}*{ending}"))))),
        }
    }
    let mut known: HashSet<String> = HashSet::new();
    for (name, _) in &mut list {
        while !known.insert(name.clone()) {
            name.push_str("_2");
        }
    }
    list
}

fn database_tables(path: &Path) -> Vec<String> {
    let read = || -> rusqlite::Result<Vec<String>> {
        let connection = rusqlite::Connection::open_with_flags(path, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        let mut statement = connection.prepare(
            "select name from sqlite_master where type in ('table', 'view') and name not like 'sqlite_%' order by name",
        )?;
        let rows = statement.query_map([], |row| row.get(0))?;
        rows.collect()
    };
    read().unwrap_or_default()
}

fn read(into: &Path, name: &str, section: &TableSection, observer: &dyn Observer) -> Result<LoadedTable, Error> {
    let mut file = ModelFile::default();
    file.table.insert(name.to_string(), section.clone());
    let mut document = Document::in_memory(file);
    document.folder = into.to_path_buf();
    let (formulas, settings) = (Formulas::default(), Settings::default());
    let loader = Loader {
        document: &document,
        formulas: &formulas,
        observer,
        settings: &settings,
        memory: None,
        since: None,
        piece: None,
    };
    Ok(loader.sourced(name, section, None)?)
}

/// Loads a table, with what its columns need to be read well.
fn load(into: &Path, name: &str, source: &str, observer: &dyn Observer) -> Result<Table, Error> {
    let mut section = TableSection { source: Some(source.to_string()), ..TableSection::default() };
    let mut notes = Vec::new();
    let mut loaded = match read(into, name, &section, observer) {
        Ok(loaded) => loaded,
        Err(_) => {
            section.bad_rows = Some(u64::MAX);
            let mut loaded = read(into, name, &section, observer)?;
            if loaded.report.bad_examples.iter().any(|e| e.contains(NO_UTF8)) {
                section.csv = Some(CsvSection { encoding: Some(ENCODING.into()), ..CsvSection::default() });
                notes.push(format!("the text is not UTF-8; read as {ENCODING}"));
                loaded = read(into, name, &section, observer)?;
            }
            section.bad_rows = Some(loaded.report.bad_rows).filter(|n| *n > 0);
            if loaded.report.bad_rows > 0 {
                notes.push(format!(
                    "{} rows cannot be read, for example: {}",
                    loaded.report.bad_rows,
                    loaded.report.bad_examples.first().map_or("", String::as_str)
                ));
            }
            loaded
        }
    };
    let mut again = false;
    // What stands for nothing in a column of numbers or dates stands for nothing everywhere.
    let mut missing: Vec<String> = Vec::new();
    for column in loaded.columns.iter().filter(|c| c.data.ty() == Type::Text) {
        if let Some((_, odd)) = nearly(&column.data)
            && odd.iter().all(|v| NOTHING.contains(&v.to_lowercase().as_str()))
        {
            missing.extend(odd.into_iter().filter(|v| !missing.contains(v)).collect::<Vec<_>>());
        }
    }
    if !missing.is_empty() {
        missing.insert(0, String::new());
        section.missing = Some(missing);
        again = true;
    }
    let delimited = matches!(source.rsplit('.').next(), Some("csv" | "tsv" | "txt")) || source.contains(".csv.");
    if delimited && loaded.columns.iter().any(|c| c.data.ty() == Type::Text && is_decimal_comma(&c.data)) {
        section.csv = Some(CsvSection { decimal: Some(",".into()), ..section.csv.unwrap_or_default() });
        notes.push("numbers are written with a decimal comma".into());
        again = true;
    }
    for column in loaded.columns.iter().filter(|c| c.data.ty() == Type::Text) {
        let Some((pattern, others)) = date_pattern(&column.data) else { continue };
        let entry = section.column.entry(column.name.clone()).or_default();
        entry.date_pattern = Some(pattern.to_string());
        if !others.is_empty() {
            notes.push(format!("the dates of `{}` could also be {}", column.name, others.join(" or ")));
        }
        again = true;
    }
    if again {
        // What looked like more may be no more than that.
        match read(into, name, &section, observer) {
            Ok(better) => loaded = better,
            Err(e) => {
                notes.push(format!("left as text: {e}"));
                section.csv = section.csv.map(|csv| CsvSection { decimal: None, ..csv });
                section.missing = None;
                section.column.clear();
            }
        }
    }
    for column in loaded.columns.iter().filter(|c| c.data.ty() == Type::Text) {
        if let Some((ty, odd)) = nearly(&column.data) {
            notes.push(format!(
                "`{}` would be {ty} but for `{}`: mend it, or set its `type` and how many `bad_rows` there may be",
                column.name, odd[0]
            ));
        }
    }
    Ok(Table { name: name.to_string(), section, loaded, notes, key: None })
}

/// Some of the values that occur.
fn sample(column: &Column) -> Vec<Value> {
    let values = (0..column.domain().min(SAMPLE as u64)).map(|code| column.value_of(code));
    values.filter(|v| !v.is_null()).collect()
}

/// The type that most values of a text column have, and those that have it not.
fn nearly(column: &Column) -> Option<(Type, Vec<String>)> {
    const MOST: f64 = 0.75;
    let values = sample(column);
    let types = [Type::Date, Type::Timestamp, Type::Float];
    types.into_iter().find_map(|ty| {
        let fits = |v: &Value| v.as_text().is_some_and(|t| !is_code(t) && parse::value(t, ty).is_some());
        let odd: Vec<&Value> = values.iter().filter(|v| !fits(v)).collect();
        let share = 1.0 - odd.len() as f64 / values.len().max(1) as f64;
        (share >= MOST && !odd.is_empty()).then(|| (ty, odd.iter().map(ToString::to_string).collect()))
    })
}

/// Digits with a zero in front are no number.
fn is_code(text: &str) -> bool {
    text.len() > 1 && text.starts_with('0') && !text.starts_with("0.")
}

fn is_decimal_comma(column: &Column) -> bool {
    let values = sample(column);
    let plain = |text: &str| {
        let digits = text.strip_prefix('-').unwrap_or(text);
        let (whole, part) = digits.split_once(',').unwrap_or((digits, "0"));
        let all = |t: &str| !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit() || b == b'.');
        all(whole) && all(part) && !part.contains('.')
    };
    let with_comma = values.iter().filter(|v| v.as_text().is_some_and(|t| t.contains(','))).count();
    with_comma > 0 && values.iter().all(|v| v.as_text().is_some_and(plain))
}

/// The first pattern that reads all values, and others that do so, too.
fn date_pattern(column: &Column) -> Option<(&'static str, Vec<&'static str>)> {
    let values = sample(column);
    if values.is_empty() {
        return None;
    }
    let reads = |pattern: &&&str| {
        let Ok(parsed) = DatePattern::parse(pattern) else { return false };
        values.iter().all(|v| v.as_text().is_some_and(|t| parsed.read(t.as_bytes()).is_some()))
    };
    let mut found = DATE_PATTERNS.iter().filter(reads).copied();
    Some((found.next()?, found.collect()))
}

// ---- keys and relationships

fn is_unique(table: &Table, column: &LoadedColumn) -> bool {
    table.loaded.rows > 0 && column.data.nulls() == 0 && column.data.distinct() as usize == table.loaded.rows
}

fn words(name: &str) -> Vec<String> {
    let mut words: Vec<String> = vec![String::new()];
    let mut lower = false;
    for c in name.chars() {
        if !c.is_alphanumeric() || lower && c.is_uppercase() {
            words.push(String::new());
        }
        if c.is_alphanumeric() {
            words.last_mut().into_iter().for_each(|w| w.extend(c.to_lowercase()));
        }
        lower = c.is_lowercase();
    }
    words.retain(|w| !w.is_empty());
    words
}

/// Without the endings of plurals.
fn singular(word: &str) -> &str {
    word.strip_suffix("es").filter(|w| w.ends_with(['s', 'x', 'h'])).or(word.strip_suffix('s')).unwrap_or(word)
}

const KEY_WORDS: &[&str] = &["id", "key", "code", "no", "nr", "number", "ref", "name"];

fn names_key(name: &str) -> Option<usize> {
    let words = words(name);
    KEY_WORDS.iter().position(|k| words.last().is_some_and(|w| w == k))
}

/// A unique column, one that is called a key before others, and the first before later ones.
fn key_of(table: &Table) -> Option<String> {
    let can_be = |c: &&LoadedColumn| is_unique(table, c) && matches!(c.data.ty(), Type::Int | Type::Text | Type::Date);
    let unique: Vec<&LoadedColumn> = table.loaded.columns.iter().filter(can_be).collect();
    let named = unique.iter().filter_map(|c| Some((names_key(&c.name)?, c))).min_by_key(|(rank, _)| *rank);
    let first = unique.first().filter(|c| c.name == table.loaded.columns[0].name);
    named.map(|(_, c)| c.name.clone()).or(first.map(|c| c.name.clone()))
}

fn column<'t>(table: &'t Table, name: &str) -> Option<&'t Column> {
    table.loaded.columns.iter().find(|c| c.name == name).map(|c| &*c.data)
}

fn distinct_values(column: &Column) -> HashSet<Value> {
    let codes: HashSet<u64> = column.codes().into_iter().collect();
    codes.into_iter().map(|c| column.value_of(c)).filter(|v| !v.is_null()).collect()
}

/// How much a column's name says that it points at a table's key: 0 for nothing.
fn likeness(many: &str, one: &str, key: &str) -> f64 {
    let (many, key_words) = (words(many), words(key));
    let table: Vec<String> = words(one).iter().map(|w| singular(w).to_string()).collect();
    let names_table = table.iter().all(|t| many.iter().any(|m| singular(m) == t));
    let names_part = table.iter().any(|t| many.iter().any(|m| singular(m) == t));
    let ends_alike = many.last() == key_words.last();
    match (names_table, names_part, many == key_words, ends_alike) {
        (true, _, _, true) => 1.0,
        (_, _, true, _) if key_words.len() > 1 || !KEY_WORDS.contains(&key_words[0].as_str()) => 0.9,
        (true, ..) => 0.8,
        (_, true, _, true) => 0.6,
        _ => 0.0,
    }
}

/// Columns that point at keys of other tables; of several to one table the likeliest is the default.
fn links(tables: &[Table]) -> Vec<Link> {
    let mut keys: HashMap<usize, HashSet<Value>> = HashMap::new();
    for (i, table) in tables.iter().enumerate() {
        if let Some(key) = table.key.as_deref().and_then(|k| column(table, k)) {
            keys.insert(i, distinct_values(key));
        }
    }
    let mut found: Vec<Link> = Vec::new();
    for (m, many) in tables.iter().enumerate() {
        for c in &many.loaded.columns {
            if many.key.as_deref() == Some(&c.name) || c.data.distinct() == 0 {
                continue;
            }
            let values = distinct_values(&c.data);
            let candidates = tables.iter().enumerate().filter_map(|(o, one)| {
                let (key, name) = (keys.get(&o)?, one.key.as_ref()?);
                let same = column(one, name)?.ty() == c.data.ty();
                let alike = likeness(&c.name, &one.name, name);
                if o == m || !same || alike == 0.0 || key.len() < 2 {
                    return None;
                }
                let contained = values.iter().filter(|v| key.contains(v)).count();
                let share = contained as f64 / values.len().max(1) as f64;
                (share >= CONTAINED).then(|| Link {
                    many: (m, c.name.clone()),
                    one: (o, name.clone()),
                    evidence: format!(
                        "{contained} of its {} values are keys there, and the names are alike",
                        values.len()
                    ),
                    spare: false,
                    score: alike + share,
                })
            });
            found.extend(candidates.max_by(|a, b| a.score.total_cmp(&b.score)));
        }
    }
    make_unique(&mut found);
    found
}

/// Between two tables there is one way that is taken by default: others become spare.
fn make_unique(links: &mut [Link]) {
    let mut order: Vec<usize> = (0..links.len()).collect();
    order.sort_by(|a, b| links[*b].score.total_cmp(&links[*a].score).then(a.cmp(b)));
    let mut taken: Vec<(usize, usize)> = Vec::new();
    for i in order {
        let (from, to) = (links[i].many.0, links[i].one.0);
        let mut with = taken.clone();
        with.push((from, to));
        links[i].spare = has_two_ways(&with);
        if !links[i].spare {
            taken = with;
        }
    }
}

fn has_two_ways(edges: &[(usize, usize)]) -> bool {
    fn ways(edges: &[(usize, usize)], from: usize, depth: usize, seen: &mut HashMap<usize, usize>) {
        if depth > edges.len() {
            return;
        }
        for (_, to) in edges.iter().filter(|(f, _)| *f == from) {
            *seen.entry(*to).or_default() += 1;
            ways(edges, *to, depth + 1, seen);
        }
    }
    edges.iter().any(|(from, _)| {
        let mut seen = HashMap::new();
        ways(edges, *from, 0, &mut seen);
        seen.iter().any(|(to, n)| *n > 1 || to == from)
    })
}

fn place(tables: &[Table], at: &(usize, String)) -> String {
    format!("{}.{}", tables[at.0].name, at.1)
}

fn is_one(links: &[Link], tables: &[Table], name: &str) -> bool {
    links.iter().any(|l| tables[l.one.0].name == name)
}

// ---- writing

fn text(value: &str) -> String {
    format!("\"{}\"", value.replace('\\', "\\\\").replace('"', "\\\""))
}

fn toml_key(name: &str) -> String {
    let bare = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_' || b == b'-');
    if bare { name.to_string() } else { text(name) }
}

/// A column as formulas name it.
fn in_formula(table: &str, column: &str) -> String {
    format!("{}.{}", quote_name(table), quote_name(column))
}

fn write(into: &Path, tables: &[Table], links: &[Link], taken: &[String]) -> String {
    let mut out = String::new();
    let name = into.canonicalize().ok().and_then(|p| Some(p.file_name()?.to_string_lossy().to_string()));
    let _ = writeln!(out, "# Drafted from the files: read it, and change what you know better.\n\n[model]");
    let _ = writeln!(out, "name = {}\n", text(&name.unwrap_or_else(|| "Model".into())));
    for table in tables {
        write_table(&mut out, table, tables, links);
    }
    let days = days(tables, links);
    let calendar = if taken.iter().any(|t| t == "calendar") { "days" } else { "calendar" };
    if !days.is_empty() {
        let _ = writeln!(out, "# One row a day, from the first to the last year of the data.\n[table.{calendar}]");
        let _ = writeln!(out, "calendar = \"date\"\ngenerate = {{}}\n");
    }
    for link in links {
        let _ = writeln!(out, "# {}", link.evidence);
        write_relationship(&mut out, &place(tables, &link.many), &place(tables, &link.one), link.spare);
    }
    for (table, column, spare) in &days {
        write_relationship(&mut out, &format!("{table}.{column}"), &format!("{calendar}.date"), *spare);
    }
    write_measures(&mut out, tables, links, taken);
    out
}

fn write_relationship(out: &mut String, many: &str, one: &str, spare: bool) {
    let _ = writeln!(out, "[[relationship]]\nmany = {}\none = {}", text(many), text(one));
    if spare {
        let _ = writeln!(out, "spare = true                      # only where a formula says: via {many}");
    }
    out.push('\n');
}

fn write_table(out: &mut String, table: &Table, tables: &[Table], links: &[Link]) {
    for note in &table.notes {
        let _ = writeln!(out, "# {}", note.replace('\n', " "));
    }
    let _ = writeln!(out, "# {} rows", table.loaded.rows);
    let name = toml_key(&table.name);
    let _ = writeln!(out, "[table.{name}]\nsource = {}", text(table.section.source.as_deref().unwrap_or_default()));
    if let Some(key) = &table.key {
        let _ = writeln!(out, "key = {}", text(key));
    }
    if let Some(missing) = &table.section.missing {
        let list: Vec<String> = missing.iter().map(|m| text(m)).collect();
        let _ = writeln!(out, "missing = [{}]", list.join(", "));
    }
    if let Some(bad) = table.section.bad_rows {
        let _ = writeln!(out, "bad_rows = {bad}");
    }
    let csv = table.section.csv.iter().flat_map(|csv| [("decimal", &csv.decimal), ("encoding", &csv.encoding)]);
    let said: Vec<String> = csv.filter_map(|(key, value)| Some(format!("{key} = \"{}\"", value.as_ref()?))).collect();
    if !said.is_empty() {
        let _ = writeln!(out, "csv = {{ {} }}", said.join(", "));
    }
    out.push('\n');
    let points = |column: &str| links.iter().any(|l| tables[l.many.0].name == table.name && l.many.1 == column);
    for c in &table.loaded.columns {
        let said = table.section.column.get(&c.name).cloned().unwrap_or_default();
        // Keys that say nothing to people are hidden; a region's name is a key, too, and is worth reading.
        let a_key = points(&c.name) || table.key.as_deref() == Some(&c.name);
        let hidden = a_key && names_key(&c.name).is_some_and(|rank| KEY_WORDS[rank] != "name");
        let order = if hidden { None } else { display_order(table, c) };
        let lines = column_lines(&said, hidden, order.as_deref());
        if !lines.is_empty() {
            let _ = writeln!(out, "[table.{name}.column.{}]\n{lines}", toml_key(&c.name));
        }
    }
    for (source, day) in derived_days(table, tables, links) {
        let _ = writeln!(out, "[table.{name}.column.{}]", toml_key(&day));
        let _ = writeln!(out, "formula = {}\n", text(&format!("cast({} as date)", quote_name(&source))));
    }
}

fn column_lines(said: &ColumnSection, hidden: bool, order: Option<&str>) -> String {
    let mut lines = String::new();
    if let Some(pattern) = &said.date_pattern {
        let _ = writeln!(lines, "date_pattern = {}", text(pattern));
    }
    if let Some(order) = order {
        let _ = writeln!(lines, "display_order = {}", text(order));
    }
    if hidden {
        let _ = writeln!(lines, "hidden = true");
    }
    lines
}

/// A number of the same table that has one value for each text, and is called an order.
fn display_order(table: &Table, c: &LoadedColumn) -> Option<String> {
    if c.data.ty() != Type::Text || c.data.distinct() > 400 {
        return None;
    }
    let mine = words(&c.name);
    let orders = |other: &&LoadedColumn| {
        let theirs = words(&other.name);
        let is_order = theirs.iter().any(|w| matches!(w.as_str(), "order" | "sort" | "rank" | "position" | "seq"));
        let same_thing = theirs.iter().any(|w| mine.contains(w) && !KEY_WORDS.contains(&w.as_str()));
        let number = theirs.iter().any(|w| matches!(w.as_str(), "no" | "nr" | "number" | "num" | "of"));
        other.data.ty() == Type::Int
            && (is_order || same_thing && (number || mine.last().is_some_and(|w| w == "name")))
            && depends(&c.data, &other.data)
    };
    table.loaded.columns.iter().find(orders).map(|o| o.name.clone())
}

/// Whether each value of one column goes with one value of another, and they differ as often.
fn depends(on: &Column, order: &Column) -> bool {
    let mut known: HashMap<u64, u64> = HashMap::new();
    let pairs = on.codes().into_iter().zip(order.codes());
    on.distinct() == order.distinct() && pairs.into_iter().all(|(a, b)| *known.entry(a).or_insert(b) == b)
}

/// Columns with a time of day, in tables that have no date: each with a name for its day.
fn derived_days(table: &Table, tables: &[Table], links: &[Link]) -> Vec<(String, String)> {
    let has_date = table.loaded.columns.iter().any(|c| c.data.ty() == Type::Date);
    if has_date || is_one(links, tables, &table.name) {
        return Vec::new();
    }
    let moments = table.loaded.columns.iter().filter(|c| c.data.ty() == Type::Timestamp);
    moments.map(|c| (c.name.clone(), format!("{}_day", c.name))).collect()
}

/// Date columns of tables that describe no others, the first of each as default.
fn days(tables: &[Table], links: &[Link]) -> Vec<(String, String, bool)> {
    let mut days = Vec::new();
    for table in tables.iter().filter(|t| !is_one(links, tables, &t.name)) {
        let dates = table.loaded.columns.iter().filter(|c| c.data.ty() == Type::Date).map(|c| c.name.clone());
        let all = dates.chain(derived_days(table, tables, links).into_iter().map(|(_, day)| day));
        days.extend(all.enumerate().map(|(i, column)| (table.name.clone(), column, i > 0)));
    }
    days
}

fn write_measures(out: &mut String, tables: &[Table], links: &[Link], taken: &[String]) {
    let mut names: HashSet<String> = taken.iter().cloned().collect();
    let mut fresh = |wanted: String| {
        let mut name = table_name(&wanted);
        while !names.insert(name.clone()) {
            name.push_str("_total");
        }
        name
    };
    let facts = tables.iter().filter(|t| !is_one(links, tables, &t.name));
    for table in facts {
        let name = fresh(format!("{}_rows", table.name));
        let _ = writeln!(out, "[measure.{name}]\nformula = {}\n", text(&format!("rows({})", quote_name(&table.name))));
        for c in &table.loaded.columns {
            let points = links.iter().any(|l| tables[l.many.0].name == table.name && l.many.1 == c.name);
            let key = table.key.as_deref() == Some(&c.name) || names_key(&c.name).is_some();
            if points || key || !c.data.ty().is_number() {
                continue;
            }
            let single = words(&c.name).iter().any(|w| {
                matches!(
                    w.as_str(),
                    "unit"
                        | "price"
                        | "rate"
                        | "share"
                        | "percent"
                        | "pct"
                        | "year"
                        | "month"
                        | "day"
                        | "age"
                        | "order"
                )
            });
            let (kind, label) = if single { ("avg", "average_") } else { ("sum", "") };
            let name = fresh(format!("{label}{}", c.name));
            let formula = format!("{kind}({})", in_formula(&table.name, &c.name));
            let _ = writeln!(out, "[measure.{name}]\nformula = {}\n", text(&formula));
        }
    }
}
