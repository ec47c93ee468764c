//! One request and its answer: offered to one server after the other until one takes it.

use std::hint::cold_path;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use merismos_core::balance::Excluded;
use merismos_core::name::Name;
use merismos_core::routing::{AskedPools, ChosenPool, Frontend, HttpsRedirect, Pool, RequestKey, Server};

use super::affinity::{AffinityChoice, SelectedServer};
use super::attempt::{AttemptTarget, host_of};
use super::error_response::{self, GatewayError, RequestError};
use super::failure::{ForwardError, ServerFailure};
use super::forwarded::ClientFields;
use super::head::{self, Request};
use super::request_body::RequestBody;
use super::response::ResponseDone;
use crate::accept::ConnectionAddrs;
use crate::context::{ConnectionState, WorkerContext};
use crate::deadline::WakeReason;
use crate::decisions::DecisionContext;
use crate::io::{ConnectionTimer, Transport, write_all};
use crate::observer::{Observation, ObservedWork};
use crate::pinning::SessionLearner;
use crate::select::{AttemptHistory, InFlight, NoServer, ServerSelection};
use merismos_connector::connect::ConnectError;

/// How a request ended for its client.
pub(super) enum RequestOutcome {
    /// It got a whole answer; what came after the request is still with it.
    Answered { keep: bool },
    /// It got a whole answer while its body was still on the way.
    AnsweredEarly,
    /// Its body breaks the rules or did not come in time, and no answer has begun.
    Refused(RequestError),
    /// Its answer broke off; `open_ended` when only the end of the connection would tell that it is whole.
    BrokenOff { open_ended: bool },
    /// The client closed or reset its connection.
    ClientGone,
}

/// What became of a request by one step: at most one attempt at a server.
enum ForwardStep {
    Ended(RequestOutcome),
    /// It may go to another server, as the newest snapshot says.
    Again,
    /// No server could answer it.
    Error(GatewayError),
}

/// What one pool did for a request.
enum PoolResult {
    Step(ForwardStep),
    /// It has no server for it, so another pool is asked.
    NoneEligible(GatewayError),
}

/// Everything that an exchange needs to know.
#[derive(Clone, Copy)]
pub(super) struct RequestForwarder<'a> {
    pub(super) worker: &'a WorkerContext,
    pub(super) client: &'a ConnectionState,
    pub(super) frontend: &'a Frontend,
    pub(super) version: u64,
    pub(super) request: &'a Request,
    pub(super) who: &'a ConnectionAddrs,
    pub(super) fields: &'a ClientFields,
    /// The rule that the request met, if it met one.
    pub(super) rule: Option<&'a Name>,
    pub(super) watch: ConnectionTimer<'a>,
}

