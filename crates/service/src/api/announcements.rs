//! Addresses that nodes announce to routers: which node announces what, and the sessions with the routers.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use merismos_addresses::SessionView;
use merismos_api::{
    AnnouncedRoute, AnnouncementDetail, AnnouncementNode, AnnouncementStatus, Announcements, RouterSession,
    RouterSessionDetail,
};
use merismos_core::announcement::{AnnouncementReport, RouteReport, SessionState};
use merismos_core::config::document::AnnouncementSpec;
use merismos_core::name::Name;
use merismos_store::plans::PlanKind;

use super::ApiState;
use super::problem::{ApiError, Finding, Looking, PathParams};

/// Every object of announced addresses: what each node announces of it, how, and to which routers.
#[utoipa::path(
    get, path = "/announcements", operation_id = "list_announcements", tag = "look",
    responses((status = 200, body = Announcements), Looking)
)]
pub(super) async fn list(State(app): State<Arc<ApiState>>) -> Result<Json<Announcements>, ApiError> {
    let document = app.controller.view().await?.checked.shared();
    let announcements = document.announce.iter().map(|(name, spec)| status(&app, name, spec)).collect();
    Ok(Json(Announcements { database_away: app.nodes.is_database_away(), announcements }))
}

/// One object of announced addresses, with the sessions of the node that answers.
#[utoipa::path(
    get, path = "/announcements/{announcement}", operation_id = "show_announcement", tag = "look",
    params(("announcement" = String, Path, description = "Name of the object", example = "edge", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = AnnouncementDetail), Finding)
)]
pub(super) async fn show(
    State(app): State<Arc<ApiState>>,
    PathParams(name): PathParams<Name>,
) -> Result<Json<AnnouncementDetail>, ApiError> {
    let document = app.controller.view().await?.checked.shared();
    let spec = document.announce.get(&name).ok_or_else(|| {
        ApiError::unknown(format!(
            "there is no object announce.{name}: `merismos announcement list` shows them"
        ))
    })?;
    let known = app.announcements.sessions();
    let sessions =
        spec.peers.iter().filter_map(|peer| Some(session_detail(*peer, known.get(peer)?))).collect();
    Ok(Json(AnnouncementDetail { announcement: status(&app, &name, spec), sessions }))
}

/// Refuses to drain a node that is the last to announce an address.
pub(super) fn can_be_without(status: &AnnouncementStatus, node: &Name) -> Result<(), ApiError> {
    let is_up = |route: &AnnouncedRoute, address: &str| route.address == address && route.routers > 0;
    for address in &status.addresses {
        let (mut own, mut others) = (false, 0);
        for known in status.nodes.iter().filter(|known| known.is_alive) {
            let announces = known.routes.iter().any(|route| is_up(route, address));
            if known.node == node.as_str() {
                own = announces;
            } else if announces && !known.is_drained {
                others += 1;
            }
        }
        if own && others == 0 {
            let detail = format!(
                "Node {node} announces {address} ({}), and no other node does: traffic for it would go nowhere. `merismos announcement status` shows why; \
                 `anyway` drains it all the same.",
                status.name
            );
            return Err(ApiError::new(
                StatusCode::CONFLICT,
                "last-holder",
                "No other node announces its addresses",
                detail,
            ));
        }
    }
    Ok(())
}

pub(super) fn status(app: &ApiState, name: &Name, spec: &AnnouncementSpec) -> AnnouncementStatus {
    let reports = app.nodes.announcement_reports(name);
    let mut own = app.announcements.reports();
    let mut names: BTreeSet<String> = spec.nodes.iter().map(ToString::to_string).collect();
    if spec.nodes.is_empty() {
        names.insert(app.nodes.name().to_string());
        names.extend(reports.iter().map(|(node, ..)| node.clone()));
    }
    let nodes = names
        .into_iter()
        .map(|node| {
            let is_here = node == app.nodes.name().as_str();
            let known = reports.iter().find(|(known, ..)| *known == node);
            let report =
                if is_here { own.remove(name) } else { known.and_then(|(.., report)| report.clone()) };
            let AnnouncementReport { sessions, routes, lost, troubles } = report.unwrap_or_default();
            AnnouncementNode {
                is_here,
                is_alive: is_here || known.is_some_and(|(_, is_alive, _)| *is_alive),
                is_drained: app.addresses.order(PlanKind::Node, &node).is_some(),
                node,
                routes: routes
                    .into_iter()
                    .map(|report| {
                        let of_family =
                            sessions.iter().filter(|one| one.peer.is_ipv4() == report.address.is_ipv4());
                        let up =
                            of_family.clone().filter(|one| one.state == SessionState::Established).count();
                        let all = of_family.count();
                        route(report, up, all)
                    })
                    .collect(),
                sessions: sessions
                    .into_iter()
                    .map(|one| RouterSession {
                        peer: one.peer.to_string(),
                        state: one.state,
                        since: one.since,
                        trouble: one.trouble,
                    })
                    .collect(),
                lost: lost.iter().map(ToString::to_string).collect(),
                troubles,
            }
        })
        .collect();
    AnnouncementStatus {
        name: name.to_string(),
        as_number: spec.as_number,
        peer_as: spec.peer_as,
        addresses: spec.addresses.iter().map(ToString::to_string).collect(),
        peers: spec.peers.iter().map(ToString::to_string).collect(),
        nodes,
    }
}

fn route(report: RouteReport, established: usize, of_routers: usize) -> AnnouncedRoute {
    let routers = if report.route.is_some() { established as u64 } else { 0 };
    let route = report.route.unwrap_or_default();
    AnnouncedRoute {
        address: report.address.to_string(),
        withheld: report.withheld,
        routers,
        of_routers: of_routers as u64,
        prepend: route.prepend,
        med: route.med,
        communities: route.communities.iter().map(ToString::to_string).collect(),
    }
}

fn session_detail(peer: IpAddr, view: &SessionView) -> RouterSessionDetail {
    let counted = view.counted;
    RouterSessionDetail {
        peer: peer.to_string(),
        local: view.local.map(|ip| ip.to_string()),
        identifier: view.identifier.map(|ip| ip.to_string()),
        hold_time_s: view.hold_time.map(|time| time.as_secs()),
        announced: view.announced.keys().map(ToString::to_string).collect(),
        established: counted.established,
        lost: counted.lost,
        failed: counted.failed,
        routes_announced: counted.announced,
        routes_withdrawn: counted.withdrawn,
        routes_ignored: counted.ignored,
    }
}
