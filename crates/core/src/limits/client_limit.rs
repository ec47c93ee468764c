//! One limit as traffic goes by it.

use std::cell::Cell;
use std::hash::Hasher as _;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use ipnet::IpNet;
use siphasher::sip::SipHasher13;

use super::body_pace::BodyPace;
use super::in_flight_table::{InFlightPlace, InFlightTable};
use super::offenders::{Offender, Offenders};
use super::rate_table::{PacedRate, RateAnswer, RateTable};
use crate::config::document::{HashKey, HashSettings, LimitAction, LimitKey, LimitSpec};
use crate::draw::mix;
use crate::name::Name;
use crate::routing::{KeyRule, RequestFacts, masked};
use crate::runtime::Counter;

/// Nanoseconds in a second.
pub(super) const SECOND: u64 = 1_000_000_000;
/// How long a request is delayed at most where nothing is said.
const USUAL_DELAY: u64 = SECOND;

/// Where a limit keeps what it counts, over all snapshots in which clients are distinguished alike.
#[derive(Clone, Debug)]
pub struct LimitTables {
    /// What tells clients apart, and how many are counted by themselves.
    shape: (LimitKey, u8, u8, u32),
    /// The key of the hash: a secret, so that no client can make itself another's neighbour.
    seed: (u64, u64),
    rates: Option<Arc<RateTable>>,
    in_flight: Option<Arc<InFlightTable>>,
    connections: Option<Arc<InFlightTable>>,
    bytes: Option<Arc<RateTable>>,
}

impl LimitTables {
    /// The tables of a limit: those of `before` as far as they still fit, new ones for what was not counted yet.
    #[must_use]
    pub fn of(spec: &LimitSpec, seed: u64, before: Option<&Self>) -> Self {
        let shape = (spec.per.clone(), spec.prefix_ipv4, spec.prefix_ipv6, spec.clients);
        let before = before.filter(|before| before.shape == shape);
        // All clients together need one place.
        let clients = if spec.per == LimitKey::All { 1 } else { spec.clients as usize };
        let in_flight = |wanted: Option<u32>, kept: Option<&Arc<InFlightTable>>| {
            wanted.map(|_| kept.cloned().unwrap_or_else(|| Arc::new(InFlightTable::new(clients))))
        };
        let paced = |is_wanted: bool, kept: Option<&Arc<RateTable>>| {
            is_wanted.then(|| kept.cloned().unwrap_or_else(|| Arc::new(RateTable::new(clients))))
        };
        Self {
            rates: paced(spec.rate.is_some(), before.and_then(|before| before.rates.as_ref())),
            bytes: paced(spec.bandwidth.is_some(), before.and_then(|before| before.bytes.as_ref())),
            in_flight: in_flight(spec.in_flight, before.and_then(|before| before.in_flight.as_ref())),
            connections: in_flight(spec.connections, before.and_then(|before| before.connections.as_ref())),
            seed: before.map_or_else(|| (seed, mix(seed)), |before| before.seed),
            shape,
        }
    }

    fn hash(&self, bytes: &[u8]) -> u64 {
        let mut hasher = SipHasher13::new_with_keys(self.seed.0, self.seed.1);
        hasher.write(bytes);
        hasher.finish()
    }
}

/// The first of some keys that a request has.
fn key_rule(spec: &LimitSpec, keys: Vec<HashKey>) -> KeyRule {
    KeyRule::new(&HashSettings {
        keys,
        prefix_ipv4: Some(spec.prefix_ipv4),
        prefix_ipv6: Some(spec.prefix_ipv6),
        when_absent: None,
        bound: None,
    })
}

/// What one worker counted of one limit.
#[derive(Debug, Default)]
#[repr(align(128))]
pub(super) struct LimitLane {
    passed: Counter,
    pub(super) delayed: Counter,
    refused: Counter,
    pub(super) observed: Counter,
    pub(super) shared: Counter,
    /// Locked by its own worker, and for a moment by who asks for it.
    offenders: Mutex<Offenders>,
}

