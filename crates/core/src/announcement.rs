//! Which addresses a node announces to the routers beside it, and how (BGP-4, RFC 4271).
//!
//! A node announces single addresses (prefixes of full length) that it has, and nothing else: no mistake of a document can draw other traffic here.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString};

use crate::config::document::{AnnouncementSpec, PoolLossAnswer};
use crate::name::Name;
use crate::time::Wall;

/// A community: a mark on a route that the routers' own rules go by (RFC 1997), written `64500:120`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Community(pub u32);

/// The mark of a route that goes away soon: routers prefer any other (RFC 8326, 4).
pub const GRACEFUL_SHUTDOWN: Community = Community(0xFFFF_0000);

/// A text that is no community.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a community is two numbers up to 65535 with a colon between them, such as 64500:120; found {0:?}")]
pub struct CommunityError(String);

impl FromStr for Community {
    type Err = CommunityError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let part =
            |text: &str| text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse::<u16>().ok())?;
        let both = text.split_once(':').and_then(|(high, low)| Some((part(high)?, part(low)?)));
        let (high, low) = both.ok_or_else(|| CommunityError(text.to_owned()))?;
        Ok(Self(u32::from(high) << 16 | u32::from(low)))
    }
}

impl fmt::Display for Community {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.0 >> 16, self.0 & 0xFFFF)
    }
}

impl Serialize for Community {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Community {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// How an address is announced: what routers choose between the nodes by.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RouteAttributes {
    /// How many times more than once the node's AS number is in the path: routers prefer shorter ones.
    #[serde(default)]
    pub prepend: u8,
    /// Multi-exit discriminator: of routes from one AS, routers prefer the one with the smaller (RFC 4271, 5.1.4).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub med: Option<u32>,
    /// Marks for the routers' own rules, each once and in order.
    #[serde(default)]
    pub communities: Vec<Community>,
}

impl RouteAttributes {
    /// Whether routers are asked to prefer any other route.
    #[must_use]
    pub fn is_leaving(&self) -> bool {
        self.communities.contains(&GRACEFUL_SHUTDOWN)
    }

    /// Asks routers to prefer any other route.
    pub fn ask_to_leave(&mut self) {
        self.mark([GRACEFUL_SHUTDOWN]);
    }

    fn mark(&mut self, communities: impl IntoIterator<Item = Community>) {
        self.communities.extend(communities);
        self.communities.sort_unstable();
        self.communities.dedup();
    }
}

/// How far a node is in leaving its work: by an order, or as it is about to stop.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum LeaveProgress {
    /// It stays.
    #[default]
    Stays,
    /// It is about to leave: routers are asked to send the traffic elsewhere.
    Leaves,
    /// The time for that is over.
    Left,
}

/// What a node knows when it decides about one address.
#[derive(Clone, Copy, Debug)]
pub struct AnnouncementFacts<'a> {
    /// Whether a frontend listens at the address here.
    pub is_listened_at: bool,
    /// Pools that have had too few servers for long enough to count.
    pub lost: &'a [Name],
    /// Whether the node leaves.
    pub leaves: LeaveProgress,
}

/// Why an address is not announced.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, Display, EnumString)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum WithheldReason {
    /// No frontend listens at it on this node.
    NoListener,
    /// Pools that it is announced for have too few eligible servers.
    PoolsLost,
    /// The node is drained, or about to stop.
    NodeLeaves,
}

impl WithheldReason {
    /// The reason, for people.
    #[must_use]
    pub fn in_words(self) -> &'static str {
        match self {
            Self::NoListener => "no frontend listens at it",
            Self::PoolsLost => "too few servers of its pools are eligible",
            Self::NodeLeaves => "the node is drained, or about to stop",
        }
    }
}

/// How an address is announced, or why it is not.
///
/// # Errors
/// Why it is not announced.
pub fn announced(
    spec: &AnnouncementSpec,
    facts: &AnnouncementFacts<'_>,
) -> Result<RouteAttributes, WithheldReason> {
    if facts.leaves == LeaveProgress::Left {
        return Err(WithheldReason::NodeLeaves);
    }
    if !facts.is_listened_at {
        return Err(WithheldReason::NoListener);
    }
    let mut route = RouteAttributes { prepend: 0, med: spec.med, communities: Vec::new() };
    route.mark(spec.communities.iter().copied());
    if !facts.lost.is_empty() {
        match spec.when_pools_fail {
            PoolLossAnswer::Withdraw => return Err(WithheldReason::PoolsLost),
            PoolLossAnswer::Prepend => route.prepend = spec.loss_prepend.unwrap_or(3),
            PoolLossAnswer::Med => route.med = Some(spec.loss_med.unwrap_or(1_000)),
            PoolLossAnswer::Community => route.mark(spec.loss_communities.iter().copied()),
        }
    }
    if facts.leaves == LeaveProgress::Leaves {
        route.ask_to_leave();
    }
    Ok(route)
}

