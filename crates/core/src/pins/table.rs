//! Pins that were learned: which server has the client with a key. One table is shared by all workers; a look locks one of 64 shards for
//! some tens of nanoseconds and allocates nothing.
//!
//! A pin costs 56 bytes and some 10 of the index, whatever its key was made of: a table holds digests, no texts.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv6Addr};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use hashbrown::HashTable;

use crate::draw::mix;

/// Into how many parts a table is divided, each with a lock of its own.
const SHARDS: usize = 64;
/// No other pin: the end of a list.
const NONE: u32 = u32::MAX;

/// A pin's key: a digest of what the client carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct PinDigest(pub u64);

/// How many pins a table keeps, and for how long. Times are whole seconds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PinLimits {
    /// The most pins; beyond, the one that was not used for the longest time goes.
    pub pins: u64,
    /// How long a pin is kept that is not used.
    pub idle: u32,
    /// How long a pin is kept at all, however much it is used.
    pub lifetime: Option<u32>,
}

impl PinLimits {
    /// When a pin ends if it is not used again.
    #[must_use]
    pub fn end(&self, pin: &LearnedPin) -> u32 {
        let idle = pin.used.saturating_add(self.idle);
        self.lifetime.map_or(idle, |lifetime| idle.min(pin.made.saturating_add(lifetime)))
    }

    fn is_over(&self, pin: &LearnedPin, now: u32) -> bool {
        self.end(pin) < now
    }

    /// How long after a pin's noted use another one is noted, at least: a sixty-fourth of `idle`, so that most looks write nothing and
    /// touch no other pin's memory. A pin may end earlier by that much.
    #[must_use]
    pub fn notes_every(&self) -> u32 {
        (self.idle / 64).max(1)
    }
}

/// One pin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LearnedPin {
    /// The server's [`identity`](super::identity).
    pub server: u64,
    /// Where the client came from when the pin was made.
    pub client: IpAddr,
    /// Which kind of persistence made it, by its [mark](super::mark_of).
    pub kind: u8,
    /// When it was made.
    pub made: u32,
    /// When it was used last, as it was noted: at most [`PinLimits::notes_every`] before its last use.
    pub used: u32,
}

/// A pin with what it is kept under: what outlives the process, or goes to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeptPin {
    /// What the client carries.
    pub key: PinDigest,
    /// Which server has it.
    pub pin: LearnedPin,
}

impl KeptPin {
    /// How many bytes a written pin has.
    pub const LENGTH: usize = 41;

    /// Appends the pin: key, server, client (IPv4 as mapped, RFC 4291, 2.5.5.2), kind, made, used; numbers with the lowest byte first.
    pub fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.key.0.to_le_bytes());
        out.extend_from_slice(&self.pin.server.to_le_bytes());
        out.extend_from_slice(&bytes_of(self.pin.client));
        out.push(self.pin.kind);
        out.extend_from_slice(&self.pin.made.to_le_bytes());
        out.extend_from_slice(&self.pin.used.to_le_bytes());
    }

    /// Reads a written pin.
    #[must_use]
    pub fn read(bytes: &[u8; Self::LENGTH]) -> Self {
        let (mut long, mut short, mut client) = ([0; 8], [0; 4], [0; 16]);
        let mut number = |at: usize| {
            long.copy_from_slice(&bytes[at..at + 8]);
            u64::from_le_bytes(long)
        };
        let (key, server) = (PinDigest(number(0)), number(8));
        let mut second = |at: usize| {
            short.copy_from_slice(&bytes[at..at + 4]);
            u32::from_le_bytes(short)
        };
        let (made, used) = (second(33), second(37));
        client.copy_from_slice(&bytes[16..32]);
        let client = IpAddr::V6(Ipv6Addr::from(client)).to_canonical();
        Self { key, pin: LearnedPin { server, client, kind: bytes[32], made, used } }
    }
}

#[derive(Clone, Copy, Debug)]
struct Entry {
    key: u64,
    server: u64,
    client: [u8; 16],
    made: u32,
    used: u32,
    /// Neighbours in the order of use, the longest unused first.
    before: u32,
    after: u32,
    kind: u8,
}

impl Entry {
    fn pin(&self) -> LearnedPin {
        LearnedPin {
            server: self.server,
            client: IpAddr::V6(Ipv6Addr::from(self.client)).to_canonical(),
            kind: self.kind,
            made: self.made,
            used: self.used,
        }
    }
}

fn bytes_of(client: IpAddr) -> [u8; 16] {
    match client {
        IpAddr::V4(address) => address.to_ipv6_mapped().octets(),
        IpAddr::V6(address) => address.octets(),
    }
}

