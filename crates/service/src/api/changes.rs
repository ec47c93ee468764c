//! Calls that change something.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_api::{ApplyAnswer, ApplyRequest, DutyAnswer, DutyRequest, ProblemDocument};
use merismos_core::duty::Order;
use merismos_core::name::PoolServer;

use super::App;
use super::auth::Who;
use super::problem::{ApiError, Body, InPath};
use crate::clock::wall;

/// The longest note of a revision and reason of a duty, in characters.
const LONGEST_NOTE: usize = 500;

/// Make a whole document the running revision, or say what that would change.
#[utoipa::path(
    post, path = "/apply", tag = "change", request_body = ApplyRequest,
    responses(
        (status = 200, body = ApplyAnswer),
        (status = 400, body = ProblemDocument, content_type = "application/problem+json"),
        (status = 401, body = ProblemDocument, content_type = "application/problem+json"),
        (status = 409, description = "Another revision runs by now, or an address is taken", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 415, body = ProblemDocument, content_type = "application/problem+json"),
        (status = 422, description = "The document holds mistakes; all of them are told", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 503, description = "The database did not take the revision", body = ProblemDocument, content_type = "application/problem+json"),
    )
)]
pub(super) async fn apply(
    State(app): State<Arc<App>>,
    Extension(Who(who)): Extension<Who>,
    Body(request): Body<ApplyRequest>,
) -> Result<Json<ApplyAnswer>, ApiError> {
    if request.note.chars().count() > LONGEST_NOTE {
        return Err(ApiError::bad_request(format!("A note has {LONGEST_NOTE} characters at most.")));
    }
    // A caller that goes away half way must not leave a revision that is recorded and does not run.
    let applying = tokio::spawn(async move { app.deployer.apply(request, who).await });
    match applying.await {
        Ok(applied) => Ok(Json(applied?)),
        Err(_) => Err(ApiError::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "internal",
            "Something in Merismos broke",
            "Applying the document ended badly; the service's log says where. Look at `merismos status` before you try again.",
        )),
    }
}

/// Give a server a duty: in service, draining or withdrawn. It holds at once and until it is changed again.
#[utoipa::path(
    put, path = "/pools/{pool}/servers/{server}/duty", tag = "change", request_body = DutyRequest,
    params(("pool" = String, Path, description = "The pool"), ("server" = String, Path, description = "The server")),
    responses(
        (status = 200, body = DutyAnswer),
        (status = 400, body = ProblemDocument, content_type = "application/problem+json"),
        (status = 401, body = ProblemDocument, content_type = "application/problem+json"),
        (status = 404, body = ProblemDocument, content_type = "application/problem+json"),
        (status = 409, description = "It is the last eligible server of its pool", body = ProblemDocument, content_type = "application/problem+json"),
        (status = 415, body = ProblemDocument, content_type = "application/problem+json"),
        (status = 422, body = ProblemDocument, content_type = "application/problem+json"),
    )
)]
pub(super) async fn duty(
    State(app): State<Arc<App>>,
    Extension(Who(who)): Extension<Who>,
    InPath((pool, server)): InPath<(String, String)>,
    Body(request): Body<DutyRequest>,
) -> Result<Json<DutyAnswer>, ApiError> {
    let reason = request.reason.trim().to_owned();
    if reason.is_empty() || reason.chars().count() > LONGEST_NOTE {
        let detail =
            format!("Say why, in 1 to {LONGEST_NOTE} characters, for whoever finds the server like this.");
        return Err(ApiError::bad_request(detail));
    }
    let server: PoolServer = format!("{pool}/{server}").parse().map_err(ApiError::bad_request)?;
    let order = Order { duty: request.duty, reason, who, at: wall() };
    let giving = tokio::spawn(give(app, server, order, request.even_if_last));
    match giving.await {
        Ok(answer) => Ok(Json(answer?)),
        Err(_) => Err(ApiError::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "internal",
            "Something in Merismos broke",
            "Giving the duty ended badly; the service's log says where. Look at `merismos status` before you try again.",
        )),
    }
}

/// Follows the order first, for it may be urgent; then sees that it is kept, on the disk and in the database.
async fn give(
    app: Arc<App>,
    server: PoolServer,
    order: Order,
    even_if_last: bool,
) -> Result<DutyAnswer, ApiError> {
    let in_flight = app.controller.order(server.clone(), order.clone(), even_if_last).await??;
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
    Ok(DutyAnswer { server: server.to_string(), order, in_flight, recorded })
}
