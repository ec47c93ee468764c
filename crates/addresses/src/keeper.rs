//! The thread that holds and watches addresses.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use futures_util::StreamExt;
use futures_util::future::select_all;
use merismos_core::name::Name;
use merismos_core::vrrp::{
    Act, Advertisement, ChecksumRule, Election, MULTICAST_V4, MULTICAST_V6, Preemption, Stance, WholeInterval,
};
use rtnetlink::{Handle, MulticastGroup};
use tokio::sync::{mpsc, oneshot, watch};

use crate::interface::{self, Interface, InterfaceError};
use crate::member::{AddressMember, KeeperClock, RENEWED_EVERY, TOLD_AGAIN};
use crate::neighbours;
use crate::view::AddressView;
use crate::vrrp_socket::{Packet, VrrpSocket};

/// How often interfaces are looked at, also when the kernel says nothing of a change.
const LOOKED_EVERY: Duration = Duration::from_secs(1);
/// How long after the kernel reports a change they are looked at: several changes come together.
const LOOKED_AFTER: Duration = Duration::from_millis(10);
/// How many packets of a socket are read at one go, before timers have their turn.
const READ_AT_ONCE: usize = 200;
/// How often what is counted is shown; where a node stands is shown at once.
const SHOWN_EVERY: Duration = Duration::from_millis(250);

/// What there is to hold, and what this node is worth for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AddressPlan {
    /// Name of the interface.
    pub interface: String,
    /// Which virtual router of the link it is.
    pub router_id: u8,
    /// The addresses.
    pub addresses: Vec<IpAddr>,
    /// How often the holder advertises.
    pub interval: WholeInterval,
    /// Where advertisements go and come from; by multicast when there are none.
    pub peers: Vec<IpAddr>,
    /// How the checksum over IPv4 is made.
    pub checksum: ChecksumRule,
    /// What this node is worth; 0 when it takes no part.
    pub priority: u8,
    /// When it takes the addresses from one that is worth less.
    pub preemption: Preemption,
    /// Whether an operator wants them here: then this node takes them once, whoever holds them.
    pub claim: bool,
}

/// What each keeper's thread does next.
#[derive(Debug)]
enum Command {
    Set(BTreeMap<Name, AddressPlan>),
    /// Takes all addresses off, and advertises that this node leaves them.
    Stop(oneshot::Sender<()>),
    /// Leaves all as it is to the process that follows.
    HandOver(oneshot::Sender<()>),
}

/// All that is known of the addresses that a keeper looks after, by the names of their objects.
type Views = Arc<BTreeMap<Name, AddressView>>;

/// Holds addresses and watches who else does, on a thread of its own. Addresses that it holds vanish some seconds after it is dropped.
#[derive(Clone, Debug)]
pub struct AddressKeeper {
    commands: mpsc::UnboundedSender<Command>,
    views: watch::Receiver<Views>,
}

impl AddressKeeper {
    /// Starts one that holds nothing yet. One that `inherits` goes on to hold what is on its interface already: the process before this one holds it
    /// until it hands over. Any other takes off what a process left that was killed.
    ///
    /// # Errors
    /// When the thread can't be started, or netlink is not to be had.
    pub fn start(inherits: bool) -> io::Result<Self> {
        let (commands, orders) = mpsc::unbounded_channel();
        let (shows, views) = watch::channel(Views::default());
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        std::thread::Builder::new().name("addresses".to_owned()).spawn(move || {
            runtime.block_on(async move {
                match Keeper::new(inherits, shows) {
                    Ok((keeper, changes)) => keeper.run(orders, changes).await,
                    Err(error) => tracing::error!(%error, "interfaces can't be seen: no address is held"),
                }
            });
        })?;
        Ok(Self { commands, views })
    }

    /// Says what there is to hold from now on, all of it. What was held and is not named any more is left.
    pub fn set(&self, plans: BTreeMap<Name, AddressPlan>) {
        let _ = self.commands.send(Command::Set(plans));
    }

    /// What is known, now.
    #[must_use]
    pub fn views(&self) -> Arc<BTreeMap<Name, AddressView>> {
        Arc::clone(&self.views.borrow())
    }

