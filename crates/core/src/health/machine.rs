//! The state machine of one server's health.

use std::fmt;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::config::document::{Check, TrafficVerdict};
use crate::time::Tick;
use crate::units::Span;

/// What probes say of a server.
///
/// ```text
///             pass                    failure                 failures = down_after
///  unproven ────────▶ up ────────────────────────▶ suspect ─────────────────────────▶ down
///      │               ▲ ▲          pass             │                                ▲  │
///      │               │ └───────────────────────────┘                        failure │  │ pass
///      │ failure       │             passes = up_after                                │  ▼
///      └──▶ down       └────────────────────────────────────────────────────────── recovering
/// ```
/// With `down_after = 1` an up server goes down at once, with `up_after = 1` a down one comes up at once.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum State {
    /// No probe has ended yet.
    #[default]
    Unproven,
    /// It works.
    Up,
    /// It fails, and is not yet down.
    Suspect,
    /// It does not work.
    Down,
    /// It passes, and is not yet up.
    Recovering,
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Unproven => "unproven",
            Self::Up => "up",
            Self::Suspect => "suspect",
            Self::Down => "down",
            Self::Recovering => "recovering",
        })
    }
}

/// The counts and the pace that a machine goes by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rules {
    /// From the start of one probe to the start of the next.
    pub interval: Duration,
    /// The same while the server is down.
    pub interval_down: Duration,
    /// Failures in a row before down.
    pub down_after: u32,
    /// Passes in a row before up.
    pub up_after: u32,
}

impl From<&Check> for Rules {
    fn from(check: &Check) -> Self {
        let interval = check.interval.get();
        let interval_down = check.interval_down.map_or(interval, Span::get);
        Self { interval, interval_down, down_after: check.down_after, up_after: check.up_after }
    }
}

/// The shortest time between two probes that are in a hurry.
const LEAST_PACE: Duration = Duration::from_millis(100);

/// A change of state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Transition {
    /// The state before.
    pub from: State,
    /// The state after.
    pub to: State,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Phase {
    Unproven,
    Up,
    Suspect { failures: u32 },
    Down,
    Recovering { passes: u32 },
}

/// One server's health: probe outcomes in, transitions out, and the time of the next probe.
#[derive(Clone, Debug)]
pub struct Machine {
    rules: Rules,
    phase: Phase,
    next_probe: Tick,
    /// When the second probe is due, if that is not too soon after the first: servers that start together are spread
    /// evenly over the interval from then on.
    second: Tick,
    started: bool,
    /// Traffic has made it suspect, and probes are to settle that soon.
    hurried: bool,
    /// When the last probe started.
    started_at: Tick,
}

impl Machine {
    /// A machine whose first probe is due within `first_within` of `now`.
    ///
    /// `known` is the state that an earlier run of the service saw last; `seed` (any number that differs
    /// between servers) decides where in that time the first probe falls, and where in the interval those after it.
    #[must_use]
    pub fn new(rules: Rules, known: State, seed: u64, now: Tick, first_within: Duration) -> Self {
        let phase = match known {
            State::Unproven => Phase::Unproven,
            State::Up | State::Suspect => Phase::Up,
            State::Down | State::Recovering => Phase::Down,
        };
        let fraction = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 32;
        let part = |of: Duration| {
            let whole = u64::try_from(of.as_nanos()).unwrap_or(u64::MAX);
            Duration::from_nanos(((u128::from(whole) * u128::from(fraction)) >> 32) as u64)
        };
        let first = now.plus(part(first_within.min(rules.interval)));
        let second = now.plus(part(rules.interval));
        Self { rules, phase, next_probe: first, second, started: false, hurried: false, started_at: now }
    }

    /// The state.
    #[must_use]
    pub fn state(&self) -> State {
        match self.phase {
            Phase::Unproven => State::Unproven,
            Phase::Up => State::Up,
            Phase::Suspect { .. } => State::Suspect,
            Phase::Down => State::Down,
            Phase::Recovering { .. } => State::Recovering,
        }
    }

    /// How many failures in a row from now would make the server down; `None` when it is down.
    #[must_use]
    pub fn failures_to_down(&self) -> Option<u32> {
        match self.phase {
            Phase::Unproven | Phase::Recovering { .. } => Some(1),
            Phase::Up => Some(self.rules.down_after),
            Phase::Suspect { failures } => Some(self.rules.down_after.saturating_sub(failures).max(1)),
            Phase::Down => None,
        }
    }

    /// How many passes in a row from now would make the server up; `None` when it is up.
    #[must_use]
    pub fn passes_to_up(&self) -> Option<u32> {
        match self.phase {
            Phase::Unproven | Phase::Suspect { .. } => Some(1),
            Phase::Up => None,
            Phase::Down => Some(self.rules.up_after),
            Phase::Recovering { passes } => Some(self.rules.up_after.saturating_sub(passes).max(1)),
        }
    }

    /// When the next probe is due.
    #[must_use]
    pub fn next_timeout(&self) -> Tick {
        self.next_probe
    }

