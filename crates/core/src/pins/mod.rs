//! Persistence: what ties a client to its server.

mod crowding;
mod former;
mod skew;
mod table;
mod token;

pub use crowding::{CrowdingChange, PinCrowding};
pub use former::FormerNames;
pub use skew::{PinSkew, ServerShares, SkewChange};
pub use table::{KeptPin, LearnedPin, PinDigest, PinLimits, PinTable};
pub use token::{PinClaim, PinKey};

use std::collections::BTreeMap;
use std::fmt;
use std::net::IpAddr;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::config::document::{Pattern, Persistence, PersistenceKind, PinWhenGone};
use crate::draw::{digest, mix};
use crate::name::Name;
use crate::routing::{RequestFacts, masked};
use crate::runtime::PoolRuntime;
use crate::units::Span;

/// The most learned pins of a pool that says nothing of it.
const USUAL_LIMIT: u32 = 100_000;
/// Default of `pin_idle`.
const USUAL_IDLE_SECONDS: u32 = 30 * 60;

/// The number that a pin names a server by. It is made of the name alone: its reader learns no address, and it is
/// the same on every node and after a restart.
#[must_use]
pub fn identity(server: &Name) -> u64 {
    digest(server.as_str().as_bytes())
}

/// How the clients of a pool are tied to its servers.
#[derive(Clone, Debug)]
pub struct PinRule {
    /// In order of preference.
    kinds: Box<[PinKind]>,
    /// What becomes of a client whose server can't have it.
    pub when_gone: PinWhenGone,
    /// The cookie of the service, where it is one of the kinds.
    pub cookie: Option<CookiePin>,
    /// Whether pins that are kept here outlive the service.
    pub keep: bool,
    /// Where pins of the other kinds are kept, and for how long.
    pub learned: Option<(Arc<PinTable>, PinLimits)>,
    prefix_ipv4: u8,
    prefix_ipv6: u8,
    /// The places of the servers by their identities, those of former names too, in order.
    servers: Box<[(u64, u32)]>,
}

/// A kind of persistence, with the digest of its name: the same value under two names makes two keys.
#[derive(Clone, Debug)]
struct PinKind {
    kind: PersistenceKind,
    seed: u64,
    /// What its pins carry.
    mark: u8,
    /// That of `first-bytes`.
    pattern: Option<Pattern>,
}

/// The cookie of the service that ties clients.
#[derive(Clone, Debug)]
pub struct CookiePin {
    /// Its name.
    pub name: String,
    /// What follows the value in its field: where it is sent, and for how long.
    attributes: [String; 2],
    /// How long a pin holds, in minutes.
    lifetime_minutes: Option<u32>,
    /// The number of the pool, or of its group, so that a pin of other pools is none here.
    pool: u64,
    /// Its numbers under former names, the newest first, and that of a pool that belongs to a group.
    former_pools: Box<[u64]>,
    /// What it is signed with.
    key: PinKey,
    /// Where values are counted that are not taken.
    cell: Arc<PoolRuntime>,
}

/// What pins need beside the configuration; it outlives each snapshot.
#[derive(Clone, Debug)]
pub struct PinGround {
    /// Where pins of the kinds are that are kept here.
    pub table: Arc<PinTable>,
    /// What cookies are signed with; without it no cookie ties.
    pub key: Option<PinKey>,
    /// The pool's cell.
    pub cell: Arc<PoolRuntime>,
}

/// The moment of a look: pins count whole seconds and minutes of their own.
#[derive(Clone, Copy, Debug)]
pub struct PinMoment {
    /// Minutes since 1970, as cookies count.
    pub minute: u32,
    /// Seconds by a monotonic clock, as learned pins count.
    pub second: u32,
}

/// What a request says of its client's server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PinLookup {
    /// It carries none of the kinds: it may get a cookie.
    None,
    /// It carries this kind, and its client has no server yet, or one that is not there any more. The key is learned with the server
    /// that is selected.
    Unpinned {
        /// The place of the kind among the rule's.
        kind: u8,
        /// What its pin is kept under.
        key: PinDigest,
    },
    /// Its client is tied to a server.
    Pinned {
        /// The place of the server in the pool.
        place: usize,
        /// The place of the kind among the rule's.
        kind: u8,
        /// What its pin is kept under; `None` of a cookie, which carries it.
        key: Option<PinDigest>,
        /// The minute of a cookie that has to be signed anew, with the key of now.
        signed_before: Option<u32>,
    },
}

