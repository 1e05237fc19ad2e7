//! Questions about texts that can be told text by text, without making a vector of them.

use std::sync::Arc;

use super::super::functions::{Function, LikePattern, TextPart};
use super::super::scalar::{Scalar, ScalarKind};
use super::super::typed::Op;
use cubrel_value::Value;

/// An expression of one text and of what is the same for all texts: parts that are taken from it, and what is asked of the last.
pub struct TextQuestion {
    parts: Vec<TextPart>,
    /// What is asked of the text that is left.
    pub asked: Asked,
}

/// What is asked of a text.
pub enum Asked {
    /// The text itself.
    Itself,
    /// How many characters it has.
    Length,
    /// Whether it is one of these, which are sorted, or is not.
    Listed(Vec<Arc<str>>, bool),
    /// Whether something is found in it.
    Search(TextSearch),
}

impl TextQuestion {
    /// The question of an expression, and the leaf that it is asked of; `constant` is told of other arguments. `None` for what is no such
    /// question, and where one of the others is null.
    pub fn of(scalar: &Scalar, constant: &dyn Fn(&Scalar) -> Option<Value>) -> Option<(TextQuestion, usize)> {
        let mut parts = Vec::new();
        let (asked, of) = match &scalar.kind {
            ScalarKind::Call(op, args) => match (asked(*op, args, constant), args.first()) {
                (Some(asked), Some(first)) => (asked, first),
                _ => (Asked::Itself, scalar),
            },
            _ => return None,
        };
        let mut part = of;
        while let ScalarKind::Call(Op::Function(function), args) = &part.kind {
            let (first, others) = args.split_first()?;
            let others = others.iter().map(constant).collect::<Option<Vec<Value>>>()?;
            parts.push(TextPart::of(function, &others)?);
            part = first;
        }
        let ScalarKind::Leaf(leaf) = part.kind else { return None };
        // The innermost comes first.
        let parts: Vec<TextPart> = parts.into_iter().rev().flatten().collect();
        Some((TextQuestion { parts, asked }, leaf))
    }

    /// What it is about in a text, which is given by its bytes.
    pub fn part<'t>(&self, text: &'t [u8]) -> &'t str {
        let text = std::str::from_utf8(text).unwrap_or_default();
        self.parts.iter().fold(text, |text, part| part.take(text))
    }

    /// Whether it is about whole texts.
    pub fn is_of_whole_texts(&self) -> bool {
        self.parts.is_empty()
    }

    /// What texts have to begin with, where nothing else is asked of them.
    pub fn beginning(&self) -> Option<&str> {
        match &self.asked {
            Asked::Search(search) if self.parts.is_empty() => search.beginning(),
            _ => None,
        }
    }
}

/// What an operator asks of its first argument.
fn asked(op: Op, args: &[Scalar], constant: &dyn Fn(&Scalar) -> Option<Value>) -> Option<Asked> {
    let others = args.get(1..)?;
    let text = |other: &Scalar| match constant(other)? {
        Value::Text(text) => Some(text),
        _ => None,
    };
    match (op, others) {
        (Op::Function(Function { name: "length", .. }), []) => Some(Asked::Length),
        (Op::Eq | Op::Ne, [one]) => Some(Asked::Listed(vec![text(one)?], op == Op::Eq)),
        (Op::In, [_, ..]) => {
            let mut listed = others.iter().map(text).collect::<Option<Vec<Arc<str>>>>()?;
            listed.sort_unstable();
            Some(Asked::Listed(listed, true))
        }
        (_, [one]) => Some(Asked::Search(TextSearch::of(op, &text(one)?)?)),
        _ => None,
    }
}

/// A question about texts that takes one other text, read once for many.
pub enum TextSearch {
    /// `like`
    Like(LikePattern),
    /// `starts_with`
    Starts(String),
    /// `ends_with`
    Ends(String),
    /// `contains`
    Contains(Box<memchr::memmem::Finder<'static>>),
}

impl TextSearch {
    /// What an operator asks; `None` where it is another one.
    pub fn of(op: Op, wanted: &str) -> Option<TextSearch> {
        Some(match op {
            Op::Like => TextSearch::Like(LikePattern::new(wanted)),
            Op::Function(Function { name: "starts_with", .. }) => TextSearch::Starts(wanted.to_string()),
            Op::Function(Function { name: "ends_with", .. }) => TextSearch::Ends(wanted.to_string()),
            Op::Function(Function { name: "contains", .. }) => {
                TextSearch::Contains(Box::new(memchr::memmem::Finder::new(wanted.as_bytes()).into_owned()))
            }
            _ => return None,
        })
    }

    /// The answer for a text, by its bytes.
    pub fn finds(&self, text: &[u8]) -> bool {
        match self {
            TextSearch::Like(pattern) => pattern.matches(text),
            TextSearch::Starts(wanted) => text.starts_with(wanted.as_bytes()),
            TextSearch::Ends(wanted) => text.ends_with(wanted.as_bytes()),
            TextSearch::Contains(wanted) => wanted.find(text).is_some(),
        }
    }

    /// The answers for texts that stand one after the other, and end there: what has to be in one is looked for in all at once.
    pub fn find_all(&self, texts: &[u8], ends: &[usize]) -> Vec<bool> {
        let start = |text: usize| text.checked_sub(1).map_or(0, |before| ends[before]);
        let needle = match self {
            TextSearch::Like(pattern) => pattern.longest_part(),
            TextSearch::Contains(wanted) if !wanted.needle().is_empty() => Some(wanted.as_ref()),
            _ => None,
        };
        let Some(needle) = needle else {
            return (0..ends.len()).map(|text| self.finds(&texts[start(text)..ends[text]])).collect();
        };
        let mut found = vec![false; ends.len()];
        let mut text = 0;
        while let Some(at) = needle.find(&texts[start(text)..]).map(|at| start(text) + at) {
            text += ends[text..].partition_point(|end| *end <= at);
            // It may be that it begins in this text and ends in the next one.
            found[text] = self.finds(&texts[start(text)..ends[text]]);
            text += 1;
        }
        found
    }

    /// What texts have to begin with, where nothing else is asked of them.
    pub fn beginning(&self) -> Option<&str> {
        match self {
            TextSearch::Like(pattern) => pattern.beginning(),
            TextSearch::Starts(wanted) => Some(wanted),
            TextSearch::Ends(_) | TextSearch::Contains(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_in_one_piece_are_found_as_one_by_one() {
        let texts =
            ["", "ferry", "a ferry", "fer", "ry", "ryferry ferryfer", "", "fe", "rryy", "ferr", "", "y to Skaw", ""];
        let joined = texts.concat();
        let ends: Vec<usize> = (1..=texts.len()).map(|n| texts[..n].concat().len()).collect();
        for pattern in
            ["%ferry%", "%erry%fer%", "%y%", "a%ferry", "%ry", "fer%", "%", "", "%yy%", "f_r%", "%ä%", "%ryf%e%"]
        {
            for (op, wanted) in [
                (Op::Like, pattern.to_string()),
                (Op::Like, format!("{pattern}%")),
                (contains(), pattern.replace('%', "")),
            ] {
                let search = TextSearch::of(op, &wanted).expect("is one");
                let each: Vec<bool> = texts.iter().map(|text| search.finds(text.as_bytes())).collect();
                assert_eq!(search.find_all(joined.as_bytes(), &ends), each, "{wanted}");
            }
        }
    }

    fn contains() -> Op {
        Op::Function(super::super::super::functions::find("contains").expect("is a function"))
    }
}