impl LimitLane {
    pub(super) fn offenders(&self) -> MutexGuard<'_, Offenders> {
        self.offenders.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What a limit did.
#[derive(Debug)]
pub struct LimitCounts {
    pub(super) lanes: Box<[LimitLane]>,
}

/// What a limit did, over all workers.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LimitTotals {
    /// Requests, connections and flows that passed at once.
    pub passed: u64,
    /// Requests that had to wait.
    pub delayed: u64,
    /// What was refused.
    pub refused: u64,
    /// What passed though it was too much, for the limit only observes.
    pub observed: u64,
    /// What was counted together with other clients, for as many as may be counted by themselves were there.
    pub shared: u64,
    /// The networks of clients that were held off most, most often first.
    pub offenders: Vec<Offender>,
}

impl LimitCounts {
    /// Nothing counted yet, for so many workers.
    #[must_use]
    pub fn new(lanes: usize) -> Self {
        Self { lanes: (0..lanes).map(|_| LimitLane::default()).collect() }
    }

    /// The sums over all workers, read without stopping them.
    #[must_use]
    pub fn totals(&self) -> LimitTotals {
        let sum = |pick: fn(&LimitLane) -> &Counter| self.lanes.iter().map(|lane| pick(lane).get()).sum();
        let mut all = Offenders::default();
        for lane in &self.lanes {
            for offender in lane.offenders().iter() {
                all.add(offender.network, offender.count, offender.over, offender.last);
            }
        }
        LimitTotals {
            passed: sum(|lane| &lane.passed),
            delayed: sum(|lane| &lane.delayed),
            refused: sum(|lane| &lane.refused),
            observed: sum(|lane| &lane.observed),
            shared: sum(|lane| &lane.shared),
            offenders: all.most(),
        }
    }
}

/// Something that a limit counts as under way; it ends when this is dropped.
#[derive(Debug)]
pub struct LimitedWork {
    table: Arc<InFlightTable>,
    place: InFlightPlace,
}

impl Drop for LimitedWork {
    fn drop(&mut self) {
        self.table.release(&self.place);
    }
}

/// Why something was too much.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ExcessReason {
    /// It came too early for the rate.
    Rate,
    /// As many requests as may be in flight were.
    InFlight,
    /// As many connections as may be open were.
    Connections,
}

/// What becomes of something that a client asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LimitVerdict {
    /// It passes after so many nanoseconds; 0 is at once.
    Pass(u64),
    /// It is too much.
    Refuse {
        /// Of what.
        why: ExcessReason,
        /// In how many seconds it may come again.
        retry_after: u64,
    },
}

/// What a limit knows of a client at one moment; what it does not limit is absent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LimitPeek {
    /// What would become of a request by its rate.
    pub rate: Option<RateAnswer>,
    /// How many of its requests are in flight.
    pub in_flight: Option<u64>,
    /// How many of its connections or flows are open.
    pub connections: Option<u64>,
}

/// One limit as traffic goes by it.
#[derive(Clone, Debug)]
pub struct ClientLimit {
    /// Name of the limit.
    pub name: Name,
    spec: LimitSpec,
    key: Option<KeyRule>,
    rate: Option<PacedRate>,
    tables: LimitTables,
    /// What it did.
    pub counts: Arc<LimitCounts>,
}

impl ClientLimit {
    /// A limit that counts in these places.
    #[must_use]
    pub fn new(name: Name, spec: LimitSpec, tables: LimitTables, counts: Arc<LimitCounts>) -> Self {
        let key = match &spec.per {
            LimitKey::All => None,
            // Who does not have it counts by address.
            LimitKey::Label => Some(key_rule(&spec, vec![HashKey::ClientAddress])),
            LimitKey::Of(key) => Some(key_rule(&spec, vec![key.clone(), HashKey::ClientAddress])),
        };
        let within = u64::try_from(spec.within.get().as_nanos()).unwrap_or(u64::MAX);
        let rate = spec.rate.map(|rate| PacedRate::new(rate, within, spec.burst.unwrap_or(rate)));
        Self { name, spec, key, rate, tables, counts }
    }

    /// What was configured.
    #[must_use]
    pub fn spec(&self) -> &LimitSpec {
        &self.spec
    }

    /// Whether it only counts.
    #[must_use]
    pub fn observes(&self) -> bool {
        self.spec.action == LimitAction::Observe
    }

    /// How many clients it counts now by their rate, about.
    #[must_use]
    pub fn clients(&self, now: u64) -> Option<usize> {
        self.tables.rates.as_ref().map(|rates| rates.clients(now))
    }

