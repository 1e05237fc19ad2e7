//! What the texts of a model's file say: under which keys formulas, queries and names stand.

/// What a text of the file says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TextKind<'p> {
    /// A formula, and the table whose columns need no table in front.
    Formula(Option<&'p str>),
    /// What a lens makes of the figure that it is shown with.
    Reading,
    /// A query.
    Query,
    /// A query, or the name of a saved one.
    QueryOrName,
    /// An axis of a query.
    Axis,
    /// The name of a column of a table.
    ColumnOf(&'p str),
    /// A column with its table in front.
    ColumnPath,
    /// The name of a table.
    Table,
    /// The name of a lens.
    Lens,
    /// Anything that can stand in a list: a column with its table in front, a measure, a table, a hierarchy, a lens.
    Listed,
    /// The name of a hint.
    Hint,
    /// Anything else, which names nothing of the model.
    Plain,
}

impl TextKind<'_> {
    /// Whether it is written in the language of formulas.
    pub fn is_formula(self) -> bool {
        use TextKind::{Axis, Formula, Query, QueryOrName, Reading};
        matches!(self, Formula(_) | Reading | Query | QueryOrName | Axis)
    }
}

/// What the text says that keys lead to; elements of lists have their number.
pub fn text_kind(path: &[String]) -> TextKind<'_> {
    // No section has more keys.
    let mut keys = [""; 6];
    let Some(keys) = keys.get_mut(..path.len()) else { return TextKind::Plain };
    keys.iter_mut().zip(path).for_each(|(key, said)| *key = said);
    match *keys {
        ["measure", _, "formula"] | ["expect", _, "where"] | ["expect", _, "same", _] => TextKind::Formula(None),
        ["table", table, "where"] | ["table", table, "column", _, "formula"] | ["role", _, "rows", table] => {
            TextKind::Formula(Some(table))
        }
        ["lens", _, "reading", _, "formula"] => TextKind::Reading,
        ["query", _, "text"] | ["table", _, "query"] => TextKind::Query,
        ["expect", _, "query"] => TextKind::QueryOrName,
        ["expect", _, "by", _] => TextKind::Axis,
        ["table", table, "key" | "calendar" | "latest_by"]
        | ["table", table, "order", _]
        | ["table", table, "partition", "column"]
        | ["table", table, "column", _, "display_order"]
        | ["table", table, "hierarchy", _, "levels", _] => TextKind::ColumnOf(table),
        ["relationship", _, "many" | "one"]
        | ["relationship", _, "many" | "one", _]
        | ["expect", _, "unique" | "no_orphans"]
        | ["expect", _, "unique" | "no_orphans", _]
        | ["expect", _, "fresh"] => TextKind::ColumnPath,
        ["table", _, "same_as"] => TextKind::Table,
        ["lens", _, "wraps", _] => TextKind::Lens,
        ["role", _, "deny", _] | ["shortlist", _, "list", _] => TextKind::Listed,
        ["model", "allow", _]
        | ["table" | "measure" | "relationship", _, "allow", _]
        | ["table", _, "column", _, "allow", _] => TextKind::Hint,
        _ => TextKind::Plain,
    }
}
