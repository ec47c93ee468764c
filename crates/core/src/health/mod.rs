//! Health: what probes say of a server. One [`Machine`] a server, driven by a shell that only waits and probes.

mod evidence;
mod machine;
#[cfg(test)]
mod model_tests;
pub mod timing;
pub mod wish;

pub use evidence::{CompletedStep, Evidence, FailureCause, ProbeStep};
pub use machine::{
    FlappingRule, HealthMachine, HealthRules, HealthState, HealthTransition, HoldDown, InitialHealth,
};
pub use wish::ServerFeedback;
