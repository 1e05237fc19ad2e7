//! A client of other people, in the language that most who analyse data know: the ADBC driver of Python.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::common::{bookings, folder, serving_in};

/// Names a Python that has `adbc-driver-flightsql`, `pyarrow`, `pandas` and `polars`.
const PYTHON: &str = "CUBREL_PYTHON";

#[test]
fn a_driver_of_other_people_connects_lists_asks_and_cancels() {
    let Some(python) = std::env::var_os(PYTHON) else {
        eprintln!("skipped: `{PYTHON}` names no Python that has the driver");
        return;
    };
    let folder = folder();
    let model = folder.path().join("ferries");
    bookings(&model, "booking-2.csv", 0..1_000_000);
    // Without roles, whoever signs in sees all of it.
    let text = fs::read_to_string(model.join("model.toml")).unwrap();
    fs::write(model.join("model.toml"), text.split("[role.north]").next().unwrap()).unwrap();
    let settings = "sign_in = 'token'\nlimits = { time = '10 min', cells = 100000000 }";
    let server = serving_in(folder, settings, Default::default());
    let token = server.token("ann", 1);
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/clients/adbc.py");
    let out = Command::new(python).arg(script).args([&server.flight, &token]).output().unwrap();
    let (told, wrong) = (String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    assert!(out.status.success() && told.contains("all is well"), "{told}\n{wrong}");
}
