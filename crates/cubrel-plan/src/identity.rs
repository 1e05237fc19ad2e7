//! When two reads go through the same rows in the same groups: by their structure, never by how they print, and wherever
//! their formulas stand.

use std::collections::HashMap;
use std::hash::{BuildHasher, Hash};

use foldhash::fast::FixedState;

use super::ids::{AggregateId, KeyId, ReadId};
use super::rows::ParameterId;
use super::scope::{FilterTest, Key};
use super::tree::{Read, ReadAggregate};
use cubrel_formula::schema::{ColumnId, Detours, RelationshipDef, RelationshipId, Schema, TableId};

/// The rows that a read goes through.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct ReadRows {
    table: TableId,
    /// In an order that depends on nothing but what they are; which was first does not matter.
    filters: Vec<FilterTest>,
    detours: Detours,
    bridges: Vec<(RelationshipId, Vec<RelationshipId>, Identity, Vec<KeyId>)>,
    outer: Vec<ParameterId>,
}

/// What tells two reads apart, aggregates aside: the rows, and what they are grouped by.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Identity {
    rows: ReadRows,
    keys: Vec<Key>,
}

impl Read {
    /// What tells it apart from other reads, aggregates aside.
    pub(super) fn identity(&self) -> Identity {
        Identity { rows: self.rows(), keys: self.keys.clone() }
    }

    /// The rows that it goes through.
    pub(super) fn rows(&self) -> ReadRows {
        // What is found out about a read later tells it apart from none.
        let Read {
            table,
            filters,
            keys: _,
            detours,
            bridges,
            outer,
            aggregates: _,
            roll_ups: _,
            by_value: _,
            together: _,
        } = self;
        let mut filters: Vec<FilterTest> = filters.iter().map(|f| f.test.clone()).collect();
        filters.sort_by_cached_key(|test| FixedState::default().hash_one(test));
        filters.dedup();
        let bridges = bridges.iter().map(|b| (b.relationship, b.path.clone(), b.pairs.identity(), b.keys.clone()));
        ReadRows { table: *table, filters, detours: detours.clone(), bridges: bridges.collect(), outer: outer.clone() }
    }

    /// The place of an aggregate, which is added unless it is there.
    pub(super) fn place_of(&mut self, aggregate: ReadAggregate) -> AggregateId {
        let place = self.aggregates.iter().position(|a| *a == aggregate).unwrap_or_else(|| {
            self.aggregates.push(aggregate);
            self.aggregates.len() - 1
        });
        AggregateId::new(place)
    }
}

/// The reads of a plan, each of which stands once.
#[derive(Debug, Default)]
pub(super) struct Reads {
    list: Vec<Read>,
    known: HashMap<Identity, ReadId>,
    /// By read and hash, the aggregates that may be equal: a query can have thousands.
    aggregates: HashMap<(ReadId, u64), Vec<AggregateId>>,
}

impl Reads {
    /// The place of a read, which is added unless an equal one is there.
    pub(super) fn place_of(&mut self, read: Read) -> ReadId {
        *self.known.entry(read.identity()).or_insert_with(|| {
            self.list.push(read);
            ReadId::new(self.list.len() - 1)
        })
    }

    /// The place of an aggregate of a read, which is added unless an equal one is there.
    pub(super) fn place_of_aggregate(&mut self, read: ReadId, aggregate: ReadAggregate) -> AggregateId {
        let hash = FixedState::default().hash_one(&aggregate);
        let alike = self.aggregates.entry((read, hash)).or_default();
        let list = &mut self.list[read.index()].aggregates;
        if let Some(known) = alike.iter().find(|place| list[place.index()] == aggregate) {
            return *known;
        }
        list.push(aggregate);
        let place = AggregateId::new(list.len() - 1);
        alike.push(place);
        place
    }

    pub(super) fn into_list(self) -> Vec<Read> {
        self.list
    }
}

/// Whether a key is another one, or the row that the other one tells.
pub(super) fn is_told_by(schema: &Schema, key: Key, other: Key) -> bool {
    let tells = |table: TableId, column: ColumnId| {
        let is_key = |r: &RelationshipDef| r.one == table && r.one_columns == [column.index];
        column.table == table && schema.relationships.iter().any(is_key)
    };
    match (key, other) {
        (Key::Row(table), Key::Column(column)) => tells(table, column),
        _ => key == other,
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{grid, model};

    #[test]
    fn reads_are_one_when_they_go_through_the_same_rows_in_the_same_groups() {
        let cases = [
            ("sum(booking.net), max(booking.net)", 1),
            ("sum(booking.net) given (route.id = 'r1'), max(booking.net) given (  route.id='r1')", 1),
            ("sum(booking.net) given (route.id = 'r1'), sum(booking.net) given (route.id = 'r2')", 2),
            (
                "(sum(booking.net) given (route.miles > 7)) given (route.id = 'r1'), \
                 (sum(booking.net) given (route.id = 'r1')) given (route.miles > 7)",
                1,
            ),
            ("sum(booking.net) given (booking.route = '1'), sum(booking.net) given (booking.net = 1)", 2),
            ("sum(booking.net), sum(booking.net) given (without all)", 2),
        ];
        let model = model();
        for (items, expected) in cases {
            let reads = grid(&model, &format!("grid {items} by season.name, route.miles")).reads;
            assert_eq!(reads.iter().filter(|r| !r.aggregates.is_empty()).count(), expected, "{items}");
        }
    }

    #[test]
    fn an_aggregate_of_a_read_stands_once_wherever_it_is_named() {
        let model = model();
        let of = |items: &str| {
            let reads = grid(&model, &format!("grid {items} by route.miles")).reads;
            reads.iter().map(|r| r.aggregates.len()).sum::<usize>()
        };
        assert_eq!(of("sum(booking.net), sum( booking.net ) * 2, max(booking.net)"), 2);
        let many: Vec<String> = (0..3000).map(|n| format!("sum(booking.net + {})", n % 1500)).collect();
        assert_eq!(of(&many.join(", ")), 1500);
    }
}
