//! Request, response, event and problem types of `/api/v1`. The OpenAPI document is made from them.
//!
//! Times are RFC 3339 texts in UTC, shares are numbers from 0 to 1, and names are as in the document.
#![forbid(unsafe_code)]

mod address;
mod announcement;
mod certificate;
mod change;
mod decision;
mod draft;
mod duty;
mod event;
mod limits;
mod machine;
mod nodes;
mod notification;
mod object;
mod pin;
mod probe;
mod problem;
mod refusals;
mod roll;
mod rules;
mod status;
mod token;
mod trial;
mod window;

pub use address::{
    AddressCounts, AddressDetail, AddressNode, AddressOrderRequest, AddressOrderView, AddressStatus,
    AddressVerb, Addresses, AdvertisementView, NodeOrderRequest, NodeVerb,
};
pub use announcement::{
    AnnouncedRoute, AnnouncementDetail, AnnouncementNode, AnnouncementStatus, Announcements, RouterSession,
    RouterSessionDetail,
};
pub use certificate::{
    CertificateOrder, CertificateView, Certificates, ChainLink, HandshakeQuery, HandshakeView, Handshakes,
};
pub use change::{
    AcceptedWarning, ApplyOptions, ApplyRequest, Between, ChangeRequest, FailbackResponse, NamedChange,
    RevertRequest, Review, Session, Timings, TotalsReset, TouchedDocument,
};
pub use decision::{Decision, NotChosen};
pub use draft::{
    Draft, DraftEdits, DraftReview, Drafts, NewDraft, RevisionHead, RevisionResponse, Revisions,
};
pub use duty::{
    DrainProgress, DrainingStatus, Drains, DutiesRequest, DutiesResponse, DutyRequest, DutyResponse,
};
pub use event::{Event, EventFilter, EventKind, Events, StreamMessage};
pub use limits::{HeldOffNetwork, LimitTrace, LimitView, Limits};
pub use machine::MachineReport;
pub use nodes::{NodeRemoved, NodeView, Nodes};
pub use notification::{SentMessage, SentMessages};
pub use object::{HostView, Hosts, ObjectView, Objects};
pub use pin::{PinClient, PinKeyTimes, PinQuery, Pins, PinsRemoved};
pub use probe::{
    Diagnosis, DiagnosisStep, Finding, FrontendDiagnosis, ProbeRecord, Probes, TryRequest, TryResponse,
    TryResult,
};
pub use problem::ProblemDocument;
pub use refusals::{Refusals, RefusalsForReason};
pub use roll::{RollOrderRequest, RollRequest, RollVerb, RollView, Rolls, WorkReport};
pub use rules::{RuleCount, RuleCounts, RuleTestView, RuleTrace, RuledPool, RulesView};
pub use status::{
    AtStake, CheckStatus, ExplainResponse, FrontendStatus, HealthStatus, Latency, LookupStatus, Node,
    Observed, PassedNames, PassedOverServer, PinView, PoolShare, PoolStatus, RevisionStatus, ServerStatus,
    ServerTrust, Status, StoreStatus, Totals, TrafficPeriod,
};
pub use token::{MadeToken, NewToken, TokenResponse, TokenView, Tokens};
pub use trial::{Trial, TrialHappening, TrialRequest, TrialState, Trials};
pub use window::{WindowQuery, WindowResponse, WindowState, WindowView, Windows};
