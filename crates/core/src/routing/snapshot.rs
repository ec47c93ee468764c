//! What a worker needs to know for a request, all of it, and never changed once made.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;

use super::choose_pool::PoolChoice;
use super::dropped_fields::DroppedFields;
use super::frontend_rules::FrontendRules;
use super::request_facts::{KeyRule, RequestFacts, RequestKey};
use crate::balance::{Balance, Excluded, PickContext};
use crate::certificate_choice::CertificateChoice;
use crate::config::document::{
    Algorithm, BalancePer, ClientCertificates, Endpoint, ErrorPages, FailureHandling, HandshakeLimits,
    Pattern, Protocol, ProxyVersion, QueueSettings, UpstreamSettings,
};
use crate::eligibility::{Eligibility, IneligibleReason};
use crate::limits::ClientLimit;
use crate::name::{Name, PoolServer};
use crate::pins::PinRule;
use crate::rules::AccessList;
use crate::runtime::{FrontendRuntime, PoolRuntime, ServerRuntime, ServerRuntimeLimits};

/// One state of everything that traffic depends on.
#[derive(Debug)]
pub struct Snapshot {
    /// Grows by one with each snapshot that a node publishes.
    pub version: u64,
    /// The revision that it was compiled from.
    pub revision: u64,
    /// Frontends by the number of their cell.
    pub(super) frontends: Vec<Option<Arc<Frontend>>>,
    /// Pools in the order of their names.
    pub pools: Vec<Arc<Pool>>,
    /// Every limit of clients, sorted by name.
    pub limits: Arc<[Arc<ClientLimit>]>,
}

/// A frontend as traffic sees it.
#[derive(Clone, Debug)]
pub struct Frontend {
    /// Name of the frontend, as in the document.
    pub name: Name,
    /// Address, port and protocol where it listens.
    pub listen: Endpoint,
    /// What its clients speak.
    pub protocol: Protocol,
    /// What is assigned to servers: a connection, a request, a flow or a datagram.
    pub balance_per: BalancePer,
    /// The most clients connected at once.
    pub connection_limit: u64,
    /// The largest request head, in bytes.
    pub header_size_limit: usize,
    /// The most fields in a request head.
    pub header_count_limit: usize,
    /// The most requests that a client may have under way at once over HTTP/2.
    pub max_concurrent_streams: u32,
    /// From the first byte of a head to its end.
    pub header_timeout: Duration,
    /// The longest rest of a client's connection.
    pub idle_timeout: Duration,
    /// The longest rest of a tunnel.
    pub tunnel_timeout: Duration,
    /// The lowest rate, in bytes a second, at which a client sends and takes; 0 is none.
    pub min_rate: u64,
    /// How long it may be slower.
    pub min_rate_grace: Duration,
    /// Fields of clients that are not trusted which servers do not get.
    pub dropped_fields: DroppedFields,
    /// The longest life of a connection.
    pub max_connection_age: Option<Duration>,
    /// What a client has to say first, when that has a part in where it goes.
    pub first_bytes: Option<FirstBytes>,
    /// What bounds the handshakes of clients; `None` where they do not speak TLS.
    pub handshakes: Option<HandshakeLimits>,
    /// Whether clients are asked for certificates.
    pub client_certificates: Option<ClientCertificates>,
    /// Where every request is redirected; most frontends redirect none.
    pub redirect: Option<HttpsRedirect>,
    /// The field of responses that has browsers refuse plain text (RFC 6797, 6.1), with its line end.
    pub hsts: Option<Box<[u8]>>,
    /// Who may come; `None` where all may.
    pub access: Option<Arc<AccessList>>,
    /// The bodies of the errors that it makes by itself; most frontends give a sentence.
    pub errors: Option<Arc<ErrorPages>>,
    /// Largest body of a request, in bytes.
    pub body_size_limit: u64,
    /// How many requests a client may make over one connection.
    pub requests_per_connection: u32,
    /// What its clients may ask for; most frontends have no limits.
    pub limits: Option<Arc<[Arc<ClientLimit>]>>,
    /// The networks whose word is believed.
    pub trusted: Arc<[IpNet]>,
    /// Whether connections of trusted peers begin with a PROXY protocol header.
    pub proxy_protocol: bool,
    /// The first of its pools; most frontends have no other.
    pub pool: Arc<Pool>,
    /// More pools, when it has more than one.
    pub choice: Option<Box<PoolChoice>>,
    /// The rules that requests are compared with; most frontends have none.
    pub rules: Option<Box<FrontendRules>>,
    /// What is passed on by its server name; most frontends pass on nothing.
    pub passthrough: Option<Box<Passthrough>>,
    /// Whether this is a frontend as those see it whose TLS is passed on.
    pub is_passthrough: bool,
    /// Something ties clients to servers: pins of one of its pools, or that connections are distributed.
    pub ties_clients: bool,
    /// Its identity and counts.
    pub cell: Arc<FrontendRuntime>,
}

