//! The console: files built by Vite, embedded in the program.

use axum::http::header::{ACCEPT, CACHE_CONTROL, CONTENT_TYPE, ETAG, IF_NONE_MATCH};
use axum::http::{HeaderMap, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct ConsoleFiles;

/// The page that every address of the console is.
const PAGE: &str = "index.html";

/// The lists of the console, each of which has pages of its own below it.
const LISTS: [&str; 15] = [
    "frontends",
    "pools",
    "checks",
    "hosts",
    "ranges",
    "networks",
    "certificates",
    "addresses",
    "announce",
    "authorities",
    "limits",
    "rules",
    "examples",
    "notifications",
    "events",
];

/// Whether an address is a page of the console; the console's own router has the same ones.
fn is_page(path: &str) -> bool {
    let parts: Vec<&str> = path.split('/').collect();
    match parts.as_slice() {
        [""]
        | ["access" | "maintenance" | "new-service" | "changes" | "nodes"]
        | ["changes", "drafts" | "revisions", _] => true,
        [list] => LISTS.contains(list),
        [list, name] => LISTS.contains(list) && !name.is_empty(),
        _ => false,
    }
}

/// Serves a file, or a page of the console. Where there is neither, a browser gets the console all the same, which says so.
pub(crate) async fn file(uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    if let Some(found) = ConsoleFiles::get(path).filter(|_| !path.is_empty()) {
        return answer(path, &found, &headers);
    }
    let is_page = is_page(path);
    if !is_page && (path.starts_with("assets/") || !wants_html(&headers)) {
        return (StatusCode::NOT_FOUND, "there is nothing at this address\n").into_response();
    }
    let Some(page) = ConsoleFiles::get(PAGE) else {
        return (StatusCode::NOT_FOUND, "this merismosd was built without the console\n").into_response();
    };
    if is_page {
        return answer(PAGE, &page, &headers);
    }
    (StatusCode::NOT_FOUND, [(CONTENT_TYPE, "text/html")], page.data.to_vec()).into_response()
}

fn wants_html(headers: &HeaderMap) -> bool {
    headers
        .get(ACCEPT)
        .and_then(|accept| accept.to_str().ok())
        .is_some_and(|accept| accept.contains("text/html"))
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_consoles_own_addresses_are_pages_and_others_are_not() {
        let router = include_str!("../../../console/src/router.ts");
        let addresses: Vec<&str> =
            router.lines().filter_map(|line| line.trim().strip_prefix("'/")?.split('\'').next()).collect();
        assert!(addresses.len() > 10, "{addresses:?}");
        for address in addresses {
            assert!(is_page(&address.replace(':', "")), "{address}");
        }
        for address in
            ["healthz", "metrics", "pools/booking/servers", "changes/drafts", "pools/", "assets/x.js"]
        {
            assert!(!is_page(address), "{address}");
        }
    }
}
