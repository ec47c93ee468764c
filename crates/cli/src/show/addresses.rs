//! Addresses that move between nodes, for people.

use comfy_table::Cell;
use merismos_api::{
    AddressCounts, AddressDetail, AddressNode, AddressOrderView, AddressStatus, Addresses, AdvertisementView,
};
use merismos_core::vrrp::{OrderWord, Stance};

use super::table::table;
use super::{bad, good, moment, strong, text};

/// Whether one node holds the addresses, and all that may are as they should be.
pub(crate) fn is_well(address: &AddressStatus) -> bool {
    let node_is_well = |node: &AddressNode| {
        node.is_drained || (node.is_alive && node.troubles.is_empty() && node.lost.is_empty())
    };
    address.holders.len() == 1 && address.nodes.iter().all(node_is_well)
}

/// Prints every object.
pub(crate) fn list(found: &Addresses) {
    if found.database_away {
        let says = "the database does not answer: what other nodes do is as it was known last";
        text(&format!("{} {says}\n", bad("!")));
    }
    if found.addresses.is_empty() {
        text("No addresses move between nodes: `merismos address add` makes an object of them.\n");
        return;
    }
    let mut all = table(&[
        "address",
        "held by",
        "since",
        "nodes",
        "addresses",
        "interface",
        "router",
        "every",
        "order",
    ]);
    for address in &found.addresses {
        let holder = address.nodes.iter().find(|node| address.holders.contains(&node.node));
        let nodes: Vec<String> = address.nodes.iter().map(short).collect();
        all.add_row([
            Cell::new(&address.name),
            Cell::new(holders(address)),
            Cell::new(holder.and_then(|node| node.since).map_or_else(|| "-".to_owned(), moment)),
            Cell::new(nodes.join("\n")),
            Cell::new(address.addresses.join("\n")),
            Cell::new(&address.interface),
            Cell::new(address.router_id),
            Cell::new(format!("{} ms", address.interval_ms)),
            Cell::new(address.order.as_ref().map(order).unwrap_or_default()),
        ]);
    }
    text(&format!("{all}\n"));
    found.addresses.iter().for_each(troubles);
}

/// Prints one object.
pub(crate) fn one(found: &AddressDetail) {
    let AddressDetail { address, counts, .. } = found;
    text(&format!("{}: held by {}\n", strong(&format!("Address {}", address.name)), holders(address)));
    text(&format!(
        "{} on {}, virtual router {}, an advertisement every {} ms\n",
        address.addresses.join(", "),
        address.interface,
        address.router_id,
        address.interval_ms
    ));
    if let Some(view) = &address.order {
        text(&format!("{} {}, by {} at {}", bad("!"), order(view), view.who, moment(view.at)));
        let reason = if view.reason.is_empty() { String::new() } else { format!(": {}", view.reason) };
        text(&format!("{reason}; `merismos address return {}` ends that\n", address.name));
    }
    let mut nodes = table(&["node", "stands", "since", "worth", "listed", "pools that it can't use"]);
    for node in &address.nodes {
        nodes.add_row([
            Cell::new(if node.is_here { format!("{} (here)", node.node) } else { node.node.clone() }),
            Cell::new(stands(node)),
            Cell::new(node.since.map_or_else(|| "-".to_owned(), moment)),
            Cell::new(node.priority.map_or_else(|| "-".to_owned(), |priority| priority.to_string())),
            Cell::new(node.listed),
            Cell::new(node.lost.join(", ")),
        ]);
    }
    text(&format!("{nodes}\n"));
    troubles(address);
    let Some(counts) = counts else {
        text("The node that answers takes no part in it.\n");
        return;
    };
    let AddressCounts {
        taken,
        sent,
        unsent,
        received,
        second_holder,
        other_addresses,
        other_interval,
        from_afar,
        wrong,
    } = counts;
    text(&format!(
        "Here: taken {taken} times; {sent} advertisements sent, {unsent} not sent, {received} heard, {second_holder} of them while it was held here\n"
    ));
    let odd = [
        (other_addresses, "with other addresses"),
        (other_interval, "with another interval"),
        (from_afar, "from behind a router"),
        (wrong, "that are wrong or from none of the peers"),
    ];
    let odd: Vec<String> =
        odd.iter().filter(|(count, _)| **count > 0).map(|(count, what)| format!("{count} {what}")).collect();
    if !odd.is_empty() {
        text(&format!("{} heard {}\n", bad("!"), odd.join(", ")));
    }
}

/// Prints what an order led to.
pub(crate) fn ordered(address: &AddressStatus) {
    match &address.order {
        Some(view) => {
            let ends = format!("merismos address return {}", address.name);
            text(&format!("Address {} {}; `{ends}` ends that.\n", strong(&address.name), order(view)));
        }
        None => text(&format!("No order stands for address {}: the nodes choose.\n", strong(&address.name))),
    }
    text(&format!("`merismos address status {}` shows who holds it.\n", address.name));
}

/// Prints an advertisement in one line.
pub(crate) fn advertisement(seen: &AdvertisementView) {
    let AdvertisementView { at, from, is_own, priority, interval_ms, addresses, wrong, .. } = seen;
    let way = if *is_own { "sent " } else { "heard" };
    let says = match priority {
        0 => "leaves".to_owned(),
        priority => format!("priority {priority}"),
    };
    let wrong = wrong.as_ref().map(|wrong| format!("  {} {wrong}", bad("!"))).unwrap_or_default();
    let from = format!("{from:<26}");
    text(&format!(
        "{at}  {way}  {from} {says:<13} every {interval_ms} ms  {}{wrong}\n",
        addresses.join(", ")
    ));
}

fn holders(address: &AddressStatus) -> String {
    match address.holders.as_slice() {
        [] => bad("no node"),
        [only] => good(only),
        many => bad(&many.join(" and ")),
    }
}

/// A node in a few words.
fn short(node: &AddressNode) -> String {
    let worth = node.priority.map_or_else(|| "?".to_owned(), |priority| priority.to_string());
    format!("{} {worth}/{} {}", node.node, node.listed, stands(node))
}

fn stands(node: &AddressNode) -> String {
    match (node.is_alive, node.stance) {
        (false, _) => bad("gone"),
        (true, Some(Stance::Active)) => good("holds it"),
        (true, Some(Stance::Backup)) if node.is_drained => "is drained".to_owned(),
        (true, Some(Stance::Backup)) => "stands by".to_owned(),
        (true, Some(Stance::Aside)) => bad("takes no part"),
        (true, None) => "is not heard".to_owned(),
    }
}

fn order(view: &AddressOrderView) -> String {
    match (view.order, &view.to) {
        (OrderWord::Move, Some(to)) => format!("moved to {to}"),
        _ => "held where it is".to_owned(),
    }
}

fn troubles(address: &AddressStatus) {
    for node in &address.nodes {
        for says in &node.troubles {
            text(&format!("{} {} at node {}: {says}\n", bad("!"), address.name, node.node));
        }
        if !node.lost.is_empty() {
            let pools = node.lost.join(", ");
            text(&format!(
                "{} {} at node {}: too few servers are eligible of {pools}\n",
                bad("!"),
                address.name,
                node.node
            ));
        }
    }
}
