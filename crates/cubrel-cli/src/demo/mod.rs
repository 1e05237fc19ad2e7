//! The demo model: a ferry company with invented ports, people and figures. The same seed gives the same bytes.
//!
//! The data has the oddities of real data, in known numbers ([`Oddities`]), so that what `refresh` reports can be held
//! against them.

mod data;
mod random;

use std::io;
use std::path::Path;

pub use data::Oddities;

/// The model file.
const MODEL: &str = include_str!("model.toml");

/// Writes the model file and the data.
///
/// # Errors
/// When something cannot be written.
pub fn write(folder: &Path, bookings: u64) -> io::Result<Oddities> {
    std::fs::create_dir_all(folder.join("data"))?;
    let oddities = data::write(&folder.join("data"), bookings)?;
    std::fs::write(folder.join("model.toml"), MODEL)?;
    Ok(oddities)
}