    /// A probe was started.
    pub fn on_probe_started(&mut self, now: Tick) {
        self.next_probe = match self.started {
            true => now.plus(self.pace()),
            false if self.second >= now.plus(self.rules.interval / 2) => self.second,
            false => self.second.plus(self.rules.interval),
        };
        self.started = true;
        self.started_at = now;
    }

    /// Traffic has spoken against the server. Gives the change of state, if it made one: only a server that is up, or
    /// suspect, can be made less.
    pub fn on_traffic(&mut self, verdict: TrafficVerdict, now: Tick) -> Option<Transition> {
        let from = self.state();
        self.phase = match (verdict, self.phase) {
            (TrafficVerdict::Suspect, Phase::Up) => {
                self.next_probe = self.next_probe.min(now);
                self.hurried = true;
                Phase::Suspect { failures: 0 }
            }
            (TrafficVerdict::Down, Phase::Up | Phase::Suspect { .. }) => {
                self.next_probe = now.plus(self.rules.interval_down);
                Phase::Down
            }
            (_, unchanged) => unchanged,
        };
        let to = self.state();
        (from != to).then_some(Transition { from, to })
    }

    /// How far apart probes start. A server that recovers is proven at the usual pace.
    fn pace(&self) -> Duration {
        match self.phase {
            Phase::Down => self.rules.interval_down,
            Phase::Suspect { .. } if self.hurried => (self.rules.interval / 4).max(LEAST_PACE),
            _ => self.rules.interval,
        }
    }

    /// A probe ended. Gives the change of state, if it made one.
    pub fn on_probe_ended(&mut self, passed: bool) -> Option<Transition> {
        let (from, pace) = (self.state(), self.pace());
        self.phase = if passed { self.after_pass() } else { self.after_failure() };
        self.hurried &= matches!(self.phase, Phase::Suspect { .. });
        if self.pace() != pace {
            self.next_probe = self.started_at.plus(self.pace());
        }
        let to = self.state();
        (from != to).then_some(Transition { from, to })
    }

    fn after_pass(&self) -> Phase {
        let counted = |passes| {
            if passes >= self.rules.up_after { Phase::Up } else { Phase::Recovering { passes } }
        };
        match self.phase {
            Phase::Unproven | Phase::Up | Phase::Suspect { .. } => Phase::Up,
            Phase::Down => counted(1),
            Phase::Recovering { passes } => counted(passes + 1),
        }
    }

