//! Tables of pins that are full: the pins that were used longest ago go before their time, and those clients may change servers.

use std::time::Duration;

use crate::time::Tick;

/// How long nothing has to be pushed out before it is over: it comes in bursts.
const QUIET: Duration = Duration::from_secs(600);

/// Whether a report is due.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CrowdingChange {
    /// Pins have begun to go before their time.
    Begun,
    /// None has gone before its time for ten minutes; how many did since it began.
    Over(u64),
}

/// Follows one table. It is handed a sample each second.
#[derive(Clone, Copy, Debug)]
pub struct PinCrowding {
    evicted: u64,
    /// Since when it lasts with the count of then, and when it was last so.
    begun: Option<(u64, Tick)>,
}

impl PinCrowding {
    /// Begins to follow a table from which so many pins have gone before their time.
    #[must_use]
    pub fn from(evicted: u64) -> Self {
        Self { evicted, begun: None }
    }

    /// Takes a sample: how many pins have gone before their time, ever.
    pub fn on_sample(&mut self, now: Tick, evicted: u64) -> Option<CrowdingChange> {
        let before = std::mem::replace(&mut self.evicted, evicted);
        match &mut self.begun {
            None if evicted > before => {
                self.begun = Some((before, now));
                Some(CrowdingChange::Begun)
            }
            Some((_, last)) if evicted > before => {
                *last = now;
                None
            }
            Some((since, last)) if now.since(*last) >= QUIET => {
                let gone = evicted.saturating_sub(*since);
                self.begun = None;
                Some(CrowdingChange::Over(gone))
            }
            _ => None,
        }
    }

    /// How many pins have gone before their time since it began; `None` when none does.
    #[must_use]
    pub fn gone(&self) -> Option<u64> {
        self.begun.map(|(since, _)| self.evicted.saturating_sub(since))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_told_once_and_is_over_when_it_was_quiet_for_long() {
        let mut crowding = PinCrowding::from(0);
        let at = |second| Tick(0).plus(Duration::from_secs(second));
        assert_eq!(crowding.on_sample(at(0), 0), None);
        assert_eq!(crowding.on_sample(at(1), 3), Some(CrowdingChange::Begun));
        assert_eq!((crowding.on_sample(at(2), 7), crowding.gone()), (None, Some(7)));
        assert_eq!(crowding.on_sample(at(300), 8), None);
        assert_eq!(crowding.on_sample(at(899), 8), None);
        assert_eq!(crowding.on_sample(at(900), 8), Some(CrowdingChange::Over(8)));
        assert_eq!((crowding.on_sample(at(901), 8), crowding.gone()), (None, None));
        assert_eq!(crowding.on_sample(at(902), 9), Some(CrowdingChange::Begun));
        assert_eq!(crowding.gone(), Some(1));
    }
}
