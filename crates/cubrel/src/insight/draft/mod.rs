//! A first model from files: tables, keys, relationships with the evidence for them, a calendar, display orders, first
//! measures. What it writes is meant to be read and changed.
//!
//! * here: which files are which tables
//! * `reading`: what their columns need to be read well
//! * `links`: keys and relationships
//! * `writing`: the `model.toml`

mod links;
mod reading;
mod table;
mod writing;

use std::collections::{BTreeMap, HashSet};
use std::path::{Component, Path, PathBuf};

use crate::Error;
use crate::formula::source::{Diagnostic, Problem};
use crate::load::{Observer, bytes, sqlite};
use links::{is_one, keys_of, links, place};
use reading::{identifiers, load};
use table::{Found, counted, table_name};
use writing::write;

/// Kinds of files that are looked for in a folder.
const KINDS: &[&str] =
    &["csv", "tsv", "parquet", "arrow", "arrows", "jsonl", "ndjson", "db", "sqlite", "xlsx", "xlsm", "ods", "xls"];

/// A drafted model.
#[derive(Clone, Debug)]
pub struct Draft {
    /// The text of its `model.toml`.
    pub toml: String,
    /// What was found, for people.
    pub findings: Vec<String>,
}

/// Drafts a model for a folder from files and folders of files.
///
/// # Errors
/// When no file can be read.
pub fn draft(into: &Path, inputs: &[PathBuf], observer: &dyn Observer) -> Result<Draft, Error> {
    let (mut seen, mut files) = (HashSet::new(), Vec::new());
    for input in inputs {
        collect(input, &mut seen, &mut files).map_err(|error| Error::io(input.display().to_string(), error))?;
    }
    if files.is_empty() {
        let problem = Diagnostic::general(Problem::Data, "there are no files to draft a model from");
        return Err(Error::Problems(vec![
            problem.help(format!("name files, or a folder with files: {}", KINDS.join(", "))),
        ]));
    }
    let mut tables = Vec::new();
    let mut findings = Vec::new();
    for found in sources(into, &files) {
        match load(into, &found, observer) {
            Ok(table) => tables.push(table),
            Err(e) => findings.push(format!("{} cannot be read: {e}", found.source)),
        }
    }
    if tables.is_empty() {
        let message = format!("none of the files can be read:\n  {}", findings.join("\n  "));
        return Err(Error::Problems(vec![Diagnostic::general(Problem::Data, message)]));
    }
    let taken: Vec<String> = tables.iter().map(|t| t.name.clone()).collect();
    let keys = keys_of(&tables);
    tables.iter_mut().zip(keys).for_each(|(table, key)| table.key = key);
    let links = links(&tables);
    for (i, table) in tables.iter_mut().enumerate() {
        let relates =
            |name: &str| links.iter().any(|l| [&l.many, &l.one].iter().any(|end| end.0 == i && end.1 == name));
        identifiers(table, &relates);
    }
    for table in &tables {
        let kind = if is_one(&links, &tables, &table.name) { "dimension table" } else { "no table refers to it" };
        findings.push(format!(
            "{}: {}, {}; {kind}",
            table.name,
            counted(table.loaded.rows as u64, "row"),
            counted(table.loaded.columns.len() as u64, "column")
        ));
    }
    findings.extend(links.iter().map(|l| {
        let (points, spare) = match (&l.refused, l.spare) {
            (Some(_), _) => ("could point", ""),
            (None, true) => ("points", ", spare"),
            (None, false) => ("points", ""),
        };
        let but = l.refused.as_ref().map_or_else(String::new, |why| format!("; not possible yet: {why}"));
        format!("{} {points} at {}{spare}: {}{but}", place(&tables, &l.many), place(&tables, &l.one), l.evidence)
    }));
    let toml = write(into, &tables, &links, &taken);
    Ok(Draft { toml, findings })
}

fn collect(path: &Path, seen: &mut HashSet<PathBuf>, files: &mut Vec<PathBuf>) -> std::io::Result<()> {
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
fn sources(into: &Path, files: &[PathBuf]) -> Vec<Found> {
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
        let whole = |name: &str, source: String| Found { name: table_name(name), source, sheet: None };
        match members.as_slice() {
            [one] if matches!(bytes::kind(one).as_str(), "db" | "sqlite") => {
                let table = |t: String| whole(&t, format!("sqlite:{}?table={t}", shown(one)));
                list.extend(sqlite::tables(one).into_iter().map(table));
            }
            [one] => match sheets(one).as_slice() {
                sheets @ [_, _, ..] => {
                    list.extend(sheets.iter().map(|s| Found { sheet: Some(s.clone()), ..whole(s, shown(one)) }));
                }
                _ => list.push(whole(&stem(one), shown(one))),
            },
            _ => list.push(whole(&name, shown(&folder.join(format!("{name}*{ending}"))))),
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

/// The sheets of a workbook; none of another file, or of one that cannot be read.
#[cfg(feature = "workbook")]
fn sheets(path: &Path) -> Vec<String> {
    match bytes::kind(path).as_str() {
        "xlsx" | "xlsm" | "ods" | "xls" => crate::load::workbook::sheets(path).unwrap_or_default(),
        _ => Vec::new(),
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
