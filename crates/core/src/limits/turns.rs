//! Turns at giving out places of a table.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// How many turns there are: of different buckets few share one.
const TURNS: usize = 64;

/// Who gives a client a place does so alone: two workers that meet a client for the first time at the same moment would give it one each, and it would be
/// counted twice over. Places that are there are counted at without a turn.
#[derive(Debug)]
pub(super) struct PlaceTurns([Mutex<()>; TURNS]);

impl PlaceTurns {
    /// Waits for the turn of a bucket: for as long as another worker looks at as many places as a bucket has.
    pub(super) fn take(&self, bucket: usize) -> MutexGuard<'_, ()> {
        self.0[bucket % TURNS].lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Default for PlaceTurns {
    fn default() -> Self {
        Self([const { Mutex::new(()) }; TURNS])
    }
}

/// What two workers that meet each of so many clients at the same moment get for it.
#[cfg(test)]
pub(super) fn meet<T: Send>(clients: usize, work: impl Fn(u64) -> T + Sync) -> Vec<(T, T)> {
    use std::sync::atomic::{AtomicU64, Ordering};

    let arrived: Vec<AtomicU64> = (0..clients).map(|_| AtomicU64::new(0)).collect();
    let one = || {
        let one_client = |(client, arrived): (usize, &AtomicU64)| {
            arrived.fetch_add(1, Ordering::SeqCst);
            while arrived.load(Ordering::SeqCst) < 2 {
                std::thread::yield_now();
            }
            work(client as u64)
        };
        arrived.iter().enumerate().map(one_client).collect::<Vec<T>>()
    };
    let (first, second) = std::thread::scope(|scope| {
        let (first, second) = (scope.spawn(one), scope.spawn(one));
        (first.join().unwrap(), second.join().unwrap())
    });
    first.into_iter().zip(second).collect()
}
