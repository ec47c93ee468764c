//! The machine that a node runs on: what the node needs of it, and what runs short before clients notice.
//!
//! [`facts`] is what can be read of a machine; [`examine`] says of each part whether it is enough, why that matters, and what helps.

mod examine;
mod facts;

pub use examine::{MachineFinding, MachineState, MachineSubject, examine};
pub use facts::{
    InterfaceFacts, MachineFacts, MachineNeeds, MemoryFacts, PortFacts, QueueFacts, ServerPorts, Stolen,
    Usage,
};
