//! The line of the shell: what can be written next, what is wrong with it so far, colours.

use std::borrow::Cow;

use cubrel::catalog::Catalog;
use cubrel::{Completion, CompletionKind, LexemeKind, Model, QueryOptions, complete, describe, quote_text};
use nu_ansi_term::{Color, Style};
use reedline::{
    ColumnarMenu, Completer, Emacs, FileBackedHistory, Highlighter, Hinter, History, KeyCode, KeyModifiers,
    MenuBuilder, Prompt, PromptEditMode, PromptHistorySearch, Reedline, ReedlineEvent, ReedlineMenu, Span, StyledText,
    Suggestion, ValidationResult, Validator, default_emacs_keybindings,
};

use super::session::Session;

/// Lines that are remembered.
const REMEMBERED: usize = 1000;
/// Values that are offered between quotes.
const VALUES: usize = 20;
const MENU: &str = "completion_menu";

/// The editor for a model.
pub(super) fn editor(session: &Session<'_>) -> Reedline {
    let mut keys = default_emacs_keybindings();
    let complete = ReedlineEvent::UntilFound(vec![ReedlineEvent::Menu(MENU.into()), ReedlineEvent::MenuNext]);
    keys.add_binding(KeyModifiers::NONE, KeyCode::Tab, complete);
    let menu = ReedlineMenu::EngineCompleter(Box::new(ColumnarMenu::default().with_name(MENU)));
    let catalog = session.catalog();
    let editor = Reedline::create()
        .with_completer(Box::new(Names { model: session.model.clone(), catalog: catalog.clone() }))
        .with_menu(menu)
        // A single way to go on is taken at once.
        .with_quick_completions(true)
        .with_edit_mode(Box::new(Emacs::new(keys)))
        .with_highlighter(Box::new(Colours))
        .with_validator(Box::new(Whole))
        .with_hinter(Box::new(Hints { model: session.model.clone(), options: session.options.clone(), catalog }));
    // A history that cannot be kept is none.
    match history_file().and_then(|file| FileBackedHistory::with_file(REMEMBERED, file).ok()) {
        Some(history) => editor.with_history(Box::new(history)),
        None => editor,
    }
}

/// Where lines are remembered: in the folder that the system has for it.
fn history_file() -> Option<std::path::PathBuf> {
    let state = std::env::var_os("XDG_STATE_HOME").map(std::path::PathBuf::from);
    let folder = state.or_else(|| Some(std::path::PathBuf::from(std::env::var_os("HOME")?).join(".local/state")))?;
    Some(folder.join("cubrel").join("history"))
}

/// What stands before a line.
pub(super) struct Mark;

impl Prompt for Mark {
    fn render_prompt_left(&self) -> Cow<'_, str> {
        "cubrel".into()
    }

    fn render_prompt_right(&self) -> Cow<'_, str> {
        "".into()
    }

    fn render_prompt_indicator(&self, _: PromptEditMode) -> Cow<'_, str> {
        "> ".into()
    }

    fn render_prompt_multiline_indicator(&self) -> Cow<'_, str> {
        "     … ".into()
    }

    fn render_prompt_history_search_indicator(&self, search: PromptHistorySearch) -> Cow<'_, str> {
        format!("(earlier: {}) ", search.term).into()
    }
}

/// Whether a text goes on in the next line: brackets or quotes are open, or it ends with a comma or an operator.
pub(super) fn is_unfinished(text: &str) -> bool {
    let (mut depth, mut quote) = (0i32, None);
    for c in text.chars() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (Some(_), _) => {}
            (None, '\'' | '"') => quote = Some(c),
            (None, '(') => depth += 1,
            (None, ')') => depth -= 1,
            _ => {}
        }
    }
    let text = text.trim_end();
    let goes_on =
        text.ends_with([',', '+', '*', '/', '=', '<', '>']) || text.ends_with(" by") || text.ends_with(" and");
    !text.starts_with('\\') && (depth > 0 || quote.is_some() || goes_on)
}

struct Whole;

impl Validator for Whole {
    fn validate(&self, line: &str) -> ValidationResult {
        if is_unfinished(line) { ValidationResult::Incomplete } else { ValidationResult::Complete }
    }
}

struct Names {
    model: Model,
    catalog: Catalog,
}

impl Completer for Names {
    fn complete(&mut self, line: &str, at: usize) -> Vec<Suggestion> {
        if let Some(values) = values(&self.model, line, at) {
            return values;
        }
        let suggestion = |c: Completion| Suggestion {
            append_whitespace: matches!(c.kind, CompletionKind::Word),
            value: c.text,
            description: Some(c.about).filter(|about| !about.is_empty()),
            span: Span::new(c.replaces.start, c.replaces.end),
            ..Suggestion::default()
        };
        complete(&self.catalog, line, at).into_iter().map(suggestion).collect()
    }
}

