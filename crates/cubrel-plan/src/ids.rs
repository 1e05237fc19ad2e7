//! Places of things in a plan, each of its own type, so that none is taken for another.

macro_rules! places {
    ($($(#[$doc:meta])* $name:ident),* $(,)?) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub struct $name(u32);

        impl $name {
            /// The place with this index.
            ///
            /// # Panics
            /// When there are more than four billion.
            pub fn new(index: usize) -> $name {
                $name(u32::try_from(index).expect("a plan has fewer parts"))
            }

            /// Where it stands, counted from zero.
            pub fn index(self) -> usize {
                self.0 as usize
            }
        }

        impl Index for $name {
            fn at(self) -> usize {
                self.index()
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                self.0.fmt(f)
            }
        }
    )*};
}

places! {
    /// A read among those of its plan.
    ReadId,
    /// A dimension among those of its scope.
    DimId,
    /// An aggregate among those of its read.
    AggregateId,
    /// A key among those of its read or its domain.
    KeyId,
    /// A parameter among those of its read.
    ParameterPlace,
}

impl DimId {
    /// Whether it is one of the first so many.
    pub fn is_below(self, dims: usize) -> bool {
        self.index() < dims
    }

    /// The dimension that a domain's key is, which stand after those of the outer scope.
    pub fn of_key(outer_dims: usize, key: KeyId) -> DimId {
        DimId::new(outer_dims + key.index())
    }
}

/// A place in a list.
pub trait Index: Copy {
    /// Where it stands, counted from zero.
    fn at(self) -> usize;
}

/// The leaves of an expression are counted by the expression alone.
impl Index for usize {
    fn at(self) -> usize {
        self
    }
}

/// Lists of it are looked into by places of this type, and by no others.
pub trait ListedBy<Id> {}

/// The codes that groups have in a key.
impl ListedBy<KeyId> for std::sync::Arc<Vec<u64>> {}

macro_rules! looks_into_lists {
    ($($id:ty),*) => {$(
        impl<T: ListedBy<$id>> std::ops::Index<$id> for Vec<T> {
            type Output = T;

            fn index(&self, id: $id) -> &T {
                &self[id.index()]
            }
        }

        impl<T: ListedBy<$id>> std::ops::Index<$id> for [T] {
            type Output = T;

            fn index(&self, id: $id) -> &T {
                &self[id.index()]
            }
        }
    )*};
}

looks_into_lists!(ReadId, DimId, AggregateId, KeyId, ParameterPlace);
