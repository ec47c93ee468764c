//! TCP clients: each connection is distributed once and then relayed.

use std::hint::cold_path;
use std::sync::Arc;

use merismos_core::balance;
use merismos_core::config::document::{OpenConnections, PinWhenGone};
use merismos_core::limits::RefusalReason;
use merismos_core::name::Name;
use merismos_core::routing::{
    AskedPools, ChosenPool, Frontend, RequestFacts, RequestKey, RuleDecision, Server,
};
use merismos_core::rules::RuleFacts;
use merismos_core::runtime::ServerWorkerCounters;

use crate::accept::{ClientConnection, ConnectionAddrs};
use crate::buffer::Buffer;
use crate::client_hello::{ClientHello, peek_client_hello};
use crate::context::{ConnectionState, RegisteredConnection, WorkerContext};
use crate::deadline::WakeReason;
use crate::decisions::{DecisionContext, PinReason};
use crate::io::{Connection, ConnectionTimer};
use crate::pinning::ClientPin;
use crate::relay::{Relay, RelayEnd};
use crate::select::{AttemptHistory, GaugeGuard, NoServer, ServerSelection};
use crate::tls::ServerProtocol;
use crate::upstream::{ConnectFailure, ServerApproach, ServerConnection};
use merismos_connector::connect::ConnectError;
use merismos_connector::proxy_header;

/// Why a client's connection is ended without having been relayed.
#[derive(Debug)]
enum TcpEnd {
    /// It has none of the keys that the pool distributes by.
    Refused,
    /// There is no server for it.
    Unavailable,
    /// No server could be reached.
    Unreached,
    /// The client closed or reset its connection.
    ClientGone,
}

/// Serves one client until its connection ends. `first` is what it has sent already.
pub(crate) async fn serve<C: Connection>(
    visit: ClientConnection<C>,
    frontend: Arc<Frontend>,
    first: Option<Buffer>,
) {
    let mut visit = visit;
    let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, who, .. } = &mut visit;
    client.alarm.bind_to_this_task().await;
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    let heard = match &frontend.first_bytes {
        // The name of a handshake that was done here is known; what is inside of it need not be another one.
        Some(wanted) if who.is_secure && wanted.patterns.is_empty() => {
            Some(ClientHello { name: stream.name(), first })
        }
        Some(wanted) => Box::pin(peek_client_hello(worker, stream, first, wanted, watch)).await,
        None => Some(ClientHello { name: None, first }),
    };
    let Some(ClientHello { name, first }) = heard else { return };
    let name = if who.is_secure { stream.name() } else { name };
    Box::pin(serve_asked(visit, frontend, ClientHello { name, first })).await;
}

