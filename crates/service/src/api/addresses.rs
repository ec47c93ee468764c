//! Addresses that move between nodes: who holds them, and orders for them.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_addresses::AddressView;
use merismos_api::{
    AddressCounts, AddressDetail, AddressNode, AddressOrderRequest, AddressOrderView, AddressStatus,
    AddressVerb, Addresses, AdvertisementView, EventKind, NodeOrderRequest, NodeVerb,
};
use merismos_core::config::document::{AddressSpec, Document};
use merismos_core::name::Name;
use merismos_core::vrrp::{OrderWord, Stance, StandingOrder, WholeInterval, listed_priority};
use merismos_store::plans::PlanKind;
use serde_json::json;

use super::ApiState;
use super::announcements;
use super::auth::CallerName;
use super::changes::check_note;
use super::problem::{ApiError, Changing, Finding, JsonBody, Looking, PathParams};
use crate::addresses::wall_of;
use crate::clock::wall;

/// Every object of addresses that move between nodes: which node holds it, what each node is worth for it, and the order that stands.
#[utoipa::path(
    get, path = "/addresses", operation_id = "list_addresses", tag = "look",
    responses((status = 200, body = Addresses), Looking)
)]
pub(super) async fn list(State(app): State<Arc<ApiState>>) -> Result<Json<Addresses>, ApiError> {
    let document = app.controller.view().await?.checked.shared();
    let addresses = document.addresses.iter().map(|(name, spec)| status(&app, name, spec)).collect();
    Ok(Json(Addresses { database_away: app.nodes.is_database_away(), addresses }))
}

/// One object of addresses that move, with the advertisements that this node sent and heard of it.
#[utoipa::path(
    get, path = "/addresses/{address}", operation_id = "show_address", tag = "look",
    params(("address" = String, Path, description = "Name of the object", example = "front", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = AddressDetail), Finding)
)]
pub(super) async fn show(
    State(app): State<Arc<ApiState>>,
    PathParams(name): PathParams<Name>,
) -> Result<Json<AddressDetail>, ApiError> {
    let document = app.controller.view().await?.checked.shared();
    let spec = find(&document, &name)?;
    Ok(Json(detail(&app, &name, spec)))
}

/// Move addresses to a node, hold them where they are, or let the nodes choose again. An order stands until it is taken back, also over restarts. A node
/// that says that it can't hold them gets them with `anyway` alone. Given again it changes nothing but the reason.
#[utoipa::path(
    post, path = "/addresses/{address}/order", operation_id = "order_address", tag = "change", request_body = AddressOrderRequest,
    params(("address" = String, Path, description = "Name of the object", example = "front", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = AddressDetail), Changing)
)]
pub(super) async fn order(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(name): PathParams<Name>,
    JsonBody(request): JsonBody<AddressOrderRequest>,
) -> Result<Json<AddressDetail>, ApiError> {
    check_note(&request.reason)?;
    let document = app.controller.view().await?.checked.shared();
    let spec = find(&document, &name)?;
    let AddressOrderRequest { order, to, reason, anyway } = request;
    let (word, says) = match (order, &to) {
        (AddressVerb::Move, Some(to)) => {
            can_take(&status(&app, &name, spec), to, anyway)?;
            (Some(OrderWord::Move), format!("is moved to node {to} by {who}"))
        }
        (AddressVerb::Move, None) => {
            return Err(ApiError::bad_request("`to` names the node that the addresses go to."));
        }
        (AddressVerb::Hold | AddressVerb::Return, Some(_)) => {
            return Err(ApiError::bad_request("`to` goes with the order `move` alone."));
        }
        (AddressVerb::Hold, None) => (Some(OrderWord::Hold), format!("is held where it is by {who}")),
        (AddressVerb::Return, None) => {
            (None, format!("goes where the nodes choose again: {who} ended the order"))
        }
    };
    let standing = word.map(|word| StandingOrder { word, to, reason: reason.clone(), who, at: wall() });
    app.controller.order_address((PlanKind::Address, name.to_string()), standing).await?;
    let says = if reason.is_empty() { says } else { format!("{says}: {reason}") };
    app.journal.write(EventKind::Node, format!("address {name}"), says, json!({ "address": name }));
    Ok(Json(detail(&app, &name, spec)))
}

