//! Tables and queries of PostgreSQL. Rows come as delimited text, as the server's `COPY` writes it, and are read as they
//! arrive. The password comes from the environment only (`PGPASSWORD`).

use std::io::{self, Write};
use std::sync::mpsc;
use std::time::Duration;

use postgres::types::Type as SqlType;
use postgres::{Client, Config, NoTls};

use super::LoadError;
use super::database::DatabaseQuery;
use super::jsonl::NULL;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::Type;

/// How long a server may take to answer at first.
const PATIENCE: Duration = Duration::from_secs(10);

/// The address and the query of `postgres://user@host/database?table=…` or `?query=…`.
///
/// # Errors
/// When it says neither, or holds a password.
pub fn parse(source: &str) -> Result<DatabaseQuery, Diagnostic> {
    let wanted = DatabaseQuery::parse(source, source)?;
    let user = wanted.place.split_once("://").and_then(|(_, rest)| rest.split_once('@')).map(|(user, _)| user);
    if user.is_some_and(|u| u.contains(':')) {
        let shown = wanted.place.split_once('@').map_or("", |(_, host)| host);
        let problem = Diagnostic::general(Problem::Model, format!("the source at `{shown}` has a password in it"));
        return Err(problem.help("take it out, and set PGPASSWORD in the environment"));
    }
    Ok(wanted)
}

fn failed(place: &str, e: &postgres::Error) -> LoadError {
    let why = e.as_db_error().map_or_else(|| e.to_string(), |db| db.message().to_string());
    let why = match std::error::Error::source(e) {
        Some(cause) if e.as_db_error().is_none() => format!("{why}: {cause}"),
        _ => why,
    };
    Diagnostic::general(Problem::Data, format!("{place}: {why}"))
        .help("check the address, PGPASSWORD, and the table or query after the `?`")
        .into()
}

fn connect(place: &str) -> Result<Client, LoadError> {
    let fail = |e: postgres::Error| failed(place, &e);
    let mut config: Config = place.parse().map_err(fail)?;
    if let Ok(password) = std::env::var("PGPASSWORD") {
        config.password(password);
    }
    config.connect_timeout(PATIENCE).application_name("cubrel");
    // What takes the connection and says nothing would be waited for without end: the driver bounds the connection alone.
    let (tell, told) = mpsc::channel();
    std::thread::spawn(move || {
        let _ = tell.send(greeted(&config));
    });
    match told.recv_timeout(PATIENCE) {
        Ok(client) => client.map_err(fail),
        Err(_) => {
            let message = format!("{place}: the server has not answered for {} seconds", PATIENCE.as_secs());
            Err(Diagnostic::general(Problem::Data, message).help("check the address: is it a database?").into())
        }
    }
}

/// A connection that writes values as they are read here.
fn greeted(config: &Config) -> Result<Client, postgres::Error> {
    let mut client = config.connect(NoTls)?;
    client.batch_execute("set datestyle = 'ISO, YMD'; set timezone = 'UTC'; set extra_float_digits = 3")?;
    Ok(client)
}

/// The types that columns of a query are known to have, by name; of numbers of any precision only the values tell.
///
/// # Errors
/// When the server cannot be reached, or the query is wrong.
pub fn types(wanted: &DatabaseQuery) -> Result<Vec<(String, Option<Type>)>, LoadError> {
    let statement = connect(&wanted.place)?.prepare(&wanted.query).map_err(|e| failed(&wanted.place, &e))?;
    let types = statement.columns().iter().map(|c| (c.name().to_string(), known_type(c.type_())));
    Ok(types.collect())
}

fn known_type(ty: &SqlType) -> Option<Type> {
    match *ty {
        SqlType::INT2 | SqlType::INT4 | SqlType::INT8 | SqlType::OID => Some(Type::Int),
        SqlType::FLOAT4 | SqlType::FLOAT8 => Some(Type::Float),
        SqlType::BOOL => Some(Type::Bool),
        SqlType::DATE => Some(Type::Date),
        SqlType::TIMESTAMP | SqlType::TIMESTAMPTZ => Some(Type::Timestamp),
        SqlType::NUMERIC => None,
        _ => Some(Type::Text),
    }
}

/// The first and last value of a query's two columns, as texts.
///
/// # Errors
/// When the server cannot be reached, or the query is wrong.
pub fn ends(wanted: &DatabaseQuery, query: &str) -> Result<Option<(String, String)>, LoadError> {
    let query = format!("select a::text, b::text from ({query}) as ends (a, b)");
    let row = connect(&wanted.place)?.query_one(&query, &[]).map_err(|e| failed(&wanted.place, &e))?;
    let (first, last): (Option<String>, Option<String>) = (row.get(0), row.get(1));
    Ok(first.zip(last))
}

/// Writes the rows of a query as delimited text with a header.
///
/// # Errors
/// When the server cannot be reached, or the query is wrong.
pub fn copy(place: &str, query: &str, to: &mut impl Write) -> io::Result<()> {
    let other = |e: LoadError| io::Error::other(e.to_string());
    let mut client = connect(place).map_err(other)?;
    let statement = client.prepare(query).map_err(|e| other(failed(place, &e)))?;
    let columns: Vec<String> = statement.columns().iter().map(written).collect();
    let copy = format!(
        "copy (select {} from ({query}) as source) to stdout (format csv, header, null '{NULL}')",
        columns.join(", ")
    );
    let mut reader = client.copy_out(&copy).map_err(|e| other(failed(place, &e)))?;
    io::copy(&mut reader, to).map(|_| ())
}

/// A column of a query as it is copied: truth values in words, everything else as the server writes it.
fn written(column: &postgres::Column) -> String {
    let name = format!("\"{}\"", column.name().replace('"', "\"\""));
    match *column.type_() {
        SqlType::BOOL => format!("case when {name} then 'true' when not {name} then 'false' end as {name}"),
        _ => name,
    }
}
