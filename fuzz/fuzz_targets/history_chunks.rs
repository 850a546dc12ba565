//! What is promised is in `gubernum_fuzz::records`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gubernum_fuzz::records::history_chunks(data));
