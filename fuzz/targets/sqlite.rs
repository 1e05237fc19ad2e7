#![no_main]
#[path = "../inputs.rs"]
#[allow(dead_code, reason = "each target does one thing with its bytes")]
mod inputs;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    inputs::panics_end_it();
    inputs::sqlite(bytes);
});
