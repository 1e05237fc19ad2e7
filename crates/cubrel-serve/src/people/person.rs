//! Somebody who asks, as whom they see a model, and why they are not let in.

/// Somebody who asks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Person {
    /// Whoever it is, on this machine.
    Anybody,
    /// Who has signed in.
    Named(Named),
}

/// Somebody who has signed in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Named {
    /// The name.
    pub name: String,
    /// Roles that whoever vouches for them gives them, in addition to those of a model that name them.
    pub roles: Vec<String>,
}

impl Person {
    /// The name, for the log and for what each may take.
    pub fn name(&self) -> &str {
        match self {
            Person::Anybody => "",
            Person::Named(named) => &named.name,
        }
    }
}

/// As whom a model is asked.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct SeenAs {
    /// The roles; of nothing, all of the model.
    pub roles: Option<Vec<String>>,
    /// What `user()` gives.
    pub user: Option<String>,
}

/// Why somebody is not let in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refused {
    /// There is no token, or it is not written as one.
    NoToken,
    /// No such token, or one that has ended or was revoked.
    Wrong,
    /// One that was good, and is over.
    Ended,
    /// Too many wrong ones: so many seconds to wait.
    LockedOut(u32),
    /// Who could tell cannot be asked.
    Unavailable,
}
