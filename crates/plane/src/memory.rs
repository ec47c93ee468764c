//! How much memory clients may make the service hold, each address of theirs and all together.
//!
//! What lies here because a client does not take it, or does not go on with what it began, is counted where it is waited for, so
//! a request that is not waited for costs nothing. Each worker adds up what its own clients hold and tells the others. When a
//! bound is met, those that hold most are ended first.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv6Addr};
use std::rc::Rc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};

use merismos_core::limits::RefusalReason;

use crate::context::{ConnectionState, WorkerContext};
use crate::deadline::WakeReason;
use crate::io::ConnectionTimer;

/// What a connection costs while nothing waits in it, as far as that is this process's own memory.
pub(crate) const CONNECTION: usize = 4 << 10;
/// The same over HTTP/2, with what the codec keeps.
pub(crate) const CONNECTION_TWO: usize = 20 << 10;
/// What one request of several that share a connection costs, with the task that answers it.
pub(crate) const STREAM: usize = 16 << 10;
/// How large the head of a request is that is not counted.
const USUAL_HEAD: usize = 4 << 10;
/// How often clients are looked through while a bound is met, in ticks.
const LOOK_EVERY: u64 = 5;
/// What is ended beyond what has to be, as a part of the bound: it is not met again at once.
const SLACK: u64 = 16;

/// The bounds, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MemoryLimits {
    /// For all clients together.
    pub in_all: u64,
    /// For those of one address; an IPv6 /64 counts as one.
    pub per_address: u64,
}

impl MemoryLimits {
    /// For tests and programs that bound their clients in another way: clients may hold any amount.
    pub const NONE: Self = Self { in_all: u64::MAX, per_address: u64::MAX };

    fn lowest(self) -> u64 {
        self.in_all.min(self.per_address)
    }
}

/// What the clients of all workers hold.
#[derive(Clone, Debug)]
pub struct Memory(Arc<SharedMemory>);

#[derive(Debug)]
struct SharedMemory {
    limits: MemoryLimits,
    /// What each worker's clients hold.
    held: Box<[AtomicU64]>,
    /// The same by address, while a bound is met, where it is no trifle.
    by_address: Mutex<BTreeMap<IpAddr, Box<[u64]>>>,
    cut: AtomicU64,
    /// The address that held most when some had to go.
    worst: Mutex<Option<IpAddr>>,
}

impl Memory {
    pub(crate) fn new(limits: MemoryLimits, workers: usize) -> Self {
        Self(Arc::new(SharedMemory {
            limits,
            held: (0..workers).map(|_| AtomicU64::new(0)).collect(),
            by_address: Mutex::default(),
            cut: AtomicU64::new(0),
            worst: Mutex::default(),
        }))
    }

    /// The bounds that the plane was started with.
    #[must_use]
    pub fn limits(&self) -> MemoryLimits {
        self.0.limits
    }

    /// How many bytes are held for clients now.
    #[must_use]
    pub fn held(&self) -> u64 {
        self.0.held.iter().map(|held| held.load(Relaxed)).sum()
    }

    /// How many clients were ended because a bound was met, since the start; of HTTP/2 each request counts.
    #[must_use]
    pub fn cut(&self) -> u64 {
        self.0.cut.load(Relaxed)
    }

    /// The address that held most when clients were ended last; of IPv6, its /64.
    #[must_use]
    pub fn worst(&self) -> Option<IpAddr> {
        *self.0.worst.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Tells what one worker's clients hold by address; gives what those addresses hold at all workers.
    fn share(&self, worker: usize, own: &BTreeMap<IpAddr, u64>) -> BTreeMap<IpAddr, u64> {
        let workers = self.0.held.len();
        let trifle = self.0.limits.lowest() / (4 * workers as u64);
        let mut shared = self.0.by_address.lock().unwrap_or_else(PoisonError::into_inner);
        for (address, held) in shared.iter_mut() {
            held[worker] = own.get(address).copied().unwrap_or(0);
        }
        for (address, held) in own.iter().filter(|(_, held)| **held > trifle) {
            shared.entry(*address).or_insert_with(|| vec![0; workers].into())[worker] = *held;
        }
        shared.retain(|_, held| held.iter().any(|held| *held > trifle));
        let total = |address: &IpAddr, held: u64| shared.get(address).map_or(held, |at| at.iter().sum());
        own.iter().map(|(address, held)| (*address, total(address, *held))).collect()
    }
}

/// One worker's part in keeping to the bounds.
#[derive(Debug)]
pub(crate) struct MemoryEnforcer {
    memory: Memory,
    /// When its clients were looked through last, in ticks.
    looked: Cell<u64>,
}

impl MemoryEnforcer {
    pub(crate) fn new(memory: Memory) -> Self {
        Self { memory, looked: Cell::new(0) }
    }

