//! Rows that are the sums of all others, as exports have them at their ends: one in each file.

use cubrel_formula::words::quote_name;
use cubrel_load::loaded::{LoadedColumn, LoadedTable};
use cubrel_store::Encoding;
use cubrel_value::{Type, Value};

/// What such rows are called.
const WORDS: &[&str] = &[
    "total",
    "totals",
    "grand total",
    "sum",
    "all",
    "overall",
    "gesamt",
    "gesamtsumme",
    "summe",
    "insgesamt",
    "somme",
    "totale",
    "totaal",
    "suma",
    "razem",
    "i alt",
    "sum total",
    "summa",
    "yhteensä",
];
/// So many texts that begin with one of them are looked at, and no more rows than that are sums: files are not that many.
const MOST: u64 = 1000;
/// Rows that are summed up by one, at least.
const FEWEST_ROWS: usize = 3;
/// How far a sum of doubles may be off.
const NEAR: f64 = 1e-9;

/// Rows that could be sums.
struct SumRows {
    rows: Vec<usize>,
    /// What is true of all others.
    filter: String,
    /// What they have, and no others.
    says: String,
    /// Whether that is a word for sums.
    called: bool,
    /// In how many columns they come to what all others do.
    columns: usize,
}

/// The condition that leaves such rows out, and what it says; none where there are none.
pub(super) fn total_rows(loaded: &LoadedTable) -> Option<(String, String)> {
    let of_column = |c| WORDS.iter().filter_map(move |word| called(c, word)).chain(blank(c));
    let mut candidates: Vec<SumRows> = labels(loaded).flat_map(of_column).collect();
    candidates.retain(|candidate| candidate.rows.len() * FEWEST_ROWS < loaded.rows);
    if candidates.is_empty() {
        return None;
    }
    for column in loaded.columns.iter().filter(|c| c.data.ty().is_number()) {
        count_sums(column, &mut candidates);
    }
    let texts = || loaded.columns.iter().filter(|c| c.data.ty() == Type::Text);
    let is_alone = |candidate: &SumRows| texts().all(|c| candidate.rows.iter().all(|row| is_null(c, *row)));
    candidates.retain(|candidate| match candidate.called {
        true => candidate.columns > 0,
        // Where nothing says what it is, one sum can be chance.
        false => candidate.columns > 1 || candidate.columns == 1 && is_alone(candidate),
    });
    let first = candidates.into_iter().min_by_key(|c| (!c.called, std::cmp::Reverse(c.columns)))?;
    let sums = match first.columns {
        1 => "the sum of a column".to_string(),
        columns => format!("the sums of {columns} columns"),
    };
    let note = match first.rows.len() {
        1 => format!("one row has {} and {sums}: it is left out", first.says),
        rows => format!("{rows} rows have {} and together {sums}: they are left out", first.says),
    };
    Some((first.filter, note))
}

/// The columns that say what a row is.
fn labels(loaded: &LoadedTable) -> impl Iterator<Item = &LoadedColumn> {
    loaded.columns.iter().filter(|c| !c.data.ty().is_number() && c.data.ty() != Type::Bool)
}

fn is_null(column: &LoadedColumn, row: usize) -> bool {
    column.data.code(row) == column.data.null_code()
}

/// The rows that a column calls sums, with one of the words for them.
fn called(column: &LoadedColumn, word: &str) -> Option<SumRows> {
    let mut codes: Vec<u64> = written(word).into_iter().flat_map(|begins| called_by(column, word, &begins)).collect();
    codes.sort_unstable();
    codes.dedup();
    let rows = if codes.is_empty() { Vec::new() } else { rows_with(column, |code| codes.binary_search(&code).is_ok()) };
    if rows.is_empty() || rows.len() as u64 > MOST {
        return None;
    }
    let words: Vec<Value> = codes.iter().map(|code| column.data.value_of(*code)).collect();
    let name = quote_name(&column.name);
    let quoted: Vec<String> = words.iter().map(|word| format!("'{}'", word.to_string().replace('\'', "''"))).collect();
    let or_null = if column.data.nulls() > 0 { format!("{name} is null or ") } else { String::new() };
    let filter = match quoted.as_slice() {
        [only] => format!("{or_null}{name} <> {only}"),
        several => format!("{or_null}{name} not in ({})", several.join(", ")),
    };
    let says = format!("`{}` in `{}`", words[0], column.name);
    Some(SumRows { rows, filter, says, called: true, columns: 0 })
}

/// How texts begin that are such a word: small, with a capital, in capitals.
fn written(word: &str) -> [String; 3] {
    let first = word.split(' ').next().unwrap_or(word);
    let mut letters = first.chars();
    let capital: String = letters.next().into_iter().flat_map(char::to_uppercase).chain(letters).collect();
    [first.to_string(), capital, first.to_uppercase()]
}

/// The codes of texts that begin in some way and are a word for sums, where these are few.
fn called_by(column: &LoadedColumn, word: &str, begins: &str) -> Vec<u64> {
    let Encoding::Texts(texts) = column.data.encoding() else { return Vec::new() };
    let codes = texts.beginning_with(begins);
    if codes.len() as u64 > MOST {
        return Vec::new();
    }
    codes.filter(|code| is_word(&texts.get(*code), word)).map(|code| code as u64).collect()
}

/// Whether a text is a word, or begins with it.
fn is_word(text: &str, word: &str) -> bool {
    let goes_on = |rest: &str| rest.is_empty() || rest.starts_with([' ', ':', '\u{a0}']);
    text.trim().to_lowercase().strip_prefix(word).is_some_and(goes_on)
}

/// The rows in which a column says nothing.
fn blank(column: &LoadedColumn) -> Option<SumRows> {
    let null = column.data.null_code();
    if column.data.nulls() == 0 || column.data.nulls() > MOST {
        return None;
    }
    let rows = rows_with(column, |code| code == null);
    let filter = format!("{} is not null", quote_name(&column.name));
    Some(SumRows { rows, filter, says: format!("nothing in `{}`", column.name), called: false, columns: 0 })
}

fn rows_with(column: &LoadedColumn, is_one: impl Fn(u64) -> bool) -> Vec<usize> {
    column.data.codes().into_iter().enumerate().filter(|(_, code)| is_one(*code)).map(|(row, _)| row).collect()
}

/// Counts a column of numbers for those candidates whose rows come to what all others do.
fn count_sums(column: &LoadedColumn, candidates: &mut [SumRows]) {
    let number = |code: u64| column.data.value_of(code).as_f64().unwrap_or(0.0);
    let values: Vec<f64> = column.data.codes().into_iter().map(number).collect();
    let sum: f64 = values.iter().sum();
    let filled = values.iter().filter(|v| **v != 0.0).count();
    if sum == 0.0 || filled <= FEWEST_ROWS {
        return;
    }
    for candidate in candidates {
        let own: f64 = candidate.rows.iter().map(|row| values[*row]).sum();
        candidate.columns += usize::from((2.0 * own - sum).abs() <= NEAR * sum.abs());
    }
}
