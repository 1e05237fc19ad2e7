//! What a model is made of, as values: the same as sections of a `model.toml`.

use super::builder::{Builder, Definition};
use cubrel_model::file::{
    ColumnSection, GenerateSection, LensSection, MeasureSection, ReadingSection, RelationshipSection, RoleSection,
};
use cubrel_value::Matching;

/// Texts that are given once, by methods of their names.
macro_rules! texts {
    ($section:ident: $($(#[$doc:meta])* $name:ident),*) => {$(
        $(#[$doc])*
        #[must_use]
        pub fn $name(mut self, text: impl Into<String>) -> Self {
            self.$section.$name = Some(text.into());
            self
        }
    )*};
}

/// A measure.
#[derive(Clone, Debug)]
pub struct Measure {
    name: String,
    section: MeasureSection,
}

impl Measure {
    /// A measure that computes a formula.
    pub fn new(name: impl Into<String>, formula: impl Into<String>) -> Measure {
        Measure { name: name.into(), section: MeasureSection::new(formula.into()) }
    }

    texts! {
        section:
        /// What people read instead of its name.
        label,
        /// A pattern for its values.
        format,
        /// Where it is listed.
        group,
        /// What it means.
        note
    }

    /// Not listed for people.
    #[must_use]
    pub fn hidden(mut self) -> Measure {
        self.section.hidden = true;
        self
    }
}

impl Definition for Measure {
    fn add(self, builder: Builder) -> Builder {
        builder.with_measure(self.name, self.section)
    }
}

/// What is said of a column, or a calculated column.
#[derive(Clone, Debug)]
pub struct Column {
    table: String,
    name: String,
    section: ColumnSection,
}

impl Column {
    /// A column of a table.
    pub fn new(table: impl Into<String>, name: impl Into<String>) -> Column {
        Column { table: table.into(), name: name.into(), section: ColumnSection::default() }
    }

    texts! {
        section:
        /// Computes it.
        formula,
        /// What people read instead of its name.
        label,
        /// A pattern for its values.
        format,
        /// What it holds.
        note,
        /// The column of the same table that orders it.
        display_order
    }

    /// Not listed for people.
    #[must_use]
    pub fn hidden(mut self) -> Column {
        self.section.hidden = true;
        self
    }
}

impl Definition for Column {
    fn add(self, builder: Builder) -> Builder {
        builder.with_column(&self.table, self.name, self.section)
    }
}

/// A relationship: many rows point at one.
#[derive(Clone, Debug)]
pub struct Relation {
    section: RelationshipSection,
}

impl Relation {
    /// From the columns that point to the key that they point at, written `table.column`; several are joined with `+`.
    pub fn new(many: &str, one: &str) -> Relation {
        Relation { section: RelationshipSection::new(many, one) }
    }

    /// Points at the newest row that is not younger: the last column of the key is a date or timestamp.
    #[must_use]
    pub fn at_or_before(mut self) -> Relation {
        self.section.matching = Matching::AtOrBefore;
        self
    }

    /// Followed only where a formula names it.
    #[must_use]
    pub fn spare(mut self) -> Relation {
        self.section.spare = true;
        self
    }

    /// Filters travel back, too.
    #[must_use]
    pub fn both_ways(mut self) -> Relation {
        self.section.both_ways = true;
        self
    }
}

impl Definition for Relation {
    fn add(self, builder: Builder) -> Builder {
        builder.with_relation(self.section)
    }
}

/// A role.
#[derive(Clone, Debug)]
pub struct Role {
    name: String,
    section: RoleSection,
}

impl Role {
    /// A role that sees all.
    pub fn new(name: impl Into<String>) -> Role {
        Role { name: name.into(), section: RoleSection::default() }
    }

    /// Of a table it sees only the rows for which a condition is true.
    #[must_use]
    pub fn rows(mut self, table: impl Into<String>, condition: impl Into<String>) -> Role {
        self.section.rows.insert(table.into(), condition.into());
        self
    }

    /// A column, written `table.column`, or a measure that it does not see, nor anything that needs it.
    #[must_use]
    pub fn deny(mut self, name: impl Into<String>) -> Role {
        self.section.deny.push(name.into());
        self
    }

    /// Somebody has it.
    #[must_use]
    pub fn person(mut self, name: impl Into<String>) -> Role {
        self.section.people.push(name.into());
        self
    }
}

impl Definition for Role {
    fn add(self, builder: Builder) -> Builder {
        builder.with_role(self.name, self.section)
    }
}

/// A lens: other ways to see any figure.
#[derive(Clone, Debug)]
pub struct Lens {
    name: String,
    section: LensSection,
}

impl Lens {
    /// A lens without readings.
    pub fn new(name: impl Into<String>) -> Lens {
        Lens { name: name.into(), section: LensSection::default() }
    }

    texts! {
        section:
        /// What people read instead of its name.
        label,
        /// What it is for.
        note
    }

    /// With one more reading: its name, and what it makes of the figure, which is called `shown`.
    #[must_use]
    pub fn reading(mut self, name: impl Into<String>, formula: impl Into<String>) -> Lens {
        let reading = ReadingSection { formula: formula.into(), label: None, format: None, note: None };
        self.section.reading.insert(name.into(), reading);
        self
    }

    /// Applied to the result of another lens, where both are in one query.
    #[must_use]
    pub fn wraps(mut self, lens: impl Into<String>) -> Lens {
        self.section.wraps.push(lens.into());
        self
    }
}

impl Definition for Lens {
    fn add(self, builder: Builder) -> Builder {
        builder.with_lens(self.name, self.section)
    }
}

/// A generated calendar, whose date column is called `date`.
#[derive(Clone, Debug)]
pub struct Calendar {
    name: String,
    section: GenerateSection,
}

impl Calendar {
    /// The days from one to another, such as `2031-01-01`.
    pub fn new(name: impl Into<String>, from: impl Into<String>, to: impl Into<String>) -> Calendar {
        let section = GenerateSection { from: Some(from.into()), to: Some(to.into()), ..GenerateSection::default() };
        Calendar { name: name.into(), section }
    }

    texts! {
        section:
        /// Month and day on which its years start, such as `04-01`.
        year_starts,
        /// The day on which its weeks start, such as `sunday`.
        week_starts
    }
}

impl Definition for Calendar {
    fn add(self, builder: Builder) -> Builder {
        builder.with_calendar(self.name, self.section)
    }
}
