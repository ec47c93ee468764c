//! What ties a request to a server before any algorithm is asked, and the server that is selected in the end.

use std::future::Future;

use merismos_core::balance::Excluded;
use merismos_core::config::document::BalancePer;
use merismos_core::pins::PinRule;
use merismos_core::routing::Server;

use super::failure::ServerFailure;
use super::forward::RequestForwarder;
use super::head;
use crate::context::minute;
use crate::decisions::PinReason;
use crate::io::Transport;
use crate::select::{Affinity, AttemptHistory, NoServer, ServerSelection, affinity};

/// The ties of a request, which are looked at before any algorithm is asked.
#[derive(Clone, Copy, Default)]
pub(super) struct AffinityChoice {
    /// The server that its client or its connection is tied to, by the number of its pool and its place in it.
    pub(super) server: Option<(usize, usize, PinReason)>,
    /// Its pin stands although the server has no room now.
    pub(super) keeps_pin: bool,
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
        let mut ties = AffinityChoice::default();
        for (number, pool) in self.frontend.pools().enumerate() {
            let Some(rule) = &pool.pin_rule else { continue };
            if let Some(place) = self.pinned_server(rule, head) {
                match affinity(self.worker, pool, place) {
                    Affinity::At(place) => {
                        ties.server = Some((number, place, PinReason::Pin));
                        return ties;
                    }
                    Affinity::Full => ties.keeps_pin = true,
                    Affinity::Gone => {}
                }
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

    /// The server for the request: the one that it is tied to, or one that the pool decides for.
    pub(super) fn select_server(
        &self,
        deal: &ServerSelection<'_>,
        ties: &AffinityChoice,
        course: &mut AttemptHistory<ServerFailure>,
        stream: &mut impl Transport,
        tried: &Excluded,
    ) -> impl Future<Output = Result<SelectedServer, NoServer>> {
        async move {
            if let Some((_, place, tied)) = ties.server {
                return Ok(SelectedServer { place, pin: None, tied: Some(tied) });
            }
            let place = deal.select_server(tried, course, |context| stream.is_gone(context)).await?;
            if self.frontend.balance_per == BalancePer::Connection {
                self.client.dealt_to.set(Some(deal.pool.servers[place].cell.id));
            }
            let pin = deal.pool.pin_rule.as_ref().filter(|_| !ties.keeps_pin);
            let pin = pin.map(|rule| self.pin_cookie(rule, &deal.pool.servers[place]));
            Ok(SelectedServer { place, pin, tied: None })
        }
    }

    /// The place of the server that the client is tied to.
    fn pinned_server(&self, rule: &PinRule, head: &[u8]) -> Option<usize> {
        head::in_cookies(head, &rule.cookie, |value| rule.read(&self.worker.pin_key, value, minute()))
    }

    /// The field that ties the client to a server.
    fn pin_cookie(&self, rule: &PinRule, server: &Server) -> Box<[u8]> {
        rule.field(&self.worker.pin_key, &server.name.server, minute()).into()
    }
}
