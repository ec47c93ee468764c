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