/// As [`serve`], of a client that said already what it wants. `frontend` is how its client sees it: another one than the snapshot's where TLS
/// is passed on.
pub(crate) async fn serve_asked<C: Connection>(
    visit: ClientConnection<C>,
    frontend: Arc<Frontend>,
    hello: ClientHello,
) {
    let ClientConnection { at: RegisteredConnection { ref worker, ref client, .. }, mut stream, who, .. } =
        visit;
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    let ClientHello { name, mut first } = hello;
    client.resting.set(false);
    client.fresh.set(false);
    // What is looked for in it has to outlive the buffer, which goes on to the server.
    let said: Option<Box<[u8]>> = match &frontend.first_bytes {
        Some(wanted) if !wanted.patterns.is_empty() => first.as_deref().map(Box::from),
        Some(_) | None => None,
    };
    let mut course = AttemptHistory::default();
    let mut met = MetRule::NotAsked;
    let mut is_counted = false;
    loop {
        // What is decided goes by what holds now, at each attempt; once it is relayed the connection keeps it.
        let snapshot = worker.snapshot();
        let current = snapshot.frontend(client.frontend.get());
        // What is inside of a handshake that was done here is not passed on.
        let asked = name.as_deref().filter(|_| !who.is_secure);
        let passed = asked.and_then(|name| current?.passed_on(name));
        let current = passed.or(current.filter(|current| current.protocol == frontend.protocol));
        let frontend = current.map_or(&*frontend, |current| &**current);
        let lane = frontend.cell.lane(worker.index);
        if frontend.rules.is_some() || !matches!(met, MetRule::NotAsked) {
            cold_path();
            met = met.now(worker, frontend, who, name.as_deref());
        }
        let (rule, frontend) = match &met {
            MetRule::NotAsked | MetRule::None => (None, frontend),
            MetRule::Pools(rule, way) => (Some(rule), &**way),
            MetRule::Close => {
                lane.requests.increment();
                worker.note_refusal(frontend, RefusalReason::Rule, who.client.ip());
                stream.reset();
                return;
            }
        };
        if !is_counted {
            lane.requests.increment();
            is_counted = true;
        }
        let facts = RequestFacts {
            sni: name.as_deref(),
            first_bytes: said.as_deref(),
            ..RequestFacts::of_client(who.client.ip())
        };
        let version = snapshot.version;
        let step = TcpStep { worker, client, frontend, rule, version, facts: &facts, who, watch };
        let ended = match step.run(&mut course, &mut stream, &mut first).await {
            TcpAttempt::Again => continue,
            TcpAttempt::Served => return,
            TcpAttempt::Ended(ended) => ended,
        };
        match ended {
            TcpEnd::Refused => {
                lane.refused.increment();
                worker.note_refusal(frontend, RefusalReason::Malformed, who.client.ip());
            }
            TcpEnd::Unavailable => lane.unavailable.increment(),
            TcpEnd::Unreached => lane.unanswered.increment(),
            TcpEnd::ClientGone => return,
        }
        tracing::debug!(frontend = %frontend.name, ?ended, "a connection was not relayed");
        stream.reset();
        return;
    }
}

/// What the rules of a frontend say of a connection.
enum MetRule {
    NotAsked,
    /// It meets none.
    None,
    /// It met this one, and goes to the pools of this frontend.
    Pools(Name, Arc<Frontend>),
    /// It is closed.
    Close,
}

impl MetRule {
    /// What they say at this attempt: a connection keeps the rule that it met when it came, and goes where that leads now.
    fn now(
        self,
        worker: &WorkerContext,
        frontend: &Frontend,
        who: ConnectionAddrs,
        server_name: Option<&str>,
    ) -> Self {
        let rules = frontend.rules.as_deref();
        match self {
            Self::NotAsked => {
                let Some(rules) = rules else { return Self::None };
                let facts = RuleFacts::of_connection(who.client.ip(), who.meant_for, server_name);
                let met =
                    rules.follow(&facts, &mut None, |_, rule| rule.cell.count(worker.index, worker.now()));
                let Some((_, rule)) = met else { return Self::None };
                match rules.decision(rule) {
                    RuleDecision::Pools(way) => Self::Pools(rule.name.clone(), Arc::clone(way)),
                    RuleDecision::Close | RuleDecision::Redirect(_) | RuleDecision::Respond(_) => Self::Close,
                }
            }
            Self::Pools(name, before) => {
                let rule = rules.and_then(|rules| Some(rules.decision(rules.named(&name)?)));
                match rule {
                    Some(RuleDecision::Pools(way)) => Self::Pools(name, Arc::clone(way)),
                    _ => Self::Pools(name, before),
                }
            }
            Self::None | Self::Close => self,
        }
    }
}

/// What became of one attempt.
enum TcpAttempt {
    /// It was relayed until its end.
    Served,
    /// It may go to another server, as the newest snapshot says.
    Again,
    Ended(TcpEnd),
}

