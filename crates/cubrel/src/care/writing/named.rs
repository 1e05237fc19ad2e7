//! What stands at a place of a text, where that is defined and used, and giving it another name.

use std::collections::HashMap;
use std::ops::Range;

use super::literals::Begun;
use super::outline::part_of;
use super::text::ModelText;
use crate::Error;
use crate::care::edit::{Editor, ModelEdit};
use crate::insight::complete::describe;
use crate::insight::lexemes::{Lexeme, lexemes};
use cubrel_formula::parser;
use cubrel_formula::source::{Diagnostic, Problem, Source, Span};
use cubrel_model::keys::{resolved, said_of, schema};
use cubrel_model::mentions::formulas::of_query;
use cubrel_model::mentions::{Mention, Spot, mentions};
use cubrel_model::parts::{Part, PartKind};
use cubrel_model::texts::text_kind;

/// A part of the model that is named at a place.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct NamedPart {
    /// Its name; a column's with its table in front.
    pub name: String,
    /// What it is.
    pub kind: PartKind,
    /// Where it is named.
    pub span: Range<usize>,
    part: Part,
}

impl NamedPart {
    fn new(part: &Part, span: Span) -> NamedPart {
        let name = match part {
            Part::Column(table, name) | Part::Hierarchy(table, name) => format!("{table}.{name}"),
            _ => part.keys().last().cloned().unwrap_or_default(),
        };
        NamedPart { name, kind: part.kind(), span: span.range(), part: part.clone() }
    }
}

fn touches(span: Span, at: usize) -> bool {
    (span.start as usize..=span.end as usize).contains(&at)
}

impl ModelText {
    /// The part that is named at a place: by a key, in a formula, a query or a list.
    pub fn named_at(&self, at: usize) -> Option<NamedPart> {
        let keys = self.places.keys.iter().filter(|key| touches(key.span, at));
        let by_key = keys.filter_map(|key| Some(NamedPart::new(&part_of(&key.path)?, key.span))).next();
        by_key.or_else(|| {
            self.spots()
                .into_iter()
                .find(|(_, span)| touches(*span, at))
                .map(|(part, span)| NamedPart::new(&part, span))
        })
    }

    /// The part that is named at a place of a query's text.
    pub fn named_in_query(&self, text: &str, at: usize) -> Option<NamedPart> {
        let spots = self.spots_of_query(text).into_iter();
        spots.filter(|spot| touches(spot.span, at)).map(|spot| NamedPart::new(&spot.part, spot.span)).next()
    }

    /// What stands at a place, in a few lines, and where: a part of the model, a function, a key of the file.
    pub fn about(&self, at: usize) -> Option<(String, Range<usize>)> {
        if let Some(named) = self.named_at(at)
            && let Some(about) = self.about_part(&named)
        {
            return Some((about, named.span));
        }
        if let Some(key) = self.places.keys.iter().find(|key| touches(key.span, at)) {
            return Some((about_key(&key.path)?, key.span.range()));
        }
        let scalar = self.places.scalars.iter().find(|scalar| touches(scalar.span, at))?;
        if text_kind(&scalar.path).is_formula() { self.about_word(self.text(), at) } else { None }
    }

    /// The pieces of a query's text, and the part that each name stands for.
    pub fn lexemes_of_query(&self, text: &str) -> Vec<(Lexeme, Option<PartKind>)> {
        let spots = self.spots_of_query(text).into_iter().map(|spot| (spot.part, spot.span)).collect();
        with_parts(lexemes(text).into_iter(), spots)
    }

    fn spots_of_query(&self, text: &str) -> Vec<Spot> {
        let (Some(query), _) = parser::query(&Source::new("query", text)) else { return Vec::new() };
        let named = self.names().map_or_else(Vec::new, |names| of_query(&names, &query));
        named.into_iter().flat_map(|named| named.spots).collect()
    }

    /// What stands at a place of a query's text, in a few lines, and where.
    pub fn about_in_query(&self, text: &str, at: usize) -> Option<(String, Range<usize>)> {
        let named = self.named_in_query(text, at);
        let told = named.and_then(|named| Some((self.about_part(&named)?, named.span)));
        told.or_else(|| self.about_word(text, at))
    }

    /// A function of the language.
    fn about_word(&self, text: &str, at: usize) -> Option<(String, Range<usize>)> {
        let is_part = |c: char| c.is_alphanumeric() || c == '_';
        let (before, after) = (text.get(..at)?, text.get(at..)?);
        let start =
            before.rfind(|c| !is_part(c)).map_or(0, |i| i + before[i..].chars().next().map_or(0, char::len_utf8));
        let end = at + after.find(|c| !is_part(c)).unwrap_or(after.len());
        let word = text[start..end].to_lowercase();
        let entry = crate::functions().find(|entry| entry.name == word)?;
        let example = entry.example.map_or_else(String::new, |(formula, value)| format!("\n{formula} = {value}"));
        Some((format!("{}\n{}{example}", entry.signature, entry.meaning), start..end))
    }

