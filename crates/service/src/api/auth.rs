//! Who calls: a token in the `Authorization` field, or a session of the console in its cookie.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use axum::Extension;
use axum::extract::{ConnectInfo, Request, State};
use axum::http::header::{AUTHORIZATION, COOKIE, HOST, ORIGIN, SET_COOKIE};
use axum::http::{HeaderMap, Method, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use merismos_api::{ProblemDocument, Session};
use merismos_core::config::document::SESSION_COOKIE;
use merismos_core::cookie::cookie_values;
use merismos_plane::memory::counted_as;
use serde_json::json;

use super::ApiState;
use super::problem::{ApiError, JsonBody};
use crate::access::Caller;

/// Scripts can't read the cookie and other sites can't make a browser send it.
const COOKIE_RULES: &str = "Path=/; HttpOnly; SameSite=Strict";

/// The name of the token of this call.
#[derive(Clone, Debug)]
pub(super) struct CallerName(pub(super) String);

fn bearer(headers: &HeaderMap) -> Option<&str> {
    let value = headers.get(AUTHORIZATION)?.to_str().ok()?;
    let (scheme, token) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim())
}

fn cookie(headers: &HeaderMap) -> Option<&str> {
    let fields = headers.get_all(COOKIE).iter();
    let value = fields.flat_map(|field| cookie_values(field.as_bytes(), SESSION_COOKIE)).next()?;
    std::str::from_utf8(value).ok()
}

/// Whether a browser says that the call comes from a page of ours.
fn is_same_origin(headers: &HeaderMap) -> bool {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    match (text(ORIGIN), text(HOST)) {
        (None, _) => true,
        (Some(origin), Some(host)) => {
            origin.split_once("://").is_some_and(|(_, authority)| authority == host)
        }
        (Some(_), None) => false,
    }
}

/// Lets calls with a good token or session pass, and notes whose it is.
pub(super) async fn guard(
    State(app): State<Arc<ApiState>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    mut request: Request,
    next: Next,
) -> Response {
    let headers = request.headers();
    let changes = !matches!(*request.method(), Method::GET | Method::HEAD);
    let caller = match (bearer(headers), cookie(headers)) {
        (Some(token), _) => match app.access.by_token(token) {
            Some(caller) => Some(caller),
            None => {
                slow_down(&app, peer).await;
                None
            }
        },
        // A session that is over is no guess: its page asks again and again until a log-in.
        (None, Some(secret)) if !changes || is_same_origin(headers) => app.access.by_session(secret),
        (None, _) => None,
    };
    match caller {
        Some(Caller { name, credential }) => {
            request.extensions_mut().insert(CallerName(name));
            request.extensions_mut().insert(credential);
            next.run(request).await
        }
        None => ApiError::unauthorised().into_response(),
    }
}

/// Counts a wrong token, and lets its address wait before the answer.
async fn slow_down(app: &ApiState, peer: SocketAddr) {
    let guess = app.guesses.note(counted_as(peer.ip()), Instant::now());
    if let Some(count) = guess.to_report {
        let calls = if count == 1 { "a call".to_owned() } else { format!("{count} calls") };
        app.journal.here(
            format!("{calls} with a wrong token, the last one from {}", peer.ip()),
            json!({ "count": count, "client": peer.ip() }),
        );
    }
    tokio::time::sleep(guess.wait).await;
}

/// Log in to the console: begins a session, whose secret is kept in a cookie.
#[utoipa::path(
    post, path = "/session", tag = "session", request_body = Session, security(()),
    responses(
        (status = 204, description = "Logged in; the cookie is set"),
        (status = 400, description = "The body is not JSON", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 401, description = "The token is wrong", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 408, description = "The body took too long", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 413, description = "The body is too large", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 415, description = "The body is not declared as JSON", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 422, description = "The body has other keys", body = ProblemDocument, content_type = "application/problem+json"),
    )
)]
pub(super) async fn log_in(
    State(app): State<Arc<ApiState>>,
    Extension(ConnectInfo(peer)): Extension<ConnectInfo<SocketAddr>>,
    JsonBody(session): JsonBody<Session>,
) -> Result<Response, ApiError> {
    let Some((secret, life)) = app.access.log_in(session.token.trim()) else {
        slow_down(&app, peer).await;
        return Err(ApiError::unauthorised());
    };
    // A secret is hexadecimal: nothing in it can end the cookie.
    let cookie = format!("{SESSION_COOKIE}={secret}; {COOKIE_RULES}; Max-Age={}", life.as_secs());
    Ok((StatusCode::NO_CONTENT, [(SET_COOKIE, cookie)]).into_response())
}

/// Log out of the console: the session ends.
#[utoipa::path(
    delete, path = "/session", tag = "session", security(()),
    responses((status = 204, description = "Logged out"))
)]
pub(super) async fn log_out(State(app): State<Arc<ApiState>>, headers: HeaderMap) -> Response {
    if let Some(secret) = cookie(&headers).filter(|_| is_same_origin(&headers)) {
        app.access.log_out(secret);
    }
    let cookie = format!("{SESSION_COOKIE}=; {COOKIE_RULES}; Max-Age=0");
    (StatusCode::NO_CONTENT, [(SET_COOKIE, cookie)]).into_response()
}
