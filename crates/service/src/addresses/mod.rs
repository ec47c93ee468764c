//! Addresses that move between nodes: what this node is worth for each, what operators ordered, and who holds what.

mod events;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use merismos_addresses::{AddressKeeper, AddressPlan, AddressView};
use merismos_core::config::document::{AddressSpec, Document};
use merismos_core::name::Name;
use merismos_core::routing::Snapshot;
use merismos_core::time::{Tick, Wall};
use merismos_core::vrrp::{
    AddressReport, CLAIMED, LEAST, LEAVING, OrderWord, PoolLosses, Preemption, Stance, StandingOrder,
    WholeInterval, listed_priority,
};
use merismos_store::plans::{PlanKind, StoredPlan};

use crate::journal::Journal;
use crate::nodes::NodeWatch;

/// How long a node that stops waits at most for another one to take its addresses.
const LEAVES_WITHIN: Duration = Duration::from_secs(2);
/// How long two holders, or a node without any, have to last before that is a headline.
const LASTS: Duration = Duration::from_secs(2);
/// How old an advertisement with something wrong may be to be a headline.
const WRONG_LASTS: Duration = Duration::from_secs(10);

/// The addresses as this node takes part in them. Copies share everything.
#[derive(Clone, Debug)]
pub(crate) struct AddressWatch {
    own: Name,
    journal: Journal,
    nodes: NodeWatch,
    /// Held for a look or a change only. What is known of nodes may be looked at meanwhile, and not the other way round.
    known: Arc<Mutex<KnownAddresses>>,
}

#[derive(Debug, Default)]
struct KnownAddresses {
    /// Started with the first address.
    keeper: Option<AddressKeeper>,
    /// Why it could not be.
    unstarted: Option<String>,
    /// Whether a service before this one holds what it held until this one does.
    inherits: bool,
    orders: BTreeMap<(PlanKind, String), KnownOrder>,
    losses: BTreeMap<Name, PoolLosses>,
    /// Pools that cost this node some of its priority.
    lost: BTreeMap<Name, Vec<Name>>,
    plans: BTreeMap<Name, AddressPlan>,
    /// This node is about to stop, or was taken over from.
    leaves: bool,
}

#[derive(Clone, Debug)]
struct KnownOrder {
    number: u64,
    /// Absent when it was taken back.
    order: Option<StandingOrder>,
}

impl AddressWatch {
    pub(crate) fn new(nodes: NodeWatch, journal: Journal, inherits: bool) -> Self {
        let known = KnownAddresses { inherits, ..KnownAddresses::default() };
        Self { own: nodes.name().clone(), journal, nodes, known: Arc::new(Mutex::new(known)) }
    }

    fn known(&self) -> MutexGuard<'_, KnownAddresses> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes over an order that is newer than what is known; gives whether it was.
    pub(crate) fn adopt(&self, plan: &StoredPlan) -> bool {
        if !matches!(plan.kind, PlanKind::Address | PlanKind::Node) {
            return false;
        }
        let mut known = self.known();
        let key = plan.key();
        if known.orders.get(&key).is_some_and(|known| known.number >= plan.number) {
            return false;
        }
        match plan.body.clone().map(serde_json::from_value::<StandingOrder>).transpose() {
            Ok(order) => {
                known.orders.insert(key, KnownOrder { number: plan.number, order });
                true
            }
            Err(error) => {
                tracing::error!(%error, name = plan.name, "an order that is kept can't be read");
                false
            }
        }
    }

    /// Keeps an order, or that it was taken back; what the database is to keep.
    pub(crate) fn put(
        &self,
        (kind, name): (PlanKind, String),
        number: u64,
        order: Option<StandingOrder>,
    ) -> StoredPlan {
        let known = KnownOrder { number, order };
        let plan = stored((kind, &name), &known);
        self.known().orders.insert((kind, name), known);
        plan
    }

    /// The order that stands for an address or a node.
    pub(crate) fn order(&self, kind: PlanKind, name: &str) -> Option<StandingOrder> {
        self.known().orders.get(&(kind, name.to_owned())).and_then(|known| known.order.clone())
    }

    /// The nodes that are drained of their addresses.
    pub(crate) fn drained_nodes(&self) -> BTreeSet<String> {
        let known = self.known();
        let drained =
            known.orders.iter().filter(|((kind, _), known)| *kind == PlanKind::Node && known.order.is_some());
        drained.map(|((_, name), _)| name.clone()).collect()
    }

    /// The largest number of an order.
    pub(crate) fn newest(&self) -> u64 {
        self.known().orders.values().map(|known| known.number).max().unwrap_or_default()
    }

