//! Pins that fight the weights: new clients are distributed as they should be, and those that are tied pull the shares elsewhere.

use std::time::Duration;

use crate::time::Tick;

/// By how much a server's share is above the expected one before it counts.
const FROM: f64 = 0.2;
/// Below how much it is over: less, so that it is not reported again and again around the bound.
const UNTIL: f64 = 0.1;
/// For how long it has to last.
const LASTS: Duration = Duration::from_secs(300);
/// How many requests of the last minute say anything.
const LEAST_REQUESTS: u64 = 100;

/// What a server of a pool got within the last minute.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ServerShares {
    /// By weights, duty and health.
    pub expected: f64,
    /// Of all requests.
    pub of_all: f64,
    /// Of those of clients that were tied to no server; `None` when there was none.
    pub of_new: Option<f64>,
}

/// Whether a report is due.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SkewChange {
    /// It has lasted; the server at this place is the furthest off.
    Begun(usize),
    /// The shares are near the expected ones again.
    Over,
}

/// Follows one pool. It is handed a sample each second.
#[derive(Clone, Copy, Debug, Default)]
pub struct PinSkew {
    since: Option<Tick>,
    is_reported: bool,
}

impl PinSkew {
    /// Takes a sample: how many requests the pool had within the last minute, and who got them.
    pub fn on_sample(&mut self, now: Tick, requests: u64, servers: &[ServerShares]) -> Option<SkewChange> {
        let bound = if self.is_reported { UNTIL } else { FROM };
        let over = |server: &ServerShares| server.of_all - server.expected;
        let worst = (0..servers.len()).max_by(|a, b| over(&servers[*a]).total_cmp(&over(&servers[*b])));
        // Where new clients go elsewhere as well, it is not the pins.
        let by_pins = |server: &ServerShares| {
            over(server) >= bound
                && server.of_new.is_none_or(|new| new - server.expected < over(server) / 2.0)
        };
        let skewed = worst.filter(|worst| requests >= LEAST_REQUESTS && by_pins(&servers[*worst]));
        let Some(worst) = skewed else {
            self.since = None;
            return std::mem::take(&mut self.is_reported).then_some(SkewChange::Over);
        };
        let since = *self.since.get_or_insert(now);
        let is_due = !self.is_reported && now.since(since) >= LASTS;
        is_due.then(|| {
            self.is_reported = true;
            SkewChange::Begun(worst)
        })
    }

    /// Whether it was reported, and is not over.
    #[must_use]
    pub fn is_reported(&self) -> bool {
        self.is_reported
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn shares(of_all: [f64; 2], of_new: Option<[f64; 2]>) -> [ServerShares; 2] {
        [0, 1].map(|place| ServerShares {
            expected: 0.5,
            of_all: of_all[place],
            of_new: of_new.map(|of_new| of_new[place]),
        })
    }

    /// What is reported within ten minutes of such traffic.
    fn after(requests: u64, servers: &[ServerShares]) -> Vec<(u64, SkewChange)> {
        let mut skew = PinSkew::default();
        let at = |second| Tick(0).plus(Duration::from_secs(second));
        (0..600).filter_map(|second| Some((second, skew.on_sample(at(second), requests, servers)?))).collect()
    }

    #[rstest]
    #[case::pins_pull(500, [0.2, 0.8], Some([0.5, 0.5]), true)]
    #[case::nobody_is_new(500, [0.2, 0.8], None, true)]
    #[case::new_clients_go_there_too(500, [0.2, 0.8], Some([0.2, 0.8]), false)]
    #[case::near_enough(500, [0.35, 0.65], Some([0.5, 0.5]), false)]
    #[case::too_little_to_say(99, [0.2, 0.8], Some([0.5, 0.5]), false)]
    fn skew_is_reported_when_it_has_lasted(
        #[case] requests: u64,
        #[case] of_all: [f64; 2],
        #[case] of_new: Option<[f64; 2]>,
        #[case] is_reported: bool,
    ) {
        let expected = if is_reported { vec![(300, SkewChange::Begun(1))] } else { Vec::new() };
        assert_eq!(after(requests, &shares(of_all, of_new)), expected);
    }

    #[test]
    fn it_is_over_when_the_shares_are_near_again() {
        let mut skew = PinSkew::default();
        let at = |second| Tick(0).plus(Duration::from_secs(second));
        let pulled = shares([0.2, 0.8], None);
        assert_eq!(skew.on_sample(at(0), 500, &pulled), None);
        assert_eq!(skew.on_sample(at(299), 500, &shares([0.5, 0.5], None)), None, "it did not last");
        assert_eq!(skew.on_sample(at(300), 500, &pulled), None);
        assert_eq!(skew.on_sample(at(600), 500, &pulled), Some(SkewChange::Begun(1)));
        assert_eq!(skew.on_sample(at(601), 500, &shares([0.35, 0.65], None)), None, "not yet");
        assert!(skew.is_reported());
        assert_eq!(skew.on_sample(at(602), 500, &shares([0.45, 0.55], None)), Some(SkewChange::Over));
    }
}
