//! What is promised is in `gubernum_fuzz::streams`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gubernum_fuzz::streams::log_frames(data));
