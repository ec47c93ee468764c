//! Keys of session tickets (RFC 5077, 4; RFC 8446, 4.6.1): drawn, kept in the state folder for as long as they hold, and gone after it. So sessions
//! are taken up again over an upgrade and a restart, and who comes by a key later opens what it sealed alone. Nodes share all that hold, and seal with
//! the newest of them: a client that comes to another node takes its session up there.

use std::cmp::Reverse;
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use merismos_core::time::Wall;
use merismos_store::files::write_whole;
use rand::RngExt;
use rustls::server::ProducesTickets;

use super::sealed::SealingKey;

/// How long tickets are sealed with one key. At 50,000 sessions a second that is a quarter of the 2^32 that a key may seal (NIST SP 800-38D, 8.3).
const CHANGED_EVERY: Duration = Duration::from_secs(6 * 3_600);
/// By how much longer a node waits at most before it draws one: of several nodes one is the first, and the others have its key before they would draw.
const SPREAD: Duration = Duration::from_secs(10 * 60);
/// The most keys that are kept, the newest ones: a ticket may be tried with each of them.
const MOST_KEYS: usize = 32;
/// How long a ticket holds, at the least.
const HOLDS: Duration = Duration::from_secs(6 * 3_600);
/// What tickets are sealed as.
const PURPOSE: &str = "session ticket";
/// The length of a key.
const KEY: usize = 32;

/// A key, with what of it is kept.
#[derive(Debug)]
struct TicketKey {
    drawn: Wall,
    secret: [u8; KEY],
    sealing: SealingKey,
}

impl TicketKey {
    fn new(drawn: Wall, secret: [u8; KEY]) -> Arc<Self> {
        Arc::new(Self { drawn, secret, sealing: SealingKey::new(&secret) })
    }

    /// Whether a ticket that it sealed may be taken. One from a time that a clock was ahead is not kept for ever.
    fn holds(&self, now: Wall) -> bool {
        now < self.drawn.plus(CHANGED_EVERY + SPREAD + HOLDS) && self.drawn <= now.plus(CHANGED_EVERY)
    }
}

/// The keys that hold, the newest first.
#[derive(Debug)]
pub(super) struct TicketKeys {
    file: PathBuf,
    /// How long this node waits beyond the time.
    patience: Duration,
    keys: RwLock<Vec<Arc<TicketKey>>>,
}

impl TicketKeys {
    /// Those of the state folder, with a new one where that is due.
    pub(super) fn of(state_folder: &Path, now: Wall) -> Self {
        let file = state_folder.join("ticket-keys");
        let kept = std::fs::read(&file).unwrap_or_default();
        let patience = SPREAD.mul_f64(rand::rng().random());
        let keys = Self { file, patience, keys: RwLock::new(read(&kept)) };
        keys.turn(now);
        keys
    }

    fn all(&self) -> Vec<Arc<TicketKey>> {
        self.keys.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Draws a new key when the newest has sealed for long enough, and forgets those that hold no more. It writes a file then, and so it blocks.
    pub(super) fn turn(&self, now: Wall) {
        let before = self.all();
        let mut keys: Vec<Arc<TicketKey>> = before.iter().filter(|key| key.holds(now)).cloned().collect();
        let is_due =
            keys.first().is_none_or(|newest| now >= newest.drawn.plus(CHANGED_EVERY + self.patience));
        if is_due {
            let mut secret = [0; KEY];
            rand::rng().fill(&mut secret[..]);
            keys.insert(0, TicketKey::new(now, secret));
        }
        if keys.len() == before.len() && !is_due {
            return;
        }
        self.keep(keys);
    }

    /// Takes over the keys of other nodes, as [`written`]. Gives what all nodes should have, where the others have not. It may write a file, and so it
    /// blocks.
    pub(super) fn join(&self, others: &[u8], now: Wall) -> Option<Vec<u8>> {
        let (own, others) = (self.all(), read(others));
        let mut keys: Vec<Arc<TicketKey>> =
            own.iter().chain(&others).filter(|key| key.holds(now)).cloned().collect();
        // Each node has to come to the same order, for they seal with the first.
        keys.sort_by_key(|key| (Reverse(key.drawn), key.secret));
        keys.dedup_by_key(|key| key.secret);
        keys.truncate(MOST_KEYS);
        let all = written(&keys);
        if all != written(&own) {
            self.keep(keys);
        }
        (all != written(&others)).then_some(all)
    }

    fn keep(&self, keys: Vec<Arc<TicketKey>>) {
        let text = written(&keys);
        *self.keys.write().unwrap_or_else(PoisonError::into_inner) = keys;
        if let Err(error) = write_whole(&self.file, &text) {
            tracing::warn!(%error, file = %self.file.display(), "the keys of session tickets are not kept: sessions begin anew after a restart");
        }
    }
}

/// The keys of a file or of other nodes. What is not whole was not written by us: sessions begin anew.
fn read(text: &[u8]) -> Vec<Arc<TicketKey>> {
    let (whole, rest) = text.as_chunks::<{ 8 + KEY }>();
    let whole = if rest.is_empty() { whole } else { &[] };
    let key = |kept: &[u8; 8 + KEY]| {
        let (drawn, secret) = kept.split_first_chunk::<8>()?;
        Some(TicketKey::new(Wall(i64::from_be_bytes(*drawn)), secret.try_into().ok()?))
    };
    whole.iter().filter_map(key).collect()
}

/// Keys as a file and other nodes have them: when each was drawn, in milliseconds, and its secret.
fn written(keys: &[Arc<TicketKey>]) -> Vec<u8> {
    keys.iter().flat_map(|key| key.drawn.0.to_be_bytes().into_iter().chain(key.secret)).collect()
}

impl ProducesTickets for TicketKeys {
    fn enabled(&self) -> bool {
        true
    }

