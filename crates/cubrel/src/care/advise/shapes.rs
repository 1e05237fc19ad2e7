//! Advice about what the data looks like: floats of many digits, columns that take much of the model, texts that belong
//! into a table of their own, tables that stand there twice, keys of very many values.

use std::collections::HashMap;
use std::sync::Arc;

use indexmap::IndexSet;

use super::{Advised, Adviser, ORDERED_TABLES, WORTH_BYTES};
use crate::Error;
use crate::care::graph::Graph;
use crate::care::toml_edits::TomlEdits;
use cubrel_formula::schema::{ColumnId, Computed, TableId};
use cubrel_model::parts::Part;
use cubrel_store::column::SegmentBounds;
use cubrel_store::texts::TextList;
use cubrel_store::{CodedColumn, Encoding, RawColumn, RawData};
use cubrel_value::{Matching, Type};

/// A column with so many parts in a hundred of the model takes much of it,
const HEAVY_PERCENT: u64 = 20;
/// and one with so many may be worth fewer digits.
const COARSE_PERCENT: u64 = 3;
/// Nobody reads more places than these.
const MOST_PLACES: u8 = 6;
/// Fewer keys than these cost nothing that one would feel.
const MANY_KEYS: u64 = 10_000;
/// Texts of a table that are held against its other columns.
const MOST_TEXTS: usize = 6;