/// Drain a node of its addresses, or let it take part again. The order stands until it is taken back, also over restarts. A node whose addresses no
/// other node can hold is drained with `anyway` alone.
#[utoipa::path(
    post, path = "/nodes/{node}/order", operation_id = "order_node", tag = "change", request_body = NodeOrderRequest,
    params(("node" = String, Path, description = "Its name", example = "south", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = Addresses), Changing)
)]
pub(super) async fn order_node(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(node): PathParams<Name>,
    JsonBody(request): JsonBody<NodeOrderRequest>,
) -> Result<Json<Addresses>, ApiError> {
    check_note(&request.reason)?;
    let document = app.controller.view().await?.checked.shared();
    let is_known =
        app.nodes.is_known(&node) || document.addresses.values().any(|spec| spec.nodes.contains_key(&node));
    if !is_known {
        return Err(ApiError::unknown(format!("there is no node {node}: `merismos node list` shows them")));
    }
    let NodeOrderRequest { order, reason, anyway } = request;
    let (standing, says) = match order {
        NodeVerb::Drain => {
            for (name, spec) in document.addresses.iter().filter(|_| !anyway) {
                can_be_without(&status(&app, name, spec), &node)?;
            }
            for (name, spec) in document.announce.iter().filter(|_| !anyway) {
                announcements::can_be_without(&announcements::status(&app, name, spec), &node)?;
            }
            let order = StandingOrder {
                word: OrderWord::Drain,
                to: None,
                reason: reason.clone(),
                who: who.clone(),
                at: wall(),
            };
            (Some(order), format!("is drained of its addresses by {who}"))
        }
        NodeVerb::Return => (None, format!("takes part in addresses again: {who} ended its drain")),
    };
    app.controller.order_address((PlanKind::Node, node.to_string()), standing).await?;
    let says = if reason.is_empty() { says } else { format!("{says}: {reason}") };
    app.journal.write(EventKind::Node, format!("node {node}"), says, json!({ "node": node }));
    list(State(app)).await
}

fn find<'d>(document: &'d Document, name: &Name) -> Result<&'d AddressSpec, ApiError> {
    document.addresses.get(name).ok_or_else(|| {
        ApiError::unknown(format!("there is no object addresses.{name}: `merismos address list` shows them"))
    })
}

/// Refuses a move to a node that would not take the addresses.
fn can_take(status: &AddressStatus, to: &Name, anyway: bool) -> Result<(), ApiError> {
    let refused = |detail: String| {
        ApiError::new(StatusCode::CONFLICT, "address-stays", "The node can't hold the address", detail)
    };
    let Some(node) = status.nodes.iter().find(|node| node.node == to.as_str()) else {
        let known: Vec<&str> = status.nodes.iter().map(|node| node.node.as_str()).collect();
        return Err(refused(format!(
            "addresses.{} names no node {to} (but {}): add it to `nodes` first.",
            status.name,
            known.join(", ")
        )));
    };
    if anyway {
        return Ok(());
    }
    let why = if !node.is_alive {
        "it gives no sign of life".to_owned()
    } else if node.is_drained {
        format!("it is drained: `merismos node return {to}` ends that")
    } else if node.stance.is_none() || node.stance == Some(Stance::Aside) {
        node.troubles.first().cloned().unwrap_or_else(|| "it takes no part yet".to_owned())
    } else {
        return Ok(());
    };
    Err(refused(format!("Node {to} can't hold it now: {why}. With `anyway` the order stands until it can.")))
}

/// Refuses to drain a node that holds an address which no other one can hold.
fn can_be_without(status: &AddressStatus, node: &Name) -> Result<(), ApiError> {
    let takes_part = |node: &&AddressNode| {
        node.is_alive && !node.is_drained && node.priority.is_some_and(|priority| priority > 0)
    };
    let others = status.nodes.iter().filter(|other| other.node != node.as_str()).filter(takes_part).count();
    if others > 0 || !status.holders.iter().any(|holder| holder == node.as_str()) {
        return Ok(());
    }
    let detail = format!(
        "Node {node} holds {} ({}), and no other node can: of {} that may, none is alive, undrained and without trouble. `merismos address status` tells \
         why; `anyway` drains it all the same.",
        status.name,
        status.addresses.join(", "),
        status.nodes.len() - 1
    );
    Err(ApiError::new(StatusCode::CONFLICT, "last-holder", "No other node can hold its addresses", detail))
}

