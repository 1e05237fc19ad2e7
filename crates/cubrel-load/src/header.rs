//! The names of a source's columns: from headers as people write them, with empty names and doubled ones, from files that do
//! not all have the same.

use std::collections::{HashMap, HashSet};

use ::csv::ReaderBuilder;

use super::LoadError;
use super::lines::{PieceCutter, TextInput};
use super::nested::NESTED;
use super::report::{HOW_TO_SAY_ENCODING, NO_UTF8};
use cubrel_formula::source::{Diagnostic, Problem};

/// Bytes in which the header of a text is looked for first.
pub(super) const HEADER: usize = 1 << 14;

/// What the model says of the names of a source's columns.
pub(super) struct Naming<'a> {
    /// From names in the source to names in the model.
    pub(super) renamed: &'a HashMap<String, String>,
    /// From places in the source, from 1, to names in the model.
    pub(super) positions: &'a HashMap<usize, String>,
    /// From paths in nested data, such as `address.city`, to names in the model.
    pub(super) paths: &'a HashMap<String, String>,
}

/// The columns that some files have together.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Together {
    /// Their names in the model, in the order in which they come.
    pub(super) names: Vec<String>,
    /// By file, which of them each of its columns is.
    pub(super) of_file: Vec<Vec<usize>>,
    /// What people are told of them.
    pub(super) notes: Vec<String>,
}

/// The names of a text's columns, as they stand in it.
pub(super) fn header(input: &TextInput) -> Result<Vec<String>, LoadError> {
    let path = input.name();
    let piece = PieceCutter::new(vec![input.clone()], HEADER).next()?;
    let body = piece.as_ref().map_or(&[][..], |p| &p.body);
    let mut reader = ReaderBuilder::new()
        .delimiter(input.dialect.delimiter.unwrap_or(b','))
        .quote(input.dialect.quote)
        .flexible(true)
        .from_reader(body);
    let header = reader
        .byte_headers()
        .map_err(|e| Diagnostic::general(Problem::Data, format!("{path}: the header cannot be read: {e}")))?;
    let name = |bytes: &[u8]| std::str::from_utf8(bytes).map(|name| name.trim().to_string());
    let names: Vec<String> = header.iter().map(name).collect::<Result<_, _>>().map_err(|_| {
        Diagnostic::general(Problem::Data, format!("{path}: the header {NO_UTF8}")).help(HOW_TO_SAY_ENCODING)
    })?;
    if names.is_empty() || names.iter().all(String::is_empty) {
        let problem = Diagnostic::general(Problem::Data, format!("{path} is empty: it has no header line"));
        return Err(problem.help("the first line of a CSV file names its columns").into());
    }
    Ok(names)
}

/// The names that the columns of one file get, each another one; and what people are told of those that are not in it.
pub(super) fn named(file: &str, header: &[String], naming: &Naming<'_>) -> (Vec<String>, Vec<String>) {
    let mut names: Vec<Option<String>> = vec![None; header.len()];
    let mut taken: HashSet<String> = HashSet::with_capacity(header.len());
    for (place, name) in naming.positions {
        if let Some(own) = names.get_mut(place.wrapping_sub(1)) {
            taken.insert(name.clone());
            *own = Some(name.clone());
        }
    }
    for (path, name) in naming.paths {
        // What is nested has its parts in its name, parted by points where the other name is somebody's own.
        let at = |wanted: &str| header.iter().position(|source| source == wanted);
        if let Some(own) = at(path).or_else(|| at(&path.replace('.', NESTED))).and_then(|at| names.get_mut(at))
            && own.is_none()
        {
            taken.insert(name.clone());
            *own = Some(name.clone());
        }
    }
    for (own, source) in names.iter_mut().zip(header).filter(|(own, _)| own.is_none()) {
        // The first column of a name is the one that is meant.
        if let Some(name) = naming.renamed.get(source).filter(|name| taken.insert((*name).clone())) {
            *own = Some(name.clone());
        }
    }
    let mut said = Vec::new();
    // A column whose name is its own comes before one that has to be given one.
    for (own, source) in names.iter_mut().zip(header).filter(|(own, _)| own.is_none()) {
        if !source.is_empty() && taken.insert(source.clone()) {
            *own = Some(source.clone());
        }
    }
    let names = names.into_iter().zip(header).enumerate().map(|(i, (own, source))| {
        own.unwrap_or_else(|| {
            let base = if source.is_empty() { format!("column_{}", i + 1) } else { source.clone() };
            let numbered = (2..).map(|n| format!("{base}_{n}"));
            let first = Some(base.clone()).filter(|_| source.is_empty());
            let name = first.into_iter().chain(numbered).find(|name| taken.insert(name.clone())).unwrap_or(base);
            let why = if source.is_empty() { "has no name" } else { "has the name of another one" };
            said.push(format!("column {} {why} and is called `{name}`", i + 1));
            name
        })
    });
    let names = names.collect();
    let notes = if said.is_empty() { Vec::new() } else { vec![format!("{file}: {}", listed(&said))] };
    (names, notes)
}

