//! Request, response, event and problem types of `/api/v1`. The OpenAPI document is made from them.
//!
//! Times are RFC 3339 texts in UTC, shares are numbers from 0 to 1, and names are as in the document.
#![forbid(unsafe_code)]

mod change;
mod decision;
mod draft;
mod event;
mod message;
mod probe;
mod problem;
mod status;
mod thing;
mod token;
mod trial;

pub use change::{
    ApplyRequest, Between, ChangeRequest, DutyAnswer, DutyRequest, FailbackAnswer, Going, NamedChange,
    RevertRequest, Review, Session, Took, TotalsReset, Touched, Warned,
};
pub use decision::{Decision, NotChosen};
pub use draft::{Draft, DraftEdits, DraftReview, Drafts, NewDraft, RevisionAnswer, RevisionHead, Revisions};
pub use event::{Event, EventFilter, EventKind, Events, StreamMessage};
pub use message::{SentMessage, SentMessages};
pub use probe::{Diagnosis, Mark, Probes, Rung, Tried, TryAnswer, TryRequest};
pub use problem::ProblemDocument;
pub use status::{
    AtStake, CheckStatus, DrainingStatus, ExplainAnswer, FrontendStatus, HealthStatus, Latency, LookupStatus,
    Node, Observed, PassedServer, PoolShare, PoolStatus, Records, RevisionStatus, ServerStatus, Status,
    Totals, Window,
};
pub use thing::{HostView, Hosts, ThingView, Things};
pub use token::{MadeToken, NewToken, TokenAnswer, TokenView, Tokens};
pub use trial::{Happening, Trial, TrialRequest, TrialState, Trials};
