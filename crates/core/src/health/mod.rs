//! Health: what probes say of a server. One [`HealthMachine`] a server, driven by a shell that only waits and probes.

mod evidence;
pub mod feedback;
mod machine;
#[cfg(test)]
mod model_tests;
pub mod timing;

pub use evidence::{CompletedStep, Evidence, FailureCause, ProbeStep};
pub use feedback::ServerFeedback;
pub use machine::{
    FlappingRule, HealthMachine, HealthRules, HealthState, HealthTransition, HoldDown, InitialHealth,
};