    /// Asks for a request. What is under way with it is added to `held`.
    #[must_use]
    pub fn ask_request(
        &self,
        facts: &RequestFacts<'_>,
        now: u64,
        worker: usize,
        held: &mut Vec<LimitedWork>,
    ) -> LimitVerdict {
        let at_once = self.tables.in_flight.as_ref().zip(self.spec.in_flight);
        if at_once.is_none() && self.rate.is_none() {
            return LimitVerdict::Pass(0);
        }
        let asked = Asked { hash: self.hash(facts), client: facts.client, now, worker };
        self.ask(asked, at_once, ExcessReason::InFlight, self.rate, held)
    }

    /// The pace of the bodies of a request, where they have one.
    #[must_use]
    pub fn pace(&self, facts: &RequestFacts<'_>) -> Option<BodyPace> {
        Some(BodyPace {
            table: self.tables.bytes.clone()?,
            counts: Arc::clone(&self.counts),
            hash: self.hash(facts),
            client: self.offender(facts.client),
            bandwidth: self.spec.bandwidth?.bytes().max(1),
            observes: self.observes(),
            was_held_up: Cell::new(false),
        })
    }

    /// Asks for a connection or a flow before anything of it is read: its number, and where `counts_rate` its rate.
    #[must_use]
    pub fn ask_connection(
        &self,
        client: IpAddr,
        counts_rate: bool,
        now: u64,
        worker: usize,
        held: &mut Vec<LimitedWork>,
    ) -> LimitVerdict {
        let at_once = self.tables.connections.as_ref().zip(self.spec.connections);
        let rate = self.rate.filter(|_| counts_rate);
        if (at_once.is_none() && rate.is_none()) || !self.spec.per.is_known_early() {
            return LimitVerdict::Pass(0);
        }
        let asked = Asked { hash: self.hash(&RequestFacts::of_client(client)), client, now, worker };
        self.ask(asked, at_once, ExcessReason::Connections, rate, held)
    }

    fn ask(
        &self,
        asked: Asked,
        at_once: Option<(&Arc<InFlightTable>, u32)>,
        reason: ExcessReason,
        rate: Option<PacedRate>,
        held: &mut Vec<LimitedWork>,
    ) -> LimitVerdict {
        let lane = &self.counts.lanes[asked.worker];
        let mut is_observed = false;
        let before = held.len();
        if let Some((table, most)) = at_once {
            match table.acquire(asked.hash, most) {
                Some(place) => {
                    if matches!(place, InFlightPlace::Shared(_)) {
                        lane.shared.increment();
                    }
                    held.push(LimitedWork { table: Arc::clone(table), place });
                }
                None if self.observes() => is_observed = true,
                None => return self.refuse(asked, reason, 1),
            }
        }
        let mut wait = 0;
        if let Some((rates, rate)) = self.tables.rates.as_ref().zip(rate) {
            let (answer, is_shared) = rates.ask(asked.hash, rate, asked.now, self.patience());
            if is_shared {
                lane.shared.increment();
            }
            match answer {
                RateAnswer::Pass(later) => wait = later,
                RateAnswer::Early(_) if self.observes() => is_observed = true,
                RateAnswer::Early(early) => {
                    held.truncate(before);
                    return self.refuse(asked, ExcessReason::Rate, early.div_ceil(SECOND));
                }
            }
        }
        if is_observed {
            lane.observed.increment();
            self.note(asked);
        } else if wait > 0 {
            lane.delayed.increment();
            self.note(asked);
        } else {
            lane.passed.increment();
        }
        LimitVerdict::Pass(wait)
    }

    /// What is known of a client, without counting anything.
    #[must_use]
    pub fn peek(&self, facts: &RequestFacts<'_>, now: u64) -> LimitPeek {
        let hash = self.hash(facts);
        let rates = self.tables.rates.as_ref().zip(self.rate);
        let at_once = |table: &Option<Arc<InFlightTable>>| table.as_ref().map(|table| table.peek(hash));
        LimitPeek {
            rate: rates.map(|(rates, rate)| rates.peek(hash, rate, now, self.patience())),
            in_flight: at_once(&self.tables.in_flight),
            connections: at_once(&self.tables.connections),
        }
    }

