//! Calls that change something.

use std::sync::Arc;

use axum::extract::State;
use axum::{Extension, Json};
use merismos_api::{ApplyRequest, ChangeRequest, FailbackResponse, Review, TotalsReset};
use merismos_core::name::Name;
use merismos_core::text::is_plain;

use super::ApiState;
use super::auth::CallerName;
use super::problem::{ApiError, Changing, JsonBody, PathParams};
use crate::deploy::{ApplyError, Proposal, ProposedDocument};

/// The longest note of a revision and reason of a duty, in characters.
pub(super) const LONGEST_NOTE: usize = 500;

/// Refuses a note that the store could not keep.
pub(super) fn check_note(note: &str) -> Result<(), ApiError> {
    if !note.chars().all(is_plain) {
        return Err(ApiError::bad_request(
            "A note is one line of plain text: without control characters and those that turn the direction of text.",
        ));
    }
    if note.chars().count() > LONGEST_NOTE {
        return Err(ApiError::bad_request(format!("A note has {LONGEST_NOTE} characters at most.")));
    }
    Ok(())
}

/// Sees a change through even when its caller goes away half way: nothing may be recorded that does not run.
pub(super) async fn whole<T, E>(
    change: impl Future<Output = Result<T, E>> + Send + 'static,
) -> Result<Json<T>, ApiError>
where
    T: Send + 'static,
    E: Into<ApiError> + Send + 'static,
{
    match tokio::spawn(change).await {
        Ok(done) => done.map(Json).map_err(Into::into),
        Err(_) => Err(ApiError::broken()),
    }
}

/// Deploys a proposal, and says whether the state file has it too.
pub(super) async fn deploy(app: Arc<ApiState>, proposal: Proposal) -> Result<Review, ApplyError> {
    let review = app.deployer.apply(proposal).await?;
    Ok(saved(&app, review).await)
}

/// Notes in a review whether the state file has the revision that was made.
pub(super) async fn saved(app: &ApiState, review: Review) -> Review {
    let saved = if review.made { Some(app.keeper.is_saved().await) } else { None };
    Review { saved, ..review }
}

/// Make a document, whole or in parts, the running revision, or say what that would change.
#[utoipa::path(
    post, path = "/apply", operation_id = "apply_document", tag = "change", request_body = ApplyRequest,
    responses((status = 200, body = Review), Changing)
)]
pub(super) async fn apply(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    JsonBody(request): JsonBody<ApplyRequest>,
) -> Result<Json<Review>, ApiError> {
    let ApplyRequest { text, format, only, going } = request;
    check_note(&going.note)?;
    let what = ProposedDocument::Text { text, format, only };
    let proposal = Proposal { what, going, accepted: Vec::new(), author: who };
    whole(deploy(app, proposal)).await
}

/// Make edits the next revision, or say what they would change.
#[utoipa::path(
    post, path = "/changes", operation_id = "change_objects", tag = "change", request_body = ChangeRequest,
    responses((status = 200, body = Review), Changing)
)]
pub(super) async fn change(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    JsonBody(request): JsonBody<ChangeRequest>,
) -> Result<Json<Review>, ApiError> {
    let ChangeRequest { edits, going } = request;
    check_note(&going.note)?;
    let proposal =
        Proposal { what: ProposedDocument::Edits(edits), going, accepted: Vec::new(), author: who };
    whole(deploy(app, proposal)).await
}

/// Send the work of a pool back to the lowest tier that can do it.
#[utoipa::path(
    post, path = "/pools/{pool}/failback", operation_id = "fail_back", tag = "change",
    params(("pool" = String, Path, description = "The pool", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = FailbackResponse), Changing)
)]
pub(super) async fn failback(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(pool): PathParams<String>,
) -> Result<Json<FailbackResponse>, ApiError> {
    let pool: Name = pool.parse().map_err(ApiError::bad_request)?;
    let tier = app.controller.fail_back(pool.clone(), who).await??;
    Ok(Json(FailbackResponse { pool: pool.to_string(), tier }))
}

/// Count the totals of all servers anew from now on, beside those since the start. Nothing else changes.
#[utoipa::path(
    post, path = "/totals/reset", operation_id = "reset_totals", tag = "change",
    responses((status = 200, body = TotalsReset), Changing)
)]
pub(super) async fn reset_totals(State(app): State<Arc<ApiState>>) -> Result<Json<TotalsReset>, ApiError> {
    Ok(Json(TotalsReset { at: app.controller.reset_totals().await? }))
}
