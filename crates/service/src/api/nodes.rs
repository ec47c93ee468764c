//! The nodes that share the database.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_api::{NodeRemoved, Nodes};
use serde_json::json;

use super::ApiState;
use super::auth::CallerName;
use super::problem::{ApiError, Changing, Looking, PathParams};
use crate::nodes::{FindNodeError, short};

/// The nodes that share the database: what each runs, which of them leads, and which servers they see differently.
#[utoipa::path(
    get, path = "/nodes", operation_id = "list_nodes", tag = "look",
    responses((status = 200, body = Nodes), Looking)
)]
pub(super) async fn list(State(app): State<Arc<ApiState>>) -> Result<Json<Nodes>, ApiError> {
    Ok(Json(app.nodes.view(app.controller.running_number(), &app.addresses.drained_nodes())))
}

/// Forget a node that is gone for good. One that is alive can't be removed: it would be there again with its next sign of life.
#[utoipa::path(
    delete, path = "/nodes/{node}", operation_id = "remove_node", tag = "change",
    params(("node" = String, Path, description = "Its name, or the first digits of its identity", example = "south", pattern = "^[a-z0-9][a-z0-9-]{0,62}$")),
    responses((status = 200, body = NodeRemoved), Changing)
)]
pub(super) async fn remove(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(wanted): PathParams<String>,
) -> Result<Json<NodeRemoved>, ApiError> {
    let node = app.nodes.find(&wanted).map_err(|error| match error {
        FindNodeError::Unknown(_) => ApiError::unknown(error),
        FindNodeError::Several { .. } => {
            ApiError::new(StatusCode::CONFLICT, "several-nodes", "Several nodes have this name", error)
        }
    })?;
    if node.is_alive() {
        return Err(ApiError::new(
            StatusCode::CONFLICT,
            "node-alive",
            "The node is alive",
            format!("Node {wanted} gave a sign of life {} s ago: stop it first.", node.seen.as_secs()),
        ));
    }
    app.store.forget_node(node.id).await.map_err(ApiError::away)?;
    app.nodes.forget(node.id);
    let id = short(node.id);
    let says = format!("node {} ({id}), which was gone, is forgotten, by {who}", node.name);
    app.journal.here(says, json!({ "node": id }));
    Ok(Json(NodeRemoved { name: node.name, id }))
}