    /// What the state file keeps.
    pub(crate) fn to_keep(&self) -> Vec<StoredPlan> {
        let known = self.known();
        known.orders.iter().map(|((kind, name), order)| stored((*kind, name), order)).collect()
    }

    /// Brings the keeper in line with the document, the health of pools and the orders that stand.
    pub(crate) fn keep(&self, document: &Document, snapshot: &Snapshot, now: Tick) {
        let mut known = self.known();
        if known.leaves {
            return;
        }
        let short: BTreeSet<&Name> = snapshot
            .pools
            .iter()
            .filter(|pool| !pool.usable || pool.eligible() == 0)
            .map(|pool| &pool.name)
            .collect();
        let inherits = known.inherits;
        let mut plans = BTreeMap::new();
        let views = known.keeper.as_ref().map(AddressKeeper::views).unwrap_or_default();
        known.losses.retain(|name, _| document.addresses.contains_key(name));
        known.lost.clear();
        for (name, spec) in &document.addresses {
            let losses = known.losses.entry(name.clone()).or_default();
            let needed = spec.pools.iter().filter(|pool| short.contains(pool));
            // The service before this one may hold it, until it is known whether it does.
            let is_holder = views.get(name).map_or(inherits, |view| view.stance == Stance::Active);
            let lost = losses.note(now, needed, spec.pool_loss_delay.get(), is_holder);
            let order = |kind, of: &Name| {
                known.orders.get(&(kind, of.to_string())).and_then(|known| known.order.as_ref())
            };
            let (of_address, of_node) = (order(PlanKind::Address, name), order(PlanKind::Node, &self.own));
            if let Some(plan) = plan(name, spec, &self.own, lost.len(), of_address, of_node) {
                plans.insert(name.clone(), plan);
            }
            known.lost.insert(name.clone(), lost);
        }
        self.set(&mut known, plans);
    }

    fn set(&self, known: &mut KnownAddresses, plans: BTreeMap<Name, AddressPlan>) {
        if known.keeper.is_none() && !plans.is_empty() {
            match AddressKeeper::start(known.inherits) {
                Ok(keeper) => {
                    tokio::spawn(events::report(keeper.watch(), self.nodes.clone(), self.journal.clone()));
                    (known.keeper, known.unstarted) = (Some(keeper), None);
                }
                Err(error) => known.unstarted = Some(error.to_string()),
            }
        }
        if known.plans != plans
            && let Some(keeper) = &known.keeper
        {
            keeper.set(plans.clone());
            known.plans = plans;
        }
    }

    /// Where this node stands with each address that it may hold.
    pub(crate) fn views(&self) -> BTreeMap<Name, AddressView> {
        self.known().keeper.as_ref().map(|keeper| (*keeper.views()).clone()).unwrap_or_default()
    }

    /// What other nodes are told.
    pub(crate) fn report(&self) -> BTreeMap<Name, AddressReport> {
        let known = self.known();
        let views = known.keeper.as_ref().map(AddressKeeper::views).unwrap_or_default();
        views
            .iter()
            .map(|(name, view)| {
                let report = AddressReport {
                    stance: view.stance,
                    since: wall_of(view.since),
                    priority: view.priority,
                    lost: known.lost.get(name).cloned().unwrap_or_default(),
                    senders: view.senders.clone(),
                    troubles: view.troubles.clone(),
                };
                (name.clone(), report)
            })
            .collect()
    }

    /// What is wrong with addresses here, and what operators ordered of them, a sentence each.
    pub(crate) fn troubles(&self) -> Vec<String> {
        let known = self.known();
        let views = known.keeper.as_ref().map(AddressKeeper::views).unwrap_or_default();
        let mut troubles: Vec<String> =
            known.unstarted.iter().map(|why| format!("no address can be held here: {why}")).collect();
        for ((kind, name), KnownOrder { order, .. }) in &known.orders {
            let is_meant = *kind == PlanKind::Node || known.plans.keys().any(|known| known.as_str() == name);
            if let (Some(order), true) = (order, is_meant) {
                troubles.push(order_in_words(*kind, name, order));
            }
        }
        for (name, view) in views.iter() {
            let about = |says: &str| format!("address {name}: {says}");
            troubles.extend(view.troubles.iter().map(|says| about(says)));
            if let Some(lost) = known.lost.get(name).filter(|lost| !lost.is_empty()) {
                let pools: Vec<&str> = lost.iter().map(Name::as_str).collect();
                let says = format!(
                    "too few servers are eligible of {} as seen from here: this node is worth {} for it",
                    pools.join(", "),
                    view.priority
                );
                troubles.push(about(&says));
            }
            troubles.extend(self.without_others(name).map(|says| about(&says)));
            if let (Stance::Active, Some(other), true) = (view.stance, view.holder, lasts(view.since)) {
                let says = format!(
                    "{} says that it holds it too (priority {}): two nodes that do not hear each other, or another virtual router with this router_id",
                    self.nodes.sender(name, other.from),
                    other.priority
                );
                troubles.push(about(&says));
            }
            if view.stance == Stance::Backup && view.holder.is_none() && lasts(view.since) {
                troubles.push(about("no node holds it, as far as is heard here"));
            }
            let others = view.advertisements.iter().rev().filter(|seen| !seen.is_own);
            let recent = others.take_while(|seen| seen.at.elapsed().is_ok_and(|age| age < WRONG_LASTS));
            if let Some((seen, wrong)) = recent.filter_map(|seen| Some((seen, seen.wrong.as_ref()?))).next() {
                let from = self.nodes.sender(name, seen.from);
                troubles.push(about(&format!("an advertisement of {from} is not as expected: {wrong}")));
            }
        }
        troubles
    }

