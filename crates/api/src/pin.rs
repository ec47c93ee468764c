//! Pins of clients that are kept here.

use std::net::IpAddr;

use ipnet::IpNet;
use merismos_core::name::PoolServer;
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::status::PinView;

/// Which pins are meant; all of the pool when no property is given.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct PinQuery {
    /// Only those of clients from this address or network.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<String>, example = "192.0.2.0/24")]
    pub client: Option<PinClient>,
    /// Only those of this server of the pool, by its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<String>, pattern = "^[a-z][a-z0-9-]{0,62}$", example = "gull")]
    pub server: Option<String>,
    /// At most so many, the ones that were used last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

impl PinQuery {
    /// Whether a pin is meant. One whose server is gone is meant when no server is named.
    #[must_use]
    pub fn takes(&self, client: IpAddr, server: Option<&PoolServer>) -> bool {
        let of_client = self.client.as_ref().is_none_or(|wanted| wanted.0.contains(&client));
        let wanted = self.server.as_deref();
        of_client && wanted.is_none_or(|wanted| server.is_some_and(|server| server.server.as_str() == wanted))
    }
}

/// An address or a network of clients.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct PinClient(pub IpNet);

impl std::str::FromStr for PinClient {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let network = text.parse::<IpNet>().or_else(|_| text.parse::<IpAddr>().map(IpNet::from));
        network
            .map(Self)
            .map_err(|_| format!("found {text:?}; expected an address or a network, such as 192.0.2.0/24"))
    }
}

impl TryFrom<String> for PinClient {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        text.parse()
    }
}

impl From<PinClient> for String {
    fn from(client: PinClient) -> Self {
        client.0.to_string()
    }
}

/// Pins of a pool that are kept here. Cookies of the service are kept by the clients, and are not among them.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Pins {
    /// Those that are meant, the ones that were used last first; up to 1000.
    pub pins: Vec<PinView>,
    /// How many are meant.
    pub matching: u64,
    /// How many the pool keeps, or the pools that share them.
    pub kept: u64,
    /// The most that it keeps.
    pub limit: u64,
    /// How many had to go before their time, because there were as many as allowed.
    pub evicted: u64,
    /// The memory that they take.
    pub bytes: u64,
    /// Cookies of the name of the service's own that clients carried and that were taken for none: forged, over, or another pool's.
    pub refused_cookies: u64,
}

/// Since when cookies that tie clients are signed with which key.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct PinKeyTimes {
    /// When the key was drawn that signs them.
    #[schema(value_type = String, format = DateTime)]
    pub drawn: Wall,
    /// When the key before it was replaced, of which cookies are still taken; absent when there is none.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub before: Option<Wall>,
}

/// Pins that were removed.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct PinsRemoved {
    /// How many.
    pub removed: u64,
}
