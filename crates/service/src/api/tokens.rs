//! Tokens: who may use the API.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_api::{EventKind, MadeToken, NewToken, TokenResponse, TokenView, Tokens};
use merismos_store::Token;
use serde_json::json;

use super::ApiState;
use super::auth::CallerName;
use super::problem::{ApiError, Changing, JsonBody, Looking, PathParams};
use crate::access::TokenError;

impl From<TokenError> for ApiError {
    fn from(error: TokenError) -> Self {
        match error {
            TokenError::Unknown(_) => Self::unknown(error),
            TokenError::Exists(_) => {
                Self::new(StatusCode::CONFLICT, "exists", "There is such a token already", error)
            }
            TokenError::Last(_) => Self::new(StatusCode::CONFLICT, "last-token", "The last token", error),
        }
    }
}

fn view(token: &Token) -> TokenView {
    TokenView { name: token.name.clone(), made: token.at, used: token.used, revoked: token.revoked }
}

/// Every token, without the tokens themselves.
#[utoipa::path(get, path = "/tokens", operation_id = "list_tokens", tag = "token", responses((status = 200, body = Tokens), Looking))]
pub(super) async fn list(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
) -> Json<Tokens> {
    let mut tokens: Vec<_> = app.access.tokens().iter().map(view).collect();
    tokens.sort_by_key(|token| (token.revoked.is_some(), token.made.0));
    Json(Tokens { tokens, yours: who })
}

/// Make a token. It is shown this once.
#[utoipa::path(
    post, path = "/tokens", operation_id = "create_token", tag = "token", request_body = NewToken,
    params(("Idempotency-Key" = Option<String>, Header, description = "What the caller names this call: sent again with it, it creates nothing new", example = "night-417", pattern = "^[!-~]{1,255}$")),
    responses((status = 200, body = MadeToken), Changing)
)]
pub(super) async fn create(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    JsonBody(new): JsonBody<NewToken>,
) -> Result<Json<MadeToken>, ApiError> {
    let (token, kept) = app.access.create(&new.name)?;
    let says = format!("made by {who}");
    app.journal.write(EventKind::Token, format!("token {}", new.name), says, json!({}));
    let (saved, recorded) = keep(&app, &kept).await?;
    Ok(Json(MadeToken { name: new.name.to_string(), token, saved, recorded }))
}

/// Revoke a token. It and the sessions of the console that were begun with it end at once.
#[utoipa::path(
    delete, path = "/tokens/{token}", operation_id = "revoke_token", tag = "token",
    params(("token" = String, Path, description = "The token's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = TokenResponse), Changing)
)]
pub(super) async fn revoke(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(name): PathParams<String>,
) -> Result<Json<TokenResponse>, ApiError> {
    let revoked = app.access.revoke(&name)?;
    let says = format!("revoked by {who}");
    app.journal.write(EventKind::Token, format!("token {name}"), says, json!({}));
    let (saved, recorded) = keep(&app, &revoked).await?;
    Ok(Json(TokenResponse { name, saved, recorded }))
}

/// Sees that a token is kept, in the state file and in the database; one of the two is enough.
async fn keep(app: &ApiState, token: &Token) -> Result<(bool, bool), ApiError> {
    let saved = app.keeper.is_saved().await;
    let recorded = match app.store.put_token(token).await {
        Ok(()) => true,
        Err(error) => {
            tracing::warn!(%error, "a token waits for the database");
            false
        }
    };
    if saved || recorded {
        return Ok((saved, recorded));
    }
    Err(ApiError::new(
        StatusCode::SERVICE_UNAVAILABLE,
        "not-recorded",
        "It holds, but is not kept",
        "It holds until the service ends, but neither the database nor the state folder took it. See to the disk, then do it again.",
    ))
}
