//! Hosts: the machines behind servers, imported from lists and seen in pools.

use std::collections::BTreeMap;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use crate::config::document::{Document, HostSpec, Labels};
use crate::name::{Name, PoolServer};

/// How a list of hosts is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum HostsFormat {
    /// As in `/etc/hosts`: an address and its names on a line; what follows a `#` is passed over.
    Hosts,
    /// Comma-separated values (RFC 4180) whose first line names the columns: `name`, `address`, perhaps `note`;
    /// every other column is a label.
    Csv,
}

/// Why a list of hosts makes no sense.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line} of the list of hosts: {why}")]
pub struct HostsError {
    /// The line, from 1.
    pub line: u64,
    /// What is wrong with it, and what would be right.
    pub why: String,
}

/// Adds the hosts of a list to those that are known. One that is known takes the list's address; its labels and its
/// note stay unless the list has some.
///
/// # Errors
/// The first line that makes no sense; nothing was added then.
pub(in crate::config) fn import(
    hosts: &mut BTreeMap<Name, HostSpec>,
    format: HostsFormat,
    text: &str,
) -> Result<(), HostsError> {
    let listed = match format {
        HostsFormat::Hosts => from_hosts(text)?,
        HostsFormat::Csv => from_csv(text)?,
    };
    for (name, host) in listed {
        match hosts.get_mut(&name) {
            Some(known) => {
                known.address = host.address;
                known.labels.extend(host.labels);
                if !host.note.is_empty() {
                    known.note = host.note;
                }
            }
            None => drop(hosts.insert(name, host)),
        }
    }
    Ok(())
}

fn address(text: &str, line: u64) -> Result<IpAddr, HostsError> {
    text.parse().map_err(|_| HostsError { line, why: format!("wanted an IP address, found {text:?}") })
}

/// A host's name is the first label of a DNS name, in lower case.
fn name(text: &str, line: u64) -> Result<Name, HostsError> {
    let first = text.split('.').next().unwrap_or_default().to_ascii_lowercase();
    first.parse().map_err(|error| HostsError { line, why: format!("{error}") })
}

fn from_hosts(text: &str) -> Result<Vec<(Name, HostSpec)>, HostsError> {
    let mut found = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let number = index as u64 + 1;
        let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
        let Some(first) = words.next() else { continue };
        let address = address(first, number)?;
        let Some(called) = words.next() else {
            return Err(HostsError { line: number, why: "wanted a name behind the address".to_owned() });
        };
        // A machine's own entries for itself say nothing of the network.
        if address.is_loopback() && called == "localhost" || called.starts_with("ip6-") {
            continue;
        }
        found.push((name(called, number)?, HostSpec { address, note: String::new(), labels: Labels::new() }));
    }
    Ok(found)
}

fn from_csv(text: &str) -> Result<Vec<(Name, HostSpec)>, HostsError> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
    let wrong = |error: &csv::Error| HostsError {
        line: error.position().map_or(1, csv::Position::line),
        why: error.to_string(),
    };
    let head = reader.headers().map_err(|error| wrong(&error))?.clone();
    let column = |wanted: &str| head.iter().position(|title| title == wanted);
    let (Some(name_column), Some(address_column)) = (column("name"), column("address")) else {
        let why =
            "wanted the columns name and address in the first line, perhaps note, and labels".to_owned();
        return Err(HostsError { line: 1, why });
    };
    let mut found = Vec::new();
    for record in reader.records() {
        let record = record.map_err(|error| wrong(&error))?;
        let line = record.position().map_or(0, csv::Position::line);
        let cell = |column: usize| record.get(column).unwrap_or_default();
        let mut host = HostSpec {
            address: address(cell(address_column), line)?,
            note: String::new(),
            labels: Labels::new(),
        };
        for (index, title) in head.iter().enumerate() {
            let text = cell(index).to_owned();
            if index == name_column || index == address_column || text.is_empty() {
                continue;
            }
            if title == "note" {
                host.note = text;
            } else {
                let label = title.to_ascii_lowercase().replace([' ', '_'], "-");
                let label: Name =
                    label.parse().map_err(|error| HostsError { line: 1, why: format!("{error}") })?;
                host.labels.insert(label, text);
            }
        }
        found.push((name(cell(name_column), line)?, host));
    }
    Ok(found)
}

/// A machine, known or only seen in pools.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownHost {
    /// Its name, when it is known.
    pub name: Option<Name>,
    /// The servers on this host, in order of their names.
    pub servers: Vec<PoolServer>,
}

/// Every machine that is known or that servers run on, by its address.
#[must_use]
pub fn seen(document: &Document) -> BTreeMap<IpAddr, KnownHost> {
    let mut seen: BTreeMap<IpAddr, KnownHost> = BTreeMap::new();
    for (name, host) in &document.hosts {
        let entry = seen.entry(host.address).or_insert(KnownHost { name: None, servers: Vec::new() });
        entry.name.get_or_insert_with(|| name.clone());
    }
    for (pool, spec) in &document.pools {
        for (server, server_spec) in &spec.servers {
            let entry = seen
                .entry(server_spec.address.get().ip())
                .or_insert(KnownHost { name: None, servers: Vec::new() });
            entry.servers.push(PoolServer { pool: pool.clone(), server: server.clone() });
        }
    }
    seen
}
