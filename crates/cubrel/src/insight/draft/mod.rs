//! A first model from files: tables, keys, relationships with the evidence for them, a calendar, display orders, first
//! measures. What it writes is meant to be read and changed.
//!
//! * here: which files are which tables
//! * `preamble`: what stands before a header
//! * `reading`: what their columns need to be read well
//! * `totals`: rows that are the sums of all others
//! * `names`: what names of columns say
//! * `keys`: keys, and which values are among them
//! * `links`: relationships
//! * `shapes`: bridges and trees
//! * `days`: the calendar
//! * `orders`: rows in another order
//! * `writing`: the `model.toml`

mod days;
mod keys;
mod links;
mod names;
mod orders;
mod preamble;
mod reading;
mod shapes;
mod table;
mod totals;
mod writing;

use std::collections::{BTreeMap, HashSet};
use std::io;
use std::path::{Component, Path, PathBuf};
use std::time::{Duration, Instant};

use crate::Error;
use crate::handle::{Model, ReadTable, RefreshOptions, RefreshReport, refresh_from};
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_load::{Observer, bytes, sqlite};
use cubrel_model::file::TableSection;
use cubrel_value::threads::map_two_at_once;
use cubrel_value::units::counted;
use keys::{Refused, keys_of};
use links::{Link, is_one, links, place};
use names::{ColumnNaming, table_words};
use orders::order;
use reading::{identifiers, load};
use shapes::bridge;
use table::{DraftSource, Table, table_name};
use writing::write;

/// Kinds of files that are looked for in a folder.
const KINDS: &[&str] = &["csv", "tsv", "parquet", "arrow", "arrows", "jsonl", "ndjson", "db", "sqlite"];

fn kinds() -> impl Iterator<Item = &'static str> {
    KINDS.iter().chain(bytes::WORKBOOKS).copied()
}

/// A drafted model.
#[derive(Clone, Debug)]
pub struct Draft {
    /// The text of its `model.toml`.
    pub toml: String,
    /// What was found, for people.
    pub findings: Vec<String>,
    /// What was read to find it.
    read: Vec<ReadTable>,
    /// How long that took.
    took: Duration,
}

impl Draft {
    /// Refreshes a model that was written as it was drafted, or changed since: what has been read for the draft is read
    /// again only where the model says something else of it, or where files have changed meanwhile. The time that the report tells is
    /// that of both.
    ///
    /// # Errors
    /// Everything that is wrong with the model or its data.
    pub fn refresh(
        &self,
        path: impl AsRef<Path>,
        options: &RefreshOptions,
        observer: &dyn Observer,
    ) -> Result<(Model, RefreshReport), Error> {
        let (model, report) = refresh_from(path.as_ref(), &self.read, options, observer)?;
        Ok((model, RefreshReport { elapsed: report.elapsed + self.took, ..report }))
    }
}

/// Drafts a model for a folder from files and folders of files.
///
/// # Errors
/// When no file can be read.
pub fn draft(into: &Path, inputs: &[PathBuf], observer: &dyn Observer) -> Result<Draft, Error> {
    let start = Instant::now();
    let files = files_of(inputs)?;
    let mut tables = Vec::new();
    let mut unread = Vec::new();
    let loaded = map_two_at_once(
        sources(into, &files),
        |found| found.bytes(into) as usize,
        |found, at_work| {
            load(into, &found, observer, at_work).map_err(|e| format!("{} cannot be read: {e}", found.source))
        },
    );
    for table in loaded {
        match table {
            Ok(table) => tables.push(table),
            Err(why) => unread.push(why),
        }
    }
    if tables.is_empty() {
        let message = format!("none of the files can be read:\n  {}", unread.join("\n  "));
        return Err(Error::Problems(vec![Diagnostic::general(Problem::Data, message)]));
    }
    let words: Vec<Vec<String>> = tables.iter().map(|t| table_words(&t.name)).collect();
    tables.iter_mut().for_each(|t| t.naming = ColumnNaming::of(&t.name, &t.loaded.columns, &words));
    let keys = keys_of(&tables);
    tables.iter_mut().zip(keys).for_each(|(table, key)| table.key = key);
    let links = links(&tables);
    let said = |t: &Table| TableSection { key: t.key.clone(), ..t.section.clone() };
    let read = |t: &Table| ReadTable { table: t.loaded.clone(), section: said(t) };
    let read = tables.iter().map(read).collect();
    for (i, table) in tables.iter_mut().enumerate() {
        let relates =
            |name: &str| links.iter().any(|l| [&l.many, &l.one].iter().any(|end| end.0 == i && end.1 == name));
        identifiers(table, &relates);
        order(table);
    }
    let of_tables = (0..tables.len()).map(|table| of_table(&tables, &links, table));
    let of_links = links.iter().map(|link| of_link(&tables, link));
    let findings = unread.iter().cloned().chain(of_tables).chain(of_links).collect();
    let toml = write(into, &tables, &links, &unread);
    Ok(Draft { toml, findings, read, took: start.elapsed() })
}

