//! Orders for servers, what they come to, and the state of one server: what maintenance is scripted against.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::{FromRequestParts, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use merismos_api::{Drains, DutiesRequest, DutiesResponse, DutyRequest, DutyResponse, ServerStatus};
use merismos_core::duty::{Duty, ServerSelector};
use merismos_core::eligibility::IneligibleReason;
use merismos_core::name::PoolServer;
use merismos_core::units::Span;
use serde::Deserialize;
use utoipa::IntoParams;

use super::ApiState;
use super::auth::CallerName;
use super::changes::{LONGEST_NOTE, check_note};
use super::problem::{ApiError, Changing, Finding, JsonBody, Looking, PathParams, QueryParams};
use crate::controller::{DutyAct, FollowedAct, FollowedOrder};
use crate::nodes::take_turn;

/// The longest time that a call may wait for what it ordered.
const LONGEST_WAIT: Duration = Duration::from_secs(600);
/// How often a call that waits looks: it answers so much later than the last request ended, at most.
const LOOK_EVERY: Duration = Duration::from_millis(50);

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct WaitQuery {
    /// Answer when what was ordered is reached, after so long at the latest; a longer time than `10m` is 10 minutes.
    #[param(value_type = Option<String>, example = "30s", pattern = "^[0-9]{1,4}(ms|s)$")]
    wait: Option<Span>,
}

/// How long a caller wants to wait: `?wait=30s`, or `Prefer: wait=30` (RFC 7240, 4.3).
pub(super) struct Patience {
    limit: Duration,
    /// The preference that was followed, for `Preference-Applied`.
    applied: Option<HeaderValue>,
}

impl<S: Send + Sync> FromRequestParts<S> for Patience {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let QueryParams(WaitQuery { wait }) = QueryParams::from_request_parts(parts, state).await?;
        if let Some(limit) = wait.map(Span::get) {
            return Ok(Self { limit: limit.min(LONGEST_WAIT), applied: None });
        }
        // A preference that can't be followed whole is followed as far as it can.
        let preferred = preferred_wait(&parts.headers);
        let limit = preferred.unwrap_or_default().min(LONGEST_WAIT);
        let applied = preferred.map(|_| format!("wait={}", limit.as_secs()));
        Ok(Self { limit, applied: applied.and_then(|text| HeaderValue::from_str(&text).ok()) })
    }
}

fn preferred_wait(headers: &HeaderMap) -> Option<Duration> {
    let fields = headers.get_all("prefer").iter().filter_map(|field| field.to_str().ok());
    let mut preferences = fields.flat_map(|field| field.split(','));
    preferences.find_map(|preference| {
        let (name, value) = preference.split(';').next()?.split_once('=')?;
        let seconds = value.trim().trim_matches('"').parse().ok()?;
        name.trim().eq_ignore_ascii_case("wait").then(|| Duration::from_secs(seconds))
    })
}

impl Patience {
    fn answer(self, response: impl IntoResponse) -> Response {
        let applied = self.applied.map(|value| [(HeaderName::from_static("preference-applied"), value)]);
        (applied, response).into_response()
    }
}

/// Give servers a duty, in one order: in service, draining or withdrawn. It is followed for all of them or for none, at once, and holds
/// until it is changed. Given again with the same terms it changes nothing.
#[utoipa::path(
    post, path = "/duties", operation_id = "give_duties", tag = "change", request_body = DutiesRequest,
    params(WaitQuery), responses((status = 200, body = DutiesResponse), Changing)
)]
pub(super) async fn many(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    patience: Patience,
    JsonBody(request): JsonBody<DutiesRequest>,
) -> Result<Response, ApiError> {
    let servers = selector(&request)?;
    let done = give(app, servers, request.order, who, patience.limit).await?;
    Ok(patience.answer(Json(done)))
}

