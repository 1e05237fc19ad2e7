//! `server.toml`: what is served, where, to whom, and what one of them may take.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use cubrel::{Limits, units};
use schemars::JsonSchema;
use serde::Deserialize;

use crate::Failure;
use crate::address;

/// A file of settings.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ServerFile {
    /// Where HTTP is answered, such as `127.0.0.1:8080`; port 0 takes any that is free.
    pub http: Option<String>,
    /// Where Arrow Flight SQL is answered, such as `127.0.0.1:8815`; `none` answers nowhere.
    pub flight: Option<String>,
    /// How people say who they are. Without it only this machine is answered.
    pub sign_in: Option<SignIn>,
    /// The certificate of the server; needed for anything but this machine.
    pub tls: Option<TlsSection>,
    /// Who vouches for people, with `sign_in = "oidc"`.
    pub oidc: Option<OidcSection>,
    /// What may be taken.
    #[serde(default)]
    pub limits: LimitsSection,
    /// The models.
    #[serde(default)]
    pub model: Vec<ModelSection>,
    /// What people may do beyond asking, by their names.
    #[serde(default)]
    pub person: BTreeMap<String, PersonSection>,
}

/// How people say who they are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum SignIn {
    /// They do not.
    #[default]
    None,
    /// By a token that `cubrel-serve token add` has printed.
    Token,
    /// By what an issuer of OpenID Connect says of them.
    Oidc,
}

/// Who vouches for people.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OidcSection {
    /// The issuer, as its tokens name it: `https://…`.
    pub issuer: String,
    /// Whom its tokens have to be for; also what the server is called when a browser signs in there.
    pub audience: String,
    /// The claim that has the name; by default `email`.
    pub name: Option<String>,
    /// A claim that lists roles, in addition to those that name the person.
    pub roles: Option<String>,
    /// A file with what the server proves itself with when a browser signs in, where the issuer wants that.
    pub secret: Option<PathBuf>,
    /// A file with certificates, as PEM, one of which vouches for the issuer; by default those that browsers know.
    pub certificate: Option<PathBuf>,
    /// What browsers call this server, where a proxy stands before it: `https://models.example.org`.
    pub address: Option<String>,
}

/// The certificate of the server.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TlsSection {
    /// A file with the certificate and those that vouch for it, as PEM.
    pub certificate: PathBuf,
    /// A file with its key, as PEM.
    pub key: PathBuf,
}

/// What may be taken.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LimitsSection {
    /// How long a question may take, such as `10 s`.
    pub time: Option<String>,
    /// How many cells an answer may have.
    pub cells: Option<usize>,
    /// How much memory the groups or cells of a question may take, such as `1 GiB`.
    pub memory: Option<String>,
    /// How many questions are worked on at once.
    pub at_once: Option<usize>,
    /// How many of these may be of one person.
    pub at_once_each: Option<usize>,
    /// How many questions may wait.
    pub queue: Option<usize>,
    /// How much memory answers that were given may be kept in, such as `64 MiB`.
    pub answers: Option<String>,
    /// How many versions of one model there may be in memory, with those that are still being read.
    pub versions: Option<usize>,
    /// How many connections there may be.
    pub connections: Option<usize>,
}

/// A model that is served.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelSection {
    /// Its folder, or its `model.toml`, from the settings' folder on.
    pub path: PathBuf,
    /// What it is called in addresses; by default as its folder.
    pub name: Option<String>,
    /// When it is refreshed: five fields as in a crontab (minute, hour, day, month, weekday), in the local time.
    pub refresh: Option<String>,
    /// Whether it is refreshed when something in its folder changes.
    #[serde(default)]
    pub watch: bool,
}

/// What somebody may do.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PersonSection {
    /// What beyond asking.
    #[serde(default)]
    pub may: Vec<May>,
}

/// What not everybody may do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum May {
    /// See what questions cost.
    Profile,
    /// Have the sources read.
    Refresh,
}

/// Settings that hold together.
#[derive(Clone, Debug)]
pub struct Settings {
    /// Where HTTP is answered.
    pub http: SocketAddr,
    /// Where Arrow Flight SQL is answered.
    pub flight: Option<SocketAddr>,
    /// How people say who they are.
    pub sign_in: SignIn,
    /// Who vouches for them.
    pub oidc: Option<OidcSection>,
    /// Certificate and key.
    pub tls: Option<TlsSection>,
    /// What a question may take.
    pub limits: Limits,
    /// How many questions are worked on at once, in all and of one person, and how many may wait.
    pub at_once: usize,
    /// Of one person.
    pub at_once_each: usize,
    /// Waiting.
    pub queue: usize,
    /// Bytes of answers that are kept.
    pub answers: u64,
    /// Versions of a model in memory.
    pub versions: usize,
    /// Connections.
    pub connections: usize,
    /// The models.
    pub models: Vec<ModelSettings>,
    /// What people may do.
    pub people: BTreeMap<String, PersonSection>,
    /// Where tokens are kept.
    pub tokens: PathBuf,
    /// Who asks where nobody signs in.
    pub asker: Anybody,
}

