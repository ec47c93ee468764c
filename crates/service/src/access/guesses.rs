//! Calls with a wrong token: counted, slowed for each address, and reported once a minute.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The first wrong token of an address waits for so long; each one after it twice as long.
const FIRST_WAIT: Duration = Duration::from_millis(50);
/// The longest wait for an answer.
const LONGEST_WAIT: Duration = Duration::from_secs(3);
/// An address without a wrong token for so long is forgotten.
const FORGOTTEN_AFTER: Duration = Duration::from_secs(600);
/// The most addresses that are remembered; beyond, the one that guessed longest ago is forgotten.
const MOST_ADDRESSES: usize = 4_096;
/// How often they are reported.
const REPORT_INTERVAL: Duration = Duration::from_secs(60);

/// The calls with a wrong token.
#[derive(Clone, Debug, Default)]
pub(crate) struct FailedLogins {
    /// Held for a look and a count only.
    known: Arc<Mutex<FailuresOfAddress>>,
}

#[derive(Debug, Default)]
struct FailuresOfAddress {
    by_address: HashMap<IpAddr, (u32, Instant)>,
    all: u64,
    unreported: u64,
    reported: Option<Instant>,
}

/// What is to be done about a wrong token.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct GuessVerdict {
    /// How long its answer waits.
    pub(crate) wait: Duration,
    /// How many there were since the last report; absent when that was a moment ago.
    pub(crate) to_report: Option<u64>,
}

impl FailedLogins {
    /// Counts a wrong token from an address.
    pub(crate) fn note(&self, address: IpAddr, now: Instant) -> GuessVerdict {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.by_address.len() >= MOST_ADDRESSES && !known.by_address.contains_key(&address) {
            known.by_address.retain(|_, (_, last)| now.duration_since(*last) < FORGOTTEN_AFTER);
            if known.by_address.len() >= MOST_ADDRESSES {
                let oldest =
                    known.by_address.iter().min_by_key(|(_, (_, last))| *last).map(|(address, _)| *address);
                oldest.map(|oldest| known.by_address.remove(&oldest));
            }
        }
        let (count, last) = known.by_address.entry(address).or_insert((0, now));
        if now.duration_since(*last) >= FORGOTTEN_AFTER {
            *count = 0;
        }
        let wait = FIRST_WAIT.saturating_mul(1 << (*count).min(16)).min(LONGEST_WAIT);
        (*count, *last) = (count.saturating_add(1), now);
        known.all += 1;
        known.unreported += 1;
        let is_due = known.reported.is_none_or(|at| now.duration_since(at) >= REPORT_INTERVAL);
        let to_report = is_due.then(|| std::mem::take(&mut known.unreported));
        if is_due {
            known.reported = Some(now);
        }
        GuessVerdict { wait, to_report }
    }

    /// How many there were since the start.
    pub(crate) fn all(&self) -> u64 {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_address_waits_longer_and_longer_and_they_are_told_of_once_a_minute() {
        let (guesses, start) = (FailedLogins::default(), Instant::now());
        let (one, other) = (IpAddr::from([192, 0, 2, 1]), IpAddr::from([192, 0, 2, 2]));
        let waits: Vec<u64> = (0..9).map(|_| guesses.note(one, start).wait.as_millis() as u64).collect();
        assert_eq!(waits, [50, 100, 200, 400, 800, 1_600, 3_000, 3_000, 3_000]);
        assert_eq!(guesses.note(other, start), GuessVerdict { wait: FIRST_WAIT, to_report: None });
        let later = start + REPORT_INTERVAL;
        assert_eq!(guesses.note(other, later).to_report, Some(10), "the first was reported at once");
        assert_eq!(guesses.note(one, start + FORGOTTEN_AFTER).wait, FIRST_WAIT, "it is forgotten");
        assert_eq!(guesses.all(), 12);
    }

    #[test]
    fn addresses_are_bounded() {
        let (guesses, start) = (FailedLogins::default(), Instant::now());
        for number in 0..MOST_ADDRESSES as u32 + 100 {
            guesses.note(std::net::Ipv4Addr::from(number).into(), start);
        }
        assert_eq!(guesses.known.lock().unwrap().by_address.len(), MOST_ADDRESSES);
    }
}
