//! Which relationships formulas and queries follow: their plans say it, their texts do not.

use std::collections::BTreeSet;

use super::model::Model;
use super::options::QueryOptions;
use super::query::Query;
use super::steps;
use cubrel_formula::schema::{RelationshipId, TableId};
use cubrel_formula::source::Source;
use cubrel_formula::words::quote_name;
use cubrel_model::define::Step;
use cubrel_model::parts::Part;

/// A part of a model with the relationships that it follows.
pub(crate) struct Followed {
    pub(crate) by: Part,
    pub(crate) relationships: BTreeSet<RelationshipId>,
}

impl Model {
    /// The relationships that measures, columns computed after loading, tables by query, saved queries and roles follow,
    /// those that they name included. What cannot be planned follows none.
    pub(crate) fn followed(&self) -> Vec<Followed> {
        let schema = self.schema();
        let mut found = Vec::new();
        let mut add = |by: Part, relationships: BTreeSet<RelationshipId>| found.push(Followed { by, relationships });
        for step in &self.inner.after {
            let Ok(inputs) = steps::inputs(schema, &self.inner.settings, step) else { continue };
            match step {
                Step::Column(id, ..) => {
                    let (table, column) = (schema.table(id.table), schema.column(*id));
                    add(Part::column(&table.name, &column.name), inputs.relationships);
                }
                Step::Table(id, _) => add(Part::Table(schema.table(*id).name.clone()), inputs.relationships),
                Step::Shared(..) => {}
            }
        }
        for measure in schema.measures.iter().filter(|m| !m.name.is_empty()) {
            let text = format!("grid {}", quote_name(&measure.name));
            add(Part::Measure(measure.name.clone()), self.followed_by(&text));
        }
        let file = &self.document().file;
        for (name, saved) in &file.query {
            add(Part::Query(name.clone()), self.followed_by(&saved.text));
        }
        for (i, expectation) in file.expect.iter().enumerate() {
            let text = expectation.query_text().map(|text| file.query.get(&text).map_or(text, |q| q.text.clone()));
            add(Part::Expectation(i), text.map(|text| self.followed_by(&text)).unwrap_or_default());
        }
        for role in self.roles() {
            let rules = role.rows.iter().map(|rule| rule.table);
            add(Part::Role(role.name.clone()), rules.flat_map(|table| self.leading_to(table)).collect());
        }
        found
    }

    fn followed_by(&self, text: &str) -> BTreeSet<RelationshipId> {
        let query = Query::plan(self, &Source::new("query", text), &QueryOptions::default());
        query.map(|query| query.inputs().relationships).unwrap_or_default()
    }

    /// What hides rows of a table hides those that point at them.
    fn leading_to(&self, table: TableId) -> BTreeSet<RelationshipId> {
        let all = (0..self.schema().tables.len() as u32).map(TableId);
        all.filter_map(|from| self.schema().reach(from, &[]).remove(&table)).flatten().collect()
    }
}
