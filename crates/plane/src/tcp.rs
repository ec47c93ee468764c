//! TCP clients: each connection is dealt out once and then relayed.

use std::sync::Arc;
use std::time::Duration;

use merismos_core::balance::Tried;
use merismos_core::routing::{Asked, ChosenPool, Facts, Frontend, Key};
use socket2::SockRef;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;

use crate::alarm::Ring;
use crate::buffer::Buffer;
use crate::client::{Visit, Who};
use crate::connect::reach;
use crate::deal::{Deal, NoServer, choose};
use crate::decisions::Made;
use crate::greeting::{Heard, hear};
use crate::io::{Watch, Wire};
use crate::proxy;
use crate::relay::{End, Relay};
use crate::worker::Registered;

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
    // What is decided goes by what holds now; from here on the connection keeps it.
    let (frontend, version) = {
        let snapshot = worker.snapshot();
        (snapshot.frontend(client.frontend.get()).map_or(frontend, Arc::clone), snapshot.version)
    };
    let frontend = &*frontend;
    let lane = frontend.cell.lane(worker.index);
    lane.requests.up();
    client.resting.set(false);
    client.fresh.set(false);
    let facts = Facts { sni: name.as_deref(), ..Facts::of_client(who.client.ip()) };
    let mut asked = Asked::default();
    let mut ended = Ended::Unavailable;
    while let Some(chosen) = choose(worker, frontend, who.client.ip(), asked) {
        let pool = chosen.pool;
        let deal = Deal { worker, client, pool, key: pool.key(&facts), watch };
        ended = match relay(&deal, (frontend, &chosen, &facts, version), &mut stream, who, &mut first).await {
            Ok(()) => return,
            Err(ended) => ended,
        };
        // Another pool is asked when this one has nobody for it, not when its servers failed it.
        if !matches!(ended, Ended::Unavailable) {
            break;
        }
        asked.note(chosen.number);
    }
    match ended {
        Ended::Refused => lane.refused.up(),
        Ended::Unavailable => lane.unavailable.up(),
        Ended::Unreached => lane.unanswered.up(),
        Ended::ClientGone => return,
    }
    tracing::debug!(frontend = %frontend.name, ?ended, "a connection was not relayed");
    reset(&stream);
}

/// The client must not take our end for that of a server which had nothing to say.
fn reset(stream: &TcpStream) {
    let _ = SockRef::from(stream).set_linger(Some(Duration::ZERO));
}

async fn relay(
    deal: &Deal<'_>,
    (frontend, chosen, facts, version): (&Frontend, &ChosenPool<'_>, &Facts<'_>, u64),
    stream: &mut TcpStream,
    who: Who,
    first: &mut Option<Buffer>,
) -> Result<(), Ended> {
    if deal.key == Key::Refused {
        return Err(Ended::Refused);
    }
    let pool = deal.pool;
    let mut tried = Tried::default();
    let witness = |server: Option<usize>, tried: &Tried| {
        deal.worker.watches.tell(frontend.cell.id, who.client, version, (pool, server, tried.places()));
    };
    while tried.len() < pool.attempts {
        let gone = |context: &mut std::task::Context<'_>| stream.is_gone(context);
        let place = match deal.server(&tried, gone).await {
            Ok(place) => place,
            Err(NoServer::Nobody) if !tried.is_empty() => break,
            Err(NoServer::Nobody | NoServer::Full) => return Err(Ended::Unavailable),
            Err(NoServer::ClientGone) => return Err(Ended::ClientGone),
        };
        let server = &pool.servers[place];
        deal.tell(|| Made {
            frontend,
            pool,
            why_pool: frontend.why_pool(chosen, who.client.ip(), deal.worker.now()),
            client: who.client,
            key: pool.key_rule.as_ref().and_then(|rule| rule.words(deal.key, facts)),
            tied: None,
            place,
            failed_at: tried.places(),
            version,
        });
        if let Some(before) = tried.places().last() {
            pool.servers[*before as usize].cell.lane(deal.worker.index).retried.up();
        }
        let mut at = deal.begin(place);
        let mut upstream = match reach(server, &pool.reaching, deal.worker.draw(), deal.watch).await {
            Ok(upstream) => upstream,
            Err(failure) => {
                at.failed();
                tracing::debug!(server = %server.name, ?failure, "a server was not reached");
                deal.client.alarm.silence();
                tried.note(place);
                continue;
            }
        };
        at.lane.taken.up();
        witness(Some(place), &tried);
        at.goes_on();
        if let Some(version) = pool.proxy_protocol
            && upstream.stream.write_all(&proxy::header(version, who.client, who.meant_for)).await.is_err()
        {
            at.failed();
            return Err(Ended::Unreached);
        }
        if let Some(life) = frontend.life_limit {
            deal.watch.all_within(life);
        }
        let mut relay = Relay::new(deal.worker, deal.watch, frontend.idle_timeout, first.take(), None);
        match relay.run(stream, &mut upstream.stream).await {
            End::Finished => {}
            // Whoever is left must not take this for an orderly end.
            End::Broken | End::Rang(Ring::Cut | Ring::Deadline | Ring::Close) => {
                reset(stream);
                reset(&upstream.stream);
            }
        }
        return Ok(());
    }
    witness(None, &tried);
    Err(Ended::Unreached)
}
