//! What the fuzz targets ask of the parsers of what strangers send. Compiled for fuzzing only.

use crate::greeting;
use crate::http::fuzzing as http;
use crate::proxy::{self, Header};

/// A request head is refused, or becomes one that is accepted again and means the same.
pub fn request_head(data: &[u8]) {
    http::request_head(data);
}

/// An answer's head makes no sense, or means the same when it is written for the client.
pub fn answer_head(data: &[u8]) {
    http::answer_head(data);
}

/// A TLS greeting means the same in however many pieces it comes.
pub fn greeting(data: &[u8]) {
    greeting::fuzz(data);
}

/// A chunked body means the same in however many pieces it comes.
pub fn chunked_body(data: &[u8]) {
    http::chunked_body(data);
}

/// A header never reaches beyond its bytes, and more bytes behind a whole one change nothing.
pub fn proxy_header(data: &[u8]) {
    if let Header::Whole { length, client } = proxy::parse(data) {
        assert!(length <= data.len());
        assert_eq!(proxy::parse(&data[..length]), Header::Whole { length, client });
    }
}
