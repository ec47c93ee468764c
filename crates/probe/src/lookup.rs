//! Lookups: DNS names whose answers are servers of a pool, asked again as their time to live says.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

use hickory_resolver::TokioResolver;
use hickory_resolver::config::{ConnectionConfig, NameServerConfig, ResolverConfig, ResolverOpts};
use hickory_resolver::net::NetError;
use hickory_resolver::net::runtime::TokioRuntimeProvider;
use hickory_resolver::proto::rr::{RData, RecordType};
use merismos_core::config::discovery::{DiscoveredServer, ServiceRecord, from_addresses, from_services};
use merismos_core::config::document::{LookupRecords, LookupSpec};
use merismos_core::name::Name;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// How long one question may wait for its answer.
const ASK_LIMIT: Duration = Duration::from_secs(2);
/// How often a question is sent before it has failed.
const ASK_TIMES: usize = 2;
/// How long after a failure the name is asked for again, at least.
const RETRY_AFTER: Duration = Duration::from_secs(5);
/// Answers are asked for again after this time at the latest.
const LONGEST_REST: Duration = Duration::from_secs(3_600);

/// Which lookup: its pool and its own name.
pub type LookupId = (Name, Name);

/// Why a name gave no servers.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LookupError {
    /// The name server answered that there is nothing.
    #[error("the name server says that {name} has no {records} records")]
    Empty {
        /// The DNS name that was looked up.
        name: String,
        /// What was asked for.
        records: &'static str,
    },
    /// The name server did not answer, or not in a way that helps.
    #[error("{name} could not be looked up: {why}")]
    Failed {
        /// The DNS name that was looked up.
        name: String,
        /// What the resolver says of it.
        why: String,
    },
}

/// What a name stands for right now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LookedUp {
    /// Its servers, at least one.
    pub servers: std::collections::BTreeSet<DiscoveredServer>,
    /// How long the answer is good for, from now.
    pub good_for: Duration,
}

/// What one lookup came to.
#[derive(Debug)]
pub struct LookupReport {
    /// The lookup that this is a result of.
    pub id: LookupId,
    /// What was asked: a report of a lookup that was changed meanwhile is out of date.
    pub lookup: LookupSpec,
    /// The servers that were found, or why there is no answer.
    pub outcome: Result<LookedUp, LookupError>,
}

/// All running lookups. Dropping it ends them.
#[derive(Debug)]
pub struct Lookups {
    reports: mpsc::Sender<LookupReport>,
    running: BTreeMap<LookupId, (LookupSpec, JoinHandle<()>)>,
}

impl Lookups {
    /// Asks nothing yet; reports go to `reports`.
    #[must_use]
    pub fn new(reports: mpsc::Sender<LookupReport>) -> Self {
        Self { reports, running: BTreeMap::new() }
    }

    /// Asks for these names and no others from now on. Must be called on a Tokio runtime.
    pub fn set(&mut self, lookups: BTreeMap<LookupId, LookupSpec>) {
        let before = std::mem::take(&mut self.running);
        for (id, (lookup, task)) in before {
            if lookups.get(&id) == Some(&lookup) {
                self.running.insert(id, (lookup, task));
            } else {
                task.abort();
            }
        }
        for (id, lookup) in lookups {
            if let Entry::Vacant(entry) = self.running.entry(id.clone()) {
                let task = tokio::spawn(follow(id, lookup.clone(), self.reports.clone()));
                entry.insert((lookup, task));
            }
        }
    }
}

impl Drop for Lookups {
    fn drop(&mut self) {
        self.running.values().for_each(|(_, task)| task.abort());
    }
}

/// Asks for one name for ever.
async fn follow(id: LookupId, lookup: LookupSpec, reports: mpsc::Sender<LookupReport>) {
    let least = lookup.min_interval.get();
    loop {
        let outcome = look_up(&lookup).await;
        let rest = match &outcome {
            Ok(answer) => answer.good_for.clamp(least, LONGEST_REST.max(least)),
            Err(_) => RETRY_AFTER.max(least),
        };
        if reports.send(LookupReport { id: id.clone(), lookup: lookup.clone(), outcome }).await.is_err() {
            return;
        }
        tokio::time::sleep(rest).await;
    }
}