/// The column that a value between quotes is compared with, and what of the value is there.
fn compared(line: &str, at: usize) -> Option<(String, usize)> {
    let before = line.get(..at)?;
    if before.matches('\'').count() % 2 == 0 {
        return None;
    }
    let open = before.rfind('\'')?;
    let head = &before[..open];
    let end = head.rfind(|c: char| c.is_alphanumeric() || c == '_' || c == '"')? + 1;
    // Between the column and the quote there are operators, and values of a list.
    let is_name = |c: char| c.is_alphanumeric() || c == '_' || c == '.' || c == '"';
    let mut words = head[..end].rsplit(|c: char| !is_name(c));
    let column = words.find(|word| word.contains('.'))?;
    Some((column.to_string(), open))
}

/// Some values of the column that is compared.
fn values(model: &Model, line: &str, at: usize) -> Option<Vec<Suggestion>> {
    let (column, open) = compared(line, at)?;
    let (table, _) = column.split_once('.')?;
    let typed = line[open + 1..at].replace('\'', "''").replace(['%', '_'], "");
    let text = format!("grid rows({table}) as n by {column} where {column} like '{typed}%' limit {VALUES}");
    let grid = model.query(&text).and_then(|query| query.run()).ok()?;
    let suggestion = |text: &str| Suggestion {
        value: quote_text(text),
        span: Span::new(open, at),
        append_whitespace: true,
        ..Suggestion::default()
    };
    Some(grid.lines.iter().filter_map(|l| l.values.first()?.as_text()).map(suggestion).collect())
}

struct Colours;

impl Highlighter for Colours {
    fn highlight(&self, line: &str, _: usize) -> StyledText {
        let mut styled = StyledText::new();
        let mut end = 0;
        let mut push = |style: Style, part: &str| styled.push((style, part.to_string()));
        for piece in cubrel::lexemes(line) {
            push(Style::new(), &line[end..piece.span.start]);
            let style = match piece.kind {
                LexemeKind::Word => Style::new().fg(Color::Cyan),
                LexemeKind::Function => Style::new().bold(),
                LexemeKind::Text => Style::new().fg(Color::Green),
                LexemeKind::Number | LexemeKind::Parameter => Style::new().fg(Color::Purple),
                LexemeKind::Comment => Style::new().dimmed(),
                _ => Style::new(),
            };
            push(style, &line[piece.span.clone()]);
            end = piece.span.end;
        }
        push(Style::new(), &line[end..]);
        styled
    }
}

/// Behind the line: what is wrong with it so far, or what the name before the cursor is.
struct Hints {
    model: Model,
    options: QueryOptions,
    catalog: Catalog,
}

impl Hints {
    fn hint(&self, line: &str, at: usize) -> Option<String> {
        if line.trim().is_empty() || line.starts_with('\\') || at < line.len() {
            return None;
        }
        let is_name = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
        let name = line.rsplit(|c: char| !is_name(c)).next().filter(|name| !name.is_empty());
        if let Some(about) = name.and_then(|name| describe(&self.catalog, name)) {
            return about.lines().next().map(str::to_string);
        }
        if is_unfinished(line) || self.catalog.queries.iter().any(|q| q.name == line.trim()) {
            return None;
        }
        let error = self.model.query_with(line, &self.options).err()?;
        error.problems().first().map(|p| p.message.clone())
    }
}

impl Hinter for Hints {
    fn handle(&mut self, line: &str, at: usize, _: &dyn History, colours: bool, _: &str) -> String {
        match self.hint(line, at) {
            Some(hint) if colours => Style::new().dimmed().paint(format!("   {hint}")).to_string(),
            Some(hint) => format!("   {hint}"),
            None => String::new(),
        }
    }

    fn complete_hint(&self) -> String {
        String::new()
    }

    fn next_hint_token(&self) -> String {
        String::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_go_on_while_something_is_open() {
        for (text, expected) in [
            ("grid net", false),
            ("grid sum(booking.net", true),
            ("grid net by", true),
            ("grid net,", true),
            ("grid net where route.name = 'Ness", true),
            ("grid net where route.name = 'Ness'", false),
            ("grid \"my net\"", false),
            ("\\why (", false),
        ] {
            assert_eq!(is_unfinished(text), expected, "{text}");
        }
    }

    #[test]
    fn the_compared_column_is_found_before_the_quote() {
        for (line, expected) in [
            ("grid net where route.name = 'Ne", Some(("route.name", 28))),
            ("grid net where route.name in ('Ness', 'H", Some(("route.name", 38))),
            ("grid net where route.name = 'Ness' and port.region <> '", Some(("port.region", 54))),
            ("grid net where route.name = 'Ness'", None),
            ("grid net", None),
        ] {
            let found = compared(line, line.len());
            assert_eq!(found.as_ref().map(|(c, at)| (c.as_str(), *at)), expected, "{line}");
        }
    }
}
