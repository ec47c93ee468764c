//! What becomes of addresses here, as events.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

use merismos_addresses::AddressView;
use merismos_api::EventKind;
use merismos_core::name::Name;
use merismos_core::units::humane;
use merismos_core::vrrp::{LEAVING, Stance};
use serde_json::json;
use tokio::sync::watch;

use crate::journal::Journal;
use crate::nodes::NodeWatch;

/// Writes an event whenever this node takes or leaves an address, until the keeper ends.
pub(super) async fn report(
    mut views: watch::Receiver<Arc<BTreeMap<Name, AddressView>>>,
    nodes: NodeWatch,
    journal: Journal,
) {
    let mut before = Arc::clone(&views.borrow_and_update());
    while views.changed().await.is_ok() {
        let now = Arc::clone(&views.borrow_and_update());
        for (name, view) in now.iter() {
            let known = before.get(name);
            if let Some(says) = change_in_words(known, view, |from| nodes.sender(name, from)) {
                let detail = json!({ "address": name, "stance": view.stance, "priority": view.priority });
                journal.write(EventKind::Node, format!("address {name}"), says, detail);
            }
        }
        for name in before.keys().filter(|name| !now.contains_key(*name)) {
            let says = "this node takes no part in it any more";
            journal.write(EventKind::Node, format!("address {name}"), says, json!({ "address": name }));
        }
        before = now;
    }
}

/// What has changed, and why, as far as was heard.
fn change_in_words(
    before: Option<&AddressView>,
    now: &AddressView,
    node: impl Fn(IpAddr) -> String,
) -> Option<String> {
    let was = before.map(|view| view.stance);
    if was == Some(now.stance) {
        return None;
    }
    let priority = now.priority;
    Some(match now.stance {
        Stance::Active => {
            format!("this node holds it (priority {priority}): {}", why_taken(before, now, node))
        }
        Stance::Backup if was == Some(Stance::Active) => match now.holder {
            Some(holder) => format!(
                "this node gave it to {} (priority {}), and stands by (priority {priority})",
                node(holder.from),
                holder.priority
            ),
            None => format!("this node gave it up, and stands by (priority {priority})"),
        },
        Stance::Backup => format!("this node stands by for it (priority {priority})"),
        Stance::Aside => match now.troubles.first() {
            Some(why) => format!("this node takes no part: {why}"),
            None => "this node takes no part".to_owned(),
        },
    })
}

fn why_taken(before: Option<&AddressView>, now: &AddressView, node: impl Fn(IpAddr) -> String) -> String {
    let last = now.advertisements.iter().rev().find(|seen| !seen.is_own);
    let stood_by = before.is_some_and(|view| view.stance == Stance::Backup);
    let silent_for = last.and_then(|last| now.since.duration_since(last.at).ok());
    match (last, silent_for) {
        (Some(last), _) if last.priority == 0 => format!("{} has left it", node(last.from)),
        (Some(last), _) if last.priority == LEAVING => format!("{} is about to leave it", node(last.from)),
        (Some(last), Some(silent)) if silent < last.interval * 2 => {
            format!("it is worth more than {} (priority {})", node(last.from), last.priority)
        }
        (Some(last), Some(silent)) if stood_by => {
            format!("nothing was heard of {}, which held it, for {}", node(last.from), humane(silent))
        }
        _ => "no other node was heard".to_owned(),
    }
}