/// One attempt, by one snapshot.
#[derive(Clone, Copy)]
struct TcpStep<'a> {
    worker: &'a WorkerContext,
    client: &'a ConnectionState,
    frontend: &'a Frontend,
    /// The rule that the connection met.
    rule: Option<&'a Name>,
    version: u64,
    facts: &'a RequestFacts<'a>,
    who: ConnectionAddrs,
    watch: ConnectionTimer<'a>,
}

impl TcpStep<'_> {
    /// Offers the connection to one server, of the first pool that has one for it.
    async fn run(
        &self,
        course: &mut AttemptHistory<()>,
        stream: &mut impl Connection,
        first: &mut Option<Buffer>,
    ) -> TcpAttempt {
        let mut asked = AskedPools::default();
        let mut ended = TcpEnd::Unavailable;
        while let Some(chosen) = course.choose(self.worker, self.frontend, self.who.client.ip(), asked) {
            let pool = chosen.pool.as_ref();
            let Self { worker, client, watch, version, .. } = *self;
            let key = pool.key(self.facts);
            if key == RequestKey::Refused {
                ended = TcpEnd::Refused;
                break;
            }
            let deal = ServerSelection { worker, client, pool, key, watch, version };
            let tried = course.tried_in(pool);
            let before = tried.as_deref().unwrap_or(const { &balance::Excluded::none() });
            let mut pin = if course.is_new() { worker.client_pin(pool, self.facts) } else { ClientPin::None };
            let refuses = pool.pin_rule.as_ref().is_some_and(|rule| rule.when_gone == PinWhenGone::Refuse);
            let place = match pin {
                ClientPin::At { place, .. } => Ok(place),
                ClientPin::Full | ClientPin::Gone if refuses => Err(NoServer::NoneEligible),
                ClientPin::None | ClientPin::Full | ClientPin::Gone => {
                    pin = if pin == ClientPin::Full { pin } else { ClientPin::None };
                    deal.select_server(before, course, |context| stream.is_gone(context)).await
                }
            };
            match place {
                Ok(place) => {
                    if pin == ClientPin::None {
                        worker.learn_pin(pool, place, self.facts);
                    }
                    let tied = matches!(pin, ClientPin::At { .. }).then_some(PinReason::Pin);
                    self.sample_decision(&deal, &chosen, place, before, tied);
                    let sticks = refuses && tied.is_some();
                    return self.try_server(&deal, place, course, stream, first, sticks).await;
                }
                Err(NoServer::ClientGone) => return TcpAttempt::Ended(TcpEnd::ClientGone),
                Err(NoServer::Stale) => {
                    course.stays_in(pool);
                    return TcpAttempt::Again;
                }
                Err(NoServer::NoneEligible | NoServer::Full) => {}
            }
            asked.note(chosen.number);
        }
        if course.failures() > 0 {
            self.report_observation(None, course);
            ended = TcpEnd::Unreached;
        }
        TcpAttempt::Ended(ended)
    }

    fn sample_decision(
        &self,
        deal: &ServerSelection<'_>,
        chosen: &ChosenPool<'_>,
        place: usize,
        before: &balance::Excluded,
        tied: Option<PinReason>,
    ) {
        let (frontend, client, pool) = (self.frontend, self.who.client, chosen.pool.as_ref());
        deal.sample_decision(|| DecisionContext {
            frontend,
            rule: self.rule,
            label: None,
            pool: deal.pool,
            why_pool: frontend.why_pool(chosen, client.ip(), self.worker.now()),
            client,
            key: pool.key_rule.as_ref().and_then(|rule| rule.words(deal.key, self.facts)),
            tied,
            place,
            failed_at: before.indexes(),
            version: self.version,
        });
    }

    /// Reports to the watches where the connection went.
    fn report_observation(&self, server: Option<&Server>, course: &AttemptHistory<()>) {
        let server = server.map(|server| &server.name);
        let failed_at = || course.server_names();
        self.worker.watches.report(self.frontend.cell.id, self.who.client, self.version, server, failed_at);
    }

    /// Connects to a server and relays until the end.
    async fn try_server(
        &self,
        deal: &ServerSelection<'_>,
        place: usize,
        course: &mut AttemptHistory<()>,
        stream: &mut impl Connection,
        first: &mut Option<Buffer>,
        sticks: bool,
    ) -> TcpAttempt {
        let Self { worker, client, frontend, who, watch, .. } = *self;
        let pool = deal.pool;
        let server = &pool.servers[place];
        course.count_retry(worker);
        if let Some(share) = pool.failing.retry_share
            && course.failures() == 0
        {
            cold_path();
            pool.cell.attempts.earn(share);
        }
        let mut at = deal.begin(place);
        let header =
            pool.proxy_protocol.map(|version| proxy_header::header(version, who.client, who.meant_for));
        let approach =
            ServerApproach { header: header.as_deref(), ..worker.approach(pool, ServerProtocol::Any, watch) };
        let upstream = match worker.connect_server(server, pool, approach).await {
            Ok(upstream) => upstream,
            Err(failure) => {
                client.alarm.cancel();
                tracing::debug!(server = %server.name, ?failure, "a server was not reached");
                match failure {
                    // It has no room, and that is no failure of its.
                    ConnectFailure::Failed(ConnectError::LimitReached) => {
                        course.record_no_connection(pool);
                        return TcpAttempt::Again;
                    }
                    // Another server would need a descriptor too.
                    ConnectFailure::Failed(ConnectError::Exhausted) => {
                        return TcpAttempt::Ended(TcpEnd::Unavailable);
                    }
                    ConnectFailure::Cut => {}
                    ConnectFailure::Failed(_) => at.failed(),
                }
                course.record_failure(pool, place);
                let has_credit = || pool.failing.retry_share.is_none() || pool.cell.attempts.take();
                if !sticks && course.failures() < pool.attempts && has_credit() {
                    return TcpAttempt::Again;
                }
                self.report_observation(None, course);
                return TcpAttempt::Ended(TcpEnd::Unreached);
            }
        };
        at.lane.taken.increment();
        self.report_observation(Some(server), course);
        at.goes_on();
        let _open = GaugeGuard::new(&at.lane.connections);
        if let Some(life) = frontend.max_connection_age {
            watch.set_total_timeout(life);
        }
        client.may_move.set(pool.failing.on_down == OpenConnections::Break);
        client.leaves_at_failback.set(pool.failing.on_failback == OpenConnections::Break);
        let relay = Relay::new(worker, at.lane, watch, frontend.idle_timeout, first.take(), None);
        match upstream.stream {
            ServerConnection::Plain(mut upstream) => {
                relay_to_end(relay, at.lane, stream, &mut upstream).await
            }
            ServerConnection::Tls(mut upstream) => {
                cold_path();
                Box::pin(relay_to_end(relay, at.lane, stream, &mut *upstream)).await;
            }
        }
        TcpAttempt::Served
    }
}

/// Relays until one side ends or breaks off, and ends the other accordingly.
async fn relay_to_end(
    mut relay: Relay<'_>,
    lane: &ServerWorkerCounters,
    stream: &mut impl Connection,
    upstream: &mut impl Connection,
) {
    match relay.run(stream, upstream).await {
        RelayEnd::Finished => {}
        RelayEnd::Rang(WakeReason::Drained) => {
            lane.cut_connections.increment();
            if !Box::pin(relay.end_in_order(stream, upstream)).await {
                stream.reset();
                upstream.reset();
            }
        }
        // The peer that is left must not take this for an orderly end.
        ended @ (RelayEnd::Broken
        | RelayEnd::Rang(
            WakeReason::Cut | WakeReason::Deadline | WakeReason::Close | WakeReason::Crowded,
        )) => {
            if ended == RelayEnd::Rang(WakeReason::Cut) {
                lane.cut_connections.increment();
            }
            stream.reset();
            upstream.reset();
        }
    }
}
