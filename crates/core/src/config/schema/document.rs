//! The document: what a person wrote, with defaults filled in and nothing derived.

use std::collections::BTreeMap;
use std::net::IpAddr;

use ipnet::IpNet;
use merismos_derive::Keys;
use serde::Serialize;

pub use crate::config::failure_handling::{FailureHandling, OpenConnections};
use crate::config::listen_address::AddressRange;
pub use crate::config::schema::announcement::{AnnouncementSpec, PoolLossAnswer};
pub use crate::config::schema::authority::{AuthoritySpec, ChallengeKind, TsigAlgorithm};
pub use crate::config::schema::balancing::{
    Algorithm, BalancePer, ChoosePool, Failback, HashKey, HashSettings, PoolSelection, QueueSettings,
    ServerLimits, WhenAbsent,
};
pub use crate::config::schema::certificate::{
    CertificateSpec, CipherSuite, DaysBefore, TlsPolicy, UnknownName,
};
pub use crate::config::schema::check_spec::{
    CheckSpec, FlappingSettings, ProbeAddress, StatusRange, StatusRangeError,
};
pub use crate::config::schema::checks::{
    CertificateTrust, CheckKind, CommandProbe, DnsProbe, DnsRecordType, GrpcProbe, HttpProbe, SecretRef,
    SendExpect, SqlProbe, TlsProbe, TlsVerify,
};
pub use crate::config::schema::error_pages::{ErrorFacts, ErrorFormat, ErrorPages, PAGE_VALUES};
pub use crate::config::schema::expectation::{BodyExpectation, ExpectedValue, Pattern};
pub use crate::config::schema::frontend::{
    ClientCertificates, Endpoint, FrontendSpec, HandshakeLimits, HttpKeys, Protocol, RedirectStatus,
};
pub use crate::config::schema::limit::{LimitAction, LimitKey, LimitSpec};
pub use crate::config::schema::maintenance::MaintenanceKeys;
pub use crate::config::schema::notification::{
    MailTarget, MailTls, NotificationSpec, NotifiedChange, WebhookTarget,
};
pub use crate::config::schema::persistence::{
    CookieSameSite, OneOrMore, Persistence, PersistenceKind, PinWhenGone,
};
pub use crate::config::schema::pool::{
    ChecksNeeded, PassiveAction, PassiveCheck, PoolSpec, ProxyVersion, WhenNone,
};
pub use crate::config::schema::rule::{
    AmbiguousPaths, ExampleSpec, RuleAction, RuleChanges, RulePersistence, RuleSpec,
};
pub use crate::config::schema::server::{LookupRecords, LookupSpec, ServerSpec, WhenEmpty};
pub use crate::config::schema::service_address::{AddressSpec, PreemptionMode};
pub use crate::config::schema::upstream::{HttpVersion, TlsNameOf, UpstreamSettings};
use crate::name::Name;
/// The format number that this release writes. It reads this one, and lifts older ones to it.
pub const FORMAT: i64 = 3;

/// The cookie of the console's sessions. Browsers send cookies to every port of a host, so frontends never pass it to servers,
/// and no pin has its name.
pub const SESSION_COOKIE: &str = "merismos_session";

/// Free `key = value` pairs on an object, for people and for filters.
pub type Labels = BTreeMap<Name, String>;

/// A whole configuration.
///
/// Maps are ordered by name, so the same content always prints the same bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct Document {
    /// The number of the document's format.
    ///
    /// Documents of formats 1 and 2 are migrated when they are read.
    #[key(range = 3..=3, expected = "format = 3, or an older format from 1 on")]
    pub format: i64,
    /// Known machines: servers may name a host instead of its address.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub hosts: BTreeMap<Name, HostSpec>,
    /// Ranges of service addresses, in which frontends reserve theirs.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub ranges: BTreeMap<Name, RangeSpec>,
    /// Lists of networks, by which frontends may choose pools.
    #[key(count = 0..=100_000)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub networks: BTreeMap<Name, Vec<IpNet>>,
    /// Addresses that move between nodes.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub addresses: BTreeMap<Name, AddressSpec>,
    /// Addresses that nodes announce to routers.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub announce: BTreeMap<Name, AnnouncementSpec>,
    /// Authorities that certificates are ordered from.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub authorities: BTreeMap<Name, AuthoritySpec>,
    /// Certificates that frontends show clients who speak TLS.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub certificates: BTreeMap<Name, CertificateSpec>,
    /// Active health checks, by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub checks: BTreeMap<Name, CheckSpec>,
    /// Sets of servers that can do the same work.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pools: BTreeMap<Name, PoolSpec>,
    /// How much each client may ask for.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub limits: BTreeMap<Name, LimitSpec>,
    /// Conditions on requests, and what becomes of those that meet them.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub rules: BTreeMap<Name, RuleSpec>,
    /// The addresses where clients connect.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub frontends: BTreeMap<Name, FrontendSpec>,
    /// Requests, and what has to become of them: tests of the rules, checked with every change.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub examples: BTreeMap<Name, ExampleSpec>,
    /// Who is notified of which changes, by webhook or e-mail.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub notifications: BTreeMap<Name, NotificationSpec>,
}

impl Default for Document {
    fn default() -> Self {
        Self {
            format: FORMAT,
            hosts: BTreeMap::new(),
            ranges: BTreeMap::new(),
            networks: BTreeMap::new(),
            addresses: BTreeMap::new(),
            announce: BTreeMap::new(),
            authorities: BTreeMap::new(),
            certificates: BTreeMap::new(),
            checks: BTreeMap::new(),
            pools: BTreeMap::new(),
            limits: BTreeMap::new(),
            rules: BTreeMap::new(),
            frontends: BTreeMap::new(),
            examples: BTreeMap::new(),
            notifications: BTreeMap::new(),
        }
    }
}

impl Document {
    /// The rules of a frontend that there are, in order.
    pub fn rules_of<'d>(
        &'d self,
        frontend: &'d FrontendSpec,
    ) -> impl Iterator<Item = (&'d Name, &'d RuleSpec)> {
        frontend.rules.iter().filter_map(|name| self.rules.get_key_value(name))
    }

    /// Every pool that a frontend may send work to, by itself and by its rules. One may come several times.
    pub fn pools_of<'d>(&'d self, frontend: &'d FrontendSpec) -> impl Iterator<Item = &'d Name> {
        let by_rules = self.rules_of(frontend).flat_map(|(_, rule)| rule.pools().map(|(pool, _)| pool));
        frontend.pools().chain(by_rules)
    }

    /// The document as TOML: the same content always gives the same bytes.
    #[must_use]
    pub fn to_toml(&self) -> String {
        toml::to_string(self).expect("a document holds only tables, texts and numbers")
    }

    /// The document as JSON: the same content always gives the same bytes.
    #[must_use]
    pub fn to_json(&self) -> String {
        serde_json::to_string_pretty(self).expect("a document's keys are texts") + "\n"
    }
}

/// A known machine: servers may name it instead of its address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct HostSpec {
    /// The machine's IP address. Servers may be written `HOST:port` instead of it.
    #[key(basic)]
    pub address: IpAddr,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// A range of service addresses, in which frontends reserve theirs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct RangeSpec {
    /// The addresses of the range: a prefix, or the first and the last address.
    #[key(basic)]
    pub addresses: AddressRange,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
    /// Reserved addresses by name. Frontends listen on `RANGE/NAME:port`.
    ///
    /// Each lies inside the range and is reserved once. An address stays reserved when its frontend is removed, until it is released.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub reserved: BTreeMap<Name, IpAddr>,
}
