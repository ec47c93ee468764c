//! Calls that create, sent twice: with an `Idempotency-Key` the second gets the first one's answer, and creates nothing
//! (draft-ietf-httpapi-idempotency-key-header).
//!
//! Answers are remembered in memory: they are gone with the service. Rolls, which are kept with their key, need none of this.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderValue, StatusCode, header::CONTENT_TYPE};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use sha2::{Digest, Sha256};

use super::auth::CallerName;
use super::problem::ApiError;
use super::{ApiState, BODY_LIMIT};

/// The longest name of a call.
const LONGEST_KEY: usize = 255;
/// How many answers are remembered; beyond, the oldest is forgotten.
const MOST_ANSWERS: usize = 1_000;
/// For how long an answer is remembered.
const REMEMBERED: Duration = Duration::from_secs(24 * 3_600);
/// The largest answer that is remembered: those of these calls have some hundred bytes.
const LARGEST_ANSWER: usize = 256 << 10;

/// What a caller names the call: the same call sent again creates nothing new.
pub(super) struct IdempotencyKey(pub(super) Option<String>);

impl<S: Send + Sync> FromRequestParts<S> for IdempotencyKey {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        let Some(field) = parts.headers.get("idempotency-key") else { return Ok(Self(None)) };
        let text = field.to_str().ok().map(|text| text.trim().trim_matches('"'));
        match text.filter(|text| !text.is_empty() && text.len() <= LONGEST_KEY) {
            Some(text) => Ok(Self(Some(text.to_owned()))),
            None => {
                Err(unprocessable(format!("An Idempotency-Key has 1 to {LONGEST_KEY} characters of ASCII.")))
            }
        }
    }
}

fn unprocessable(detail: impl ToString) -> ApiError {
    ApiError::new(
        StatusCode::UNPROCESSABLE_ENTITY,
        "idempotency-key",
        "The Idempotency-Key can't be used",
        detail,
    )
}

/// Who called what, by which key.
type CallKey = (String, String, String);

#[derive(Clone, Debug)]
struct KnownCall {
    at: Instant,
    /// Of its body: another body under the same key is a mistake of the caller.
    digest: [u8; 32],
    /// `None` while it is under way.
    answer: Option<(StatusCode, Bytes)>,
}

/// The calls with a key that were answered lately, and those under way. Held for a look or a change only.
#[derive(Clone, Debug, Default)]
pub(crate) struct RepeatedCalls(Arc<Mutex<BTreeMap<CallKey, KnownCall>>>);

impl RepeatedCalls {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<CallKey, KnownCall>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins a call, or gives the answer that it had.
    fn begin(&self, key: CallKey, digest: [u8; 32]) -> Result<CallUnderWay, Repeated> {
        let mut known = self.lock();
        let now = Instant::now();
        known.retain(|_, call| call.answer.is_none() || now.duration_since(call.at) < REMEMBERED);
        match known.get(&key) {
            Some(call) if call.digest != digest => return Err(Repeated::OtherBody),
            Some(KnownCall { answer: Some(answer), .. }) => return Err(Repeated::Answered(answer.clone())),
            Some(_) => return Err(Repeated::UnderWay),
            None => {}
        }
        if known.len() >= MOST_ANSWERS {
            let oldest =
                known.iter().filter(|(_, call)| call.answer.is_some()).min_by_key(|(_, call)| call.at);
            let oldest = oldest.map(|(key, _)| key.clone());
            oldest.and_then(|oldest| known.remove(&oldest));
        }
        known.insert(key.clone(), KnownCall { at: now, digest, answer: None });
        Ok(CallUnderWay { calls: self.clone(), key: Some(key) })
    }
}

/// Why a call is not made.
#[derive(Debug)]
enum Repeated {
    Answered((StatusCode, Bytes)),
    UnderWay,
    OtherBody,
}

