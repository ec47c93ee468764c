//! What a worker needs to know for a request, all of it, and never changed once made.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use crate::balance::{Balance, Tried};
use crate::cells::{FrontendCell, PoolCell, ServerCell};
use crate::eligibility::{Reason, Standing};
use crate::name::{Name, PoolServer};

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
}

/// A frontend as traffic sees it.
#[derive(Clone, Debug)]
pub struct Frontend {
    /// Its name.
    pub name: Name,
    /// Where it listens.
    pub listen: SocketAddr,
    /// The most clients connected at once.
    pub connection_limit: u64,
    /// The largest request head, in bytes.
    pub head_limit: usize,
    /// The most fields in a request head.
    pub field_limit: usize,
    /// From the first byte of a head to its end.
    pub head_timeout: Duration,
    /// The longest rest of a client's connection.
    pub idle_timeout: Duration,
    /// Its pool.
    pub pool: Arc<Pool>,
    /// Its identity and counts.
    pub cell: Arc<FrontendCell>,
}

/// A pool as traffic sees it.
#[derive(Debug)]
pub struct Pool {
    /// Its name.
    pub name: Name,
    /// How it deals out work among the eligible ones of `servers`.
    pub balance: Box<dyn Balance>,
    /// All servers in the order of their names, eligible or not; a place in this list is what `balance` picks.
    pub servers: Vec<Server>,
    /// How many servers one request may be offered to.
    pub attempts: usize,
    /// Its turn.
    pub cell: Arc<PoolCell>,
}

/// How long the steps of an exchange with a server may take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Times {
    /// Connecting.
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
    /// Its name.
    pub name: PoolServer,
    /// Where it listens.
    pub address: SocketAddr,
    /// Whether it is eligible, and its expected share.
    pub standing: Standing,
    /// How long its steps may take.
    pub times: Times,
    /// Its identity and counts.
    pub cell: Arc<ServerCell>,
}

impl Snapshot {
    /// A snapshot without any frontend: what a node runs before its first revision.
    #[must_use]
    pub fn empty() -> Self {
        Self { version: 0, revision: 0, frontends: Vec::new(), pools: Vec::new() }
    }

    /// The frontend with the number of its cell; `None` when this snapshot has no such frontend.
    #[must_use]
    pub fn frontend(&self, id: u32) -> Option<&Arc<Frontend>> {
        self.frontends.get(id as usize)?.as_ref()
    }

    /// All frontends.
    pub fn frontends(&self) -> impl Iterator<Item = &Arc<Frontend>> {
        self.frontends.iter().flatten()
    }

    /// The frontend of a name.
    #[must_use]
    pub fn frontend_named(&self, name: &Name) -> Option<&Arc<Frontend>> {
        self.frontends().find(|frontend| frontend.name == *name)
    }
}

impl Pool {
    /// Decides which server gets the next request: its place among `servers`, or `None` when no eligible server
    /// is left that was not tried.
    #[must_use]
    pub fn decide(&self, tried: &Tried) -> Option<usize> {
        self.balance.pick(&self.cell, tried)
    }

    /// How many servers could take new work: the eligible ones, and those that stand by.
    #[must_use]
    pub fn able(&self) -> usize {
        let able = |server: &&Server| matches!(server.standing.reason, None | Some(Reason::Standby));
        self.servers.iter().filter(able).count()
    }

    /// How many servers are eligible.
    #[must_use]
    pub fn eligible(&self) -> usize {
        self.servers.iter().filter(|server| server.standing.reason.is_none()).count()
    }
}