impl PinRule {
    /// A rule for the servers of a pool, in the order of their places. What a server is called now goes before what
    /// another one was called. `None` when nothing ties clients.
    pub fn new<'n>(
        pool: &Name,
        settings: &Persistence,
        names: impl Iterator<Item = &'n Name>,
        former: &FormerNames,
        ground: PinGround,
    ) -> Option<Self> {
        if !settings.ties_clients() {
            return None;
        }
        let mut places: BTreeMap<u64, u32> = names.map(identity).zip(0..).collect();
        for (name, now) in former.servers() {
            if let Some(place) = places.get(&identity(now)).copied() {
                places.entry(identity(name)).or_insert(place);
            }
        }
        let kinds = settings.by.0.iter().map(|kind| PinKind {
            seed: digest(kind.to_string().as_bytes()),
            mark: mark_of(kind),
            pattern: match kind {
                PersistenceKind::FirstBytes(pattern) => pattern.parse().ok(),
                _ => None,
            },
            kind: kind.clone(),
        });
        let seconds = |span: Span| u32::try_from(span.get().as_secs().max(1)).unwrap_or(u32::MAX);
        let limits = PinLimits {
            pins: u64::from(settings.limit.unwrap_or(USUAL_LIMIT)),
            idle: settings.idle.map_or(USUAL_IDLE_SECONDS, seconds),
            lifetime: settings.lifetime.map(seconds),
        };
        let is_learned = settings.by.0.iter().any(PersistenceKind::is_learned);
        Some(Self {
            kinds: kinds.collect(),
            when_gone: settings.when_gone,
            keep: settings.keep,
            cookie: ground
                .key
                .filter(|_| settings.has(&PersistenceKind::Cookie))
                .map(|key| CookiePin::new(pool, settings, former, key, ground.cell)),
            learned: is_learned.then_some((ground.table, limits)),
            prefix_ipv4: settings.prefix_ipv4.unwrap_or(32),
            prefix_ipv6: settings.prefix_ipv6.unwrap_or(64),
            servers: places.into_iter().collect(),
        })
    }

    /// What a request says of its client's server: the first kind that it carries decides. A learned pin that is found counts as used.
    #[must_use]
    pub fn look_up(&self, facts: &RequestFacts<'_>, now: PinMoment) -> PinLookup {
        let refused = || {
            if let Some(cookie) = &self.cookie {
                cookie.cell.note_refused_cookie();
            }
        };
        self.look(facts, now.minute, refused, |table, limits, digest| table.get(digest, now.second, limits))
    }

    /// As [`look_up`](Self::look_up), without using a pin: for those who only ask.
    #[must_use]
    pub fn peek(&self, facts: &RequestFacts<'_>, now: PinMoment) -> PinLookup {
        self.look(facts, now.minute, || {}, |table, limits, digest| table.peek(digest, now.second, limits))
    }

    fn look(
        &self,
        facts: &RequestFacts<'_>,
        minute: u32,
        refused: impl Fn(),
        learned: impl Fn(&PinTable, &PinLimits, PinDigest) -> Option<LearnedPin>,
    ) -> PinLookup {
        for (kind, number) in self.kinds.iter().zip(0..) {
            if kind.kind == PersistenceKind::Cookie {
                let Some(cookie) = &self.cookie else { continue };
                // A cookie that was forged, is over or is another pool's is none, and so is one of a server that is gone.
                for value in facts.cookies(&cookie.name) {
                    let claim = cookie.read(value, minute);
                    if claim.is_none() {
                        refused();
                    }
                    if let Some((claim, place)) =
                        claim.and_then(|claim| Some((claim, self.place(claim.server)?)))
                    {
                        let signed_before = claim.by_former_key.then_some(claim.minute);
                        return PinLookup::Pinned { place, kind: number, key: None, signed_before };
                    }
                }
                continue;
            }
            let (Some(key), Some((table, limits))) = (self.key(kind, facts), &self.learned) else { continue };
            let pin = learned(table, limits, key);
            return match pin.and_then(|pin| self.place(pin.server)) {
                Some(place) => PinLookup::Pinned { place, kind: number, key: Some(key), signed_before: None },
                None => PinLookup::Unpinned { kind: number, key },
            };
        }
        PinLookup::None
    }

    /// What the pin of a request is kept under; `None` when the request does not carry the kind.
    fn key(&self, kind: &PinKind, facts: &RequestFacts<'_>) -> Option<PinDigest> {
        let of = |bytes: &[u8]| Some(PinDigest(mix(kind.seed ^ digest(bytes))));
        match &kind.kind {
            PersistenceKind::Cookie => None,
            PersistenceKind::ClientAddress => {
                match masked(facts.client, self.prefix_ipv4, self.prefix_ipv6) {
                    IpAddr::V4(address) => of(&address.octets()),
                    IpAddr::V6(address) => of(&address.octets()),
                }
            }
            PersistenceKind::ClientAddressAndPort => {
                let port = facts.port?.to_be_bytes();
                match facts.client.to_canonical() {
                    IpAddr::V4(address) => of(&[&address.octets()[..], &port].concat()),
                    IpAddr::V6(address) => of(&[&address.octets()[..], &port].concat()),
                }
            }
            PersistenceKind::Sni => of(facts.sni?.as_bytes()),
            PersistenceKind::FirstBytes(_) => of(kind.pattern.as_ref()?.find(facts.first_bytes?)?),
            PersistenceKind::Header(name) => of((facts.field)(name)?),
            PersistenceKind::Query(name) => of(facts.query(name)?),
            PersistenceKind::ApplicationCookie(name) => {
                facts.cookies(name).find(|value| !value.is_empty()).and_then(of)
            }
        }
    }

    /// A learned pin with the second at which it ends if it is not used again.
    #[must_use]
    pub fn learned_pin(&self, key: PinDigest, second: u32) -> Option<(LearnedPin, u32)> {
        let (table, limits) = self.learned.as_ref()?;
        let pin = table.peek(key, second, limits)?;
        Some((pin, limits.end(&pin)))
    }

    /// The first kind that ties clients by something other than cookies.
    #[must_use]
    pub fn without_cookie(&self) -> Option<&PersistenceKind> {
        let mut kinds = self.kinds.iter().map(|kind| &kind.kind);
        kinds.find(|kind| !matches!(kind, PersistenceKind::Cookie | PersistenceKind::ApplicationCookie(_)))
    }

    /// The names of the cookies that tie clients, in order of preference.
    pub fn cookie_names(&self) -> impl Iterator<Item = &str> {
        self.kinds.iter().filter_map(|kind| match &kind.kind {
            PersistenceKind::Cookie => self.cookie.as_ref().map(|cookie| cookie.name.as_str()),
            PersistenceKind::ApplicationCookie(name) => Some(name.as_str()),
            _ => None,
        })
    }

    /// Ties a client to a server from now on.
    pub fn learn(&self, PinLearned { kind, key, client }: PinLearned, server: &Name, second: u32) {
        if let Some((table, limits)) = &self.learned {
            let mark = self.kinds.get(usize::from(kind)).map_or(0, |kind| kind.mark);
            let pin = LearnedPin { server: identity(server), client, kind: mark, made: second, used: second };
            table.put(key, pin, limits);
        }
    }

    /// What a `Set-Cookie` field of a response ties to the server that sent it: the application began a session with its client.
    #[must_use]
    pub fn of_set_cookie(&self, value: &[u8], client: IpAddr) -> Option<PinLearned> {
        let pair = value.split(|byte| *byte == b';').next()?.trim_ascii();
        let at = pair.iter().position(|byte| *byte == b'=')?;
        let (name, value) = (pair[..at].trim_ascii(), pair[at + 1..].trim_ascii());
        let is_named = |(kind, _): &(&PinKind, u8)| matches!(&kind.kind, PersistenceKind::ApplicationCookie(known) if known.as_bytes() == name);
        let (kind, number) = self.kinds.iter().zip(0..).find(is_named).filter(|_| !value.is_empty())?;
        Some(PinLearned { kind: number, key: PinDigest(mix(kind.seed ^ digest(value))), client })
    }

    /// Whether pins are learned from responses.
    #[must_use]
    pub fn reads_responses(&self) -> bool {
        self.kinds.iter().any(|kind| matches!(kind.kind, PersistenceKind::ApplicationCookie(_)))
    }

    /// Whether the server name that a TLS client asks for is one of the kinds.
    #[must_use]
    pub fn has_sni(&self) -> bool {
        self.kinds.iter().any(|kind| kind.kind == PersistenceKind::Sni)
    }

    /// What is looked for in the first bytes of a client.
    pub fn patterns(&self) -> impl Iterator<Item = &Pattern> {
        self.kinds.iter().filter_map(|kind| kind.pattern.as_ref())
    }

    /// One of the kinds, by its place.
    #[must_use]
    pub fn kind(&self, number: u8) -> Option<&PersistenceKind> {
        self.kinds.get(usize::from(number)).map(|kind| &kind.kind)
    }

    /// The kind that made a learned pin.
    #[must_use]
    pub fn kind_of(&self, pin: &LearnedPin) -> Option<&PersistenceKind> {
        self.kinds.iter().find(|kind| kind.mark == pin.kind).map(|kind| &kind.kind)
    }

    /// The place of a server by its identity, also that of a former name; `None` when it is not there any more.
    #[must_use]
    pub fn place(&self, identity: u64) -> Option<usize> {
        let found = self.servers.binary_search_by_key(&identity, |(known, _)| *known).ok()?;
        Some(self.servers[found].1 as usize)
    }
}

