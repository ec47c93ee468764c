//! The console: files built by Vite, embedded in the program.

use axum::http::header::{CACHE_CONTROL, CONTENT_TYPE, ETAG, IF_NONE_MATCH};
use axum::http::{HeaderMap, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// The page that every address of the console is.
const PAGE: &str = "index.html";

/// Serves a file; an address that is no file is a page of the console.
pub(crate) async fn file(uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    let is_asset = path.starts_with("assets/");
    match (Files::get(path).filter(|_| !path.is_empty()), is_asset) {
        (Some(found), _) => answer(path, &found, &headers),
        (None, true) => (StatusCode::NOT_FOUND, "no such file\n").into_response(),
        (None, false) => match Files::get(PAGE) {
            Some(page) => answer(PAGE, &page, &headers),
            None => (StatusCode::NOT_FOUND, "this merismosd was built without the console\n").into_response(),
        },
    }
}

fn answer(path: &str, file: &EmbeddedFile, headers: &HeaderMap) -> Response {
    let hash: String = file.metadata.sha256_hash()[..12].iter().map(|byte| format!("{byte:02x}")).collect();
    let etag = format!("\"{hash}\"");
    // The names of assets hold their hash: what is there once under a name never changes.
    let caching =
        if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let kind = mime_guess::from_path(path).first_or_octet_stream().to_string();
    let known = [(CACHE_CONTROL, caching.to_owned()), (ETAG, etag.clone())];
    if headers.get(IF_NONE_MATCH).is_some_and(|known| known.as_bytes() == etag.as_bytes()) {
        return (StatusCode::NOT_MODIFIED, known).into_response();
    }
    (known, [(CONTENT_TYPE, kind)], file.data.to_vec()).into_response()
}
