//! The keys of each kind of thing as flags, named as in the document.

mod check;
mod frontend;
mod message;
mod places;
mod pool;
mod server;

use std::fmt::{Debug, Display};
use std::str::FromStr;

use merismos_core::config::Thing;
use merismos_core::config::edit::Edit;
use merismos_core::config::thing::Kind;
use merismos_core::name::{Name, PoolServer};
use serde::Serialize;
use serde_json::{Map, Value};

use crate::exit::CliError;

pub(crate) use check::CheckKeys;
pub(crate) use frontend::FrontendKeys;
pub(crate) use message::MessageKeys;
pub(crate) use places::{HostKeys, NetworkKeys, RangeKeys};
pub(crate) use pool::PoolKeys;
pub(crate) use server::{LookupKeys, ServerKeys};

/// The keys of one kind of thing.
pub(crate) trait Keys: clap::Args + Serialize + Debug + Send + Sync + 'static {
    /// Which kind.
    const KIND: Kind;
    /// How one is named on the command line.
    type Name: ThingName;

    /// The keys that a new thing gets when they are not given, beside the document's own defaults.
    fn defaults(_keys: &mut Map<String, Value>) {}

    /// What has to be done before a thing with these keys can be made.
    fn before(&self, _thing: &Thing, _keys: &mut Map<String, Value>) -> Result<Vec<Edit>, CliError> {
        Ok(Vec::new())
    }
}

/// A name as it is written on the command line.
pub(crate) trait ThingName:
    FromStr<Err: Display + std::error::Error + Send + Sync + 'static> + Clone + Debug + Send + Sync + 'static
{
    /// The thing of that name.
    fn thing<K: Keys>(&self) -> Thing;
}

impl ThingName for Name {
    fn thing<K: Keys>(&self) -> Thing {
        let name = self.clone();
        match K::KIND {
            Kind::Host => Thing::Host(name),
            Kind::Range => Thing::Range(name),
            Kind::Check => Thing::Check(name),
            Kind::Pool => Thing::Pool(name),
            Kind::Frontend => Thing::Frontend(name),
            Kind::Message => Thing::Message(name),
            Kind::Network => Thing::Network(name),
            Kind::Taken | Kind::Server | Kind::Lookup => {
                unreachable!("things inside others are named with what is around them")
            }
        }
    }
}

impl ThingName for PoolServer {
    fn thing<K: Keys>(&self) -> Thing {
        match K::KIND {
            Kind::Lookup => Thing::Lookup(self.pool.clone(), self.server.clone()),
            _ => Thing::Server(self.clone()),
        }
    }
}
