//! Relations between the things of a document, and the proof that they hold.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use serde::{Deserialize, Serialize};

use super::Problem;
use super::document::{Document, Pool};
use super::tree::Node;
use crate::name::Name;

/// A document that was checked whole. Only [`super::load`] and [`check`] make one, so whoever holds it may deploy it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checked {
    document: Document,
    warnings: Vec<Warning>,
}

/// Something that is allowed and that the engineer probably does not want.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Warning {
    /// The key path.
    pub path: String,
    /// The line in the text, where there is one.
    pub line: Option<usize>,
    /// What will happen.
    pub says: String,
    /// What to do about it.
    pub help: String,
}

impl Checked {
    /// The document.
    #[must_use]
    pub fn document(&self) -> &Document {
        &self.document
    }

    /// What is allowed and probably not wanted.
    #[must_use]
    pub fn warnings(&self) -> &[Warning] {
        &self.warnings
    }

    pub(super) fn with_lines(mut self, tree: &Node) -> Self {
        for warning in &mut self.warnings {
            warning.line = tree.line_of(&warning.path);
        }
        self
    }
}

/// Checks the relations between the things of a document.
///
/// # Errors
/// Every relation that does not hold.
pub fn check(document: Document) -> Result<Checked, Vec<Problem>> {
    let mut problems = Vec::new();
    references(&document, &mut problems);
    frontends_overlap(&document, &mut problems);
    for (name, pool) in &document.pools {
        repeated_addresses(name, pool, &mut problems);
    }
    if problems.is_empty() {
        let warnings = warnings(&document);
        Ok(Checked { document, warnings })
    } else {
        Err(problems)
    }
}

fn one_of<'n>(kind: &str, names: impl Iterator<Item = &'n Name>) -> String {
    let names: Vec<_> = names.map(Name::as_str).take(8).collect();
    if names.is_empty() {
        format!("a {kind} of that name under [{kind}s]")
    } else {
        format!("one of {}", names.join(", "))
    }
}

fn references(document: &Document, problems: &mut Vec<Problem>) {
    for (name, frontend) in &document.frontends {
        if !document.pools.contains_key(&frontend.pool) {
            let wanted = one_of("pool", document.pools.keys());
            problems.push(Problem::dangling(
                &format!("frontends.{name}.pool"),
                "pool",
                &frontend.pool,
                wanted,
            ));
        }
    }
    for (name, pool) in &document.pools {
        if let Some(check) = pool.check.as_ref().filter(|check| !document.checks.contains_key(check)) {
            let wanted = one_of("check", document.checks.keys());
            problems.push(Problem::dangling(&format!("pools.{name}.check"), "check", check, wanted));
        }
    }
}

/// Two addresses overlap when they share the port and either is the same address or one is every address.
fn overlap(a: SocketAddr, b: SocketAddr) -> bool {
    let any_covers =
        |any: SocketAddr, other: SocketAddr| any.ip().is_unspecified() && (any.is_ipv6() || other.is_ipv4());
    a.port() == b.port() && (a.ip() == b.ip() || any_covers(a, b) || any_covers(b, a))
}

fn frontends_overlap(document: &Document, problems: &mut Vec<Problem>) {
    let mut by_port: BTreeMap<u16, Vec<(&Name, SocketAddr)>> = BTreeMap::new();
    for (name, frontend) in &document.frontends {
        let listen = frontend.listen;
        let same_port = by_port.entry(listen.port()).or_default();
        if let Some((other, taken)) = same_port.iter().find(|(_, taken)| overlap(*taken, listen)) {
            problems.push(Problem::at(
                &format!("frontends.{name}.listen"),
                format!("{listen} overlaps with {taken}, on which frontend {other} listens"),
                "an address and port of its own for each frontend",
            ));
        }
        same_port.push((name, listen));
    }
}

fn repeated_addresses(pool_name: &Name, pool: &Pool, problems: &mut Vec<Problem>) {
    let mut seen: BTreeMap<SocketAddr, &Name> = BTreeMap::new();
    for (name, server) in &pool.servers {
        if let Some(first) = seen.insert(server.address, name) {
            problems.push(Problem::at(
                &format!("pools.{pool_name}.servers.{name}.address"),
                format!("{} is already the address of {pool_name}/{first}", server.address),
                "each address once in a pool; a server that should get more work takes a larger weight",
            ));
        }
    }
}

fn warnings(document: &Document) -> Vec<Warning> {
    let mut found = Vec::new();
    let mut warn = |path: String, says: String, help: String| {
        found.push(Warning { path, line: None, says, help });
    };
    let mut users: BTreeMap<SocketAddr, &Name> = BTreeMap::new();
    for (name, pool) in &document.pools {
        let path = format!("pools.{name}");
        let frontends: Vec<_> =
            document.frontends.iter().filter(|(_, f)| f.pool == *name).map(|(n, _)| n.as_str()).collect();
        let clients = match frontends.as_slice() {
            [] => "nobody, for no frontend sends clients here".to_owned(),
            names => format!("every client of {}", names.join(", ")),
        };
        if pool.servers.is_empty() {
            warn(
                path.clone(),
                format!("pool {name} has no servers: {clients} gets 503"),
                format!("add servers under [pools.{name}.servers]"),
            );
        } else if pool.servers.values().all(|server| server.weight == 0) {
            warn(
                path.clone(),
                format!("every server of pool {name} has weight 0: {clients} gets 503"),
                "give at least one server a weight of 1 or more".to_owned(),
            );
        }
        if pool.check.is_none() && !pool.servers.is_empty() {
            warn(
                path.clone(),
                format!("pool {name} has no check: a server that fails keeps its share"),
                "name a check, such as check = \"answers\"".to_owned(),
            );
        }
        if frontends.is_empty() {
            warn(
                path.clone(),
                format!("no frontend sends clients to pool {name}"),
                "name it in a frontend, or remove it".to_owned(),
            );
        }
        for (server, spec) in &pool.servers {
            let path = format!("{path}.servers.{server}.address");
            if let Some(other) = users.insert(spec.address, name).filter(|other| *other != name) {
                warn(
                    path.clone(),
                    format!("{} also serves pool {other}", spec.address),
                    "right when one program does both kinds of work; else correct the address".to_owned(),
                );
            }
            if let Some((frontend, _)) = document.frontends.iter().find(|(_, f)| f.listen == spec.address) {
                warn(
                    path,
                    format!(
                        "{} is where frontend {frontend} listens: requests would go in a circle",
                        spec.address
                    ),
                    "the address of the server itself".to_owned(),
                );
            }
        }
    }
    for (name, check) in &document.checks {
        if check.timeout >= check.interval {
            warn(
                format!("checks.{name}.timeout"),
                format!(
                    "timeout {} is not shorter than interval {}: a silent server is probed only every {}",
                    check.timeout, check.interval, check.timeout
                ),
                "a timeout shorter than the interval".to_owned(),
            );
        }
    }
    found
}
