//! Addresses that this node announces to the routers beside it (BGP-4, RFC 4271).
//!
//! A [`RouteSpeaker`] has a thread that puts the addresses on `lo` and has a session with each router. It announces and withdraws; what routers
//! announce is counted, and never followed.

mod codec;
mod connect;
mod messages;
mod session;
mod view;

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use merismos_core::announcement::RouteAttributes;
use rtnetlink::Handle;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::task::JoinSet;

pub use view::{SessionCounts, SessionView, SpeakerView};

use crate::interface::{self, Interface};
use session::{PeerSession, SessionOrder};

/// The interface that announced addresses are put on.
const LOOPBACK: &str = "lo";
/// How often that interface is looked at, and the end of addresses on it put off.
const LOOKED_EVERY: Duration = Duration::from_secs(1);
/// How long addresses stay there when nothing puts their end off.
const LIFETIME: Duration = Duration::from_secs(10);
/// How long sessions have to end in order.
const ENDS_WITHIN: Duration = Duration::from_secs(2);

/// A session with a router, and what is announced in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PeerPlan {
    /// AS number of this node.
    pub as_number: u32,
    /// AS number that the router has to have.
    pub peer_as: u32,
    /// After how long of silence the other is taken for gone; whole seconds, at least 3.
    pub hold_time: Duration,
    /// How many hops away the router is.
    pub hops: u8,
    /// Password (TCP MD5, RFC 2385).
    pub password: Option<String>,
    /// For how long the router keeps the routes when the session ends without a word.
    pub restart_time: Option<Duration>,
    /// Identifier of this node where the session is over IPv6; over IPv4 it is the node's address.
    pub identifier: u32,
    /// The addresses that are announced now, of the router's family.
    pub routes: BTreeMap<IpAddr, RouteAttributes>,
}

impl PeerPlan {
    /// Whether a session goes on with another plan: everything but the routes is the same.
    pub(crate) fn is_same_session(&self, other: &Self) -> bool {
        let settings = |plan: &Self| Self { routes: BTreeMap::new(), ..plan.clone() };
        settings(self) == settings(other)
    }
}

/// All that a node announces.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SpeakerPlan {
    /// Addresses that the machine has, whether they are announced now or not.
    pub held: BTreeSet<IpAddr>,
    /// The routers.
    pub peers: BTreeMap<IpAddr, PeerPlan>,
}

/// What the speaker's thread does next.
#[derive(Debug)]
enum SpeakerCommand {
    Set(SpeakerPlan),
    Stop(oneshot::Sender<()>),
    HandOver(oneshot::Sender<()>),
}

/// Announces addresses, on a thread of its own. Addresses vanish from `lo` some seconds after it is dropped.
#[derive(Clone, Debug)]
pub struct RouteSpeaker {
    commands: mpsc::UnboundedSender<SpeakerCommand>,
    views: watch::Receiver<Arc<SpeakerView>>,
}

impl RouteSpeaker {
    /// Starts one that announces nothing yet. One that `restarts` says to routers that it was there a moment ago (RFC 4724).
    ///
    /// # Errors
    /// When the thread can't be started.
    pub fn start(restarts: bool) -> io::Result<Self> {
        let (commands, orders) = mpsc::unbounded_channel();
        let (shows, views) = watch::channel(Arc::new(SpeakerView::default()));
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        std::thread::Builder::new().name("announcements".to_owned()).spawn(move || {
            runtime.block_on(async move {
                match rtnetlink::new_connection() {
                    Ok((connection, netlink, _)) => {
                        tokio::spawn(connection);
                        Speaker::new(netlink, restarts, shows).run(orders).await;
                    }
                    Err(error) => {
                        tracing::error!(%error, "interfaces can't be seen: no address is announced")
                    }
                }
            });
        })?;
        Ok(Self { commands, views })
    }

    /// Says what there is to announce from now on, all of it.
    pub fn set(&self, plan: SpeakerPlan) {
        let _ = self.commands.send(SpeakerCommand::Set(plan));
    }

    /// What is known, now.
    #[must_use]
    pub fn view(&self) -> Arc<SpeakerView> {
        Arc::clone(&self.views.borrow())
    }

    /// Follows what is known.
    #[must_use]
    pub fn watch(&self) -> watch::Receiver<Arc<SpeakerView>> {
        self.views.clone()
    }

    /// Withdraws everything, ends all sessions in order, and takes the addresses off.
    pub async fn stop(&self) {
        let (done, ended) = oneshot::channel();
        let _ = self.commands.send(SpeakerCommand::Stop(done));
        let _ = ended.await;
    }

    /// Ends, and leaves the addresses to the process that follows. Routers that were asked to keep the routes for a time do.
    pub async fn hand_over(&self) {
        let (done, ended) = oneshot::channel();
        let _ = self.commands.send(SpeakerCommand::HandOver(done));
        let _ = ended.await;
    }
}

