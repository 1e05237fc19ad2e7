//! Tokens: what somebody shows in place of a name and a password. The file has what proves them (argon2id, RFC 9106), and
//! never the tokens themselves.

use std::collections::HashMap;
use std::io::{ErrorKind, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::SystemTime;

use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::Failure;

/// Bytes of a token's name and of its secret.
const ID: usize = 4;
const SECRET: usize = 32;

/// What the file knows of a token.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KnownToken {
    /// The part of it that is no secret.
    pub id: String,
    /// Who shows it.
    pub name: String,
    /// Proves it.
    hash: String,
    /// When it was made.
    #[serde(with = "moment")]
    pub made: Timestamp,
    /// When it ends.
    #[serde(with = "moment")]
    pub until: Timestamp,
}

/// A moment as RFC 3339 writes it.
mod moment {
    use jiff::Timestamp;
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub fn serialize<S: Serializer>(moment: &Timestamp, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(moment)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Timestamp, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
    }
}

impl KnownToken {
    /// Whether it is over.
    pub fn has_ended(&self) -> bool {
        self.until <= Timestamp::now()
    }
}

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct TokenFile {
    #[serde(default)]
    token: Vec<KnownToken>,
}

/// The tokens of a file, which is read again whenever it changes.
#[derive(Debug)]
pub struct Tokens {
    path: PathBuf,
    read: Mutex<Read>,
}

#[derive(Debug, Default)]
struct Read {
    /// The file's time and length when it was read.
    seen: Option<(SystemTime, u64)>,
    known: Vec<KnownToken>,
    /// Tokens that have been proved, by what no token can be found from, with their places among the known ones.
    proved: HashMap<[u8; 32], usize>,
}

fn digest(token: &str) -> [u8; 32] {
    Sha256::digest(token.as_bytes()).into()
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

impl Tokens {
    /// Those of a file; there need not be one yet.
    pub fn in_file(path: &Path) -> Tokens {
        Tokens { path: path.to_path_buf(), read: Mutex::default() }
    }

    /// Whose token it is, if it is one and has not ended.
    pub fn name_of(&self, token: &str) -> Option<String> {
        let (id, secret) =
            token.split_once('.').filter(|(id, secret)| id.len() == 2 * ID && secret.len() == 2 * SECRET)?;
        let digest = digest(token);
        let candidates = {
            let read = self.current();
            if let Some(known) = read.proved.get(&digest).and_then(|place| read.known.get(*place)) {
                return (!known.has_ended()).then(|| known.name.clone());
            }
            read.known.iter().cloned().enumerate().filter(|(_, known)| known.id == id).collect::<Vec<_>>()
        };
        // This takes tens of milliseconds on purpose, and nobody else has to wait for it.
        let proves =
            |known: &KnownToken| Argon2::default().verify_password(secret.as_bytes(), known.hash.as_str()).is_ok();
        let (place, known) = candidates.into_iter().find(|(_, known)| proves(known))?;
        let mut read = self.current();
        // The file may have become another one meanwhile.
        if read.known.get(place) != Some(&known) || known.has_ended() {
            return None;
        }
        read.proved.insert(digest, place);
        Some(known.name)
    }

    /// What is in the file now. Of a file that cannot be read nobody is known.
    fn current(&self) -> std::sync::MutexGuard<'_, Read> {
        let mut read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        let stamp = std::fs::metadata(&self.path).ok().and_then(|m| Some((m.modified().ok()?, m.len())));
        if read.seen != stamp || stamp.is_none() {
            let known = read_file(&self.path).unwrap_or_else(|e| {
                tracing::error!("{e}");
                TokenFile::default()
            });
            *read = Read { seen: stamp, known: known.token, proved: HashMap::new() };
        }
        read
    }

    /// Makes a token for somebody; it is told once, here.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn add(&self, name: &str, days: u32) -> Result<(String, KnownToken), Failure> {
        if name.trim().is_empty() || name.chars().any(char::is_control) {
            return Err(Failure::new("a token belongs to somebody", "name who shows it: `token add ann@example.org`"));
        }
        let mut bytes = [0u8; ID + SECRET];
        getrandom::fill(&mut bytes).map_err(|e| {
            Failure::new(format!("there are no random numbers: {e}"), "look at the system's `/dev/urandom`")
        })?;
        let (id, secret) = (hex(&bytes[..ID]), hex(&bytes[ID..]));
        let hash = Argon2::default()
            .hash_password(secret.as_bytes())
            .map_err(|e| Failure::new(format!("the token cannot be hashed: {e}"), "try again"))?;
        let made = Timestamp::now();
        let until = made.checked_add(jiff::Span::new().hours(i64::from(days) * 24)).unwrap_or(Timestamp::MAX);
        let known = KnownToken { id: id.clone(), name: name.to_string(), hash: hash.to_string(), made, until };
        let mut file = read_file(&self.path)?;
        file.token.push(known.clone());
        self.write(&file)?;
        Ok((format!("{id}.{secret}"), known))
    }

    /// All tokens, those that have ended included.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn list(&self) -> Result<Vec<KnownToken>, Failure> {
        Ok(read_file(&self.path)?.token)
    }

    /// Takes back all tokens of a name, or the one of an id; which ones they were.
    ///
    /// # Errors
    /// When there is none, or the file cannot be written.
    pub fn revoke(&self, who: &str) -> Result<Vec<KnownToken>, Failure> {
        let file = read_file(&self.path)?;
        let (gone, token): (Vec<_>, Vec<_>) = file.token.into_iter().partition(|t| t.name == who || t.id == who);
        if gone.is_empty() {
            let names: Vec<&str> = token.iter().map(|t| t.name.as_str()).collect();
            let help = cubrel::suggest(who, names).unwrap_or_else(|| "`token list` has those that there are".into());
            return Err(Failure::new(format!("`{who}` has no token"), help));
        }
        self.write(&TokenFile { token })?;
        Ok(gone)
    }

    /// Writes the file whole, for its owner only.
    fn write(&self, file: &TokenFile) -> Result<(), Failure> {
        let wrong = |e: &dyn std::fmt::Display| {
            Failure::new(format!("{}: {e}", self.path.display()), "the folder of the settings has to be writable")
        };
        let text = toml::to_string(file).map_err(|e| wrong(&e))?;
        let folder = self.path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        // Files that are made so are readable for their owner only.
        let mut new = tempfile::NamedTempFile::new_in(folder).map_err(|e| wrong(&e))?;
        new.write_all(text.as_bytes()).and_then(|()| new.as_file().sync_all()).map_err(|e| wrong(&e))?;
        new.persist(&self.path).map_err(|e| wrong(&e.error))?;
        Ok(())
    }
}

