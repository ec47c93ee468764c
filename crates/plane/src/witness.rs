//! The witness: what became of requests that carry a one-time mark.
//!
//! A trial sends requests with the field [`MARK`]. The plane takes the field off, so servers see nothing of it,
//! and tells the trial's [`Watch`] where the request went. A mark that nobody watches for has no effect.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arc_swap::ArcSwap;
use merismos_core::name::PoolServer;
use tokio::sync::mpsc;

/// The name of the request field that carries a mark: `<watch>-<number>`, both in decimal.
pub const MARK: &str = "merismos-mark";

/// What became of one marked request.
#[derive(Clone, Debug)]
pub struct Sighting {
    /// The request's number.
    pub number: u64,
    /// The version of the snapshot in which it was decided.
    pub version: u64,
    /// The server that took it in the end.
    pub server: Option<PoolServer>,
    /// The servers that failed it before, in order.
    pub failed_at: Vec<PoolServer>,
}

/// One trial's ear: sightings of one watch number.
#[derive(Debug)]
pub(crate) struct Watch {
    number: u64,
    sender: mpsc::Sender<Sighting>,
    missed: Arc<AtomicU64>,
}

/// All watches. Cheap to ask for requests without a mark: they never ask.
#[derive(Clone, Debug, Default)]
pub(crate) struct Watches(Arc<ArcSwap<Vec<Arc<Watch>>>>);

/// The sightings of one watch; dropping it ends the watch.
#[derive(Debug)]
pub struct Sightings {
    /// The watch's number, the first part of its marks.
    pub number: u64,
    /// The sightings as they come.
    pub receiver: mpsc::Receiver<Sighting>,
    missed: Arc<AtomicU64>,
    watches: Watches,
}

impl Watches {
    /// Begins a watch that holds up to `capacity` sightings that were not yet received.
    pub(crate) fn begin(&self, number: u64, capacity: usize) -> Sightings {
        let (sender, receiver) = mpsc::channel(capacity.max(1));
        let missed = Arc::new(AtomicU64::new(0));
        let watch = Arc::new(Watch { number, sender, missed: Arc::clone(&missed) });
        self.0.rcu(|watches| {
            let mut watches = Vec::clone(watches);
            watches.push(Arc::clone(&watch));
            watches
        });
        Sightings { number, receiver, missed, watches: self.clone() }
    }

    /// The watch that a mark is for, and the request's number.
    pub(crate) fn find(&self, mark: &[u8]) -> Option<(Arc<Watch>, u64)> {
        let (watch, number) = std::str::from_utf8(mark).ok()?.split_once('-')?;
        let (watch, number): (u64, u64) = (watch.parse().ok()?, number.parse().ok()?);
        self.0.load().iter().find(|it| it.number == watch).map(|it| (Arc::clone(it), number))
    }
}

impl Watch {
    /// Tells a sighting; one for which there is no room is counted.
    pub(crate) fn tell(&self, sighting: Sighting) {
        if self.sender.try_send(sighting).is_err() {
            self.missed.fetch_add(1, Ordering::Relaxed);
        }
    }
}

impl Sightings {
    /// Sightings that were lost because nobody received them in time.
    #[must_use]
    pub fn missed(&self) -> u64 {
        self.missed.load(Ordering::Relaxed)
    }
}

impl Drop for Sightings {
    fn drop(&mut self) {
        let number = self.number;
        self.watches.0.rcu(|watches| {
            watches.iter().filter(|watch| watch.number != number).cloned().collect::<Vec<_>>()
        });
    }
}
