//! The kinds of objects on the command line: how one is named, and what flags it has beside its keys.

use std::fmt::{Debug, Display};
use std::str::FromStr;

use merismos_core::config::edit::Edit;
use merismos_core::config::{ObjectKind, ObjectPath};
use merismos_core::name::{Name, PoolServer};
use serde_json::{Map, Value};

/// The flags of one kind of object.
pub(crate) trait ObjectFlags: Debug + Send + Sync + 'static {
    /// Which kind.
    const KIND: ObjectKind;
    /// How one is named on the command line.
    type Name: ObjectName;
    /// Flags beside those of its keys.
    type More: MoreFlags;

    /// The keys that a new object gets when they are not given, beside the document's own defaults.
    fn defaults(_keys: &mut Map<String, Value>) {}
}

/// Flags beside those of keys.
pub(crate) trait MoreFlags: clap::Args + Debug + Send + Sync + 'static {
    /// What has to be done before an object with these keys can be made; it may set keys too.
    fn before(&self, _object: &ObjectPath, _keys: &mut Map<String, Value>) -> Vec<Edit> {
        Vec::new()
    }
}

/// No flags beside those of keys.
#[derive(Debug, clap::Args)]
pub(crate) struct NoMoreFlags {}

impl MoreFlags for NoMoreFlags {}

/// A name as it is written on the command line.
pub(crate) trait ObjectName:
    FromStr<Err: Display + std::error::Error + Send + Sync + 'static> + Clone + Debug + Send + Sync + 'static
{
    /// The object of that name.
    fn object(&self, kind: ObjectKind) -> ObjectPath;
}

impl ObjectName for Name {
    fn object(&self, kind: ObjectKind) -> ObjectPath {
        let name = self.clone();
        match kind {
            ObjectKind::Host => ObjectPath::Host(name),
            ObjectKind::Range => ObjectPath::Range(name),
            ObjectKind::Check => ObjectPath::Check(name),
            ObjectKind::Pool => ObjectPath::Pool(name),
            ObjectKind::Frontend => ObjectPath::Frontend(name),
            ObjectKind::Notification => ObjectPath::Notification(name),
            ObjectKind::Network => ObjectPath::Network(name),
            ObjectKind::Certificate => ObjectPath::Certificate(name),
            ObjectKind::Address => ObjectPath::Address(name),
            ObjectKind::Announcement => ObjectPath::Announcement(name),
            ObjectKind::Authority => ObjectPath::Authority(name),
            ObjectKind::Limit => ObjectPath::Limit(name),
            ObjectKind::Rule => ObjectPath::Rule(name),
            ObjectKind::Example => ObjectPath::Example(name),
            ObjectKind::Reserved | ObjectKind::Server | ObjectKind::Lookup => {
                unreachable!("objects inside others are named with what is around them")
            }
        }
    }
}

impl ObjectName for PoolServer {
    fn object(&self, kind: ObjectKind) -> ObjectPath {
        match kind {
            ObjectKind::Lookup => ObjectPath::Lookup(self.pool.clone(), self.server.clone()),
            _ => ObjectPath::Server(self.clone()),
        }
    }
}

macro_rules! kinds {
    ($($(#[$doc:meta])* $type:ident: $kind:ident, $name:ty;)*) => {$(
        $(#[$doc])*
        #[derive(Debug)]
        pub(crate) struct $type;

        impl ObjectFlags for $type {
            const KIND: ObjectKind = ObjectKind::$kind;
            type Name = $name;
            type More = NoMoreFlags;
        }
    )*};
}
kinds! {
    /// Hosts.
    HostFlags: Host, Name;
    /// Ranges of service addresses.
    RangeFlags: Range, Name;
    /// Lists of networks.
    NetworkFlags: Network, Name;
    /// Health checks.
    CheckFlags: Check, Name;
    /// Pools.
    PoolFlags: Pool, Name;
    /// Servers, named with their pool.
    ServerFlags: Server, PoolServer;
    /// Lookups, named with their pool.
    LookupFlags: Lookup, PoolServer;
    /// Addresses that move between nodes.
    AddressFlags: Address, Name;
    /// Addresses that nodes announce to routers.
    AnnouncementFlags: Announcement, Name;
    /// Authorities.
    AuthorityFlags: Authority, Name;
    /// Limits of clients.
    LimitFlags: Limit, Name;
    /// Examples of requests.
    ExampleFlags: Example, Name;
    /// Certificates.
    CertificateFlags: Certificate, Name;
    /// Notifications.
    NotificationFlags: Notification, Name;
}

/// Rules.
#[derive(Debug)]
pub(crate) struct RuleFlags;

impl ObjectFlags for RuleFlags {
    const KIND: ObjectKind = ObjectKind::Rule;
    type Name = Name;
    type More = NoMoreFlags;

    fn defaults(keys: &mut Map<String, Value>) {
        keys.entry("action").or_insert_with(|| "pool".into());
    }
}

/// Frontends.
#[derive(Debug)]
pub(crate) struct FrontendFlags;

impl ObjectFlags for FrontendFlags {
    const KIND: ObjectKind = ObjectKind::Frontend;
    type Name = Name;
    type More = ReserveFlags;

    fn defaults(keys: &mut Map<String, Value>) {
        keys.entry("protocol").or_insert_with(|| "http".into());
    }
}

/// An address that is reserved for the frontend.
#[derive(Debug, clap::Args)]
pub(crate) struct ReserveFlags {
    /// Reserve the next free address of this range under the frontend's name; needs --port
    #[arg(long, value_name = "RANGE", requires = "port", conflicts_with = "listen")]
    from: Option<Name>,
    /// Port on the address that --from reserves
    #[arg(long, requires = "from")]
    port: Option<u16>,
}

impl MoreFlags for ReserveFlags {
    fn before(&self, object: &ObjectPath, keys: &mut Map<String, Value>) -> Vec<Edit> {
        let (Some(range), Some(port)) = (&self.from, self.port) else { return Vec::new() };
        let name = object.name().clone();
        keys.insert("listen".to_owned(), format!("{range}/{name}:{port}").into());
        vec![Edit::Reserve { range: range.clone(), name, address: None }]
    }
}