    /// Follows what is known.
    #[must_use]
    pub fn watch(&self) -> watch::Receiver<Arc<BTreeMap<Name, AddressView>>> {
        self.views.clone()
    }

    /// Leaves all addresses: others are told, and take them within a part of an interval.
    pub async fn stop(&self) {
        let (done, ended) = oneshot::channel();
        let _ = self.commands.send(Command::Stop(done));
        let _ = ended.await;
    }

    /// Ends without leaving the addresses, which the next process goes on to hold.
    pub async fn hand_over(&self) {
        let (done, ended) = oneshot::channel();
        let _ = self.commands.send(Command::HandOver(done));
        let _ = ended.await;
    }
}

/// An interface that addresses may be put on, and the sockets on it.
#[derive(Debug)]
struct WatchedInterface {
    state: Result<Interface, InterfaceError>,
    sockets: Vec<VrrpSocket>,
    socket_trouble: Option<String>,
    /// Packets that were no advertisements to act upon.
    wrong: u64,
}

struct Keeper {
    netlink: Handle,
    clock: KeeperClock,
    links: BTreeMap<String, WatchedInterface>,
    members: BTreeMap<Name, AddressMember>,
    /// Whether the process before this one goes on to hold what it held until this one does.
    inherits: bool,
    /// Number of the last advertisement that was seen.
    seen: u64,
    look_at: Instant,
    show_at: Instant,
    shows: watch::Sender<Views>,
}

/// What the kernel says of changes of interfaces; what it says does not matter, they are looked at then.
type Changes = std::pin::Pin<Box<dyn futures_util::Stream<Item = ()> + Send>>;

impl Keeper {
    fn new(inherits: bool, shows: watch::Sender<Views>) -> io::Result<(Self, Changes)> {
        let groups = [MulticastGroup::Link, MulticastGroup::Ipv4Ifaddr, MulticastGroup::Ipv6Ifaddr];
        let (connection, netlink, messages) = rtnetlink::new_multicast_connection(&groups)?;
        tokio::spawn(connection);
        let keeper = Self {
            netlink,
            clock: KeeperClock::start(),
            links: BTreeMap::new(),
            members: BTreeMap::new(),
            inherits,
            seen: 0,
            look_at: Instant::now(),
            show_at: Instant::now(),
            shows,
        };
        Ok((keeper, Box::pin(messages.map(|_| ()))))
    }

    async fn run(mut self, mut orders: mpsc::UnboundedReceiver<Command>, mut changes: Changes) {
        let mut planned = Instant::now();
        loop {
            // What came is heard before silence is noticed, and the clock read before that: this thread may be held up at any place.
            let awake = Instant::now();
            self.held_up(awake.saturating_duration_since(planned));
            self.receive().await;
            if awake >= self.look_at {
                self.look().await;
            }
            self.on_time(awake).await;
            if Instant::now() >= self.show_at {
                self.show();
            }
            let due = self.due();
            planned = due.max(awake);
            let order = tokio::select! {
                biased;
                order = orders.recv() => order,
                () = readable(&self.links) => continue,
                Some(()) = changes.next() => {
                    self.look_at = self.look_at.min(Instant::now() + LOOKED_AFTER);
                    continue;
                }
                () = tokio::time::sleep_until(due.into()) => continue,
            };
            match order {
                Some(Command::Set(plans)) => self.set(plans).await,
                Some(Command::Stop(done)) => {
                    self.set(BTreeMap::new()).await;
                    let _ = done.send(());
                    return;
                }
                Some(Command::HandOver(done)) => {
                    let _ = done.send(());
                    return;
                }
                None => return,
            }
            self.show();
        }
    }

    /// When there is something to do next, by the clock alone.
    fn due(&self) -> Instant {
        let timers = self.members.values().filter_map(|member| member.election.due());
        let timers = timers.map(|tick| self.clock.instant(tick));
        timers.chain([self.look_at, self.show_at]).min().expect("there are two at least")
    }