/// Asks one name server alone, once, for so long.
pub(crate) fn resolver_at(
    address: SocketAddr,
    source: Option<IpAddr>,
    limit: Duration,
) -> Result<TokioResolver, NetError> {
    let mut options = ResolverOpts::default();
    (options.timeout, options.attempts, options.cache_size) = (limit, 0, 0);
    let mut way = ConnectionConfig::udp();
    way.port = address.port();
    way.bind_addr = source.map(|source| SocketAddr::new(source, 0));
    let server = NameServerConfig::new(address.ip(), true, vec![way]);
    let config = ResolverConfig::from_parts(None, Vec::new(), vec![server]);
    TokioResolver::builder_with_config(config, TokioRuntimeProvider::default()).with_options(options).build()
}

fn resolver(lookup: &LookupSpec) -> Result<TokioResolver, NetError> {
    let mut options = ResolverOpts::default();
    options.timeout = ASK_LIMIT;
    options.attempts = ASK_TIMES;
    // The caller keeps the answers; a cache below would only make them older.
    options.cache_size = 0;
    let builder = match lookup.resolver {
        Some(address) => {
            let at = |mut way: ConnectionConfig| {
                way.port = address.port();
                way
            };
            let ways = vec![at(ConnectionConfig::udp()), at(ConnectionConfig::tcp())];
            let server = NameServerConfig::new(address.ip(), true, ways);
            TokioResolver::builder_with_config(
                ResolverConfig::from_parts(None, Vec::new(), vec![server]),
                TokioRuntimeProvider::default(),
            )
        }
        None => TokioResolver::builder_tokio()?,
    };
    builder.with_options(options).build()
}

/// Asks for a name once.
///
/// # Errors
/// When the answer is that there is nothing, and when there is no answer.
pub async fn look_up(lookup: &LookupSpec) -> Result<LookedUp, LookupError> {
    let failed = |error: &NetError| LookupError::Failed { name: lookup.name.clone(), why: error.to_string() };
    let resolver = resolver(lookup).map_err(|error| failed(&error))?;
    // A name with dots is meant as it stands, not as a part of the machine's own domain.
    let name = format!("{}.", lookup.name.trim_end_matches('.'));
    let mut good_for = LONGEST_REST;
    let servers = match lookup.records {
        LookupRecords::Address => {
            let addresses =
                addresses(&resolver, &name, &mut good_for).await.map_err(|error| failed(&error))?;
            from_addresses(lookup, &addresses)
        }
        LookupRecords::Service => {
            let services = services(&resolver, &name, &mut good_for).await.map_err(|error| failed(&error))?;
            from_services(lookup, &services)
        }
    };
    if servers.is_empty() {
        let records = match lookup.records {
            LookupRecords::Address => "address",
            LookupRecords::Service => "service",
        };
        return Err(LookupError::Empty { name: lookup.name.clone(), records });
    }
    Ok(LookedUp { servers, good_for })
}

/// The records of one kind; none when the name server says so.
async fn records(
    resolver: &TokioResolver,
    name: &str,
    kind: RecordType,
    good_for: &mut Duration,
) -> Result<Vec<RData>, NetError> {
    match resolver.lookup(name, kind).await {
        Ok(answer) => {
            *good_for = (*good_for).min(answer.valid_until().saturating_duration_since(Instant::now()));
            Ok(answer.answers().iter().map(|record| record.data.clone()).collect())
        }
        Err(error) if error.is_no_records_found() => Ok(Vec::new()),
        Err(error) => Err(error),
    }
}

async fn addresses(
    resolver: &TokioResolver,
    name: &str,
    good_for: &mut Duration,
) -> Result<Vec<IpAddr>, NetError> {
    let mut found = Vec::new();
    for kind in [RecordType::A, RecordType::AAAA] {
        let records = records(resolver, name, kind, good_for).await?;
        found.extend(records.iter().filter_map(RData::ip_addr));
    }
    Ok(found)
}

async fn services(
    resolver: &TokioResolver,
    name: &str,
    good_for: &mut Duration,
) -> Result<Vec<ServiceRecord>, NetError> {
    let mut found = Vec::new();
    for record in records(resolver, name, RecordType::SRV, good_for).await? {
        let RData::SRV(service) = record else { continue };
        // A target of "." says that the service is not offered (RFC 2782).
        if service.target.is_root() {
            continue;
        }
        let addresses = addresses(resolver, &service.target.to_ascii(), good_for).await?;
        found.push(ServiceRecord {
            priority: service.priority,
            weight: service.weight,
            port: service.port,
            addresses,
        });
    }
    Ok(found)
}