    fn after_failure(&self) -> Phase {
        let counted = |failures| {
            if failures >= self.rules.down_after { Phase::Down } else { Phase::Suspect { failures } }
        };
        match self.phase {
            Phase::Up => counted(1),
            Phase::Suspect { failures } => counted(failures + 1),
            Phase::Unproven | Phase::Down | Phase::Recovering { .. } => Phase::Down,
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn machine(down_after: u32, up_after: u32, known: State) -> Machine {
        Machine::new(
            Rules {
                interval: Duration::from_secs(2),
                interval_down: Duration::from_secs(2),
                down_after,
                up_after,
            },
            known,
            7,
            Tick(0),
            Duration::ZERO,
        )
    }

    /// Feeds `p` for a pass and `f` for a failure and gives the states after each.
    fn run(machine: &mut Machine, outcomes: &str) -> Vec<State> {
        outcomes
            .chars()
            .map(|outcome| {
                machine.on_probe_ended(outcome == 'p');
                machine.state()
            })
            .collect()
    }

    #[rstest]
    #[case::proven_by_one_pass(3, 2, State::Unproven, "p", &[State::Up])]
    #[case::unproven_fails(3, 2, State::Unproven, "f", &[State::Down])]
    #[case::three_failures(3, 2, State::Up, "fff", &[State::Suspect, State::Suspect, State::Down])]
    #[case::a_pass_forgives(3, 2, State::Up, "ffpff",
        &[State::Suspect, State::Suspect, State::Up, State::Suspect, State::Suspect])]
    #[case::one_failure_is_enough(1, 2, State::Up, "f", &[State::Down])]
    #[case::two_passes(3, 2, State::Down, "pp", &[State::Recovering, State::Up])]
    #[case::a_failure_while_recovering(3, 3, State::Down, "ppfp",
        &[State::Recovering, State::Recovering, State::Down, State::Recovering])]
    #[case::one_pass_is_enough(3, 1, State::Down, "p", &[State::Up])]
    #[case::stays_down(3, 2, State::Down, "ff", &[State::Down, State::Down])]
    #[case::stays_up(3, 2, State::Up, "pp", &[State::Up, State::Up])]
    fn transitions(
        #[case] down_after: u32,
        #[case] up_after: u32,
        #[case] known: State,
        #[case] outcomes: &str,
        #[case] states: &[State],
    ) {
        assert_eq!(run(&mut machine(down_after, up_after, known), outcomes), states);
    }

    #[test]
    fn a_transition_is_told_once() {
        let mut machine = machine(2, 2, State::Up);
        let to = |from, to| Some(Transition { from, to });
        assert_eq!(machine.on_probe_ended(false), to(State::Up, State::Suspect));
        assert_eq!(machine.on_probe_ended(false), to(State::Suspect, State::Down));
        assert_eq!(machine.on_probe_ended(false), None);
    }

    #[test]
    fn what_is_missing_to_the_next_verdict_is_always_exact() {
        for outcomes in ["", "p", "f", "ff", "fff", "fffp", "fffpp", "fp"] {
            let mut machine = machine(3, 2, State::Up);
            run(&mut machine, outcomes);
            for (needed, outcome, goal) in
                [(machine.failures_to_down(), "f", State::Down), (machine.passes_to_up(), "p", State::Up)]
            {
                let Some(needed) = needed else {
                    assert_eq!(machine.state(), goal);
                    continue;
                };
                let states = run(&mut machine.clone(), &outcome.repeat(needed as usize));
                assert_eq!(states.iter().position(|s| *s == goal), Some(needed as usize - 1), "{outcomes}");
            }
        }
    }

    #[test]
    fn what_traffic_says_of_a_server() {
        let seconds = Duration::from_secs;
        let rules = Rules { interval: seconds(8), interval_down: seconds(8), down_after: 2, up_after: 2 };
        let up = || {
            let mut machine = Machine::new(rules, State::Up, 7, Tick(0), Duration::ZERO);
            machine.on_probe_started(Tick(0));
            machine.on_probe_ended(true);
            machine
        };
        let at = Tick(0).plus(seconds(1));
        let mut machine = up();
        let told = machine.on_traffic(TrafficVerdict::Suspect, at);
        assert_eq!(told, Some(Transition { from: State::Up, to: State::Suspect }));
        assert_eq!(
            (machine.next_timeout(), machine.failures_to_down()),
            (at, Some(2)),
            "it is probed at once"
        );
        machine.on_probe_started(at);
        machine.on_probe_ended(false);
        assert_eq!(machine.next_timeout(), at.plus(seconds(2)), "and soon again");
        machine.on_probe_started(at.plus(seconds(2)));
        machine.on_probe_ended(true);
        assert_eq!(
            (machine.state(), machine.next_timeout()),
            (State::Up, at.plus(seconds(10))),
            "it was nothing"
        );
        let mut machine = up();
        let told = machine.on_traffic(TrafficVerdict::Down, at);
        assert_eq!(told, Some(Transition { from: State::Up, to: State::Down }));
        assert_eq!(machine.on_traffic(TrafficVerdict::Down, at), None);
        assert_eq!(machine.on_traffic(TrafficVerdict::Suspect, at), None, "it is no less than down");
        assert_eq!(run(&mut machine, "pp"), [State::Recovering, State::Up], "probes bring it back");
    }

    #[test]
    fn a_server_that_is_down_is_probed_at_a_pace_of_its_own() {
        let seconds = Duration::from_secs;
        let rules = Rules { interval: seconds(2), interval_down: seconds(10), down_after: 1, up_after: 2 };
        let mut machine = Machine::new(rules, State::Up, 7, Tick(0), Duration::ZERO);
        machine.on_probe_started(Tick(0));
        let start = machine.next_timeout();
        machine.on_probe_started(start);
        machine.on_probe_ended(false);
        assert_eq!(machine.next_timeout(), start.plus(seconds(10)), "it is down now");
        let start = machine.next_timeout();
        machine.on_probe_started(start);
        machine.on_probe_ended(true);
        assert_eq!(machine.next_timeout(), start.plus(seconds(2)), "it recovers, and that is proven soon");
    }

    #[test]
    fn probes_keep_their_pace_and_are_spread_from_the_first_second() {
        let (interval, second) = (Duration::from_secs(5), Duration::from_secs(1));
        let rules = Rules { interval, interval_down: interval, down_after: 3, up_after: 2 };
        let (mut firsts, mut phases) = ([0; 10], [0; 10]);
        for seed in 0..10_000 {
            let mut machine = Machine::new(rules, State::Unproven, seed, Tick(0), second);
            let first = machine.next_timeout();
            assert!(first < Tick(0).plus(second));
            firsts[(first.0 / 100_000_000) as usize] += 1;
            machine.on_probe_started(first);
            let next = machine.next_timeout();
            let gap = next.since(first);
            assert!(gap >= interval / 2 && gap < interval * 3 / 2, "{gap:?}");
            phases[((next.0 % 5_000_000_000) / 500_000_000) as usize] += 1;
            machine.on_probe_started(next);
            assert_eq!(machine.next_timeout(), next.plus(interval));
        }
        for tenth in firsts.into_iter().chain(phases) {
            assert!((900..1_100).contains(&tenth), "a tenth of the time has a tenth of the servers: {tenth}");
        }
        let alone = Machine::new(rules, State::Unproven, 7, Tick(0), Duration::ZERO);
        assert_eq!(alone.next_timeout(), Tick(0), "few servers need not wait for each other");
    }
}
