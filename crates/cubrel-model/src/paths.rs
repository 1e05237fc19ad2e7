//! Columns as the model file names them: `table.column`, with names in double quotes where they hold dots.

use cubrel_formula::source::Span;

/// The table and the column that a path names.
///
/// A quoted part is taken as it is (`""` stands for `"`); the first point outside of quotes parts the two, and what comes
/// after it is the column, points and all.
pub fn column_path(path: &str) -> Option<(String, String)> {
    let (table, rest) = part(path.trim(), true)?;
    let (column, rest) = part(rest.strip_prefix('.')?, false)?;
    (rest.is_empty() && !table.is_empty() && !column.is_empty()).then_some((table, column))
}

/// Where the table and the column of a path stand in it, quotes included.
pub(crate) fn path_parts(path: &str) -> Option<[Span; 2]> {
    let start = path.len() - path.trim_start().len();
    let trimmed = path.trim();
    let (_, rest) = part(trimmed, true)?;
    let table = trimmed.len() - rest.len();
    let (_, end) = part(rest.strip_prefix('.')?, false)?;
    let column = trimmed.len() - end.len();
    Some([Span::new(start, start + table), Span::new(start + table + 1, start + column)])
}

/// A table or a column as a path has it: quoted where it would be read as something else.
pub fn quote_part(name: &str, is_table: bool) -> String {
    let is_read_otherwise = name.starts_with('"') || name.trim() != name || name.is_empty();
    if is_read_otherwise || is_table && name.contains('.') {
        format!("\"{}\"", name.replace('"', "\"\""))
    } else {
        name.to_string()
    }
}

/// The parts of a text that a character separates outside of quotes.
pub fn separated(text: &str, by: char) -> Vec<&str> {
    let mut quoted = false;
    text.split(|c| {
        quoted ^= c == '"';
        c == by && !quoted
    })
    .map(str::trim)
    .collect()
}

fn part(text: &str, to_the_point: bool) -> Option<(String, &str)> {
    let Some(quoted) = text.strip_prefix('"') else {
        let end = if to_the_point { text.find('.')? } else { text.len() };
        return Some((text[..end].to_string(), &text[end..]));
    };
    let mut name = String::new();
    let mut rest = quoted;
    loop {
        let end = rest.find('"')?;
        name.push_str(&rest[..end]);
        rest = &rest[end + 1..];
        let Some(more) = rest.strip_prefix('"') else { return Some((name, rest)) };
        name.push('"');
        rest = more;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_with_points_are_quoted() {
        let path = |text| column_path(text).map(|(t, c)| format!("{t}|{c}"));
        assert_eq!(path("booking.net").as_deref(), Some("booking|net"));
        assert_eq!(path("booking.net.of.tax").as_deref(), Some("booking|net.of.tax"));
        assert_eq!(path("\"my.table\".\"a \"\"b\"\"\"").as_deref(), Some("my.table|a \"b\""));
        assert_eq!(path("\"my.table\".net").as_deref(), Some("my.table|net"));
        for wrong in ["booking", "", ".", "booking.", ".net", "\"booking.net", "\"a\"b.c", "a.\"b\"c"] {
            assert_eq!(path(wrong), None, "{wrong}");
        }
        for text in ["booking.net", " my.net.of.tax ", "\"my.table\".\"a \"\"b\"\"\""] {
            let cut = path_parts(text).map(|spans| spans.map(|s| text[s.range()].to_string())).unwrap();
            assert_eq!(column_path(&cut.join(".")), column_path(text));
            let (table, column) = column_path(text).unwrap();
            let again = format!("{}.{}", quote_part(&table, true), quote_part(&column, false));
            assert_eq!(column_path(&again), Some((table, column)), "{again}");
        }
        assert_eq!(separated("t.a + \"u+v\".b", '+'), ["t.a", "\"u+v\".b"]);
    }
}