#[derive(Debug)]
struct Shard {
    index: HashTable<u32>,
    entries: Vec<Entry>,
    /// The pin that was not used for the longest time, and the one that was used last.
    oldest: u32,
    newest: u32,
    /// How many pins each server has.
    per_server: BTreeMap<u64, u64>,
}

impl Default for Shard {
    fn default() -> Self {
        Self {
            index: HashTable::new(),
            entries: Vec::new(),
            oldest: NONE,
            newest: NONE,
            per_server: BTreeMap::new(),
        }
    }
}

impl Shard {
    fn find(&self, hash: u64, key: u64) -> Option<u32> {
        self.index.find(hash, |at| self.entries[*at as usize].key == key).copied()
    }

    fn unlink(&mut self, at: u32) {
        let Entry { before, after, .. } = self.entries[at as usize];
        match before {
            NONE => self.oldest = after,
            before => self.entries[before as usize].after = after,
        }
        match after {
            NONE => self.newest = before,
            after => self.entries[after as usize].before = before,
        }
    }

    fn link_as_newest(&mut self, at: u32) {
        let newest = std::mem::replace(&mut self.newest, at);
        let entry = &mut self.entries[at as usize];
        (entry.before, entry.after) = (newest, NONE);
        match newest {
            NONE => self.oldest = at,
            newest => self.entries[newest as usize].after = at,
        }
    }

    fn count(&mut self, server: u64) {
        *self.per_server.entry(server).or_default() += 1;
    }

    fn uncount(&mut self, server: u64) {
        if let Some(count) = self.per_server.get_mut(&server) {
            *count -= 1;
            if *count == 0 {
                self.per_server.remove(&server);
            }
        }
    }

    /// Takes a pin out; the last one of the list moves into its place.
    fn remove(&mut self, at: u32, hash_of: impl Fn(u64) -> u64) {
        let Entry { key, server, .. } = self.entries[at as usize];
        self.unlink(at);
        self.uncount(server);
        if let Ok(found) = self.index.find_entry(hash_of(key), |known| *known == at) {
            found.remove();
        }
        let last = self.entries.len() as u32 - 1;
        self.entries.swap_remove(at as usize);
        if at == last {
            return;
        }
        let Entry { key, before, after, .. } = self.entries[at as usize];
        if let Some(known) = self.index.find_mut(hash_of(key), |known| *known == last) {
            *known = at;
        }
        match before {
            NONE => self.oldest = at,
            before => self.entries[before as usize].after = at,
        }
        match after {
            NONE => self.newest = at,
            after => self.entries[after as usize].before = at,
        }
    }

    fn insert(&mut self, entry: Entry, hash: u64, hash_of: impl Fn(u64) -> u64) {
        if self.entries.len() == self.entries.capacity() {
            // In eighths: doubling would cost up to twice the memory of what is kept.
            self.entries.reserve_exact((self.entries.len() / 8).max(16));
        }
        let at = self.entries.len() as u32;
        self.entries.push(entry);
        let entries = &self.entries;
        self.index.insert_unique(hash, at, |known| hash_of(entries[*known as usize].key));
        self.link_as_newest(at);
        self.count(entry.server);
    }
}

/// The pins of a pool, or of pools that share theirs.
#[derive(Debug)]
pub struct PinTable {
    shards: Box<[Mutex<Shard>]>,
    /// A secret, so that clients can't choose keys that collide.
    seed: u64,
    count: AtomicU64,
    evicted: AtomicU64,
    removals: AtomicU64,
}

