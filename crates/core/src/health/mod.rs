//! Health: what probes say of a server. One [`Machine`] a server, driven by a shell that only waits and probes.

mod evidence;
mod machine;
#[cfg(test)]
mod model_tests;
pub mod timing;
pub mod wish;

pub use evidence::{Cause, Evidence, Step, StepTaken};
pub use machine::{Flapping, HoldDown, Known, Machine, Rules, State, Transition};
pub use wish::Wish;
