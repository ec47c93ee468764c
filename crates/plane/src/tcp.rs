//! TCP clients: each connection is dealt out once and then relayed.

use std::sync::Arc;
use std::time::Duration;

use merismos_core::balance;
use merismos_core::config::document::OpenConnections;
use merismos_core::routing::{Asked, ChosenPool, Facts, Frontend, Key, Server};
use socket2::SockRef;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;

use crate::alarm::Ring;
use crate::buffer::Buffer;
use crate::client::{Visit, Who};
use crate::connect::{ConnectError, Unreached, reach_from};
use crate::deal::{Course, Deal, NoServer};
use crate::decisions::Made;
use crate::greeting::{Heard, hear};
use crate::io::{Watch, Wire};
use crate::proxy;
use crate::relay::{End, Relay};
use crate::worker::{Client, Registered, Worker};

/// Why a client's connection is ended without having been relayed.
#[derive(Debug)]
enum Ended {
    /// It has none of the keys that the pool deals out by.
    Refused,
    /// There is no server for it.
    Unavailable,
    /// No server could be reached.
    Unreached,
    /// It went away.
    ClientGone,
}

/// Serves one client until its connection ends. `first` is what it has sent already.
pub(crate) async fn serve(visit: Visit, frontend: Arc<Frontend>, first: Option<Buffer>) {
    let Visit { at: Registered { ref worker, ref client, .. }, mut stream, who, .. } = visit;
    client.alarm.wakes_this_task().await;
    let watch = Watch { alarm: &client.alarm, wheel: &worker.wheel };
    let heard = match frontend.greeting_timeout {
        Some(limit) => Box::pin(hear(worker, &mut stream, first, (limit, watch))).await,
        None => Some(Heard { name: None, first }),
    };
    let Some(Heard { name, mut first }) = heard else { return };
    client.resting.set(false);
    client.fresh.set(false);
    let mut course = Course::default();
    let mut is_counted = false;
    loop {
        // What is decided goes by what holds now, at each attempt; once it is relayed the connection keeps it.
        let snapshot = worker.snapshot();
        let frontend = snapshot.frontend(client.frontend.get()).map_or(&*frontend, |it| &**it);
        let lane = frontend.cell.lane(worker.index);
        if !is_counted {
            lane.requests.up();
            is_counted = true;
        }
        let facts = Facts { sni: name.as_deref(), ..Facts::of_client(who.client.ip()) };
        let step = Step { worker, client, frontend, version: snapshot.version, facts: &facts, who, watch };
        let ended = match step.run(&mut course, &mut stream, &mut first).await {
            Tried::Again => continue,
            Tried::Served => return,
            Tried::Ended(ended) => ended,
        };
        match ended {
            Ended::Refused => lane.refused.up(),
            Ended::Unavailable => lane.unavailable.up(),
            Ended::Unreached => lane.unanswered.up(),
            Ended::ClientGone => return,
        }
        tracing::debug!(frontend = %frontend.name, ?ended, "a connection was not relayed");
        reset(&stream);
        return;
    }
}

/// The client must not take our end for that of a server which had nothing to say.
fn reset(stream: &TcpStream) {
    let _ = SockRef::from(stream).set_linger(Some(Duration::ZERO));
}

/// What became of one attempt.
enum Tried {
    /// It was relayed until its end.
    Served,
    /// It may go to another server, as the newest snapshot says.
    Again,
    Ended(Ended),
}

/// One attempt, by one snapshot.
#[derive(Clone, Copy)]
struct Step<'a> {
    worker: &'a Worker,
    client: &'a Client,
    frontend: &'a Frontend,
    version: u64,
    facts: &'a Facts<'a>,
    who: Who,
    watch: Watch<'a>,
}

