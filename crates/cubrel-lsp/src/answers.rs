//! One function a question.

use std::ops;

use cubrel::{
    Completion, CompletionKind, Diagnostic, LexemeKind, NamedPart, OutlineEntry, PartKind, Severity, Span, complete,
    units,
};
use serde_json::{Value as Json, json};

use crate::lines::{Lines, Units};
use crate::open::{OpenModel, OpenText, Workspace};
use crate::paths::uri_of;
use crate::protocol::{At, Stretch, item_kind, symbol_kind};

/// What can be written at a place.
pub(crate) fn completion(workspace: &Workspace, units: Units, at: &At) -> Option<Json> {
    let (text, model) = workspace.at(&at.document.uri)?;
    let lines = Lines::of(&text.text, units);
    let offset = lines.offset(at.position);
    let found = match text.is_model {
        true => model.read.completions(offset),
        false => complete(model.read.catalog(), &text.text, offset),
    };
    let items = found.iter().enumerate().map(|(i, completion)| item(completion, i, &lines));
    Some(json!({ "isIncomplete": false, "items": items.collect::<Vec<Json>>() }))
}

fn item(completion: &Completion, place: usize, lines: &Lines<'_>) -> Json {
    let kind = match completion.kind {
        CompletionKind::Measure => item_kind::VARIABLE,
        CompletionKind::Column => item_kind::FIELD,
        CompletionKind::Hierarchy => item_kind::ENUM,
        CompletionKind::Table => item_kind::STRUCT,
        CompletionKind::Lens => item_kind::INTERFACE,
        CompletionKind::Function | CompletionKind::Aggregate => item_kind::FUNCTION,
        CompletionKind::Query => item_kind::REFERENCE,
        CompletionKind::Key => item_kind::PROPERTY,
        CompletionKind::Value => item_kind::VALUE,
        _ => item_kind::KEYWORD,
    };
    json!({
        "label": completion.text,
        "kind": kind,
        "detail": completion.about,
        // Editors sort by this, and would by the label.
        "sortText": format!("{place:05}"),
        "textEdit": { "range": lines.range(&completion.replaces), "newText": completion.text },
    })
}

/// What the name at a place is, and what it weighs.
pub(crate) fn hover(workspace: &Workspace, units: Units, at: &At) -> Option<Json> {
    let (text, model) = workspace.at(&at.document.uri)?;
    let lines = Lines::of(&text.text, units);
    let offset = lines.offset(at.position);
    let (about, span) = match text.is_model {
        true => model.read.about(offset)?,
        false => model.read.about_in_query(&text.text, offset)?,
    };
    let (first, rest) = about.split_once('\n').unwrap_or((about.as_str(), ""));
    let mut said = format!("```\n{first}\n```\n{rest}").trim_end().to_string();
    let named = named(text, model, offset).filter(|named| named.kind == PartKind::Column);
    if let Some(size) = named.and_then(|named| model.size_of(&named.name)) {
        let (bytes, share) = (units::bytes(size.bytes), 100.0 * size.share);
        said.push_str(&format!("\n\n{bytes}, {share:.1} % of the model; {} different values", size.distinct));
    }
    Some(json!({ "contents": { "kind": "markdown", "value": said }, "range": lines.range(&span) }))
}

fn named(text: &OpenText, model: &OpenModel, offset: usize) -> Option<NamedPart> {
    match text.is_model {
        true => model.read.named_at(offset),
        false => model.read.named_in_query(&text.text, offset),
    }
}

/// A place in a model's file.
fn location(workspace: &Workspace, units: Units, at: &At, span: &ops::Range<usize>) -> Option<Json> {
    let (text, model) = workspace.at(&at.document.uri)?;
    let file = text.model.as_ref()?;
    let open = workspace.texts.iter().find(|(_, text)| text.is_model && text.model.as_ref() == Some(file));
    let uri = open.map_or_else(|| uri_of(file), |(uri, _)| uri.clone());
    Some(json!({ "uri": uri, "range": Lines::of(&model.text, units).range(span) }))
}

