//! One request and its answer: offered to one server after the other until one takes it.

use std::hint::cold_path;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use merismos_core::balance::Tried;
use merismos_core::config::document::{HttpVersion, Unit};
use merismos_core::pins::{PinRule, Pinned, identity};
use merismos_core::routing::{Asked, ChosenPool, Frontend, Key, Pool, Server};

use super::answer::{Answer, Begun, Delivered, NotDelivered, Tunnel};
use super::failure::{ServerFailure, server_failure};
use super::head::{self, Request};
use super::refuse::{self, Refusal, Shortage};
use super::sending::Sending;
use crate::buffer::Buffer;
use crate::client::Who;
use crate::connect::{ConnectError, Unreached, Upstream, reach};
use crate::deal::{Deal, GoesOn, NoServer, choose};
use crate::decisions::{Made, Tied};
use crate::idle::Trust;
use crate::io::{Carried, Watch, Wire, write_all};
use crate::proxy;
use crate::relay::Relay;
use crate::witness::{Seen, Sighting, Watch as Witness};
use crate::worker::{Client, Worker, minute};

/// How a request ended for its client.
pub(super) enum Outcome {
    /// It got a whole answer; `rest` is what came after the request.
    Answered { keep: bool, rest: Option<Buffer> },
    /// It got a whole answer while its body was still on the way.
    AnsweredEarly,
    /// Its body breaks the rules or did not come in time, and no answer has begun.
    Refused(Refusal),
    /// Its answer broke off; `open_ended` when only the end of the connection would tell that it is whole.
    BrokenOff { open_ended: bool },
    /// It went away.
    ClientGone,
}

/// How one attempt ended, when it did not end well.
pub(super) enum Failed {
    Server(ServerFailure),
    Client(Outcome),
}

/// Everything that an exchange needs to know.
pub(super) struct Exchange<'a> {
    pub(super) worker: &'a Worker,
    pub(super) client: &'a Client,
    pub(super) frontend: &'a Frontend,
    pub(super) version: u64,
    pub(super) request: &'a Request,
    pub(super) who: &'a Who,
    pub(super) watch: Watch<'a>,
}

/// A server for the request.
struct Placed {
    place: usize,
    /// A field that ties the client to it.
    pin: Option<Vec<u8>>,
    /// Why no algorithm was asked.
    tied: Option<Tied>,
}

