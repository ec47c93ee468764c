//! The machine of this node.

use std::cmp::Reverse;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use merismos_api::MachineReport;

use super::ApiState;
use super::problem::{ApiError, Looking};

/// Whether the machine of the node that answers is enough for it: what is, what should be, why, and what helps.
#[utoipa::path(
    get, path = "/machine", operation_id = "examine_machine", tag = "look",
    responses((status = 200, body = MachineReport), Looking)
)]
pub(super) async fn examine(State(app): State<Arc<ApiState>>) -> Result<Json<MachineReport>, ApiError> {
    let look = app.machine.look(&app.controller.view().await?).await;
    let mut findings = look.findings;
    findings.sort_by_key(|finding| Reverse(finding.state));
    let within_ms = look.within.map(|within| u64::try_from(within.as_millis()).unwrap_or(u64::MAX));
    Ok(Json(MachineReport { node: app.nodes.name().to_string(), within_ms, findings }))
}