pub(super) fn status(app: &ApiState, name: &Name, spec: &AddressSpec) -> AddressStatus {
    let reports = app.nodes.address_reports(name);
    let own = app.addresses.report();
    let mut nodes: Vec<AddressNode> = spec
        .nodes
        .keys()
        .map(|node| {
            let is_here = node == app.nodes.name();
            let known = reports.iter().find(|(known, ..)| known == node.as_str());
            let report = if is_here { own.get(name) } else { known.and_then(|(.., report)| report.as_ref()) };
            AddressNode {
                node: node.to_string(),
                listed: listed_priority(name, node, &spec.nodes).unwrap_or_default(),
                is_here,
                is_alive: is_here || known.is_some_and(|(_, is_alive, _)| *is_alive),
                is_drained: app.addresses.order(PlanKind::Node, node.as_str()).is_some(),
                stance: report.map(|report| report.stance),
                since: report.map(|report| report.since),
                priority: report.map(|report| report.priority),
                lost: report.map(|report| texts(&report.lost)).unwrap_or_default(),
                troubles: report.map(|report| report.troubles.clone()).unwrap_or_default(),
            }
        })
        .collect();
    nodes.sort_by_key(|node| Reverse(node.listed));
    // What is heard is newer than what other nodes said last.
    let holds = |node: &&AddressNode| node.is_alive && node.stance == Some(Stance::Active);
    let heard = app.addresses.heard_holders(name);
    if let Some(heard) = &heard {
        // A node that ended, or gave them away a moment ago, has not said so yet.
        for node in
            nodes.iter_mut().filter(|node| node.stance == Some(Stance::Active) && !heard.contains(&node.node))
        {
            (node.stance, node.since, node.priority) = (None, None, None);
        }
    }
    let said = || nodes.iter().filter(holds).map(|node| node.node.clone()).collect();
    let holders = heard.unwrap_or_else(said);
    let order = app.addresses.order(PlanKind::Address, name.as_str());
    AddressStatus {
        name: name.to_string(),
        addresses: texts(&spec.addresses),
        interface: spec.interface.clone(),
        router_id: spec.router_id,
        interval_ms: millis(WholeInterval::nearest(spec.advertisement_interval.get()).duration()),
        holders,
        order: order.map(|order| AddressOrderView {
            order: order.word,
            to: order.to.map(|to| to.to_string()),
            reason: order.reason,
            who: order.who,
            at: order.at,
        }),
        nodes,
    }
}

fn detail(app: &ApiState, name: &Name, spec: &AddressSpec) -> AddressDetail {
    let views: BTreeMap<Name, AddressView> = app.addresses.views();
    let view = views.get(name);
    AddressDetail {
        address: status(app, name, spec),
        counts: view.map(|view| counts(view.counted)),
        advertisements: view
            .map(|view| view.advertisements.iter().map(advertisement).collect())
            .unwrap_or_default(),
    }
}

fn counts(counted: merismos_addresses::AdvertisementCounts) -> AddressCounts {
    AddressCounts {
        taken: counted.taken,
        sent: counted.sent,
        unsent: counted.unsent,
        received: counted.received,
        second_holder: counted.second_holder,
        other_addresses: counted.other_addresses,
        other_interval: counted.other_interval,
        from_afar: counted.from_afar,
        wrong: counted.wrong,
    }
}

fn advertisement(seen: &merismos_addresses::SeenAdvertisement) -> AdvertisementView {
    AdvertisementView {
        number: seen.number,
        at: wall_of(seen.at),
        from: seen.from.to_string(),
        is_own: seen.is_own,
        priority: seen.priority,
        interval_ms: millis(seen.interval),
        addresses: texts(&seen.addresses),
        wrong: seen.wrong.clone(),
    }
}

fn texts<T: ToString>(all: &[T]) -> Vec<String> {
    all.iter().map(ToString::to_string).collect()
}

fn millis(length: std::time::Duration) -> u64 {
    u64::try_from(length.as_millis()).unwrap_or(u64::MAX)
}
