//! Whether this service lives and is ready, in a word, for watchers from outside. Nothing else is answered without a token.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};

use super::ApiState;

/// It answers, so it lives.
pub(super) async fn live() -> &'static str {
    "live\n"
}

/// Whether clients can be sent here: a revision runs, each of its frontends listens, and it is not about to stop.
pub(super) async fn ready(State(app): State<Arc<ApiState>>) -> Response {
    if app.controller.is_ready() {
        "ready\n".into_response()
    } else {
        (StatusCode::SERVICE_UNAVAILABLE, "not ready\n").into_response()
    }
}