/// A model and what is to be done with it.
#[derive(Clone, Debug)]
pub struct ModelSettings {
    /// What it is called in addresses.
    pub name: String,
    /// Where it is.
    pub path: PathBuf,
    /// When it is refreshed.
    pub refresh: Option<String>,
    /// Whether it is refreshed when its folder changes.
    pub watch: bool,
}

/// As whom everybody asks where nobody signs in.
#[derive(Clone, Debug, Default)]
pub struct Anybody {
    /// The roles; all of the model where there is none.
    pub roles: Vec<String>,
    /// What `user()` gives.
    pub user: Option<String>,
}

/// Where the command line says that is answered.
#[derive(Clone, Debug, Default)]
pub struct At {
    /// HTTP.
    pub http: Option<String>,
    /// Arrow Flight SQL.
    pub flight: Option<String>,
}

const HTTP: &str = "127.0.0.1:8080";
const FLIGHT: &str = "127.0.0.1:8815";
/// In place of an address: nowhere.
const NOWHERE: &str = "none";
const TIME: Duration = Duration::from_secs(30);
const CELLS: usize = 5_000_000;
const MEMORY: u64 = 1 << 30;
const AT_ONCE: usize = 4;
const QUEUE: usize = 64;
const ANSWERS: u64 = 64 << 20;
const VERSIONS: usize = 3;
const CONNECTIONS: usize = 1024;

impl ServerFile {
    /// Reads a file of settings.
    ///
    /// # Errors
    /// When it cannot be read, or says what nobody knows.
    pub fn read(path: &Path) -> Result<ServerFile, Failure> {
        let text = std::fs::read_to_string(path).map_err(|e| {
            Failure::new(format!("{}: {e}", path.display()), "name a file that can be read: `--config server.toml`")
        })?;
        toml::from_str(&text).map_err(|e| {
            let help = "`cubrel-serve schema` writes what there may be in such a file";
            Failure::new(format!("{}: {}", path.display(), e.to_string().trim_end()), help)
        })
    }
}

/// A time such as `10 s`, `2 min` or `500 ms`.
fn duration(text: &str) -> Option<Duration> {
    let text = text.trim();
    let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let number: f64 = text[..digits].parse().ok()?;
    let seconds = match text[digits..].trim() {
        "ms" => number / 1000.0,
        "s" => number,
        "min" => number * 60.0,
        _ => return None,
    };
    Duration::try_from_secs_f64(seconds).ok().filter(|d| !d.is_zero())
}

fn bytes(key: &str, text: Option<&str>, default: u64) -> Result<u64, Failure> {
    let Some(text) = text else { return Ok(default) };
    let wrong = || Failure::new(format!("`{text}` of `{key}` is not an amount of memory"), "write `64 MiB` or `2 GiB`");
    units::parse_bytes(text).ok_or_else(wrong)
}

fn positive(key: &str, number: Option<usize>, default: usize) -> Result<usize, Failure> {
    match number {
        Some(0) => Err(Failure::new(format!("`{key}` is 0, so that nothing could be answered"), "write at least 1")),
        Some(number) => Ok(number),
        None => Ok(default),
    }
}

fn address(text: &str) -> Result<SocketAddr, Failure> {
    text.parse().map_err(|_| {
        Failure::new(format!("`{text}` is not an address"), "write an IP address and a port: `127.0.0.1:8080`")
    })
}

impl OidcSection {
    /// With its files where they are, and nothing in it that anybody could listen to.
    fn safe(self, folder: &Path) -> Result<OidcSection, Failure> {
        for (key, url) in [("issuer", Some(&self.issuer)), ("address", self.address.as_ref())] {
            let Some(url) = url else { continue };
            if !address::is_safe(url) {
                let help = "it begins with `https://`; `http://` is for this machine only, to try it";
                return Err(Failure::new(format!("`{url}` of `oidc.{key}` is not the address of a web server"), help));
            }
        }
        Ok(OidcSection {
            secret: self.secret.map(|file| folder.join(file)),
            certificate: self.certificate.map(|file| folder.join(file)),
            ..self
        })
    }
}

