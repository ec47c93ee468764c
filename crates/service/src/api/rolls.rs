//! Rolls: maintenance of many servers one after the other.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_api::{RollOrderRequest, RollRequest, RollView, Rolls, WorkReport};
use merismos_core::duty::ServerSelector;
use merismos_core::name::PoolServer;
use merismos_core::roll::{RollError, RollPlan};

use super::ApiState;
use super::auth::CallerName;
use super::changes::{LONGEST_NOTE, check_note};
use super::problem::{ApiError, Changing, Finding, JsonBody, Looking, PathParams};
use super::repeats::IdempotencyKey;
use crate::controller::{RollBookError, RollStart};

/// The most servers of a roll that may be out at the same time.
const MOST_AT_ONCE: u16 = 100;

/// Rolls, the newest first: those that go on, and the last that are over.
#[utoipa::path(get, path = "/rolls", operation_id = "list_rolls", tag = "look", responses((status = 200, body = Rolls), Looking))]
pub(super) async fn list(State(app): State<Arc<ApiState>>) -> Result<Json<Rolls>, ApiError> {
    Ok(Json(app.controller.rolls().await?))
}

/// Begin a roll: each server is drained, reported as ready for work, returned when the work is reported as done, and watched before the
/// next. With `preview` nothing is begun. With an `Idempotency-Key` the same call sent again answers with the roll that it has begun.
#[utoipa::path(
    post, path = "/rolls", operation_id = "begin_roll", tag = "change", request_body = RollRequest,
    params(("Idempotency-Key" = Option<String>, Header, description = "What the caller names this call", example = "deploy-417")),
    responses((status = 200, body = RollView), Changing)
)]
pub(super) async fn begin(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    IdempotencyKey(key): IdempotencyKey,
    JsonBody(request): JsonBody<RollRequest>,
) -> Result<Json<RollView>, ApiError> {
    let RollRequest { mut plan, preview } = request;
    plan.reason = plan.reason.trim().to_owned();
    if plan.reason.is_empty() || plan.reason.chars().count() > LONGEST_NOTE {
        return Err(refused(format!("A reason is needed, of 1 to {LONGEST_NOTE} characters.")));
    }
    check_note(&plan.reason)?;
    if !(1..=MOST_AT_ONCE).contains(&plan.at_once) {
        return Err(refused(format!(
            "{} servers at once are out of range: 1 to {MOST_AT_ONCE}.",
            plan.at_once
        )));
    }
    let servers = selector(&plan)?;
    let begun = app.controller.begin_roll(RollStart { plan, servers, who, preview, key }).await?;
    let begun = begun.map_err(not_done)?;
    if !preview {
        app.keeper.is_saved().await;
    }
    Ok(Json(begun))
}

/// One roll.
#[utoipa::path(
    get, path = "/rolls/{id}", operation_id = "show_roll", tag = "look",
    params(("id" = u64, Path, description = "Number of the roll")), responses((status = 200, body = RollView), Finding)
)]
pub(super) async fn show(
    State(app): State<Arc<ApiState>>,
    PathParams(id): PathParams<u64>,
) -> Result<Json<RollView>, ApiError> {
    Ok(Json(app.controller.roll(id).await?.map_err(not_done)?))
}

/// Have a roll pause, go on or end.
#[utoipa::path(
    post, path = "/rolls/{id}/order", operation_id = "order_roll", tag = "change", request_body = RollOrderRequest,
    params(("id" = u64, Path, description = "Number of the roll")), responses((status = 200, body = RollView), Changing)
)]
pub(super) async fn order(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(id): PathParams<u64>,
    JsonBody(request): JsonBody<RollOrderRequest>,
) -> Result<Json<RollView>, ApiError> {
    let reason = note(request.reason)?;
    let roll = app.controller.order_roll(id, request.order, reason, who).await?.map_err(not_done)?;
    app.keeper.is_saved().await;
    Ok(Json(roll))
}

/// Report the work on a server of a roll: that it has begun, is done, or has failed.
#[utoipa::path(
    post, path = "/rolls/{id}/work", operation_id = "report_work", tag = "change", request_body = WorkReport,
    params(("id" = u64, Path, description = "Number of the roll")), responses((status = 200, body = RollView), Changing)
)]
pub(super) async fn work(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(id): PathParams<u64>,
    JsonBody(report): JsonBody<WorkReport>,
) -> Result<Json<RollView>, ApiError> {
    let report = WorkReport { note: note(report.note)?, ..report };
    let roll = app.controller.report_work(id, report, who).await?.map_err(not_done)?;
    app.keeper.is_saved().await;
    Ok(Json(roll))
}

/// A text of a caller that may be left out.
fn note(text: Option<String>) -> Result<Option<String>, ApiError> {
    let text = text.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
    if let Some(text) = &text {
        if text.chars().count() > LONGEST_NOTE {
            return Err(refused(format!("A reason or a note has {LONGEST_NOTE} characters at most.")));
        }
        check_note(text)?;
    }
    Ok(text)
}

fn selector(plan: &RollPlan) -> Result<ServerSelector, ApiError> {
    match (&plan.pool, &plan.servers[..], &plan.host, &plan.label) {
        (Some(pool), [], None, None) => Ok(ServerSelector::Pool(pool.parse().map_err(refused)?)),
        (None, [], Some(host), None) => Ok(ServerSelector::Host(host.clone())),
        (None, [], None, Some(label)) => ServerSelector::label(label).map_err(refused),
        (None, servers @ [_, ..], None, None) => {
            let servers = servers.iter().map(|server| server.parse::<PoolServer>().map_err(refused));
            Ok(ServerSelector::Servers(servers.collect::<Result<_, _>>()?))
        }
        _ => Err(refused(
            "A roll is for a pool, for servers, for a host or for a label: name one of the four.",
        )),
    }
}

fn refused(why: impl ToString) -> ApiError {
    ApiError::new(
        StatusCode::UNPROCESSABLE_ENTITY,
        "refused-roll",
        "The roll makes no sense",
        why.to_string(),
    )
}

fn not_done(error: RollBookError) -> ApiError {
    let conflict =
        |why: String| ApiError::new(StatusCode::CONFLICT, "roll-conflict", "The roll can't do that now", why);
    match error {
        RollBookError::Unknown(_)
        | RollBookError::Servers(_)
        | RollBookError::Roll(RollError::NoServer(_)) => ApiError::unknown(error),
        RollBookError::OtherPlan(_) | RollBookError::TooMany(_) => refused(error),
        RollBookError::Roll(_) | RollBookError::Busy(..) | RollBookError::Full => conflict(error.to_string()),
    }
}