    async fn set(&mut self, plans: BTreeMap<Name, AddressPlan>) {
        let is_another = |old: &AddressPlan, new: &AddressPlan| {
            (&old.interface, old.router_id) != (&new.interface, new.router_id)
        };
        let gone: Vec<Name> = self
            .members
            .iter()
            .filter(|(name, member)| plans.get(*name).is_none_or(|plan| is_another(&member.plan, plan)))
            .map(|(name, _)| name.clone())
            .collect();
        for name in gone {
            let mut member = self.members.remove(&name).expect("it was found there");
            self.leave(&mut member).await;
        }
        for (name, plan) in plans {
            if !self.links.contains_key(&plan.interface) {
                let link = open(&self.netlink, &plan.interface).await;
                self.links.insert(plan.interface.clone(), link);
            }
            match self.members.remove(&name) {
                Some(mut member) => {
                    let before = std::mem::replace(&mut member.plan, plan);
                    if !member.plan.claim {
                        member.claimed = false;
                    }
                    if member.election.stance() == Stance::Active {
                        let gone = before.addresses.iter().filter(|ip| !member.plan.addresses.contains(ip));
                        for ip in gone {
                            self.take_off(&before.interface, *ip).await;
                        }
                        if before.addresses != member.plan.addresses {
                            (member.renewed, member.to_tell) = (None, TOLD_AGAIN);
                        }
                    }
                    self.members.insert(name.clone(), member);
                }
                None => {
                    let now = self.clock.now();
                    let is_inherited = self.inherits && self.is_there(&plan);
                    let election = if is_inherited && plan.priority > 0 {
                        Election::holding(now, plan.interval, plan.priority)
                    } else {
                        Election::new(now, plan.interval)
                    };
                    if !self.inherits {
                        self.remove_leftovers(&plan).await;
                    }
                    self.members.insert(name.clone(), AddressMember::new(plan, election));
                }
            }
            self.settle(&name).await;
        }
        let used: BTreeSet<&String> = self.members.values().map(|member| &member.plan.interface).collect();
        self.links.retain(|name, _| used.contains(name));
    }

    /// Whether all addresses are on their interface, and not by another hand.
    fn is_there(&self, plan: &AddressPlan) -> bool {
        let Some(WatchedInterface { state: Ok(state), .. }) = self.links.get(&plan.interface) else {
            return false;
        };
        plan.addresses.iter().all(|ip| state.has(*ip).is_some_and(|there| !there.is_permanent))
    }

    /// Addresses that a process before this one left when it was killed are taken off. Those that were set by hand stay, and are reported.
    async fn remove_leftovers(&self, plan: &AddressPlan) {
        let Some(WatchedInterface { state: Ok(state), .. }) = self.links.get(&plan.interface) else { return };
        let left = plan.addresses.iter().filter(|ip| state.has(**ip).is_some_and(|left| !left.is_permanent));
        for ip in left {
            self.take_off(&plan.interface, *ip).await;
        }
    }

    async fn take_off(&self, interface: &str, ip: IpAddr) {
        let Some(WatchedInterface { state: Ok(state), .. }) = self.links.get(interface) else { return };
        if let Err(error) = interface::remove(&self.netlink, (interface, state.index), ip).await {
            tracing::warn!(%error, %ip, "an address stays on its interface until its time is over");
        }
    }

    /// Brings an election in line with the plan and the interface.
    async fn settle(&mut self, name: &Name) {
        let Some(mut member) = self.members.remove(name) else { return };
        let is_able = self.trouble(&member).is_none()
            && member.rests_until().is_none_or(|until| Instant::now() >= until);
        let priority = if is_able { member.plan.priority } else { 0 };
        if priority > 0 {
            member.failed = None;
        }
        let (now, mut acts) = (self.clock.now(), Vec::new());
        let plan = &member.plan;
        let before = member.election.stance();
        member.election.set(now, priority, plan.preemption, plan.interval, &mut acts);
        if plan.claim && !member.claimed && priority > 0 {
            member.claimed = true;
            member.election.claim(now, &mut acts);
        }
        self.act(&mut member, before, acts).await;
        self.members.insert(name.clone(), member);
    }

