//! What stands before the header of delimited text: titles, the day of an export, empty lines.

use std::io::Read as _;
use std::path::Path;

use cubrel_load::dialect::Dialect;
use cubrel_load::{bytes, opened, sources};

/// Lines that are looked at.
const LOOKED_AT: usize = 24;
/// So many lines with as many fields are a table.
const ALIKE: usize = 3;
/// Fewer columns are not told from a title by how many of them are filled.
const FEWEST_COLUMNS: usize = 3;
const DELIMITERS: [char; 4] = [',', ';', '\t', '|'];

/// Where the header stands in the files of a source.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum HeaderPlace {
    /// After so many lines in each.
    After(u32),
    /// After some lines, in one after more than in another: where a line begins so.
    Begins(String),
}

/// Where the header of a source's files stands, if lines stand before it in any of them.
pub(super) fn header_place(into: &Path, source: &str) -> Option<HeaderPlace> {
    let files = sources::files(into, source).ok()?;
    let fronts: Vec<String> = files.iter().map(|file| front(&into.join(&file.path))).collect::<Option<_>>()?;
    let after: Vec<usize> = fronts.iter().map(|front| before_header(front).unwrap_or(0)).collect();
    let first = *after.first()?;
    let in_each = || (first > 0).then_some(first).and_then(|lines| u32::try_from(lines).ok()).map(HeaderPlace::After);
    if after.iter().all(|lines| *lines == first) {
        return in_each();
    }
    // Where most stands before a header, it is told best: of a file that has no rows, nothing tells it.
    let most = (0..fronts.len()).max_by_key(|file| after[*file])?;
    let begins = first_name(fronts[most].lines().nth(after[most])?);
    let is_there = |front: &String| front.lines().take(LOOKED_AT).any(|line| unquoted(line).starts_with(begins));
    if !begins.is_empty() && fronts.iter().all(is_there) {
        return Some(HeaderPlace::Begins(begins.to_string()));
    }
    in_each()
}

fn unquoted(line: &str) -> &str {
    let line = line.trim_start();
    line.strip_prefix('"').unwrap_or(line)
}

/// The name of the first column.
fn first_name(header: &str) -> &str {
    unquoted(header).split(DELIMITERS).next().unwrap_or_default().trim_end_matches([' ', '"'])
}

/// What a text begins with.
fn front(path: &Path) -> Option<String> {
    if !matches!(bytes::kind(path).as_str(), "csv" | "tsv" | "txt" | "tab") {
        return None;
    }
    let mut front = Vec::new();
    let text = opened(path, &Dialect::default(), &Default::default()).ok()?;
    text.take(1 << 16).read_to_end(&mut front).ok()?;
    Some(String::from_utf8_lossy(&front).into_owned())
}

/// A line of delimited text.
struct Line {
    /// How many fields it has, and how many without the empty ones at its end.
    fields: usize,
    filled: usize,
    /// Whether it could be a header: no field is empty, and most have letters.
    has_names: bool,
}

impl Line {
    fn of(line: &str, delimiter: char) -> Line {
        let mut quoted = false;
        let ends = |c: char| {
            quoted ^= c == '"';
            !quoted && c == delimiter
        };
        let fields: Vec<&str> = line.split(ends).map(|field| field.trim_matches([' ', '"'])).collect();
        let filled = fields.iter().rposition(|field| !field.is_empty()).map_or(0, |last| last + 1);
        let with_letters = fields.iter().filter(|field| field.contains(char::is_alphabetic)).count();
        let has_names = fields.iter().all(|field| !field.is_empty()) && with_letters * 2 > fields.len();
        Line { fields: fields.len(), filled, has_names }
    }
}

