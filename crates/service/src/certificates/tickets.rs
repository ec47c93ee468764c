//! Keys of session tickets (RFC 5077, 4; RFC 8446, 4.6.1): drawn, kept in the state folder for as long as they hold, and gone after it. So sessions
//! are taken up again over an upgrade and a restart, and who comes by a key later opens what it sealed alone.

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
        now < self.drawn.plus(CHANGED_EVERY + HOLDS) && self.drawn <= now.plus(CHANGED_EVERY)
    }
}

/// The keys that hold, the newest first.
#[derive(Debug)]
pub(super) struct TicketKeys {
    file: PathBuf,
    keys: RwLock<Vec<Arc<TicketKey>>>,
}

impl TicketKeys {
    /// Those of the state folder, with a new one where that is due.
    pub(super) fn of(state_folder: &Path, now: Wall) -> Self {
        let file = state_folder.join("ticket-keys");
        let kept = std::fs::read(&file).unwrap_or_default();
        let (whole, rest) = kept.as_chunks::<{ 8 + KEY }>();
        // What is not whole was not written by us: sessions begin anew.
        let whole = if rest.is_empty() { whole } else { &[] };
        let keys = whole.iter().filter_map(|kept| {
            let (drawn, secret) = kept.split_first_chunk::<8>()?;
            Some(TicketKey::new(Wall(i64::from_be_bytes(*drawn)), secret.try_into().ok()?))
        });
        let keys = Self { file, keys: RwLock::new(keys.collect()) };
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
        let is_due = keys.first().is_none_or(|newest| now >= newest.drawn.plus(CHANGED_EVERY));
        if is_due {
            let mut secret = [0; KEY];
            rand::rng().fill(&mut secret[..]);
            keys.insert(0, TicketKey::new(now, secret));
        }
        if keys.len() == before.len() && !is_due {
            return;
        }
        let mut text = Vec::new();
        for key in &keys {
            text.extend_from_slice(&key.drawn.0.to_be_bytes());
            text.extend_from_slice(&key.secret);
        }
        *self.keys.write().unwrap_or_else(PoisonError::into_inner) = keys;
        if let Err(error) = write_whole(&self.file, &text) {
            tracing::warn!(%error, file = %self.file.display(), "the keys of session tickets are not kept: sessions begin anew after a restart");
        }
    }
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
        let again = TicketKeys::of(folder.path(), at(6));
        let late = again.encrypt(b"session").unwrap();
        assert_eq!(again.decrypt(&early).as_deref(), Some(&b"session"[..]));
        assert_eq!(keys.decrypt(&late), None, "it is sealed with the new key");
        let restarted = TicketKeys::of(folder.path(), at(11));
        assert_eq!(restarted.decrypt(&early).as_deref(), Some(&b"session"[..]));
        assert_eq!(restarted.decrypt(&late).as_deref(), Some(&b"session"[..]));
        let kept = std::fs::read(folder.path().join("ticket-keys")).unwrap();
        restarted.turn(at(12));
        assert_eq!(restarted.decrypt(&early), None, "its time is over");
        assert_eq!(restarted.decrypt(&late).as_deref(), Some(&b"session"[..]));
        let first = keys.all()[0].secret;
        assert!(kept.windows(KEY).any(|part| part == first));
        let kept = std::fs::read(folder.path().join("ticket-keys")).unwrap();
        assert!(!kept.windows(KEY).any(|part| part == first), "what holds no more is not kept");
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