impl Adviser<'_> {
    /// The columns with values of their own, the heaviest first: not of copies, nor of tables that were made here.
    fn loaded_columns(&self) -> Vec<(ColumnId, Arc<CodedColumn>)> {
        let (schema, store) = (self.model().schema(), self.model().store());
        let file = &self.model().document().file;
        let mut all = Vec::new();
        for (t, table) in schema.tables.iter().enumerate() {
            if file.table.get(&table.name).is_none_or(|s| s.source.is_none()) {
                continue;
            }
            for (c, column) in table.columns.iter().enumerate().filter(|(_, c)| c.computed != Computed::After) {
                let id = ColumnId { table: TableId(t as u32), index: c as u32 };
                if !column.name.is_empty() {
                    all.push((id, store.tables[t].columns[c].verified().clone()));
                }
            }
        }
        all.sort_by_key(|(_, data)| std::cmp::Reverse(weight(data)));
        all
    }

    fn part(&self, id: ColumnId) -> Part {
        let schema = self.model().schema();
        Part::Column(schema.table(id.table).name.clone(), schema.column(id).name.clone())
    }

    fn is_key(&self, id: ColumnId) -> bool {
        self.model().schema().relationships.iter().any(|r| {
            (r.many == id.table && r.many_columns.contains(&id.index))
                || (r.one == id.table && r.one_columns.contains(&id.index))
        })
    }

    /// Columns that take much of the model, though something uses them: who may say whether it has to be.
    pub(super) fn heavy(&self) -> Result<Vec<Advised>, Error> {
        let bytes = self.model().sizes().model.bytes;
        let graph = Graph::new(self.model());
        let mut found = Vec::new();
        for (id, data) in self.loaded_columns() {
            if weight(&data) * 100 < bytes * HEAVY_PERCENT || self.is_key(id) {
                continue;
            }
            let name = self.model().schema().column_name(id);
            let part = self.part(id);
            let user = |by: &Part| format!("{} {}", by.kind().name(), graph.show(by));
            let used: IndexSet<String> = graph.users(&part).map(|m| user(&m.by)).collect();
            // What nothing uses is advised by itself.
            let Some(first) = used.first() else { continue };
            let Some(weights) = self.suppose(format!("drop {name}"))? else { continue };
            let more = if used.len() == 1 { String::new() } else { format!(" and {} more", used.len() - 1) };
            let share = weight(&data) * 100 / bytes.max(1);
            let says = format!("{name} takes {share} % of the model and is used by {first}{more}: is that worth it?");
            found.push(Advised::of_bytes("heavy", name, says, weights));
        }
        Ok(found)
    }

    /// Floats with more digits than anybody reads may be worth fewer.
    pub(super) fn precision(&self) -> Result<Vec<Advised>, Error> {
        let bytes = self.model().sizes().model.bytes;
        let mut found = Vec::new();
        for (id, data) in self.loaded_columns() {
            let column = self.model().schema().column(id);
            let is_heavy = weight(&data) * 100 >= bytes * COARSE_PERCENT;
            if column.ty != Type::Float || self.is_key(id) || weight(&data) < WORTH_BYTES || !is_heavy {
                continue;
            }
            found.extend(self.rounded(id, &data)?);
        }
        Ok(found)
    }

    /// What a column of floats takes with as many places as its values bear.
    fn rounded(&self, id: ColumnId, data: &CodedColumn) -> Result<Option<Advised>, Error> {
        let name = self.model().schema().column_name(id);
        let places = useful_places(data);
        let Some((before, after)) = self.suppose(format!("round {name} to {places}"))? else { return Ok(None) };
        if !self.is_worth(before.saturating_sub(after), before) {
            return Ok(None);
        }
        let says = format!("{name} with {places} places takes less, where so many are enough: round it in the source");
        // The saved queries would not give the same: that is what rounding is.
        let advised = Advised::of_bytes("precision", name, says, (before, after));
        Ok(Some(Advised { same_numbers: Some(false), ..advised }))
    }

    /// Texts of a large table that another of its columns determines: they belong into a table of their own.
    pub(super) fn dimensions(&self) -> Result<Vec<Advised>, Error> {
        let all = self.loaded_columns();
        let mut tables: Vec<TableId> = Vec::new();
        all.iter().for_each(|(id, _)| {
            if !tables.contains(&id.table) {
                tables.push(id.table);
            }
        });
        let mut found = Vec::new();
        for table in tables.into_iter().take(ORDERED_TABLES) {
            let own: Vec<&(ColumnId, Arc<CodedColumn>)> = all.iter().filter(|(id, _)| id.table == table).collect();
            found.extend(self.dimension(&own)?);
        }
        Ok(found)
    }

    fn dimension(&self, own: &[&(ColumnId, Arc<CodedColumn>)]) -> Result<Option<Advised>, Error> {
        let schema = self.model().schema();
        let rows = own.first().map_or(0, |(_, data)| data.rows() as u64);
        let few = |data: &CodedColumn| data.distinct() > 1 && data.distinct().saturating_mul(4) <= rows;
        let texts = own.iter().filter(|(id, data)| data.ty() == Type::Text && few(data) && !self.is_key(*id));
        let texts: Vec<_> = texts.take(MOST_TEXTS).collect();
        let mut keys: Vec<_> = own.iter().filter(|(_, data)| few(data)).collect();
        // What says most with fewest values.
        keys.sort_by_key(|(_, data)| data.distinct());
        let mut best: Option<Advised> = None;
        for (key, by) in keys {
            self.ended()?;
            let told: Vec<_> = texts
                .iter()
                .filter(|(id, data)| id != key && data.distinct() <= by.distinct() && determines(by, data))
                .collect();
            if told.is_empty() {
                continue;
            }
            let Some((before, after)) = self.suppose_without(told.iter().map(|(id, _)| *id))? else { continue };
            let own_table: u64 =
                told.iter().map(|(_, data)| weight_for_each(by, data)).sum::<u64>() + weight_of_key(by);
            let after = after + own_table;
            let saved = before.saturating_sub(after);
            if self.is_worth(saved, before) && best.as_ref().is_none_or(|b| saved > b.saved_bytes()) {
                let name = schema.table(key.table).name.clone();
                let names: Vec<&str> = told.iter().map(|(id, _)| schema.column(*id).name.as_str()).collect();
                let says = format!(
                    "in {name}, {} says what {} is: they belong into a table of their own, with one row for each",
                    schema.column(*key).name,
                    names.join(", ")
                );
                best = Some(Advised::of_bytes("table", schema.column_name(*key), says, (before, after)));
            }
        }
        Ok(best)
    }

    fn suppose_without(&self, columns: impl Iterator<Item = ColumnId>) -> Result<Option<(u64, u64)>, Error> {
        let schema = self.model().schema();
        let drop = |id: ColumnId| format!("drop {}", schema.column_name(id));
        self.suppose_all(&columns.map(drop).collect::<Vec<_>>())
    }

    /// Tables that are there twice, calendars above all: one can be a copy of the other, which costs nothing.
    pub(super) fn copies(&self) -> Result<Vec<Advised>, Error> {
        let (schema, store) = (self.model().schema(), self.model().store());
        let sizes = self.model().sizes();
        let file = &self.model().document().file;
        let is_own = |name: &str| file.table.get(name).is_some_and(|s| s.same_as.is_none() && s.query.is_none());
        let mut found: Vec<Advised> = Vec::new();
        for (t, table) in schema.tables.iter().enumerate().filter(|(_, t)| is_own(&t.name)) {
            self.ended()?;
            let first = schema.tables[..t].iter().enumerate().find(|(f, first)| {
                is_own(&first.name)
                    && first.columns.len() == table.columns.len()
                    && first.columns.iter().zip(&table.columns).all(|(a, b)| a.name == b.name && a.ty == b.ty)
                    && same_rows(&store.tables[*f].columns, &store.tables[t].columns)
            });
            let Some((_, first)) = first else { continue };
            let own = sizes.tables.iter().find(|s| s.name == table.name).map_or(0, |s| s.bytes);
            let (before, after) = (sizes.model.bytes, sizes.model.bytes.saturating_sub(own));
            if !self.is_worth(own, before) {
                continue;
            }
            let (name, of) = (table.name.clone(), &first.name);
            let says = format!("{name} has the rows of {of}: as its copy it costs nothing");
            let advised = Advised::of_bytes("copy", name.clone(), says, (before, after));
            found.push(match self.as_copy(&name, of) {
                Some(text) => self.with_reload(advised, text)?,
                None => advised,
            });
        }
        Ok(found)
    }

    /// The text in which a table is a copy of another.
    fn as_copy(&self, table: &str, of: &str) -> Option<String> {
        let mut edits = TomlEdits::new(&self.editor.text);
        let path = Part::Table(table.to_string()).keys();
        let at = |key: &str| [path.clone(), vec![key.to_string()]].concat();
        let first = ["generate", "source", "calendar"]
            .iter()
            .find_map(|key| edits.places.entries.iter().find(|e| e.path == at(key)).map(|e| (*key, e.span)))?;
        edits.replace(first.1, format!("same_as = {}", toml::Value::String(of.to_string())));
        for key in ["generate", "source", "calendar", "key"].iter().filter(|key| **key != first.0) {
            edits.remove(&at(key));
        }
        Some(edits.done())
    }

    /// Keys of very many values: texts that could be numbers, and rows that are in truth one.
    pub(super) fn keys(&self) -> Result<Vec<Advised>, Error> {
        let schema = self.model().schema();
        let sizes = self.model().sizes();
        let file = &self.model().document().file;
        let mut found = Vec::new();
        for (r, size) in schema.relationships.iter().zip(&sizes.relationships) {
            self.ended()?;
            let is_loaded = |t: TableId| file.table.get(&schema.table(t).name).is_some_and(|s| s.source.is_some());
            if size.key_count < MANY_KEYS
                || r.spare
                || r.matching != Matching::Exact
                || !is_loaded(r.many)
                || !is_loaded(r.one)
            {
                continue;
            }
            let ([many], [one]) = (r.many_columns.as_slice(), r.one_columns.as_slice()) else { continue };
            let data = |table: TableId, column: u32| {
                self.model().store().tables[table.0 as usize].columns[column as usize].verified().clone()
            };
            let (many, one) = (data(r.many, *many), data(r.one, *one));
            let before = sizes.model.bytes;
            let says = |what: &str| format!("{} carries {} keys: {what}", size.many, size.key_count);
            let (after, says) = if size.key_count.saturating_mul(2) > many.rows() as u64 {
                let links = weight(&one) + weight(&many) + size.link_bytes;
                let what = format!("nearly every row has a row of {} to itself, whose columns could stand with it", {
                    &schema.table(r.one).name
                });
                (before.saturating_sub(links), says(&what))
            } else if one.ty() == Type::Text {
                let (new_many, new_one) = numbered(&many, &one);
                let after = before.saturating_sub(weight(&many) + weight(&one));
                (
                    after + weight(&new_many) + weight(&new_one),
                    says("as whole numbers in place of texts they take less"),
                )
            } else {
                continue;
            };
            if self.is_worth(before.saturating_sub(after), before) {
                found.push(Advised::of_bytes("keys", size.many.clone(), says, (before, after)));
            }
        }
        Ok(found)
    }
}

