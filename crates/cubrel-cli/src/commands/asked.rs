//! Who asks, and with which parameters: what every command that takes a query has.

use std::collections::HashMap;
use std::time::Duration;

use cubrel::{Limits, Model, QueryOptions, Value};

use crate::args::Global;
use crate::failure::Failure;

/// Who asks.
#[derive(clap::Args, Debug)]
pub struct Asker {
    /// Ask in a role of the model; may be repeated
    #[arg(long = "as", value_name = "ROLE")]
    roles: Vec<String>,
    /// Who asks: what `user()` gives
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
}

impl Asker {
    /// The model as who asks sees it: all of it where no role is named.
    pub fn seen(&self, model: Model) -> Result<Model, Failure> {
        match self.roles.as_slice() {
            [] => Ok(model),
            roles => Ok(model.as_user(roles, self.user.as_deref())?.into()),
        }
    }
}

/// Parameters, who asks, limits.
#[derive(clap::Args, Debug)]
pub struct Asked {
    /// The value of a parameter, or several with commas between
    #[arg(long = "set", value_name = "NAME=VALUE")]
    parameters: Vec<String>,
    #[command(flatten)]
    pub asker: Asker,
    /// Give up after so many seconds
    #[arg(long, value_name = "SECONDS")]
    time_limit: Option<f64>,
    /// Give up where more cells are needed
    #[arg(long, value_name = "N")]
    cell_limit: Option<usize>,
    /// Give up where groups or cells take more, such as `2 GiB`
    #[arg(long, value_name = "BYTES")]
    memory_limit: Option<String>,
}

impl Asked {
    /// As the library takes it.
    pub fn options(&self, global: &Global) -> Result<QueryOptions, Failure> {
        Ok(QueryOptions {
            parameters: parameters(&self.parameters)?,
            today: global.today,
            user: self.asker.user.clone(),
            limits: self.limits()?,
            ..QueryOptions::default()
        })
    }

    fn limits(&self) -> Result<Limits, Failure> {
        let time = self.time_limit.map(|seconds| {
            let wrong =
                || Failure::Other(format!("`{seconds}` is not a time"), "write seconds: `--time-limit 2.5`".into());
            Duration::try_from_secs_f64(seconds).map_err(|_| wrong())
        });
        let memory = self.memory_limit.as_deref().map(|text| {
            let wrong =
                || Failure::Other(format!("`{text}` is not an amount of memory"), "write `2 GiB` or `500 MB`".into());
            cubrel::units::parse_bytes(text).ok_or_else(wrong)
        });
        Ok(Limits { time: time.transpose()?, cells: self.cell_limit, memory: memory.transpose()? })
    }
}

/// `NAME=VALUE` pairs; the type is guessed as in files.
pub fn parameters(pairs: &[String]) -> Result<HashMap<String, Vec<Value>>, Failure> {
    pairs
        .iter()
        .map(|pair| {
            let (name, values) = pair
                .split_once('=')
                .ok_or_else(|| Failure::Other(format!("`{pair}` sets nothing"), "write `--set year=2025`".into()))?;
            let values: Vec<Value> = values.split(',').map(|v| cubrel::guessed(v.trim())).collect();
            Ok((name.trim().trim_start_matches('$').to_string(), values))
        })
        .collect()
}
