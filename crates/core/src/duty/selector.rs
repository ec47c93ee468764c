//! Which servers an order is for: named ones, all of a host, or all with a label.

use std::collections::BTreeSet;
use std::net::IpAddr;

use crate::config::document::{Document, Labels};
use crate::name::{Name, PoolServer};

/// The servers of an order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ServerSelector {
    /// These.
    Servers(Vec<PoolServer>),
    /// Every server of a pool.
    Pool(Name),
    /// Every server on a host: the name of a host, or its address.
    Host(String),
    /// Every server with a label of its own or of its host.
    Label {
        /// Name of the label.
        key: Name,
        /// Its value.
        value: String,
    },
}

/// Why an order is for no server.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SelectorError {
    /// The document has no such server.
    #[error("there is no server {0}")]
    NoServer(PoolServer),
    /// The document has no such pool, or it has no servers.
    #[error("there is no pool {0} with servers")]
    NoPool(Name),
    /// No server runs on a host of this name or address.
    #[error("no server runs on host {0}: `merismos host list` shows hosts with their servers")]
    NoHost(String),
    /// Neither a server nor a host with servers has the label.
    #[error("no server has the label {key}={value}, and neither has the host of one")]
    NoLabel {
        /// Name of the label.
        key: Name,
        /// Its value.
        value: String,
    },
    /// A text that is no label.
    #[error("found {0:?}; expected a label and its value, such as rack=r7")]
    NotALabel(String),
    /// No servers were named.
    #[error("the order names no server: give servers, a host or a label")]
    Nothing,
}

impl ServerSelector {
    /// Reads a label with its value: `rack=r7`.
    ///
    /// # Errors
    /// [`SelectorError::NotALabel`]
    pub fn label(text: &str) -> Result<Self, SelectorError> {
        let label = text.split_once('=').filter(|(_, value)| !value.trim().is_empty());
        let label = label.and_then(|(key, value)| Some((key.trim().parse().ok()?, value.trim().to_owned())));
        let (key, value) = label.ok_or_else(|| SelectorError::NotALabel(text.to_owned()))?;
        Ok(Self::Label { key, value })
    }