fn read_file(path: &Path) -> Result<TokenFile, Failure> {
    let wrong = |e: &dyn std::fmt::Display| {
        let help = "mend it, or take it away and give everybody a new token";
        Failure::new(format!("{}: {e}", path.display()), help)
    };
    match std::fs::read_to_string(path) {
        Ok(text) => toml::from_str(&text).map_err(|e| wrong(&e.to_string().trim_end())),
        Err(e) if e.kind() == ErrorKind::NotFound => Ok(TokenFile::default()),
        Err(e) => Err(wrong(&e)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_opens_until_it_ends_or_is_revoked_and_is_kept_nowhere() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("tokens.toml");
        let tokens = Tokens::in_file(&path);
        let (ann, known) = tokens.add("ann@example.org", 30).unwrap();
        let (ben, _) = tokens.add("ben", 30).unwrap();
        let (past, _) = tokens.add("past", 0).unwrap();
        let serving = Tokens::in_file(&path);
        for _ in 0..2 {
            assert_eq!(serving.name_of(&ann).as_deref(), Some("ann@example.org"));
            assert_eq!(serving.name_of(&ben).as_deref(), Some("ben"));
            assert_eq!(serving.name_of(&past), None, "it has ended");
        }
        let (id, secret) = ann.split_once('.').unwrap();
        let other = format!("{id}.{}", ben.split_once('.').unwrap().1);
        for wrong in ["", ".", id, &other, &ann[1..], &format!("{ann}0"), &ann.to_uppercase()] {
            assert_eq!(serving.name_of(wrong), None, "{wrong}");
        }
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(!text.contains(secret) && text.contains("$argon2id$"));
        assert_eq!(tokens.revoke(&known.id).unwrap().len(), 1);
        assert_eq!(serving.name_of(&ann), None, "revoked while it is served");
        assert_eq!(serving.name_of(&ben).as_deref(), Some("ben"));
        assert!(tokens.revoke("ann@example.org").unwrap_err().to_string().contains("has no token"));
        std::fs::write(&path, "token = 3").unwrap();
        assert_eq!(serving.name_of(&ben), None, "nobody is let in by what cannot be read");
        assert!(tokens.add("eve", 1).is_err(), "and nothing is lost of it");
    }

    #[cfg(unix)]
    #[test]
    fn the_file_is_for_its_owner_only() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("tokens.toml");
        Tokens::in_file(&path).add("ann", 1).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o077, 0);
    }
}