    /// What keeps this node from taking part.
    fn trouble(&self, member: &AddressMember) -> Option<String> {
        let interface = &member.plan.interface;
        let link = self.links.get(interface)?;
        match &link.state {
            Err(error) => Some(error.to_string()),
            Ok(state) if !state.is_up => {
                Some(format!("{interface} is down: it is not set up, or has no carrier"))
            }
            Ok(_) if link.socket_trouble.is_some() => link.socket_trouble.clone(),
            Ok(_) => {
                let own =
                    [false, true].into_iter().any(|is_ipv6| self.sender(member, is_ipv6, None).is_some());
                (!own).then(|| {
                    format!("{interface} has no address of its own that advertisements could come from: give it one that stays")
                })
            }
        }
    }

    /// This machine's own address that advertisements of a family come from.
    fn sender(&self, member: &AddressMember, is_ipv6: bool, peer: Option<IpAddr>) -> Option<IpAddr> {
        let WatchedInterface { state: Ok(state), .. } = self.links.get(&member.plan.interface)? else {
            return None;
        };
        let others = self.members.values().flat_map(|member| &member.plan.addresses);
        let moving: BTreeSet<&IpAddr> = others.chain(&member.plan.addresses).collect();
        if !member.speaks(is_ipv6) {
            return None;
        }
        match peer {
            Some(peer) => state.own_towards(peer, |ip| moving.contains(&ip)),
            None if member.plan.peers.is_empty() => state.own(is_ipv6, |ip| moving.contains(&ip)),
            None => {
                let peers = member.plan.peers.iter().filter(|peer| peer.is_ipv6() == is_ipv6);
                peers.into_iter().find_map(|peer| state.own_towards(*peer, |ip| moving.contains(&ip)))
            }
        }
    }

    async fn leave(&mut self, member: &mut AddressMember) {
        let mut acts = Vec::new();
        let before = member.election.stance();
        member.election.set(self.clock.now(), 0, Preemption::AtOnce, member.plan.interval, &mut acts);
        self.act(member, before, acts).await;
    }

    async fn receive(&mut self) {
        let mut packets = Vec::new();
        for (name, link) in &mut self.links {
            for socket in &link.sockets {
                for received in std::iter::from_fn(|| socket.receive()).take(READ_AT_ONCE) {
                    match received {
                        Ok(packet) => packets.push((name.clone(), packet)),
                        Err(_) => link.wrong += 1,
                    }
                }
            }
        }
        for (interface, packet) in packets {
            self.hear(&interface, packet).await;
        }
    }

    async fn hear(&mut self, interface: &str, packet: Packet) {
        let Packet { from, to, lives, message } = packet;
        let Some(link) = self.links.get_mut(interface) else { return };
        let is_own = link.state.as_ref().is_ok_and(|state| state.has(from).is_some());
        if is_own {
            return;
        }
        let said = match Advertisement::decode(&message, from, to) {
            Ok(said) => said,
            Err(error) => {
                tracing::debug!(%error, %from, interface, "no advertisement to act upon");
                link.wrong += 1;
                return;
            }
        };
        // Other virtual routers of the link are none of ours.
        let meant = self.members.iter().find(|(_, member)| {
            member.plan.interface == interface && member.plan.router_id == said.router_id
        });
        let Some((name, member)) = meant else { return };
        let (name, own) = (name.clone(), self.sender(member, from.is_ipv6(), None));
        let mut member = self.members.remove(&name).expect("it was found there");
        self.seen += 1;
        if let Some(heard) = member.hear(self.seen, (from, lives), said, own) {
            let (before, mut acts) = (member.election.stance(), Vec::new());
            member.election.on_advertisement(self.clock.now(), heard, &mut acts);
            self.act(&mut member, before, acts).await;
        }
        self.members.insert(name, member);
    }

    /// Tells all elections how much later than planned this thread goes on.
    fn held_up(&mut self, by: Duration) {
        let now = self.clock.now();
        for member in self.members.values_mut() {
            member.election.held_up(now, by);
        }
    }

    async fn on_time(&mut self, awake: Instant) {
        let now = self.clock.tick(awake);
        let due =
            self.members.iter().filter(|(_, member)| member.election.due().is_some_and(|due| due <= now));
        let due: Vec<Name> = due.map(|(name, _)| name.clone()).collect();
        for name in due {
            let Some(mut member) = self.members.remove(&name) else { continue };
            let (before, mut acts) = (member.election.stance(), Vec::new());
            member.election.on_time(now, &mut acts);
            self.act(&mut member, before, acts).await;
            self.members.insert(name, member);
        }
    }

