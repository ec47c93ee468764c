//! The state machine of one server's health.

use std::collections::VecDeque;
use std::fmt;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::config::document::{CheckSpec, PassiveAction};
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
pub enum HealthState {
    /// No probe has ended yet.
    #[default]
    Unproven,
    /// It works: the last probes passed.
    Up,
    /// It fails, and is not yet down.
    Suspect,
    /// It does not work.
    Down,
    /// It passes, and is not yet up.
    Recovering,
}

impl fmt::Display for HealthState {
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
pub struct HealthRules {
    /// From the start of one probe to the start of the next.
    pub interval: Duration,
    /// The same while the server is down.
    pub interval_down: Duration,
    /// Failures in a row before down.
    pub down_after: u32,
    /// Passes in a row before up.
    pub up_after: u32,
    /// When a server is called flapping, and what becomes of it.
    pub flapping: FlappingRule,
}

/// When a server that keeps changing is called flapping, and what becomes of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FlappingRule {
    /// So many times down.
    pub after: u32,
    /// Only changes within this time are counted.
    pub within: Duration,
    /// How long it is held down then, if at all.
    pub hold_down: Option<HoldDown>,
}

/// How long a flapping server is held down.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HoldDown {
    /// The first time; each further time while it flaps is twice as long.
    pub first: Duration,
    /// The longest time that a server is held down.
    pub most: Duration,
}

/// What is known of a server when its probes begin.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct InitialHealth {
    /// The state that was seen last.
    pub state: HealthState,
    /// How long it is still held down.
    pub held_for: Duration,
}

impl From<HealthState> for InitialHealth {
    fn from(state: HealthState) -> Self {
        Self { state, held_for: Duration::ZERO }
    }
}

impl From<&CheckSpec> for HealthRules {
    fn from(check: &CheckSpec) -> Self {
        let interval = check.interval.get();
        let interval_down = check.interval_down.map_or(interval, Span::get);
        let steadiness = &check.steadiness;
        let hold_down = steadiness.hold_down.map(|first| HoldDown {
            first: first.get(),
            most: steadiness.hold_down_most.get().max(first.get()),
        });
        let flapping = FlappingRule {
            after: steadiness.flapping_after,
            within: steadiness.flapping_within.get(),
            hold_down,
        };
        Self { interval, interval_down, down_after: check.down_after, up_after: check.up_after, flapping }
    }
}

/// The shortest time between two probes that are in a hurry.
const LEAST_PACE: Duration = Duration::from_millis(100);

/// A change of state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct HealthTransition {
    /// The state before the change.
    pub from: HealthState,
    /// The state after the change.
    pub to: HealthState,
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
pub struct HealthMachine {
    rules: HealthRules,
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
    /// When it went down, as far back as it takes to call it flapping.
    downs: VecDeque<Tick>,
    /// How many times in a row it was held down.
    holds: u32,
    /// It is not up before this.
    held_until: Tick,
}

impl HealthMachine {
    /// A machine whose first probe is due within `first_within` of `now`.
    ///
    /// `known` is what an earlier run of the service, or of the check, saw last; `seed` (any number that differs
    /// between servers) decides where in that time the first probe falls, and where in the interval those after it.
    #[must_use]
    pub fn new(
        rules: HealthRules,
        known: InitialHealth,
        seed: u64,
        now: Tick,
        first_within: Duration,
    ) -> Self {
        let phase = match known.state {
            HealthState::Unproven => Phase::Unproven,
            HealthState::Up | HealthState::Suspect => Phase::Up,
            HealthState::Down | HealthState::Recovering => Phase::Down,
        };
        let fraction = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 32;
        let part = |of: Duration| {
            let whole = u64::try_from(of.as_nanos()).unwrap_or(u64::MAX);
            Duration::from_nanos(((u128::from(whole) * u128::from(fraction)) >> 32) as u64)
        };
        let first = now.plus(part(first_within.min(rules.interval)));
        let second = now.plus(part(rules.interval));
        Self {
            rules,
            phase,
            next_probe: first,
            second,
            started: false,
            hurried: false,
            started_at: now,
            downs: VecDeque::new(),
            holds: u32::from(!known.held_for.is_zero()),
            held_until: now.plus(known.held_for),
        }
    }