impl Settings {
    /// What a file and the command line say together. `folder` is where paths of the file begin.
    ///
    /// # Errors
    /// When something is no address, time or amount, when there is no model or two of one name, or when what is said would let
    /// anybody in from outside.
    pub fn new(
        file: ServerFile,
        folder: &Path,
        at: &At,
        dirs: &[PathBuf],
        asker: Anybody,
    ) -> Result<Settings, Failure> {
        let http = address(at.http.as_deref().or(file.http.as_deref()).unwrap_or(HTTP))?;
        let flight = at.flight.as_deref().or(file.flight.as_deref()).unwrap_or(FLIGHT);
        let flight = (flight != NOWHERE).then(|| address(flight)).transpose()?;
        let limits = &file.limits;
        let time = limits.time.as_deref().map_or(Ok(TIME), |text| {
            let wrong = || Failure::new(format!("`{text}` of `limits.time` is not a time"), "write `10 s` or `2 min`");
            duration(text).ok_or_else(wrong)
        })?;
        let settings = Settings {
            http,
            flight,
            sign_in: file.sign_in.unwrap_or_default(),
            oidc: file.oidc.map(|oidc| oidc.safe(folder)).transpose()?,
            tls: file
                .tls
                .map(|tls| TlsSection { certificate: folder.join(tls.certificate), key: folder.join(tls.key) }),
            limits: Limits {
                time: Some(time),
                cells: Some(positive("limits.cells", limits.cells, CELLS)?),
                memory: Some(bytes("limits.memory", limits.memory.as_deref(), MEMORY)?),
            },
            at_once: positive("limits.at_once", limits.at_once, AT_ONCE)?,
            at_once_each: positive("limits.at_once_each", limits.at_once_each, limits.at_once.unwrap_or(AT_ONCE))?,
            queue: limits.queue.unwrap_or(QUEUE),
            answers: bytes("limits.answers", limits.answers.as_deref(), ANSWERS)?,
            versions: positive("limits.versions", limits.versions, VERSIONS)?,
            connections: positive("limits.connections", limits.connections, CONNECTIONS)?,
            models: models(&file.model, folder, dirs)?,
            people: file.person,
            tokens: folder.join(TOKENS),
            asker,
        };
        settings.safe()?;
        Ok(settings)
    }

    /// Whoever is not on this machine has to sign in, over a connection that nobody listens to.
    fn safe(&self) -> Result<(), Failure> {
        let signs_in = self.sign_in != SignIn::None;
        if signs_in && !(self.asker.roles.is_empty() && self.asker.user.is_none()) {
            let help = "roles are those that the model gives to who signs in: leave `--as` and `--user` out";
            return Err(Failure::new("people sign in, and all are to be somebody", help));
        }
        if self.oidc.is_some() != (self.sign_in == SignIn::Oidc) {
            let help = "`sign_in = \"oidc\"` and `oidc = { issuer = \"https://…\", audience = \"…\" }` stand together";
            return Err(Failure::new("only one of `sign_in = \"oidc\"` and `oidc` is there", help));
        }
        let Some(open) = [Some(self.http), self.flight].into_iter().flatten().find(|at| !at.ip().is_loopback()) else {
            return Ok(());
        };
        let outside = |what: &str| format!("{open} can be reached from other machines, and {what}");
        if !signs_in {
            let help = "set `sign_in = \"token\"` in `server.toml`, or serve 127.0.0.1 only";
            return Err(Failure::new(outside("nobody would have to sign in"), help));
        }
        if self.tls.is_none() {
            let help =
                "set `tls = { certificate = \"…\", key = \"…\" }`, or serve 127.0.0.1 behind a proxy that has one";
            return Err(Failure::new(outside("everybody on the way could listen"), help));
        }
        Ok(())
    }
}

/// The file with the tokens, beside the settings.
pub const TOKENS: &str = "tokens.toml";

/// Models of the file and of the command line; where there is none, the folder itself.
fn models(sections: &[ModelSection], folder: &Path, dirs: &[PathBuf]) -> Result<Vec<ModelSettings>, Failure> {
    let of_dir = |path: &PathBuf| ModelSection { path: path.clone(), name: None, refresh: None, watch: false };
    let mut found: Vec<ModelSettings> = Vec::new();
    let from_file = sections.iter().map(|section| (section.clone(), folder.join(&section.path)));
    let mut all: Vec<(ModelSection, PathBuf)> =
        from_file.chain(dirs.iter().map(|dir| (of_dir(dir), dir.clone()))).collect();
    if all.is_empty() {
        all.push((of_dir(&PathBuf::from(".")), PathBuf::from(".")));
    }
    for (section, path) in all {
        let called = section.name.clone().or_else(|| folder_name(&path));
        let name = called.filter(|name| is_name(name)).ok_or_else(|| {
            let message = format!("the model in {} has no name that fits into an address", path.display());
            Failure::new(message, "set `name` of [[model]] to letters, digits, `-` and `_`")
        })?;
        if found.iter().any(|model| model.name == name) {
            let help = "set `name` of one of them in [[model]]";
            return Err(Failure::new(format!("two models are called `{name}`"), help));
        }
        found.push(ModelSettings { name, path, refresh: section.refresh, watch: section.watch });
    }
    Ok(found)
}

