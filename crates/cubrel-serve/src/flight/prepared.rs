//! Statements that are kept with the values of their parameters, and what runs and can be cancelled.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use arrow_array::RecordBatch;
use cubrel::{Cancel, Value};

use super::statement::Statement;
use crate::people::Person;
use crate::problem::Problem;

/// Statements that are kept, of one person and in all; of more, those that nobody has used for longest are forgotten.
const OF_ONE: usize = 64;
const IN_ALL: usize = 4096;
/// The most values of a parameter.
const VALUES: usize = 100_000;

#[derive(Debug)]
struct KeptStatement {
    owner: Person,
    statement: Statement,
    used: u64,
}

#[derive(Debug, Default)]
struct Statements {
    by_handle: HashMap<String, KeptStatement>,
    clock: u64,
}

/// Something that runs for somebody.
#[derive(Debug)]
struct Run {
    number: u64,
    name: String,
    owner: Person,
    cancel: Cancel,
}

/// Statements that are kept, and what runs.
#[derive(Debug, Default)]
pub struct Prepared {
    statements: Mutex<Statements>,
    running: Mutex<Vec<Run>>,
    next: AtomicU64,
}

/// A name that nobody can guess.
pub fn handle() -> Option<String> {
    let mut bytes = [0u8; 16];
    getrandom::fill(&mut bytes).ok()?;
    Some(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

impl Statements {
    /// Forgets what was not used for longest, of those that `counts` lets through, until there are fewer than `most`.
    fn make_room(&mut self, most: usize, counts: impl Fn(&KeptStatement) -> bool) {
        while self.by_handle.values().filter(|kept| counts(kept)).count() >= most {
            let oldest = self.by_handle.iter().filter(|(_, kept)| counts(kept)).min_by_key(|(_, kept)| kept.used);
            let Some(handle) = oldest.map(|(handle, _)| handle.clone()) else { return };
            self.by_handle.remove(&handle);
        }
    }
}

impl Prepared {
    /// Keeps a statement; by which name.
    pub fn keep(&self, owner: &Person, statement: Statement) -> Option<String> {
        let handle = handle()?;
        let mut statements = self.statements.lock().unwrap_or_else(PoisonError::into_inner);
        statements.make_room(OF_ONE, |kept| kept.owner == *owner);
        statements.make_room(IN_ALL, |_| true);
        statements.clock += 1;
        let kept = KeptStatement { owner: owner.clone(), statement, used: statements.clock };
        statements.by_handle.insert(handle.clone(), kept);
        Some(handle)
    }

    /// Does something with a statement of somebody.
    fn with<T>(&self, owner: &Person, handle: &[u8], work: impl FnOnce(&mut Statement) -> T) -> Result<T, Problem> {
        let unknown = || {
            Problem::not_found("this prepared statement is closed, or was forgotten among many")
                .help("prepare it again")
        };
        let handle = std::str::from_utf8(handle).map_err(|_| unknown())?;
        let mut statements = self.statements.lock().unwrap_or_else(PoisonError::into_inner);
        statements.clock += 1;
        let now = statements.clock;
        let kept = statements.by_handle.get_mut(handle).filter(|kept| kept.owner == *owner).ok_or_else(unknown)?;
        kept.used = now;
        Ok(work(&mut kept.statement))
    }

    /// A statement of somebody.
    ///
    /// # Errors
    /// When it is not kept any more, or is somebody else's.
    pub fn get(&self, owner: &Person, handle: &[u8]) -> Result<Statement, Problem> {
        self.with(owner, handle, |statement| statement.clone())
    }

    /// A statement of somebody with values for its parameters, which it does not keep yet.
    ///
    /// # Errors
    /// When it is not kept any more, or the values are none of its parameters.
    pub fn bound(&self, owner: &Person, handle: &[u8], batches: &[RecordBatch]) -> Result<Statement, Problem> {
        let statement = self.get(owner, handle)?;
        let parameters = values(&statement.names, batches)?;
        Ok(Statement { parameters, ..statement })
    }

    /// Forgets a statement. That it is forgotten already is as good.
    pub fn close(&self, owner: &Person, handle: &[u8]) {
        let Ok(handle) = std::str::from_utf8(handle) else { return };
        let mut statements = self.statements.lock().unwrap_or_else(PoisonError::into_inner);
        if statements.by_handle.get(handle).is_some_and(|kept| kept.owner == *owner) {
            statements.by_handle.remove(handle);
        }
    }

    /// Gives the parameters other values.
    ///
    /// # Errors
    /// When it is not kept any more, or is somebody else's.
    pub fn set(&self, owner: &Person, handle: &[u8], values: HashMap<String, Vec<Value>>) -> Result<(), Problem> {
        self.with(owner, handle, |statement| statement.parameters = values)
    }

    /// Lets what runs under a name be cancelled, as long as the result is kept.
    pub fn running(&self, owner: &Person, name: &str, cancel: &Cancel) -> Running<'_> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let run = Run { number, name: name.to_string(), owner: owner.clone(), cancel: cancel.clone() };
        self.running.lock().unwrap_or_else(PoisonError::into_inner).push(run);
        Running { prepared: self, number }
    }

    /// Cancels what runs for somebody under a name; whether anything did.
    pub fn cancel(&self, owner: &Person, name: &str) -> bool {
        let running = self.running.lock().unwrap_or_else(PoisonError::into_inner);
        let own = running.iter().filter(|run| run.name == name && run.owner == *owner);
        own.map(|run| run.cancel.cancel()).count() > 0
    }
}

/// Something that runs, and can be cancelled by its name.
#[derive(Debug)]
pub struct Running<'a> {
    prepared: &'a Prepared,
    number: u64,
}

