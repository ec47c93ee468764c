//! One object of addresses as this node takes part in it.

use std::collections::VecDeque;
use std::net::IpAddr;
use std::time::{Duration, Instant, SystemTime};

use merismos_core::time::Tick;
use merismos_core::vrrp::{Advertisement, Election, Heard, Stance};

use crate::keeper::AddressPlan;
use crate::view::{AddressView, AdvertisementCounts, HeardHolder, SeenAdvertisement};

/// How many advertisements are remembered for people who look.
const REMEMBERED: usize = 100;
/// With how many of its first advertisements a new holder tells the neighbours again.
pub(crate) const TOLD_AGAIN: u32 = 5;
/// For how long a new holder tells the neighbours at least, and how often then.
const TOLD_FOR: Duration = Duration::from_secs(3);
const TOLD_EVERY: Duration = Duration::from_millis(500);
/// How often the end of held addresses is put off.
pub(crate) const RENEWED_EVERY: Duration = Duration::from_secs(1);
/// How long a node takes no part after it could not put the addresses on their interface.
const RESTS_FOR: Duration = Duration::from_secs(5);

/// One object of addresses, and this node's part in it.
#[derive(Debug)]
pub(crate) struct AddressMember {
    pub(crate) plan: AddressPlan,
    pub(crate) election: Election,
    pub(crate) counted: AdvertisementCounts,
    pub(crate) since: SystemTime,
    /// Whether the claim of an operator in the plan was followed.
    pub(crate) claimed: bool,
    /// With how many of the next advertisements the neighbours are told.
    pub(crate) to_tell: u32,
    /// When the addresses were taken, and when the neighbours were told last.
    pub(crate) taken: Option<Instant>,
    pub(crate) told: Option<Instant>,
    /// When the end of the addresses was put off last.
    pub(crate) renewed: Option<Instant>,
    /// Why the addresses could not be held, and when.
    pub(crate) failed: Option<(Instant, String)>,
    holder: Option<(HeardHolder, Instant)>,
    seen: VecDeque<SeenAdvertisement>,
}

impl AddressMember {
    pub(crate) fn new(plan: AddressPlan, election: Election) -> Self {
        Self {
            plan,
            election,
            counted: AdvertisementCounts::default(),
            since: SystemTime::now(),
            claimed: false,
            to_tell: 0,
            taken: None,
            told: None,
            renewed: None,
            failed: None,
            holder: None,
            seen: VecDeque::new(),
        }
    }

    /// Until when it rests since the addresses could not be held.
    pub(crate) fn rests_until(&self) -> Option<Instant> {
        self.failed.as_ref().map(|(at, _)| *at + RESTS_FOR)
    }

    /// Whether it is time to tell the neighbours where the addresses are.
    ///
    /// Machines pass over what they hear of an address within a second after the last change, so they are repeated for longer than that.
    pub(crate) fn is_to_tell(&self) -> bool {
        let is_new = self.taken.is_some_and(|at| at.elapsed() < TOLD_FOR);
        self.to_tell > 0 || (is_new && self.told.is_none_or(|at| at.elapsed() >= TOLD_EVERY))
    }

    /// For how long held addresses stay when nothing puts their end off: longer than others wait for this node, so that they do not vanish
    /// while it merely is slow.
    pub(crate) fn lifetime(&self) -> Duration {
        let whole = (self.plan.interval.duration() * 4).as_secs();
        Duration::from_secs(whole.max(1) + 2)
    }

    /// The addresses of a family.
    pub(crate) fn of_family(&self, is_ipv6: bool) -> Vec<IpAddr> {
        self.plan.addresses.iter().copied().filter(|ip| ip.is_ipv6() == is_ipv6).collect()
    }

    /// Whether advertisements go and come over a family: that of the addresses, or with peers that of the peers.
    pub(crate) fn speaks(&self, is_ipv6: bool) -> bool {
        let over = if self.plan.peers.is_empty() { &self.plan.addresses } else { &self.plan.peers };
        over.iter().any(|ip| ip.is_ipv6() == is_ipv6)
    }