/// Whose pins a table holds.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PinScope {
    /// Those of one pool.
    Pool(Name),
    /// Those of all pools of a group.
    Group(Name),
}

impl PinScope {
    /// Where the learned pins of a pool are.
    #[must_use]
    pub fn of(pool: &Name, settings: &Persistence) -> Self {
        settings.group.clone().map_or_else(|| Self::Pool(pool.clone()), Self::Group)
    }
}

impl fmt::Display for PinScope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Pool(name) => write!(f, "pool {name}"),
            Self::Group(name) => write!(f, "group {name}"),
        }
    }
}

/// What learned pins carry of their kind: the same for every pool and in every process. Two kinds rarely share one, and then a pin
/// may be shown as of the other kind; what a pin is kept under tells them apart.
#[must_use]
pub fn mark_of(kind: &PersistenceKind) -> u8 {
    digest(kind.to_string().as_bytes()) as u8
}

/// A pin that is to be kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PinLearned {
    /// The place of its kind among the rule's.
    pub kind: u8,
    /// What it is kept under.
    pub key: PinDigest,
    /// Where its client came from.
    pub client: IpAddr,
}

impl CookiePin {
    fn new(
        pool: &Name,
        settings: &Persistence,
        former: &FormerNames,
        key: PinKey,
        cell: Arc<PoolRuntime>,
    ) -> Self {
        let lifetime_minutes =
            settings.lifetime.map(|span| u32::try_from(span.get().as_secs() / 60).unwrap_or(u32::MAX));
        // Pins from before the pool joined its group go on to hold.
        let (own, of_group) = (number(pool), settings.group.as_ref().map(group_number));
        Self {
            name: settings.cookie_name().to_owned(),
            attributes: [false, true].map(|secure| attributes(settings, lifetime_minutes, secure)),
            lifetime_minutes,
            pool: of_group.unwrap_or(own),
            former_pools: of_group.map(|_| own).into_iter().chain(former.pools().map(number)).collect(),
            key,
            cell,
        }
    }

