//! One request and its answer: offered to one server after the other until one takes it.

use std::hint::cold_path;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use merismos_core::balance::Tried;
use merismos_core::cells::ServerLane;
use merismos_core::config::document::{HttpVersion, Unit};
use merismos_core::pins::PinRule;
use merismos_core::routing::{Asked, ChosenPool, Frontend, Key, Pool, Server};

use super::answer::{Answer, Delivered, NotDelivered, Tunnel};
use super::failure::{ServerFailure, server_failure};
use super::head::{self, Request};
use super::refuse::{self, Refusal, Shortage};
use super::sending::Sending;
use super::two::RequestHead;
use crate::alarm::Ring;
use crate::buffer::Buffer;
use crate::client::Who;
use crate::connect::{ConnectError, Unreached, Upstream, reach_from};
use crate::deal::{AtServer, Course, Deal, GoesOn, NoServer, goes_on_at};
use crate::decisions::{Made, Tied};
use crate::idle::Trust;
use crate::io::{Carried, Watch, Wire, write_all};
use crate::proxy;
use crate::relay::Relay;
use crate::witness::{Seen, Sighting};
use crate::worker::{Client, Worker, minute};

/// How a request ended for its client.
pub(super) enum Outcome {
    /// It got a whole answer; what came after the request is still with it.
    Answered { keep: bool },
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

/// What became of a request by one step: at most one attempt at a server.
enum Step {
    Ended(Outcome),
    /// It may go to another server, as the newest snapshot says.
    Again,
    /// Nobody could answer it.
    Short(Shortage),
}

/// What one pool did for a request.
enum Offered {
    Step(Step),
    /// It has nobody for it, so another pool is asked.
    Nobody(Shortage),
}

/// Everything that an exchange needs to know.
#[derive(Clone, Copy)]
pub(super) struct Exchange<'a> {
    pub(super) worker: &'a Worker,
    pub(super) client: &'a Client,
    pub(super) frontend: &'a Frontend,
    pub(super) version: u64,
    pub(super) request: &'a Request,
    pub(super) who: &'a Who,
    pub(super) watch: Watch<'a>,
}

/// What a request is told by before any algorithm is asked.
#[derive(Clone, Copy, Default)]
struct Ties {
    /// The server that its client or its connection is tied to, by the number of its pool and its place in it.
    server: Option<(usize, usize, Tied)>,
    /// Its pin stands although the server has no room now.
    keeps_pin: bool,
}

/// One server's chance.
#[derive(Clone, Copy)]
struct Target<'t> {
    server: &'t Server,
    /// A field that ties the client to it.
    pin: Option<&'t [u8]>,
    /// How long it may take for its first byte before another one gets the request.
    hurry: Option<Duration>,
}

