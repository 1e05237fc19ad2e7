//! What reaches a table: filters and dimensions over default relationships, and back over those that filter both ways
//! (language reference, section 6).

use super::ids::{DimId, KeyId};
use super::lower::Planner;
use super::rows::ParameterId;
use super::scope::{Filter, Key, Scope};
use super::tree::{Bridge, Read};
use cubrel_formula::schema::{RelationshipId, TableId};

/// The filters and dimensions of a scope that reach a table.
pub(super) struct Reached {
    filters: Vec<Filter>,
    dims: Vec<DimId>,
    tables: Vec<TableId>,
    bridges: Vec<ReachedBack>,
}

/// What reaches a table from the many side of a relationship.
struct ReachedBack {
    relationship: RelationshipId,
    path: Vec<RelationshipId>,
    many: TableId,
    one: TableId,
    reached: Reached,
}

impl Planner<'_> {
    /// What reaches a table; for the many side of `by`, apart from what comes over that relationship.
    pub(super) fn reached(&self, table: TableId, scope: &Scope, by: Option<RelationshipId>, depth: usize) -> Reached {
        let mut reach = self.schema().reach(table, &scope.detours);
        reach.retain(|_, path| by.is_none() || path.first() != by.as_ref());
        let filters = scope.filters.iter().filter_map(|f| f.reaching(|t| reach.contains_key(&t))).collect();
        let reaches = |d: &DimId| {
            let dim = scope.dim(*d);
            dim.filters
                && match dim.key {
                    Key::Column(c) => reach.contains_key(&c.table),
                    Key::Row(t) => reach.contains_key(&t),
                    Key::Value(_) => false,
                }
        };
        let dims = scope.dim_ids().filter(reaches).collect();
        let mut bridges = Vec::new();
        if depth <= self.schema().tables.len() {
            let mut ends: Vec<(&TableId, &Vec<RelationshipId>)> = reach.iter().collect();
            ends.sort();
            for (one, path) in ends {
                bridges.extend(self.bridges_to(*one, path, scope, by, depth));
            }
        }
        let tables = reach.into_keys().collect();
        Reached { filters, dims, tables, bridges }
    }

    /// The relationships that bring filters back to a table.
    fn bridges_to(
        &self,
        one: TableId,
        path: &[RelationshipId],
        scope: &Scope,
        by: Option<RelationshipId>,
        depth: usize,
    ) -> Vec<ReachedBack> {
        let schema = self.schema();
        let comes_back = |id: &RelationshipId| {
            let r = schema.relationship(*id);
            r.one == one
                && (r.both_ways || scope.both_ways.contains(id))
                && by != Some(*id)
                && !path.contains(id)
                && schema.reach(r.many, &scope.detours).get(&one).is_some_and(|p| p.as_slice() == [*id])
        };
        (0..schema.relationships.len() as u32)
            .map(RelationshipId)
            .filter(comes_back)
            .filter_map(|id| {
                let many = schema.relationship(id).many;
                let reached = self.reached(many, scope, Some(id), depth + 1);
                let nothing = reached.all_dims().is_empty() && reached.all_filters().is_empty();
                (!nothing).then(|| ReachedBack { relationship: id, path: path.to_vec(), many, one, reached })
            })
            .collect()
    }
}

impl Reached {
    /// All dimensions, by whatever way they come.
    pub(super) fn all_dims(&self) -> Vec<DimId> {
        let back = self.bridges.iter().flat_map(|b| b.reached.all_dims());
        self.dims.iter().copied().chain(back).collect()
    }

    /// Whether something comes from a table over a relationship that filters both ways.
    pub(super) fn comes_back_from(&self, table: TableId) -> bool {
        self.bridges.iter().any(|b| b.reached.tables.contains(&table) || b.reached.comes_back_from(table))
    }

    /// All filters, by whatever way they come.
    pub(super) fn all_filters(&self) -> Vec<&Filter> {
        let back = self.bridges.iter().flat_map(|b| b.reached.all_filters());
        self.filters.iter().chain(back).collect()
    }

    /// All values from outside that the filters take.
    pub(super) fn all_outer(&self) -> Vec<ParameterId> {
        self.all_filters().into_iter().flat_map(|f| f.outer().to_vec()).collect()
    }

    /// The read of a table, grouped by some dimensions.
    pub(super) fn into_read(self, table: TableId, scope: &Scope, dims: &[DimId], outer: Vec<ParameterId>) -> Read {
        let bridges = self.bridges.into_iter().map(|b| b.into_bridge(scope, dims)).collect();
        Read {
            table,
            filters: self.filters,
            keys: dims.iter().map(|d| scope.dim(*d).key).collect(),
            detours: scope.detours.clone(),
            bridges,
            outer,
            aggregates: Vec::new(),
            roll_ups: Vec::new(),
            by_value: None,
            together: Vec::new(),
        }
    }
}

impl ReachedBack {
    /// `dims` are the dimensions of the outer read, in the order of its keys.
    fn into_bridge(self, scope: &Scope, dims: &[DimId]) -> Bridge {
        let mine = self.reached.all_dims();
        let keys: Vec<KeyId> = (0..dims.len()).filter(|k| mine.contains(&dims[*k])).map(KeyId::new).collect();
        let inner: Vec<DimId> = keys.iter().map(|k| dims[k.index()]).collect();
        let outer = self.reached.all_outer();
        let mut pairs = self.reached.into_read(self.many, scope, &inner, outer);
        pairs.keys.insert(0, Key::Row(self.one));
        for bridge in &mut pairs.bridges {
            bridge.keys.iter_mut().for_each(|k| *k = KeyId::new(k.index() + 1));
        }
        Bridge { relationship: self.relationship, path: self.path, pairs: Box::new(pairs), keys }
    }
}