fn folder_name(path: &Path) -> Option<String> {
    let path = path.canonicalize().ok()?;
    let folder = if path.is_file() { path.parent()? } else { &path };
    let name = folder.file_name()?.to_string_lossy().to_lowercase();
    Some(name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '_' { c } else { '-' }).collect())
}

fn is_name(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
}

#[cfg(test)]
mod tests {
    use super::*;

    fn settings(text: &str, http: Option<&str>, asker: Anybody) -> Result<Settings, String> {
        let file: ServerFile = toml::from_str(text).map_err(|e| e.to_string())?;
        let at = At { http: http.map(str::to_string), flight: None };
        Settings::new(file, Path::new("."), &at, &[], asker).map_err(|e| e.to_string())
    }

    #[test]
    fn nothing_but_this_machine_is_served_without_sign_in_and_certificate() {
        let tls = "tls = { certificate = 'c.pem', key = 'k.pem' }\n";
        let cases = [
            ("", None, Ok(())),
            ("", Some("[::1]:0"), Ok(())),
            ("http = '0.0.0.0:80'", None, Err("sign in")),
            ("sign_in = 'token'", Some("0.0.0.0:80"), Err("listen")),
            (tls, Some("192.168.1.2:443"), Err("sign in")),
            ("sign_in = 'token'", Some("127.0.0.1:0"), Ok(())),
            (&format!("sign_in = 'token'\n{tls}"), Some("0.0.0.0:443"), Ok(())),
            ("http = '127.0.0.1'", None, Err("not an address")),
            ("http = 'localhost:80'", None, Err("not an address")),
            ("flight = 'none'", None, Ok(())),
            ("flight = '0.0.0.0:8815'", None, Err("sign in")),
            ("sign_in = 'token'\nflight = '0.0.0.0:8815'", None, Err("listen")),
            ("flight = 'nowhere'", None, Err("not an address")),
            ("sign_in = 'oidc'", None, Err("only one of")),
            ("oidc = { issuer = 'https://a', audience = 'b' }", None, Err("only one of")),
            ("sign_in = 'oidc'\noidc = { issuer = 'https://a.example', audience = 'b' }", None, Ok(())),
            ("sign_in = 'oidc'\noidc = { issuer = 'http://127.0.0.1:9', audience = 'b' }", None, Ok(())),
            ("sign_in = 'oidc'\noidc = { issuer = 'http://a.example', audience = 'b' }", None, Err("not the address")),
            (
                "sign_in = 'oidc'\noidc = { issuer = 'http://127.0.0.1.example', audience = 'b' }",
                None,
                Err("not the address"),
            ),
            ("sign_on = 'token'", None, Err("unknown field")),
            ("limits = { time = 'soon' }", None, Err("not a time")),
            ("limits = { at_once = 0 }", None, Err("is 0")),
            ("limits = { memory = '1 horse' }", None, Err("not an amount")),
            ("[[model]]\npath = '.'\nname = 'a'\n[[model]]\npath = '.'\nname = 'a'", None, Err("two models")),
            ("[[model]]\npath = '.'\nname = '../b'", None, Err("no name")),
        ];
        for (text, http, expected) in cases {
            match (settings(text, http, Anybody::default()), expected) {
                (Ok(_), Ok(())) => {}
                (Err(e), Err(part)) => assert!(e.contains(part), "{text}: {e}"),
                (found, _) => panic!("{text} {http:?}: {found:?}"),
            }
        }
        let north = Anybody { roles: vec!["north".into()], user: None };
        assert!(settings("", None, north.clone()).is_ok());
        assert!(settings("sign_in = 'token'", None, north).is_err(), "who signs in is not somebody else");
    }

    #[test]
    fn times_are_read_with_their_units() {
        let of = |text: &str| duration(text).map(|d| d.as_millis());
        assert_eq!(of("10 s"), Some(10_000));
        assert_eq!(of("1.5 min"), Some(90_000));
        assert_eq!(of("250ms"), Some(250));
        for wrong in ["", "10", "s", "0 s", "-1 s", "1e400 s", "ten s"] {
            assert_eq!(of(wrong), None, "{wrong}");
        }
    }
}
