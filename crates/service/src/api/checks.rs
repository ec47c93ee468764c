//! Trying checks, and diagnosing servers.

use std::net::SocketAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use futures_util::future::join_all;
use merismos_api::{Diagnosis, FrontendDiagnosis, Probes, TryRequest, TryResponse, TryResult};
use merismos_core::config::document::{CheckSpec, Document};
use merismos_core::name::{Name, PoolServer};
use merismos_probe::{ProbeOpening, probe};
use serde::Deserialize;
use serde_json::{Map, Value, json};
use utoipa::IntoParams;

use super::certificates::{NO_HOST, is_host, no_frontend};
use super::problem::{ApiError, Finding, JsonBody, PathParams, QueryParams};
use super::{ApiState, addresses, announcements};
use crate::controller::StatusDetail;
use crate::{diagnose, diagnose_frontend};

/// The most servers that one call tries.
const MOST_SERVERS: usize = 64;

/// Run a check once on some servers, and say what every step gave. Nothing about their health changes.
#[utoipa::path(
    post, path = "/checks/{check}/try", tag = "look", request_body = TryRequest,
    params(("check" = String, Path, description = "The check's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = TryResponse), Finding)
)]
pub(super) async fn try_check(
    State(app): State<Arc<ApiState>>,
    PathParams(name): PathParams<String>,
    JsonBody(request): JsonBody<TryRequest>,
) -> Result<Json<TryResponse>, ApiError> {
    let name: Name = name.parse().map_err(ApiError::bad_request)?;
    if !(1..=MOST_SERVERS).contains(&request.servers.len()) {
        return Err(ApiError::bad_request(format!("Name 1 to {MOST_SERVERS} servers.")));
    }
    let view = app.controller.view().await?;
    let document = view.effective.document();
    let check = match request.keys {
        Some(keys) => read(&name, keys)?,
        None => document.checks.get(&name).cloned().ok_or_else(|| no_check(&name, document))?,
    };
    let servers: Result<Vec<_>, ApiError> =
        request.servers.iter().map(|server| find(document, server)).collect();
    let surroundings = &app.surroundings;
    let tries = servers?.into_iter().map(|(id, addresses, opening)| {
        let check = &check;
        async move {
            let evidence = probe(&addresses, check, &opening, surroundings).await;
            TryResult {
                server: id.to_string(),
                address: addresses[0].to_string(),
                passed: evidence.passed(),
                evidence,
            }
        }
    });
    Ok(Json(TryResponse { asks: check.kind.asks(), tries: join_all(tries).await }))
}

/// The last probes of a server, and where it stands between two verdicts.
#[utoipa::path(
    get, path = "/servers/{pool}/{server}/probes", operation_id = "list_probes", tag = "look",
    params(
        ("pool" = String, Path, description = "The pool's name", pattern = "^[a-z][a-z0-9-]{0,62}$"),
        ("server" = String, Path, description = "The server's name", pattern = "^[a-z][a-z0-9-]{0,62}$"),
    ),
    responses((status = 200, body = Probes), Finding)
)]
pub(super) async fn probes(
    State(app): State<Arc<ApiState>>,
    PathParams((pool, server)): PathParams<(String, String)>,
) -> Result<Json<Probes>, ApiError> {
    let id: PoolServer = format!("{pool}/{server}").parse().map_err(ApiError::bad_request)?;
    let known = app.controller.probes(id.clone()).await?;
    known.map(Json).ok_or_else(|| no_server(&id))
}

/// Find the step at which a server fails, and say what that means.
#[utoipa::path(
    post, path = "/servers/{pool}/{server}/diagnosis", operation_id = "diagnose_server", tag = "look",
    params(
        ("pool" = String, Path, description = "The pool's name", pattern = "^[a-z][a-z0-9-]{0,62}$"),
        ("server" = String, Path, description = "The server's name", pattern = "^[a-z][a-z0-9-]{0,62}$"),
    ),
    responses((status = 200, body = Diagnosis), Finding)
)]
pub(super) async fn diagnosis(
    State(app): State<Arc<ApiState>>,
    PathParams((pool, server)): PathParams<(String, String)>,
) -> Result<Json<Diagnosis>, ApiError> {
    let view = app.controller.view().await?;
    let (id, _, _) = find(view.effective.document(), &format!("{pool}/{server}"))?;
    Ok(Json(diagnose::diagnose(&view, &id, &app.surroundings).await))
}

