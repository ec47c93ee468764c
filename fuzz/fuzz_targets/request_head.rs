//! A request head is refused, or becomes one that is accepted again and means the same.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| merismos_plane::fuzzing::request_head(data));