    /// What keeps other nodes from taking an address over.
    fn without_others(&self, address: &Name) -> Option<String> {
        let troubled =
            self.nodes.address_reports(address).into_iter().filter(|(node, ..)| node != self.own.as_str());
        let troubled = troubled.filter_map(|(node, is_alive, report)| {
            let why = report.filter(|_| is_alive)?.troubles.into_iter().next()?;
            Some(format!("node {node} can't take it over: {why}"))
        });
        let troubled: Vec<String> = troubled.collect();
        (!troubled.is_empty()).then(|| troubled.join("; "))
    }

    /// The nodes that hold an address, as this one hears: itself, and the one that it hears. Nothing when it takes no part, and does not hear.
    pub(crate) fn heard_holders(&self, address: &Name) -> Option<Vec<String>> {
        let known = self.known();
        let views = known.keeper.as_ref()?.views();
        let view = views.get(address)?;
        let other = view.holder.map(|holder| {
            self.nodes.sender_name(address, holder.from).unwrap_or_else(|| holder.from.to_string())
        });
        match view.stance {
            Stance::Aside => None,
            Stance::Active => Some(std::iter::once(self.own.to_string()).chain(other).collect()),
            Stance::Backup => Some(other.into_iter().collect()),
        }
    }

    /// Gives the addresses to other nodes, and ends: this node is about to stop.
    pub(crate) async fn leave(&self) {
        let keeper = {
            let mut known = self.known();
            known.leaves = true;
            let Some(keeper) = known.keeper.clone() else { return };
            let leaving = |plan: &AddressPlan| AddressPlan {
                priority: plan.priority.min(LEAVING),
                claim: false,
                ..plan.clone()
            };
            keeper.set(known.plans.iter().map(|(name, plan)| (name.clone(), leaving(plan))).collect());
            keeper
        };
        let mut views = keeper.watch();
        let is_relieved = views.wait_for(|views| views.values().all(|view| view.stance != Stance::Active));
        let _ = tokio::time::timeout(LEAVES_WITHIN, is_relieved).await;
        keeper.stop().await;
    }

    /// Ends without giving the addresses away: the service that follows holds them already.
    pub(crate) async fn hand_over(&self) {
        let keeper = {
            let mut known = self.known();
            known.leaves = true;
            known.keeper.take()
        };
        if let Some(keeper) = keeper {
            keeper.hand_over().await;
        }
    }
}

fn stored((kind, name): (PlanKind, &str), known: &KnownOrder) -> StoredPlan {
    let body = known.order.as_ref().map(|order| serde_json::to_value(order).expect("an order is JSON"));
    StoredPlan { kind, name: name.to_owned(), number: known.number, body }
}

/// An order that stands, and how it ends.
fn order_in_words(kind: PlanKind, name: &str, order: &StandingOrder) -> String {
    let StandingOrder { word, to, reason, who, at } = order;
    // To the second.
    let at = Wall(at.0 / 1_000 * 1_000).to_string().replace(".000Z", "Z");
    let why = if reason.is_empty() { String::new() } else { format!(": {reason}") };
    let by = format!("by {who} at {at}{why}");
    match (kind, word, to) {
        (PlanKind::Node, ..) => {
            format!("node {name} is drained of its addresses, {by}. `merismos node return {name}` ends that")
        }
        (_, OrderWord::Move, Some(to)) => {
            format!("address {name} was moved to node {to}, {by}. `merismos address return {name}` ends that")
        }
        _ => format!("address {name} is held where it is, {by}. `merismos address return {name}` ends that"),
    }
}

