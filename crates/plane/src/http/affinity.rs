//! What ties a request to a server before any algorithm is asked, and the server that is selected in the end.

use std::future::Future;

use merismos_core::balance::Excluded;
use merismos_core::config::document::{BalancePer, PinWhenGone};
use merismos_core::pins::CookiePin;
use merismos_core::routing::{Pool, Server};

use super::error_response::GatewayError;
use super::failure::ServerFailure;
use super::forward::RequestForwarder;
use super::head;
use crate::context::minute;
use crate::decisions::PinReason;
use crate::io::Transport;
use crate::pinning::ClientPin;
use crate::select::{Affinity, AttemptHistory, NoServer, ServerSelection, affinity, take_room};

/// The ties of a request, which are looked at before any algorithm is asked.
#[derive(Clone, Copy, Default)]
pub(super) struct AffinityChoice {
    /// The server that its client or its connection is tied to, by the number of its pool and its place in it.
    pub(super) server: Option<(usize, usize, PinReason)>,
    /// Its pin stands although the server has no room now.
    pub(super) keeps_pin: bool,
    /// It has no cookie of the key of now that ties it to its server: as of which minute it is to get one.
    wants_cookie: Option<u32>,
    /// No other server may have it.
    pub(super) sticks: bool,
    /// Its server can't have it, and no other may.
    pub(super) refused: Option<GatewayError>,
}

/// A server for the request.
pub(super) struct SelectedServer {
    pub(super) place: usize,
    /// A field that ties the client to it.
    pub(super) pin: Option<Box<[u8]>>,
    /// Why no algorithm was asked.
    pub(super) tied: Option<PinReason>,
}

impl RequestForwarder<'_> {
    /// What ties the request to a server, in whichever of the frontend's pools that is: the pin of its client, or its
    /// connection where connections are distributed.
    pub(super) fn affinity_choice(&self, head: &[u8]) -> AffinityChoice {
        if let Some(ties) = self.trial_choice() {
            return ties;
        }
        let mut ties = AffinityChoice::default();
        for (number, pool) in self.frontend.pools().enumerate() {
            let Some(rule) = pool.pin_rule.as_ref().filter(|_| !self.is_without_pins()) else { continue };
            let refuses = rule.when_gone == PinWhenGone::Refuse;
            let client = self.client_address();
            match head::with_facts(head, client, |facts| self.worker.client_pin(pool, facts)) {
                ClientPin::None => {}
                ClientPin::At { place, wants_cookie } => {
                    ties.server = Some((number, place, PinReason::Pin));
                    ties.wants_cookie = wants_cookie;
                    ties.sticks = refuses;
                    return ties;
                }
                ClientPin::Full if refuses => ties.refused = Some(GatewayError::Full),
                ClientPin::Gone if refuses => ties.refused = Some(GatewayError::PinnedAway),
                ClientPin::Full => ties.keeps_pin = true,
                ClientPin::Gone => {}
            }
        }
        if self.frontend.balance_per == BalancePer::Connection
            && let Some(server) = self.client.dealt_to.get()
        {
            for (number, pool) in self.frontend.pools().enumerate() {
                let place = pool.servers.iter().position(|candidate| candidate.cell.id == server);
                if let Some(Affinity::At(place)) = place.map(|place| affinity(self.worker, pool, place)) {
                    ties.server = Some((number, place, PinReason::Connection));
                    return ties;
                }
            }
        }
        ties
    }

    /// Whether a rule says that pins do not count for the request.
    fn is_without_pins(&self) -> bool {
        self.request.rule_effects.get().is_some_and(|effects| effects.without_pins)
    }

    /// The server that a trial wants the request to go to, whatever its duty and its health.
    fn trial_choice(&self) -> Option<AffinityChoice> {
        let mark = self.request.mark.as_ref()?;
        let (watch, _) = self.worker.watches.find(mark)?;
        let target = watch.target()?;
        let mut ties = AffinityChoice { sticks: true, ..AffinityChoice::default() };
        for (number, pool) in self.frontend.pools().enumerate() {
            let Some(place) = pool.servers.iter().position(|server| server.name == *target) else { continue };
            match take_room(self.worker, pool, place) {
                true => ties.server = Some((number, place, PinReason::Trial)),
                false => ties.refused = Some(GatewayError::Full),
            }
        }
        if ties.server.is_none() && ties.refused.is_none() {
            // A revision took it out meanwhile.
            ties.refused = Some(GatewayError::PinnedAway);
        }
        Some(ties)
    }

    /// The server for the request: the one that it is tied to, or one that the pool decides for.
    pub(super) fn select_server(
        &self,
        deal: &ServerSelection<'_>,
        ties: &AffinityChoice,
        course: &mut AttemptHistory<ServerFailure>,
        stream: &mut impl Transport,
        tried: &Excluded,
        head: &[u8],
    ) -> impl Future<Output = Result<SelectedServer, NoServer>> {
        async move {
            if let Some((_, place, tied)) = ties.server {
                let cookie = ties
                    .wants_cookie
                    .and_then(|minute| pin_cookie(deal.pool, place, minute, self.who.is_secure));
                return Ok(SelectedServer { place, pin: cookie, tied: Some(tied) });
            }
            let place = deal.select_server(tried, course, |context| stream.is_gone(context)).await?;
            if self.frontend.balance_per == BalancePer::Connection {
                self.client.dealt_to.set(Some(deal.pool.servers[place].cell.id));
            }
            let mut pin = None;
            if deal.pool.pin_rule.is_some() && !ties.keeps_pin && !self.is_without_pins() {
                let client = self.client_address();
                head::with_facts(head, client, |facts| self.worker.learn_pin(deal.pool, place, facts));
                pin = pin_cookie(deal.pool, place, minute(), self.who.is_secure);
            }
            Ok(SelectedServer { place, pin, tied: None })
        }
    }
}

/// The field that ties a client to a server as of a minute since 1970, where the pool has a cookie for that.
fn pin_cookie(pool: &Pool, place: usize, minute: u32, is_secure: bool) -> Option<Box<[u8]>> {
    let cookie: &CookiePin = pool.pin_rule.as_ref()?.cookie.as_ref()?;
    let server: &Server = &pool.servers[place];
    Some(cookie.field(&server.name.server, minute, is_secure).into())
}