struct Speaker {
    netlink: Handle,
    restarts: bool,
    held: BTreeSet<IpAddr>,
    sessions: BTreeMap<IpAddr, watch::Sender<SessionOrder>>,
    /// Each gives its router when it has ended.
    tasks: JoinSet<IpAddr>,
    shows: watch::Sender<Arc<SpeakerView>>,
}

impl Speaker {
    fn new(netlink: Handle, restarts: bool, shows: watch::Sender<Arc<SpeakerView>>) -> Self {
        let (held, sessions) = (BTreeSet::new(), BTreeMap::new());
        Self { netlink, restarts, held, sessions, tasks: JoinSet::new(), shows }
    }

    async fn run(mut self, mut orders: mpsc::UnboundedReceiver<SpeakerCommand>) {
        let mut look_at = Instant::now() + LOOKED_EVERY;
        loop {
            let order = tokio::select! {
                biased;
                order = orders.recv() => order,
                Some(ended) = self.tasks.join_next() => {
                    self.forget(ended.ok());
                    continue;
                }
                () = tokio::time::sleep_until(look_at.into()) => {
                    look_at = Instant::now() + LOOKED_EVERY;
                    self.hold().await;
                    continue;
                }
            };
            let (end, done) = match order {
                Some(SpeakerCommand::Set(plan)) => {
                    self.set(plan).await;
                    continue;
                }
                Some(SpeakerCommand::Stop(done)) => (SessionOrder::Leave, Some(done)),
                Some(SpeakerCommand::HandOver(done)) => (SessionOrder::HandOver, Some(done)),
                None => (SessionOrder::HandOver, None),
            };
            for session in self.sessions.values() {
                let _ = session.send(end.clone());
            }
            let all_ended = async { while self.tasks.join_next().await.is_some() {} };
            let _ = tokio::time::timeout(ENDS_WITHIN, all_ended).await;
            if matches!(end, SessionOrder::Leave) {
                let gone = std::mem::take(&mut self.held);
                self.take_off(gone).await;
            }
            if let Some(done) = done {
                let _ = done.send(());
            }
            return;
        }
    }

    /// A session has ended: it is shown no more, unless there is another one with its router by now.
    fn forget(&mut self, ended: Option<IpAddr>) {
        if let Some(peer) = ended.filter(|peer| !self.sessions.contains_key(peer)) {
            self.shows.send_modify(|view| drop(Arc::make_mut(view).sessions.remove(&peer)));
        }
    }

    async fn set(&mut self, plan: SpeakerPlan) {
        let gone: Vec<IpAddr> = self.held.difference(&plan.held).copied().collect();
        self.held = plan.held;
        // An address is there before routers send traffic for it, and goes after they know that it does.
        self.hold().await;
        let removed: Vec<IpAddr> =
            self.sessions.keys().filter(|peer| !plan.peers.contains_key(*peer)).copied().collect();
        for peer in removed {
            if let Some(session) = self.sessions.remove(&peer) {
                let _ = session.send(SessionOrder::Leave);
            }
        }
        for (peer, plan) in plan.peers {
            let order = SessionOrder::Run(plan);
            let Some(session) = self.sessions.get(&peer) else {
                let (session, orders) = watch::channel(order);
                self.tasks.spawn(PeerSession::new(peer, self.restarts, self.shows.clone()).run(orders));
                self.sessions.insert(peer, session);
                continue;
            };
            session.send_if_modified(|known| {
                let is_new = *known != order;
                *known = order;
                is_new
            });
        }
        self.take_off(gone).await;
    }

    /// Puts the addresses on `lo`, and puts off their end. Those that are set there by another hand stay as they are.
    async fn hold(&self) {
        if self.held.is_empty() {
            return;
        }
        let mut troubles = BTreeMap::new();
        match Interface::look(&self.netlink, LOOPBACK).await {
            Ok(state) => {
                for ip in &self.held {
                    if state.has(*ip).is_some_and(|there| there.is_permanent) {
                        continue;
                    }
                    let held = interface::hold(&self.netlink, (LOOPBACK, state.index), *ip, LIFETIME).await;
                    if let Err(error) = held {
                        troubles.insert(*ip, format!("{ip} can't be put on {LOOPBACK}: {error}"));
                    }
                }
            }
            Err(error) => troubles.extend(self.held.iter().map(|ip| (*ip, error.to_string()))),
        }
        self.shows.send_if_modified(|view| {
            let changed = view.troubles != troubles;
            if changed {
                Arc::make_mut(view).troubles = troubles;
            }
            changed
        });
    }

    async fn take_off(&self, gone: impl IntoIterator<Item = IpAddr>) {
        let Ok(state) = Interface::look(&self.netlink, LOOPBACK).await else { return };
        for ip in gone {
            if state.has(ip).is_none_or(|there| there.is_permanent) {
                continue;
            }
            if let Err(error) = interface::remove(&self.netlink, (LOOPBACK, state.index), ip).await {
                tracing::warn!(%error, %ip, "an address stays on lo until its time is over");
            }
        }
    }
}
