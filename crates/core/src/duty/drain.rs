//! How far a server is drained: what is open at it, how fast that declines, and whether work on it can begin.

use std::collections::VecDeque;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::{Duty, DutyOrder};
use crate::time::Wall;

/// Over how long the rate of decline is taken.
const DECLINE_OVER: Duration = Duration::from_secs(30);

/// What is open at a server.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenWork {
    /// Requests whose responses have not ended.
    pub requests: u64,
    /// Connections of `tcp` frontends, and flows of `udp` ones.
    pub connections: u64,
    /// Connections that went on with another protocol: WebSockets and others (RFC 9110, 7.8).
    pub tunnels: u64,
}

impl OpenWork {
    /// All of it.
    #[must_use]
    pub fn all(self) -> u64 {
        self.requests + self.connections + self.tunnels
    }
}

/// What was cut off when a drain's deadline passed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CutWork {
    /// Requests that had to end without their whole response; those that another server could take are not among them.
    pub requests: u64,
    /// Connections of `tcp` frontends, and flows of `udp` ones.
    pub connections: u64,
    /// Tunnels, such as WebSockets.
    pub tunnels: u64,
}

impl CutWork {
    /// All of it.
    #[must_use]
    pub fn all(self) -> u64 {
        self.requests + self.connections + self.tunnels
    }

    /// What was cut since `before`.
    #[must_use]
    pub fn since(self, before: Self) -> Self {
        Self {
            requests: self.requests.saturating_sub(before.requests),
            connections: self.connections.saturating_sub(before.connections),
            tunnels: self.tunnels.saturating_sub(before.tunnels),
        }
    }
}

/// Whether clients may be tied to a server that drains.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ClientTies {
    /// Nothing ties clients to servers of its pool.
    None,
    /// Their pins end so long after they were made.
    For(Duration),
    /// They come for as long as they like.
    Endless,
}

impl ClientTies {
    /// When no client that is tied to the server can come any more: at once, at the drain's deadline, or when the last pin ends that
    /// was made before the drain. `None`: never by itself.
    #[must_use]
    pub fn end(self, order: &DutyOrder) -> Option<Wall> {
        let pins = match (self, order.pins) {
            (Self::None, _) | (_, super::DrainPins::Move) => Some(order.at),
            (Self::For(lifetime), super::DrainPins::Honour) => Some(order.at.plus(lifetime)),
            (Self::Endless, super::DrainPins::Honour) => None,
        };
        [pins, order.deadline].into_iter().flatten().min()
    }
}

/// Follows the drain of one server. It is handed a sample each second.
#[derive(Clone, Debug)]
pub struct DrainWatch {
    /// How much work the server had been given at the last sample.
    begun: u64,
    /// Since when it was given none.
    quiet_since: Wall,
    /// What was open, over [`DECLINE_OVER`].
    open: VecDeque<(Wall, u64)>,
}

impl DrainWatch {
    /// Begins to follow a server that had been given so much work.
    #[must_use]
    pub fn new(now: Wall, begun: u64) -> Self {
        Self { begun, quiet_since: now, open: VecDeque::new() }
    }

    /// Takes a sample: all work that the server had been given, and what of it is open.
    pub fn on_sample(&mut self, now: Wall, begun: u64, open: u64) {
        if begun != self.begun {
            (self.begun, self.quiet_since) = (begun, now);
        }
        self.open.push_back((now, open));
        while self.open.front().is_some_and(|(at, _)| now.since(*at) > DECLINE_OVER) {
            self.open.pop_front();
        }
    }

    /// Since when it was given no work.
    #[must_use]
    pub fn quiet_since(&self) -> Wall {
        self.quiet_since
    }

    /// How much of what is open ends in a second, over the last half minute; `None` while nothing of it does.
    #[must_use]
    pub fn decline(&self) -> Option<f64> {
        let ((first, before), (last, now)) = (self.open.front()?, self.open.back()?);
        let seconds = last.since(*first).as_secs_f64();
        (before > now && seconds > 0.0).then(|| (before - now) as f64 / seconds)
    }

    /// When nothing will be open any more if it goes on like this; `None` while it does not decline.
    #[must_use]
    pub fn estimated_end(&self) -> Option<Wall> {
        let (at, open) = self.open.back()?;
        let rest = *open as f64 / self.decline()?;
        Some(at.plus(Duration::from_secs_f64(rest.min(7.0 * 86_400.0))))
    }
}