/// What was found of a table, in words.
fn of_table(tables: &[Table], links: &[Link], place: usize) -> String {
    let table = &tables[place];
    let kind = match bridge(tables, links, place) {
        Some([a, b]) => format!("a bridge between {} and {}", tables[a.one.0].name, tables[b.one.0].name),
        None if is_one(links, tables, &table.name) => "dimension table".to_string(),
        None => "no table refers to it".to_string(),
    };
    let (rows, columns) = (table.loaded.rows as u64, table.loaded.columns.len() as u64);
    format!("{}: {}, {}; {kind}", table.name, counted(rows, "row"), counted(columns, "column"))
}

/// What was found of a relationship, in words.
fn of_link(tables: &[Table], link: &Link) -> String {
    let (points, spare) = match (&link.refused, link.spare) {
        (Some(Refused::Impossible(_)), _) => ("could point", ""),
        (Some(Refused::InDoubt), _) => ("may point", ""),
        (None, true) => ("points", ", spare"),
        (None, false) => ("points", ""),
    };
    let but = match &link.refused {
        Some(Refused::Impossible(why)) => format!("; not possible yet: {why}"),
        _ => String::new(),
    };
    format!("{} {points} at {}{spare}: {}{but}", place(tables, &link.many), place(tables, &link.one), link.evidence)
}

/// The files that are meant, those in folders included.
fn files_of(inputs: &[PathBuf]) -> Result<Vec<PathBuf>, Error> {
    let (mut seen, mut files) = (HashSet::new(), Vec::new());
    for input in inputs {
        collect(input, &mut seen, &mut files).map_err(|error| not_there(input, error))?;
    }
    if files.is_empty() {
        let problem = Diagnostic::general(Problem::Data, "there are no files to draft a model from");
        let help = format!("name files, or a folder with files: {}", kinds().collect::<Vec<_>>().join(", "));
        return Err(Error::Problems(vec![problem.help(help)]));
    }
    Ok(files)
}

fn not_there(input: &Path, error: io::Error) -> Error {
    let input = input.display().to_string();
    if error.kind() != io::ErrorKind::NotFound {
        return Error::io(input, error);
    }
    let problem = Diagnostic::general(Problem::Data, format!("there is no file or folder `{input}`"));
    Error::Problems(vec![problem.help("name files, or folders with files")])
}