impl Drop for Running<'_> {
    fn drop(&mut self) {
        let mut running = self.prepared.running.lock().unwrap_or_else(PoisonError::into_inner);
        running.retain(|run| run.number != self.number);
    }
}

/// Values of which a text is what formulas would read it as; nothing where there is no such text.
pub fn guessed(parameters: &HashMap<String, Vec<Value>>) -> Option<HashMap<String, Vec<Value>>> {
    let of = |value: &Value| match value {
        Value::Text(text) => cubrel::guessed(text),
        other => other.clone(),
    };
    let all: HashMap<String, Vec<Value>> =
        parameters.iter().map(|(name, values)| (name.clone(), values.iter().map(of).collect())).collect();
    (all != *parameters).then_some(all)
}

/// The values of parameters: one row has one of each, by name or in the order of the text; several rows are several values of the
/// only parameter there is.
fn values(parameters: &[String], batches: &[RecordBatch]) -> Result<HashMap<String, Vec<Value>>, Problem> {
    let rows: usize = batches.iter().map(RecordBatch::num_rows).sum();
    let Some(first) = batches.first() else { return Ok(HashMap::new()) };
    let wrong = |detail: String| {
        Problem::bad_request(detail).help(match parameters {
            [] => "this statement has no parameters; they are written `$name`".to_string(),
            names => format!("it has `${}`: one row, with a column for each", names.join("`, `$")),
        })
    };
    if first.num_columns() != parameters.len() {
        return Err(wrong(format!("{} parameters are given, and {} asked for", first.num_columns(), parameters.len())));
    }
    if rows != 1 && parameters.len() != 1 {
        return Err(wrong(format!("{rows} rows of parameters are given")));
    }
    if rows > VALUES {
        return Err(wrong(format!("{rows} values are more than a parameter may have")));
    }
    let schema = first.schema();
    let named = |name: &String| schema.fields().iter().position(|f| f.name().trim_start_matches('$') == name);
    let places: Option<Vec<usize>> = parameters.iter().map(named).collect();
    let places = places.unwrap_or_else(|| (0..parameters.len()).collect());
    let mut all = HashMap::new();
    for (name, place) in parameters.iter().zip(places) {
        let mut own = Vec::new();
        for batch in batches {
            own.extend(flat(batch.column(place).as_ref()).map_err(|e| wrong(format!("`${name}`: {e}")))?);
        }
        all.insert(name.clone(), own);
    }
    Ok(all)
}