/// Where the name at a place is defined.
pub(crate) fn definition(workspace: &Workspace, units: Units, at: &At) -> Option<Json> {
    let (text, model) = workspace.at(&at.document.uri)?;
    let offset = Lines::of(&text.text, units).offset(at.position);
    let span = model.read.definition(&named(text, model, offset)?)?;
    location(workspace, units, at, &span)
}

/// Wherever the model's file has what the name at a place stands for.
pub(crate) fn references(workspace: &Workspace, units: Units, at: &At) -> Option<Json> {
    let (text, model) = workspace.at(&at.document.uri)?;
    let named = named(text, model, Lines::of(&text.text, units).offset(at.position))?;
    let definition = model.read.definition(&named).filter(|_| !at.context.with_definition);
    let places = model.read.places_of(&named).into_iter().filter(|span| Some(span) != definition.as_ref());
    Some(places.filter_map(|span| location(workspace, units, at, &span)).collect())
}

/// The same in the text itself.
pub(crate) fn highlights(workspace: &Workspace, units: Units, at: &At) -> Option<Json> {
    let (text, model) = workspace.at(&at.document.uri).filter(|(text, _)| text.is_model)?;
    let lines = Lines::of(&text.text, units);
    let named = model.read.named_at(lines.offset(at.position))?;
    let places = model.read.places_of(&named);
    Some(places.iter().map(|span| json!({ "range": lines.range(span) })).collect())
}

/// The name that can be changed at a place.
pub(crate) fn prepare_rename(workspace: &Workspace, units: Units, at: &At) -> Option<Json> {
    let (text, model) = workspace.at(&at.document.uri).filter(|(text, _)| text.is_model)?;
    let lines = Lines::of(&text.text, units);
    let named = model.read.named_at(lines.offset(at.position))?;
    Some(json!({ "range": lines.range(&named.span), "placeholder": text.text.get(named.span.clone())? }))
}

/// Another name, everywhere in the model's file.
///
/// # Errors
/// Why it cannot be.
pub(crate) fn rename(workspace: &Workspace, units: Units, at: &At) -> Result<Json, String> {
    let asked = workspace.at(&at.document.uri).filter(|(text, _)| text.is_model);
    let (text, model) = asked.ok_or("names are changed in the model's file")?;
    let lines = Lines::of(&text.text, units);
    let named = model.read.named_at(lines.offset(at.position)).ok_or("nothing of the model is named here")?;
    let edit = model.read.renamed(&named, &at.new_name).map_err(|e| e.to_string())?;
    if !edit.refused.is_empty() {
        let why: Vec<String> =
            edit.refused.iter().map(|refusal| format!("{}: {}", refusal.name, refusal.why)).collect();
        return Err(why.join("\n"));
    }
    let edits: Vec<Json> = replacements(&edit.before, &edit.after)
        .into_iter()
        .map(|(span, new)| json!({ "range": lines.range(&span), "newText": new }))
        .collect();
    Ok(json!({ "documentChanges": [{
        "textDocument": { "uri": at.document.uri, "version": text.version },
        "edits": edits,
    }] }))
}

/// What to put where, so that one text becomes another: line by line where they have as many, else all that differs.
fn replacements<'a>(before: &str, after: &'a str) -> Vec<(ops::Range<usize>, &'a str)> {
    let (old, new): (Vec<&str>, Vec<&str>) = (before.split('\n').collect(), after.split('\n').collect());
    if old.len() == new.len() {
        let mut start = 0;
        let lines = old.iter().zip(new).map(|(old, new)| {
            let span = start..start + old.len();
            start = span.end + 1;
            (span, *old, new)
        });
        return lines.filter(|(_, old, new)| old != new).map(|(span, _, new)| (span, new)).collect();
    }
    let same = |a: &[u8], b: &[u8]| a.iter().zip(b).take_while(|(a, b)| a == b).count();
    let mut first = same(before.as_bytes(), after.as_bytes());
    while !before.is_char_boundary(first) {
        first -= 1;
    }
    let reversed = |text: &str| text.bytes().skip(first).collect::<Vec<u8>>().into_iter().rev().collect::<Vec<u8>>();
    let mut last = same(&reversed(before), &reversed(after));
    while !before.is_char_boundary(before.len() - last) || !after.is_char_boundary(after.len() - last) {
        last -= 1;
    }
    vec![(first..before.len() - last, &after[first..after.len() - last])]
}