/// What is passed on by the name of the server that TLS clients ask for.
#[derive(Clone, Debug)]
pub struct Passthrough {
    pub(super) choice: CertificateChoice,
    pub(super) ways: Box<[PassthroughWay]>,
}

/// Names that are passed on to one pool.
#[derive(Clone, Debug)]
pub(super) struct PassthroughWay {
    pub(super) names: Arc<[String]>,
    /// The frontend as those see it who ask for them.
    pub(super) frontend: Arc<Frontend>,
}

/// How requests in plain text are redirected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HttpsRedirect {
    /// The port at the same host.
    pub port: u16,
    /// The status of the response.
    pub status: u16,
}

/// A pool as traffic sees it.
#[derive(Debug)]
pub struct Pool {
    /// Name of the pool, as in the document.
    pub name: Name,
    /// Whether enough of its servers are eligible for a frontend with several pools to use it.
    pub usable: bool,
    /// The lowest tier that it has, and the one that works, if any does.
    pub tiers: (u8, Option<u8>),
    /// Which algorithm it distributes by.
    pub algorithm: Algorithm,
    /// How it distributes work among the eligible ones of `servers`.
    pub balance: Box<dyn Balance>,
    /// How it distributes work among those that stand by, tier after tier, when all eligible ones are full or have failed it.
    pub(super) spill: Vec<Box<dyn Balance>>,
    /// Whether `hash` passes over a server that has more than its bound.
    pub bounded: bool,
    /// What `hash` goes by.
    pub key_rule: Option<KeyRule>,
    /// What ties clients to its servers.
    pub pin_rule: Option<PinRule>,
    /// Whether any server has a limit.
    pub limited: bool,
    /// How much may wait when all servers are full, and for how long.
    pub queue: QueueSettings,
    /// Whether response times are needed to distribute.
    pub timed: bool,
    /// The PROXY protocol header that its servers want.
    pub proxy_protocol: Option<ProxyVersion>,
    /// How its servers are reached.
    pub reaching: UpstreamSettings,
    /// Another number for each way in which servers are trusted; 0 in plain text. A connection is used again where the number is the one
    /// that it was made with.
    pub trust_id: u64,
    /// All servers in the order of their names, eligible or not; a place in this list is what `balance` picks.
    pub servers: Vec<Server>,
    /// How many servers one request may be offered to, over all tiers and pools.
    pub attempts: usize,
    /// What becomes of work while a server fails.
    pub failing: FailureHandling,
    /// State of the pool that outlives snapshots.
    pub cell: Arc<PoolRuntime>,
}

/// Which server gets a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pick {
    /// The one at this place of the pool.
    Server(usize),
    /// None now: those that are eligible and were not tried are all full.
    Full,
    /// None: every eligible server was tried, or none is.
    NoneEligible,
}

/// How long the steps of an exchange with a server may take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct UpstreamTimeouts {
    /// The longest time until a connection is made (`connect_timeout`).
    pub connect: Duration,
    /// From the end of the request to the answer's first byte.
    pub first_byte: Duration,
    /// From the answer's first byte to its last.
    pub whole_answer: Duration,
    /// The longest rest in the middle of a body.
    pub idle: Duration,
}

