//! Nested data: what is called what, and lists whose entries are the rows of a table.

use std::fmt;

use serde_json::{Map, Value as Json};

/// What parts the names of an object and of what is in it, for people,
pub const NESTED: &str = "_";
/// and while it is read: no name that anybody gives has this.
pub const INSIDE: &str = "\u{1}";

/// A list, and what of the rows that it stands in goes with its entries.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RowsOf {
    /// The names that lead to it, such as `order` and `items`; of a list on the way every entry is gone through.
    path: Vec<String>,
    /// The names that lead to values of the rows around.
    carried: Vec<Vec<String>>,
}

impl fmt::Display for RowsOf {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.path.join("."))
    }
}

/// Where a value that is carried stands: how deep the row around is in which it is looked for, and the names that lead to it
/// from there.
pub(super) struct Carried<'a> {
    pub(super) depth: usize,
    pub(super) path: &'a [String],
    /// All names that lead to it.
    pub(super) whole: &'a [String],
}

impl RowsOf {
    /// Of paths such as `order.items`.
    pub fn new(path: &str, carried: &[String]) -> RowsOf {
        let names = |path: &str| path.split('.').map(str::to_string).collect::<Vec<_>>();
        RowsOf { path: names(path), carried: carried.iter().map(|path| names(path)).collect() }
    }

    /// The names that lead to the list.
    pub(super) fn path(&self) -> &[String] {
        &self.path
    }

    /// What entries that are no objects are called, and what parts the names of those that are from the same around.
    pub(super) fn name(&self) -> &str {
        self.path.last().map_or("", String::as_str)
    }

    /// What is carried, each in the innermost row around that has it. What stands in the entries themselves is theirs.
    pub(super) fn carried(&self) -> impl Iterator<Item = Carried<'_>> {
        self.carried.iter().filter(|whole| !whole.starts_with(&self.path)).map(|whole| {
            let shared = whole.iter().zip(&self.path).take_while(|(a, b)| a == b).count();
            let depth = shared.min(whole.len() - 1);
            Carried { depth, path: &whole[depth..], whole }
        })
    }

    /// Calls `visit` with the entries of the list in a row, each as a row. A single value stands for a list of it, and nothing
    /// for an empty one.
    ///
    /// # Errors
    /// The first that `visit` gives.
    pub(super) fn entries<E>(
        &self,
        row: Map<String, Json>,
        visit: &mut dyn FnMut(Map<String, Json>) -> Result<(), E>,
    ) -> Result<(), E> {
        self.walk(&Json::Object(row), &mut Vec::new(), visit)
    }

    fn walk<'j, E>(
        &self,
        value: &'j Json,
        around: &mut Vec<&'j Json>,
        visit: &mut dyn FnMut(Map<String, Json>) -> Result<(), E>,
    ) -> Result<(), E> {
        match value {
            Json::Array(list) => list.iter().try_for_each(|value| self.walk(value, around, visit)),
            Json::Null => Ok(()),
            value if around.len() == self.path.len() => visit(self.entry(value, around)),
            Json::Object(names) => {
                let Some(inner) = inside(names, &self.path[around.len()]) else { return Ok(()) };
                around.push(value);
                let done = self.walk(inner, around, visit);
                around.pop();
                done
            }
            _ => Ok(()),
        }
    }

    fn entry(&self, value: &Json, around: &[&Json]) -> Map<String, Json> {
        let mut row = Map::new();
        let mut names: Vec<String> = Vec::new();
        for carried in self.carried() {
            let mut found = around.get(carried.depth).copied();
            for name in carried.path {
                found = found.and_then(Json::as_object).and_then(|value| inside(value, name));
            }
            let name = carried.whole.join(INSIDE);
            if let Some(found) = found {
                row.insert(name.clone(), found.clone());
            }
            names.push(name);
        }
        let mut put = |name: &str, value: &Json| {
            // What is called as something around is told apart by the list's name.
            let is_taken = names.iter().any(|other| other == name);
            let name = if is_taken { format!("{}{INSIDE}{name}", self.name()) } else { name.into() };
            row.insert(name, value.clone());
        };
        match value {
            Json::Object(entries) => entries.iter().for_each(|(name, value)| put(name, value)),
            value => put(self.name(), value),
        }
        row
    }
}

/// The value of a name in an object, or of a name that is put together from those that lead to it, as columns are called.
fn inside<'j>(object: &'j Map<String, Json>, name: &str) -> Option<&'j Json> {
    if let Some(value) = object.get(name) {
        return Some(value);
    }
    object.iter().find_map(|(outer, value)| {
        let rest = name.strip_prefix(outer.as_str())?.strip_prefix(NESTED)?;
        inside(value.as_object()?, rest)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(path: &str, carried: &[&str], line: &str) -> Vec<String> {
        let carried: Vec<String> = carried.iter().map(|c| c.to_string()).collect();
        let row: Map<String, Json> = serde_json::from_str(line).unwrap();
        let mut rows = Vec::new();
        let done = RowsOf::new(path, &carried).entries(row, &mut |row| {
            rows.push(Json::Object(row).to_string().replace("\\u0001", "/"));
            Ok::<(), ()>(())
        });
        done.unwrap();
        rows
    }

    #[test]
    fn entries_of_lists_with_what_is_around_them() {
        let cases: &[(&str, &[&str], &str, &[&str])] = &[
            (
                "tags",
                &["id"],
                r#"{"id": 1, "tags": ["a", null, "b"]}"#,
                &[r#"{"id":1,"tags":"a"}"#, r#"{"id":1,"tags":"b"}"#],
            ),
            ("tags", &["id"], r#"{"id": 1, "tags": "a"}"#, &[r#"{"id":1,"tags":"a"}"#]),
            ("tags", &["id"], r#"{"id": 1, "tags": []}"#, &[]),
            ("tags", &["id"], r#"{"id": 1}"#, &[]),
            (
                "order.items",
                &["order.id", "by.name"],
                r#"{"by": {"name": "Ann"}, "order": {"id": 7, "items": [{"id": 1, "n": 2}]}}"#,
                &[r#"{"by/name":"Ann","id":1,"n":2,"order/id":7}"#],
            ),
            (
                "orders.items",
                &["orders.id", "id"],
                r#"{"id": 9, "orders": [{"id": 1, "items": [{"id": "x"}]}, {"id": 2, "items": [{"id": "y"}, {"id": "z"}]}]}"#,
                &[
                    r#"{"id":9,"items/id":"x","orders/id":1}"#,
                    r#"{"id":9,"items/id":"y","orders/id":2}"#,
                    r#"{"id":9,"items/id":"z","orders/id":2}"#,
                ],
            ),
            ("a", &["a.b"], r#"{"a": [{"b": 1}]}"#, &[r#"{"b":1}"#]),
            ("a_b", &["c_d_e"], r#"{"a": {"b": [1]}, "c": {"d": {"e": 2}}}"#, &[r#"{"a_b":1,"c_d_e":2}"#]),
            ("a", &["none"], r#"{"a": [1]}"#, &[r#"{"a":1}"#]),
            ("a.b", &["a"], r#"{"a": {"b": [1]}}"#, &[r#"{"a":{"b":[1]},"b":1}"#]),
            ("a.b", &[], r#"{"a": 5}"#, &[]),
        ];
        for (path, carried, line, expected) in cases {
            assert_eq!(rows(path, carried, line), *expected, "{path} of {line}");
        }
    }
}