    /// What a value says, at a minute since 1970; `None` when it was not we who wrote it, when it was for another pool, or when its
    /// time is over.
    fn read(&self, value: &[u8], minute: u32) -> Option<PinClaim> {
        let mut pools = std::iter::once(&self.pool).chain(&self.former_pools);
        let pinned = pools.find_map(|pool| self.key.read(*pool, value))?;
        self.holds(pinned.minute, minute).then_some(pinned)
    }

    /// Appends the value that ties a client to a server from a minute since 1970 on.
    fn write(&self, server: &Name, minute: u32, out: &mut Vec<u8>) {
        self.key.write(self.pool, identity(server), minute, out);
    }

    /// The field that ties a client to a server from a minute since 1970 on, with its line end (RFC 6265, 4.1). A client that speaks
    /// TLS is told to send the cookie over nothing else.
    #[must_use]
    pub fn field(&self, server: &Name, minute: u32, is_secure: bool) -> Vec<u8> {
        let mut field = format!("Set-Cookie: {}=", self.name).into_bytes();
        self.write(server, minute, &mut field);
        field.extend_from_slice(self.attributes[usize::from(is_secure)].as_bytes());
        field.extend_from_slice(b"\r\n");
        field
    }

    /// Whether a pin made at a minute still holds at another.
    fn holds(&self, made: u32, now: u32) -> bool {
        self.lifetime_minutes.is_none_or(|lifetime| now.saturating_sub(made) <= lifetime)
    }
}

