//! The pure core of Merismos.
//!
//! Everything here is a value or a state machine that is handed its time ([`time::Tick`], [`time::Wall`]).
//! There is no I/O, no clock, no thread and no randomness of the operating system, so the same code
//! runs in the live service, in tests and in a simulation, and gives the same answers.
//!
//! In reading order:
//! [`name`], [`units`], [`time`], [`draw`] — the small values;
//! [`config`] — what the engineer wrote, checked whole, compared and weighed;
//! [`duty`] and [`health`] — the two other truths;
//! [`eligibility`] — the one pure function that joins the three, and [`tiers`] of which one works;
//! [`balance`] — how a pool distributes work;
//! [`runtime`] — the state that outlives a snapshot, with [`wait_queue`], the line before a full pool;
//! [`pins`] — what ties a client to its server, and [`cookie`], how `Cookie` fields are read;
//! [`nodes`] — what nodes that share a database say of themselves, and where they see servers differently;
//! [`vrrp`] — which of them holds an address that moves; [`machine`] — whether a node's machine is enough for it;
//! [`notifications`] — which changes are reported to people;
//! [`rules`] — conditions on requests, and the first of a frontend's rules that one meets;
//! [`routing`] — the immutable snapshot that traffic reads, and the decision;
//! [`proof`] — expected against observed.
#![forbid(unsafe_code)]

pub mod announcement;
pub mod balance;
pub mod certificate_choice;
pub mod config;
pub mod cookie;
pub mod describe;
pub mod draw;
pub mod duty;
pub mod eligibility;
pub mod health;
pub mod limits;
pub mod machine;
pub mod name;
pub mod nodes;
pub mod notifications;
pub mod pins;
pub mod proof;
pub mod roll;
pub mod routing;
pub mod rules;
pub mod runtime;
pub mod text;
pub mod tiers;
pub mod time;
pub mod units;
pub mod vrrp;
pub mod wait_queue;
pub mod websocket;
pub mod window;
