//! Where each shot of a trial should have gone, by what held when it was decided.

use std::collections::{BTreeMap, VecDeque};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use merismos_core::config::document::{BalancePer, Protocol};
use merismos_core::eligibility::IneligibleReason;
use merismos_core::name::{Name, PoolServer};
use merismos_core::proof::{ClientMove, Expectation, RequestResults, TallySample, TrialOutcome};
use merismos_core::routing::{
    Frontend, FrontendRules, Pool, PoolReason, RequestFacts, RuleDecision, Server, Snapshot,
};
use merismos_core::rules::{RequestVersion, RuleFacts};
use merismos_core::time::Tick;
use merismos_load::{ClientOutcome as Outcomes, LoadPlan, LoadTls, RequestRecord, RequestSpec};
use merismos_plane::observer::{Observation, ObservedWork};
use tokio::sync::broadcast;
use tokio::sync::broadcast::error::TryRecvError;

/// The frontend as it was in each version of the snapshot while a trial ran.
pub(super) struct FrontendVersions {
    first: Arc<Frontend>,
    first_version: u64,
    published: broadcast::Receiver<Arc<Snapshot>>,
    later: BTreeMap<u64, Option<Arc<Frontend>>>,
}

impl FrontendVersions {
    pub(super) fn new(
        first: &Arc<Frontend>,
        first_version: u64,
        published: broadcast::Receiver<Arc<Snapshot>>,
    ) -> Self {
        Self { first: Arc::clone(first), first_version, published, later: BTreeMap::new() }
    }

    /// Takes over what was published since the last call.
    pub(super) fn catch_up(&mut self) {
        loop {
            match self.published.try_recv() {
                Ok(snapshot) => {
                    let frontend = snapshot.frontend_named(&self.first.name).cloned();
                    self.later.insert(snapshot.version, frontend);
                }
                Err(TryRecvError::Lagged(_)) => {}
                Err(TryRecvError::Empty | TryRecvError::Closed) => return,
            }
        }
    }

    /// The one that was published after a version.
    fn after(&self, version: u64) -> Option<&Arc<Frontend>> {
        self.later.range(version + 1..).next()?.1.as_ref()
    }

    fn at(&self, version: u64) -> Option<&Arc<Frontend>> {
        if version == self.first_version { Some(&self.first) } else { self.later.get(&version)?.as_ref() }
    }
}

/// What the witness saw, until it is joined with what the clients saw.
#[derive(Default)]
pub(super) struct TrialObservations {
    /// A port may serve for several connections, one after the other.
    by_what: BTreeMap<ObservedWork, VecDeque<Observation>>,
}

impl TrialObservations {
    pub(super) fn note(&mut self, sighting: Observation) {
        self.by_what.entry(sighting.of).or_default().push_back(sighting);
    }

    /// Work that was answered and that the witness has not reported yet. What failed may be reported or not.
    pub(super) fn missing(&self, shots: &[RequestRecord]) -> MissingObservations {
        let mut missing = BTreeMap::new();
        for shot in shots.iter().filter(|shot| matches!(shot.seen, Outcomes::Answer(_) | Outcomes::Done)) {
            *missing.entry(work_of(shot)).or_default() += 1;
        }
        let mut missing = MissingObservations(missing);
        for (work, reports) in &self.by_what {
            reports.iter().for_each(|_| missing.note(work));
        }
        missing
    }

    fn of(&mut self, shot: &RequestRecord) -> Option<Observation> {
        self.by_what.get_mut(&work_of(shot))?.pop_front()
    }
}

/// Answered work that the witness has not reported yet, with how often.
#[derive(Debug)]
pub(super) struct MissingObservations(BTreeMap<ObservedWork, usize>);

impl MissingObservations {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(super) fn note(&mut self, work: &ObservedWork) {
        if let Some(left) = self.0.get_mut(work) {
            *left -= 1;
            if *left == 0 {
                self.0.remove(work);
            }
        }
    }
}

/// What the witness calls a request of a trial.
fn work_of(shot: &RequestRecord) -> ObservedWork {
    match shot.from {
        Some(from) => ObservedWork::Client(SocketAddr::new(from.ip().to_canonical(), from.port())),
        None => ObservedWork::Request(shot.number),
    }
}

/// What was seen of a trial, beside what was expected.
pub(super) struct JoinedObservations {
    pub(super) samples: Vec<TallySample>,
    /// The expected shares, by the numbers that the samples name.
    pub(super) shares: BTreeMap<u64, Vec<(PoolServer, f64)>>,
}

