//! Messages of BGP as this node sends them, and those of routers in words.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::{Ipv4Net, Ipv6Net};
use merismos_core::announcement::RouteAttributes;
use netgauze_bgp_pkt::BgpMessage;
use netgauze_bgp_pkt::capabilities::{
    BgpCapability, FourOctetAsCapability, GracefulRestartAddressFamily, GracefulRestartCapability,
    MultiProtocolExtensionsCapability,
};
use netgauze_bgp_pkt::community::Community as WireCommunity;
use netgauze_bgp_pkt::nlri::{Ipv4Unicast, Ipv4UnicastAddress, Ipv6Unicast, Ipv6UnicastAddress};
use netgauze_bgp_pkt::notification::{BgpNotificationMessage, CeaseError};
use netgauze_bgp_pkt::open::{BgpOpenMessage, BgpOpenMessageParameter};
use netgauze_bgp_pkt::path_attribute::{
    As2PathSegment, As4PathSegment, AsPath, AsPathSegmentType, Communities, LocalPreference, MpReach,
    MpUnreach, MultiExitDiscriminator, NextHop, Origin, PathAttribute, PathAttributeValue,
};
use netgauze_bgp_pkt::update::BgpUpdateMessage;
use netgauze_iana::address_family::AddressType;

use super::PeerPlan;

/// What stands for an AS number of 4 octets where there is room for 2 (RFC 6793, 9).
const AS_TRANS: u16 = 23_456;
/// What routes between routers of one AS are worth by default, and when they go away soon (RFC 4271, 5.1.5; RFC 8326, 4).
const LOCAL_PREFERENCE: (u32, u32) = (100, 0);

/// How a session writes its routes.
#[derive(Clone, Copy, Debug)]
pub(super) struct RouteForm {
    pub(super) as_number: u32,
    /// Whether the router is of the same AS.
    pub(super) is_internal: bool,
    /// Whether the router takes AS numbers of 4 octets (RFC 6793).
    pub(super) takes_four_octets: bool,
    /// This machine's address in the session, where traffic is sent.
    pub(super) next_hop: IpAddr,
}

/// What this node is, and can do.
pub(super) fn open(plan: &PeerPlan, local: IpAddr, restarts: bool) -> BgpMessage {
    let family = family(local.is_ipv6());
    let mut capabilities = vec![
        BgpCapability::MultiProtocolExtensions(MultiProtocolExtensionsCapability::new(family)),
        BgpCapability::RouteRefresh,
        BgpCapability::FourOctetAs(FourOctetAsCapability::new(plan.as_number)),
    ];
    if let Some(time) = plan.restart_time {
        let kept = GracefulRestartAddressFamily::new(true, family);
        let time = u16::try_from(time.as_secs()).unwrap_or(4_095).min(4_095);
        let capability = GracefulRestartCapability::new(restarts, false, time, [kept]);
        capabilities.push(BgpCapability::GracefulRestartCapability(capability));
    }
    let identifier = match local {
        IpAddr::V4(ip) => ip,
        IpAddr::V6(_) => Ipv4Addr::from_bits(plan.identifier),
    };
    let parameters: Vec<_> =
        capabilities.into_iter().map(|one| BgpOpenMessageParameter::new_capabilities([one])).collect();
    let as_number = u16::try_from(plan.as_number).unwrap_or(AS_TRANS);
    let hold_time = u16::try_from(plan.hold_time.as_secs()).unwrap_or(u16::MAX);
    BgpMessage::Open(BgpOpenMessage::new(as_number, hold_time, identifier, parameters))
}

/// Announces an address of the session's family.
pub(super) fn announcement(form: &RouteForm, ip: IpAddr, route: &RouteAttributes) -> BgpMessage {
    let mut attributes = vec![
        known(PathAttributeValue::Origin(Origin::IGP)),
        known(PathAttributeValue::AsPath(path(form, route))),
    ];
    let mut routes = Vec::new();
    let mut other_family = None;
    match (ip, form.next_hop) {
        (IpAddr::V4(ip), IpAddr::V4(next_hop)) => {
            attributes.push(known(PathAttributeValue::NextHop(NextHop::new(next_hop))));
            routes.push(short(ip));
        }
        (IpAddr::V6(ip), IpAddr::V6(next_hop)) => {
            let reach = MpReach::Ipv6Unicast {
                next_hop_global: next_hop,
                next_hop_local: None,
                nlri: [long(ip)].into(),
            };
            other_family = Some(optional(false, PathAttributeValue::MpReach(reach)));
        }
        (IpAddr::V4(_), IpAddr::V6(_)) | (IpAddr::V6(_), IpAddr::V4(_)) => {
            unreachable!("a session has the routes of its own family alone")
        }
    }
    if let Some(med) = route.med {
        let med = MultiExitDiscriminator::new(med);
        attributes.push(optional(false, PathAttributeValue::MultiExitDiscriminator(med)));
    }
    if form.is_internal {
        let (usual, leaving) = LOCAL_PREFERENCE;
        let preference = LocalPreference::new(if route.is_leaving() { leaving } else { usual });
        attributes.push(known(PathAttributeValue::LocalPreference(preference)));
    }
    if !route.communities.is_empty() {
        let communities: Vec<_> =
            route.communities.iter().map(|community| WireCommunity::new(community.0)).collect();
        attributes.push(optional(true, PathAttributeValue::Communities(Communities::new(communities))));
    }
    attributes.extend(other_family);
    BgpMessage::Update(BgpUpdateMessage::new([], attributes, routes))
}