fn number(pool: &Name) -> u64 {
    digest(pool.as_str().as_bytes())
}

/// No name of a pool begins like this, so a group has no pool's number.
fn group_number(group: &Name) -> u64 {
    digest(format!("group {group}").as_bytes())
}

fn attributes(settings: &Persistence, lifetime_minutes: Option<u32>, is_secure: bool) -> String {
    let path = settings.path.as_deref().unwrap_or("/");
    let mut text = format!("; Path={path}; HttpOnly; SameSite={}", settings.same_site.attribute(is_secure));
    if is_secure {
        text += "; Secure";
    }
    if let Some(domain) = &settings.domain {
        text += &format!("; Domain={domain}");
    }
    if let Some(minutes) = lifetime_minutes {
        text += &format!("; Max-Age={}", u64::from(minutes) * 60);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::document::{CookieSameSite, OneOrMore};

    fn name(name: &str) -> Name {
        name.parse().unwrap()
    }

    fn rule(pool: &str, names: &[&str], former: &FormerNames) -> PinRule {
        let names: Vec<Name> = names.iter().copied().map(name).collect();
        let settings = Persistence { lifetime: Some("60m".parse().unwrap()), ..cookie() };
        made(pool, &settings, names.iter(), former)
    }

    fn cookie() -> Persistence {
        Persistence { by: OneOrMore(vec![PersistenceKind::Cookie]), ..Persistence::default() }
    }

    fn made<'n>(
        pool: &str,
        settings: &Persistence,
        names: impl Iterator<Item = &'n Name>,
        former: &FormerNames,
    ) -> PinRule {
        PinRule::new(&name(pool), settings, names, former, ground(&[7; 32])).unwrap()
    }

    fn ground(secret: &[u8; 32]) -> PinGround {
        let key = Some(PinKey::new(secret));
        PinGround { table: Arc::new(PinTable::new(3)), key, cell: Arc::default() }
    }

    fn pin(rule: &PinRule, server: &str) -> Vec<u8> {
        let mut value = Vec::new();
        rule.cookie.as_ref().unwrap().write(&name(server), 1_000, &mut value);
        value
    }

    /// The place that a value of the cookie names.
    fn read(rule: &PinRule, value: &[u8], minute: u32) -> Option<usize> {
        rule.place(rule.cookie.as_ref().unwrap().read(value, minute)?.server)
    }

    #[test]
    fn servers_are_found_by_their_pins_and_pins_end() {
        let names = ["auk", "gull", "tern"];
        let rule = rule("booking", &names, &FormerNames::default());
        for (place, name) in names.iter().enumerate() {
            assert_eq!(read(&rule, &pin(&rule, name), 1_060), Some(place));
        }
        assert_eq!(read(&rule, &pin(&rule, "petrel"), 1_000), None);
        let gull = pin(&rule, "gull");
        assert_eq!(read(&rule, &gull, 1_061), None);
        assert_eq!(read(&rule, &gull, 900), Some(1), "a clock that was set back ends no pin");
    }

    fn grouped(pool: &str, group: Option<&str>, names: &[&str]) -> PinRule {
        let settings = Persistence { group: group.map(name), ..cookie() };
        let names: Vec<Name> = names.iter().copied().map(name).collect();
        made(pool, &settings, names.iter(), &FormerNames::default())
    }

    #[test]
    fn a_pin_holds_in_every_pool_of_its_group_and_in_no_other() {
        let plain = grouped("plain", Some("site"), &["auk", "gull"]);
        let other = grouped("encrypted", Some("site"), &["gull", "tern"]);
        let gull = pin(&plain, "gull");
        assert_eq!(read(&other, &gull, 1_000), Some(0), "the server of the same name");
        assert_eq!(read(&other, &pin(&plain, "auk"), 1_000), None, "it has no such server");
        assert_eq!(read(&grouped("encrypted", Some("shop"), &["gull"]), &gull, 1_000), None);
        assert_eq!(read(&grouped("site", None, &["gull"]), &gull, 1_000), None, "a pool is not a group");
    }

    #[test]
    fn a_pool_that_joins_a_group_keeps_its_clients() {
        let before = grouped("plain", None, &["auk", "gull"]);
        let after = grouped("plain", Some("site"), &["auk", "gull"]);
        assert_eq!(read(&after, &pin(&before, "gull"), 1_000), Some(1));
        assert_eq!(read(&before, &pin(&after, "gull"), 1_000), None, "one that leaves it does not");
    }

    #[test]
    fn the_field_says_where_the_cookie_is_sent_and_for_how_long() {
        let settings = Persistence {
            cookie: Some("visit".to_owned()),
            lifetime: Some("2h".parse().unwrap()),
            domain: Some("skerry.example".to_owned()),
            path: Some("/booking".to_owned()),
            same_site: CookieSameSite::Strict,
            ..cookie()
        };
        let gull = name("gull");
        let rule = made("booking", &settings, [&gull].into_iter(), &FormerNames::default());
        let cookie = rule.cookie.unwrap();
        let secure = String::from_utf8(cookie.field(&gull, 1_000, true)).unwrap();
        assert!(secure.contains("; SameSite=Strict; Secure; Domain=skerry.example"), "{secure}");
        let field = String::from_utf8(cookie.field(&gull, 1_000, false)).unwrap();
        let (value, attributes) = field.split_once("; ").unwrap();
        assert!(value.starts_with("Set-Cookie: visit="), "{value}");
        assert_eq!(
            attributes,
            "Path=/booking; HttpOnly; SameSite=Strict; Domain=skerry.example; Max-Age=7200\r\n"
        );
    }

    #[test]
    fn pins_go_with_renamed_servers_and_pools() {
        let before = rule("booking", &["auk", "gull"], &FormerNames::default());
        let (auk, gull) = (pin(&before, "auk"), pin(&before, "gull"));
        let mut former = FormerNames::default();
        former.pool_was(name("booking"));
        former.server_was(name("gull"), name("puffin"));
        let now = rule("tickets", &["auk", "puffin"], &former);
        assert_eq!((read(&now, &auk, 1_000), read(&now, &gull, 1_000)), (Some(0), Some(1)));
        assert_eq!(read(&now, &pin(&now, "puffin"), 1_000), Some(1));

        former.server_was(name("puffin"), name("skua"));
        let twice = rule("tickets", &["auk", "skua"], &former);
        assert_eq!(read(&twice, &gull, 1_000), Some(1), "over two renames");
        let again = rule("tickets", &["auk", "gull", "skua"], &former);
        assert_eq!(read(&again, &gull, 1_000), Some(1), "the name is another server's now");
        let gone = rule("tickets", &["auk"], &former);
        assert_eq!(read(&gone, &gull, 1_000), None);
    }

    fn kinds(kinds: &[&str]) -> Persistence {
        let by = OneOrMore(kinds.iter().map(|kind| kind.parse().unwrap()).collect());
        Persistence { by, ..Persistence::default() }
    }

    const NOW: PinMoment = PinMoment { minute: 1_000, second: 60_000 };

    fn look(rule: &PinRule, target: &str, fields: &[(&str, &str)]) -> PinLookup {
        let field =
            |name: &str| fields.iter().find(|(known, _)| *known == name).map(|(_, value)| value.as_bytes());
        let facts = RequestFacts {
            target: Some(target),
            field: &field,
            ..RequestFacts::of_client("192.0.2.7".parse().unwrap())
        };
        rule.look_up(&facts, NOW)
    }

    fn unpinned(lookup: PinLookup) -> PinLearned {
        let PinLookup::Unpinned { kind, key } = lookup else { panic!("{lookup:?}") };
        PinLearned { kind, key, client: "192.0.2.7".parse().unwrap() }
    }

    #[test]
    fn the_first_kind_that_a_request_carries_decides() {
        let settings = kinds(&["cookie", "header:X-Account", "query:day", "client-address"]);
        let names = ["auk", "gull"].map(name);
        let rule = made("booking", &settings, names.iter(), &FormerNames::default());
        let account = [("x-account", "17")];
        let by_account = unpinned(look(&rule, "/?day=3", &account));
        assert_eq!(rule.kind(by_account.kind), Some(&PersistenceKind::Header("x-account".to_owned())));
        rule.learn(by_account, &name("gull"), NOW.second);
        assert!(matches!(look(&rule, "/", &account), PinLookup::Pinned { place: 1, kind: 1, .. }));
        let by_day = unpinned(look(&rule, "/?day=3", &[]));
        assert_eq!(by_day.kind, 2, "another value of another kind is another client");
        assert_eq!(unpinned(look(&rule, "/", &[])).kind, 3);
        let visit = String::from_utf8(pin(&rule, "auk")).unwrap();
        let cookie = format!("lang=en; merismos-pin={visit}");
        let both = [("cookie", cookie.as_str()), ("x-account", "17")];
        let pinned = PinLookup::Pinned { place: 0, kind: 0, key: None, signed_before: None };
        assert_eq!(look(&rule, "/", &both), pinned);
        let cell = Arc::clone(&rule.cookie.as_ref().unwrap().cell);
        assert_eq!(cell.refused_cookies(), 0);
        let forged = [("cookie", "merismos-pin=forged"), ("x-account", "17")];
        assert!(matches!(look(&rule, "/", &forged), PinLookup::Pinned { place: 1, kind: 1, .. }));
        assert_eq!(cell.refused_cookies(), 1, "it is counted");
        // Of several the first that is ours decides.
        let cookie = format!("merismos-pin=; merismos-pin={visit}; merismos-pin={}", "x".repeat(5_000));
        assert_eq!(look(&rule, "/", &[("cookie", cookie.as_str())]), pinned);
        assert_eq!(cell.refused_cookies(), 2);
    }

    #[test]
    fn a_cookie_of_the_key_before_holds_and_is_to_be_signed_anew_as_of_its_own_time() {
        let names = ["auk", "gull"].map(name);
        let before = made("booking", &cookie(), names.iter(), &FormerNames::default());
        let value = String::from_utf8(pin(&before, "gull")).unwrap();
        let rule = |key| {
            let ground = PinGround { key: Some(key), ..ground(&[0; 32]) };
            PinRule::new(&name("booking"), &cookie(), names.iter(), &FormerNames::default(), ground).unwrap()
        };
        let cookie = format!("merismos-pin={value}");
        let carried = [("cookie", cookie.as_str())];
        let after = rule(PinKey::new(&[8; 32]).after(&[7; 32]));
        let pinned = PinLookup::Pinned { place: 1, kind: 0, key: None, signed_before: Some(1_000) };
        assert_eq!(look(&after, "/", &carried), pinned);
        assert_eq!(look(&rule(PinKey::new(&[8; 32])), "/", &carried), PinLookup::None);
    }

    #[test]
    fn the_applications_cookie_is_learned_from_the_response_that_sets_it() {
        let names = ["auk", "gull"].map(name);
        let settings = kinds(&["application-cookie:SESSION"]);
        let rule = made("booking", &settings, names.iter(), &FormerNames::default());
        let client = "192.0.2.7".parse().unwrap();
        assert_eq!(look(&rule, "/", &[("cookie", "lang=en")]), PinLookup::None);
        for other in ["session=a81f", "SESSION=", "SESSION", "LANG=en; Path=/"] {
            assert_eq!(rule.of_set_cookie(other.as_bytes(), client), None, "{other}");
        }
        let begun = rule.of_set_cookie(b"SESSION=a81f; Path=/; HttpOnly", client).unwrap();
        rule.learn(begun, &name("gull"), NOW.second);
        let known = [("cookie", "lang=en; SESSION=a81f")];
        assert!(matches!(look(&rule, "/", &known), PinLookup::Pinned { place: 1, .. }));
        assert_eq!(unpinned(look(&rule, "/", &[("cookie", "SESSION=b92e")])).kind, 0);
    }

    #[test]
    fn a_pin_is_of_the_kind_that_made_it_when_the_pool_has_others_before_it() {
        let table = Arc::new(PinTable::new(3));
        let rule = |names: &[&str]| {
            let ground = PinGround { table: Arc::clone(&table), ..ground(&[7; 32]) };
            PinRule::new(
                &name("booking"),
                &kinds(names),
                [&name("gull")].into_iter(),
                &FormerNames::default(),
                ground,
            )
            .unwrap()
        };
        let before = rule(&["client-address"]);
        before.learn(unpinned(look(&before, "/", &[])), &name("gull"), NOW.second);
        let after = rule(&["header:x-account", "client-address"]);
        let limits = after.learned.as_ref().unwrap().1;
        let mut seen = Vec::new();
        table.for_each(NOW.second, &limits, |_, pin| seen.push(after.kind_of(pin).cloned()));
        assert_eq!(seen, [Some(PersistenceKind::ClientAddress)]);
    }

    #[test]
    fn what_a_pattern_finds_in_the_first_bytes_is_the_client() {
        let gull = name("gull");
        let rule = made(
            "lines",
            &kinds(&["first-bytes:^LOGIN (\\w+)"]),
            [&gull].into_iter(),
            &FormerNames::default(),
        );
        let of = |bytes: Option<&'static [u8]>| {
            let facts =
                RequestFacts { first_bytes: bytes, ..RequestFacts::of_client("192.0.2.7".parse().unwrap()) };
            rule.look_up(&facts, NOW)
        };
        rule.learn(unpinned(of(Some(b"LOGIN anna first"))), &gull, NOW.second);
        assert!(matches!(of(Some(b"LOGIN anna, and more")), PinLookup::Pinned { .. }));
        assert!(matches!(of(Some(b"LOGIN bo")), PinLookup::Unpinned { .. }));
        assert_eq!((of(Some(b"QUIT")), of(None)), (PinLookup::None, PinLookup::None));
        for wrong in ["first-bytes:", "first-bytes:(", "first-bytes"] {
            assert!(wrong.parse::<PersistenceKind>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn addresses_count_by_their_prefix() {
        let settings = Persistence { prefix_ipv4: Some(24), ..kinds(&["client-address"]) };
        let gull = name("gull");
        let rule = made("booking", &settings, [&gull].into_iter(), &FormerNames::default());
        let of = |client: &str| {
            let facts = RequestFacts::of_client(client.parse().unwrap());
            rule.look_up(&facts, NOW)
        };
        rule.learn(unpinned(of("192.0.2.7")), &gull, NOW.second);
        assert!(matches!(of("192.0.2.99"), PinLookup::Pinned { .. }));
        assert!(matches!(of("::ffff:192.0.2.5"), PinLookup::Pinned { .. }), "as an IPv6 socket tells it");
        assert!(matches!(of("192.0.3.7"), PinLookup::Unpinned { .. }));
    }

    #[test]
    fn a_learned_pin_goes_with_a_renamed_server_and_not_with_one_that_is_gone() {
        let table = Arc::new(PinTable::new(3));
        let settings = kinds(&["client-address"]);
        let rule = |names: &[&str], former: &FormerNames| {
            let names: Vec<Name> = names.iter().copied().map(name).collect();
            let ground = PinGround { table: Arc::clone(&table), ..ground(&[7; 32]) };
            PinRule::new(&name("booking"), &settings, names.iter(), former, ground).unwrap()
        };
        let before = rule(&["auk", "gull"], &FormerNames::default());
        before.learn(unpinned(look(&before, "/", &[])), &name("gull"), NOW.second);
        let mut former = FormerNames::default();
        former.server_was(name("gull"), name("puffin"));
        assert!(matches!(
            look(&rule(&["auk", "puffin"], &former), "/", &[]),
            PinLookup::Pinned { place: 1, .. }
        ));
        let gone = rule(&["auk"], &FormerNames::default());
        assert!(matches!(look(&gone, "/", &[]), PinLookup::Unpinned { .. }));
    }
}