/// A call that is made; one that gets no answer is forgotten, so that it can be tried again.
struct CallUnderWay {
    calls: RepeatedCalls,
    key: Option<CallKey>,
}

impl CallUnderWay {
    fn answered(mut self, status: StatusCode, body: Bytes) {
        if let Some(key) = self.key.take()
            && let Some(call) = self.calls.lock().get_mut(&key)
        {
            call.answer = Some((status, body));
        }
    }
}

impl Drop for CallUnderWay {
    fn drop(&mut self) {
        if let Some(key) = self.key.take() {
            self.calls.lock().remove(&key);
        }
    }
}

/// Makes a call with an `Idempotency-Key` once. What was refused or failed may be tried again with the same key.
pub(super) async fn once(
    State(app): State<Arc<ApiState>>,
    IdempotencyKey(key): IdempotencyKey,
    request: Request,
    next: Next,
) -> Result<Response, ApiError> {
    let Some(key) = key else { return Ok(next.run(request).await) };
    let who = request.extensions().get::<CallerName>().map(|CallerName(who)| who.clone()).unwrap_or_default();
    let what = format!("{} {}", request.method(), request.uri().path());
    let (parts, body) = request.into_parts();
    let body = to_bytes(body, BODY_LIMIT).await.map_err(|error| {
        ApiError::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "The body is too large", error)
    })?;
    let call = match app.repeats.begin((who, what, key), Sha256::digest(&body).into()) {
        Ok(call) => call,
        Err(Repeated::Answered((status, body))) => return Ok(answer(status, body)),
        Err(Repeated::UnderWay) => {
            let says =
                "A call with this Idempotency-Key is under way: send it again when that one has its answer.";
            return Err(ApiError::new(StatusCode::CONFLICT, "under-way", "The call is under way", says));
        }
        Err(Repeated::OtherBody) => {
            return Err(unprocessable("A call with this Idempotency-Key and another body was made before."));
        }
    };
    let response = next.run(Request::from_parts(parts, Body::from(body))).await;
    if !response.status().is_success() {
        return Ok(response);
    }
    let (parts, body) = response.into_parts();
    let body = to_bytes(body, LARGEST_ANSWER).await.map_err(|_| ApiError::broken())?;
    call.answered(parts.status, body.clone());
    Ok(Response::from_parts(parts, Body::from(body)))
}

fn answer(status: StatusCode, body: Bytes) -> Response {
    (status, [(CONTENT_TYPE, HeaderValue::from_static("application/json"))], body).into_response()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(key: &str) -> CallKey {
        ("anna".to_owned(), "POST /api/v1/tokens".to_owned(), key.to_owned())
    }

    #[test]
    fn a_call_is_made_once_and_one_that_failed_again() {
        let calls = RepeatedCalls::default();
        let first = calls.begin(key("a"), [1; 32]).expect("it is new");
        assert!(matches!(calls.begin(key("a"), [1; 32]), Err(Repeated::UnderWay)));
        assert!(matches!(calls.begin(key("a"), [2; 32]), Err(Repeated::OtherBody)));
        first.answered(StatusCode::OK, Bytes::from_static(b"{}"));
        assert!(
            matches!(calls.begin(key("a"), [1; 32]), Err(Repeated::Answered((StatusCode::OK, body))) if body == "{}")
        );
        drop(calls.begin(key("b"), [1; 32]));
        assert!(calls.begin(key("b"), [1; 32]).is_ok(), "one that had no answer may be sent again");
    }

    #[test]
    fn the_oldest_answers_are_forgotten() {
        let calls = RepeatedCalls::default();
        for number in 0..=MOST_ANSWERS {
            let call = calls.begin(key(&number.to_string()), [0; 32]).expect("it is new");
            call.answered(StatusCode::OK, Bytes::new());
        }
        assert_eq!(calls.lock().len(), MOST_ANSWERS);
        assert!(calls.begin(key("0"), [0; 32]).is_ok());
    }
}
