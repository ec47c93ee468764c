//! How authorities are asked: HTTP over TLS, with a limit on how long and how much.

use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use bytes::{Bytes, BytesMut};
use http_body_util::BodyExt;
use instant_acme::{BodyWrapper, BytesResponse, Error, HttpClient, Problem};
use merismos_connector::trust;
use merismos_core::config::document::{AuthoritySpec, CertificateTrust, TlsVerify};
use reqwest::header::RETRY_AFTER;
use reqwest::redirect::Policy;

use crate::root_cause::root_cause;

/// How long one request may take.
const REQUEST_LIMIT: Duration = Duration::from_secs(30);
/// The longest response that is read.
const RESPONSE_LIMIT: usize = 1024 * 1024;
/// The longest time for which an authority can have us wait.
const MOST_WAIT: Duration = Duration::from_secs(7 * 86_400);

/// Asks one authority.
#[derive(Clone, Debug)]
pub(super) struct AuthorityClient {
    http: reqwest::Client,
    /// How long the authority last said that we should wait.
    wait: Arc<Mutex<Option<Duration>>>,
}

/// Why an authority did not answer.
#[derive(Debug, thiserror::Error)]
enum AskError {
    #[error("{0}")]
    Failed(String),
    #[error("its response is longer than {} KiB", RESPONSE_LIMIT / 1024)]
    Long,
}

impl AuthorityClient {
    /// # Errors
    /// In words, when the authorities that vouch for the directory can't be read.
    pub(super) fn new(authority: &AuthoritySpec) -> Result<Self, String> {
        let trust = CertificateTrust {
            tls: TlsVerify::Verified,
            name: None,
            authorities: authority.directory_authorities.clone(),
            pin: None,
            certificate: None,
        };
        let tls = trust::client_config(&trust).map_err(|error| error.to_string())?;
        let http = reqwest::Client::builder()
            .tls_backend_preconfigured(tls)
            .redirect(Policy::none())
            .no_proxy()
            .timeout(REQUEST_LIMIT)
            .build()
            .map_err(|error| error.to_string())?;
        Ok(Self { http, wait: Arc::default() })
    }

    /// How long the authority wants us to wait before we ask again (RFC 9110, 10.2.3).
    pub(super) fn wait(&self) -> Option<Duration> {
        *self.wait.lock().unwrap_or_else(PoisonError::into_inner)
    }

    async fn ask(self, request: http::Request<BodyWrapper<Bytes>>) -> Result<BytesResponse, Error> {
        let failed = |error: &reqwest::Error| Error::Other(Box::new(AskError::Failed(in_words(error))));
        let (parts, body) = request.into_parts();
        let is_directory = parts.method == http::Method::GET;
        let Ok(body) = body.collect().await;
        let request = self.http.request(parts.method, parts.uri.to_string()).headers(parts.headers);
        let mut response = request.body(body.to_bytes()).send().await.map_err(|error| failed(&error))?;
        let (mut whole, _) = http::Response::new(()).into_parts();
        whole.status = response.status();
        whole.headers = response.headers().clone();
        // A response with which all is well says by it when to look at an order again.
        if !whole.status.is_success() {
            let wait = whole.headers.get(RETRY_AFTER).and_then(|value| wait_of(value.to_str().ok()?));
            *self.wait.lock().unwrap_or_else(PoisonError::into_inner) = wait;
        }
        let mut read = BytesMut::new();
        while let Some(piece) = response.chunk().await.map_err(|error| failed(&error))? {
            if read.len() + piece.len() > RESPONSE_LIMIT {
                return Err(Error::Other(Box::new(AskError::Long)));
            }
            read.extend_from_slice(&piece);
        }
        // A gateway before the authority speaks no problems of ACME, and a directory is taken for one whatever its status is.
        let is_problem = serde_json::from_slice::<Problem>(&read);
        match is_problem {
            Ok(problem) if !whole.status.is_success() && is_directory => Err(Error::Api(problem)),
            Err(_) if !whole.status.is_success() => {
                let detail = Some(format!("it answers with status {}", whole.status));
                let status = Some(whole.status.as_u16());
                Err(Error::Api(Problem { r#type: None, detail, status, subproblems: Vec::new() }))
            }
            _ => Ok(BytesResponse { parts: whole, body: Box::new(read.freeze()) }),
        }
    }
}

impl HttpClient for AuthorityClient {
    fn request(
        &self,
        request: http::Request<BodyWrapper<Bytes>>,
    ) -> Pin<Box<dyn Future<Output = Result<BytesResponse, Error>> + Send>> {
        Box::pin(self.clone().ask(request))
    }
}

/// Seconds, or a moment.
fn wait_of(text: &str) -> Option<Duration> {
    let seconds = text.parse().ok().map(Duration::from_secs);
    let wait = seconds.or_else(|| {
        let moment: httpdate::HttpDate = text.parse().ok()?;
        SystemTime::from(moment).duration_since(SystemTime::now()).ok()
    })?;
    Some(wait.min(MOST_WAIT))
}

/// Why there is no response.
fn in_words(error: &reqwest::Error) -> String {
    if error.is_timeout() {
        return format!("no response within {}", merismos_core::units::humane(REQUEST_LIMIT));
    }
    root_cause(error)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("120", Some(120))]
    #[case("0", Some(0))]
    #[case("99999999999", Some(604_800))]
    #[case("Wed, 21 Oct 2015 07:28:00 GMT", None)]
    #[case("soon", None)]
    fn an_authority_says_how_long_it_wants_us_to_wait(#[case] text: &str, #[case] seconds: Option<u64>) {
        assert_eq!(wait_of(text), seconds.map(Duration::from_secs));
    }
}