/// Joins what clients and witness saw, and says where each shot should have gone.
pub(super) fn join(
    plan: &LoadPlan,
    shots: &[RequestRecord],
    mut sightings: TrialObservations,
    versions: &FrontendVersions,
    what: RequestResults,
    only: Option<&PoolServer>,
) -> JoinedObservations {
    let mut book = ObservationBook { plan, versions, shares: BTreeMap::new(), numbers: BTreeMap::new() };
    let mut last: BTreeMap<u32, PoolServer> = BTreeMap::new();
    let mut samples = Vec::with_capacity(shots.len());
    for shot in shots {
        let sighting = sightings.of(shot);
        let version = sighting.as_ref().map_or(versions.first_version, |sighting| sighting.version);
        if shot.is_new {
            last.remove(&shot.client);
        }
        let before = last.get(&shot.client);
        let expectation = match only {
            Some(server) => Expectation::Server(server.clone()),
            None => book.expectation(shot, version, before),
        };
        let (server, failed_at) =
            sighting.map(|observation| (observation.server, observation.failed_at)).unwrap_or_default();
        let went = server.as_ref().zip(before.filter(|_| only.is_none()));
        let moved = went.and_then(|(server, before)| book.moved(shot, version, before, server, &failed_at));
        if let Some(server) = &server {
            last.insert(shot.client, server.clone());
        }
        let outcome = match shot.seen {
            Outcomes::Answer(status) => TrialOutcome::Answered(status),
            // That it left the client says nothing of whether it arrived.
            Outcomes::Done if what == RequestResults::OneWay && server.is_none() => TrialOutcome::Broken,
            Outcomes::Done => TrialOutcome::Done,
            Outcomes::Broken | Outcomes::Late => TrialOutcome::Broken,
        };
        let latency_us = u64::try_from(shot.took.as_micros()).unwrap_or(u64::MAX);
        samples.push(TallySample { server, failed_at, outcome, latency_us, expectation, moved });
    }
    JoinedObservations { samples, shares: book.shares }
}

/// Why no server gets the requests of a client.
pub(super) enum NoServerReason {
    /// A rule decides, and what it does.
    Rule(Name, &'static str),
    /// The frontend is in maintenance.
    Maintenance,
}

/// Where a client of the plan comes from.
pub(super) fn client_address(plan: &LoadPlan, client: u32) -> IpAddr {
    let addresses = &plan.clients.addresses;
    addresses.get(client as usize % addresses.len().max(1)).copied().unwrap_or(plan.address.ip())
}

/// The host that the requests of a plan ask for.
fn host(plan: &LoadPlan) -> String {
    let asked = match &plan.work {
        RequestSpec::Http { host, .. } => host.as_ref(),
        RequestSpec::Tcp { .. } | RequestSpec::Udp { .. } => None,
    };
    let name = asked.or(plan.tls.as_ref().map(|tls| &tls.name));
    name.map_or_else(|| plan.address.to_string(), |name| format!("{name}:{}", plan.address.port()))
}

/// The frontend with the pools that the requests of a client go to by its rules; or why they go to none.
pub(super) fn routed<'f>(
    frontend: &'f Arc<Frontend>,
    plan: &LoadPlan,
    client: IpAddr,
) -> Result<&'f Arc<Frontend>, NoServerReason> {
    let Some(rules) = frontend.rules.as_deref() else { return Ok(frontend) };
    if rules.maintenance_for(client).is_some() {
        return Err(NoServerReason::Maintenance);
    }
    let server_name = plan.tls.as_ref().map(|tls| tls.name.as_str());
    let path = match &plan.work {
        RequestSpec::Http { path, .. } => path,
        RequestSpec::Tcp { .. } => {
            return goes(frontend, rules, &RuleFacts::of_connection(client, plan.address, server_name));
        }
        RequestSpec::Udp { .. } => return Ok(frontend),
    };
    let host = host(plan);
    let any_field = |name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool| match name {
        "host" => is_wanted(host.as_bytes()),
        "user-agent" => is_wanted(b"merismos-trial"),
        _ => false,
    };
    let facts = RuleFacts {
        client,
        method: "GET",
        target: path,
        path: None,
        host: Some(host.as_bytes()),
        server_name,
        has_certificate: plan.tls.as_ref().is_some_and(LoadTls::shows_certificate),
        certificate_subject: &String::new,
        version: RequestVersion::One,
        local: plan.address,
        any_field: &any_field,
    };
    goes(frontend, rules, &facts)
}