    /// Notes an advertisement of another node; what it means for the choice, unless it is to be passed over.
    pub(crate) fn hear(
        &mut self,
        number: u64,
        (from, lives): (IpAddr, u8),
        said: Advertisement,
        own: Option<IpAddr>,
    ) -> Option<Heard> {
        let counted = &mut self.counted;
        let mut wrong = None;
        let mut is_to_be_heard = true;
        if self.plan.peers.is_empty() {
            if lives != crate::vrrp_socket::FRESH {
                counted.from_afar += 1;
                is_to_be_heard = false;
                wrong = Some(format!("its time to live is {lives} and not 255: it crossed a router"));
            }
        } else if !self.plan.peers.contains(&from) {
            counted.wrong += 1;
            is_to_be_heard = false;
            wrong = Some("its sender is none of the peers".to_owned());
        }
        if is_to_be_heard {
            counted.received += 1;
            let mut theirs = said.addresses.clone();
            let mut ours: Vec<IpAddr> =
                self.plan.addresses.iter().copied().filter(|ip| ip.is_ipv6() == from.is_ipv6()).collect();
            theirs.sort_unstable();
            ours.sort_unstable();
            if theirs != ours {
                counted.other_addresses += 1;
                wrong = Some("it names other addresses than this node's configuration".to_owned());
            }
            if said.interval != self.plan.interval {
                counted.other_interval += 1;
                wrong = Some("its interval is another than in this node's configuration".to_owned());
            }
            if self.election.stance() == Stance::Active && said.priority > 0 {
                counted.second_holder += 1;
            }
            let holder = HeardHolder {
                from,
                priority: said.priority,
                interval: said.interval.duration(),
                at: SystemTime::now(),
            };
            self.holder = (said.priority > 0).then(|| (holder, Instant::now()));
        }
        self.remember(number, (from, false), &said, wrong);
        // Over one family only it is decided who of two that are worth the same gives way, so that both decide alike.
        let decides = from.is_ipv4() || !self.speaks(false);
        let outranks = decides && own.is_some_and(|own| from > own);
        is_to_be_heard.then_some(Heard { priority: said.priority, interval: said.interval, outranks })
    }

    /// Notes an advertisement for people who look.
    pub(crate) fn remember(
        &mut self,
        number: u64,
        (from, is_own): (IpAddr, bool),
        said: &Advertisement,
        wrong: Option<String>,
    ) {
        if self.seen.len() == REMEMBERED {
            self.seen.pop_front();
        }
        self.seen.push_back(SeenAdvertisement {
            number,
            at: SystemTime::now(),
            from,
            is_own,
            priority: said.priority,
            interval: said.interval.duration(),
            addresses: said.addresses.clone(),
            wrong,
        });
    }

    /// What is shown of it.
    pub(crate) fn view(&self, wrong: u64, senders: Vec<IpAddr>, mut troubles: Vec<String>) -> AddressView {
        troubles.extend(self.failed.iter().map(|(_, why)| why.clone()));
        // A holder that fell silent is none; others take its place after three to four of its intervals.
        let is_heard = |(holder, at): &&(HeardHolder, Instant)| at.elapsed() < holder.interval * 5;
        AddressView {
            stance: self.election.stance(),
            since: self.since,
            priority: self.election.priority(),
            holder: self.holder.as_ref().filter(is_heard).map(|(holder, _)| *holder),
            senders,
            troubles,
            counted: AdvertisementCounts { wrong: self.counted.wrong + wrong, ..self.counted },
            advertisements: self.seen.iter().cloned().collect(),
        }
    }
}

/// The time of the elections of one keeper.
#[derive(Clone, Copy, Debug)]
pub(crate) struct KeeperClock(Instant);

impl KeeperClock {
    pub(crate) fn start() -> Self {
        Self(Instant::now())
    }

    pub(crate) fn now(self) -> Tick {
        self.tick(Instant::now())
    }

    /// The tick of a moment.
    pub(crate) fn tick(self, at: Instant) -> Tick {
        Tick::default().plus(at.saturating_duration_since(self.0))
    }

    /// The moment of a tick.
    pub(crate) fn instant(self, tick: Tick) -> Instant {
        self.0 + tick.since(Tick::default())
    }
}