/// What a model's file defines: columns and hierarchies under their tables.
pub(crate) fn symbols(workspace: &Workspace, units: Units, uri: &str) -> Option<Json> {
    let (text, model) = workspace.at(uri).filter(|(text, _)| text.is_model)?;
    let lines = Lines::of(&text.text, units);
    let all = model.read.outline();
    let has_own = |table: &str| all.iter().any(|e| e.kind == PartKind::Table && e.name == table);
    let outer = all.iter().filter(|entry| entry.table.as_deref().is_none_or(|table| !has_own(table)));
    let made = outer.map(|entry| {
        let inner = all.iter().filter(|e| entry.kind == PartKind::Table && e.table.as_ref() == Some(&entry.name));
        let inner: Vec<&OutlineEntry> = inner.collect();
        // What holds others has to reach as far as they do.
        let end = inner.iter().map(|e| e.span.end).chain([entry.span.end]).max().unwrap_or(entry.span.end);
        let start = inner.iter().map(|e| e.span.start).chain([entry.span.start]).min().unwrap_or(entry.span.start);
        let children: Vec<Json> = inner.iter().map(|e| symbol(e, &e.span, &lines, Vec::new())).collect();
        symbol(entry, &(start..end), &lines, children)
    });
    Some(made.collect())
}

fn symbol(entry: &OutlineEntry, span: &ops::Range<usize>, lines: &Lines<'_>, children: Vec<Json>) -> Json {
    let kind = match entry.kind {
        PartKind::Table => symbol_kind::STRUCT,
        PartKind::Column => symbol_kind::FIELD,
        PartKind::Measure => symbol_kind::VARIABLE,
        PartKind::Hierarchy => symbol_kind::ENUM,
        PartKind::Lens => symbol_kind::INTERFACE,
        PartKind::Relationship => symbol_kind::OPERATOR,
        PartKind::Query => symbol_kind::METHOD,
        PartKind::Role => symbol_kind::KEY,
        PartKind::Shortlist => symbol_kind::ARRAY,
        _ => symbol_kind::EVENT,
    };
    json!({
        "name": entry.name,
        "detail": entry.kind.name(),
        "kind": kind,
        "range": lines.range(span),
        "selectionRange": lines.range(&entry.name_span),
        "children": children,
    })
}

/// The function around a place, and which of its arguments the place is in.
pub(crate) fn signature(workspace: &Workspace, units: Units, at: &At) -> Option<Json> {
    let (text, model) = workspace.at(&at.document.uri)?;
    let offset = Lines::of(&text.text, units).offset(at.position);
    let (entry, argument) = match text.is_model {
        true => model.read.call_at(offset)?,
        false => cubrel::call_at(&text.text, offset)?,
    };
    Some(json!({
        "signatures": [{ "label": entry.signature, "documentation": entry.meaning, "activeParameter": argument }],
        "activeSignature": 0,
    }))
}

/// The kinds of pieces that are told apart, by the names of the protocol; a piece is told by its place here.
pub(crate) const PIECES: [&str; 10] =
    ["keyword", "function", "variable", "string", "number", "parameter", "comment", "property", "class", "interface"];

