//! The keys of each kind of object as flags, named as in the document.

mod check;
mod frontend;
mod notification;
mod places;
mod pool;
mod server;

use std::fmt::{Debug, Display};
use std::str::FromStr;

use merismos_core::config::ObjectPath;
use merismos_core::config::edit::Edit;
use merismos_core::config::object::ObjectKind;
use merismos_core::name::{Name, PoolServer};
use serde::Serialize;
use serde_json::{Map, Value};

use crate::exit::CliError;

pub(crate) use check::CheckKeys;
pub(crate) use frontend::FrontendKeys;
pub(crate) use notification::NotificationKeys;
pub(crate) use places::{HostKeys, NetworkKeys, RangeKeys};
pub(crate) use pool::PoolKeys;
pub(crate) use server::{LookupKeys, ServerKeys};

/// The keys of one kind of object.
pub(crate) trait ObjectKeys: clap::Args + Serialize + Debug + Send + Sync + 'static {
    /// Which kind.
    const KIND: ObjectKind;
    /// How one is named on the command line.
    type Name: ObjectName;

    /// The keys that a new object gets when they are not given, beside the document's own defaults.
    fn defaults(_keys: &mut Map<String, Value>) {}

    /// What has to be done before an object with these keys can be made.
    fn before(&self, _object: &ObjectPath, _keys: &mut Map<String, Value>) -> Result<Vec<Edit>, CliError> {
        Ok(Vec::new())
    }
}

/// A name as it is written on the command line.
pub(crate) trait ObjectName:
    FromStr<Err: Display + std::error::Error + Send + Sync + 'static> + Clone + Debug + Send + Sync + 'static
{
    /// The object of that name.
    fn object<K: ObjectKeys>(&self) -> ObjectPath;
}

impl ObjectName for Name {
    fn object<K: ObjectKeys>(&self) -> ObjectPath {
        let name = self.clone();
        match K::KIND {
            ObjectKind::Host => ObjectPath::Host(name),
            ObjectKind::Range => ObjectPath::Range(name),
            ObjectKind::Check => ObjectPath::Check(name),
            ObjectKind::Pool => ObjectPath::Pool(name),
            ObjectKind::Frontend => ObjectPath::Frontend(name),
            ObjectKind::Notification => ObjectPath::Notification(name),
            ObjectKind::Network => ObjectPath::Network(name),
            ObjectKind::Reserved | ObjectKind::Server | ObjectKind::Lookup => {
                unreachable!("objects inside others are named with what is around them")
            }
        }
    }
}

impl ObjectName for PoolServer {
    fn object<K: ObjectKeys>(&self) -> ObjectPath {
        match K::KIND {
            ObjectKind::Lookup => ObjectPath::Lookup(self.pool.clone(), self.server.clone()),
            _ => ObjectPath::Server(self.clone()),
        }
    }
}
