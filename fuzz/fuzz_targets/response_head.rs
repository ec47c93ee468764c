//! An answer's head makes no sense, or means the same when it is written for the client.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| merismos_plane::fuzzing::response_head(data));