impl Exchange<'_> {
    /// Sees the request through.
    pub(super) fn run(
        &self,
        stream: &mut impl Wire,
        sending: &mut Sending<'_>,
    ) -> impl Future<Output = Outcome> {
        async move {
            let witness = self.request.mark.as_ref().and_then(|mark| self.worker.watches.find(mark));
            let mut asked = Asked::default();
            let mut why = None;
            while let Some(chosen) = choose(self.worker, self.frontend, self.client_address(), asked) {
                match self.offer(&chosen, stream, sending, &witness).await {
                    Ok(outcome) => return outcome,
                    Err(shortage) => {
                        cold_path();
                        let is_short = matches!(shortage, Shortage::NoServer | Shortage::Full);
                        why = Some(shortage);
                        // Another pool is asked when this one has nobody for it, not when its servers failed it.
                        if !is_short {
                            break;
                        }
                    }
                }
                asked.note(chosen.number);
            }
            Box::pin(self.short(stream, why.unwrap_or(Shortage::NoServer), sending)).await
        }
    }

    /// Where the request comes from, as far as it is believed.
    fn client_address(&self) -> IpAddr {
        self.request.client.unwrap_or(self.who.client.ip())
    }

    /// Offers the request to the servers of one pool; the shortage when none of them took it.
    fn offer(
        &self,
        chosen: &ChosenPool<'_>,
        stream: &mut impl Wire,
        sending: &mut Sending<'_>,
        witness: &Option<(Arc<Witness>, u64)>,
    ) -> impl Future<Output = Result<Outcome, Shortage>> {
        async move {
            let pool = chosen.pool.as_ref();
            let key = match &pool.key_rule {
                None => Key::Unneeded,
                Some(_) => head::key(sending.start, self.client_address(), pool),
            };
            if matches!(key, Key::Refused) {
                return Ok(Outcome::Refused(Refusal::NoKey));
            }
            let whole_body_sent = sending.follow.is_done();
            // Mostly none are, and the room for them is not taken.
            let mut tried: Option<Box<Tried>> = None;
            let mut last = None;
            let mut full = false;
            loop {
                let before = tried.as_deref().unwrap_or(const { &Tried::none() });
                if before.len() == pool.attempts {
                    cold_path();
                    break;
                }
                let pinned = pool.pin_rule.as_ref().and_then(|rule| self.pinned(rule, sending.start));
                // In a block of its own, for the request's state is smaller without it.
                let (place, pin, mut at) = {
                    let deal =
                        Deal { worker: self.worker, client: self.client, pool, key, watch: self.watch };
                    match self.place(&deal, stream, before, pinned).await {
                        Ok(placed) => {
                            deal.tell(|| self.made(chosen, &placed, before, sending.start));
                            (placed.place, placed.pin, deal.begin(placed.place))
                        }
                        Err(NoServer::ClientGone) => {
                            cold_path();
                            return Ok(Outcome::ClientGone);
                        }
                        Err(nobody) => {
                            cold_path();
                            full = nobody == NoServer::Full;
                            break;
                        }
                    }
                };
                let server = &pool.servers[place];
                if let Some(before) = before.places().last() {
                    cold_path();
                    let before = &pool.servers[*before as usize];
                    before.cell.lane(self.worker.index).retried.up();
                }
                let attempt = self.attempt(pool, stream, (server, pin.as_deref()), sending).await;
                match attempt {
                    Ok(delivered) => {
                        at.went_well();
                        self.tell(pool, witness, Some(place), tried.as_deref());
                        return Ok(Self::answered(delivered, sending));
                    }
                    Err(Failed::Client(outcome)) => {
                        cold_path();
                        if matches!(outcome, Outcome::BrokenOff { .. }) {
                            at.failed();
                            self.frontend.cell.lane(self.worker.index).unanswered.up();
                        }
                        self.tell(pool, witness, Some(place), tried.as_deref());
                        return Ok(outcome);
                    }
                    Err(Failed::Server(failure)) => {
                        cold_path();
                        at.failed();
                        if !matches!(failure, ServerFailure::NotReached(_)) {
                            at.lane.taken.up();
                        }
                        tracing::debug!(server = %server.name, ?failure, "a server failed a request");
                        last = Some((place, failure));
                        if !self.may_repeat(failure, whole_body_sent, sending.begun) {
                            break;
                        }
                        tried.get_or_insert_default().note(place);
                        self.client.alarm.silence();
                    }
                }
            }
            let took = last.filter(|(_, failure)| !matches!(failure, ServerFailure::NotReached(_)));
            self.tell(pool, witness, took.map(|(place, _)| place), tried.as_deref());
            Err(match last {
                _ if full => Shortage::Full,
                None => Shortage::NoServer,
                Some((_, failure)) => failure.into(),
            })
        }
    }

    /// Whether the request may be sent again, to another server.
    fn may_repeat(&self, failure: ServerFailure, whole_body_sent: bool, body_begun: bool) -> bool {
        match failure {
            ServerFailure::Untouched => !body_begun,
            ServerFailure::NotReached(_) => true,
            ServerFailure::Closed | ServerFailure::Cut => self.request.is_idempotent && whole_body_sent,
            // The server may have acted on it, or will give every one the same nonsense.
            ServerFailure::Nonsense | ServerFailure::Late => false,
        }
    }

    /// Tells whoever watches for the request's mark.
    fn tell(
        &self,
        pool: &Pool,
        witness: &Option<(Arc<Witness>, u64)>,
        server: Option<usize>,
        failed: Option<&Tried>,
    ) {
        let Some((watch, number)) = witness else { return };
        cold_path();
        let failed = failed.map_or(&[][..], Tried::places);
        let name = |place: usize| pool.servers[place].name.clone();
        watch.tell(Sighting {
            of: Seen::Request(*number),
            version: self.version,
            server: server.map(name),
            failed_at: failed.iter().map(|place| name(*place as usize)).collect(),
        });
    }

    /// What the decision log is told.
    fn made<'m>(
        &'m self,
        chosen: &ChosenPool<'m>,
        placed: &Placed,
        tried: &'m Tried,
        head: &[u8],
    ) -> Made<'m> {
        let client = self.client_address();
        Made {
            frontend: self.frontend,
            pool: chosen.pool,
            why_pool: self.frontend.why_pool(chosen, client, self.worker.now()),
            client: SocketAddr::new(client, self.who.client.port()),
            key: head::key_words(head, client, chosen.pool),
            tied: placed.tied,
            place: placed.place,
            failed_at: tried.places(),
            version: self.version,
        }
    }

    /// The next server for the request: the one that its connection was dealt out to, where connections are, or one
    /// that the pool decides for.
    fn place(
        &self,
        deal: &Deal<'_>,
        stream: &mut impl Wire,
        tried: &Tried,
        pinned: Option<usize>,
    ) -> impl Future<Output = Result<Placed, NoServer>> {
        async move {
            let mut keeps_pin = false;
            if tried.is_empty()
                && let Some(place) = pinned
            {
                match deal.goes_on_at(place) {
                    GoesOn::At(place) => return Ok(Placed { place, pin: None, tied: Some(Tied::Pin) }),
                    GoesOn::Full => keeps_pin = true,
                    GoesOn::Gone => {}
                }
            }
            let by_connection = self.frontend.unit == Unit::Connection;
            if by_connection
                && tried.is_empty()
                && let Some(server) = self.client.dealt_to.get()
                && let GoesOn::At(place) = deal.goes_on(server)
            {
                return Ok(Placed { place, pin: None, tied: Some(Tied::Connection) });
            }
            let place = deal.server(tried, |context| stream.is_gone(context)).await?;
            if by_connection {
                self.client.dealt_to.set(Some(deal.pool.servers[place].cell.id));
            }
            let pin = deal.pool.pin_rule.as_ref().filter(|_| !keeps_pin);
            let pin = pin.map(|rule| self.pin(rule, &deal.pool.servers[place]));
            Ok(Placed { place, pin, tied: None })
        }
    }

    /// The place of the server that the client is tied to.
    fn pinned(&self, rule: &PinRule, head: &[u8]) -> Option<usize> {
        let value = head::cookie(head, &rule.cookie)?;
        let pinned = self.worker.pin_key.read(rule.pool, value)?;
        if rule.holds(pinned.minute, minute()) { rule.place(pinned.server) } else { None }
    }

    /// The field that ties the client to a server (RFC 6265, 4.1).
    fn pin(&self, rule: &PinRule, server: &Server) -> Vec<u8> {
        let mut field = format!("Set-Cookie: {}=", rule.cookie).into_bytes();
        let pinned = Pinned { server: identity(&server.name.server), minute: minute() };
        self.worker.pin_key.write(rule.pool, pinned, &mut field);
        field.extend_from_slice(b"; Path=/; HttpOnly; SameSite=Lax");
        if let Some(minutes) = rule.lifetime_minutes {
            field.extend_from_slice(format!("; Max-Age={}", u64::from(minutes) * 60).as_bytes());
        }
        field.extend_from_slice(b"\r\n");
        field
    }

    /// What the client's connection does after a delivered answer.
    fn answered(delivered: Delivered, sending: &mut Sending<'_>) -> Outcome {
        match (sending.follow.is_done(), delivered.keep_client) {
            (true, keep) => Outcome::Answered { keep, rest: sending.input.take() },
            (false, _) => Outcome::AnsweredEarly,
        }
    }

    /// One server's chance. A kept connection that turns out to be stale is replaced once by a fresh one.
    fn attempt(
        &self,
        pool: &Pool,
        stream: &mut impl Wire,
        (server, pin): (&Server, Option<&[u8]>),
        sending: &mut Sending<'_>,
    ) -> impl Future<Output = Result<Delivered, Failed>> {
        async move {
            if pool.reaching.http_version == HttpVersion::Two {
                cold_path();
                return Box::pin(self.attempt_shared(pool, stream, (server, pin), sending)).await;
            }
            let resendable = self.request.is_idempotent && sending.follow.is_done();
            let trust = if resendable { Trust::Any } else { Trust::Recent };
            // With a PROXY protocol header a connection is one client's alone, and none is kept.
            let mut upstream = match pool.proxy_protocol {
                None => self.worker.idle.take(server.cell.id, trust, self.worker.wheel.now()),
                Some(_) => None,
            };
            loop {
                let is_fresh = upstream.is_none();
                if is_fresh {
                    cold_path();
                    // Rare beside kept connections; in a box it does not make every request's future larger.
                    let connected = Box::pin(self.connect(pool, server)).await;
                    upstream = Some(connected.map_err(|it| Failed::Server(it.into()))?);
                }
                let Some(reached) = &mut upstream else { unreachable!("it was connected to") };
                let way = (&mut reached.stream, reached.was_long);
                match self.exchange(stream, way, (server, pin), sending).await {
                    Ok(delivered) => {
                        self.keep((pool, server), upstream, &delivered, sending.follow.is_done());
                        return Ok(delivered);
                    }
                    Err(Failed::Server(ServerFailure::Closed)) if resendable && !is_fresh => {
                        upstream = None;
                    }
                    Err(failed) => {
                        cold_path();
                        return Err(failed);
                    }
                }
            }
        }
    }

    /// One server's chance, on a stream of a connection that others share. When that closed before it took the request,
    /// another one is tried once.
    async fn attempt_shared(
        &self,
        pool: &Pool,
        stream: &mut impl Wire,
        (server, pin): (&Server, Option<&[u8]>),
        sending: &mut Sending<'_>,
    ) -> Result<Delivered, Failed> {
        let mut is_second = false;
        loop {
            let upstream = {
                let turn = self.worker.draw();
                self.worker.shared.stream((server, &pool.reaching, turn), self.watch, self.request).await
            };
            let mut upstream = upstream.map_err(|it| Failed::Server(it.into()))?;
            let delivered = self.exchange(stream, (&mut upstream, false), (server, pin), sending).await;
            match delivered {
                Err(Failed::Server(ServerFailure::Closed)) if upstream.is_untouched() => {
                    if is_second || sending.begun {
                        return Err(Failed::Server(ServerFailure::Untouched));
                    }
                    is_second = true;
                }
                Err(Failed::Server(ServerFailure::Late)) => {
                    upstream.distrust();
                    return delivered;
                }
                _ => return delivered,
            }
        }
    }

    /// Keeps the connection of a delivered answer when it can carry another.
    fn keep(
        &self,
        (pool, server): (&Pool, &Server),
        upstream: Option<Upstream>,
        delivered: &Delivered,
        body_sent: bool,
    ) {
        let Some(mut upstream) = upstream else { return };
        upstream.was_long = delivered.was_long;
        if delivered.keep_server && body_sent && pool.proxy_protocol.is_none() {
            self.worker.idle.keep(server.cell.id, upstream, &pool.reaching, self.worker.wheel.now());
        }
    }

    /// Makes a connection, and says on it who the client is where the server wants to know that way.
    async fn connect(&self, pool: &Pool, server: &Server) -> Result<Upstream, Unreached> {
        let mut upstream = reach(server, &pool.reaching, self.worker.draw(), self.watch).await?;
        if let Some(version) = pool.proxy_protocol {
            let header = proxy::header(version, self.who.client, self.who.meant_for);
            let sent = write_all(&mut upstream.stream, &header, self.watch, server.times.idle).await;
            sent.map_err(|_| Unreached::Failed(ConnectError::Other(std::io::ErrorKind::BrokenPipe)))?;
        }
        Ok(upstream)
    }

    /// Sends the request on a connection and brings the answer back. The last one on it may have been long.
    fn exchange(
        &self,
        stream: &mut impl Wire,
        (upstream, was_long): (&mut impl Wire, bool),
        from: (&Server, Option<&[u8]>),
        sending: &mut Sending<'_>,
    ) -> impl Future<Output = Result<Delivered, Failed>> {
        async move {
            let times = &from.0.times;
            if let Err(trouble) = write_all(upstream, sending.start, self.watch, times.idle).await {
                cold_path();
                return Err(Failed::Server(server_failure(&trouble)));
            }
            let carried = if sending.follow.is_done() { Carried::Answer } else { Carried::EarlyAnswer };
            let who = (self.worker, self.client);
            let answer = Answer::new(who, self.frontend, self.request, from, (was_long, carried), self.watch);
            let delivered = if sending.follow.is_done() {
                self.watch.within(times.first_byte);
                // One after the other here, for their states lie in the same place then.
                match answer.begin(upstream, stream).await {
                    Ok(Begun::Head(buffer, response)) => {
                        answer.pass(upstream, stream, buffer, response).await
                    }
                    Ok(Begun::Passed(delivered)) => Ok(delivered),
                    Err(error) => Err(error),
                }
            } else {
                cold_path();
                Box::pin(self.duplex(stream, upstream, &answer, times, sending)).await?
            };
            let mut delivered = match delivered {
                Ok(delivered) => delivered,
                Err(error) => {
                    cold_path();
                    return Err(match error {
                        NotDelivered::Server(failure) => Failed::Server(failure),
                        NotDelivered::BrokenOff { open_ended } => {
                            Failed::Client(Outcome::BrokenOff { open_ended })
                        }
                        NotDelivered::ClientGone => Failed::Client(Outcome::ClientGone),
                    });
                }
            };
            if let Some(tunnel) = delivered.tunnel.take() {
                cold_path();
                Box::pin(self.tunnel(stream, upstream, sending.input.take(), *tunnel)).await;
            }
            Ok(delivered)
        }
    }

    /// Goes on with another protocol, until that ends. `first` is what the client has sent of it already.
    async fn tunnel(
        &self,
        stream: &mut impl Wire,
        upstream: &mut impl Wire,
        first: Option<Buffer>,
        Tunnel { begun }: Tunnel,
    ) {
        if let (Some(stream), Some(upstream)) = (stream.connection(), upstream.connection()) {
            let mut relay = Relay::new(self.worker, self.watch, self.frontend.tunnel_timeout, first, begun);
            relay.run(stream, upstream).await;
        }
    }

    /// Tells the client that nobody could answer it.
    async fn short(&self, stream: &mut impl Wire, shortage: Shortage, sending: &mut Sending<'_>) -> Outcome {
        let Sending { input, follow, .. } = sending;
        let lane = self.frontend.cell.lane(self.worker.index);
        if matches!(shortage, Shortage::NoServer | Shortage::Full) {
            &lane.unavailable
        } else {
            &lane.unanswered
        }
        .up();
        self.client.alarm.silence();
        let keep = self.request.keep_alive && !self.request.is_http_10 && follow.is_done();
        let text =
            refuse::answer(shortage.status(), &shortage, &self.frontend.name, !keep, !self.request.is_head);
        match write_all(stream, &text, self.watch, self.frontend.idle_timeout).await {
            Ok(()) if follow.is_done() => Outcome::Answered { keep, rest: input.take() },
            Ok(()) => Outcome::AnsweredEarly,
            Err(_) => Outcome::ClientGone,
        }
    }
}