impl RequestForwarder<'_> {
    /// Sees the request through.
    pub(super) fn forward(
        &self,
        stream: &mut impl Transport,
        sending: &mut RequestBody<'_>,
    ) -> impl Future<Output = RequestOutcome> {
        async move {
            if self.worker.challenges.has_any()
                && let Some(answer) = self.worker.challenges.of_request(sending.start)
            {
                cold_path();
                return Box::pin(self.challenge(stream, &answer, sending)).await;
            }
            if let Some(to) = self.frontend.redirect {
                cold_path();
                return Box::pin(self.redirect(stream, to, sending)).await;
            }
            if !sending.follow.is_done() {
                cold_path();
                if let Err(outcome) = Box::pin(self.await_body_start(stream, sending)).await {
                    return outcome;
                }
            }
            let mut course = AttemptHistory::default();
            if let Some(effects) = self.request.rule_effects.get() {
                cold_path();
                course.draw = effects.draw;
            }
            match self.try_next_pool(&mut course, stream, sending).await {
                ForwardStep::Ended(outcome) => outcome,
                ForwardStep::Again => {
                    cold_path();
                    Box::pin(self.forward_again(&mut course, stream, sending)).await
                }
                ForwardStep::Error(shortage) => {
                    cold_path();
                    Box::pin(self.gateway_error(stream, shortage, sending)).await
                }
            }
        }
    }

    /// Goes on after a first step, each further one by the snapshot of its moment.
    async fn forward_again(
        &self,
        course: &mut AttemptHistory<ServerFailure>,
        stream: &mut impl Transport,
        sending: &mut RequestBody<'_>,
    ) -> RequestOutcome {
        loop {
            let snapshot = self.worker.snapshot();
            // A frontend that is gone by now still sees through what it took.
            let frontend =
                snapshot.frontend(self.client.frontend.get()).map_or(self.frontend, |current| &**current);
            let frontend = self.still_by_rule(frontend);
            let exchange = RequestForwarder { frontend, version: snapshot.version, ..*self };
            match exchange.try_next_pool(course, stream, sending).await {
                ForwardStep::Ended(outcome) => return outcome,
                ForwardStep::Again => {}
                ForwardStep::Error(shortage) => {
                    return exchange.gateway_error(stream, shortage, sending).await;
                }
            }
        }
    }

    /// Offers the request to one server, of the first pool that has one for it.
    fn try_next_pool(
        &self,
        course: &mut AttemptHistory<ServerFailure>,
        stream: &mut impl Transport,
        sending: &mut RequestBody<'_>,
    ) -> impl Future<Output = ForwardStep> {
        async move {
            let mut ties = AffinityChoice::default();
            let may_be_tied = self.frontend.ties_clients || self.request.mark.is_some();
            if may_be_tied && course.is_new() {
                cold_path();
                ties = self.affinity_choice(sending.start);
                if let Some(refused) = ties.refused {
                    return ForwardStep::Error(refused);
                }
            }
            let mut asked = AskedPools::default();
            let mut why = None;
            while let Some(chosen) = self.choose_pool(course, asked, &ties) {
                match self.try_servers(&chosen, &ties, course, stream, sending).await {
                    PoolResult::Step(step) => return step,
                    PoolResult::NoneEligible(shortage) => {
                        cold_path();
                        // That servers failed it says more than that others are full or none is there.
                        why = Some(
                            why.filter(|earlier| *earlier != GatewayError::NoServer).unwrap_or(shortage),
                        );
                    }
                }
                asked.note(chosen.number);
                ties.server = None;
            }
            ForwardStep::Error(why.unwrap_or(GatewayError::NoServer))
        }
    }

    /// The pool for the next attempt: that of the server that the client is tied to, or one that the frontend chooses.
    #[inline]
    fn choose_pool(
        &self,
        course: &AttemptHistory<ServerFailure>,
        asked: AskedPools,
        ties: &AffinityChoice,
    ) -> Option<ChosenPool<'_>> {
        if let Some((number, ..)) = ties.server {
            cold_path();
            return self.frontend.pools().nth(number).map(|pool| ChosenPool { number, pool });
        }
        course.choose(self.worker, self.frontend, self.client_address(), asked)
    }

    /// Where the request comes from, as far as it is believed.
    pub(super) fn client_address(&self) -> IpAddr {
        self.request.client.unwrap_or(self.who.client.ip())
    }

    /// Offers the request to a server of one pool.
    fn try_servers(
        &self,
        chosen: &ChosenPool<'_>,
        ties: &AffinityChoice,
        course: &mut AttemptHistory<ServerFailure>,
        stream: &mut impl Transport,
        sending: &mut RequestBody<'_>,
    ) -> impl Future<Output = PoolResult> {
        async move {
            let pool = chosen.pool.as_ref();
            let key = match &pool.key_rule {
                None => RequestKey::Unneeded,
                Some(_) => head::key(sending.start, self.client_address(), pool),
            };
            if matches!(key, RequestKey::Refused) && ties.server.is_none() {
                return PoolResult::Step(ForwardStep::Ended(RequestOutcome::Refused(RequestError::NoKey)));
            }
            let tried = course.tried_in(pool);
            let before = tried.as_deref().unwrap_or(const { &Excluded::none() });
            // In a block of its own, for the request's state is smaller without it.
            let (place, pin, mut at) = {
                let deal = ServerSelection {
                    worker: self.worker,
                    client: self.client,
                    pool,
                    key,
                    watch: self.watch,
                    version: self.version,
                };
                match self.select_server(&deal, ties, course, stream, before, sending.start).await {
                    Ok(placed) => {
                        deal.sample_decision(|| {
                            self.decision_context(chosen, &placed, before, sending.start)
                        });
                        (placed.place, placed.pin, deal.begin(placed.place))
                    }
                    Err(why) => {
                        cold_path();
                        return self.none_eligible(why, course, pool);
                    }
                }
            };
            course.count_retry(self.worker);
            if let Some(share) = pool.failing.retry_share
                && course.failures() == 0
            {
                cold_path();
                pool.cell.attempts.earn(share);
            }
            let server = &pool.servers[place];
            let hurry = match pool.failing.retry_after {
                None => None,
                Some(after) => {
                    cold_path();
                    self.hedge_timeout(pool, after.get(), course, sending)
                }
            };
            let learns = SessionLearner::of(pool, place, || self.client_address());
            let effects = self.request.rule_effects.get().filter(|effects| effects.touches_response());
            let pin = match (&self.frontend.hsts, effects) {
                (None, None) => pin,
                (hsts, effects) => {
                    cold_path();
                    let hsts = hsts.as_deref().unwrap_or_default();
                    let added = effects.map_or(&[][..], |effects| &effects.added);
                    Some([hsts, added, pin.as_deref().unwrap_or_default()].concat().into())
                }
            };
            let target = AttemptTarget { server, pin: pin.as_deref(), learns, hedge_after: hurry };
            match self.try_server(pool, stream, target, sending).await {
                Ok(delivered) => {
                    at.succeeded();
                    self.report_observation(Some(server), course);
                    PoolResult::Step(ForwardStep::Ended(Self::after_response(&delivered, sending)))
                }
                Err(failed) => {
                    cold_path();
                    PoolResult::Step(self.after_failure(
                        pool,
                        place,
                        failed,
                        at,
                        course,
                        sending,
                        ties.sticks,
                    ))
                }
            }
        }
    }

    /// What follows when a pool has no server.
    #[cold]
    fn none_eligible(
        &self,
        why: NoServer,
        course: &mut AttemptHistory<ServerFailure>,
        pool: &Pool,
    ) -> PoolResult {
        match why {
            NoServer::ClientGone => PoolResult::Step(ForwardStep::Ended(RequestOutcome::ClientGone)),
            NoServer::Stale => {
                course.stays_in(pool);
                PoolResult::Step(ForwardStep::Again)
            }
            NoServer::Full => PoolResult::NoneEligible(GatewayError::Full),
            NoServer::NoneEligible => {
                PoolResult::NoneEligible(course.last.map_or(GatewayError::NoServer, GatewayError::from))
            }
        }
    }

    /// What follows when a server failed the request, or its client did.
    #[cold]
    fn after_failure(
        &self,
        pool: &Pool,
        place: usize,
        failed: ForwardError,
        mut at: InFlight<'_>,
        course: &mut AttemptHistory<ServerFailure>,
        sending: &RequestBody<'_>,
        sticks: bool,
    ) -> ForwardStep {
        let server = &pool.servers[place];
        if self.client.alarm.fired() == Some(WakeReason::Crowded) {
            // It is ended for what it holds, wherever that was met.
            return ForwardStep::Ended(RequestOutcome::ClientGone);
        }
        let was_cut = matches!(self.client.alarm.fired(), Some(WakeReason::Cut | WakeReason::Drained));
        let failure = match failed {
            ForwardError::Server(failure) => failure,
            ForwardError::Refused(refusal) => {
                return self.end(RequestOutcome::Refused(refusal), server, course);
            }
            ForwardError::ClientGone => return self.end(RequestOutcome::ClientGone, server, course),
            ForwardError::BrokenOff { open_ended } => {
                if was_cut {
                    at.lane.cut_requests.increment();
                } else {
                    at.failed();
                }
                self.frontend.cell.lane(self.worker.index).unanswered.increment();
                return self.end(RequestOutcome::BrokenOff { open_ended }, server, course);
            }
        };
        self.client.alarm.cancel();
        tracing::debug!(server = %server.name, ?failure, "a server failed a request");
        if failure == ServerFailure::NotReached(ConnectError::LimitReached) {
            // It has no room, and that is no failure of its.
            course.record_no_connection(pool);
            return ForwardStep::Again;
        }
        if failure.speaks_against_server() {
            at.failed();
        }
        let was_taken = !matches!(failure, ServerFailure::NotReached(_));
        if was_taken {
            at.lane.taken.increment();
        }
        // Only what can be sent anew from its beginning can go to another server.
        let is_whole = sending.follow.is_done() && !sending.begun;
        let again = !sticks && self.may_repeat(failure, is_whole, sending.begun);
        if again {
            course.record_failure(pool, place);
            course.last = Some(failure);
            let may_go_on = course.failures() < pool.attempts
                && (pool.failing.retry_share.is_none() || pool.cell.attempts.take());
            if may_go_on {
                if failure == ServerFailure::Slow {
                    pool.cell.retries.spend();
                }
                return ForwardStep::Again;
            }
        }
        if was_cut {
            at.lane.cut_requests.increment();
        }
        self.report_observation(was_taken.then_some(server), course);
        ForwardStep::Error(failure.into())
    }

    /// The request ends with this server, whatever became of it.
    fn end(
        &self,
        outcome: RequestOutcome,
        server: &Server,
        course: &AttemptHistory<ServerFailure>,
    ) -> ForwardStep {
        self.report_observation(Some(server), course);
        ForwardStep::Ended(outcome)
    }

    /// How long the server may take for its first byte before another one gets the request, where that is allowed now.
    fn hedge_timeout(
        &self,
        pool: &Pool,
        after: Duration,
        course: &AttemptHistory<ServerFailure>,
        sending: &RequestBody<'_>,
    ) -> Option<Duration> {
        let retries = &pool.cell.retries;
        retries.earn(pool.failing.retry_budget);
        let is_repeatable = self.request.is_idempotent && sending.follow.is_done() && !sending.begun;
        let is_last = course.failures() + 1 >= pool.attempts;
        (is_repeatable && !is_last && retries.has_credit()).then_some(after)
    }

    /// Whether the request may be sent again, to another server.
    fn may_repeat(&self, failure: ServerFailure, is_whole: bool, body_begun: bool) -> bool {
        match failure {
            ServerFailure::Untouched => !body_begun,
            // Another server would need a descriptor too.
            ServerFailure::NotReached(error) => error != ConnectError::Exhausted,
            ServerFailure::Closed | ServerFailure::Cut | ServerFailure::Slow => {
                self.request.is_idempotent && is_whole
            }
            // The server may have acted on it, or will give every one the same nonsense.
            ServerFailure::Nonsense | ServerFailure::Late => false,
        }
    }

    /// Reports to the watch of the request's mark.
    #[inline]
    fn report_observation(&self, server: Option<&Server>, course: &AttemptHistory<ServerFailure>) {
        if let Some(mark) = &self.request.mark {
            self.report_mark(mark, server, course);
        }
    }

    #[cold]
    fn report_mark(&self, mark: &[u8], server: Option<&Server>, course: &AttemptHistory<ServerFailure>) {
        let Some((watch, number)) = self.worker.watches.find(mark) else { return };
        watch.report(Observation {
            of: ObservedWork::Request(number),
            version: self.version,
            server: server.map(|server| server.name.clone()),
            failed_at: course.server_names(),
        });
    }

    /// What the decision log gets.
    fn decision_context<'m>(
        &'m self,
        chosen: &ChosenPool<'m>,
        placed: &SelectedServer,
        tried: &'m Excluded,
        head: &[u8],
    ) -> DecisionContext<'m> {
        let client = self.client_address();
        DecisionContext {
            frontend: self.frontend,
            rule: self.rule,
            pool: chosen.pool,
            why_pool: self.frontend.why_pool(chosen, client, self.worker.now()),
            client: SocketAddr::new(client, self.who.client.port()),
            label: self.request.rule_effects.get().and_then(|effects| effects.label.as_deref()),
            key: head::key_words(head, client, chosen.pool),
            tied: placed.tied,
            place: placed.place,
            failed_at: tried.indexes(),
            version: self.version,
        }
    }

    /// What the client's connection does after a delivered answer.
    fn after_response(delivered: &ResponseDone, sending: &RequestBody<'_>) -> RequestOutcome {
        match (sending.follow.is_done(), delivered.keep_client) {
            (true, keep) => RequestOutcome::Answered { keep },
            (false, _) => RequestOutcome::AnsweredEarly,
        }
    }

    /// Shows an authority that the name is ours.
    async fn challenge(
        &self,
        stream: &mut impl Transport,
        answer: &str,
        sending: &RequestBody<'_>,
    ) -> RequestOutcome {
        self.frontend.cell.lane(self.worker.index).challenges.increment();
        let keep = self.keeps_client(sending);
        let text = error_response::challenge(answer, !keep, !self.request.is_head);
        self.own_response(stream, &text, keep, sending).await
    }

    /// Sends the client to where TLS is spoken, at the same host and path.
    async fn redirect(
        &self,
        stream: &mut impl Transport,
        to: HttpsRedirect,
        sending: &RequestBody<'_>,
    ) -> RequestOutcome {
        let Some(location) = https_location(sending.start, to.port) else {
            return RequestOutcome::Refused(RequestError::Malformed("there is no host to be redirected to"));
        };
        self.frontend.cell.lane(self.worker.index).redirected.increment();
        let keep = self.keeps_client(sending);
        let (name, with_body) = (&self.frontend.name, !self.request.is_head);
        let text = error_response::redirect(to.status, &location, name, !keep, with_body);
        self.own_response(stream, &text, keep, sending).await
    }

    /// Whether the client's connection goes on after a response of our own.
    pub(super) fn keeps_client(&self, sending: &RequestBody<'_>) -> bool {
        let may_stay = self.request.keep_alive && !self.client.leaving.get();
        may_stay && !self.request.is_http_10 && sending.follow.is_done()
    }

    /// Tells the client that no server could answer it.
    async fn gateway_error(
        &self,
        stream: &mut impl Transport,
        shortage: GatewayError,
        sending: &RequestBody<'_>,
    ) -> RequestOutcome {
        let lane = self.frontend.cell.lane(self.worker.index);
        if matches!(
            shortage,
            GatewayError::NoServer | GatewayError::PinnedAway | GatewayError::Full | GatewayError::Exhausted
        ) {
            &lane.unavailable
        } else {
            &lane.unanswered
        }
        .increment();
        let keep = self.keeps_client(sending);
        let with_body = !self.request.is_head;
        let (status, accept) = (shortage.status(), head::accept_of(sending.start));
        let text = error_response::frontend_error(status, &shortage, self.frontend, accept, !keep, with_body);
        self.own_response(stream, &text, keep, sending).await
    }

    /// Gives the client a response of our own.
    pub(super) async fn own_response(
        &self,
        stream: &mut impl Transport,
        text: &[u8],
        keep: bool,
        sending: &RequestBody<'_>,
    ) -> RequestOutcome {
        self.client.alarm.cancel();
        match write_all(stream, text, self.watch, self.frontend.idle_timeout).await {
            Ok(()) if sending.follow.is_done() => RequestOutcome::Answered { keep },
            Ok(()) => RequestOutcome::AnsweredEarly,
            Err(_) => RequestOutcome::ClientGone,
        }
    }
}

