//! Request, response, event and problem types of `/api/v1`. The OpenAPI document is made from them.
//!
//! Times are RFC 3339 texts in UTC, shares are numbers from 0 to 1, and names are as in the document.
#![forbid(unsafe_code)]

mod change;
mod event;
mod problem;
mod status;
mod trial;

pub use change::{ApplyAnswer, ApplyRequest, DutyAnswer, DutyRequest, NamedChange, Session};
pub use event::{Event, EventKind, Events, StreamMessage};
pub use problem::ProblemDocument;
pub use status::{
    CheckStatus, ExplainAnswer, FrontendStatus, HealthStatus, Node, Observed, PassedServer, PoolStatus,
    Records, RevisionStatus, ServerStatus, Status, Window,
};
pub use trial::{Happening, Trial, TrialRequest, TrialState, Trials};