impl PinTable {
    /// An empty table. The seed has to be secret where clients choose their keys.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self {
            shards: (0..SHARDS).map(|_| Mutex::default()).collect(),
            seed,
            count: AtomicU64::new(0),
            evicted: AtomicU64::new(0),
            removals: AtomicU64::new(0),
        }
    }

    /// How many pins there are, expired pins included until they are looked up or swept.
    #[must_use]
    pub fn len(&self) -> u64 {
        self.count.load(Ordering::Relaxed)
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// How many pins had to go before their time, because the table was full.
    #[must_use]
    pub fn evicted(&self) -> u64 {
        self.evicted.load(Ordering::Relaxed)
    }

    /// How often pins were removed that are not over yet.
    #[must_use]
    pub fn removals(&self) -> u64 {
        self.removals.load(Ordering::Relaxed)
    }

    fn hash(&self, key: u64) -> u64 {
        mix(key ^ self.seed)
    }

    fn shard(&self, hash: u64) -> MutexGuard<'_, Shard> {
        self.lock(hash as usize % SHARDS)
    }

    /// Only one lock is ever held at a time.
    fn lock(&self, shard: usize) -> MutexGuard<'_, Shard> {
        self.shards[shard].lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The pin of a key, which counts as used now (noted as [`PinLimits::notes_every`] says). One whose time is over is forgotten.
    pub fn get(&self, PinDigest(key): PinDigest, now: u32, limits: &PinLimits) -> Option<LearnedPin> {
        let hash = self.hash(key);
        let mut shard = self.shard(hash);
        let at = shard.find(hash, key)?;
        let pin = shard.entries[at as usize].pin();
        if limits.is_over(&pin, now) {
            shard.remove(at, |key| self.hash(key));
            self.count.fetch_sub(1, Ordering::Relaxed);
            return None;
        }
        if pin.used.saturating_add(limits.notes_every()) <= now {
            shard.entries[at as usize].used = now;
            shard.unlink(at);
            shard.link_as_newest(at);
        }
        Some(pin)
    }

    /// The pin of a key, without using it.
    #[must_use]
    pub fn peek(&self, PinDigest(key): PinDigest, now: u32, limits: &PinLimits) -> Option<LearnedPin> {
        let hash = self.hash(key);
        let shard = self.shard(hash);
        let pin = shard.entries[shard.find(hash, key)? as usize].pin();
        (!limits.is_over(&pin, now)).then_some(pin)
    }

    /// Ties a key to a server from now on, whatever it was tied to. When the table is full, a pin goes that was not used for long.
    pub fn put(&self, PinDigest(key): PinDigest, pin: LearnedPin, limits: &PinLimits) {
        let hash = self.hash(key);
        let mut shard = self.shard(hash);
        if let Some(at) = shard.find(hash, key) {
            let server = shard.entries[at as usize].server;
            shard.uncount(server);
            shard.count(pin.server);
            let entry = &mut shard.entries[at as usize];
            (entry.server, entry.client, entry.kind) = (pin.server, bytes_of(pin.client), pin.kind);
            (entry.made, entry.used) = (pin.made, pin.used);
            shard.unlink(at);
            shard.link_as_newest(at);
            return;
        }
        drop(shard);
        if limits.pins == 0 {
            return;
        }
        while self.len() >= limits.pins && self.evict(hash as usize % SHARDS) {}
        let LearnedPin { server, client, kind, made, used } = pin;
        let client = bytes_of(client);
        let entry = Entry { key, server, client, made, used, before: NONE, after: NONE, kind };
        let mut shard = self.shard(hash);
        // Another worker may have been faster: its pin stands.
        if shard.find(hash, key).is_none() {
            shard.insert(entry, hash, |key| self.hash(key));
            self.count.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// Takes out the pin of a shard that was not used for the longest time; of the next shard that has one, if it is empty.
    fn evict(&self, first: usize) -> bool {
        for step in 0..SHARDS {
            let mut shard = self.lock((first + step) % SHARDS);
            let oldest = shard.oldest;
            if oldest != NONE {
                shard.remove(oldest, |key| self.hash(key));
                self.count.fetch_sub(1, Ordering::Relaxed);
                self.evicted.fetch_add(1, Ordering::Relaxed);
                return true;
            }
        }
        false
    }

    /// Takes out the pins that `goes` picks; gives their number. Costs a look at each pin.
    pub fn remove_where(&self, mut goes: impl FnMut(PinDigest, &LearnedPin) -> bool) -> u64 {
        let mut removed = 0;
        for shard in 0..SHARDS {
            let mut shard = self.lock(shard);
            let mut at = 0;
            while let Some(entry) = shard.entries.get(at as usize) {
                if goes(PinDigest(entry.key), &entry.pin()) {
                    shard.remove(at, |key| self.hash(key));
                    removed += 1;
                } else {
                    at += 1;
                }
            }
        }
        self.count.fetch_sub(removed, Ordering::Relaxed);
        self.removals.fetch_add(u64::from(removed > 0), Ordering::Relaxed);
        removed
    }

    /// Forgets pins that were not used for too long: the list of each shard is in that order, so it costs nothing where there is none.
    pub fn forget_idle(&self, now: u32, limits: &PinLimits) {
        for shard in 0..SHARDS {
            let mut shard = self.lock(shard);
            while let Some(entry) = shard.entries.get(shard.oldest as usize) {
                if entry.used.saturating_add(limits.idle) >= now {
                    break;
                }
                let oldest = shard.oldest;
                shard.remove(oldest, |key| self.hash(key));
                self.count.fetch_sub(1, Ordering::Relaxed);
            }
        }
    }

    /// Looks at every pin whose time is not over, shard after shard.
    pub fn for_each(&self, now: u32, limits: &PinLimits, mut look: impl FnMut(PinDigest, &LearnedPin)) {
        for shard in 0..SHARDS {
            for entry in &self.lock(shard).entries {
                let pin = entry.pin();
                if !limits.is_over(&pin, now) {
                    look(PinDigest(entry.key), &pin);
                }
            }
        }
    }

    /// The pins that were made or used at a second or after it. Costs a look at these alone.
    #[must_use]
    pub fn changed_since(&self, second: u32) -> Vec<KeptPin> {
        let mut changed = Vec::new();
        for shard in 0..SHARDS {
            let shard = self.lock(shard);
            let mut at = shard.newest;
            while let Some(entry) = shard.entries.get(at as usize).filter(|entry| entry.used >= second) {
                changed.push(KeptPin { key: PinDigest(entry.key), pin: entry.pin() });
                at = entry.before;
            }
        }
        changed
    }

    /// Takes pins in that were kept elsewhere. Of two for one key the one that was used last holds. Limits are those of the next
    /// look: nothing is forgotten here.
    pub fn restore(&self, mut pins: Vec<KeptPin>, now: u32) {
        const NO_LIMITS: PinLimits = PinLimits { pins: u64::MAX, idle: u32::MAX, lifetime: None };
        // The list of each shard is in the order of use.
        pins.sort_unstable_by_key(|kept| kept.pin.used);
        for KeptPin { key, pin } in pins {
            // A clock that was set back must not make a pin immortal.
            let pin = LearnedPin { made: pin.made.min(now), used: pin.used.min(now), ..pin };
            if self.peek(key, now, &NO_LIMITS).is_none_or(|known| known.used < pin.used) {
                self.put(key, pin, &NO_LIMITS);
            }
        }
    }

    /// How many pins each server has, by its identity.
    #[must_use]
    pub fn per_server(&self) -> BTreeMap<u64, u64> {
        let mut all = BTreeMap::new();
        for shard in 0..SHARDS {
            for (server, count) in &self.lock(shard).per_server {
                *all.entry(*server).or_default() += count;
            }
        }
        all
    }

    /// How much memory the pins take, in bytes.
    #[must_use]
    pub fn memory(&self) -> u64 {
        let of = |shard: usize| {
            let shard = self.lock(shard);
            shard.entries.capacity() * size_of::<Entry>() + shard.index.allocation_size()
        };
        (0..SHARDS).map(of).sum::<usize>() as u64
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use proptest::test_runner::{Config, RngSeed};

    use super::*;

    const LIMITS: PinLimits = PinLimits { pins: 1_000, idle: 60, lifetime: Some(600) };

    fn pin(server: u64, at: u32) -> LearnedPin {
        let client = "192.0.2.7".parse().unwrap();
        LearnedPin { server, client, kind: 0, made: at, used: at }
    }

    fn table(pins: &[(u64, u64)], limits: &PinLimits) -> PinTable {
        let table = PinTable::new(5);
        for (at, (key, server)) in pins.iter().enumerate() {
            table.put(PinDigest(*key), pin(*server, at as u32), limits);
        }
        table
    }

    #[test]
    fn pins_end_when_they_are_not_used_and_after_their_lifetime() {
        let table = table(&[(1, 7)], &LIMITS);
        for now in (50..600).step_by(50) {
            assert_eq!(table.get(PinDigest(1), now, &LIMITS).map(|pin| pin.server), Some(7), "at {now}");
        }
        assert_eq!(table.get(PinDigest(1), 601, &LIMITS), None, "its lifetime is over");
        assert_eq!(table.len(), 0, "and it is forgotten");
        table.put(PinDigest(1), pin(7, 700), &LIMITS);
        assert_eq!(table.peek(PinDigest(1), 760, &LIMITS).map(|pin| pin.used), Some(700));
        assert_eq!(table.get(PinDigest(1), 761, &LIMITS), None, "a look does not use it");
    }

    #[test]
    fn the_longest_unused_pins_go_when_the_table_is_full() {
        let limits = PinLimits { pins: 3, ..LIMITS };
        let table = table(&[(1, 7), (2, 7), (3, 8)], &limits);
        table.put(PinDigest(4), pin(9, 5), &limits);
        assert_eq!((table.len(), table.evicted()), (3, 1));
        let none = PinLimits { pins: 0, ..LIMITS };
        let empty = PinTable::new(0);
        empty.put(PinDigest(1), pin(7, 0), &none);
        assert!(empty.is_empty());
    }

    #[test]
    fn pins_of_a_server_are_counted_and_removed() {
        let table = table(&[(1, 7), (2, 7), (3, 8)], &LIMITS);
        assert_eq!(table.per_server(), BTreeMap::from([(7, 2), (8, 1)]));
        table.put(PinDigest(2), pin(8, 9), &LIMITS);
        assert_eq!(
            table.per_server(),
            BTreeMap::from([(7, 1), (8, 2)]),
            "a client that moved is counted once"
        );
        assert_eq!(table.remove_where(|_, pin| pin.server == 8), 2);
        assert_eq!((table.len(), table.per_server()), (1, BTreeMap::from([(7, 1)])));
        table.forget_idle(61, &LIMITS);
        assert!(table.is_empty());
    }

    #[test]
    fn pins_that_are_kept_elsewhere_come_back_as_they_were() {
        let before = table(&[(1, 7), (2, 7), (3, 8)], &LIMITS);
        let all = before.changed_since(0);
        assert_eq!((all.len(), before.changed_since(2).len(), before.changed_since(3).len()), (3, 1, 0));
        let mut written = Vec::new();
        all.iter().for_each(|kept| kept.write(&mut written));
        let read: Vec<_> = written.as_chunks::<{ KeptPin::LENGTH }>().0.iter().map(KeptPin::read).collect();
        assert_eq!(read, all);
        let after = PinTable::new(99);
        // What the client was tied to since holds.
        after.put(PinDigest(2), pin(9, 5), &LIMITS);
        after.restore(read, 5);
        let server = |key| after.peek(PinDigest(key), 5, &LIMITS).map(|pin| pin.server);
        assert_eq!([server(1), server(2), server(3)], [Some(7), Some(9), Some(8)]);
        // By a clock that was set back they are as young as can be.
        let earlier = PinTable::new(0);
        earlier.restore(vec![KeptPin { key: PinDigest(4), pin: pin(7, 900) }], 100);
        assert_eq!(
            earlier.peek(PinDigest(4), 160, &LIMITS).map(|pin| (pin.made, pin.used)),
            Some((100, 100))
        );
        assert_eq!(earlier.peek(PinDigest(4), 161, &LIMITS), None);
    }

    #[test]
    fn a_million_pins_take_less_than_120_mebibytes() {
        let limits = PinLimits { pins: 1_000_000, ..LIMITS };
        let table = PinTable::new(11);
        for key in 0..1_000_000 {
            table.put(PinDigest(mix(key)), pin(key % 5, 0), &limits);
        }
        assert_eq!((table.len(), table.evicted()), (1_000_000, 0));
        let memory = table.memory() >> 20;
        assert!((60..120).contains(&memory), "{memory} MiB");
    }

    proptest! {
        #![proptest_config(Config { cases: 256, rng_seed: RngSeed::Fixed(17), failure_persistence: None, ..Config::default() })]

        /// Against a plain map, as long as the table is not full.
        #[test]
        fn a_table_is_a_map_with_times(
            steps in prop::collection::vec((0_u8..5, 0_u64..40, 0_u64..4, 0_u32..30), 1..200)
        ) {
            let table = PinTable::new(3);
            let mut model: BTreeMap<u64, LearnedPin> = BTreeMap::new();
            let mut now = 100;
            for (step, key, server, passed) in steps {
                now += passed;
                match step {
                    0 | 1 => {
                        table.put(PinDigest(key), pin(server, now), &LIMITS);
                        model.insert(key, pin(server, now));
                    }
                    2 => {
                        let expected = model.get(&key).copied().filter(|pin| !LIMITS.is_over(pin, now));
                        prop_assert_eq!(table.get(PinDigest(key), now, &LIMITS), expected);
                        match expected {
                            Some(pin) => drop(model.insert(key, LearnedPin { used: now, ..pin })),
                            None => drop(model.remove(&key)),
                        }
                    }
                    3 => {
                        table.forget_idle(now, &LIMITS);
                        model.retain(|_, pin| pin.used + LIMITS.idle >= now);
                    }
                    _ => {
                        let before = model.len();
                        model.retain(|_, pin| pin.server != server);
                        let removed = table.remove_where(|_, pin| pin.server == server);
                        prop_assert_eq!(removed, (before - model.len()) as u64);
                    }
                }
                prop_assert_eq!(table.len(), model.len() as u64);
                let mut counts = BTreeMap::new();
                model.values().for_each(|pin| *counts.entry(pin.server).or_default() += 1);
                prop_assert_eq!(table.per_server(), counts);
            }
        }
    }
}
