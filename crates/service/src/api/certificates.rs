//! Certificates as they are shown to clients.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_api::{CertificateOrder, CertificateView, Certificates, HandshakeQuery, Handshakes};
use merismos_core::name::Name;
use rustls::pki_types::ServerName;

use super::ApiState;
use super::auth::CallerName;
use super::problem::{ApiError, Changing, Finding, JsonBody, Looking, PathParams, QueryParams};

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

/// How long an order is waited for; it goes on behind that.
const WAITED_FOR: Duration = Duration::from_secs(30);

/// Order a certificate from its authority now, and wait for it for half a minute: what became of it is in the response, and while it is still
/// being ordered, in `GET /certificates` later. One that holds is ordered anew with `renew` alone.
#[utoipa::path(
    post, path = "/certificates/{certificate}/orders", operation_id = "order_certificate", tag = "change", request_body = CertificateOrder,
    params(("certificate" = String, Path, description = "Name of the certificate", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = CertificateView), Changing)
)]
pub(super) async fn order(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(name): PathParams<Name>,
    JsonBody(CertificateOrder { renew }): JsonBody<CertificateOrder>,
) -> Result<Json<CertificateView>, ApiError> {
    let document = app.controller.view().await?.effective.shared();
    let Some(spec) = document.certificates.get(&name) else {
        let detail = format!("There is no certificate {name}.");
        return Err(ApiError::new(
            StatusCode::NOT_FOUND,
            "no-such-object",
            "There is no such certificate",
            detail,
        ));
    };
    let refused = |detail: String| {
        Err(ApiError::new(StatusCode::CONFLICT, "not-ordered", "The certificate is not ordered", detail))
    };
    if spec.authority.is_none() {
        return refused(format!("Certificate {name} has no authority: it is read from files, or made here."));
    }
    if let Some(end) = app.certificates.holds_until(&name).filter(|_| !renew) {
        return refused(format!(
            "There is one that holds until {end}, and that is renewed by itself; `merismos certificate renew {name}` renews it now."
        ));
    }
    tracing::info!(certificate = %name, %who, "a certificate is ordered by hand");
    let (controller, certificates) = (app.controller.clone(), app.certificates.clone());
    let ordered = Arc::clone(&document);
    let ordering = {
        let name = name.clone();
        async move {
            // What became of it is in the view, and in the journal.
            if certificates.order_now(ordered, &name).await.is_ok() {
                let _ = controller.speak_tls().await;
            }
        }
    };
    // Seen through also when nobody waits any more.
    let ordering = tokio::spawn(ordering);
    let _ = tokio::time::timeout(WAITED_FOR, ordering).await;
    let views = app.certificates.views(&document);
    let view = views.into_iter().find(|view| view.name == name.as_str());
    view.map(Json).ok_or_else(|| {
        let detail = format!("Certificate {name} was removed meanwhile.");
        ApiError::new(StatusCode::NOT_FOUND, "no-such-object", "There is no such certificate", detail)
    })
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
