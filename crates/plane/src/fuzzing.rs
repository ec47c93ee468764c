//! What the fuzz targets ask of the parsers of what strangers send. Compiled for fuzzing only.

use crate::client_hello;
use merismos_connector::proxy_header::{self, ProxyHeader};

use crate::http::fuzzing as http;

/// A request head is refused, or becomes one that is accepted again and means the same.
pub fn request_head(data: &[u8]) {
    http::request_head(data);
}

/// A response head is invalid, or means the same when it is written for the client.
pub fn response_head(data: &[u8]) {
    http::response_head(data);
}

/// A ClientHello means the same in however many pieces it comes.
pub fn client_hello(data: &[u8]) {
    client_hello::fuzz(data);
}

/// A chunked body means the same in however many pieces it comes.
pub fn chunked_body(data: &[u8]) {
    http::chunked_body(data);
}

/// A header never reaches beyond its bytes, and more bytes behind a whole one change nothing.
pub fn proxy_header(data: &[u8]) {
    if let ProxyHeader::Whole { length, client } = proxy_header::parse(data) {
        assert!(length <= data.len());
        assert_eq!(proxy_header::parse(&data[..length]), ProxyHeader::Whole { length, client });
    }
}