/// A server for the request.
struct Placed {
    place: usize,
    /// A field that ties the client to it.
    pin: Option<Box<[u8]>>,
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
            if !sending.follow.is_done() {
                cold_path();
                if let Err(outcome) = Box::pin(self.first_of_body(stream, sending)).await {
                    return outcome;
                }
            }
            let mut course = Course::default();
            match self.step(&mut course, stream, sending).await {
                Step::Ended(outcome) => outcome,
                Step::Again => {
                    cold_path();
                    Box::pin(self.go_on(&mut course, stream, sending)).await
                }
                Step::Short(shortage) => {
                    cold_path();
                    Box::pin(self.short(stream, shortage, sending)).await
                }
            }
        }
    }

    /// Goes on after a first step, each further one by the snapshot of its moment.
    async fn go_on(
        &self,
        course: &mut Course<ServerFailure>,
        stream: &mut impl Wire,
        sending: &mut Sending<'_>,
    ) -> Outcome {
        loop {
            let snapshot = self.worker.snapshot();
            // A frontend that is gone by now still sees through what it took.
            let frontend = snapshot.frontend(self.client.frontend.get()).map_or(self.frontend, |it| &**it);
            let exchange = Exchange { frontend, version: snapshot.version, ..*self };
            match exchange.step(course, stream, sending).await {
                Step::Ended(outcome) => return outcome,
                Step::Again => {}
                Step::Short(shortage) => return exchange.short(stream, shortage, sending).await,
            }
        }
    }

    /// Offers the request to one server, of the first pool that has one for it.
    fn step(
        &self,
        course: &mut Course<ServerFailure>,
        stream: &mut impl Wire,
        sending: &mut Sending<'_>,
    ) -> impl Future<Output = Step> {
        async move {
            let mut ties = Ties::default();
            if self.frontend.ties_clients && course.is_new() {
                cold_path();
                ties = self.ties(sending.start);
            }
            let mut asked = Asked::default();
            let mut why = None;
            while let Some(chosen) = self.choose(course, asked, &ties) {
                match self.offer(&chosen, &ties, course, stream, sending).await {
                    Offered::Step(step) => return step,
                    Offered::Nobody(shortage) => {
                        cold_path();
                        // That servers failed it says more than that others are full or none is there.
                        why = Some(why.filter(|it| *it != Shortage::NoServer).unwrap_or(shortage));
                    }
                }
                asked.note(chosen.number);
                ties.server = None;
            }
            Step::Short(why.unwrap_or(Shortage::NoServer))
        }
    }

    /// The pool for the next attempt: that of the server that the client is tied to, or one that the frontend chooses.
    #[inline]
    fn choose(&self, course: &Course<ServerFailure>, asked: Asked, ties: &Ties) -> Option<ChosenPool<'_>> {
        if let Some((number, ..)) = ties.server {
            cold_path();
            return self.frontend.pools().nth(number).map(|pool| ChosenPool { number, pool });
        }
        course.choose(self.worker, self.frontend, self.client_address(), asked)
    }

    /// Where the request comes from, as far as it is believed.
    fn client_address(&self) -> IpAddr {
        self.request.client.unwrap_or(self.who.client.ip())
    }

    /// Offers the request to a server of one pool.
    fn offer(
        &self,
        chosen: &ChosenPool<'_>,
        ties: &Ties,
        course: &mut Course<ServerFailure>,
        stream: &mut impl Wire,
        sending: &mut Sending<'_>,
    ) -> impl Future<Output = Offered> {
        async move {
            let pool = chosen.pool.as_ref();
            let key = match &pool.key_rule {
                None => Key::Unneeded,
                Some(_) => head::key(sending.start, self.client_address(), pool),
            };
            if matches!(key, Key::Refused) && ties.server.is_none() {
                return Offered::Step(Step::Ended(Outcome::Refused(Refusal::NoKey)));
            }
            let tried = course.tried_in(pool);
            let before = tried.as_deref().unwrap_or(const { &Tried::none() });
            // In a block of its own, for the request's state is smaller without it.
            let (place, pin, mut at) = {
                let deal = Deal {
                    worker: self.worker,
                    client: self.client,
                    pool,
                    key,
                    watch: self.watch,
                    version: self.version,
                };
                match self.place(&deal, ties, course, stream, before).await {
                    Ok(placed) => {
                        deal.tell(|| self.made(chosen, &placed, before, sending.start));
                        (placed.place, placed.pin, deal.begin(placed.place))
                    }
                    Err(nobody) => {
                        cold_path();
                        return self.nobody(nobody, course, pool);
                    }
                }
            };
            course.count_retry(self.worker);
            let server = &pool.servers[place];
            let hurry = match pool.failing.retry_after {
                None => None,
                Some(after) => {
                    cold_path();
                    self.hurry(pool, after.get(), course, sending)
                }
            };
            let target = Target { server, pin: pin.as_deref(), hurry };
            match self.attempt(pool, stream, target, sending).await {
                Ok(delivered) => {
                    at.went_well();
                    self.tell(Some(server), course);
                    Offered::Step(Step::Ended(Self::answered(&delivered, sending)))
                }
                Err(failed) => {
                    cold_path();
                    Offered::Step(self.failed((pool, place), failed, at, course, sending))
                }
            }
        }
    }

    /// What follows when a pool has nobody.
    #[cold]
    fn nobody(&self, nobody: NoServer, course: &mut Course<ServerFailure>, pool: &Pool) -> Offered {
        match nobody {
            NoServer::ClientGone => Offered::Step(Step::Ended(Outcome::ClientGone)),
            NoServer::Stale => {
                course.stays_in(pool);
                Offered::Step(Step::Again)
            }
            NoServer::Full => Offered::Nobody(Shortage::Full),
            NoServer::Nobody => Offered::Nobody(course.last.map_or(Shortage::NoServer, Shortage::from)),
        }
    }

    /// What follows when a server failed the request, or its client did.
    #[cold]
    fn failed(
        &self,
        (pool, place): (&Pool, usize),
        failed: Failed,
        mut at: AtServer<'_>,
        course: &mut Course<ServerFailure>,
        sending: &Sending<'_>,
    ) -> Step {
        let server = &pool.servers[place];
        if self.client.alarm.rang() == Some(Ring::Crowded) {
            // It is ended for what it holds, wherever that was met.
            return Step::Ended(Outcome::ClientGone);
        }
        let failure = match failed {
            Failed::Client(outcome) => {
                if matches!(outcome, Outcome::BrokenOff { .. }) {
                    at.failed();
                    self.frontend.cell.lane(self.worker.index).unanswered.up();
                }
                self.tell(Some(server), course);
                return Step::Ended(outcome);
            }
            Failed::Server(failure) => failure,
        };
        self.client.alarm.silence();
        tracing::debug!(server = %server.name, ?failure, "a server failed a request");
        if failure == ServerFailure::NotReached(ConnectError::LimitReached) {
            // It has no room, and that is no failure of its.
            course.note_no_connection(pool);
            return Step::Again;
        }
        if failure.speaks_against_server() {
            at.failed();
        }
        let was_taken = !matches!(failure, ServerFailure::NotReached(_));
        if was_taken {
            at.lane.taken.up();
        }
        // Only what can be told anew from its beginning can go to another server.
        let is_whole = sending.follow.is_done() && !sending.begun;
        let again = self.may_repeat(failure, is_whole, sending.begun);
        if again {
            course.note(pool, place);
            course.last = Some(failure);
            if course.failures() < pool.attempts {
                if failure == ServerFailure::Slow {
                    pool.cell.retries.spend();
                }
                return Step::Again;
            }
        }
        self.tell(was_taken.then_some(server), course);
        Step::Short(failure.into())
    }

    /// How long the server may take for its first byte before another one gets the request, where that is allowed now.
    fn hurry(
        &self,
        pool: &Pool,
        after: Duration,
        course: &Course<ServerFailure>,
        sending: &Sending<'_>,
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

    /// Tells whoever watches for the request's mark.
    #[inline]
    fn tell(&self, server: Option<&Server>, course: &Course<ServerFailure>) {
        if let Some(mark) = &self.request.mark {
            self.tell_mark(mark, server, course);
        }
    }

    #[cold]
    fn tell_mark(&self, mark: &[u8], server: Option<&Server>, course: &Course<ServerFailure>) {
        let Some((watch, number)) = self.worker.watches.find(mark) else { return };
        watch.tell(Sighting {
            of: Seen::Request(number),
            version: self.version,
            server: server.map(|server| server.name.clone()),
            failed_at: course.names(),
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

    /// What ties the request to a server, in whichever of the frontend's pools that is: the pin of its client, or its
    /// connection where connections are dealt out.
    fn ties(&self, head: &[u8]) -> Ties {
        let mut ties = Ties::default();
        for (number, pool) in self.frontend.pools().enumerate() {
            let Some(rule) = &pool.pin_rule else { continue };
            if let Some(place) = self.pinned(rule, head) {
                match goes_on_at(self.worker, pool, place) {
                    GoesOn::At(place) => {
                        ties.server = Some((number, place, Tied::Pin));
                        return ties;
                    }
                    GoesOn::Full => ties.keeps_pin = true,
                    GoesOn::Gone => {}
                }
            }
        }
        if self.frontend.unit == Unit::Connection
            && let Some(server) = self.client.dealt_to.get()
        {
            for (number, pool) in self.frontend.pools().enumerate() {
                let place = pool.servers.iter().position(|it| it.cell.id == server);
                if let Some(GoesOn::At(place)) = place.map(|place| goes_on_at(self.worker, pool, place)) {
                    ties.server = Some((number, place, Tied::Connection));
                    return ties;
                }
            }
        }
        ties
    }

    /// The server for the request: the one that it is tied to, or one that the pool decides for.
    fn place(
        &self,
        deal: &Deal<'_>,
        ties: &Ties,
        course: &mut Course<ServerFailure>,
        stream: &mut impl Wire,
        tried: &Tried,
    ) -> impl Future<Output = Result<Placed, NoServer>> {
        async move {
            if let Some((_, place, tied)) = ties.server {
                return Ok(Placed { place, pin: None, tied: Some(tied) });
            }
            let place = deal.server(tried, course, |context| stream.is_gone(context)).await?;
            if self.frontend.unit == Unit::Connection {
                self.client.dealt_to.set(Some(deal.pool.servers[place].cell.id));
            }
            let pin = deal.pool.pin_rule.as_ref().filter(|_| !ties.keeps_pin);
            let pin = pin.map(|rule| self.pin(rule, &deal.pool.servers[place]));
            Ok(Placed { place, pin, tied: None })
        }
    }

    /// The place of the server that the client is tied to.
    fn pinned(&self, rule: &PinRule, head: &[u8]) -> Option<usize> {
        head::in_cookies(head, &rule.cookie, |value| rule.read(&self.worker.pin_key, value, minute()))
    }

    /// The field that ties the client to a server (RFC 6265, 4.1).
    fn pin(&self, rule: &PinRule, server: &Server) -> Box<[u8]> {
        let mut field = format!("Set-Cookie: {}=", rule.cookie).into_bytes();
        rule.write(&self.worker.pin_key, &server.name.server, minute(), &mut field);
        field.extend_from_slice(b"; Path=/; HttpOnly; SameSite=Lax");
        if let Some(minutes) = rule.lifetime_minutes {
            field.extend_from_slice(format!("; Max-Age={}", u64::from(minutes) * 60).as_bytes());
        }
        field.extend_from_slice(b"\r\n");
        field.into()
    }

    /// What the client's connection does after a delivered answer.
    fn answered(delivered: &Delivered, sending: &Sending<'_>) -> Outcome {
        match (sending.follow.is_done(), delivered.keep_client) {
            (true, keep) => Outcome::Answered { keep },
            (false, _) => Outcome::AnsweredEarly,
        }
    }

    /// One server's chance. A kept connection that turns out to be stale is replaced once by a fresh one.
    fn attempt(
        &self,
        pool: &Pool,
        stream: &mut impl Wire,
        target: Target<'_>,
        sending: &mut Sending<'_>,
    ) -> impl Future<Output = Result<Delivered, Failed>> {
        async move {
            let server = target.server;
            if pool.reaching.http_version == HttpVersion::Two {
                cold_path();
                return Box::pin(self.attempt_shared(pool, stream, target, sending)).await;
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
                match self.exchange(stream, way, target, sending).await {
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
        target: Target<'_>,
        sending: &mut Sending<'_>,
    ) -> Result<Delivered, Failed> {
        let server = target.server;
        let mut is_second = false;
        loop {
            // What the client asks for in a form that HTTP/2 does not have is the client's doing, not the server's.
            let asked = RequestHead::new(sending.start, self.request)
                .map_err(|what| Failed::Client(Outcome::Refused(Refusal::NoFormInHttp2(what))))?;
            let upstream = {
                let turn = self.worker.draw();
                self.worker.shared.stream((server, &pool.reaching, turn), self.watch, asked).await
            };
            let mut upstream = upstream.map_err(|it| Failed::Server(it.into()))?;
            let delivered = self.exchange(stream, (&mut upstream, false), target, sending).await;
            match delivered {
                Err(Failed::Server(ServerFailure::Closed)) if upstream.is_untouched() => {
                    if is_second || sending.begun {
                        return Err(Failed::Server(ServerFailure::Untouched));
                    }
                    is_second = true;
                }
                Err(Failed::Server(ServerFailure::Late | ServerFailure::Slow)) => {
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
        let mut upstream = reach_from(self.worker, server, pool, self.watch).await?;
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
        target: Target<'_>,
        sending: &mut Sending<'_>,
    ) -> impl Future<Output = Result<Delivered, Failed>> {
        async move {
            let times = &target.server.times;
            if let Err(trouble) = write_all(upstream, sending.start, self.watch, times.idle).await {
                cold_path();
                return Err(Failed::Server(server_failure(&trouble)));
            }
            let carried = if sending.follow.is_done() { Carried::Answer } else { Carried::EarlyAnswer };
            let who = (self.worker, self.client);
            let from = (target.server, target.pin);
            target.server.cell.lane(self.worker.index).bytes_to.add(sending.start.len() as u64);
            let answer = Answer::new(who, self.frontend, self.request, from, (was_long, carried), self.watch);
            let delivered = if sending.follow.is_done() {
                self.watch.within(target.hurry.unwrap_or(times.first_byte));
                // While nothing of an answer is here another server may have it, should this one go down.
                self.client.may_move.set(self.request.is_idempotent && !sending.begun);
                // One after the other here, for their states lie in the same place then.
                if let Some(long) = answer.whole_long(upstream, stream).await {
                    cold_path();
                    self.client.may_move.set(false);
                    long
                } else {
                    let head = answer.final_head(upstream, stream).await;
                    self.client.may_move.set(false);
                    match head {
                        Ok((buffer, response)) => answer.pass(upstream, stream, buffer, response).await,
                        Err(NotDelivered::Server(ServerFailure::Late)) if target.hurry.is_some() => {
                            cold_path();
                            Err(NotDelivered::Server(ServerFailure::Slow))
                        }
                        Err(error) => {
                            cold_path();
                            Err(error)
                        }
                    }
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
                let lane = target.server.cell.lane(self.worker.index);
                Box::pin(self.tunnel(stream, (upstream, lane), sending.input.take(), *tunnel)).await;
            }
            Ok(delivered)
        }
    }

    /// Goes on with another protocol, until that ends. `first` is what the client has sent of it already.
    async fn tunnel(
        &self,
        stream: &mut impl Wire,
        (upstream, lane): (&mut impl Wire, &ServerLane),
        first: Option<Buffer>,
        Tunnel { begun }: Tunnel,
    ) {
        if let (Some(stream), Some(upstream)) = (stream.connection(), upstream.connection()) {
            let mut relay =
                Relay::new((self.worker, lane), self.watch, self.frontend.tunnel_timeout, first, begun);
            relay.run(stream, upstream).await;
        }
    }

    /// Tells the client that nobody could answer it.
    async fn short(&self, stream: &mut impl Wire, shortage: Shortage, sending: &Sending<'_>) -> Outcome {
        let Sending { follow, .. } = sending;
        let lane = self.frontend.cell.lane(self.worker.index);
        if matches!(shortage, Shortage::NoServer | Shortage::Full | Shortage::Exhausted) {
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
            Ok(()) if follow.is_done() => Outcome::Answered { keep },
            Ok(()) => Outcome::AnsweredEarly,
            Err(_) => Outcome::ClientGone,
        }
    }
}
