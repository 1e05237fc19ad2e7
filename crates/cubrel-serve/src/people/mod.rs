//! Who asks: by which token, and what they may do beyond asking.

pub mod lockout;
pub mod tokens;

use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use cubrel::catalog::Catalog;

use crate::settings::{Anybody, May, Settings, SignIn};
use lockout::Lockout;
use tokens::Tokens;

/// Somebody who asks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Person {
    /// Whoever it is, on this machine.
    Anybody,
    /// Who has signed in.
    Named(String),
}

impl Person {
    /// The name, for the log and for what each may take.
    pub fn name(&self) -> &str {
        match self {
            Person::Anybody => "",
            Person::Named(name) => name,
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
    /// Too many wrong ones: so many seconds to wait.
    LockedOut(u32),
}

/// All who may ask.
#[derive(Debug)]
pub struct People {
    sign_in: SignIn,
    asker: Anybody,
    tokens: Tokens,
    lockout: Mutex<Lockout>,
    may: std::collections::BTreeMap<String, Vec<May>>,
}

impl People {
    /// As the settings say.
    pub fn new(settings: &Settings) -> People {
        People {
            sign_in: settings.sign_in,
            asker: settings.asker.clone(),
            tokens: Tokens::in_file(&settings.tokens),
            lockout: Mutex::default(),
            may: settings.people.iter().map(|(name, section)| (name.clone(), section.may.clone())).collect(),
        }
    }

    /// Whether anybody signs in.
    pub fn sign_in(&self) -> bool {
        self.sign_in != SignIn::None
    }

    /// Who asks, by what the request says for `Authorization`. It takes a while the first time that a token is shown.
    ///
    /// # Errors
    /// When it says nothing that lets anybody in.
    pub fn who(&self, authorization: Option<&str>, from: IpAddr) -> Result<Person, Refused> {
        if !self.sign_in() {
            return Ok(Person::Anybody);
        }
        let lockout = || self.lockout.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(seconds) = lockout().seconds_left(from, Instant::now()) {
            return Err(Refused::LockedOut(seconds));
        }
        let token = authorization.and_then(bearer).ok_or(Refused::NoToken)?;
        match self.tokens.name_of(token) {
            Some(name) => {
                lockout().forget(from);
                Ok(Person::Named(name))
            }
            None => {
                lockout().failed(from, Instant::now());
                Err(Refused::Wrong)
            }
        }
    }

    /// Whether somebody may do what not everybody may. Where nobody signs in, everybody is at this machine, and may.
    pub fn may(&self, person: &Person, what: May) -> bool {
        match person {
            Person::Anybody => true,
            Person::Named(name) => self.may.get(name).is_some_and(|list| list.contains(&what)),
        }
    }

    /// As whom somebody asks a model: in the roles that name them. A model without roles hides nothing from anybody.
    pub fn seen_as(&self, person: &Person, whole: &Catalog) -> SeenAs {
        match person {
            Person::Anybody => {
                let roles = Some(self.asker.roles.clone()).filter(|roles| !roles.is_empty());
                SeenAs { roles, user: self.asker.user.clone() }
            }
            Person::Named(name) => {
                let own = whole.roles.iter().filter(|role| role.people.iter().any(|p| p == name));
                let own = own.map(|role| role.name.clone()).collect();
                SeenAs { roles: (!whole.roles.is_empty()).then_some(own), user: Some(name.clone()) }
            }
        }
    }
}

/// The token of `Bearer …` (RFC 6750).
fn bearer(authorization: &str) -> Option<&str> {
    let (scheme, token) = authorization.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bearer_is_told_from_anything_else() {
        assert_eq!(bearer("Bearer abc"), Some("abc"));
        assert_eq!(bearer("bearer  abc "), Some("abc"));
        for wrong in ["abc", "Basic abc", "Bearer", ""] {
            assert_eq!(bearer(wrong), None, "{wrong}");
        }
    }
}
