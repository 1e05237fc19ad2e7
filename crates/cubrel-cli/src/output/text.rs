//! Text as a terminal has room for it.

use unicode_width::UnicodeWidthStr;

pub use cubrel::units::{bytes, count, counted};

/// On which side of its column a text stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Align {
    /// Left.
    Left,
    /// Right.
    Right,
}

/// A text as it can stand in one line of a terminal: control characters are shown as escapes.
pub fn visible(text: &str) -> String {
    if !text.contains(char::is_control) {
        return text.to_string();
    }
    let escape = |c: char| if c.is_control() { c.escape_default().to_string() } else { c.to_string() };
    text.chars().map(escape).collect()
}

/// A painted text as a terminal may get it: besides line ends and colours, control characters are shown as escapes.
pub fn harmless(text: &str) -> std::borrow::Cow<'_, str> {
    if !text.contains(|c: char| c.is_control() && c != '\n') {
        return text.into();
    }
    let mut safe = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let colour = rest.strip_prefix("\u{1b}[").and_then(|codes| {
            let end = codes.find(|c: char| !c.is_ascii_digit() && c != ';')?;
            codes[end..].starts_with('m').then_some(end + 3)
        });
        let taken = colour.unwrap_or(c.len_utf8());
        match colour {
            None if c.is_control() && c != '\n' => safe.extend(c.escape_default()),
            _ => safe.push_str(&rest[..taken]),
        }
        rest = &rest[taken..];
    }
    safe.into()
}

/// A painted line that is no wider than `width`, with `…` where it was cut.
pub fn cut_painted(line: &str, width: usize) -> String {
    let plain = anstream::adapter::strip_str(line).to_string();
    if plain.width() <= width {
        return line.to_string();
    }
    let (mut kept, mut taken, mut full) = (String::new(), 0, false);
    let mut rest = line;
    while let Some(c) = rest.chars().next() {
        let escape = if c == '\u{1b}' { rest.find('m').map_or(rest.len(), |end| end + 1) } else { 0 };
        if escape > 0 {
            kept.push_str(&rest[..escape]);
            rest = &rest[escape..];
            continue;
        }
        let wide = c.to_string().width();
        if !full && taken + wide < width {
            kept.push(c);
            taken += wide;
        } else if !full {
            kept.push('…');
            full = true;
        }
        rest = &rest[c.len_utf8()..];
    }
    kept
}

/// Sentences are no wider than this, however wide the terminal is.
pub const READABLE: usize = 110;

/// A text in lines that are no wider than `width`, where its words allow it.
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_string()),
        }
    }
    lines
}

/// Fills a text up to a width.
pub fn pad(text: &str, width: usize, align: Align) -> String {
    let fill = " ".repeat(width.saturating_sub(text.width()));
    match align {
        Align::Left => format!("{text}{fill}"),
        Align::Right => format!("{fill}{text}"),
    }
}

/// Cuts a text to a width, with `…` at the end.
pub fn cut(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_string();
    }
    let mut short = String::new();
    for c in text.chars() {
        if short.width() + 1 + c.to_string().width() > width {
            break;
        }
        short.push(c);
    }
    short + "…"
}

/// One line of CSV.
pub fn csv_line<'a>(fields: impl Iterator<Item = &'a str>) -> String {
    let quoted: Vec<String> =
        fields
            .map(|f| {
                if f.contains([',', '"', '\n', '\r']) {
                    format!("\"{}\"", f.replace('"', "\"\""))
                } else {
                    f.to_string()
                }
            })
            .collect();
    quoted.join(",") + "\n"
}

/// A bar of a share of `width` characters, in eighths.
pub fn bar(share: f64, width: usize) -> String {
    const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    let eighths = (share.clamp(0.0, 1.0) * width as f64 * 8.0).round() as usize;
    "█".repeat(eighths / 8) + EIGHTHS[eighths % 8]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn painted_lines_are_cut_by_what_is_seen() {
        let line = "\u{1b}[1mMiddle\u{1b}[0m Reach";
        assert_eq!(cut_painted(line, 12), line);
        assert_eq!(cut_painted(line, 9), "\u{1b}[1mMiddle\u{1b}[0m R…");
        assert_eq!(cut_painted(line, 4), "\u{1b}[1mMid…\u{1b}[0m");
        assert_eq!(visible("a\u{1b}[2Jb\nc"), "a\\u{1b}[2Jb\\nc");
        let painted = "\u{1b}[1m\u{1b}[36mT\u{1b}[0m\n";
        assert_eq!(harmless(painted), painted);
        assert_eq!(harmless("\u{1b}]0;x\u{7}\u{1b}[2J\u{1b}[m\u{1b}["), "\\u{1b}]0;x\\u{7}\\u{1b}[2J\u{1b}[m\\u{1b}[");
    }

    #[test]
    fn texts_are_cut_and_filled_by_their_width() {
        assert_eq!(cut("Østby", 5), "Østby");
        assert_eq!(cut("Middle Reach", 6), "Middl…");
        assert_eq!(pad("日本", 6, Align::Right), "  日本");
        assert_eq!(csv_line(["a", "b,c", "d\"e"].into_iter()), "a,\"b,c\",\"d\"\"e\"\n");
        assert_eq!((bar(0.5, 4), bar(1.0, 2), bar(0.0, 4)), ("██".into(), "██".into(), String::new()));
    }
}
