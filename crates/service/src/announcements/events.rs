//! What becomes of announced addresses here, as events.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

use merismos_addresses::SpeakerView;
use merismos_api::EventKind;
use merismos_core::announcement::{RouteAttributes, RouteReport, SessionState, WithheldReason};
use merismos_core::name::Name;
use serde_json::json;
use tokio::sync::watch;

use crate::journal::Journal;

/// Writes an event whenever a session with a router is established, lost, or can't be had for another reason than before, until the speaker ends.
pub(super) async fn report(mut views: watch::Receiver<Arc<SpeakerView>>, journal: Journal) {
    let mut known = BTreeMap::<IpAddr, (bool, Option<String>)>::new();
    while views.changed().await.is_ok() {
        let now = Arc::clone(&views.borrow_and_update());
        for (peer, view) in &now.sessions {
            let is_established = view.state == SessionState::Established;
            let before = known.entry(*peer).or_default();
            let after = (is_established, view.trouble.clone());
            if *before == after {
                continue;
            }
            let says = match (before.0, is_established, &view.trouble) {
                (false, true, _) => {
                    let hold = view.hold_time.unwrap_or_default().as_secs();
                    Some(format!("a session is established (hold time {hold} s)"))
                }
                (true, false, Some(why)) => Some(format!("the session ended: {why}")),
                (false, false, Some(why)) if before.1.as_ref() != Some(why) => {
                    Some(format!("no session: {why}"))
                }
                // Why it ended follows.
                _ => None,
            };
            if let Some(says) = says {
                let detail = json!({ "router": peer, "state": view.state });
                journal.write(EventKind::Node, format!("router {peer}"), says, detail);
            } else if before.0 && !is_established && view.trouble.is_none() {
                continue;
            }
            *before = after;
        }
        known.retain(|peer, _| now.sessions.contains_key(peer));
    }
}

/// Writes what has become of a route.
pub(super) fn write_route(journal: &Journal, name: &Name, route: &RouteReport, says: String) {
    let detail = json!({ "announcement": name, "address": route.address, "route": route.route, "withheld": route.withheld });
    journal.write(EventKind::Node, format!("announcement {name}"), says, detail);
}

/// What has changed of a route; nothing where nothing has, or where it was not announced before and is not now.
pub(super) fn route_in_words(
    before: Option<&RouteReport>,
    now: &RouteReport,
    lost: &[Name],
) -> Option<String> {
    let was = before.and_then(|known| known.route.as_ref());
    let ip = now.address;
    match (was, &now.route) {
        (Some(was), Some(is)) if was == is => None,
        (None, Some(is)) => Some(format!("this node announces {ip}{}", attributes(is))),
        (Some(_), Some(is)) if is.is_leaving() => {
            Some(format!("this node asks routers to send the traffic of {ip} elsewhere"))
        }
        (Some(_), Some(is)) => {
            Some(format!("this node announces {ip} otherwise{}{}", attributes(is), because(lost)))
        }
        (Some(_), None) => {
            let why = match now.withheld {
                Some(WithheldReason::NoListener) => "no frontend listens at it".to_owned(),
                Some(WithheldReason::NodeLeaves) => "it leaves".to_owned(),
                Some(WithheldReason::PoolsLost) | None => {
                    let pools: Vec<&str> = lost.iter().map(Name::as_str).collect();
                    format!("too few servers are eligible of {}", pools.join(", "))
                }
            };
            Some(format!("this node withdraws {ip}: {why}"))
        }
        (None, None) => None,
    }
}

fn because(lost: &[Name]) -> String {
    if lost.is_empty() {
        return String::new();
    }
    let pools: Vec<&str> = lost.iter().map(Name::as_str).collect();
    format!(": too few servers are eligible of {}", pools.join(", "))
}

/// What routers choose by, where it is given.
fn attributes(route: &RouteAttributes) -> String {
    let mut says = Vec::new();
    if route.prepend > 0 {
        says.push(format!("path longer by {}", route.prepend));
    }
    says.extend(route.med.map(|med| format!("MED {med}")));
    if !route.communities.is_empty() {
        let communities: Vec<String> = route.communities.iter().map(ToString::to_string).collect();
        says.push(format!("communities {}", communities.join(" ")));
    }
    if says.is_empty() { String::new() } else { format!(" ({})", says.join(", ")) }
}
