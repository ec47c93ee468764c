//! What operators order of addresses and of whole nodes, and what a node says of its own part.

use std::net::IpAddr;

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString};

use crate::name::Name;
use crate::time::Wall;
use crate::vrrp::Stance;

/// The priority of the node that an operator moved an address to: more than any that a document gives.
pub const CLAIMED: u8 = 254;

/// What was ordered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, Display, EnumString)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum OrderWord {
    /// An address goes to a node and stays there.
    Move,
    /// An address stays where it is, as long as its holder can hold it.
    Hold,
    /// A node gives up its addresses, and takes none.
    Drain,
}

/// An order for an address or a node. It stands until it is taken back, also over restarts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StandingOrder {
    /// What was ordered.
    pub word: OrderWord,
    /// The node that an address goes to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Name>,
    /// Why, in the operator's words.
    pub reason: String,
    /// Who ordered it.
    pub who: String,
    /// When.
    pub at: Wall,
}

/// What a node says of its part in the choice of an address's holder.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddressReport {
    /// Where it stands.
    pub stance: Stance,
    /// Since when.
    pub since: Wall,
    /// What it is worth; 0 while it takes no part.
    pub priority: u8,
    /// Pools that it can't use, and that cost it some of its priority.
    #[serde(default)]
    pub lost: Vec<Name>,
    /// Addresses that its advertisements come from.
    #[serde(default)]
    pub senders: Vec<IpAddr>,
    /// What keeps it from taking part as it should, a sentence each.
    #[serde(default)]
    pub troubles: Vec<String>,
}