    /// Adds up what the worker's clients hold, and ends some where that is too much.
    pub(crate) fn look(&self, worker: &WorkerContext) {
        let SharedMemory { limits, held, .. } = &*self.memory.0;
        let own = worker.wheel.held() + worker.clients_cost();
        held[worker.index].store(own, Relaxed);
        let all = self.memory.held();
        // Pipes hold much: what would go through one goes through a smaller buffer before anybody has to be ended.
        worker.pipes.be_sparing(all > limits.lowest() / 2);
        let now = worker.wheel.now();
        if all <= limits.lowest() || now < self.looked.get() + LOOK_EVERY {
            return;
        }
        self.looked.set(now);
        self.relieve(worker, own, all);
    }

    #[cold]
    fn relieve(&self, worker: &WorkerContext, own: u64, all: u64) {
        let mut clients: BTreeMap<IpAddr, Vec<Rc<ConnectionState>>> = BTreeMap::new();
        worker.each_client(|client| {
            if let Some(peer) = client.peer.get() {
                clients.entry(counted_as(peer)).or_default().push(Rc::clone(client));
            }
        });
        let weigh =
            |clients: &Vec<Rc<ConnectionState>>| clients.iter().map(|client| weight(client)).sum::<u64>();
        let by_address = clients.iter().map(|(address, clients)| (*address, weigh(clients))).collect();
        let totals = self.memory.share(worker.index, &by_address);
        let excesses = excesses(self.memory.limits(), own, all, &by_address, &totals);
        if let Some((worst, _)) = excesses.first() {
            *self.memory.0.worst.lock().unwrap_or_else(PoisonError::into_inner) = Some(*worst);
        }
        for (address, mut excess) in excesses {
            let Some(clients) = clients.get_mut(&address) else { continue };
            clients.sort_by_key(|client| std::cmp::Reverse(weight(client)));
            for client in clients {
                if excess == 0 {
                    break;
                }
                if self.end(worker, client) {
                    excess = excess.saturating_sub(weight(client));
                }
            }
        }
    }

    /// Ends a client that holds something, or one that rests; gives whether it is one of those.
    fn end(&self, worker: &WorkerContext, client: &ConnectionState) -> bool {
        let holds = client.alarm.held() > 0;
        // A client that has to leave already gives nothing more when it is chosen again.
        if !holds && (!client.resting.get() || client.leaving.get()) {
            return false;
        }
        if matches!(client.alarm.fired(), Some(WakeReason::Crowded | WakeReason::Close)) {
            // It is on its way out.
            return true;
        }
        client.alarm.wake(if holds { WakeReason::Crowded } else { WakeReason::Close });
        if client.is_stream && !holds {
            // A task that waits for the next request of its connection: no client loses by it.
            return true;
        }
        client.leaving.set(true);
        self.memory.0.cut.fetch_add(1, Relaxed);
        if let Some(frontend) = worker.snapshot().frontend(client.frontend.get()) {
            frontend.cell.lane(worker.index).cut_for_memory.increment();
            if let Some(peer) = client.peer.get() {
                worker.note_refusal(frontend, RefusalReason::Memory, peer);
            }
        }
        true
    }
}

fn weight(client: &ConnectionState) -> u64 {
    (client.alarm.held() + client.cost.get()) as u64
}

/// The address that a client counts for: a holder of an IPv6 address mostly has a whole /64 of them.
#[must_use]
pub fn counted_as(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(address) => Ipv6Addr::from_bits(address.to_bits() >> 64 << 64).into(),
        address @ IpAddr::V4(_) => address,
    }
}

/// How much of what one worker holds for each address has to go: what is beyond the bound of an address first, then what is
/// still beyond the bound of all, from the addresses that hold most. A worker gives its part of what all hold.
fn excesses(
    limits: MemoryLimits,
    own: u64,
    all: u64,
    by_address: &BTreeMap<IpAddr, u64>,
    totals: &BTreeMap<IpAddr, u64>,
) -> Vec<(IpAddr, u64)> {
    let part = |excess: u64, own: u64, all: u64| {
        u64::try_from(u128::from(excess) * u128::from(own) / u128::from(all.max(1))).unwrap_or(u64::MAX)
    };
    let beyond = |held: u64, limit: u64| if held > limit { held - (limit - limit / SLACK) } else { 0 };
    let mut left = part(beyond(all, limits.in_all), own, all);
    let mut worst: Vec<_> = by_address
        .iter()
        .map(|(address, own)| (*address, *own, totals.get(address).copied().unwrap_or(*own)))
        .collect();
    worst.sort_by_key(|(_, _, total)| std::cmp::Reverse(*total));
    let mut excesses: Vec<_> = worst
        .iter()
        .map(|(address, own, total)| (*address, part(beyond(*total, limits.per_address), *own, *total)))
        .collect();
    left = left.saturating_sub(excesses.iter().map(|(_, excess)| excess).sum());
    for ((_, excess), (_, own, _)) in excesses.iter_mut().zip(&worst) {
        let more = (own - (*excess).min(*own)).min(left);
        *excess += more;
        left -= more;
    }
    excesses.retain(|(_, excess)| *excess > 0);
    excesses
}

