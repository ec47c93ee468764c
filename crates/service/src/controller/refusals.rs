//! Whom frontends refused, and why.

use merismos_api::{Refusals, RefusalsForReason};
use merismos_core::name::Name;

use super::UnknownFrontend;
use super::limits::networks;
use super::state::ControllerState;
use crate::clock::wall;

impl ControllerState {
    /// Whom a frontend refused.
    pub(super) fn refusals(&self, name: &Name) -> Result<Refusals, UnknownFrontend> {
        let snapshot = self.publisher.plane.snapshot();
        let frontend = snapshot.frontend_named(name).ok_or_else(|| UnknownFrontend(name.clone()))?;
        let (now, wall) = (self.publisher.plane.now(), wall());
        let refused = frontend.cell.refusals().into_iter();
        let mut reasons: Vec<RefusalsForReason> = refused
            .map(|(reason, count, most)| RefusalsForReason {
                reason: reason.to_string(),
                says: reason.words().to_owned(),
                count,
                networks: networks(&most, now, wall),
            })
            .collect();
        reasons.sort_by_key(|reason| std::cmp::Reverse(reason.count));
        Ok(Refusals { frontend: name.to_string(), reasons })
    }
}
