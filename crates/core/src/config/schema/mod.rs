//! What a document is made of: its types, whose fields are the declarations of its keys, and what is made from those.

pub(crate) mod announcement;
pub(crate) mod authority;
pub(crate) mod balancing;
pub(crate) mod certificate;
pub(crate) mod check_spec;
pub(crate) mod checks;
pub mod document;
pub(crate) mod error_pages;
pub(crate) mod expectation;
pub mod failure_handling;
pub(crate) mod frontend;
pub mod json_schema;
pub mod key;
pub mod key_help;
pub mod keys;
pub(crate) mod limit;
pub mod listen_address;
pub(crate) mod maintenance;
pub(crate) mod notification;
pub(crate) mod persistence;
pub(crate) mod pool;
pub(crate) mod rule;
mod server;
pub(crate) mod service_address;
pub(crate) mod upstream;
