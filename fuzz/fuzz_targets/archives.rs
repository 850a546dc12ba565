//! What is promised is in `gubernum_fuzz::archives`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gubernum_fuzz::archives::archives(data));