/// Takes an address back.
pub(super) fn withdrawal(ip: IpAddr) -> BgpMessage {
    BgpMessage::Update(match ip {
        IpAddr::V4(ip) => BgpUpdateMessage::new([short(ip)], [], []),
        IpAddr::V6(ip) => {
            let unreach = MpUnreach::Ipv6Unicast { nlri: [long(ip)].into() };
            BgpUpdateMessage::new([], [optional(false, PathAttributeValue::MpUnreach(unreach))], [])
        }
    })
}

/// Says that all routes were sent (End-of-RIB, RFC 4724, 2).
pub(super) fn end_of_routes(is_ipv6: bool) -> BgpMessage {
    let attributes = is_ipv6.then(|| {
        let unreach = MpUnreach::Ipv6Unicast { nlri: [].into() };
        optional(false, PathAttributeValue::MpUnreach(unreach))
    });
    BgpMessage::Update(BgpUpdateMessage::new([], attributes.into_iter().collect::<Vec<_>>(), []))
}

/// Ends a session on purpose.
pub(super) fn cease() -> BgpMessage {
    BgpMessage::Notification(BgpNotificationMessage::CeaseError(CeaseError::AdministrativeShutdown {
        value: [].into(),
    }))
}

/// What a router says when it ends a session, in words.
pub(super) fn notification_in_words(notification: &BgpNotificationMessage) -> String {
    use BgpNotificationMessage as Said;
    use netgauze_bgp_pkt::notification::OpenMessageError as Open;
    let says = match notification {
        Said::OpenMessageError(Open::BadPeerAs { .. }) => {
            "this node's AS number is not the one that it expects (Bad Peer AS): its own configuration names another `as_number`, or no such neighbour"
        }
        Said::OpenMessageError(Open::UnacceptableHoldTime { .. }) => "the hold time does not suit it",
        Said::OpenMessageError(Open::BadBgpIdentifier { .. }) => {
            "another neighbour has this node's identifier, or it is the router's own"
        }
        Said::OpenMessageError(Open::UnsupportedCapability { .. }) => {
            "it wants something of the session that this node does not do (Unsupported Capability): often another address family"
        }
        Said::OpenMessageError(_) => "it does not take what this node says of itself (OPEN Message Error)",
        Said::MessageHeaderError(_) => "it could not read a message (Message Header Error)",
        Said::UpdateMessageError(_) => "it does not take a route (UPDATE Message Error)",
        Said::HoldTimerExpiredError(_) => "it heard nothing for its hold time",
        Said::FiniteStateMachineError(_) => "a message came when it expected another",
        Said::RouteRefreshError(_) => "it could not read a request for routes",
        Said::CeaseError(CeaseError::MaximumNumberOfPrefixesReached { .. }) => {
            "it takes no more routes of this node (Maximum Number of Prefixes)"
        }
        Said::CeaseError(CeaseError::AdministrativeShutdown { .. }) => {
            "it was shut down by its operators (Administrative Shutdown)"
        }
        Said::CeaseError(CeaseError::PeerDeConfigured { .. }) => {
            "this node was taken out of its configuration (Peer De-configured)"
        }
        Said::CeaseError(CeaseError::AdministrativeReset { .. }) => {
            "it was reset by its operators (Administrative Reset)"
        }
        Said::CeaseError(CeaseError::ConnectionRejected { .. }) => {
            "it does not take sessions of this node now (Connection Rejected)"
        }
        Said::CeaseError(CeaseError::OtherConfigurationChange { .. }) => "its configuration was changed",
        Said::CeaseError(CeaseError::ConnectionCollisionResolution { .. }) => {
            "it has another session with this node's identifier"
        }
        Said::CeaseError(CeaseError::OutOfResources { .. }) => "it is out of resources",
        Said::CeaseError(CeaseError::BfdDown { .. }) => "it found the path to this node dead (BFD Down)",
        Said::CeaseError(CeaseError::HardReset { .. }) => "it was reset (Hard Reset)",
    };
    format!("the router ended it: {says}")
}

/// The address family that a session carries.
pub(super) fn family(is_ipv6: bool) -> AddressType {
    if is_ipv6 { AddressType::Ipv6Unicast } else { AddressType::Ipv4Unicast }
}

fn path(form: &RouteForm, route: &RouteAttributes) -> AsPath {
    let times = if form.is_internal { 0 } else { usize::from(route.prepend) + 1 };
    let sequence = AsPathSegmentType::AsSequence;
    match u16::try_from(form.as_number) {
        _ if times == 0 && form.takes_four_octets => AsPath::as4_path_segments([]),
        _ if times == 0 => AsPath::as2_path_segments([]),
        Ok(number) if !form.takes_four_octets => {
            AsPath::as2_path_segments([As2PathSegment::new(sequence, vec![number; times])])
        }
        _ => AsPath::as4_path_segments([As4PathSegment::new(sequence, vec![form.as_number; times])]),
    }
}

/// An attribute that every router knows.
fn known(value: PathAttributeValue) -> PathAttribute {
    PathAttribute::from(false, true, false, false, value).expect("its flags are those of its kind")
}

fn optional(is_transitive: bool, value: PathAttributeValue) -> PathAttribute {
    PathAttribute::from(true, is_transitive, false, false, value).expect("its flags are those of its kind")
}

fn short(ip: Ipv4Addr) -> Ipv4UnicastAddress {
    Ipv4UnicastAddress::new_no_path_id(
        Ipv4Unicast::from_net(Ipv4Net::from(ip)).expect("it is no multicast address"),
    )
}

fn long(ip: std::net::Ipv6Addr) -> Ipv6UnicastAddress {
    Ipv6UnicastAddress::new(
        None,
        Ipv6Unicast::from_net(Ipv6Net::from(ip)).expect("it is no multicast address"),
    )
}