/// Where a request is redirected: its own host and path, at another port.
fn https_location(head: &[u8], port: u16) -> Option<String> {
    let host = host_of(head).filter(|host| !host.is_empty())?;
    let line = head.split(|byte| *byte == b'\r').next()?;
    let path = str::from_utf8(line).ok()?.split(' ').nth(1)?;
    // OPTIONS asks for all of a host with an asterisk, which is no path.
    let path = if path.starts_with('/') { path } else { "/" };
    let host = if host.contains(':') { format!("[{host}]") } else { host.to_owned() };
    let port = if port == 443 { String::new() } else { format!(":{port}") };
    Some(format!("https://{host}{port}{path}"))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::https_location;

    #[rstest]
    #[case(
        "GET /fares?to=Thora HTTP/1.1\r\nHost: a.example:8080\r\n\r\n",
        443,
        Some("https://a.example/fares?to=Thora")
    )]
    #[case("POST / HTTP/1.1\r\nHost: a.example\r\n\r\n", 8443, Some("https://a.example:8443/"))]
    #[case("GET /x HTTP/1.1\r\nHost: [2001:db8::7]:80\r\n\r\n", 443, Some("https://[2001:db8::7]/x"))]
    #[case("OPTIONS * HTTP/1.1\r\nHost: a.example\r\n\r\n", 443, Some("https://a.example/"))]
    #[case("GET / HTTP/1.1\r\nHost: \r\n\r\n", 443, None)]
    #[case("GET / HTTP/1.0\r\n\r\n", 443, None)]
    fn requests_keep_their_host_and_path(#[case] head: &str, #[case] port: u16, #[case] to: Option<&str>) {
        assert_eq!(https_location(head.as_bytes(), port).as_deref(), to);
    }
}