/// Counts the head of a request on its way, which is kept until it is answered; only a large one counts.
#[inline]
pub(crate) fn hold_head(watch: ConnectionTimer<'_>, head: &[u8]) {
    if head.len() > USUAL_HEAD {
        watch.hold(head.len());
    }
}

/// What lies here for a client that is waited for, as long as it does.
pub(crate) struct MemoryGuard<'a> {
    watch: ConnectionTimer<'a>,
    bytes: usize,
}

impl<'a> MemoryGuard<'a> {
    /// A count of 0 bytes, for the client that the watch belongs to.
    pub(crate) fn new(watch: ConnectionTimer<'a>) -> Self {
        Self { watch, bytes: 0 }
    }

    /// Whether there is something.
    pub(crate) fn is_some(&self) -> bool {
        self.bytes > 0
    }

    /// So many bytes from now on.
    pub(crate) fn set(&mut self, bytes: usize) {
        if bytes != self.bytes {
            let ConnectionTimer { alarm, wheel } = self.watch;
            wheel.count_held(alarm, self.bytes, bytes);
            self.bytes = bytes;
        }
    }
}

impl Drop for MemoryGuard<'_> {
    #[inline]
    fn drop(&mut self) {
        if self.bytes > 0 {
            self.set(0);
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn addresses(held: &[u64]) -> BTreeMap<IpAddr, u64> {
        (1..).zip(held).map(|(last, held)| (IpAddr::from([192, 0, 2, last]), *held)).collect()
    }

    #[rstest]
    #[case::within((1_000, 1_000), &[50, 40], &[50, 40], &[0, 0])]
    #[case::one_address_beyond_its_own((1_000, 100), &[150, 40], &[150, 40], &[56, 0])]
    #[case::beyond_all_the_worst_goes_first((160, 1_000), &[100, 90], &[100, 90], &[40, 0])]
    #[case::and_then_the_next((80, 1_000), &[100, 90], &[100, 90], &[100, 15])]
    #[case::each_worker_gives_its_part((1_000, 100), &[50, 40], &[200, 40], &[26, 0])]
    #[case::who_is_worst_shows_over_all_workers((190, 1_000), &[50, 60], &[150, 60], &[16, 0])]
    fn who_has_to_go(
        #[case] (in_all, per_address): (u64, u64),
        #[case] own: &[u64],
        #[case] totals: &[u64],
        #[case] expected: &[u64],
    ) {
        let sums = (own.iter().sum(), totals.iter().sum());
        let limits = MemoryLimits { in_all, per_address };
        let found = excesses(limits, sums.0, sums.1, &addresses(own), &addresses(totals));
        let found: BTreeMap<IpAddr, u64> = found.into_iter().collect();
        let expected: BTreeMap<_, _> =
            addresses(expected).into_iter().filter(|(_, excess)| *excess > 0).collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn a_network_of_ipv6_is_one_client() {
        let one = |text: &str| counted_as(text.parse().unwrap());
        assert_eq!(one("2001:db8:1:2:3::4"), one("2001:db8:1:2::9"));
        assert_ne!(one("2001:db8:1:2::9"), one("2001:db8:1:3::9"));
        assert_eq!(one("::ffff:192.0.2.7"), one("192.0.2.7"));
    }

    #[test]
    fn workers_learn_of_each_other_what_an_address_holds() {
        let memory = Memory::new(MemoryLimits { in_all: 1_000, per_address: 80 }, 2);
        assert_eq!(memory.share(0, &addresses(&[50, 1])), addresses(&[50, 1]));
        assert_eq!(memory.share(1, &addresses(&[40, 2])), addresses(&[90, 2]));
        assert_eq!(memory.share(0, &addresses(&[0, 1])), addresses(&[40, 1]), "what it held is forgotten");
        memory.share(1, &BTreeMap::new());
        assert!(memory.0.by_address.lock().unwrap().is_empty(), "no client holds anything any more");
    }
}