impl Step<'_> {
    /// Offers the connection to one server, of the first pool that has one for it.
    async fn run(
        &self,
        course: &mut Course<()>,
        stream: &mut TcpStream,
        first: &mut Option<Buffer>,
    ) -> Tried {
        let mut asked = Asked::default();
        let mut ended = Ended::Unavailable;
        while let Some(chosen) = course.choose(self.worker, self.frontend, self.who.client.ip(), asked) {
            let pool = chosen.pool.as_ref();
            let Self { worker, client, watch, version, .. } = *self;
            let key = pool.key(self.facts);
            if key == Key::Refused {
                ended = Ended::Refused;
                break;
            }
            let deal = Deal { worker, client, pool, key, watch, version };
            let tried = course.tried_in(pool);
            let before = tried.as_deref().unwrap_or(const { &balance::Tried::none() });
            let place = deal.server(before, course, |context| stream.is_gone(context)).await;
            match place {
                Ok(place) => {
                    self.tell(&deal, &chosen, place, before);
                    return self.attempt(&deal, place, course, stream, first).await;
                }
                Err(NoServer::ClientGone) => return Tried::Ended(Ended::ClientGone),
                Err(NoServer::Stale) => {
                    course.stays_in(pool);
                    return Tried::Again;
                }
                Err(NoServer::Nobody | NoServer::Full) => {}
            }
            asked.note(chosen.number);
        }
        if course.failures() > 0 {
            self.witness(None, course);
            ended = Ended::Unreached;
        }
        Tried::Ended(ended)
    }

    fn tell(&self, deal: &Deal<'_>, chosen: &ChosenPool<'_>, place: usize, before: &balance::Tried) {
        let (frontend, client, pool) = (self.frontend, self.who.client, chosen.pool.as_ref());
        deal.tell(|| Made {
            frontend,
            pool: deal.pool,
            why_pool: frontend.why_pool(chosen, client.ip(), self.worker.now()),
            client,
            key: pool.key_rule.as_ref().and_then(|rule| rule.words(deal.key, self.facts)),
            tied: None,
            place,
            failed_at: before.places(),
            version: self.version,
        });
    }

    /// Tells whoever watches where the connection went.
    fn witness(&self, server: Option<&Server>, course: &Course<()>) {
        let server = server.map(|server| &server.name);
        let told = (server, || course.names());
        self.worker.watches.tell(self.frontend.cell.id, self.who.client, self.version, told);
    }

    /// Connects to a server and relays until the end.
    async fn attempt(
        &self,
        deal: &Deal<'_>,
        place: usize,
        course: &mut Course<()>,
        stream: &mut TcpStream,
        first: &mut Option<Buffer>,
    ) -> Tried {
        let Self { worker, client, frontend, who, watch, .. } = *self;
        let pool = deal.pool;
        let server = &pool.servers[place];
        course.count_retry(worker);
        let mut at = deal.begin(place);
        let mut upstream = match reach_from(worker, server, pool, watch).await {
            Ok(upstream) => upstream,
            Err(failure) => {
                client.alarm.silence();
                tracing::debug!(server = %server.name, ?failure, "a server was not reached");
                match failure {
                    // It has no room, and that is no failure of its.
                    Unreached::Failed(ConnectError::LimitReached) => {
                        course.note_no_connection(pool);
                        return Tried::Again;
                    }
                    // Another server would need a descriptor too.
                    Unreached::Failed(ConnectError::Exhausted) => return Tried::Ended(Ended::Unavailable),
                    Unreached::Cut => {}
                    Unreached::Failed(_) => at.failed(),
                }
                course.note(pool, place);
                if course.failures() < pool.attempts {
                    return Tried::Again;
                }
                self.witness(None, course);
                return Tried::Ended(Ended::Unreached);
            }
        };
        at.lane.taken.up();
        self.witness(Some(server), course);
        at.goes_on();
        if let Some(version) = pool.proxy_protocol
            && upstream.stream.write_all(&proxy::header(version, who.client, who.meant_for)).await.is_err()
        {
            at.failed();
            return Tried::Ended(Ended::Unreached);
        }
        if let Some(life) = frontend.life_limit {
            watch.all_within(life);
        }
        client.may_move.set(pool.failing.on_down == OpenConnections::Break);
        client.leaves_at_failback.set(pool.failing.on_failback == OpenConnections::Break);
        let mut relay = Relay::new((worker, at.lane), watch, frontend.idle_timeout, first.take(), None);
        match relay.run(stream, &mut upstream.stream).await {
            End::Finished => {}
            // Whoever is left must not take this for an orderly end.
            End::Broken | End::Rang(Ring::Cut | Ring::Deadline | Ring::Close | Ring::Crowded) => {
                reset(stream);
                reset(&upstream.stream);
            }
        }
        Tried::Served
    }
}
