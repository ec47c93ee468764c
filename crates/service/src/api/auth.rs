//! Who calls: a token in the `Authorization` field, or in the console's cookie.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::http::header::{AUTHORIZATION, COOKIE, HOST, ORIGIN, SET_COOKIE};
use axum::http::{HeaderMap, Method, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use merismos_api::{ProblemDocument, Session};

use super::App;
use super::problem::{ApiError, Body};

/// The console's cookie. Scripts can't read it and other sites can't make a browser send it.
const COOKIE_NAME: &str = "merismos_token";
const COOKIE_RULES: &str = "Path=/; HttpOnly; SameSite=Strict";

/// The owner of the token of this call.
#[derive(Clone, Debug)]
pub(super) struct Who(pub(super) String);

fn bearer(headers: &HeaderMap) -> Option<&str> {
    let value = headers.get(AUTHORIZATION)?.to_str().ok()?;
    let (scheme, token) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim())
}

fn cookie(headers: &HeaderMap) -> Option<&str> {
    let pairs = headers.get_all(COOKIE).iter().filter_map(|value| value.to_str().ok());
    pairs
        .flat_map(|value| value.split(';'))
        .filter_map(|pair| pair.trim().split_once('='))
        .find_map(|(name, value)| (name == COOKIE_NAME).then_some(value))
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

/// Lets calls with a good token pass, and notes whose it is.
pub(super) async fn guard(State(app): State<Arc<App>>, mut request: Request, next: Next) -> Response {
    let headers = request.headers();
    let changes = !matches!(*request.method(), Method::GET | Method::HEAD);
    let token = match (bearer(headers), cookie(headers)) {
        (Some(token), _) => Some(token),
        (None, Some(token)) if !changes || is_same_origin(headers) => Some(token),
        (None, _) => None,
    };
    match token.and_then(|token| app.access.who(token)) {
        Some(who) => {
            request.extensions_mut().insert(Who(who));
            next.run(request).await
        }
        None => ApiError::unauthorised().into_response(),
    }
}

/// Log in to the console: keeps the token in a cookie.
#[utoipa::path(
    post, path = "/session", tag = "session", request_body = Session, security(()),
    responses(
        (status = 204, description = "Logged in; the cookie is set"),
        (status = 400, description = "The body is not JSON", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 401, description = "The token is wrong", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 415, description = "The body is not declared as JSON", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 422, description = "The body has other keys", body = ProblemDocument, content_type = "application/problem+json"),
    )
)]
pub(super) async fn log_in(
    State(app): State<Arc<App>>,
    Body(session): Body<Session>,
) -> Result<Response, ApiError> {
    let token = session.token.trim();
    if app.access.who(token).is_none() {
        return Err(ApiError::unauthorised());
    }
    // A known token is hexadecimal: nothing in it can end the cookie.
    let cookie = format!("{COOKIE_NAME}={token}; {COOKIE_RULES}");
    Ok((StatusCode::NO_CONTENT, [(SET_COOKIE, cookie)]).into_response())
}

/// Log out of the console: the cookie is taken back.
#[utoipa::path(
    delete, path = "/session", tag = "session", security(()),
    responses((status = 204, description = "Logged out"))
)]
pub(super) async fn log_out() -> Response {
    let cookie = format!("{COOKIE_NAME}=; {COOKIE_RULES}; Max-Age=0");
    (StatusCode::NO_CONTENT, [(SET_COOKIE, cookie)]).into_response()
}