fn weight(column: &CodedColumn) -> u64 {
    let (codes, values) = column.heap_bytes();
    (codes + values) as u64
}

/// So many places that the largest values keep five digits.
fn useful_places(column: &CodedColumn) -> u8 {
    let RawData::Floats(values) = column.raw().data else { return 0 };
    let most = values.iter().fold(0.0f64, |most, v| if v.is_finite() { most.max(v.abs()) } else { most });
    let before = if most >= 1.0 { most.log10().floor() as i32 + 1 } else { 0 };
    (5 - before).clamp(0, i32::from(MOST_PLACES)) as u8
}

/// Whether all rows that are alike in one column are alike in another.
fn determines(by: &CodedColumn, of: &CodedColumn) -> bool {
    const BATCH: usize = 4096;
    let mut known: Vec<u64> = vec![u64::MAX; by.domain() as usize + 1];
    let (mut keys, mut values) = (vec![0; BATCH], vec![0; BATCH]);
    for batch in by.segment_bounds().batches(BATCH) {
        let (keys, values) = (&mut keys[..batch.len()], &mut values[..batch.len()]);
        by.unpack(batch.start, keys);
        of.unpack(batch.start, values);
        for (key, value) in keys.iter().zip(values.iter()) {
            match &mut known[*key as usize] {
                unknown if *unknown == u64::MAX => *unknown = *value,
                same if same == value => {}
                _ => return false,
            }
        }
    }
    true
}