/// Whom a client of a frontend asks for.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct FrontendDiagnosisQuery {
    /// The host that is asked for; the first name of its certificate, else its address, without it.
    #[param(pattern = "^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?(\\.[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?){0,6}$")]
    host: Option<String>,
}

/// Go to a frontend as a client on this machine would, and say where that fails and what it means.
#[utoipa::path(
    post, path = "/frontends/{frontend}/diagnosis", operation_id = "diagnose_frontend", tag = "look",
    params(
        ("frontend" = String, Path, description = "The frontend's name", pattern = "^[a-z][a-z0-9-]{0,62}$"),
        FrontendDiagnosisQuery,
    ),
    responses((status = 200, body = FrontendDiagnosis), Finding)
)]
pub(super) async fn frontend_diagnosis(
    State(app): State<Arc<ApiState>>,
    PathParams(name): PathParams<String>,
    QueryParams(query): QueryParams<FrontendDiagnosisQuery>,
) -> Result<Json<FrontendDiagnosis>, ApiError> {
    let name: Name = name.parse().map_err(ApiError::bad_request)?;
    let host = query.host.as_deref();
    if host.is_some_and(|host| !is_host(host)) {
        return Err(ApiError::bad_request(NO_HOST));
    }
    let view = app.controller.view().await?;
    if !view.effective.document().frontends.contains_key(&name) {
        return Err(no_frontend(&name));
    }
    let status = app.controller.status(StatusDetail::Short(None)).await?;
    let status = status.frontends.iter().find(|frontend| frontend.name == name.as_str());
    let trouble = status.and_then(|frontend| frontend.trouble.as_deref());
    let document = view.effective.document();
    let ip = document.frontends[&name].listen.get().ip();
    let held = document.addresses.iter().find(|(_, spec)| spec.addresses.contains(&ip));
    let held = held.map(|(object, spec)| addresses::status(&app, object, spec));
    let announced = document.announce.iter().find(|(_, spec)| spec.addresses.contains(&ip));
    let announced = announced.map(|(object, spec)| announcements::status(&app, object, spec));
    let ways = diagnose_frontend::AddressWays { held: held.as_ref(), announced: announced.as_ref() };
    let found =
        diagnose_frontend::diagnose_frontend(&view, &name, host, &app.certificates, trouble, ways).await;
    Ok(Json(found))
}

/// A check of which only the keys are there.
fn read(name: &Name, keys: Map<String, Value>) -> Result<CheckSpec, ApiError> {
    let document = json!({ "format": 3, "checks": { name.as_str(): keys } });
    match merismos_core::config::read_value(document) {
        Ok(mut document) => {
            document.checks.remove(name).ok_or_else(|| ApiError::bad_request("There is no check."))
        }
        Err(problems) => {
            let said: Vec<_> = problems.iter().map(ToString::to_string).collect();
            Err(ApiError::bad_request(said.join("; ")))
        }
    }
}

fn find(document: &Document, server: &str) -> Result<(PoolServer, Vec<SocketAddr>, ProbeOpening), ApiError> {
    let id: PoolServer = server.parse().map_err(ApiError::bad_request)?;
    let pool = document.pools.get(&id.pool);
    let known = pool
        .and_then(|pool| Some((pool.servers.get(&id.server)?.addresses().collect(), ProbeOpening::of(pool))));
    let (addresses, opening) = known.ok_or_else(|| no_server(&id))?;
    Ok((id, addresses, opening))
}

fn no_server(id: &PoolServer) -> ApiError {
    let detail = format!("There is no server {id}.");
    ApiError::new(StatusCode::NOT_FOUND, "no-such-object", "There is no such server", detail)
}

fn no_check(name: &Name, document: &Document) -> ApiError {
    let known: Vec<_> = document.checks.keys().map(Name::as_str).collect();
    let detail = if known.is_empty() {
        format!("There is no check {name}, and no other yet.")
    } else {
        format!("There is no check {name}; there are {}.", known.join(", "))
    };
    ApiError::new(StatusCode::NOT_FOUND, "no-such-object", "There is no such check", detail)
}