fn goes<'f>(
    frontend: &'f Arc<Frontend>,
    rules: &'f FrontendRules,
    facts: &RuleFacts<'_>,
) -> Result<&'f Arc<Frontend>, NoServerReason> {
    let met = rules.follow(facts, &mut None, |_, _| ());
    let Some((_, rule)) = met else { return Ok(frontend) };
    match rules.decision(rule) {
        RuleDecision::Pools(way) => Ok(way),
        RuleDecision::Redirect(_) => Err(NoServerReason::Rule(rule.name.clone(), "redirect")),
        RuleDecision::Respond(_) => Err(NoServerReason::Rule(rule.name.clone(), "response")),
        RuleDecision::Close => Err(NoServerReason::Rule(rule.name.clone(), "close")),
    }
}

/// What to know of cookies that should have tied clients, where no client of a trial was given one.
pub(super) fn without_cookies(
    plan: &LoadPlan,
    shots: &[RequestRecord],
    frontend: &Frontend,
) -> Option<String> {
    if !plan.clients.keep_cookies || shots.iter().all(|shot| shot.is_new || shot.is_first) {
        return None;
    }
    let rules = frontend.all_pools().filter_map(|pool| Some((&pool.name, pool.pin_rule.as_ref()?)));
    rules.map(|(pool, rule)| (pool, rule.cookie_names().collect::<Vec<_>>())).find_map(|(pool, names)| {
        let is_carried =
            |shot: &RequestRecord| shot.cookies.iter().any(|name| names.contains(&name.as_str()));
        (!names.is_empty() && !shots.iter().any(is_carried)).then(|| {
            format!(
                "no client was tied: pool {pool} ties clients by the cookie {}, and no response set it",
                names.join(" or ")
            )
        })
    })
}

struct ObservationBook<'a> {
    plan: &'a LoadPlan,
    versions: &'a FrontendVersions,
    shares: BTreeMap<u64, Vec<(PoolServer, f64)>>,
    numbers: BTreeMap<(u64, Option<IpAddr>), u64>,
}