/// A server as traffic sees it.
#[derive(Debug)]
pub struct Server {
    /// Pool and name of the server, as in the document.
    pub name: PoolServer,
    /// The first address of the server, with its port.
    pub address: SocketAddr,
    /// Where it listens too.
    pub other_addresses: Box<[SocketAddr]>,
    /// Whether it is eligible, and its expected share.
    pub standing: Eligibility,
    /// How long its steps may take.
    pub times: UpstreamTimeouts,
    /// What it may be given at once.
    pub limits: ServerRuntimeLimits,
    /// Its identity and counts.
    pub cell: Arc<ServerRuntime>,
}

impl Snapshot {
    /// A snapshot without any frontend: what a node runs before its first revision.
    #[must_use]
    pub fn empty() -> Self {
        Self { version: 0, revision: 0, frontends: Vec::new(), pools: Vec::new(), limits: Arc::from([]) }
    }

    /// The frontend with the number of its cell; `None` when this snapshot has no such frontend.
    #[must_use]
    pub fn frontend(&self, id: u32) -> Option<&Arc<Frontend>> {
        self.frontends.get(id as usize)?.as_ref()
    }

    /// All frontends, in the order of their names.
    pub fn frontends(&self) -> impl Iterator<Item = &Arc<Frontend>> {
        self.frontends.iter().flatten()
    }

    /// The frontend of a name.
    #[must_use]
    pub fn frontend_named(&self, name: &Name) -> Option<&Arc<Frontend>> {
        self.frontends().find(|frontend| frontend.name == *name)
    }
}

impl Server {
    /// Whether a client that is tied to it may go on with it: it may while the server drains, unless the operator moves pinned clients,
    /// and not when it is down or withdrawn.
    #[must_use]
    pub fn may_go_on(&self) -> bool {
        match self.standing.reason {
            Some(IneligibleReason::Draining) => !self.standing.pins_move,
            None
            | Some(
                IneligibleReason::AsksToDrain | IneligibleReason::Standby | IneligibleReason::WeightZero,
            ) => true,
            Some(
                IneligibleReason::Withdrawn
                | IneligibleReason::Drained
                | IneligibleReason::Unproven
                | IneligibleReason::AwaitsPass
                | IneligibleReason::Down
                | IneligibleReason::Recovering,
            ) => false,
        }
    }
}

/// What is waited for of a client's first bytes.
#[derive(Clone, Debug)]
pub struct FirstBytes {
    /// How long at most.
    pub within: Duration,
    /// The name of the TLS server that it wants.
    pub wants_name: bool,
    /// What one of these finds.
    pub patterns: Box<[Pattern]>,
}

impl Pool {
    /// Whether the server name that a TLS client asks for has a part in which server it gets.
    #[must_use]
    pub fn goes_by_sni(&self) -> bool {
        self.key_rule.as_ref().is_some_and(KeyRule::has_sni)
            || self.pin_rule.as_ref().is_some_and(PinRule::has_sni)
    }