/// What this node is worth for an address; nothing when the document does not name it.
fn plan(
    name: &Name,
    spec: &AddressSpec,
    own: &Name,
    lost: usize,
    of_address: Option<&StandingOrder>,
    of_node: Option<&StandingOrder>,
) -> Option<AddressPlan> {
    let listed = listed_priority(name, own, &spec.nodes)?;
    let loss = u8::try_from(lost * usize::from(spec.pool_loss)).unwrap_or(u8::MAX);
    let able = listed.saturating_sub(loss).max(LEAST);
    let is_drained = of_node.is_some_and(|order| order.word == OrderWord::Drain);
    let is_claimed =
        of_address.is_some_and(|order| order.word == OrderWord::Move && order.to.as_ref() == Some(own));
    let priority = match (is_drained, is_claimed) {
        (true, _) => LEAVING,
        (false, true) => CLAIMED,
        (false, false) => able,
    };
    let is_held = of_address.is_some_and(|order| order.word == OrderWord::Hold);
    Some(AddressPlan {
        interface: spec.interface.clone(),
        router_id: spec.router_id,
        addresses: spec.addresses.clone(),
        interval: WholeInterval::nearest(spec.advertisement_interval.get()),
        peers: spec.peers.clone(),
        checksum: spec.checksum,
        priority,
        preemption: if is_held { Preemption::ByHand } else { spec.preemption() },
        claim: is_claimed && !is_drained,
    })
}

fn lasts(since: SystemTime) -> bool {
    since.elapsed().is_ok_and(|age| age >= LASTS)
}

/// A moment of the system's clock.
pub(crate) fn wall_of(at: SystemTime) -> Wall {
    let since = at.duration_since(UNIX_EPOCH).unwrap_or_default();
    Wall(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}

#[cfg(test)]
mod tests {
    use merismos_core::config::{DocumentFormat, load};
    use rstest::rstest;

    use super::*;

    fn spec() -> AddressSpec {
        let text = "format = 3\n[addresses.front]\naddresses = [\"192.0.2.10\"]\ninterface = \"eth0\"\nrouter_id = 10\n\
                    nodes = { north = 200, south = 100 }\npreemption = \"after-delay\"\n";
        let checked = load(text, DocumentFormat::Toml).unwrap();
        checked.document().addresses[&name("front")].clone()
    }

    fn name(text: &str) -> Name {
        text.parse().unwrap()
    }

    fn order(word: OrderWord, to: Option<&str>) -> StandingOrder {
        StandingOrder { word, to: to.map(name), reason: String::new(), who: "admin".to_owned(), at: Wall(0) }
    }

    #[rstest]
    #[case::as_listed("north", 0, None, None, 200)]
    #[case::a_pool_is_lost("north", 1, None, None, 150)]
    #[case::all_are_lost("south", 9, None, None, LEAST)]
    #[case::moved_here("south", 9, Some(order(OrderWord::Move, Some("south"))), None, CLAIMED)]
    #[case::moved_elsewhere("north", 0, Some(order(OrderWord::Move, Some("south"))), None, 200)]
    #[case::drained("north", 0, None, Some(order(OrderWord::Drain, None)), LEAVING)]
    #[case::moved_here_and_drained(
        "south",
        0,
        Some(order(OrderWord::Move, Some("south"))),
        Some(order(OrderWord::Drain, None)),
        LEAVING
    )]
    fn a_node_is_worth(
        #[case] own: &str,
        #[case] lost: usize,
        #[case] of_address: Option<StandingOrder>,
        #[case] of_node: Option<StandingOrder>,
        #[case] priority: u8,
    ) {
        let plan =
            plan(&name("front"), &spec(), &name(own), lost, of_address.as_ref(), of_node.as_ref()).unwrap();
        assert_eq!(plan.priority, priority);
        assert_eq!(plan.claim, priority == CLAIMED);
        assert_eq!(plan.preemption, Preemption::After(Duration::from_secs(300)));
    }

    #[test]
    fn an_address_that_is_held_is_taken_by_none_that_is_worth_more() {
        let held = order(OrderWord::Hold, None);
        let plan = plan(&name("front"), &spec(), &name("north"), 0, Some(&held), None).unwrap();
        assert_eq!((plan.priority, plan.preemption), (200, Preemption::ByHand));
    }

    #[test]
    fn a_node_that_is_not_named_takes_no_part() {
        assert_eq!(plan(&name("front"), &spec(), &name("east"), 0, None, None), None);
    }
}
