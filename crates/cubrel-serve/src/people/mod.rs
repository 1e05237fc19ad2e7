//! Who asks: by which token, and what they may do beyond asking.

pub mod lockout;
pub mod oidc;
mod person;
pub mod tokens;

use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use cubrel::catalog::{Catalog, CatalogRole};

use crate::Failure;
use crate::settings::{Anybody, May, Settings, SignIn};
use lockout::Lockout;
use oidc::Issuer;
pub use person::{Named, Person, Refused, SeenAs};
use tokens::Tokens;

/// What tells people from each other.
#[derive(Debug)]
enum By {
    Nothing,
    Tokens(Tokens),
    Issuer(Box<Issuer>),
}

/// All who may ask.
#[derive(Debug)]
pub struct People {
    by: By,
    asker: Anybody,
    lockout: Mutex<Lockout>,
    may: std::collections::BTreeMap<String, Vec<May>>,
}

impl People {
    /// As the settings say.
    ///
    /// # Errors
    /// When files that are needed to tell people from each other cannot be read.
    pub fn new(settings: &Settings) -> Result<People, Failure> {
        let by = match (settings.sign_in, &settings.oidc) {
            (SignIn::Token, _) => By::Tokens(Tokens::in_file(&settings.tokens)),
            (SignIn::Oidc, Some(section)) => By::Issuer(Box::new(Issuer::new(section)?)),
            (SignIn::Oidc, None) => {
                return Err(Failure::new("nobody vouches for people", "set `oidc` in `server.toml`"));
            }
            (SignIn::None, _) => By::Nothing,
        };
        Ok(People {
            by,
            asker: settings.asker.clone(),
            lockout: Mutex::default(),
            may: settings.people.iter().map(|(name, section)| (name.clone(), section.may.clone())).collect(),
        })
    }

    /// Whether anybody signs in.
    pub fn sign_in(&self) -> bool {
        !matches!(self.by, By::Nothing)
    }

    /// The issuer that vouches for people, where there is one.
    pub fn issuer(&self) -> Option<&Issuer> {
        match &self.by {
            By::Issuer(issuer) => Some(issuer),
            _ => None,
        }
    }

    /// Who asks, by what the request says for `Authorization`. It takes a while the first time that a token is shown.
    ///
    /// # Errors
    /// When it says nothing that lets anybody in.
    pub fn who(&self, authorization: Option<&str>, from: IpAddr) -> Result<Person, Refused> {
        if !self.sign_in() {
            return Ok(Person::Anybody);
        }
        let token = authorization.and_then(bearer);
        self.guarded(from, || self.named(token.ok_or(Refused::NoToken)?)).map(Person::Named)
    }

    fn named(&self, token: &str) -> Result<Named, Refused> {
        match &self.by {
            By::Nothing => Err(Refused::NoToken),
            By::Tokens(tokens) => {
                let name = tokens.name_of(token).ok_or(Refused::Wrong)?;
                Ok(Named { name, roles: Vec::new() })
            }
            By::Issuer(issuer) => issuer.person(token, None),
        }
    }

    /// Does what proves somebody, unless too much has gone wrong from there.
    ///
    /// # Errors
    /// When it does not prove anybody, or is not tried.
    pub fn guarded<T>(&self, from: IpAddr, prove: impl FnOnce() -> Result<T, Refused>) -> Result<T, Refused> {
        let lockout = || self.lockout.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(seconds) = lockout().seconds_left(from, Instant::now()) {
            return Err(Refused::LockedOut(seconds));
        }
        let proved = prove();
        match proved {
            Ok(_) => lockout().forget(from),
            Err(Refused::Wrong) => lockout().failed(from, Instant::now()),
            Err(_) => {}
        }
        proved
    }

    /// Whether somebody may do what not everybody may. Where nobody signs in, everybody is at this machine, and may.
    pub fn may(&self, person: &Person, what: May) -> bool {
        match person {
            Person::Anybody => true,
            Person::Named(Named { name, .. }) => self.may.get(name).is_some_and(|list| list.contains(&what)),
        }
    }

    /// As whom somebody asks a model: in the roles that name them, or that who vouches for them gives them. A model without roles hides nothing from anybody.
    pub fn seen_as(&self, person: &Person, whole: &Catalog) -> SeenAs {
        match person {
            Person::Anybody => {
                let roles = Some(self.asker.roles.clone()).filter(|roles| !roles.is_empty());
                SeenAs { roles, user: self.asker.user.clone() }
            }
            Person::Named(Named { name, roles }) => {
                let is_own = |role: &&CatalogRole| role.people.contains(name) || roles.contains(&role.name);
                let own = whole.roles.iter().filter(is_own);
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
