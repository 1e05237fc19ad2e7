//! What a plan is made of: reads, and the assemblies that take their results.

use std::sync::Arc;

use super::ids::{AggregateId, DimId, KeyId, ListedBy, ParameterPlace, ReadId};
use super::rows::{ParameterId, RowExpr};
use super::scope::{Dim, Filter, Key, Scope};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, Detours, RelationshipId, TableId};
use cubrel_formula::typed::{AggregateKind, Op, TypedPeriod};
use cubrel_value::{Type, Value};

/// One grouped pass over a table's rows.
#[derive(Clone, Debug)]
pub struct Read {
    /// The table.
    pub table: TableId,
    /// What its rows must satisfy.
    pub filters: Vec<Filter>,
    /// What they are grouped by.
    pub keys: Vec<Key>,
    /// Spare relationships in place of default paths.
    pub detours: Detours,
    /// Tables that point at this one, or at one that it looks up, and whose filters and keys travel back to it.
    pub bridges: Vec<Bridge>,
    /// Values from outside: the read is done once for each combination of them that occurs.
    pub outer: Vec<ParameterId>,
    /// What is computed of each group.
    pub aggregates: Vec<ReadAggregate>,
    /// Other reads whose groups it can be put together from.
    pub roll_ups: Vec<RollUp>,
    /// Another read that holds its answers for all values of one that comes from outside.
    pub by_value: Option<ByValue>,
    /// Reads that one pass can do, this one among them: they differ in some filters and in what they compute. Nothing where
    /// it is alone.
    pub together: Vec<ReadId>,
}

/// A read that is grouped by a column, its last key, where another one compares that column with a value from outside.
#[derive(Clone, Copy, Debug)]
pub struct ByValue {
    /// The grouped read; it has the same aggregates.
    pub read: ReadId,
    /// The value's place among the other's values from outside.
    pub outer: ParameterPlace,
    /// The column.
    pub column: ColumnId,
    /// `=`, `<`, `<=`, `>` or `>=`: the column stands on the left.
    pub op: Op,
    /// Whether exact numbers are compared as doubles; `=` never does that.
    pub as_float: bool,
}

/// Another read of the same rows by more keys, which has all that a read needs.
#[derive(Clone, Debug)]
pub struct RollUp {
    /// The other read.
    pub read: ReadId,
    /// For each key its place among the other's.
    pub keys: Vec<KeyId>,
    /// For each aggregate its place among the other's.
    pub aggregates: Vec<AggregateId>,
    /// How many keys the other has.
    pub width: usize,
}

/// A relationship that filters both ways, as a read takes it: a row counts under every combination of keys that the
/// rows pointing at it (or at what it looks up) have.
#[derive(Clone, Debug)]
pub struct Bridge {
    /// The relationship.
    pub relationship: RelationshipId,
    /// From the read's table to the one side; nothing when it is the one side.
    pub path: Vec<RelationshipId>,
    /// The rows of the many side: grouped by the row that they point at, then by `keys`.
    pub pairs: Box<Read>,
    /// Which of the outer read's keys come this way.
    pub keys: Vec<KeyId>,
}

/// One aggregate of a read.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct ReadAggregate {
    /// Which one.
    pub kind: AggregateKind,
    /// Its arguments.
    pub args: Vec<RowExpr>,
    /// A constant argument.
    pub constant: Option<Value>,
    /// Its order, with true for descending.
    pub order: Vec<(RowExpr, bool)>,
    /// The type of the result.
    pub ty: Type,
}

/// Operators over results of reads, for all cells of a scope at once.
#[derive(Clone, Debug)]
pub struct Assembly {
    /// What people call it: an item's heading, a measure's name.
    pub label: String,
    /// The operators; its leaves are `leaves`.
    pub scalar: Scalar,
    /// What the leaves are.
    pub leaves: Vec<Leaf>,
    /// The cells that it is evaluated for.
    pub scope: Arc<Scope>,
}

impl PartialEq for Assembly {
    /// Two say the same in the same cells when their operators and leaves are the same, whatever they are called.
    fn eq(&self, other: &Assembly) -> bool {
        self.scalar == other.scalar && self.leaves == other.leaves
    }
}

impl Assembly {
    /// The assembly that this one is and nothing else: an item that is a measure is that measure.
    pub fn bare(&self) -> &Assembly {
        match (&self.scalar.kind, self.leaves.as_slice()) {
            (ScalarKind::Leaf(0), [Leaf::Part(body)]) => body.bare(),
            _ => self,
        }
    }
}

/// A read of the plan, as one scope uses it.
#[derive(Clone, Debug, PartialEq)]
pub struct ReadRef {
    /// Which read.
    pub read: ReadId,
    /// For each of its keys, the dimension of the scope that it comes from.
    pub dims: Vec<DimId>,
    /// For each of its outer values, the dimension that holds it.
    pub outer: Vec<DimId>,
}

