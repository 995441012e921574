//! Every fuzzing program: its own name says which target it is for.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    assert!(schwelle_fuzz::run(env!("CARGO_BIN_NAME"), data));
});
