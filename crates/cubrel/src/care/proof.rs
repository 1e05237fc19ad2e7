//! Whether two models give the same: every saved query, cell by cell, and the total of every measure.

use std::collections::BTreeMap;

use crate::insight::same_value;
use crate::{Error, Grid, Model, QueryOptions};
use cubrel_formula::words::quote_name;

/// What a model is asked, by the name in the first one: the text there and in the other.
pub(super) fn asked(
    a: &Model,
    new_name: impl Fn(&str, bool) -> String,
    b: &Model,
) -> BTreeMap<String, (String, String)> {
    let (file, other) = (&a.document().file, &b.document().file);
    let saved = file.query.iter().filter_map(|(name, query)| {
        let text = other.query.get(&new_name(name, true))?.text.clone();
        Some((format!("query {name}"), (query.text.clone(), text)))
    });
    let measures = file.measure.keys().filter_map(|name| {
        let new = new_name(name, false);
        let text = |name: &str| format!("grid {}", quote_name(name));
        other.measure.contains_key(&new).then(|| (format!("measure {name}"), (text(name), text(&new))))
    });
    saved.chain(measures).collect()
}

/// The first of the questions whose answers differ. What neither can answer is no difference.
pub(super) fn differing(
    (a, b): (&Model, &Model),
    asked: &BTreeMap<String, (String, String)>,
    options: &QueryOptions,
) -> Result<Option<String>, Error> {
    for (name, (of_a, of_b)) in asked {
        let answer = |model: &Model, text: &str| model.query_with(text, options).and_then(|query| query.run());
        let is_same = match (answer(a, of_a), answer(b, of_b)) {
            (Ok(a), Ok(b)) => same_grids(&a, &b),
            (Err(Error::Cancelled), _) | (_, Err(Error::Cancelled)) => return Err(Error::Cancelled),
            (a, b) => a.is_err() && b.is_err(),
        };
        if !is_same {
            return Ok(Some(name.clone()));
        }
    }
    Ok(None)
}

/// Whether two grids have the same lines, whatever their headings.
fn same_grids(a: &Grid, b: &Grid) -> bool {
    let same = |(a, b): (&crate::GridLine, &crate::GridLine)| {
        a.totalled == b.totalled
            && a.others == b.others
            && a.values.len() == b.values.len()
            && a.values.iter().zip(&b.values).all(|(x, y)| same_value(x, y))
    };
    a.lines.len() == b.lines.len() && a.lines.iter().zip(&b.lines).all(same)
}
