//! Duties: orders for servers, and how far drains are.

use merismos_core::duty::{CutWork, DrainPins, Duty, DutyOrder, OpenWork};
use merismos_core::time::Wall;
use merismos_core::units::Span;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A duty for a server, with its terms.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DutyRequest {
    /// The duty that the servers shall have.
    pub duty: Duty,
    /// Why; at least one character, shown wherever the server is shown.
    #[schema(min_length = 1, max_length = 500)]
    pub reason: String,
    /// How long a drain waits; then what is still open is closed. Without it and without `deadline`, the pool's `drain_timeout`. Other
    /// duties have no deadline.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = String, nullable = false, example = "10m")]
    pub within: Option<Span>,
    /// When a drain stops waiting, in place of `within`; of both the earlier one counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = String, format = DateTime, nullable = false)]
    pub deadline: Option<Wall>,
    /// What becomes of pinned clients while the servers drain.
    #[serde(default)]
    pub pins: DrainPins,
    /// When the servers are expected back. Nothing happens then by itself; servers that are still out are reported as overdue.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = String, format = DateTime, nullable = false)]
    pub until: Option<Wall>,
    /// A return at once: without waiting for a check to pass, and without slow start.
    #[serde(default)]
    pub at_once: bool,
    /// Do it although the guard speaks against it. What it says is kept with the event.
    #[serde(default)]
    pub anyway: bool,
}

impl DutyRequest {
    /// A duty for a reason, and all else as usual.
    #[must_use]
    pub fn new(duty: Duty, reason: impl Into<String>) -> Self {
        Self {
            duty,
            reason: reason.into(),
            within: None,
            deadline: None,
            pins: DrainPins::default(),
            until: None,
            at_once: false,
            anyway: false,
        }
    }
}

/// One order for several servers: it is followed for all of them or for none. Name them in one of three ways.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DutiesRequest {
    /// Servers, each as `pool/server`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub servers: Vec<String>,
    /// Name or address of a host: every server on it, in all pools.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub host: Option<String>,
    /// A label, such as `rack=r7`: every server that has it, or whose host has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub label: Option<String>,
    /// The duty, with its terms.
    #[serde(flatten)]
    pub order: DutyRequest,
}

/// What became of an order.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DutiesResponse {
    /// Every server of the order, in the order of their names.
    pub servers: Vec<DutyResponse>,
    /// What the guard said against it, where it was overridden.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub overridden: Vec<String>,
}

/// A server's duty after the call.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DutyResponse {
    /// The server, as `pool/server`.
    pub server: String,
    /// The order that holds from now on: duty, author, reason, time and terms.
    pub order: DutyOrder,
    /// Whether the call changed anything: the same order given again does not.
    pub changed: bool,
    /// Requests, connections and flows at the server when the order was followed.
    pub in_flight: u64,
    /// Whether what the order is for is reached: a server that drains or is withdrawn can be worked on, and one that returns is
    /// eligible or stands by.
    pub reached: bool,
    /// How far it is drained; absent when it does not drain.
    pub draining: Option<DrainingStatus>,
    /// Whether the node's state file has the order.
    pub saved: bool,
    /// Whether the database has it already; if not, it follows when the database is back.
    pub recorded: bool,
}

/// Every server that is out of service or on its way out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Drains {
    /// Servers that drain or are withdrawn, in the order of their names.
    pub servers: Vec<DrainProgress>,
}

/// How far a server is on its way out of service.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DrainProgress {
    /// The server, as `pool/server`.
    pub server: String,
    /// The order that holds.
    pub order: DutyOrder,
    /// How far it is.
    pub draining: DrainingStatus,
}

/// How far a server is drained.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct DrainingStatus {
    /// What is open at it now.
    pub open: OpenWork,
    /// Requests, connections and flows that are open at it from other nodes, as far as they have said.
    #[serde(default)]
    pub open_elsewhere: u64,
    /// How many other nodes are not done with it: work is open there, clients may still come from there, or they have not said that they follow
    /// the order.
    #[serde(default)]
    pub nodes_not_done: u64,
    /// Since when it was given nothing, as far as that was watched: clients that are tied to it may still come.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub quiet_since: Option<Wall>,
    /// Whether clients are tied to servers of its pool, by pins or by connections.
    pub clients_tied: bool,
    /// How many pins of the server are kept here; absent where the pool keeps none.
    pub pins_left: Option<u64>,
    /// When no tied client can come any more: at the deadline, or when the last pin ends. Absent: never by itself.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ties_end: Option<Wall>,
    /// Whether work on the server can begin: nothing is open and no client can come, on this node and on all others.
    pub safe: bool,
    /// Whether its deadline has passed.
    pub over: bool,
    /// How many of those that are open end in a second, over the last half minute; absent while none does.
    pub ends_per_second: Option<f64>,
    /// When nothing will be open any more if it goes on like this.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub estimated_end: Option<Wall>,
    /// What had to be cut when the deadline passed.
    pub cut: CutWork,
}