    /// Does what an election wants, and shows at once where the node stands then.
    async fn act(&mut self, member: &mut AddressMember, before: Stance, acts: Vec<Act>) {
        for act in acts {
            match act {
                Act::Take => {
                    member.counted.taken += 1;
                    (member.to_tell, member.renewed) = (TOLD_AGAIN, None);
                    member.taken = Some(Instant::now());
                    self.hold(member).await;
                }
                Act::Release => {
                    for ip in member.plan.addresses.clone() {
                        self.take_off(&member.plan.interface, ip).await;
                    }
                    member.renewed = None;
                }
                Act::Advertise { priority } => {
                    self.advertise(member, priority);
                    if priority > 0 {
                        self.hold(member).await;
                    }
                }
            }
        }
        if member.election.stance() != before {
            member.since = SystemTime::now();
            self.show_at = Instant::now();
        }
    }

    /// Puts the addresses on their interface where they are not yet, puts off their end, and tells the neighbours where that is due.
    async fn hold(&self, member: &mut AddressMember) {
        let Some(WatchedInterface { state: Ok(state), .. }) = self.links.get(&member.plan.interface) else {
            return;
        };
        let lifetime = member.lifetime();
        if member.renewed.is_none_or(|at| at.elapsed() >= RENEWED_EVERY) {
            if member.renewed.is_some_and(|at| at.elapsed() >= lifetime) {
                // The kernel took them off while this thread was held up, and others may have held them.
                member.to_tell = TOLD_AGAIN;
            }
            for ip in &member.plan.addresses {
                let on = (member.plan.interface.as_str(), state.index);
                if let Err(error) = interface::hold(&self.netlink, on, *ip, lifetime).await {
                    tracing::warn!(%error, %ip, "an address can't be held");
                    member.failed = Some((Instant::now(), format!("{ip} can't be held: {error}")));
                }
            }
            member.renewed = Some(Instant::now());
        }
        if member.is_to_tell() {
            member.to_tell = member.to_tell.saturating_sub(1);
            member.told = Some(Instant::now());
            for ip in &member.plan.addresses {
                if let Err(error) = neighbours::announce(state.index, state.mac, *ip) {
                    tracing::warn!(%error, %ip, "neighbours were not told where an address is");
                }
            }
        }
    }

    fn advertise(&mut self, member: &mut AddressMember, priority: u8) {
        for is_ipv6 in [false, true] {
            let to: Vec<Option<IpAddr>> = if !member.speaks(is_ipv6) {
                continue;
            } else if member.plan.peers.is_empty() {
                vec![None]
            } else {
                let peers = member.plan.peers.iter().copied().filter(|peer| peer.is_ipv6() == is_ipv6);
                peers.map(Some).collect()
            };
            for peer in to {
                let Some(from) = self.sender(member, is_ipv6, peer) else { continue };
                let multicast = if is_ipv6 { MULTICAST_V6.into() } else { MULTICAST_V4.into() };
                let to = peer.unwrap_or(multicast);
                // One of the peers is this node.
                if to == from {
                    continue;
                }
                let said = Advertisement {
                    router_id: member.plan.router_id,
                    priority,
                    interval: member.plan.interval,
                    addresses: member.of_family(is_ipv6),
                };
                let message = said.encode(from, to, member.plan.checksum);
                let sockets = self.links.get(&member.plan.interface).map_or(&[][..], |link| &link.sockets);
                let socket = sockets.iter().find(|socket| socket.is_ipv6() == is_ipv6);
                match socket.map(|socket| socket.send(from, to, &message)) {
                    Some(Ok(())) => member.counted.sent += 1,
                    Some(Err(error)) => {
                        member.counted.unsent += 1;
                        tracing::debug!(%error, %to, "an advertisement was not sent");
                    }
                    None => member.counted.unsent += 1,
                }
                self.seen += 1;
                member.remember(self.seen, (from, true), &said, None);
            }
        }
    }

