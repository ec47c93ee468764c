//! Certificates as they are shown to clients.

use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use merismos_api::{Certificates, HandshakeQuery, Handshakes};
use merismos_core::name::Name;
use rustls::pki_types::ServerName;

use super::ApiState;
use super::problem::{ApiError, Finding, Looking, QueryParams};

/// How long the name of a host is looked up.
const LOOKUP_LIMIT: Duration = Duration::from_secs(2);

/// Every certificate of the running revision: for which names it is, until when, which frontends show it, and what is wrong with it.
#[utoipa::path(
    get, path = "/certificates", operation_id = "list_certificates", tag = "look",
    responses((status = 200, body = Certificates), Looking)
)]
pub(super) async fn list(State(app): State<Arc<ApiState>>) -> Result<Json<Certificates>, ApiError> {
    let view = app.controller.view().await?;
    Ok(Json(Certificates { certificates: app.certificates.views(view.effective.document()) }))
}

/// What a host is, said to who names another thing.
pub(super) const NO_HOST: &str = "a host is a DNS name such as booking.skerry.example, or an IP address";

/// Whether clients can ask for it: in lower case, for names have no other.
pub(super) fn is_host(host: &str) -> bool {
    !host.bytes().any(|byte| byte.is_ascii_uppercase()) && ServerName::try_from(host).is_ok()
}

pub(super) fn no_frontend(name: &Name) -> ApiError {
    let detail = format!("There is no frontend {name}.");
    ApiError::new(StatusCode::NOT_FOUND, "no-such-object", "There is no such frontend", detail)
}

/// Make a handshake with frontends as a client would that asks for a host, and say what it is shown and why it would warn.
#[utoipa::path(
    get, path = "/certificates/handshakes", operation_id = "try_handshakes", tag = "look", params(HandshakeQuery),
    responses((status = 200, body = Handshakes), Finding)
)]
pub(super) async fn handshakes(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<HandshakeQuery>,
) -> Result<Json<Handshakes>, ApiError> {
    let HandshakeQuery { host, frontend } = query;
    if !is_host(&host) {
        return Err(ApiError::bad_request(NO_HOST));
    }
    let only: Option<Name> = frontend.map(|name| name.parse().map_err(ApiError::bad_request)).transpose()?;
    let view = app.controller.view().await?;
    let document = view.effective.document();
    if let Some(only) = only.as_ref().filter(|only| !document.frontends.contains_key(*only)) {
        return Err(no_frontend(only));
    }
    let handshakes = app.certificates.handshakes(document, only.as_ref(), &host).await;
    let mut leads_to = leads_to(&host).await;
    leads_to.dedup();
    Ok(Json(Handshakes { host, leads_to, handshakes }))
}

/// The addresses of a name, as this machine's resolver says; none when it is not to be had.
async fn leads_to(host: &str) -> Vec<String> {
    match tokio::time::timeout(LOOKUP_LIMIT, tokio::net::lookup_host((host, 0))).await {
        Ok(Ok(addresses)) => addresses.map(|address| address.ip().to_string()).collect(),
        Ok(Err(_)) | Err(_) => Vec::new(),
    }
}
