//! Columns as the model file names them: `table.column`, with names in double quotes where they hold dots.

/// The table and the column that a path names.
///
/// A quoted part is taken as it is (`""` stands for `"`); the first point outside of quotes parts the two, and what comes
/// after it is the column, points and all.
pub fn column_path(path: &str) -> Option<(String, String)> {
    let (table, rest) = part(path.trim(), true)?;
    let (column, rest) = part(rest.strip_prefix('.')?, false)?;
    (rest.is_empty() && !table.is_empty() && !column.is_empty()).then_some((table, column))
}

/// The parts of a text that a character separates outside of quotes.
pub(crate) fn separated(text: &str, by: char) -> Vec<&str> {
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
        assert_eq!(separated("t.a + \"u+v\".b", '+'), ["t.a", "\"u+v\".b"]);
    }
}