    fn patience(&self) -> u64 {
        match self.spec.action {
            LimitAction::Delay => self
                .spec
                .max_delay
                .map_or(USUAL_DELAY, |most| u64::try_from(most.get().as_nanos()).unwrap_or(u64::MAX)),
            LimitAction::Refuse | LimitAction::Observe => 0,
        }
    }

    fn hash(&self, facts: &RequestFacts<'_>) -> u64 {
        let Some(key) = &self.key else { return 0 };
        if let Some(label) = facts.label.filter(|_| self.spec.per == LimitKey::Label) {
            return self.tables.hash(label.as_bytes());
        }
        key.hashed(facts, &|bytes| self.tables.hash(bytes)).unwrap_or(0)
    }

    fn refuse(&self, asked: Asked, why: ExcessReason, retry_after: u64) -> LimitVerdict {
        self.counts.lanes[asked.worker].refused.increment();
        self.note(asked);
        LimitVerdict::Refuse { why, retry_after: retry_after.max(1) }
    }

    /// A client was held off.
    fn note(&self, asked: Asked) {
        if let Some(network) = self.offender(asked.client) {
            self.counts.lanes[asked.worker].offenders().add(network, 1, 0, asked.now);
        }
    }

    /// What a client is called among those that were held off.
    fn offender(&self, client: IpAddr) -> Option<IpNet> {
        let client = masked(client, self.spec.prefix_ipv4, self.spec.prefix_ipv6);
        let bits = if client.is_ipv4() { self.spec.prefix_ipv4 } else { self.spec.prefix_ipv6 };
        IpNet::new(client, bits).ok()
    }
}

/// Who asks, and when.
#[derive(Clone, Copy)]
struct Asked {
    hash: u64,
    client: IpAddr,
    now: u64,
    worker: usize,
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::config::{DocumentFormat, load};
    use crate::units::Span;

    fn limit(change: impl Fn(&mut LimitSpec)) -> ClientLimit {
        let text = "format = 3\n[limits.visitor]\nrate = 1\n";
        let checked = load(text, DocumentFormat::Toml).unwrap();
        let mut spec = LimitSpec { rate: None, ..checked.document().limits.values().next().unwrap().clone() };
        change(&mut spec);
        let tables = LimitTables::of(&spec, 7, None);
        ClientLimit::new("visitor".parse().unwrap(), spec, tables, Arc::new(LimitCounts::new(2)))
    }

