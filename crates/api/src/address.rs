//! Addresses that move between nodes.

use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_core::vrrp::{OrderWord, Stance};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Every object of addresses that move, and which node holds it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Addresses {
    /// Whether the database does not answer: then what is known of other nodes is as it was when it did last.
    pub database_away: bool,
    /// The objects, by name.
    pub addresses: Vec<AddressStatus>,
}

/// Addresses that move together, and which node holds them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AddressStatus {
    /// Name of the object.
    pub name: String,
    /// The addresses.
    pub addresses: Vec<String>,
    /// Interface that they are put on.
    pub interface: String,
    /// Number of the virtual router.
    pub router_id: u8,
    /// How often the holder advertises, in milliseconds.
    pub interval_ms: u64,
    /// The nodes that say that they hold them: one when all is well.
    pub holders: Vec<String>,
    /// The order that stands.
    pub order: Option<AddressOrderView>,
    /// The nodes that may hold them, the one with the highest priority of the document first.
    pub nodes: Vec<AddressNode>,
}

/// A node's part in who holds an address. What is absent it never said.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AddressNode {
    /// Name of the node.
    pub node: String,
    /// Its priority in the document, less its rank among nodes with the same.
    pub listed: u8,
    /// Whether it is the one that answers.
    pub is_here: bool,
    /// Whether it gave a sign of life within the last 10 seconds.
    pub is_alive: bool,
    /// Whether it is drained: it gives up its addresses, and takes none.
    pub is_drained: bool,
    /// Where it stands: `active` when it holds them, `backup` when it stands by, `aside` when it takes no part; absent also when it said that it holds them
    /// and the node that answers does not hear it.
    pub stance: Option<Stance>,
    /// Since when.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Wall>,
    /// What it is worth now; 0 while it takes no part, 1 while it is about to leave them.
    pub priority: Option<u8>,
    /// Pools that it can't use, and that cost it some of its priority.
    pub lost: Vec<String>,
    /// What keeps it from taking part as it should, a sentence each.
    pub troubles: Vec<String>,
}

/// An order that stands for an address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AddressOrderView {
    /// What was ordered.
    pub order: OrderWord,
    /// The node that they went to.
    pub to: Option<String>,
    /// Why.
    pub reason: String,
    /// Who ordered it.
    pub who: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
}

/// One object of addresses, with what the node that answers sent and heard of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AddressDetail {
    /// Who holds it.
    pub address: AddressStatus,
    /// What the node that answers counted since it takes part; absent when it does not.
    pub counts: Option<AddressCounts>,
    /// The last advertisements that it sent and heard, oldest first; 100 at most.
    pub advertisements: Vec<AdvertisementView>,
}

/// What a node counted of an address.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AddressCounts {
    /// Times that it took the addresses.
    pub taken: u64,
    /// Advertisements that it sent.
    pub sent: u64,
    /// Those that could not be sent.
    pub unsent: u64,
    /// Those that it heard of other nodes.
    pub received: u64,
    /// Those that came while it held the addresses itself.
    pub second_holder: u64,
    /// Those with other addresses than the document has.
    pub other_addresses: u64,
    /// Those with another interval than the document has.
    pub other_interval: u64,
    /// Those that crossed a router, by their time to live: they are passed over.
    pub from_afar: u64,
    /// Packets on the interface that can't be read or have a wrong checksum, and advertisements from none of the peers: they are passed over.
    pub wrong: u64,
}

/// An advertisement that a node sent or heard (RFC 9568, 5).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AdvertisementView {
    /// Its number, growing.
    pub number: u64,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// Where it came from.
    pub from: String,
    /// Whether the node that answers sent it.
    pub is_own: bool,
    /// The priority in it: 0 when its sender leaves the addresses.
    pub priority: u8,
    /// The interval in it, in milliseconds.
    pub interval_ms: u64,
    /// The addresses in it.
    pub addresses: Vec<String>,
    /// What is wrong with it.
    pub wrong: Option<String>,
}

/// What to do with an address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AddressVerb {
    /// It goes to a node and stays there.
    Move,
    /// It stays where it is, as long as its holder can hold it.
    Hold,
    /// The order that stands ends: the nodes choose again.
    Return,
}

/// An order for an address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AddressOrderRequest {
    /// What to do.
    pub order: AddressVerb,
    /// The node to move it to.
    #[serde(default)]
    #[schema(value_type = Option<String>, pattern = "^[a-z][a-z0-9-]{0,62}$")]
    pub to: Option<Name>,
    /// Why: it stands in every status and event.
    #[serde(default)]
    #[schema(max_length = 500)]
    pub reason: String,
    /// Whether to do it although the node says that it can't hold it.
    #[serde(default)]
    pub anyway: bool,
}

/// What to do with a node.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NodeVerb {
    /// It gives up its addresses, and takes none.
    Drain,
    /// It takes part again.
    Return,
}

/// An order for a node.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NodeOrderRequest {
    /// What to do.
    pub order: NodeVerb,
    /// Why: it stands in every status and event.
    #[serde(default)]
    #[schema(max_length = 500)]
    pub reason: String,
    /// Whether to do it although no other node can hold its addresses.
    #[serde(default)]
    pub anyway: bool,
}
