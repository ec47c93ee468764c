//! Limits of clients: how much each may ask for, and what becomes of the rest.
//!
//! Clients are counted by themselves as far as the memory of a limit goes, and further ones share counts, so that any number of them
//! costs the same. All workers count in the same places without a lock: a place is one or two words that are changed in one step.

mod body_pace;
mod client_limit;
mod in_flight_table;
mod offenders;
mod rate_table;
mod refusals;
mod turns;

pub use self::body_pace::BodyPace;
pub use self::client_limit::{
    ClientLimit, ExcessReason, LimitCounts, LimitPeek, LimitTables, LimitTotals, LimitVerdict, LimitedWork,
};
pub use self::in_flight_table::{InFlightPlace, InFlightTable};
pub use self::offenders::{Offender, Offenders};
pub use self::rate_table::{PacedRate, RateAnswer, RateTable};
pub(crate) use self::refusals::refusals;
pub use self::refusals::{RefusalLane, RefusalReason};
