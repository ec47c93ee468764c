//! What a document means beside what it says: whether its objects fit together, what another one changes, and what that does to clients.

mod announcements;
pub mod check;
pub(super) mod defaults;
pub mod diff;
pub mod discovery;
pub mod impact;
pub(super) mod limits;
pub mod lost_capacity;
pub mod pool_shares;
mod redirect_circles;
pub mod renames;
pub mod replay;
pub(super) mod rules;
mod service_addresses;
pub mod warnings;