    /// What decides its servers' shares besides their weights; `None` where weights alone do.
    #[must_use]
    pub fn shares_go_by(&self) -> Option<&'static str> {
        if self.limited && self.algorithm.follows_weights() {
            return Some("the weights and what room each server has");
        }
        (!self.algorithm.follows_weights()).then(|| self.algorithm.goes_by())
    }

    /// The key that a request is distributed by.
    #[must_use]
    pub fn key(&self, facts: &RequestFacts<'_>) -> RequestKey {
        self.key_rule.as_ref().map_or(RequestKey::Unneeded, |rule| rule.key(facts))
    }

    /// Decides which server gets a request. Where the pool has limits, room is taken at the server: give it back
    /// with [`Pool::leave`].
    #[must_use]
    pub fn decide(&self, ask: &PickContext<'_>, tried: &Excluded) -> Pick {
        if !self.limited {
            let place = self.balance.pick(ask, tried);
            return place.or_else(|| self.pick_standby(ask, tried)).map_or(Pick::NoneEligible, Pick::Server);
        }
        match self.with_room(self.balance.as_ref(), ask, tried) {
            Some(place) => Pick::Server(place),
            None if self.servers_of(false).any(|place| !tried.contains(place)) => Pick::Full,
            None if tried.is_empty() => Pick::NoneEligible,
            None => match self.decide_spilling(ask, tried) {
                Pick::Server(place) => Pick::Server(place),
                Pick::Full | Pick::NoneEligible
                    if self.servers_of(true).any(|index| !tried.contains(index)) =>
                {
                    Pick::Full
                }
                Pick::Full | Pick::NoneEligible => Pick::NoneEligible,
            },
        }
    }

    /// A server that stands by, for work that every eligible one has failed: it does not wait for the check's verdict.
    #[cold]
    fn pick_standby(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        if tried.is_empty() {
            return None;
        }
        self.spill.iter().find_map(|balance| balance.pick(ask, tried))
    }

    /// Decides among the servers that stand by, lower tiers first: for when the eligible ones are full.
    #[must_use]
    pub fn decide_spilling(&self, ask: &PickContext<'_>, tried: &Excluded) -> Pick {
        let place = self.spill.iter().find_map(|balance| self.with_room(balance.as_ref(), ask, tried));
        place.map_or(Pick::Full, Pick::Server)
    }

    /// The server that would get work by [`decide_spilling`](Self::decide_spilling), without taking room.
    pub(super) fn standby(&self, ask: &PickContext<'_>) -> Option<PoolServer> {
        let first = |balance: &dyn Balance| {
            let mut full = Excluded::default();
            loop {
                let place = balance.peek(ask, &full)?;
                let server = &self.servers[place];
                if server.cell.room.full(server.limits, ask.now).is_none() {
                    return Some(server.name.clone());
                }
                full.add(place).then_some(())?;
            }
        };
        self.spill.iter().find_map(|balance| first(balance.as_ref()))
    }

    fn with_room(&self, balance: &dyn Balance, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        let mut passed = *tried;
        while let Some(place) = balance.pick(ask, &passed) {
            let server = &self.servers[place];
            if server.cell.room.try_acquire(server.limits, ask.now).is_ok() {
                return Some(place);
            }
            if !passed.add(place) {
                // So many full ones in a row: whichever has room will do. Spilling looks at its own tier by asking.
                let fits = |place: &usize| {
                    let server = &self.servers[*place];
                    !tried.contains(*place) && server.cell.room.try_acquire(server.limits, ask.now).is_ok()
                };
                return self.servers_of(!std::ptr::eq(balance, self.balance.as_ref())).find(fits);
            }
        }
        None
    }

    /// The places of the eligible servers, or of those that stand by.
    fn servers_of(&self, standing_by: bool) -> impl Iterator<Item = usize> {
        let wanted = standing_by.then_some(IneligibleReason::Standby);
        self.servers
            .iter()
            .enumerate()
            .filter(move |(_, server)| server.standing.reason == wanted)
            .map(|(place, _)| place)
    }

    /// Work that was decided for a server has begun; its lane counts it already.
    pub fn begin(&self, ask: &PickContext<'_>, place: usize) {
        self.balance.on_begin(ask, place);
    }

    /// Work at a server has ended; its lane counts it already. Room goes to the first waiter.
    pub fn leave(&self, ask: &PickContext<'_>, place: usize) {
        self.balance.on_end(ask, place);
        if self.limited {
            self.servers[place].cell.room.leave();
            self.cell.line.notify_front();
        }
    }

    /// How many servers could take new work: the eligible ones, and those that stand by.
    #[must_use]
    pub fn able(&self) -> usize {
        let able =
            |server: &&Server| matches!(server.standing.reason, None | Some(IneligibleReason::Standby));
        self.servers.iter().filter(able).count()
    }

    /// How many servers are eligible.
    #[must_use]
    pub fn eligible(&self) -> usize {
        self.servers.iter().filter(|server| server.standing.reason.is_none()).count()
    }
}
