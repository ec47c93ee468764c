//! The client that posts webhooks.

use std::time::Duration;

use merismos_probe::verified;
use reqwest::redirect::Policy;

use crate::root_cause::root_cause;

/// Why a webhook was not delivered.
#[derive(Debug, thiserror::Error)]
pub(super) enum WebhookError {
    /// The client or the request could not be made.
    #[error("the request could not be made: {0}")]
    Request(String),
    /// There is no connection: the name has no address, nothing listens, a filter drops it, or TLS failed.
    #[error("connecting failed: {0}")]
    Connect(String),
    /// Connected, but the answer makes no sense.
    #[error("connected, but the answer makes no sense: {0}")]
    Response(String),
    /// The time is over.
    #[error("no answer within {}", merismos_core::units::humane(*.0))]
    Timeout(Duration),
}

/// Posts a body and gives the status of the response. A redirection is not followed.
///
/// # Errors
/// When there is no response within `timeout`, connecting included.
pub(super) async fn post(
    url: &str,
    fields: &[(String, String)],
    body: Vec<u8>,
    timeout: Duration,
) -> Result<u16, WebhookError> {
    let failed = |error: reqwest::Error| match () {
        () if error.is_timeout() => WebhookError::Timeout(timeout),
        () if error.is_builder() => WebhookError::Request(root_cause(&error)),
        () if error.is_connect() => WebhookError::Connect(root_cause(&error)),
        () => WebhookError::Response(root_cause(&error)),
    };
    // A client for each delivery: they are rare, and what is trusted may have changed since the last one.
    let client = reqwest::Client::builder()
        .tls_backend_preconfigured(verified().map_err(|error| WebhookError::Request(error.to_string()))?)
        .redirect(Policy::none())
        .no_proxy()
        .pool_max_idle_per_host(0)
        .timeout(timeout)
        .build()
        .map_err(failed)?;
    let mut request = client.post(url).body(body);
    for (name, value) in fields {
        request = request.header(name, value);
    }
    Ok(request.send().await.map_err(failed)?.status().as_u16())
}