/// The values of an array; of lists, those in them.
fn flat(array: &dyn arrow_array::Array) -> Result<Vec<Value>, cubrel::Error> {
    use arrow_array::cast::AsArray;
    if let Some(list) = array.as_list_opt::<i32>() {
        return list
            .iter()
            .flatten()
            .map(|inner| flat(inner.as_ref()))
            .collect::<Result<Vec<_>, _>>()
            .map(|v| v.concat());
    }
    // Dates and timestamps often come as texts.
    let guessed = |value: Value| match &value {
        Value::Text(text) => match cubrel::guessed(text) {
            moment @ (Value::Date(_) | Value::Timestamp(_)) => moment,
            _ => value,
        },
        _ => value,
    };
    Ok(cubrel::arrow::values(array)?.into_iter().map(guessed).collect())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{ArrayRef, Int64Array, StringArray};

    use super::*;
    use crate::people::Named;

    fn person(name: &str) -> Person {
        Person::Named(Named { name: name.into(), roles: Vec::new() })
    }

    fn statement(text: &str) -> Statement {
        Statement { text: text.into(), ..Statement::default() }
    }

    #[test]
    fn a_statement_is_its_owners_until_it_is_closed_or_many_came_after() {
        let (prepared, ann, ben) = (Prepared::default(), person("ann"), person("ben"));
        let first = prepared.keep(&ann, statement("a")).unwrap();
        assert_eq!(prepared.get(&ann, first.as_bytes()).unwrap().text, "a");
        assert!(prepared.get(&ben, first.as_bytes()).is_err());
        prepared.close(&ben, first.as_bytes());
        assert!(prepared.get(&ann, first.as_bytes()).is_ok(), "nobody else can close it");
        let second = prepared.keep(&ann, statement("b")).unwrap();
        for _ in 0..OF_ONE - 1 {
            prepared.get(&ann, first.as_bytes()).unwrap();
            prepared.keep(&ann, statement("c")).unwrap();
        }
        assert!(prepared.get(&ann, first.as_bytes()).is_ok(), "it was used all the time");
        assert!(prepared.get(&ann, second.as_bytes()).is_err());
        prepared.close(&ann, first.as_bytes());
        assert!(prepared.get(&ann, first.as_bytes()).is_err());
        assert!(prepared.get(&ann, b"\xff").is_err());
    }

    #[test]
    fn what_runs_is_cancelled_by_its_owner_alone() {
        let (prepared, ann, ben, cancel) = (Prepared::default(), person("ann"), person("ben"), Cancel::default());
        assert!(!prepared.cancel(&ann, "x"));
        let running = prepared.running(&ann, "x", &cancel);
        assert!(!prepared.cancel(&ben, "x") && !cancel.is_cancelled());
        assert!(prepared.cancel(&ann, "x") && cancel.is_cancelled());
        drop(running);
        assert!(!prepared.cancel(&ann, "x"));
    }

    #[test]
    fn parameters_come_by_name_by_place_or_as_a_list() {
        let names = ["year".to_string(), "region".to_string()];
        let (year, region): (ArrayRef, ArrayRef) =
            (Arc::new(Int64Array::from(vec![2031])), Arc::new(StringArray::from(vec!["2031-05-01"])));
        let of = |columns: Vec<(&str, ArrayRef)>| RecordBatch::try_from_iter(columns).unwrap();
        let day = cubrel::guessed("2031-05-01");
        for batch in [
            of(vec![("0", year.clone()), ("1", region.clone())]),
            of(vec![("$region", region.clone()), ("$year", year.clone())]),
        ] {
            let found = values(&names, &[batch]).unwrap();
            assert_eq!((&found["year"], &found["region"]), (&vec![Value::Int(2031)], &vec![day.clone()]));
        }
        let several: ArrayRef = Arc::new(Int64Array::from(vec![1, 2, 3]));
        let list = of(vec![("0", several.clone())]);
        assert_eq!(values(&names[..1], std::slice::from_ref(&list)).unwrap()["year"].len(), 3);
        assert!(values(&names, std::slice::from_ref(&list)).is_err());
        assert!(values(&names, &[of(vec![("0", several.clone()), ("1", several)])]).is_err());
        assert!(values(&[], &[list]).is_err());
        assert!(values(&[], &[]).unwrap().is_empty());
    }
}
