//! A PROXY protocol header never reaches beyond its bytes, and more bytes behind a whole one change nothing.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| merismos_plane::fuzzing::proxy_header(data));