/// What a column weighs with one row for each value of another, which determines it.
fn weight_for_each(by: &CodedColumn, of: &CodedColumn) -> u64 {
    let mut first: HashMap<u64, u64> = HashMap::new();
    by.codes().into_iter().zip(of.codes()).for_each(|(key, value)| {
        first.entry(key).or_insert(value);
    });
    let codes: Vec<u64> = first.into_values().collect();
    let mut values = TextList::with_capacity(0, 0);
    let mut places: HashMap<u64, u32> = HashMap::new();
    let mut indices = Vec::with_capacity(codes.len());
    for code in codes {
        let place = *places.entry(code).or_insert_with(|| {
            let text = of.value_of(code);
            values.push(text.as_text().unwrap_or_default());
            values.len() as u32 - 1
        });
        indices.push(place);
    }
    let bounds = SegmentBounds::even(indices.len(), indices.len().max(1));
    let raw = RawColumn { ty: Type::Text, data: RawData::Texts { values, indices }, valid: None };
    weight(&CodedColumn::encode_in(&raw, &bounds))
}

/// What the key of such a table weighs, with the link to it: each value once.
fn weight_of_key(by: &CodedColumn) -> u64 {
    let bits = u64::from(64 - by.distinct().leading_zeros());
    let values = if matches!(by.encoding(), Encoding::Offset { .. }) { 0 } else { by.heap_bytes().1 as u64 };
    values + by.distinct() * bits / 8 + by.distinct() * 4
}

/// Whether two tables have the same values in the same rows.
fn same_rows(a: &[Arc<CodedColumn>], b: &[Arc<CodedColumn>]) -> bool {
    a.iter().zip(b).all(|(a, b)| {
        let (a, b) = (a.verified(), b.verified());
        a.rows() == b.rows()
            && a.distinct() == b.distinct()
            && a.codes().iter().zip(b.codes()).all(|(x, y)| a.value_of(*x) == b.value_of(y))
    })
}

/// The keys of both sides of a relationship as whole numbers, in the order of the one side.
fn numbered(many: &CodedColumn, one: &CodedColumn) -> (CodedColumn, CodedColumn) {
    let mut number: HashMap<String, i64> = HashMap::new();
    let mut number_of = |column: &CodedColumn| {
        let mut known: Vec<Option<i64>> = vec![None; column.domain() as usize + 1];
        let codes = column.codes();
        let mut values = Vec::with_capacity(codes.len());
        let mut valid = Vec::with_capacity(codes.len());
        for code in codes {
            let n = *known[code as usize].get_or_insert_with(|| {
                let next = number.len() as i64;
                column.value_of(code).as_text().map_or(-1, |text| *number.entry(text.to_string()).or_insert(next))
            });
            values.push(n.max(0));
            valid.push(n >= 0);
        }
        let valid = valid.contains(&false).then_some(valid);
        CodedColumn::encode_in(
            &RawColumn { ty: Type::Int, data: RawData::Ints(values), valid },
            column.segment_bounds(),
        )
    };
    let one = number_of(one);
    (number_of(many), one)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn floats(values: &[f64]) -> CodedColumn {
        CodedColumn::encode(&RawColumn { ty: Type::Float, data: RawData::Floats(values.to_vec()), valid: None }, 100)
    }

    #[test]
    fn largest_values_keep_five_digits() {
        let places = |values: &[f64]| useful_places(&floats(values));
        assert_eq!([places(&[1234.5678, 3.1]), places(&[0.123_456_789]), places(&[9e12])], [1, 5, 0]);
    }

    #[test]
    fn a_column_determines_another_when_no_value_stands_beside_two() {
        let ints = |values: &[i64]| {
            CodedColumn::encode(&RawColumn { ty: Type::Int, data: RawData::Ints(values.to_vec()), valid: None }, 100)
        };
        let by = ints(&[1, 2, 1, 3, 2]);
        assert!(determines(&by, &ints(&[7, 8, 7, 7, 8])));
        assert!(!determines(&by, &ints(&[7, 8, 7, 7, 9])));
    }
}