/// What an assembly takes its values from.
#[derive(Clone, Debug, PartialEq)]
pub enum Leaf {
    /// One aggregate of a read.
    Read(ReadRef, AggregateId),
    /// Another assembly over the same cells: a measure, named in a formula.
    Part(Box<Assembly>),
    /// The value of a dimension that holds a column's code or a value.
    Dim(DimId),
    /// A column of a bound row.
    Current {
        /// The dimension that binds the row.
        dim: DimId,
        /// The row's table.
        table: TableId,
        /// Which column.
        column: ColumnId,
        /// How to get there from the row.
        path: Vec<RelationshipId>,
    },
    /// Values evaluated once, then a body that has them as further dimensions.
    Bind {
        /// The values.
        values: Vec<Bound>,
        /// The body, over the scope with one more dimension for each value.
        body: Box<Assembly>,
    },
    /// A body over fewer dimensions, whose results are spread over the cells again.
    Project {
        /// The dimensions that stay, in the order of the inner scope.
        keep: Vec<DimId>,
        /// The body, over the inner scope.
        body: Box<Assembly>,
    },
    /// A `per`: more dimensions, folded away by an aggregate.
    Fold(Box<Fold>),
    /// `rank(…)`
    Rank(Box<RankLeaf>),
    /// A period edit: a body with one more dimension, the days that are visible in it.
    Period(Box<PeriodLeaf>),
    /// An aggregate over rows of some days.
    OverDays(Box<OverDays>),
    /// Whether a value is in the set that a dimension holds.
    Member(Box<Assembly>, DimId),
}

/// What is evaluated once and kept.
#[derive(Clone, Debug, PartialEq)]
pub enum Bound {
    /// A value.
    Value(Assembly),
    /// A set of values.
    Set(Box<SetLeaf>),
}

/// `top(…)` and `bottom(…)`
#[derive(Clone, Debug, PartialEq)]
pub struct SetLeaf {
    /// The dimensions that the set depends on.
    pub keep: Vec<DimId>,
    /// All values of the column.
    pub domain: Domain,
    /// The column.
    pub column: ColumnId,
    /// The figure of each value.
    pub figure: Assembly,
    /// How many are chosen.
    pub count: u64,
    /// Chooses the smallest figures.
    pub bottom: bool,
}

/// A period edit.
#[derive(Clone, Debug, PartialEq)]
pub struct PeriodLeaf {
    /// What it does.
    pub period: TypedPeriod,
    /// The days that are visible: the calendar's rows by outer dimensions, and by date as one more.
    pub visible: ReadRef,
    /// The days on which another table has visible rows, in the same form.
    pub with_rows: Option<ReadRef>,
    /// The body, over the scope with one more dimension.
    pub body: Assembly,
}

/// An aggregate over rows of some days, in either of two ways: one read by day, put together; or one read for each
/// different set of days.
#[derive(Clone, Debug, PartialEq)]
pub struct OverDays {
    /// By outer dimensions, and by date as one more.
    pub by_day: ReadRef,
    /// Which aggregates of it: for an average the sum and the count, else one.
    pub parts: Vec<AggregateId>,
    /// With the days as a value from outside.
    pub by_set: ReadRef,
    /// Which aggregate of it.
    pub aggregate: AggregateId,
    /// The dimension that holds the days.
    pub days: DimId,
    /// How many dimensions the scope has.
    pub outer_dims: usize,
    /// What is computed.
    pub kind: AggregateKind,
    /// The type of the result.
    pub ty: Type,
}

/// An aggregate over combinations.
#[derive(Clone, Debug, PartialEq)]
pub struct Fold {
    /// Which combinations there are.
    pub domain: Domain,
    /// Only combinations where this is true.
    pub filter: Option<Assembly>,
    /// The arguments, over the inner scope.
    pub args: Vec<Assembly>,
    /// The order, over the inner scope.
    pub order: Vec<(Assembly, bool)>,
    /// What becomes of them.
    pub kind: AggregateKind,
    /// A constant argument.
    pub constant: Option<Value>,
    /// The type of the result.
    pub ty: Type,
    /// Whether combinations for which the body reads no row can be left out.
    pub sparse: bool,
}

/// The combinations that further dimensions can have, for each cell.
#[derive(Clone, Debug, PartialEq)]
pub struct Domain {
    /// The outer scope's dimensions, for the number of them.
    pub outer_dims: usize,
    /// The new dimensions.
    pub keys: Vec<Key>,
    /// Columns that come from one table have the combinations that its rows have; groups are combined freely.
    pub groups: Vec<DomainGroup>,
}

/// New dimensions whose combinations come from the rows of one table.
#[derive(Clone, Debug, PartialEq)]
pub struct DomainGroup {
    /// Which of the domain's keys.
    pub keys: Vec<KeyId>,
    /// The visible rows' combinations: a read grouped by outer dimensions, then by `keys`.
    pub read: ReadRef,
    /// Reads over other tables, grouped in the same way, that tell whether some of their rows stand under null; with
    /// the relationships that would have to miss for that.
    pub null_reads: Vec<(ReadRef, Vec<RelationshipId>)>,
}

/// What `rank` needs.
#[derive(Clone, Debug, PartialEq)]
pub struct RankLeaf {
    /// The figure of the cell.
    pub mine: Assembly,
    /// Whether the column has one value in the cell; `None` where an axis or a `per` sees to that.
    pub single: Option<Leaf>,
    /// The dimensions that the figures of all values depend on.
    pub keep: Vec<DimId>,
    /// All values of the column.
    pub domain: Domain,
    /// The figure of each value.
    pub figure: Assembly,
    /// Counts smaller figures.
    pub ascending: bool,
}

impl ListedBy<ReadId> for Read {}
impl ListedBy<AggregateId> for ReadAggregate {}
impl ListedBy<KeyId> for Key {}
impl ListedBy<ParameterPlace> for ParameterId {}
impl ListedBy<DimId> for Dim {}