/// Give a server a duty: in service, draining or withdrawn. It holds at once and until it is changed. Given again with the same terms it
/// changes nothing.
#[utoipa::path(
    post, path = "/servers/{pool}/{server}/duty", operation_id = "give_duty", tag = "change", request_body = DutyRequest,
    params(WaitQuery, ("pool" = String, Path, description = "The pool", pattern = "^[a-z][a-z0-9-]{0,62}$"), ("server" = String, Path, description = "The server", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = DutyResponse), Changing)
)]
pub(super) async fn one(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams((pool, server)): PathParams<(String, String)>,
    patience: Patience,
    JsonBody(request): JsonBody<DutyRequest>,
) -> Result<Response, ApiError> {
    let server: PoolServer = format!("{pool}/{server}").parse().map_err(ApiError::bad_request)?;
    let servers = ServerSelector::Servers(vec![server]);
    let done = give(app, servers, request, who, patience.limit).await?;
    let one = done.servers.into_iter().next().expect("an order for one server has one answer");
    Ok(patience.answer(Json(one)))
}

/// One server: configuration, duty, health and traffic.
#[utoipa::path(
    get, path = "/servers/{pool}/{server}", operation_id = "show_server", tag = "look",
    params(("pool" = String, Path, description = "The pool", pattern = "^[a-z][a-z0-9-]{0,62}$"), ("server" = String, Path, description = "The server", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = ServerStatus), Finding)
)]
pub(super) async fn server(
    State(app): State<Arc<ApiState>>,
    PathParams((pool, server)): PathParams<(String, String)>,
) -> Result<Json<ServerStatus>, ApiError> {
    let server: PoolServer = format!("{pool}/{server}").parse().map_err(ApiError::bad_request)?;
    let mut found = app.controller.servers(vec![server.clone()]).await?;
    let found = found.pop().flatten();
    found.map(Json).ok_or_else(|| ApiError::unknown(format!("there is no server {server}")))
}

/// Every server that operators took out of service, and how far that is.
#[utoipa::path(
    get, path = "/drains", operation_id = "list_drains", tag = "look",
    responses((status = 200, body = Drains), Looking)
)]
pub(super) async fn drains(State(app): State<Arc<ApiState>>) -> Result<Json<Drains>, ApiError> {
    Ok(Json(Drains { servers: app.controller.drains().await? }))
}

/// Which servers an order is for.
fn selector(request: &DutiesRequest) -> Result<ServerSelector, ApiError> {
    let DutiesRequest { servers, host, label, .. } = request;
    match (servers.is_empty(), host, label) {
        (_, None, None) => {
            let servers = servers.iter().map(|server| server.parse().map_err(ApiError::bad_request));
            Ok(ServerSelector::Servers(servers.collect::<Result<_, _>>()?))
        }
        (true, Some(host), None) => Ok(ServerSelector::Host(host.clone())),
        (true, None, Some(label)) => ServerSelector::label(label).map_err(ApiError::bad_request),
        _ => Err(ApiError::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "refused-order",
            "The order makes no sense",
            "An order is for servers, for a host or for a label: name one of the three.",
        )),
    }
}

/// Follows an order first, for it may be urgent; then sees that it is kept, and waits for what it comes to.
async fn give(
    app: Arc<ApiState>,
    servers: ServerSelector,
    request: DutyRequest,
    who: String,
    wait: Duration,
) -> Result<DutiesResponse, ApiError> {
    let reason = request.reason.trim().to_owned();
    if reason.is_empty() || reason.chars().count() > LONGEST_NOTE {
        let detail = format!(
            "A reason is needed, of 1 to {LONGEST_NOTE} characters: it is shown wherever the server is shown."
        );
        return Err(ApiError::bad_request(detail));
    }
    check_note(&reason)?;
    let act = DutyAct { servers, request: DutyRequest { reason, ..request }, who, window: None };
    // What is followed is recorded even when its caller goes away.
    let followed = tokio::spawn(follow(Arc::clone(&app), act)).await;
    let mut done = followed.map_err(|_| ApiError::broken())??;
    reach(&app, &mut done, wait).await?;
    Ok(done)
}