/// How many lines stand before the header: those that have fewer fields than all of the next ones, or as many of which most are empty,
/// as spreadsheets write them.
fn before_header(front: &str) -> Option<usize> {
    let of = |delimiter| front.lines().take(LOOKED_AT).map(|line| Line::of(line, delimiter)).collect::<Vec<Line>>();
    let lines: Vec<Vec<Line>> = DELIMITERS.into_iter().map(of).collect();
    if let Some((_, start)) = lines.iter().filter_map(|lines| after_padded(lines)).max() {
        return Some(start);
    }
    // What has the same delimiter from its first line on has its header there.
    if lines.iter().any(|lines| lines.len() >= ALIKE && is_table(&lines[..ALIKE])) {
        return None;
    }
    lines.iter().filter_map(|lines| after_shorter(lines)).max().map(|(_, start)| start)
}

/// Whether all lines have as many fields, and more than one.
fn is_table(lines: &[Line]) -> bool {
    lines.first().is_some_and(|first| first.fields > 1 && lines.iter().all(|line| line.fields == first.fields))
}

/// Where lines begin that have more fields than all before them: how many, and which is the first.
fn after_shorter(lines: &[Line]) -> Option<(usize, usize)> {
    let start = lines.windows(ALIKE).position(is_table)?;
    let columns = lines[start].fields;
    let are_shorter = lines[..start].iter().all(|line| line.fields < columns);
    let agree = lines[start..].iter().filter(|line| line.fields == columns).count();
    (start > 0 && are_shorter && agree * 2 > lines.len() - start).then_some((columns, start))
}

/// The same where some of the lines before have as many fields, but little in them.
fn after_padded(lines: &[Line]) -> Option<(usize, usize)> {
    let start = lines.iter().position(|line| line.has_names && line.fields >= FEWEST_COLUMNS)?;
    let columns = lines[start].fields;
    let before = &lines[..start];
    // Half of the columns can have names and the others none.
    let has_title = before.iter().any(|line| line.filled * 2 < columns);
    let is_padded = before.iter().any(|line| line.fields == columns);
    let says_little = |line: &Line| line.fields <= columns && line.filled * 2 <= columns;
    let is_table = lines.get(start..start + ALIKE).is_some_and(is_table);
    (has_title && is_padded && is_table && before.iter().all(says_little)).then_some((columns, start))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_before_a_header_is_told_from_it() {
        let table = "Crossing;Port;Day;Fuel\nC1;Ness;2025-03-01;900,5\nC2;Holm;2025-03-02;\nC3;;2025-03-02;NA\n";
        for (before, lines) in [
            ("", None),
            ("Ferry company\n", Some(1)),
            ("Ferry company\n\nas of;2025-03-04\n", Some(3)),
            ("Ferry company;;;\n", Some(1)),
            ("\"Ferries; all of them\";;;\n;;;\n", Some(2)),
            ("Ferry company;;;\n\nprinted\n", Some(3)),
            ("Ferry company;;;\nas of;2025-03-04;;\n", Some(2)),
            (";;;\n", Some(1)),
        ] {
            assert_eq!(before_header(&format!("{before}{table}")), lines, "{before}");
            let tabs = format!("{before}{table}").replace(';', "\t");
            assert_eq!(before_header(&tabs), lines, "{tabs}");
        }
        for whole in [
            // Columns without names, a header of numbers, values that are missing in the first rows.
            "Crossing;Port;;\nC1;Ness;1;2\nC2;Holm;3;4\nC3;Skaw;5;6\n",
            "Crossing;Port;;\nC1;Ness;full;late\nC2;Holm;full;late\nC3;Skaw;full;late\n",
            "Port;2023;2024;2025\nNess;1;2;3\nHolm;4;5;6\nSkaw;7;8;9\n",
            "Crossing;Port;Day;Fuel\nC1;;;\nC2;;;\nC3;Ness;Monday;full\nC4;Ness;Monday;full\n",
            "Name;;;\n1;2;3;4\n5;6;7;8\n9;1;2;3\n",
            "a;b\n1;2\n",
            "",
        ] {
            assert_eq!(before_header(whole), None, "{whole}");
        }
    }
}
