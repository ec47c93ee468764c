//! The health machine against a model that only counts: whatever comes, both are in the same state.

use std::cell::Cell;
use std::time::Duration;

use proptest::prelude::*;
use proptest::test_runner::{RngSeed, TestRunner};

use super::machine::{FlappingRule, HealthMachine, HealthRules, HoldDown};
use super::{HealthState, InitialHealth};
use crate::config::document::PassiveAction;
use crate::time::Tick;

/// The same cases in each run, so that a failure can be seen again.
fn config() -> ProptestConfig {
    ProptestConfig {
        cases: 512,
        rng_seed: RngSeed::Fixed(16),
        failure_persistence: None,
        ..ProptestConfig::default()
    }
}

#[derive(Clone, Copy, Debug)]
enum Input {
    Pass,
    Failure,
    Traffic(PassiveAction),
}

/// A server, by what was last settled of it and what came in a row since.
#[derive(Debug)]
struct Model {
    /// Whether it works; `None` before the first probe.
    works: Option<bool>,
    /// Failures in a row of one that works; passes in a row of one that does not.
    against: u32,
    /// Traffic made it suspect.
    is_suspected: bool,
    down_after: u32,
    up_after: u32,
}

impl Model {
    fn settle(&mut self, works: bool) {
        (self.works, self.against, self.is_suspected) = (Some(works), 0, false);
    }

    fn take(&mut self, input: Input) {
        match (input, self.works) {
            (Input::Pass, None | Some(true)) => self.settle(true),
            (Input::Failure, None | Some(false)) => self.settle(false),
            (Input::Failure, Some(true)) => {
                self.against += 1;
                if self.against >= self.down_after {
                    self.settle(false);
                }
            }
            (Input::Pass, Some(false)) => {
                self.against += 1;
                if self.against >= self.up_after {
                    self.settle(true);
                }
            }
            (Input::Traffic(PassiveAction::Suspect), Some(true)) => self.is_suspected = true,
            (Input::Traffic(PassiveAction::Down), Some(true)) => self.settle(false),
            (Input::Traffic(_), None | Some(false)) => {}
        }
    }

    fn state(&self) -> HealthState {
        match self.works {
            None => HealthState::Unproven,
            Some(true) if self.against > 0 || self.is_suspected => HealthState::Suspect,
            Some(true) => HealthState::Up,
            Some(false) if self.against > 0 => HealthState::Recovering,
            Some(false) => HealthState::Down,
        }
    }
}

fn inputs() -> impl Strategy<Value = Vec<Input>> {
    let input = prop_oneof![
        8 => Just(Input::Pass),
        8 => Just(Input::Failure),
        1 => Just(Input::Traffic(PassiveAction::Suspect)),
        1 => Just(Input::Traffic(PassiveAction::Down)),
    ];
    proptest::collection::vec(input, 0..60)
}

fn rules(down_after: u32, up_after: u32, hold_down: Option<HoldDown>) -> HealthRules {
    let flapping = FlappingRule { after: 3, within: Duration::from_secs(600), hold_down };
    let (interval, interval_down) = (Duration::from_secs(2), Duration::from_secs(5));
    HealthRules { interval, interval_down, down_after, up_after, flapping }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: 512, rng_seed: RngSeed::Fixed(16), failure_persistence: None, ..ProptestConfig::default()
    })]

    #[test]
    fn the_machine_is_where_the_model_is(down_after in 1..6_u32, up_after in 1..6_u32, inputs in inputs()) {
        let mut machine = HealthMachine::new(rules(down_after, up_after, None), InitialHealth::default(), 7, Tick(0), Duration::ZERO);
        let mut model = Model { works: None, against: 0, is_suspected: false, down_after, up_after };
        for input in inputs {
            let before = machine.state();
            let transition = match input {
                Input::Pass => machine.on_probe_ended(true, Tick(0)),
                Input::Failure => machine.on_probe_ended(false, Tick(0)),
                Input::Traffic(verdict) => machine.on_traffic(verdict, Tick(0)),
            };
            model.take(input);
            prop_assert_eq!(machine.state(), model.state(), "{:?}", model);
            // A transition is what changed, and nothing when nothing did.
            let expected = (before != machine.state()).then_some((before, machine.state()));
            prop_assert_eq!(transition.map(|change| (change.from, change.to)), expected);
            // What it says is missing is what the model counts.
            let missing = model.works.map(|works| if works { down_after } else { up_after } - model.against);
            let distance = if model.works == Some(false) { machine.passes_to_up() } else { machine.failures_to_down() };
            prop_assert_eq!(distance, missing.or(Some(1)));
        }
    }
}

/// A server that is held down is not up before its time, whatever its probes say, and probes go on meanwhile.
#[test]
fn a_server_that_is_held_down_is_not_up_and_is_probed() {
    let hold_down = HoldDown { first: Duration::from_secs(30), most: Duration::from_secs(120) };
    let held_down = Cell::new(0);
    let test = |inputs: Vec<Input>| {
        let mut machine = HealthMachine::new(
            rules(1, 1, Some(hold_down)),
            InitialHealth::default(),
            7,
            Tick(0),
            Duration::ZERO,
        );
        for input in inputs {
            let now = machine.next_timeout();
            machine.on_probe_started(now);
            prop_assert!(machine.next_timeout() > now, "the next probe is later than this one");
            prop_assert!(machine.next_timeout() <= now.plus(Duration::from_secs(5)), "and comes");
            let held = machine.held_for(now);
            held_down.set(held_down.get() + u32::from(held.is_some()));
            match input {
                Input::Pass => machine.on_probe_ended(true, now),
                Input::Failure => machine.on_probe_ended(false, now),
                Input::Traffic(verdict) => machine.on_traffic(verdict, now),
            };
            prop_assert!(
                held.is_none() || !matches!(machine.state(), HealthState::Up | HealthState::Suspect)
            );
            prop_assert!(machine.held_for(now).is_none_or(|held| held <= Duration::from_secs(120)));
        }
        Ok(())
    };
    TestRunner::new(config()).run(&inputs(), test).unwrap();
    assert!(held_down.get() > 1_000, "{} probes met a server that was held down", held_down.get());
}
