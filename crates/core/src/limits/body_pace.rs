//! How fast the bodies of a client's requests and responses may pass.

use std::cell::Cell;
use std::sync::Arc;

use ipnet::IpNet;

use super::client_limit::{LimitCounts, SECOND};
use super::rate_table::{PacedRate, RateAnswer, RateTable};

/// How fast the bodies of one request may pass. All requests of its client share the pace.
#[derive(Clone, Debug)]
pub struct BodyPace {
    pub(super) table: Arc<RateTable>,
    pub(super) counts: Arc<LimitCounts>,
    pub(super) hash: u64,
    pub(super) client: Option<IpNet>,
    /// Bytes a second.
    pub(super) bandwidth: u64,
    pub(super) observes: bool,
    /// The request was counted as one that had to wait.
    pub(super) was_held_up: Cell<bool>,
}

/// How many bytes may come at once at least.
const LEAST_AT_ONCE: u64 = 64 << 10;

impl BodyPace {
    /// Counts bytes that are about to pass; gives how long they have to wait, in nanoseconds.
    #[must_use]
    pub fn pass(&self, bytes: usize, now: u64, worker: usize) -> u64 {
        let nanos = |bytes: u64| u128::from(bytes) * u128::from(SECOND) / u128::from(self.bandwidth);
        let nanos = |bytes: u64| u64::try_from(nanos(bytes)).unwrap_or(u64::MAX);
        let at_once = nanos(LEAST_AT_ONCE).max(SECOND / 10);
        let rate = PacedRate::of_cost(nanos(bytes as u64), at_once);
        let (answer, is_shared) = self.table.ask(self.hash, rate, now, u64::MAX);
        let lane = &self.counts.lanes[worker];
        let RateAnswer::Pass(wait @ 1..) = answer else { return 0 };
        if !self.was_held_up.replace(true) {
            if self.observes { &lane.observed } else { &lane.delayed }.increment();
            if is_shared {
                lane.shared.increment();
            }
            if let Some(network) = self.client {
                lane.offenders().add(network, 1, 0, now);
            }
        }
        if self.observes { 0 } else { wait }
    }

    /// How many bytes pass in one step, so that they come evenly: those of a tenth of a second, within bounds.
    #[must_use]
    pub fn step(&self) -> usize {
        usize::try_from(self.bandwidth / 10).unwrap_or(usize::MAX).clamp(1 << 10, 64 << 10)
    }
}

#[cfg(test)]
mod tests {
    use super::super::client_limit::LimitTables;
    use super::*;
    use crate::config::{DocumentFormat, load};
    use crate::limits::ClientLimit;
    use crate::routing::RequestFacts;

    fn facts(client: &str) -> RequestFacts<'static> {
        RequestFacts::of_client(client.parse().unwrap())
    }

    #[test]
    fn bodies_pass_at_the_pace_of_their_client() {
        let text = "format = 3\n[limits.visitor]\nbandwidth = \"1MiB\"\n";
        let checked = load(text, DocumentFormat::Toml).unwrap();
        let spec = checked.document().limits.values().next().unwrap().clone();
        let tables = LimitTables::of(&spec, 7, None);
        let limit = ClientLimit::new("visitor".parse().unwrap(), spec, tables, Arc::new(LimitCounts::new(2)));
        let (one, other) =
            (limit.pace(&facts("192.0.2.7")).unwrap(), limit.pace(&facts("192.0.2.8")).unwrap());
        let piece = one.step();
        assert_eq!(piece, 64 << 10, "a tenth of a second is more than what passes in one step");
        let waits: Vec<u64> = (0..32).map(|_| one.pass(piece, SECOND, 0)).collect();
        // A tenth of a second's worth passes at once; 2 MiB take 2 seconds.
        assert_eq!(waits[..2], [0, 0]);
        let last = waits[31];
        assert!((1_830_000_000..=1_850_000_000).contains(&last), "{last}");
        let again = limit.pace(&facts("192.0.2.7")).unwrap();
        assert!(again.pass(1, SECOND, 1) > last, "another request of the same client, at another worker");
        assert_eq!(other.pass(piece, SECOND, 0), 0, "another client");
        assert_eq!(one.pass(piece, 4 * SECOND, 0), 0, "time has passed");
        let totals = limit.counts.totals();
        assert_eq!((totals.delayed, totals.offenders[0].count), (2, 2), "each request once");
    }
}