    fn lifetime(&self) -> u32 {
        u32::try_from(HOLDS.as_secs()).unwrap_or(u32::MAX)
    }

    fn encrypt(&self, plain: &[u8]) -> Option<Vec<u8>> {
        Some(self.all().first()?.sealing.seal(PURPOSE, plain))
    }

    fn decrypt(&self, sealed: &[u8]) -> Option<Vec<u8>> {
        self.all().iter().find_map(|key| key.sealing.open(PURPOSE, sealed))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: i64 = 3_600_000;

    fn at(hours: i64) -> Wall {
        Wall(1_000_000 * HOUR + hours * HOUR)
    }

    #[test]
    fn a_ticket_holds_over_changes_of_keys_and_restarts_until_its_time_is_over() {
        let folder = tempfile::tempdir().unwrap();
        let keys = TicketKeys::of(folder.path(), at(0));
        keys.turn(at(5));
        let early = keys.encrypt(b"session").unwrap();
        let again = TicketKeys::of(folder.path(), at(7));
        let late = again.encrypt(b"session").unwrap();
        assert_eq!(again.decrypt(&early).as_deref(), Some(&b"session"[..]));
        assert_eq!(keys.decrypt(&late), None, "it is sealed with the new key");
        let restarted = TicketKeys::of(folder.path(), at(11));
        assert_eq!(restarted.decrypt(&early).as_deref(), Some(&b"session"[..]));
        assert_eq!(restarted.decrypt(&late).as_deref(), Some(&b"session"[..]));
        let kept = std::fs::read(folder.path().join("ticket-keys")).unwrap();
        restarted.turn(at(13));
        assert_eq!(restarted.decrypt(&early), None, "its time is over");
        assert_eq!(restarted.decrypt(&late).as_deref(), Some(&b"session"[..]));
        let first = keys.all()[0].secret;
        assert!(kept.windows(KEY).any(|part| part == first));
        let kept = std::fs::read(folder.path().join("ticket-keys")).unwrap();
        assert!(!kept.windows(KEY).any(|part| part == first), "what holds no more is not kept");
    }

    #[test]
    fn nodes_come_to_the_same_keys_and_seal_with_the_newest() {
        let folders = [(); 3].map(|()| tempfile::tempdir().unwrap());
        let nodes: Vec<TicketKeys> =
            folders.iter().zip(0..).map(|(folder, hour)| TicketKeys::of(folder.path(), at(hour))).collect();
        let early = nodes[0].encrypt(b"session").unwrap();
        assert_eq!(nodes[1].decrypt(&early), None);
        let mut shared = Vec::new();
        for node in nodes.iter().chain(&nodes) {
            shared = node.join(&shared, at(3)).unwrap_or(shared);
        }
        for node in &nodes {
            assert_eq!(node.join(&shared, at(3)), None, "all have all of them");
            assert_eq!(node.decrypt(&early).as_deref(), Some(&b"session"[..]));
            let sealed = node.encrypt(b"later").unwrap();
            assert_eq!(
                nodes[2].all()[0].sealing.open(PURPOSE, &sealed).as_deref(),
                Some(&b"later"[..]),
                "with the newest"
            );
        }
        let restarted = TicketKeys::of(folders[1].path(), at(4));
        assert_eq!(restarted.decrypt(&early).as_deref(), Some(&b"session"[..]), "what others drew is kept");
        // What holds no more goes everywhere, and what others made of broken bytes changes nothing.
        let rest = nodes[0].join(&shared, at(13)).expect("fewer than there were");
        assert_eq!(rest.len(), 2 * (8 + KEY));
        assert_eq!(nodes[0].join(b"something else", at(13)), Some(rest));
    }

    #[test]
    fn no_more_keys_are_kept_than_a_ticket_may_be_tried_with() {
        let folder = tempfile::tempdir().unwrap();
        let node = TicketKeys::of(folder.path(), at(0));
        let others: Vec<Arc<TicketKey>> =
            (0..100).map(|number| TicketKey::new(at(1), [number; KEY])).collect();
        let shared = node.join(&written(&others), at(2)).expect("fewer than there were");
        assert_eq!((read(&shared).len(), node.all().len()), (MOST_KEYS, MOST_KEYS));
        assert_eq!(node.join(&shared, at(2)), None, "and that is settled");
    }

    #[test]
    fn a_clock_that_is_set_back_and_a_broken_file_leave_no_key_for_ever() {
        let folder = tempfile::tempdir().unwrap();
        let ahead = TicketKeys::of(folder.path(), at(100_000)).encrypt(b"session").unwrap();
        let now = TicketKeys::of(folder.path(), at(0));
        assert_eq!(now.decrypt(&ahead), None);
        std::fs::write(folder.path().join("ticket-keys"), b"something else").unwrap();
        let anew = TicketKeys::of(folder.path(), at(0));
        let sealed = anew.encrypt(b"session").unwrap();
        assert_eq!(now.decrypt(&sealed), None);
        assert_eq!(TicketKeys::of(folder.path(), at(1)).decrypt(&sealed).as_deref(), Some(&b"session"[..]));
    }
}