/// Whether work on a server can begin: it is out of service, nothing is open at it, and no client that is tied to it can come. That
/// the deadline of its drain `is_over` is for the caller to say, who counts it by a clock that nobody sets; the end of pins is in the
/// cookies of clients, by the clock of the day.
#[must_use]
pub fn is_safe(order: &DutyOrder, ties: ClientTies, open: OpenWork, now: Wall, is_over: bool) -> bool {
    let none_comes = match (order.duty, order.pins, ties) {
        (Duty::InService, ..) => false,
        (Duty::Withdrawn, ..) | (_, super::DrainPins::Move, _) | (_, _, ClientTies::None) => true,
        (Duty::Draining, _, ClientTies::For(lifetime)) => is_over || order.at.plus(lifetime) <= now,
        (Duty::Draining, _, ClientTies::Endless) => is_over,
    };
    none_comes && open.all() == 0
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::DrainPins;
    use super::*;

    fn drain(deadline: Option<i64>, pins: DrainPins) -> DutyOrder {
        let order = DutyOrder::new(Duty::Draining, "new disk", "kittiwake", Wall(1_000));
        DutyOrder { deadline: deadline.map(Wall), pins, ..order }
    }

    const MINUTE: ClientTies = ClientTies::For(Duration::from_secs(60));

    #[rstest]
    #[case::nobody_is_tied(ClientTies::None, None, DrainPins::Honour, Some(1_000))]
    #[case::pins_end(MINUTE, None, DrainPins::Honour, Some(61_000))]
    #[case::the_deadline_comes_first(MINUTE, Some(31_000), DrainPins::Honour, Some(31_000))]
    #[case::pins_end_before_the_deadline(MINUTE, Some(91_000), DrainPins::Honour, Some(61_000))]
    #[case::pins_move(ClientTies::Endless, Some(91_000), DrainPins::Move, Some(1_000))]
    #[case::pins_without_end(ClientTies::Endless, None, DrainPins::Honour, None)]
    #[case::only_the_deadline(ClientTies::Endless, Some(91_000), DrainPins::Honour, Some(91_000))]
    fn tied_clients_come_until(
        #[case] ties: ClientTies,
        #[case] deadline: Option<i64>,
        #[case] pins: DrainPins,
        #[case] end: Option<i64>,
    ) {
        assert_eq!(ties.end(&drain(deadline, pins)), end.map(Wall));
    }

    #[rstest]
    #[case::tied_clients_may_come(MINUTE, 60_999, 0, false, false)]
    #[case::a_request_is_open(MINUTE, 61_000, 1, false, false)]
    #[case::nothing_comes_and_nothing_is_open(MINUTE, 61_000, 0, false, true)]
    #[case::its_deadline_is_over(MINUTE, 1_000, 0, true, true)]
    #[case::the_clock_was_set_forward_past_the_deadline(ClientTies::Endless, 9_000_000, 0, false, false)]
    #[case::the_clock_was_set_back(ClientTies::None, 0, 0, false, true)]
    fn work_can_begin(
        #[case] ties: ClientTies,
        #[case] now: i64,
        #[case] requests: u64,
        #[case] is_over: bool,
        #[case] safe: bool,
    ) {
        let open = OpenWork { requests, ..OpenWork::default() };
        let order = drain(Some(91_000), DrainPins::Honour);
        assert_eq!(is_safe(&order, ties, open, Wall(now), is_over), safe);
        let in_service = DutyOrder::new(Duty::InService, "back", "kittiwake", Wall(0));
        assert!(!is_safe(&in_service, ties, open, Wall(now), is_over));
    }

    #[test]
    fn the_end_is_estimated_from_the_decline() {
        let mut watch = DrainWatch::new(Wall(0), 5);
        watch.on_sample(Wall(0), 5, 40);
        assert_eq!((watch.decline(), watch.estimated_end()), (None, None));
        watch.on_sample(Wall(10_000), 6, 20);
        assert_eq!(watch.decline(), Some(2.0));
        assert_eq!(watch.estimated_end(), Some(Wall(20_000)));
        assert_eq!(watch.quiet_since(), Wall(10_000), "a tied client came");
        watch.on_sample(Wall(45_000), 6, 20);
        assert_eq!(watch.decline(), None, "older samples do not count");
        assert_eq!(watch.quiet_since(), Wall(10_000));
    }
}