    /// The servers of a document that are meant.
    ///
    /// # Errors
    /// When there is none, or one of those that are named is not there.
    pub fn select(&self, document: &Document) -> Result<BTreeSet<PoolServer>, SelectorError> {
        let all = document
            .pools
            .iter()
            .flat_map(|(pool, spec)| spec.servers.iter().map(move |(server, spec)| (pool, server, spec)));
        let id = |(pool, server): (&Name, &Name)| PoolServer { pool: pool.clone(), server: server.clone() };
        match self {
            Self::Servers(servers) if servers.is_empty() => Err(SelectorError::Nothing),
            Self::Servers(servers) => {
                let is_there = |server: &PoolServer| {
                    document
                        .pools
                        .get(&server.pool)
                        .is_some_and(|pool| pool.servers.contains_key(&server.server))
                };
                match servers.iter().find(|server| !is_there(server)) {
                    Some(missing) => Err(SelectorError::NoServer(missing.clone())),
                    None => Ok(servers.iter().cloned().collect()),
                }
            }
            Self::Pool(name) => {
                let found: BTreeSet<_> = all
                    .filter(|(pool, ..)| *pool == name)
                    .map(|(pool, server, _)| id((pool, server)))
                    .collect();
                if found.is_empty() { Err(SelectorError::NoPool(name.clone())) } else { Ok(found) }
            }
            Self::Host(host) => {
                let known = document.hosts.iter().find(|(name, _)| name.as_str() == host);
                let address = known.map(|(_, known)| known.address).or_else(|| host.parse().ok());
                let missing = || SelectorError::NoHost(host.clone());
                let address: IpAddr = address.ok_or_else(missing)?;
                let on_host = all.filter(|(.., spec)| spec.addresses().any(|at| at.ip() == address));
                let found: BTreeSet<_> = on_host.map(|(pool, server, _)| id((pool, server))).collect();
                if found.is_empty() { Err(missing()) } else { Ok(found) }
            }
            Self::Label { key, value } => {
                let has = |labels: &Labels| labels.get(key) == Some(value);
                let hosts: BTreeSet<IpAddr> = document
                    .hosts
                    .values()
                    .filter(|host| has(&host.labels))
                    .map(|host| host.address)
                    .collect();
                let found: BTreeSet<_> = all
                    .filter(|(.., spec)| has(&spec.labels) || hosts.contains(&spec.address.get().ip()))
                    .map(|(pool, server, _)| id((pool, server)))
                    .collect();
                let missing = || SelectorError::NoLabel { key: key.clone(), value: value.clone() };
                if found.is_empty() { Err(missing()) } else { Ok(found) }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::config;

    const DOCUMENT: &str = r#"
        format = 3
        [hosts.gull]
        address = "192.0.2.21"
        labels = { rack = "r7" }
        [pools.booking.servers.gull]
        address = "192.0.2.21:80"
        [pools.booking.servers.tern]
        address = "192.0.2.22:80"
        labels = { rack = "r7" }
        [pools.tickets.servers.auk]
        address = "192.0.2.21:3306"
        [pools.tickets.servers.skua]
        address = "192.0.2.23:3306"
    "#;

    fn label(value: &str) -> ServerSelector {
        ServerSelector::label(&format!("rack={value}")).unwrap()
    }

    fn servers(names: &[&str]) -> ServerSelector {
        ServerSelector::Servers(names.iter().map(|name| name.parse().unwrap()).collect())
    }

    #[rstest]
    #[case::named(servers(&["tickets/skua", "booking/gull"]), &["booking/gull", "tickets/skua"])]
    #[case::pool(ServerSelector::Pool("tickets".parse().unwrap()), &["tickets/auk", "tickets/skua"])]
    #[case::host_by_name(ServerSelector::Host("gull".to_owned()), &["booking/gull", "tickets/auk"])]
    #[case::host_by_address(ServerSelector::Host("192.0.2.23".to_owned()), &["tickets/skua"])]
    #[case::label_of_servers_and_hosts(label("r7"), &["booking/gull", "booking/tern", "tickets/auk"])]
    fn servers_are_found(#[case] selector: ServerSelector, #[case] expected: &[&str]) {
        let checked = config::load(DOCUMENT, config::DocumentFormat::Toml).unwrap();
        let found = selector.select(checked.document()).unwrap();
        assert_eq!(found.iter().map(ToString::to_string).collect::<Vec<_>>(), expected);
    }

    #[rstest]
    #[case::without_a_value("rack")]
    #[case::with_an_empty_value("rack=")]
    #[case::with_a_key_that_is_no_name("Rack!=r7")]
    fn what_is_no_label_is_refused(#[case] text: &str) {
        assert_eq!(ServerSelector::label(text), Err(SelectorError::NotALabel(text.to_owned())));
    }

    #[rstest]
    #[case::unknown_server(servers(&["booking/skua"]), "there is no server booking/skua")]
    #[case::unknown_pool(ServerSelector::Pool("quay".parse().unwrap()), "there is no pool quay with servers")]
    #[case::unknown_host(ServerSelector::Host("heron".to_owned()), "no server runs on host heron: `merismos host list` shows hosts with their servers")]
    #[case::unknown_label(label("r8"), "no server has the label rack=r8, and neither has the host of one")]
    #[case::none(servers(&[]), "the order names no server: give servers, a host or a label")]
    fn what_is_not_there_is_said(#[case] selector: ServerSelector, #[case] error: &str) {
        let checked = config::load(DOCUMENT, config::DocumentFormat::Toml).unwrap();
        assert_eq!(selector.select(checked.document()).unwrap_err().to_string(), error);
    }
}