/// Where a session with a router stands (RFC 4271, 8.2.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, Display, EnumString)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum SessionState {
    /// It waits before it tries again (Idle).
    Idle,
    /// A connection is being made (Connect).
    Connect,
    /// What this node is was sent; what the router is has not come yet (`OpenSent`).
    OpenSent,
    /// Both said what they are (`OpenConfirm`).
    OpenConfirm,
    /// Routes are exchanged (Established).
    Established,
}

/// What a node says of its session with one router.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SessionReport {
    /// The router.
    pub peer: IpAddr,
    /// Where the session stands.
    pub state: SessionState,
    /// Since when.
    pub since: Wall,
    /// Why the last one ended, or was not had.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// What a node says of one address that it may announce.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RouteReport {
    /// The address.
    pub address: IpAddr,
    /// How it is announced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub route: Option<RouteAttributes>,
    /// Why it is not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub withheld: Option<WithheldReason>,
}

/// What a node says of one object of announced addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AnnouncementReport {
    /// Its sessions, in the order of the document.
    pub sessions: Vec<SessionReport>,
    /// Its addresses, in the order of the document.
    pub routes: Vec<RouteReport>,
    /// Pools that have too few servers, as this node sees it.
    #[serde(default)]
    pub lost: Vec<Name>,
    /// What is wrong here, a sentence each.
    #[serde(default)]
    pub troubles: Vec<String>,
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::config::{DocumentFormat, load};

    fn spec(more: &str) -> AnnouncementSpec {
        let text = format!(
            "format = 3\n[pools.booking]\nservers.gull = {{ address = \"192.0.2.21:80\" }}\n[announce.edge]\naddresses = [\"198.51.100.10\"]\nas_number = 64500\n\
             peers = [\"192.0.2.254\"]\npeer_as = 64501\nmed = 10\ncommunities = [\"64500:120\"]\npools = [\"booking\"]\n{more}\n"
        );
        let checked = load(&text, DocumentFormat::Toml).unwrap();
        checked.document().announce[&"edge".parse().unwrap()].clone()
    }

    fn route(prepend: u8, med: u32, communities: &[&str]) -> Result<RouteAttributes, WithheldReason> {
        let communities = communities.iter().map(|text| text.parse().unwrap()).collect();
        Ok(RouteAttributes { prepend, med: Some(med), communities })
    }

    #[rstest]
    #[case::well("", true, false, LeaveProgress::Stays, route(0, 10, &["64500:120"]))]
    #[case::nothing_listens("", false, false, LeaveProgress::Stays, Err(WithheldReason::NoListener))]
    #[case::lost("", true, true, LeaveProgress::Stays, Err(WithheldReason::PoolsLost))]
    #[case::prepended("when_pools_fail = \"prepend\"", true, true, LeaveProgress::Stays, route(3, 10, &["64500:120"]))]
    #[case::prepended_more("when_pools_fail = \"prepend\"\nloss_prepend = 5", true, true, LeaveProgress::Stays, route(5, 10, &["64500:120"]))]
    #[case::not_lost("when_pools_fail = \"prepend\"", true, false, LeaveProgress::Stays, route(0, 10, &["64500:120"]))]
    #[case::farther("when_pools_fail = \"med\"\nloss_med = 400", true, true, LeaveProgress::Stays, route(0, 400, &["64500:120"]))]
    #[case::marked(
        "when_pools_fail = \"community\"\nloss_communities = [\"64500:66\", \"64500:120\"]",
        true, true, LeaveProgress::Stays, route(0, 10, &["64500:66", "64500:120"])
    )]
    #[case::leaves("", true, false, LeaveProgress::Leaves, route(0, 10, &["64500:120", "65535:0"]))]
    #[case::left("", true, false, LeaveProgress::Left, Err(WithheldReason::NodeLeaves))]
    #[case::leaves_without_listener("", false, false, LeaveProgress::Leaves, Err(WithheldReason::NoListener))]
    fn an_address_is_announced_by_what_the_node_can_do(
        #[case] more: &str,
        #[case] is_listened_at: bool,
        #[case] is_lost: bool,
        #[case] leaves: LeaveProgress,
        #[case] expected: Result<RouteAttributes, WithheldReason>,
    ) {
        let lost: Vec<Name> = is_lost.then(|| "booking".parse().unwrap()).into_iter().collect();
        let facts = AnnouncementFacts { is_listened_at, lost: &lost, leaves };
        assert_eq!(announced(&spec(more), &facts), expected);
    }

    #[rstest]
    #[case("64500:120", Some(0xFBF4_0078))]
    #[case("65535:0", Some(GRACEFUL_SHUTDOWN.0))]
    #[case("0:0", Some(0))]
    #[case("65536:1", None)]
    #[case("1:65536", None)]
    #[case("1", None)]
    #[case("+1:2", None)]
    #[case("1:2:3", None)]
    #[case(":", None)]
    #[case("", None)]
    fn communities_are_two_numbers(#[case] text: &str, #[case] number: Option<u32>) {
        let read = text.parse::<Community>().ok();
        assert_eq!(read, number.map(Community));
        assert_eq!(read.map(|read| read.to_string()), number.map(|_| text.to_owned()));
    }
}