impl ObservationBook<'_> {
    fn address(&self, client: u32) -> IpAddr {
        client_address(self.plan, client)
    }

    /// The frontend in a version, with the pools that a client's requests go to; none where a rule does not send them to one.
    fn frontend(&self, version: u64, client: u32) -> Option<&Arc<Frontend>> {
        routed(self.versions.at(version)?, self.plan, self.address(client)).ok()
    }

    /// `last` is the server that the client had before.
    fn expectation(&mut self, shot: &RequestRecord, version: u64, last: Option<&PoolServer>) -> Expectation {
        let address = self.address(shot.client);
        let Some(frontend) = self.frontend(version, shot.client).cloned() else {
            return Expectation::Shares(u64::MAX);
        };
        let frontend = &*frontend;
        if let Some(server) = last.filter(|server| self.holds(frontend, server, shot)) {
            return Expectation::Server(server.clone());
        }
        // What cookies say beyond pins is the servers' matter.
        if !self.plan.clients.keep_cookies
            && let Some(server) = self.certain(frontend, address)
        {
            return Expectation::Server(server);
        }
        // Shares depend on the client where its network chooses the pool.
        let by_network =
            frontend.choice.as_ref().is_some_and(|choice| matches!(choice.by, PoolReason::Network(_)));
        let next = self.numbers.len() as u64;
        let by_rule = self.versions.at(version).is_some_and(|frontend| frontend.rules.is_some());
        let number =
            *self.numbers.entry((version, (by_network || by_rule).then_some(address))).or_insert(next);
        self.shares.entry(number).or_insert_with(|| frontend.expected(address, Tick(0)));
        Expectation::Shares(number)
    }

    /// Whether the client stays with the server that it had before.
    fn holds(&self, frontend: &Frontend, server: &PoolServer, shot: &RequestRecord) -> bool {
        // Whichever pool it is in: a client stays with its first server over all of them.
        let mut known =
            frontend.pools().flat_map(|pool| pool.servers.iter().map(move |server| (pool, server)));
        let Some((pool, known)) = known.find(|(_, candidate)| candidate.name == *server) else {
            return false;
        };
        !pool.limited && self.is_tied(frontend, pool, shot) && Server::may_go_on(known)
    }

    /// Whether what a client of the trial carries ties it to a server of the pool that it had before.
    fn is_tied(&self, frontend: &Frontend, pool: &Pool, shot: &RequestRecord) -> bool {
        let by_connection = frontend.balance_per == BalancePer::Connection && !shot.is_first;
        let carries = |name: &str| shot.cookies.iter().any(|carried| carried == name);
        let by_pin = pool.pin_rule.as_ref().is_some_and(|rule| rule.cookie_names().any(carries));
        frontend.protocol == Protocol::Http && (by_connection || by_pin)
    }

    /// Whether a client was moved from the server that it had before to another, and why.
    fn moved(
        &self,
        shot: &RequestRecord,
        version: u64,
        before: &PoolServer,
        server: &PoolServer,
        failed_at: &[PoolServer],
    ) -> Option<ClientMove> {
        if before == server {
            return None;
        }
        let frontend = self.frontend(version, shot.client)?;
        let moved = |reason: Option<&str>| {
            Some(ClientMove { from: before.clone(), reason: reason.map(str::to_owned) })
        };
        let mut servers = frontend.pools().flat_map(|pool| pool.servers.iter().map(move |it| (pool, it)));
        let Some((pool, known)) = servers.find(|(_, it)| it.name == *before) else {
            return moved(Some("removed"));
        };
        if !self.is_tied(frontend, pool, shot) {
            return None;
        }
        if failed_at.contains(before) {
            // What was open there was cut for that.
            let withdrawn =
                self.is_withdrawn(version, before).then(|| IneligibleReason::Withdrawn.to_string());
            return moved(Some(withdrawn.as_deref().unwrap_or("it failed them")));
        }
        match &known.standing.reason {
            Some(reason) if !Server::may_go_on(known) => moved(Some(&reason.to_string())),
            // Full ones are passed over for a moment, and the pin stays.
            _ if pool.limited => None,
            _ => moved(None),
        }
    }

    /// Whether an operator had withdrawn a server in a version, or did with the next one.
    fn is_withdrawn(&self, version: u64, server: &PoolServer) -> bool {
        let mut frontends = self.versions.at(version).into_iter().chain(self.versions.after(version));
        frontends.any(|frontend| {
            let mut servers = frontend.pools().flat_map(|pool| pool.servers.iter());
            servers.any(|known| {
                known.name == *server && known.standing.reason == Some(IneligibleReason::Withdrawn)
            })
        })
    }

    /// The one server that the client's key says.
    fn certain(&self, frontend: &Frontend, address: IpAddr) -> Option<PoolServer> {
        let host = host(self.plan);
        let field = |name: &str| match name {
            "host" => Some(host.as_bytes()),
            "user-agent" => Some(b"merismos-trial".as_slice()),
            _ => None,
        };
        let facts = match &self.plan.work {
            RequestSpec::Http { path, .. } => RequestFacts {
                port: None,
                client: address,
                target: Some(path),
                host: Some(host.as_bytes()),
                sni: None,
                label: None,
                first_bytes: None,
                field: &field,
            },
            RequestSpec::Tcp { .. } | RequestSpec::Udp { .. } => RequestFacts::of_client(address),
        };
        frontend.certain(&facts, Tick(0)).cloned()
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_report_of_failed_work_does_not_stand_for_answered_work() {
        let shot = |port: u16, seen: Outcomes| RequestRecord {
            number: u64::from(port),
            client: 0,
            from: Some(SocketAddr::from(([127, 0, 0, 1], port))),
            is_first: true,
            is_new: false,
            cookies: Arc::default(),
            sent: Duration::ZERO,
            took: Duration::ZERO,
            seen,
        };
        let report = |shot: &RequestRecord| Observation {
            of: work_of(shot),
            version: 1,
            server: None,
            failed_at: Vec::new(),
        };
        let shots = [shot(1, Outcomes::Broken), shot(2, Outcomes::Done), shot(3, Outcomes::Done)];
        let mut seen = TrialObservations::default();
        shots[..2].iter().for_each(|shot| seen.note(report(shot)));
        let mut missing = seen.missing(&shots);
        assert!(!missing.is_empty(), "two were reported, and one of two that were answered is missing");
        missing.note(&work_of(&shots[0]));
        assert!(!missing.is_empty());
        missing.note(&work_of(&shots[2]));
        assert!(missing.is_empty());
    }
}