async fn follow(app: Arc<ApiState>, act: DutyAct) -> Result<DutiesResponse, ApiError> {
    // Of two orders that take servers out on two nodes the later one meets a guard that knows of the first.
    let turn = match act.request.duty {
        Duty::InService => None,
        Duty::Draining | Duty::Withdrawn => take_turn(&app.store, &app.nodes, &app.controller).await,
    };
    let done = follow_in_turn(&app, act).await;
    if let Some(turn) = turn {
        turn.end().await;
    }
    done
}

async fn follow_in_turn(app: &ApiState, act: DutyAct) -> Result<DutiesResponse, ApiError> {
    let FollowedAct { servers, overridden } = app.controller.act(act).await??;
    let changed = servers.iter().any(|followed| followed.changed);
    let saved = if changed { app.keeper.is_saved().await } else { true };
    let mut responses = Vec::new();
    for FollowedOrder { server, order, changed, in_flight } in servers {
        let recorded = !changed || {
            let put = app.store.put_duty(&server, &order).await;
            if let Err(error) = &put {
                tracing::warn!(%error, %server, "a duty waits for the database");
                app.journal.outbox().add_duty(server.clone(), order.clone());
            }
            put.is_ok()
        };
        if !saved && !recorded {
            return Err(ApiError::new(
                StatusCode::SERVICE_UNAVAILABLE,
                "not-recorded",
                "The duty holds, but is not kept",
                "The duty holds until the service ends, but neither the database nor the state folder took it. See to the disk, then give it again.",
            ));
        }
        let (server, reached, draining) = (server.to_string(), false, None);
        responses.push(DutyResponse {
            server,
            order,
            changed,
            in_flight,
            reached,
            draining,
            saved,
            recorded,
        });
    }
    let overridden = overridden.iter().map(ToString::to_string).collect();
    Ok(DutiesResponse { servers: responses, overridden })
}

/// Looks how far the servers are until all have reached what was ordered, or the time is over.
async fn reach(app: &ApiState, done: &mut DutiesResponse, wait: Duration) -> Result<(), ApiError> {
    let end = tokio::time::Instant::now() + wait;
    let names: Vec<PoolServer> =
        done.servers.iter().filter_map(|response| response.server.parse().ok()).collect();
    loop {
        let states = app.controller.servers(names.clone()).await?;
        for ((response, name), state) in done.servers.iter_mut().zip(&names).zip(states) {
            // A server that a revision removed meanwhile is out of service for good.
            let order = &response.order;
            // The state of a drain includes the other nodes; a withdrawn server may be in use on one of them for a moment.
            let elsewhere = app.nodes.leaving_elsewhere(name, order.number).nodes;
            let is_left = order.duty != Duty::Withdrawn || elsewhere == 0;
            response.reached = state.as_ref().is_none_or(|state| is_left && is_reached(order.duty, state));
            response.draining = state.and_then(|state| state.draining);
        }
        if done.servers.iter().all(|response| response.reached) || tokio::time::Instant::now() >= end {
            return Ok(());
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

fn is_reached(duty: Duty, state: &ServerStatus) -> bool {
    match duty {
        Duty::InService => matches!(state.reason, None | Some(IneligibleReason::Standby)),
        Duty::Draining => state.draining.is_some_and(|draining| draining.safe),
        Duty::Withdrawn => state.in_flight == 0,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::alone("wait=30", Some(30))]
    #[case::among_others("respond-async, wait=5;x=1", Some(5))]
    #[case::quoted("Wait = \"7\"", Some(7))]
    #[case::other("handling=lenient", None)]
    #[case::no_number("wait=soon", None)]
    fn preferences_are_read(#[case] field: &str, #[case] seconds: Option<u64>) {
        let headers = HeaderMap::from_iter([(HeaderName::from_static("prefer"), field.parse().unwrap())]);
        assert_eq!(preferred_wait(&headers), seconds.map(Duration::from_secs));
    }
}