    /// Looks at the interfaces, and brings everything in line with them.
    async fn look(&mut self) {
        self.look_at = Instant::now() + LOOKED_EVERY;
        for (name, link) in &mut self.links {
            let state = Interface::look(&self.netlink, name).await;
            let index = |state: &Result<Interface, _>| state.as_ref().ok().map(|state| state.index);
            // Another interface of the same name, or one that is back.
            if index(&state) != index(&link.state) || link.socket_trouble.is_some() {
                let wrong = link.wrong;
                *link = WatchedInterface { wrong, ..with_sockets(name, state) };
            } else {
                link.state = state;
            }
        }
        let names: Vec<Name> = self.members.keys().cloned().collect();
        for name in names {
            self.settle(&name).await;
            self.hold_again(&name).await;
        }
    }

    /// Puts held addresses back that were taken off their interface by another hand.
    async fn hold_again(&mut self, name: &Name) {
        let Some(mut member) = self.members.remove(name) else { return };
        let state = self.links.get(&member.plan.interface).and_then(|link| link.state.as_ref().ok());
        let is_gone =
            state.is_some_and(|state| member.plan.addresses.iter().any(|ip| state.has(*ip).is_none()));
        if member.election.stance() == Stance::Active && is_gone && member.failed.is_none() {
            (member.renewed, member.to_tell) = (None, TOLD_AGAIN);
            self.hold(&mut member).await;
        }
        self.members.insert(name.clone(), member);
    }

    /// What is wrong with an object, apart from what keeps this node from taking part.
    fn flaws(&self, member: &AddressMember) -> Vec<String> {
        let Some(WatchedInterface { state: Ok(state), .. }) = self.links.get(&member.plan.interface) else {
            return Vec::new();
        };
        let by_hand =
            member.plan.addresses.iter().filter(|ip| state.has(**ip).is_some_and(|on| on.is_permanent));
        by_hand
            .map(|ip| {
                let interface = &member.plan.interface;
                format!(
                    "{ip} is set on {interface} by another hand, and stays there whoever holds it: `ip address del {ip} dev {interface}`, and take it \
                     out of this machine's own configuration"
                )
            })
            .collect()
    }

    fn show(&mut self) {
        self.show_at = Instant::now() + SHOWN_EVERY;
        let view = |(name, member): (&Name, &AddressMember)| {
            let wrong = self.links.get(&member.plan.interface).map_or(0, |link| link.wrong);
            let troubles = self.trouble(member).into_iter().chain(self.flaws(member)).collect();
            let senders =
                [false, true].into_iter().filter_map(|is_ipv6| self.sender(member, is_ipv6, None)).collect();
            (name.clone(), member.view(wrong, senders, troubles))
        };
        let views = self.members.iter().map(view).collect();
        let _ = self.shows.send(Arc::new(views));
    }
}

/// Looks at an interface for the first time and listens there.
async fn open(netlink: &Handle, name: &str) -> WatchedInterface {
    with_sockets(name, Interface::look(netlink, name).await)
}

fn with_sockets(name: &str, state: Result<Interface, InterfaceError>) -> WatchedInterface {
    let mut link = WatchedInterface { state, sockets: Vec::new(), socket_trouble: None, wrong: 0 };
    let Ok(state) = &link.state else { return link };
    for is_ipv6 in [false, true] {
        match VrrpSocket::open(name, state.index, is_ipv6) {
            Ok(socket) => link.sockets.push(socket),
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
                let why = "this service may not send advertisements: give it CAP_NET_RAW, or run it as root";
                link.socket_trouble = Some(why.to_owned());
            }
            // A machine without IPv6.
            Err(error) if is_ipv6 => tracing::debug!(%error, name, "no advertisements over IPv6"),
            Err(error) => {
                link.socket_trouble = Some(format!("no advertisements can be sent on {name}: {error}"))
            }
        }
    }
    link
}

/// Waits until a socket may have something to read.
async fn readable(links: &BTreeMap<String, WatchedInterface>) {
    let sockets = links.values().flat_map(|link| &link.sockets);
    let waits: Vec<_> = sockets.map(|socket| Box::pin(socket.readable())).collect();
    if waits.is_empty() {
        return std::future::pending().await;
    }
    let (ended, ..) = select_all(waits).await;
    if ended.is_err() {
        // Nothing to wait for any more; the next look finds out why.
        std::future::pending().await
    }
}