    fn facts(client: &str) -> RequestFacts<'static> {
        RequestFacts::of_client(client.parse().unwrap())
    }

    fn is_refused(verdict: LimitVerdict) -> bool {
        matches!(verdict, LimitVerdict::Refuse { .. })
    }

    #[test]
    fn a_rate_refuses_with_a_time_to_come_again() {
        let limit = limit(|spec| {
            (spec.rate, spec.within) = (Some(2), "10s".parse::<Span>().unwrap());
        });
        let mut held = Vec::new();
        let mut ask = |client: &str, now| limit.ask_request(&facts(client), now, 0, &mut held);
        let answers = [1, 2, 3].map(|_| ask("192.0.2.7", SECOND));
        let refused = LimitVerdict::Refuse { why: ExcessReason::Rate, retry_after: 5 };
        assert_eq!(answers, [LimitVerdict::Pass(0), LimitVerdict::Pass(0), refused]);
        assert_eq!(ask("192.0.2.8", SECOND), LimitVerdict::Pass(0), "another client");
        assert_eq!(ask("192.0.2.7", 6 * SECOND), LimitVerdict::Pass(0));
        let totals = limit.counts.totals();
        assert_eq!((totals.passed, totals.refused, totals.shared), (4, 1, 0));
        assert_eq!(totals.offenders[0].network.to_string(), "192.0.2.7/32");
    }

    #[rstest]
    #[case::whole_addresses(32, "192.0.2.7", "192.0.2.8", false)]
    #[case::a_network(24, "192.0.2.7", "192.0.2.8", true)]
    #[case::of_ipv6(32, "2001:db8::1", "2001:db8::2", true)]
    #[case::another_of_ipv6(32, "2001:db8::1", "2001:db8:0:1::1", false)]
    fn clients_of_a_network_count_together(
        #[case] bits: u8,
        #[case] one: &str,
        #[case] other: &str,
        #[case] together: bool,
    ) {
        let limit = limit(|spec| (spec.rate, spec.prefix_ipv4) = (Some(1), bits));
        let mut held = Vec::new();
        assert_eq!(limit.ask_request(&facts(one), SECOND, 0, &mut held), LimitVerdict::Pass(0));
        assert_eq!(is_refused(limit.ask_request(&facts(other), SECOND, 1, &mut held)), together);
    }

    #[test]
    fn what_is_under_way_counts_until_it_ends() {
        let limit = limit(|spec| (spec.in_flight, spec.connections) = (Some(2), Some(1)));
        let (mut requests, mut connections) = (Vec::new(), Vec::new());
        let client = facts("192.0.2.7");
        for expected in [false, false, true] {
            assert_eq!(is_refused(limit.ask_request(&client, 1, 0, &mut requests)), expected);
        }
        assert_eq!((requests.len(), limit.peek(&client, 1).in_flight), (2, Some(2)));
        requests.pop();
        assert!(!is_refused(limit.ask_request(&client, 1, 0, &mut requests)));
        for expected in [false, true] {
            let verdict = limit.ask_connection(client.client, true, 1, 0, &mut connections);
            assert_eq!(is_refused(verdict), expected);
        }
        drop((requests, connections));
        let peeked = limit.peek(&client, 1);
        assert_eq!((peeked.in_flight, peeked.connections, peeked.rate), (Some(0), Some(0), None));
    }

    #[test]
    fn one_that_observes_counts_and_lets_pass() {
        let limit = limit(|spec| {
            (spec.rate, spec.in_flight, spec.action) = (Some(1), Some(1), LimitAction::Observe);
        });
        let mut held = Vec::new();
        for _ in 0..4 {
            assert_eq!(limit.ask_request(&facts("192.0.2.7"), SECOND, 0, &mut held), LimitVerdict::Pass(0));
        }
        let totals = limit.counts.totals();
        assert_eq!((totals.passed, totals.observed, totals.refused), (1, 3, 0));
        assert_eq!(totals.offenders[0].count, 3);
    }

    #[test]
    fn one_that_delays_gives_each_its_turn_and_refuses_what_would_wait_too_long() {
        let limit = limit(|spec| {
            (spec.rate, spec.burst, spec.action) = (Some(2), Some(1), LimitAction::Delay);
        });
        let mut held = Vec::new();
        let verdicts = [1, 2, 3, 4].map(|_| limit.ask_request(&facts("192.0.2.7"), SECOND, 0, &mut held));
        let late = LimitVerdict::Refuse { why: ExcessReason::Rate, retry_after: 2 };
        let half = LimitVerdict::Pass(SECOND / 2);
        assert_eq!(verdicts, [LimitVerdict::Pass(0), half, LimitVerdict::Pass(SECOND), late]);
        assert_eq!(limit.counts.totals().delayed, 2);
    }

    #[test]
    fn what_was_counted_outlives_a_change_of_numbers() {
        let first = limit(|spec| spec.rate = Some(1));
        let mut held = Vec::new();
        assert!(!is_refused(first.ask_request(&facts("192.0.2.7"), SECOND, 0, &mut held)));
        let spec = LimitSpec {
            rate: Some(1),
            action: LimitAction::Delay,
            in_flight: Some(3),
            ..first.spec().clone()
        };
        let tables = LimitTables::of(&spec, 9, Some(&first.tables));
        let next = ClientLimit::new(first.name.clone(), spec.clone(), tables, Arc::clone(&first.counts));
        assert_eq!(
            next.ask_request(&facts("192.0.2.7"), SECOND, 0, &mut held),
            LimitVerdict::Pass(SECOND),
            "it is known"
        );
        let spec = LimitSpec { prefix_ipv4: 24, ..spec };
        let tables = LimitTables::of(&spec, 9, Some(&next.tables));
        let other = ClientLimit::new(first.name.clone(), spec, tables, Arc::clone(&first.counts));
        assert_eq!(
            other.ask_request(&facts("192.0.2.7"), SECOND, 0, &mut held),
            LimitVerdict::Pass(0),
            "other clients are told apart"
        );
    }
}
