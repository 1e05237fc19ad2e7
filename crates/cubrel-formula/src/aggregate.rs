//! The aggregates: how each is written, what it is given and what it gives (language reference, section 4).

use cubrel_value::Type;

/// The aggregates.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs, reason = "the names say it")]
pub enum AggregateKind {
    Sum,
    Avg,
    Min,
    Max,
    Median,
    StddevSamp,
    StddevPop,
    VarSamp,
    VarPop,
    /// With the share, in the arguments.
    PercentileCont,
    PercentileDisc,
    Count,
    Rows,
    CountDistinct,
    Single,
    First,
    Last,
    StringAgg,
}

use AggregateKind::*;

impl AggregateKind {
    /// All of them.
    pub const ALL: &[AggregateKind] = &[
        Sum,
        Avg,
        Min,
        Max,
        Median,
        StddevSamp,
        StddevPop,
        VarSamp,
        VarPop,
        PercentileCont,
        PercentileDisc,
        Count,
        Rows,
        CountDistinct,
        Single,
        First,
        Last,
        StringAgg,
    ];

    /// As it is written.
    pub fn name(self) -> &'static str {
        match self {
            Sum => "sum",
            Avg => "avg",
            Min => "min",
            Max => "max",
            Median => "median",
            StddevSamp => "stddev_samp",
            StddevPop => "stddev_pop",
            VarSamp => "var_samp",
            VarPop => "var_pop",
            PercentileCont => "percentile_cont",
            PercentileDisc => "percentile_disc",
            Count | CountDistinct => "count",
            Rows => "rows",
            Single => "single",
            First => "first",
            Last => "last",
            StringAgg => "string_agg",
        }
    }

    /// The one of a name; `distinct` stands before the arguments.
    pub fn named(name: &str, distinct: bool) -> Option<AggregateKind> {
        let found = AggregateKind::ALL.iter().copied().find(|kind| kind.name() == name)?;
        Some(if found == Count && distinct { CountDistinct } else { found })
    }

    /// Whether it is fed with numbers alone.
    pub fn takes_numbers(self) -> bool {
        matches!(self, Sum | Avg | Median | StddevSamp | StddevPop | VarSamp | VarPop | PercentileCont | PercentileDisc)
    }

    /// Whether it is nothing without an `order by`.
    pub fn needs_order(self) -> bool {
        matches!(self, First | Last)
    }

    /// The type of its result over values of a type.
    pub fn result(self, ty: Type) -> Type {
        match self {
            Avg | Median | StddevSamp | StddevPop | VarSamp | VarPop | PercentileCont => Type::Float,
            Count | CountDistinct | Rows => Type::Int,
            Sum if ty.is_exact() && ty.scale() > 0 => Type::decimal(ty.scale()),
            Sum if ty == Type::Null => Type::Int,
            StringAgg => Type::Text,
            Sum | Min | Max | PercentileDisc | Single | First | Last => ty,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_found_by_its_name_and_described() {
        for kind in AggregateKind::ALL {
            let distinct = *kind == CountDistinct;
            assert_eq!(AggregateKind::named(kind.name(), distinct), Some(*kind));
            assert!(crate::functions::AGGREGATES.iter().any(|entry| entry.name == kind.name()), "{kind:?}");
            assert!(crate::words::is_reserved(kind.name()), "{kind:?}");
        }
        assert_eq!(AggregateKind::named("sum", true), Some(Sum), "what is wrong with it is told later");
        assert_eq!(AggregateKind::named("total", false), None);
    }
}