/// The columns of all files, by name: one that a file does not have is null there.
///
/// # Errors
/// When two files have nothing in common.
pub(super) fn together(files: &[(&str, Vec<String>)], naming: &Naming<'_>) -> Result<Together, LoadError> {
    let mut all = Together::default();
    let mut places: HashMap<String, usize> = HashMap::new();
    for (i, (file, header)) in files.iter().enumerate() {
        let (names, notes) = named(file, header, naming);
        // What is odd about all files alike is told of the first.
        let same_as_first = i > 0 && files[0].1 == *header;
        all.notes.extend(notes.into_iter().filter(|_| !same_as_first));
        if i > 0 && !names.iter().any(|name| places.contains_key(name)) {
            let message = format!("{file} has no column in common with {}", files[0].0);
            let problem = Diagnostic::general(Problem::Data, message);
            return Err(problem
                .help("files of one table have their columns by name: make it a table of its own")
                .into());
        }
        let mut of_file = Vec::with_capacity(names.len());
        for name in names {
            let next = places.len();
            let place = *places.entry(name.clone()).or_insert(next);
            if place == next {
                all.names.push(name);
            }
            of_file.push(place);
        }
        all.of_file.push(of_file);
    }
    all.notes.extend(missing(files, &all));
    Ok(all)
}

/// Which files do not have which columns; of many files the first.
fn missing(files: &[(&str, Vec<String>)], all: &Together) -> Vec<String> {
    const SHOWN: usize = 5;
    let lacks = files.iter().zip(&all.of_file).filter_map(|((file, _), of_file)| {
        let has: HashSet<usize> = of_file.iter().copied().collect();
        let names: Vec<String> =
            (0..all.names.len()).filter(|i| !has.contains(i)).map(|i| format!("`{}`", all.names[i])).collect();
        (!names.is_empty()).then(|| format!("{file} has no {}: null there", listed(&names)))
    });
    let all: Vec<String> = lacks.collect();
    let more = all.len().saturating_sub(SHOWN);
    let mut told: Vec<String> = all.into_iter().take(SHOWN).collect();
    if more > 0 {
        told.push(format!("{more} more files lack some of the columns"));
    }
    told
}

fn listed(parts: &[String]) -> String {
    const SHOWN: usize = 8;
    let shown = parts.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
    match parts.len().saturating_sub(SHOWN) {
        0 => shown,
        more => format!("{shown}, and {more} more"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(list: &[&str]) -> Vec<String> {
        list.iter().map(|t| t.to_string()).collect()
    }

    #[test]
    fn every_column_gets_a_name_of_its_own_and_those_that_are_not_in_the_file_are_told() {
        let renamed = HashMap::from([("Betrag".to_string(), "net".to_string())]);
        let positions = HashMap::from([(3, "note".to_string())]);
        let paths = HashMap::from([("d.e".to_string(), "inner".to_string())]);
        let cases: &[(&[&str], &[&str], &str)] = &[
            (&["a", "b"], &["a", "b"], ""),
            (&["a", "", "x"], &["a", "column_2", "note"], "f: column 2 has no name and is called `column_2`"),
            (
                &["a", "a", "x", "a"],
                &["a", "a_2", "note", "a_3"],
                "f: column 2 has the name of another one and is called `a_2`, column 4 has the name of another one and is called `a_3`",
            ),
            (
                &["a", "a", "x", "a_2"],
                &["a", "a_3", "note", "a_2"],
                "f: column 2 has the name of another one and is called `a_3`",
            ),
            (&["d_e", "b", "x"], &["inner", "b", "note"], ""),
            (&["d_e", "d.e", "x"], &["d_e", "inner", "note"], ""),
            (&["Betrag", "Betrag", "x"], &["net", "Betrag", "note"], ""),
            (
                &["note", "b", "x"],
                &["note_2", "b", "note"],
                "f: column 1 has the name of another one and is called `note_2`",
            ),
            (
                &["column_2", "", "x"],
                &["column_2", "column_2_2", "note"],
                "f: column 2 has no name and is called `column_2_2`",
            ),
        ];
        for (header, expected, told) in cases {
            let naming = Naming { renamed: &renamed, positions: &positions, paths: &paths };
            let (names, notes) = named("f", &texts(header), &naming);
            assert_eq!(names, *expected, "{header:?}");
            assert_eq!(notes.concat(), *told, "{header:?}");
        }
    }

    #[test]
    fn files_are_put_together_by_the_names_of_their_columns() {
        let (renamed, positions, paths) = (HashMap::new(), HashMap::new(), HashMap::new());
        let naming = Naming { renamed: &renamed, positions: &positions, paths: &paths };
        let files = [("one", texts(&["a", "b"])), ("two", texts(&["b", "c", "a"])), ("three", texts(&["a", "b"]))];
        let all = together(&files, &naming).unwrap();
        assert_eq!(all.names, ["a", "b", "c"]);
        assert_eq!(all.of_file, [vec![0, 1], vec![1, 2, 0], vec![0, 1]]);
        assert_eq!(all.notes, ["one has no `c`: null there", "three has no `c`: null there"]);
        let error = together(&[("one", texts(&["a"])), ("two", texts(&["x"]))], &naming).unwrap_err();
        assert!(format!("{error:?}").contains("two has no column in common with one"));
    }
}