    fn about_part(&self, named: &NamedPart) -> Option<String> {
        let file = self.document.as_ref().map(|document| &document.file);
        let with = |what: &str, said: &str| format!("{what} {}\n{said}", named.name);
        match &named.part {
            Part::Query(name) => file?.query.get(name).map(|saved| with("query", saved.text.trim())),
            Part::Shortlist(name) => file?.shortlist.get(name).map(|said| with("shortlist", &said.list.join(", "))),
            Part::Role(name) => file?.role.get(name).map(|said| {
                let rows: Vec<String> = said.rows.iter().map(|(table, rule)| format!("{table}: {rule}")).collect();
                with("role", &rows.join("\n"))
            }),
            Part::Hierarchy(table, name) => {
                let table = self.catalog.tables.iter().find(|t| t.name == *table)?;
                let found = table.hierarchies.iter().find(|h| h.name == *name)?;
                Some(with("hierarchy", &found.levels.join(" → ")))
            }
            _ => describe(&self.catalog, &named.name),
        }
    }

    /// Where a part is defined: its name there. A column that the file says nothing of is defined by its table.
    pub fn definition(&self, named: &NamedPart) -> Option<Range<usize>> {
        let of = |part: &Part| {
            let path = part.keys();
            let key = self.places.keys.iter().find(|key| key.path == path).map(|key| key.span.range());
            key.or_else(|| self.places.headers.iter().find(|h| h.path == path).map(|h| h.span.range()))
        };
        of(&named.part).or_else(|| of(&Part::Table(named.part.table()?.to_string())))
    }

    /// The pieces of all formulas and queries of the text, in their order, and the part that each name stands for.
    pub fn lexemes(&self) -> Vec<(Lexeme, Option<PartKind>)> {
        let formulas = self.places.scalars.iter().filter(|scalar| text_kind(&scalar.path).is_formula());
        let pieces = formulas.filter_map(|scalar| Begun::whole(self.text(), scalar)).flat_map(|formula| {
            let in_file = |piece: Lexeme| Lexeme { span: formula.place(&piece.span), ..piece };
            lexemes(&formula.text).into_iter().map(in_file).collect::<Vec<Lexeme>>()
        });
        with_parts(pieces, self.spots())
    }

    /// Wherever the text names a part, in its order; where it defines it, too.
    pub fn places_of(&self, named: &NamedPart) -> Vec<Range<usize>> {
        let path = named.part.keys();
        let keys = self.places.keys.iter().filter(|key| key.path == path).map(|key| key.span);
        let spots = self.spots().into_iter().filter(|(part, _)| *part == named.part).map(|(_, span)| span);
        let mut all: Vec<Range<usize>> = keys.chain(spots).map(Span::range).collect();
        all.sort_by_key(|span| (span.start, span.end));
        all.dedup();
        all
    }

    /// Every name of a part in a formula, a query or a list of the text, and where it stands.
    fn spots(&self) -> Vec<(Part, Span)> {
        let (Some(document), Some(names)) = (&self.document, self.names()) else { return Vec::new() };
        let in_file = |mention: Mention| {
            let is_here = mention.source.origin.is_some() || mention.source.text == document.source.text;
            let place = move |span: Span| mention.source.place(span).1;
            let spots: Vec<(Part, Span)> =
                mention.spots.into_iter().map(|spot| (spot.part, place(spot.span))).collect();
            if is_here { spots } else { Vec::new() }
        };
        mentions(document, &names).into_iter().flat_map(in_file).collect()
    }

    /// What was probably meant by something that is wrong with the text: what to write, and where.
    pub fn correction(&self, problem: &Diagnostic) -> Option<(String, Range<usize>)> {
        let (file, span) = problem.source.as_ref()?.place(problem.span);
        let meant = problem.meant().filter(|_| file.text == self.text() && span.start < span.end)?;
        let quoted = self.begun(span.start as usize);
        let written = quoted.map_or_else(|| meant.to_string(), |(_, begun)| begun.written(meant));
        Some((written, span.range()))
    }

    /// The text with a part called otherwise, in every formula, query, rule and list; comments, layout and quotes stay.
    /// Nothing is written. What would break, or come to mean something else, is in `ModelEdit::refused`.
    ///
    /// # Errors
    /// When the text makes no model as it is, or the new name cannot be one.
    pub fn renamed(&self, named: &NamedPart, new: &str) -> Result<ModelEdit, Error> {
        let Some(model) = self.model.as_ref().filter(|_| self.is_own) else {
            let problem = Diagnostic::general(Problem::Model, "a name cannot be changed while the text makes no model");
            return Err(Error::Problems(vec![problem.help("mend what is wrong with it first")]));
        };
        Editor::over(model.clone()).renamed(&named.part, new)
    }
}

/// Pieces, and the part that each stands for.
fn with_parts(pieces: impl Iterator<Item = Lexeme>, spots: Vec<(Part, Span)>) -> Vec<(Lexeme, Option<PartKind>)> {
    let kinds: HashMap<usize, PartKind> =
        spots.into_iter().map(|(part, span)| (span.start as usize, part.kind())).collect();
    let with = |piece: Lexeme| {
        let kind = kinds.get(&piece.span.start).copied();
        (piece, kind)
    };
    pieces.map(with).collect()
}

/// What a key is for.
fn about_key(path: &[String]) -> Option<String> {
    let said = said_of(schema(), path)?;
    let text = |said: &serde_json::Value| said.get("description").and_then(|d| d.as_str()).map(str::to_string);
    let meaning = text(said).or_else(|| text(resolved(schema(), said)))?;
    Some(format!("{}\n{meaning}", path.last()?))
}
