//! Who asks, and with which parameters: what every command that takes a query has.

use std::collections::HashMap;

use cubrel::{QueryOptions, Value};

use super::Failure;
use crate::Global;

/// Parameters, roles, user.
#[derive(clap::Args, Debug)]
pub struct Asked {
    /// The value of a parameter; several values are separated by commas
    #[arg(long = "set", value_name = "NAME=VALUE")]
    parameters: Vec<String>,
    /// Ask in a role of the model; several roles unite their rows
    #[arg(long = "as", value_name = "ROLE")]
    roles: Vec<String>,
    /// Who asks: what `user()` gives
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
}

impl Asked {
    /// As the library takes it.
    pub fn options(&self, global: &Global) -> Result<QueryOptions, Failure> {
        Ok(QueryOptions {
            parameters: parameters(&self.parameters)?,
            today: global.today,
            roles: self.roles.clone(),
            user: self.user.clone(),
        })
    }
}

/// `NAME=VALUE` pairs; the type is guessed as in files.
fn parameters(pairs: &[String]) -> Result<HashMap<String, Vec<Value>>, Failure> {
    pairs
        .iter()
        .map(|pair| {
            let (name, values) = pair
                .split_once('=')
                .ok_or_else(|| Failure::Other(format!("`{pair}` sets nothing"), "write `--set year=2025`".into()))?;
            let values: Vec<Value> = values.split(',').map(|v| guess(v.trim())).collect();
            Ok((name.trim().trim_start_matches('$').to_string(), values))
        })
        .collect()
}

fn guess(text: &str) -> Value {
    let mut guess = cubrel::load::infer::Guess::default();
    guess.see(text.as_bytes());
    cubrel::value::parse::value(text, guess.ty()).unwrap_or_else(|| Value::text(text))
}