    /// The state at this moment; no time has to pass for it to hold.
    #[must_use]
    pub fn state(&self) -> HealthState {
        match self.phase {
            Phase::Unproven => HealthState::Unproven,
            Phase::Up => HealthState::Up,
            Phase::Suspect { .. } => HealthState::Suspect,
            Phase::Down => HealthState::Down,
            Phase::Recovering { .. } => HealthState::Recovering,
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

    /// Whether it keeps changing: it went down so many times within the time that its check says.
    #[must_use]
    pub fn is_flapping(&self, now: Tick) -> bool {
        let FlappingRule { after, within, .. } = self.rules.flapping;
        let recent = self.downs.iter().filter(|down| now.since(**down) <= within).count();
        recent >= after as usize
    }

    /// How long it is still held down, whatever its probes say; `None` when it is not.
    #[must_use]
    pub fn held_for(&self, now: Tick) -> Option<Duration> {
        let held = matches!(self.phase, Phase::Down | Phase::Recovering { .. }) && now < self.held_until;
        held.then(|| self.held_until.since(now))
    }

    /// It went down after it had worked.
    fn on_down(&mut self, now: Tick) {
        if self.downs.len() >= self.rules.flapping.after as usize {
            self.downs.pop_front();
        }
        self.downs.push_back(now);
        if !self.is_flapping(now) {
            self.holds = 0;
        } else if let Some(HoldDown { first, most }) = self.rules.flapping.hold_down {
            let length = first.saturating_mul(1_u32.checked_shl(self.holds).unwrap_or(u32::MAX)).min(most);
            self.held_until = now.plus(length);
            self.holds = self.holds.saturating_add(1);
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
    pub fn on_traffic(&mut self, verdict: PassiveAction, now: Tick) -> Option<HealthTransition> {
        let from = self.state();
        self.phase = match (verdict, self.phase) {
            (PassiveAction::Suspect, Phase::Up) => {
                self.next_probe = self.next_probe.min(now);
                self.hurried = true;
                Phase::Suspect { failures: 0 }
            }
            (PassiveAction::Down, Phase::Up | Phase::Suspect { .. }) => {
                self.next_probe = now.plus(self.rules.interval_down);
                self.on_down(now);
                Phase::Down
            }
            (_, unchanged) => unchanged,
        };
        let to = self.state();
        (from != to).then_some(HealthTransition { from, to })
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
    pub fn on_probe_ended(&mut self, passed: bool, now: Tick) -> Option<HealthTransition> {
        let (from, pace) = (self.state(), self.pace());
        self.phase = if passed { self.after_pass(now) } else { self.after_failure() };
        if self.phase == Phase::Down && matches!(from, HealthState::Up | HealthState::Suspect) {
            self.on_down(now);
        }
        self.hurried &= matches!(self.phase, Phase::Suspect { .. });
        if self.pace() != pace {
            self.next_probe = self.started_at.plus(self.pace());
        }
        let to = self.state();
        (from != to).then_some(HealthTransition { from, to })
    }

    fn after_pass(&self, now: Tick) -> Phase {
        let counted = |passes: u32| {
            if passes >= self.rules.up_after && now >= self.held_until {
                Phase::Up
            } else {
                Phase::Recovering { passes: passes.min(self.rules.up_after) }
            }
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

    const STEADY: FlappingRule = FlappingRule { after: 3, within: Duration::from_secs(600), hold_down: None };

    fn machine(down_after: u32, up_after: u32, known: HealthState) -> HealthMachine {
        HealthMachine::new(
            HealthRules {
                interval: Duration::from_secs(2),
                interval_down: Duration::from_secs(2),
                down_after,
                up_after,
                flapping: STEADY,
            },
            known.into(),
            7,
            Tick(0),
            Duration::ZERO,
        )
    }

    /// Feeds `p` for a pass and `f` for a failure and gives the states after each.
    fn run(machine: &mut HealthMachine, outcomes: &str) -> Vec<HealthState> {
        outcomes
            .chars()
            .map(|outcome| {
                machine.on_probe_ended(outcome == 'p', Tick(0));
                machine.state()
            })
            .collect()
    }

    #[rstest]
    #[case::proven_by_one_pass(3, 2, HealthState::Unproven, "p", &[HealthState::Up])]
    #[case::unproven_fails(3, 2, HealthState::Unproven, "f", &[HealthState::Down])]
    #[case::three_failures(3, 2, HealthState::Up, "fff", &[HealthState::Suspect, HealthState::Suspect, HealthState::Down])]
    #[case::a_pass_forgives(3, 2, HealthState::Up, "ffpff",
        &[HealthState::Suspect, HealthState::Suspect, HealthState::Up, HealthState::Suspect, HealthState::Suspect])]
    #[case::one_failure_is_enough(1, 2, HealthState::Up, "f", &[HealthState::Down])]
    #[case::two_passes(3, 2, HealthState::Down, "pp", &[HealthState::Recovering, HealthState::Up])]
    #[case::a_failure_while_recovering(3, 3, HealthState::Down, "ppfp",
        &[HealthState::Recovering, HealthState::Recovering, HealthState::Down, HealthState::Recovering])]
    #[case::one_pass_is_enough(3, 1, HealthState::Down, "p", &[HealthState::Up])]
    #[case::stays_down(3, 2, HealthState::Down, "ff", &[HealthState::Down, HealthState::Down])]
    #[case::stays_up(3, 2, HealthState::Up, "pp", &[HealthState::Up, HealthState::Up])]
    fn transitions(
        #[case] down_after: u32,
        #[case] up_after: u32,
        #[case] known: HealthState,
        #[case] outcomes: &str,
        #[case] states: &[HealthState],
    ) {
        assert_eq!(run(&mut machine(down_after, up_after, known), outcomes), states);
    }

    #[test]
    fn a_transition_is_told_once() {
        let mut machine = machine(2, 2, HealthState::Up);
        let to = |from, to| Some(HealthTransition { from, to });
        assert_eq!(machine.on_probe_ended(false, Tick(0)), to(HealthState::Up, HealthState::Suspect));
        assert_eq!(machine.on_probe_ended(false, Tick(0)), to(HealthState::Suspect, HealthState::Down));
        assert_eq!(machine.on_probe_ended(false, Tick(0)), None);
    }

    #[test]
    fn what_is_missing_to_the_next_verdict_is_always_exact() {
        for outcomes in ["", "p", "f", "ff", "fff", "fffp", "fffpp", "fp"] {
            let mut machine = machine(3, 2, HealthState::Up);
            run(&mut machine, outcomes);
            for (needed, outcome, goal) in [
                (machine.failures_to_down(), "f", HealthState::Down),
                (machine.passes_to_up(), "p", HealthState::Up),
            ] {
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
        let rules = HealthRules {
            interval: seconds(8),
            interval_down: seconds(8),
            down_after: 2,
            up_after: 2,
            flapping: STEADY,
        };
        let up = || {
            let mut machine = HealthMachine::new(rules, HealthState::Up.into(), 7, Tick(0), Duration::ZERO);
            machine.on_probe_started(Tick(0));
            machine.on_probe_ended(true, Tick(0));
            machine
        };
        let at = Tick(0).plus(seconds(1));
        let mut machine = up();
        let change = machine.on_traffic(PassiveAction::Suspect, at);
        assert_eq!(change, Some(HealthTransition { from: HealthState::Up, to: HealthState::Suspect }));
        assert_eq!(
            (machine.next_timeout(), machine.failures_to_down()),
            (at, Some(2)),
            "it is probed at once"
        );
        machine.on_probe_started(at);
        machine.on_probe_ended(false, Tick(0));
        assert_eq!(machine.next_timeout(), at.plus(seconds(2)), "and soon again");
        machine.on_probe_started(at.plus(seconds(2)));
        machine.on_probe_ended(true, Tick(0));
        assert_eq!(
            (machine.state(), machine.next_timeout()),
            (HealthState::Up, at.plus(seconds(10))),
            "it was nothing"
        );
        let mut machine = up();
        let change = machine.on_traffic(PassiveAction::Down, at);
        assert_eq!(change, Some(HealthTransition { from: HealthState::Up, to: HealthState::Down }));
        assert_eq!(machine.on_traffic(PassiveAction::Down, at), None);
        assert_eq!(machine.on_traffic(PassiveAction::Suspect, at), None, "it is no less than down");
        assert_eq!(
            run(&mut machine, "pp"),
            [HealthState::Recovering, HealthState::Up],
            "probes bring it back"
        );
    }

    #[test]
    fn a_server_that_is_down_is_probed_at_a_pace_of_its_own() {
        let seconds = Duration::from_secs;
        let rules = HealthRules {
            interval: seconds(2),
            interval_down: seconds(10),
            down_after: 1,
            up_after: 2,
            flapping: STEADY,
        };
        let mut machine = HealthMachine::new(rules, HealthState::Up.into(), 7, Tick(0), Duration::ZERO);
        machine.on_probe_started(Tick(0));
        let start = machine.next_timeout();
        machine.on_probe_started(start);
        machine.on_probe_ended(false, Tick(0));
        assert_eq!(machine.next_timeout(), start.plus(seconds(10)), "it is down now");
        let start = machine.next_timeout();
        machine.on_probe_started(start);
        machine.on_probe_ended(true, Tick(0));
        assert_eq!(machine.next_timeout(), start.plus(seconds(2)), "it recovers, and that is proven soon");
    }

    #[test]
    fn probes_keep_their_pace_and_are_spread_from_the_first_second() {
        let (interval, second) = (Duration::from_secs(5), Duration::from_secs(1));
        let rules =
            HealthRules { interval, interval_down: interval, down_after: 3, up_after: 2, flapping: STEADY };
        let (mut firsts, mut phases) = ([0; 10], [0; 10]);
        for seed in 0..10_000 {
            let mut machine = HealthMachine::new(rules, HealthState::Unproven.into(), seed, Tick(0), second);
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
        let alone = HealthMachine::new(rules, HealthState::Unproven.into(), 7, Tick(0), Duration::ZERO);
        assert_eq!(alone.next_timeout(), Tick(0), "few servers need not wait for each other");
    }

    /// A machine that goes down and passes again at once, a second each; gives how long each stay away was, in seconds.
    fn stays_away(flapping: FlappingRule, pause: u64, times: usize) -> Vec<u64> {
        let second = Duration::from_secs(1);
        let rules =
            HealthRules { interval: second, interval_down: second, down_after: 1, up_after: 2, flapping };
        let mut machine = HealthMachine::new(rules, HealthState::Up.into(), 7, Tick(0), Duration::ZERO);
        let (mut now, mut stays) = (Tick(0), Vec::new());
        for _ in 0..times {
            now = now.plus(Duration::from_secs(pause));
            assert!(machine.on_probe_ended(false, now).is_some());
            let down = now;
            while machine.state() != HealthState::Up {
                now = now.plus(second);
                assert_eq!(machine.held_for(now).is_some(), now < machine.held_until);
                machine.on_probe_ended(true, now);
            }
            stays.push(now.since(down).as_secs());
        }
        stays
    }

    #[rstest]
    #[case::not_told_to_hold(None, 5, &[2, 2, 2, 2, 2, 2])]
    #[case::for_growing_times_and_no_longer_than_the_longest(Some((10, 60)), 5, &[2, 2, 10, 20, 40, 60, 60])]
    #[case::seldom_enough(Some((10, 60)), 400, &[2, 2, 2, 2])]
    #[case::a_hold_shorter_than_the_passes(Some((1, 1)), 5, &[2, 2, 2, 2])]
    fn a_server_that_flaps_is_held_down(
        #[case] hold: Option<(u64, u64)>,
        #[case] pause: u64,
        #[case] stays: &[u64],
    ) {
        let seconds = Duration::from_secs;
        let hold_down = hold.map(|(first, most)| HoldDown { first: seconds(first), most: seconds(most) });
        assert_eq!(stays_away(FlappingRule { hold_down, ..STEADY }, pause, stays.len()), stays);
    }

    #[test]
    fn flapping_is_said_and_forgotten_and_a_hold_outlives_a_restart() {
        let mut machine = machine(1, 1, HealthState::Up);
        let at = |seconds| Tick(0).plus(Duration::from_secs(seconds));
        for seconds in [0, 100, 200] {
            assert!(!machine.is_flapping(at(seconds)));
            machine.on_probe_ended(false, at(seconds));
            machine.on_probe_ended(true, at(seconds + 1));
        }
        assert!(machine.is_flapping(at(201)) && machine.is_flapping(at(600)));
        assert!(!machine.is_flapping(at(601)), "the first time is long ago");
        let rules = HealthRules { flapping: STEADY, ..machine.rules };
        let known = InitialHealth { state: HealthState::Recovering, held_for: Duration::from_secs(30) };
        let mut restarted = HealthMachine::new(rules, known, 7, at(0), Duration::ZERO);
        restarted.on_probe_ended(true, at(29));
        assert_eq!(
            (restarted.state(), restarted.held_for(at(29))),
            (HealthState::Recovering, Some(Duration::from_secs(1)))
        );
        restarted.on_probe_ended(true, at(30));
        assert_eq!((restarted.state(), restarted.held_for(at(30))), (HealthState::Up, None));
    }
}