fn collect(path: &Path, seen: &mut HashSet<PathBuf>, files: &mut Vec<PathBuf>) -> io::Result<()> {
    // Links can lead in circles: each folder is looked at once.
    if !seen.insert(path.canonicalize()?) {
        return Ok(());
    }
    if !path.is_dir() {
        files.push(path.to_path_buf());
        return Ok(());
    }
    let mut entries: Vec<PathBuf> = std::fs::read_dir(path)?.filter_map(|e| Some(e.ok()?.path())).collect();
    entries.sort();
    for entry in entries {
        let hidden = entry.file_name().is_some_and(|n| n.to_string_lossy().starts_with('.'));
        if entry.is_dir() {
            if !hidden {
                collect(&entry, seen, files)?;
            }
        } else if kinds().any(|kind| kind == bytes::kind(&entry)) {
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

/// A path as a model in a folder names it: from there on, and through the folders above where that is short.
fn from_folder(folder: &Path, path: &Path) -> PathBuf {
    let (Ok(folder), Ok(path)) = (std::path::absolute(folder), std::path::absolute(path)) else {
        return path.to_path_buf();
    };
    let (folder, path) = (folder.canonicalize().unwrap_or(folder), path.canonicalize().unwrap_or(path));
    let shared = folder.components().zip(path.components()).take_while(|(a, b)| a == b).count();
    let up = folder.components().count() - shared;
    if up > MOST_UP {
        return path;
    }
    let above = std::iter::repeat_n(Component::ParentDir, up);
    above.chain(path.components().skip(shared)).collect()
}

/// Folders above the model's own through which files are still named from there.
const MOST_UP: usize = 3;

/// Tables with their sources: files that differ only in a number at the end are one table, and each sheet of a workbook is
/// one.
fn sources(into: &Path, files: &[PathBuf]) -> Vec<DraftSource> {
    let shown = |path: &Path| from_folder(into, path).display().to_string();
    let mut groups: BTreeMap<(PathBuf, String, String), Vec<&PathBuf>> = BTreeMap::new();
    for file in files {
        let folder = file.parent().map_or_else(PathBuf::new, Path::to_path_buf);
        let name = file.file_name().map(|n| n.to_string_lossy().to_string()).unwrap_or_default();
        let ending = name[stem(file).len()..].to_string();
        groups.entry((folder, base(&stem(file)).to_string(), ending)).or_default().push(file);
    }
    let mut list = Vec::new();
    for ((folder, name, ending), members) in groups {
        let whole = |name: &str, source: String| DraftSource { name: table_name(name), source, sheet: None };
        match members.as_slice() {
            [one] if matches!(bytes::kind(one).as_str(), "db" | "sqlite") => {
                let table = |t: String| whole(&t, format!("sqlite:{}?table={t}", shown(one)));
                list.extend(sqlite::tables(one).into_iter().map(table));
            }
            [one] => match sheets(one).as_slice() {
                sheets @ [_, _, ..] => {
                    list.extend(sheets.iter().map(|s| DraftSource { sheet: Some(s.clone()), ..whole(s, shown(one)) }));
                }
                _ => list.push(whole(&stem(one), shown(one))),
            },
            _ => {
                let pattern = format!("{}*{}", glob::Pattern::escape(&name), glob::Pattern::escape(&ending));
                list.push(whole(&name, format!("{}{pattern}", beside(glob::Pattern::escape(&shown(&folder))))));
            }
        }
    }
    let mut known: HashSet<String> = HashSet::new();
    for found in &mut list {
        while !known.insert(found.name.clone()) {
            found.name.push_str("_2");
        }
    }
    list
}

/// A folder as it stands in front of a name.
fn beside(folder: String) -> String {
    if folder.is_empty() || folder.ends_with('/') { folder } else { format!("{folder}/") }
}

/// The sheets of a workbook; none of another file, or of one that cannot be read.
#[cfg(feature = "workbook")]
fn sheets(path: &Path) -> Vec<String> {
    match bytes::WORKBOOKS.contains(&bytes::kind(path).as_str()) {
        true => cubrel_load::workbook::sheets(path).unwrap_or_default(),
        false => Vec::new(),
    }
}

#[cfg(not(feature = "workbook"))]
fn sheets(_: &Path) -> Vec<String> {
    Vec::new()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_plain_and_paths_short() {
        let names =
            [("Ports & Islands", "ports_islands"), ("2024", "t_2024"), ("--", "t_"), ("Fähre No. 1", "fähre_no_1")];
        names.iter().for_each(|(text, name)| assert_eq!(table_name(text), *name));
        let folder = tempfile::tempdir().expect("a folder");
        let at = |path: &str| {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().expect("in the folder")).expect("can be made");
            std::fs::write(&path, "").expect("can be written");
            path
        };
        let (model, inside) = (folder.path().join("models/mine"), at("models/mine/data/a.csv"));
        assert_eq!(from_folder(&model, &inside), Path::new("data/a.csv"));
        assert_eq!(from_folder(&model, &at("raw/b.csv")), Path::new("../../raw/b.csv"));
        let deep = folder.path().join("models/mine/1/2/3/4");
        let far = from_folder(&deep, &at("raw/b.csv"));
        assert!(far.is_absolute() && far.ends_with("raw/b.csv"), "{far:?}");
        assert_eq!(from_folder(&folder.path().join("new"), &inside), Path::new("../models/mine/data/a.csv"));
    }
}
