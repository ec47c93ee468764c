//! A TLS greeting means the same in however many pieces it comes.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| merismos_plane::fuzzing::client_hello(data));
