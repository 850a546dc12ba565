//! What is promised is in `gubernum_fuzz::texts`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gubernum_fuzz::texts::live_messages(data));
