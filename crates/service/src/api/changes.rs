//! Calls that change something.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_api::{
    ApplyRequest, ChangeRequest, DutyRequest, DutyResponse, FailbackResponse, Review, TotalsReset,
};
use merismos_core::duty::DutyOrder;
use merismos_core::name::{Name, PoolServer};
use merismos_core::text::is_plain;

use super::ApiState;
use super::auth::CallerName;
use super::problem::{ApiError, Changing, JsonBody, PathParams};
use crate::clock::wall;
use crate::deploy::{ApplyError, Proposal, ProposedDocument};

/// The longest note of a revision and reason of a duty, in characters.
const LONGEST_NOTE: usize = 500;

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
        Err(_) => Err(ApiError::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "internal",
            "Something in Merismos broke",
            "The change ended badly; the service's log says where. Look at what runs before you try again.",
        )),
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

/// Give a server a duty: in service, draining or withdrawn. It holds at once and until it is changed again.
#[utoipa::path(
    put, path = "/pools/{pool}/servers/{server}/duty", operation_id = "give_duty", tag = "change", request_body = DutyRequest,
    params(("pool" = String, Path, description = "The pool", pattern = "^[a-z][a-z0-9-]{0,62}$"), ("server" = String, Path, description = "The server", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = DutyResponse), Changing)
)]
pub(super) async fn duty(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams((pool, server)): PathParams<(String, String)>,
    JsonBody(request): JsonBody<DutyRequest>,
) -> Result<Json<DutyResponse>, ApiError> {
    let reason = request.reason.trim().to_owned();
    if reason.is_empty() || reason.chars().count() > LONGEST_NOTE {
        let detail = format!(
            "A reason is needed, of 1 to {LONGEST_NOTE} characters: it is shown wherever the server is shown."
        );
        return Err(ApiError::bad_request(detail));
    }
    check_note(&reason)?;
    let server: PoolServer = format!("{pool}/{server}").parse().map_err(ApiError::bad_request)?;
    let order = DutyOrder { duty: request.duty, reason, who, number: 0, at: wall() };
    whole(give(app, server, order, request.even_if_last)).await
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

/// Follows the order first, for it may be urgent; then sees that it is kept, on the disk and in the database.
async fn give(
    app: Arc<ApiState>,
    server: PoolServer,
    order: DutyOrder,
    even_if_last: bool,
) -> Result<DutyResponse, ApiError> {
    let (in_flight, order) = app.controller.order(server.clone(), order, even_if_last).await??;
    let saved = app.keeper.is_saved().await;
    let recorded = match app.store.put_duty(&server, &order).await {
        Ok(()) => true,
        Err(error) => {
            tracing::warn!(%error, %server, "a duty waits for the database");
            app.journal.outbox().add_duty(server.clone(), order.clone());
            false
        }
    };
    if !saved && !recorded {
        return Err(ApiError::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "not-recorded",
            "The duty holds, but is not kept",
            "The duty holds until the service ends, but neither the database nor the state folder took it. See to the disk, then give it again.",
        ));
    }
    Ok(DutyResponse { server: server.to_string(), order, in_flight, saved, recorded })
}
