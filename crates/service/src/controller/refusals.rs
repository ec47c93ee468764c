//! Whom frontends refused, and why.

use merismos_api::{Refusals, RefusalsForReason, RefusedNetwork};
use merismos_core::limits::Offender;
use merismos_core::name::Name;
use merismos_core::time::{Tick, Wall};

use super::UnknownFrontend;
use super::state::ControllerState;
use crate::clock::wall;

/// How many networks are shown for a reason.
const NETWORKS_SHOWN: usize = 10;

impl ControllerState {
    /// Whom a frontend refused.
    pub(super) fn refusals(&self, name: &Name) -> Result<Refusals, UnknownFrontend> {
        let snapshot = self.publisher.plane.snapshot();
        let frontend = snapshot.frontend_named(name).ok_or_else(|| UnknownFrontend(name.clone()))?;
        let (now, wall) = (self.publisher.plane.now(), wall());
        let network = |one: &Offender| RefusedNetwork {
            network: one.network.to_string(),
            count: one.count,
            over: one.over,
            last: Wall(wall.0 - i64::try_from(now.since(Tick(one.last)).as_millis()).unwrap_or(i64::MAX)),
        };
        let refused = frontend.cell.refusals().into_iter();
        let mut reasons: Vec<RefusalsForReason> = refused
            .map(|(reason, count, most)| RefusalsForReason {
                reason: reason.to_string(),
                says: reason.words().to_owned(),
                count,
                networks: most.iter().take(NETWORKS_SHOWN).map(network).collect(),
            })
            .collect();
        reasons.sort_by_key(|reason| std::cmp::Reverse(reason.count));
        Ok(Refusals { frontend: name.to_string(), reasons })
    }
}