/// The pieces of all formulas and queries of a text, each line by itself.
pub(crate) fn pieces(workspace: &Workspace, units: Units, uri: &str) -> Option<Json> {
    let (text, model) = workspace.at(uri)?;
    let lines = Lines::of(&text.text, units);
    let all = if text.is_model { model.read.lexemes() } else { model.read.lexemes_of_query(&text.text) };
    let mut data: Vec<u32> = Vec::new();
    let (mut line, mut character) = (0, 0);
    for (piece, part) in &all {
        let kind = match (piece.kind, part) {
            (_, Some(PartKind::Column)) => "property",
            (_, Some(PartKind::Table)) => "class",
            (_, Some(PartKind::Hierarchy | PartKind::Lens)) => "interface",
            (LexemeKind::Word, _) => "keyword",
            (LexemeKind::Function, _) => "function",
            (LexemeKind::Text, _) => "string",
            (LexemeKind::Number, _) => "number",
            (LexemeKind::Parameter, _) => "parameter",
            (LexemeKind::Comment, _) => "comment",
            _ => "variable",
        };
        let kind = PIECES.iter().position(|one| *one == kind).unwrap_or_default() as u32;
        for part in lines.parts(&piece.span) {
            let (start, end) = (lines.position(part.start), lines.position(part.end));
            let from = if start.line == line { start.character - character } else { start.character };
            data.extend([start.line - line, from, end.character - start.character, kind, 0]);
            (line, character) = (start.line, start.character);
        }
    }
    Some(json!({ "data": data }))
}

/// What would mend the problems of a stretch of text.
pub(crate) fn actions(workspace: &Workspace, units: Units, asked: &Stretch) -> Option<Json> {
    let uri = &asked.document.uri;
    let (text, model) = workspace.at(uri)?;
    let lines = Lines::of(&text.text, units);
    let (first, last) = (lines.offset(asked.range.start), lines.offset(asked.range.end));
    let action = |problem: &Diagnostic| {
        let (new, span) = match text.is_model {
            true => model.read.correction(problem)?,
            false => (problem.meant()?.to_string(), problem.span.range()),
        };
        let is_there = span.start <= last && first <= span.end;
        is_there.then(|| {
            json!({
                "title": format!("Write `{}`", problem.meant().unwrap_or(&new)),
                "kind": "quickfix",
                "isPreferred": true,
                "diagnostics": problems(std::slice::from_ref(problem), &text.text, units),
                "edit": { "changes": { uri: [{ "range": lines.range(&span), "newText": new }] } },
            })
        })
    };
    Some(all_problems(text, model).iter().filter_map(action).collect())
}

/// Everything that is wrong with a text.
pub(crate) fn all_problems(text: &OpenText, model: &OpenModel) -> Vec<Diagnostic> {
    if text.is_model { model.problems() } else { model.read.problems_of_query("query", &text.text) }
}

/// Problems as editors show them: of the text itself, by its lines.
pub(crate) fn problems(list: &[Diagnostic], text: &str, units: Units) -> Vec<Json> {
    let lines = Lines::of(text, units);
    let shown = |problem: &Diagnostic| {
        let place = problem.source.as_ref().map(|source| source.place(problem.span));
        let span = place.filter(|(file, _)| file.text == text).map_or(Span::default(), |(_, span)| span);
        let severity = match problem.severity {
            Severity::Error => 1,
            Severity::Warning => 2,
            Severity::Hint => 4,
        };
        let help = problem.help.as_ref().map_or_else(String::new, |help| format!("\n{help}"));
        json!({
            "range": lines.range(&span.range()),
            "severity": severity,
            "code": problem.hint.unwrap_or(problem.problem.name()),
            "source": "cubrel",
            "message": format!("{}{help}", problem.message),
        })
    };
    list.iter().map(shown).collect()
}

#[cfg(test)]
mod tests {
    use super::replacements;

    #[test]
    fn replacements_make_the_one_text_of_the_other() {
        let texts = ["", "a", "a\nb\nc", "a\nx\nc", "a\nb\nnew\nc", "aö\nb", "aä\nb\n", "aa\naa", "aa\na\naa"];
        for before in texts {
            for after in texts {
                let mut made = before.to_string();
                let all = replacements(before, after);
                all.iter().rev().for_each(|(span, new)| made.replace_range(span.clone(), new));
                assert_eq!(made, after, "{before:?}");
            }
        }
        assert_eq!(replacements("a\nb\nc", "x\nb\nz"), [(0..1, "x"), (4..5, "z")]);
    }
}
