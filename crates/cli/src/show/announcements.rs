//! Addresses that nodes announce to routers, for people.

use comfy_table::Cell;
use merismos_api::{
    AnnouncedRoute, AnnouncementDetail, AnnouncementNode, AnnouncementStatus, Announcements, RouterSession,
};
use merismos_core::announcement::{GRACEFUL_SHUTDOWN, SessionState, WithheldReason};

use super::table::table;
use super::{bad, good, moment, strong, text};

/// Whether every node that is not drained announces all, to all routers, as it should.
pub(crate) fn is_well(announcement: &AnnouncementStatus) -> bool {
    let node_is_well = |node: &AnnouncementNode| {
        let all_told = |route: &AnnouncedRoute| route.routers > 0 && route.routers == route.of_routers;
        node.is_drained
            || (node.is_alive
                && node.troubles.is_empty()
                && node.lost.is_empty()
                && !node.routes.is_empty()
                && node.routes.iter().all(all_told))
    };
    !announcement.nodes.is_empty() && announcement.nodes.iter().all(node_is_well)
}

/// Prints every object.
pub(crate) fn list(found: &Announcements) {
    if found.database_away {
        let says = "the database does not answer: what other nodes do is as it was known last";
        text(&format!("{} {says}\n", bad("!")));
    }
    if found.announcements.is_empty() {
        text("No addresses are announced to routers: `merismos announcement add` makes an object of them.\n");
        return;
    }
    let mut all = table(&["announcement", "node", "address", "announced", "sessions"]);
    for announcement in &found.announcements {
        for (row, node) in announcement.nodes.iter().enumerate() {
            let name = if row == 0 { announcement.name.as_str() } else { "" };
            let addresses: Vec<&str> = match node.routes.is_empty() {
                true => announcement.addresses.iter().map(String::as_str).collect(),
                false => node.routes.iter().map(|route| route.address.as_str()).collect(),
            };
            let routes: Vec<String> = node.routes.iter().map(|one| route(node, one)).collect();
            let sessions: Vec<String> =
                node.sessions.iter().map(|one| format!("{} {}", one.peer, session(one))).collect();
            all.add_row([
                Cell::new(name),
                Cell::new(node_name(node)),
                Cell::new(addresses.join("\n")),
                Cell::new(if node.routes.is_empty() { silent(node) } else { routes.join("\n") }),
                Cell::new(sessions.join("\n")),
            ]);
        }
    }
    text(&format!("{all}\n"));
    found.announcements.iter().for_each(troubles);
}

/// Prints one object.
pub(crate) fn one(found: &AnnouncementDetail) {
    let AnnouncementDetail { announcement, sessions } = found;
    text(&format!(
        "{}: AS {} announces {} to AS {}\n",
        strong(&format!("Announcement {}", announcement.name)),
        announcement.as_number,
        announcement.addresses.join(", "),
        announcement.peer_as
    ));
    let mut nodes = table(&["node", "address", "announced", "path", "MED", "communities"]);
    for node in &announcement.nodes {
        for (row, one) in node.routes.iter().enumerate() {
            let name = if row == 0 { node_name(node) } else { String::new() };
            let path = if one.prepend == 0 { String::new() } else { format!("longer by {}", one.prepend) };
            nodes.add_row([
                name,
                one.address.clone(),
                route(node, one),
                path,
                one.med.map(|med| med.to_string()).unwrap_or_default(),
                one.communities.join(" "),
            ]);
        }
        if node.routes.is_empty() {
            nodes.add_row([
                node_name(node),
                String::new(),
                silent(node),
                String::new(),
                String::new(),
                String::new(),
            ]);
        }
    }
    text(&format!("{nodes}\n"));
    troubles(announcement);
    if sessions.is_empty() {
        text("The node that answers takes no part in it.\n");
        return;
    }
    let here = announcement.nodes.iter().find(|node| node.is_here);
    let mut all = table(&[
        "router",
        "session here",
        "since",
        "hold time",
        "its identifier",
        "announced",
        "ended",
        "not had",
        "ignored",
    ]);
    for detail in sessions {
        let known = here.and_then(|node| node.sessions.iter().find(|one| one.peer == detail.peer));
        all.add_row([
            detail.peer.clone(),
            known.map(session).unwrap_or_default(),
            known.map_or_else(|| "-".to_owned(), |one| moment(one.since)),
            detail.hold_time_s.map_or_else(|| "-".to_owned(), |seconds| format!("{seconds} s")),
            detail.identifier.clone().unwrap_or_else(|| "-".to_owned()),
            detail.announced.join("\n"),
            detail.lost.to_string(),
            detail.failed.to_string(),
            detail.routes_ignored.to_string(),
        ]);
    }
    text(&format!("{all}\n"));
}

fn node_name(node: &AnnouncementNode) -> String {
    if node.is_here { format!("{} (here)", node.node) } else { node.node.clone() }
}

/// What stands for the routes of a node that has said nothing of them.
fn silent(node: &AnnouncementNode) -> String {
    if node.is_alive { "it has not said".to_owned() } else { bad("gone") }
}

fn route(node: &AnnouncementNode, route: &AnnouncedRoute) -> String {
    let routers = if route.of_routers == 1 { "router" } else { "routers" };
    let to = format!("to {} of {} {routers}", route.routers, route.of_routers);
    let leaves = route.communities.contains(&GRACEFUL_SHUTDOWN.to_string());
    match route.withheld {
        _ if !node.is_alive => bad("gone"),
        Some(WithheldReason::NodeLeaves) => "no: the node is drained".to_owned(),
        Some(WithheldReason::NoListener) => bad("no: no frontend listens at it"),
        Some(WithheldReason::PoolsLost) => bad(&format!("no: too few servers of {}", node.lost.join(", "))),
        None if leaves => format!("{to}, leaving"),
        None if route.routers < route.of_routers || route.routers == 0 => bad(&to),
        None => good(&to),
    }
}

fn session(session: &RouterSession) -> String {
    match session.state {
        SessionState::Established => good("established"),
        state => bad(&state.to_string()),
    }
}

fn troubles(announcement: &AnnouncementStatus) {
    for node in &announcement.nodes {
        let of_sessions = node.sessions.iter().filter_map(|session| {
            let why = session.trouble.as_ref()?;
            Some(format!("no session with router {}: {why}", session.peer))
        });
        let lost = (!node.lost.is_empty())
            .then(|| format!("too few servers are eligible of {}", node.lost.join(", ")));
        for says in node.troubles.iter().cloned().chain(of_sessions).chain(lost) {
            text(&format!("{} {} at node {}: {says}\n", bad("!"), announcement.name, node.node));
        }
    }
}
