//! Nodes for people.

use std::time::Duration;

use comfy_table::Cell;
use merismos_api::{AddressStatus, Addresses, NodeRemoved, NodeView, Nodes};
use merismos_core::name::Name;
use merismos_core::units::humane;

use super::table::table;
use super::{bad, good, moment, strong, text};

/// From how far apart on clocks are worth a word.
const CLOCKS_APART_MS: u64 = 1_000;

/// Prints every node.
pub(crate) fn list(nodes: &Nodes) {
    if nodes.database_away {
        text(&format!(
            "{} the database does not answer: this is what was known when it did last\n",
            bad("!")
        ));
    }
    let mut all = table(&[
        "node",
        "identity",
        "state",
        "runs",
        "leads",
        "holds",
        "down there",
        "version",
        "since",
        "API",
    ]);
    for node in &nodes.nodes {
        all.add_row([
            Cell::new(if node.is_here { format!("{} (here)", node.name) } else { node.name.clone() }),
            Cell::new(&node.id),
            Cell::new(state(node)),
            Cell::new(runs(node, nodes)),
            Cell::new(if node.leads { "leads" } else { "" }),
            Cell::new(if node.is_drained { "is drained".to_owned() } else { node.holds.join(", ") }),
            Cell::new(if node.down_in_all == 0 { String::new() } else { node.down_in_all.to_string() }),
            Cell::new(node.version.as_deref().unwrap_or("-")),
            Cell::new(node.started.map_or_else(|| "-".to_owned(), moment)),
            Cell::new(node.api.as_deref().unwrap_or("-")),
        ]);
    }
    text(&format!("{all}\n"));
    for node in &nodes.nodes {
        for says in troubles(node) {
            text(&format!("{} {}: {says}\n", bad("!"), node.name));
        }
    }
    for difference in &nodes.differences {
        text(&format!("{} {difference}\n", bad("!")));
    }
}

/// Prints one node.
pub(crate) fn one(node: &NodeView, nodes: &Nodes) {
    text(&format!("{} ({}): {}\n", strong(&format!("Node {}", node.name)), node.id, state(node)));
    text(&format!("Runs {}.\n", runs(node, nodes)));
    if node.leads {
        text("It does the work that one node has to do: windows, rolls, and messages to people.\n");
    }
    if let (Some(version), Some(started)) = (&node.version, node.started) {
        text(&format!("merismosd {version}, since {}; ", moment(started)));
        text(&format!(
            "{} workers; API on {}\n",
            node.workers.unwrap_or_default(),
            node.api.as_deref().unwrap_or("-")
        ));
    }
    if !node.holds.is_empty() {
        text(&format!("It holds addresses: {}\n", node.holds.join(", ")));
    }
    if node.is_drained {
        let ends = format!("merismos node return {}", node.name);
        text(&format!("{} it is drained: it takes no addresses; `{ends}` ends that\n", bad("!")));
    }
    for says in troubles(node) {
        text(&format!("{} {says}\n", bad("!")));
    }
    if node.down.is_empty() {
        text("No server is down as seen from there.\n");
        return;
    }
    text(&format!("\n{} {}\n", node.down_in_all, strong("servers are down as seen from there")));
    for server in &node.down {
        text(&format!("  {server}\n"));
    }
    if let Some(more @ 1..) = node.down_in_all.checked_sub(node.down.len() as u64) {
        text(&format!("  and {more} more\n"));
    }
}

/// Prints which addresses a node that is drained still holds.
pub(crate) fn drained(node: &Name, found: &Addresses) {
    let holds = |address: &&AddressStatus| address.holders.iter().any(|holder| holder == node.as_str());
    let held: Vec<&str> = found.addresses.iter().filter(holds).map(|address| address.name.as_str()).collect();
    let still = match held.as_slice() {
        [] => "It holds no address".to_owned(),
        held => format!("It still holds {}", held.join(", ")),
    };
    text(&format!(
        "Node {} is drained. {still}; `merismos node return {node}` ends that.\n",
        strong(node.as_str())
    ));
}

pub(crate) fn returned(node: &Name) {
    text(&format!("Node {} takes part in addresses again.\n", strong(node.as_str())));
}

pub(crate) fn removed(removed: &NodeRemoved) {
    text(&format!("Node {} ({}) is forgotten.\n", strong(&removed.name), removed.id));
}

fn state(node: &NodeView) -> String {
    if node.is_alive {
        good("alive")
    } else {
        let age = Duration::from_secs(node.seen_ms / 1_000);
        bad(&format!("gone for {}", humane(age)))
    }
}

fn runs(node: &NodeView, nodes: &Nodes) -> String {
    match node.revision {
        None => "-".to_owned(),
        Some(0) => "nothing yet".to_owned(),
        Some(revision) if revision == nodes.revision || !node.is_alive => format!("revision {revision}"),
        Some(revision) => bad(&format!("revision {revision}, not {}", nodes.revision)),
    }
}

/// What is wrong with a node, apart from what its line says.
fn troubles(node: &NodeView) -> Vec<String> {
    let mut troubles = Vec::new();
    troubles.extend(node.trouble.clone());
    if let Some(ahead) =
        node.clock_ahead_ms.filter(|ahead| node.is_alive && ahead.unsigned_abs() >= CLOCKS_APART_MS)
    {
        let apart = humane(Duration::from_millis(ahead.unsigned_abs()));
        let way = if ahead > 0 { "ahead of" } else { "behind" };
        troubles.push(format!(
            "its clock is {apart} {way} that of the node that answers: see to its time service"
        ));
    }
    troubles
}
