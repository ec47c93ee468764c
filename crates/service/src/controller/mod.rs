//! The controller: one task that owns the state. Others send it commands and subscribe to what it publishes.
//!
//! Nothing here waits for the database or the disk: commands change what is in memory and publish it, and those
//! who sent them see to the records.

mod addresses;
mod drains;
mod duties;
mod explain;
mod history;
mod limits;
mod lookups;
mod moves;
mod notify;
mod passive_health;
mod pins;
mod publisher;
mod rates;
mod reconcile;
mod refusals;
mod rolls;
mod rules;
mod server_records;
mod slow_start;
mod state;
mod status;
mod upgrade;
mod windows;

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::clock::{GrowingNumbers, wall};
use crate::pin_keeper::KeptTables;
use crate::rule_uses::LastMet;
use crate::upgrade::{Following, HandedTotals, UpgradeReport, WorkAct};
use ipnet::IpNet;
use merismos_api::{
    DrainProgress, ExplainResponse, Limits, PinQuery, Pins, Probes, Refusals, RollVerb, RollView, Rolls,
    RuleCounts, ServerStatus, Status, Windows, WorkReport,
};
use merismos_core::config::Checked;
use merismos_core::config::discovery::DiscoveredServers;
use merismos_core::config::document::ClientCertificates;
use merismos_core::duty::{Duty, DutyOrder};
use merismos_core::eligibility::ServerStates;
use merismos_core::health::{HealthState, ServerFeedback};
use merismos_core::name::{Name, PoolServer};
use merismos_core::nodes::LeavingServer;
use merismos_core::pins::PinKey;
use merismos_core::routing::{Frontend, Snapshot};
use merismos_core::time::Wall;
use merismos_core::vrrp::StandingOrder;
use merismos_core::window::Window;
use merismos_plane::observer::Observations;
use merismos_plane::{BindError, BoundSockets, HandedSocket, Queued};
use merismos_probe::ProbeReport;
use merismos_probe::lookup::LookupReport;
use merismos_store::Revision;
use merismos_store::plans::{PlanKind, StoredPlan};
use merismos_store::state_snapshot::StateSnapshot;
use tokio::sync::{broadcast, mpsc, oneshot, watch};

pub(crate) use duties::{DutyAct, DutyError, FollowedAct, FollowedOrder};
pub(crate) use rolls::{RollBookError, RollStart};
pub(crate) use slow_start::FailbackError;
pub(crate) use state::{ControllerStart, ControllerState};
use upgrade::FollowedPredecessor;
pub(crate) use upgrade::HandedWork;
pub(crate) use windows::{TIMES, WindowBookError, WindowGround};

/// How often rates are sampled and watchers get the status.
const SECOND: Duration = Duration::from_secs(1);

/// What runs, to weigh a change against.
#[derive(Clone, Debug)]
pub(crate) struct RunningView {
    /// The running revision; `None` before the first.
    pub(crate) revision: Option<Arc<Revision>>,
    pub(crate) checked: Checked,
    /// Its document with the servers that lookups found.
    pub(crate) effective: Checked,
    pub(crate) found: DiscoveredServers,
    /// The two other truths of each server.
    pub(crate) facts: StatesSnapshot,
    /// Every order that stands.
    pub(crate) orders: BTreeMap<PoolServer, DutyOrder>,
    /// Numbers for orders that go with a revision.
    pub(crate) order_numbers: Arc<GrowingNumbers>,
    /// What workers read, with the counts of what is in flight.
    pub(crate) snapshot: Arc<Snapshot>,
}

impl RunningView {
    /// The running revision's number; 0 before the first.
    pub(crate) fn number(&self) -> u64 {
        self.revision.as_ref().map_or(0, |revision| revision.number)
    }
}

/// A revision that was committed, on its way to run.
#[derive(Debug)]
pub(crate) struct RevisionChange {
    pub(crate) revision: Revision,
    pub(crate) checked: Checked,
    /// The sockets of frontends that it adds.
    pub(crate) bound: Vec<BoundSockets>,
    /// Servers that join with an order.
    pub(crate) joining: BTreeMap<PoolServer, DutyOrder>,
    /// Whether another node made it, which recorded that already.
    pub(crate) is_followed: bool,
}

impl RevisionChange {
    /// A revision whose servers join as they are.
    pub(crate) fn new(revision: Revision, checked: Checked, bound: Vec<BoundSockets>) -> Self {
        Self { revision, checked, bound, joining: BTreeMap::new(), is_followed: false }
    }
}

/// Duty, health and feedback of servers at one moment; those that are not named are in service and up.
#[derive(Clone, Debug)]
pub(crate) struct StatesSnapshot {
    servers: BTreeMap<PoolServer, (Duty, HealthState, Option<ServerFeedback>)>,
    /// The tiers that work is bound to.
    tiers: BTreeMap<Name, u8>,
}

impl StatesSnapshot {
    /// What would be if a server were withdrawn.
    pub(crate) fn withdraw(&mut self, server: PoolServer) {
        self.servers.entry(server).or_insert((Duty::InService, HealthState::Up, None)).0 = Duty::Withdrawn;
    }
}

impl ServerStates for StatesSnapshot {
    fn duty(&self, server: &PoolServer) -> Duty {
        self.servers.get(server).map(|(duty, ..)| *duty).unwrap_or_default()
    }

    fn health(&self, server: &PoolServer) -> HealthState {
        self.servers.get(server).map_or(HealthState::Up, |(_, health, _)| *health)
    }

    fn feedback(&self, server: &PoolServer) -> Option<ServerFeedback> {
        self.servers.get(server).and_then(|(.., feedback)| *feedback)
    }

    fn held_tier(&self, pool: &Name) -> Option<u8> {
        self.tiers.get(pool).copied()
    }
}

/// Which pools' servers a status shows one by one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum StatusDetail {
    /// Every pool with all of its servers.
    All,
    /// All of them unless there are very many, and this pool's in any case.
    Short(Option<Name>),
}

/// What a trial needs to know of its frontend.
#[derive(Debug)]
pub(crate) struct TrialTarget {
    pub(crate) address: std::net::SocketAddr,
    pub(crate) frontend: Arc<Frontend>,
    /// The name that its clients usually ask for, when they speak TLS.
    pub(crate) tls_name: Option<String>,
    /// Whether its clients may or have to show certificates.
    pub(crate) client_certificates: Option<ClientCertificates>,
    /// Where its clients come from.
    pub(crate) from: IpNet,
    /// Why the shares say nothing, where they don't.
    pub(crate) unjudged: Option<String>,
    /// Who has its address, where that is not this node: such as `node south holds it`.
    pub(crate) away: Option<String>,
    pub(crate) sightings: Observations,
    pub(crate) snapshot: Arc<Snapshot>,
    pub(crate) published: broadcast::Receiver<Arc<Snapshot>>,
}

/// What other nodes want to know of the servers here.
#[derive(Debug)]
pub(crate) struct ServersReport {
    /// Those that are down.
    pub(crate) down: Vec<PoolServer>,
    /// How far those are that operators took out of service.
    pub(crate) out: BTreeMap<PoolServer, LeavingServer>,
}

/// A pool that is not there.
#[derive(Debug, thiserror::Error)]
#[error("there is no pool {0}")]
pub(crate) struct UnknownPool(pub(crate) Name);

/// A name that leads nowhere.
#[derive(Debug, thiserror::Error)]
#[error("there is no frontend {0}")]
pub(crate) struct UnknownFrontend(pub(crate) Name);

/// A hypothetical request, of which is asked where it would go.
#[derive(Clone, Debug)]
pub(crate) struct HypotheticalRequest {
    pub(crate) client: IpAddr,
    pub(crate) method: Option<String>,
    pub(crate) path: Option<String>,
    pub(crate) host: Option<String>,
    /// The server name that a TLS client asks for.
    pub(crate) sni: Option<String>,
    /// What a TCP client sends first.
    pub(crate) first_bytes: Option<String>,
    /// Fields by their names in lower case.
    pub(crate) fields: Vec<(String, String)>,
    /// The server that its connection was assigned to before.
    pub(crate) connection: Option<PoolServer>,
}

/// What the controller is asked to do.
#[derive(Debug)]
enum ControllerCommand {
    View {
        reply: oneshot::Sender<Box<RunningView>>,
    },
    Bind {
        checked: Box<Checked>,
        reply: oneshot::Sender<Result<Vec<BoundSockets>, BindError>>,
    },
    Run {
        change: Box<RevisionChange>,
        reply: oneshot::Sender<Instant>,
    },
    Act {
        act: Box<DutyAct>,
        reply: oneshot::Sender<Result<FollowedAct, DutyError>>,
    },
    Servers {
        servers: Vec<PoolServer>,
        reply: oneshot::Sender<Vec<Option<ServerStatus>>>,
    },
    Drains {
        reply: oneshot::Sender<Vec<DrainProgress>>,
    },
    Pins {
        pool: Name,
        query: PinQuery,
        reply: oneshot::Sender<Result<Pins, UnknownPool>>,
    },
    RemovePins {
        pool: Name,
        query: PinQuery,
        reply: oneshot::Sender<Result<u64, UnknownPool>>,
    },
    ServersReport {
        reply: oneshot::Sender<ServersReport>,
    },
    AdoptOrders {
        orders: Vec<(PoolServer, DutyOrder)>,
        reply: oneshot::Sender<()>,
    },
    WindowGround {
        name: Name,
        reply: oneshot::Sender<Box<WindowGround>>,
    },
    PutWindow {
        name: Name,
        window: Box<Window>,
        reply: oneshot::Sender<Result<bool, WindowBookError>>,
    },
    RemoveWindow {
        name: Name,
        who: String,
        reply: oneshot::Sender<Result<Vec<PoolServer>, WindowBookError>>,
    },
    Windows {
        length: Duration,
        reply: oneshot::Sender<Windows>,
    },
    BeginRoll {
        start: Box<RollStart>,
        reply: oneshot::Sender<Result<RollView, RollBookError>>,
    },
    OrderRoll {
        id: u64,
        verb: RollVerb,
        reason: Option<String>,
        who: String,
        reply: oneshot::Sender<Result<RollView, RollBookError>>,
    },
    ReportWork {
        id: u64,
        report: WorkReport,
        who: String,
        reply: oneshot::Sender<Result<RollView, RollBookError>>,
    },
    Roll {
        id: u64,
        reply: oneshot::Sender<Result<RollView, RollBookError>>,
    },
    Rolls {
        reply: oneshot::Sender<Rolls>,
    },
    AdoptPlans {
        plans: Vec<StoredPlan>,
        reply: oneshot::Sender<()>,
    },
    OrderAddress {
        of: (PlanKind, String),
        order: Option<StandingOrder>,
        reply: oneshot::Sender<()>,
    },
    Status {
        detail: StatusDetail,
        reply: oneshot::Sender<Status>,
    },
    Limits {
        reply: oneshot::Sender<Limits>,
    },
    RuleCounts {
        frontend: Name,
        reply: oneshot::Sender<Result<RuleCounts, UnknownFrontend>>,
    },
    Refusals {
        frontend: Name,
        reply: oneshot::Sender<Result<Refusals, UnknownFrontend>>,
    },
    RuleLasts {
        reply: oneshot::Sender<Vec<LastMet>>,
    },
    Explain {
        frontend: Name,
        imagined: HypotheticalRequest,
        reply: oneshot::Sender<Result<ExplainResponse, UnknownFrontend>>,
    },
    Probes {
        server: PoolServer,
        reply: oneshot::Sender<Option<Probes>>,
    },
    Watch {
        frontend: Name,
        from: Option<IpNet>,
        to: Option<String>,
        capacity: usize,
        reply: oneshot::Sender<Result<TrialTarget, UnknownFrontend>>,
    },
    FailBack {
        pool: Name,
        who: String,
        reply: oneshot::Sender<Result<u8, FailbackError>>,
    },
    ResetTotals {
        reply: oneshot::Sender<Wall>,
    },
    Copy {
        reply: oneshot::Sender<StateSnapshot>,
    },
    /// Nothing is changed any more.
    BeginToStop {
        reply: oneshot::Sender<()>,
    },
    /// Everything goes on as before.
    GoOn {
        reply: oneshot::Sender<()>,
    },
    Stop {
        grace: Duration,
        queued: Queued,
        reply: oneshot::Sender<usize>,
    },
    /// What a successor needs, now or while work is finished here.
    HandedWork {
        pins_since: Option<u32>,
        reply: oneshot::Sender<HandedWork>,
    },
    SignPins {
        key: Box<PinKey>,
        reply: oneshot::Sender<()>,
    },
    SpeakTls {
        reply: oneshot::Sender<()>,
    },
    KeptPins {
        reply: oneshot::Sender<KeptTables>,
    },
    Sockets {
        reply: oneshot::Sender<Vec<HandedSocket>>,
    },
    /// What a successor wants done.
    WorkAct {
        act: WorkAct,
        server: String,
    },
    InheritTotals {
        totals: Box<HandedTotals>,
        work: Box<UpgradeReport>,
        follows: FollowedPredecessor,
    },
    InheritWork {
        report: Box<UpgradeReport>,
    },
    EndPredecessor,
}

impl ControllerCommand {
    /// Whether it changes anything.
    fn changes(&self) -> bool {
        match self {
            Self::Bind { .. }
            | Self::Run { .. }
            | Self::Act { .. }
            | Self::AdoptOrders { .. }
            | Self::PutWindow { .. }
            | Self::RemoveWindow { .. }
            | Self::BeginRoll { .. }
            | Self::OrderRoll { .. }
            | Self::ReportWork { .. }
            | Self::AdoptPlans { .. }
            | Self::OrderAddress { .. }
            | Self::SignPins { .. }
            | Self::FailBack { .. } => true,
            Self::View { .. }
            | Self::SpeakTls { .. }
            | Self::Status { .. }
            | Self::Servers { .. }
            | Self::Drains { .. }
            | Self::ServersReport { .. }
            | Self::Pins { .. }
            | Self::WindowGround { .. }
            | Self::Windows { .. }
            | Self::Roll { .. }
            | Self::Rolls { .. }
            | Self::RemovePins { .. }
            | Self::Explain { .. }
            | Self::RuleCounts { .. }
            | Self::Refusals { .. }
            | Self::RuleLasts { .. }
            | Self::Limits { .. }
            | Self::Probes { .. }
            | Self::Watch { .. }
            | Self::ResetTotals { .. }
            | Self::Copy { .. }
            | Self::BeginToStop { .. }
            | Self::GoOn { .. }
            | Self::HandedWork { .. }
            | Self::KeptPins { .. }
            | Self::Sockets { .. }
            | Self::WorkAct { .. }
            | Self::InheritTotals { .. }
            | Self::InheritWork { .. }
            | Self::EndPredecessor
            | Self::Stop { .. } => false,
        }
    }
}

/// The way to the controller. It ends with the service, so an answer that never comes means that the service stops.
#[derive(Clone, Debug)]
pub(crate) struct Controller {
    commands: mpsc::Sender<ControllerCommand>,
    readiness: watch::Receiver<Readiness>,
}

/// Whether clients can be sent here.
#[derive(Clone, Copy, Debug)]
struct Readiness {
    is_ready: bool,
    at: Instant,
    /// The revision that runs; 0 before the first.
    revision: u64,
}

/// How old an answer about readiness may be: the controller gives a new one each second, unless it hangs.
const READINESS_LASTS: Duration = Duration::from_secs(5);

/// The service is stopping and takes no more commands.
#[derive(Debug, thiserror::Error)]
#[error("the service is stopping")]
pub(crate) struct Stopping;

impl Controller {
    /// Starts the controller with what is known, and with the channels on which probes and lookups report.
    pub(crate) fn start(
        state: ControllerState,
        reports: mpsc::Receiver<ProbeReport>,
        lookups: mpsc::Receiver<LookupReport>,
    ) -> Self {
        let (commands, received) = mpsc::channel(64);
        let (ready, readiness) =
            watch::channel(Readiness { is_ready: false, at: Instant::now(), revision: 0 });
        tokio::spawn(serve(state, received, reports, lookups, ready));
        Self { commands, readiness }
    }

    /// Whether clients can be sent here: a revision runs, each of its frontends listens, and it is not about to stop.
    pub(crate) fn is_ready(&self) -> bool {
        let Readiness { is_ready, at, .. } = *self.readiness.borrow();
        is_ready && at.elapsed() < READINESS_LASTS
    }

    /// The number of the revision that runs; 0 before the first. Never waits.
    pub(crate) fn running_number(&self) -> u64 {
        self.readiness.borrow().revision
    }

    async fn ask<T>(
        &self,
        command: impl FnOnce(oneshot::Sender<T>) -> ControllerCommand,
    ) -> Result<T, Stopping> {
        let (reply, answer) = oneshot::channel();
        self.commands.send(command(reply)).await.map_err(|_| Stopping)?;
        answer.await.map_err(|_| Stopping)
    }

    pub(crate) async fn view(&self) -> Result<RunningView, Stopping> {
        self.ask(|reply| ControllerCommand::View { reply }).await.map(|view| *view)
    }

    /// Binds what a document listens on and the running one does not.
    pub(crate) async fn bind(
        &self,
        checked: Checked,
    ) -> Result<Result<Vec<BoundSockets>, BindError>, Stopping> {
        self.ask(|reply| ControllerCommand::Bind { checked: Box::new(checked), reply }).await
    }

    /// Runs a revision that was committed; gives the moment from which on every worker reads it.
    pub(crate) async fn run(&self, change: RevisionChange) -> Result<Instant, Stopping> {
        self.ask(|reply| ControllerCommand::Run { change: Box::new(change), reply }).await
    }

    /// Follows an order for all of its servers, or for none.
    pub(crate) async fn act(&self, act: DutyAct) -> Result<Result<FollowedAct, DutyError>, Stopping> {
        self.ask(|reply| ControllerCommand::Act { act: Box::new(act), reply }).await
    }

    /// The status of these servers; `None` of one that is not there.
    pub(crate) async fn servers(
        &self,
        servers: Vec<PoolServer>,
    ) -> Result<Vec<Option<ServerStatus>>, Stopping> {
        self.ask(|reply| ControllerCommand::Servers { servers, reply }).await
    }

    /// The pins of a pool that a query means.
    pub(crate) async fn pins(
        &self,
        pool: Name,
        query: PinQuery,
    ) -> Result<Result<Pins, UnknownPool>, Stopping> {
        self.ask(|reply| ControllerCommand::Pins { pool, query, reply }).await
    }

    /// Removes the pins of a pool that a query means; gives their number.
    pub(crate) async fn remove_pins(
        &self,
        pool: Name,
        query: PinQuery,
    ) -> Result<Result<u64, UnknownPool>, Stopping> {
        self.ask(|reply| ControllerCommand::RemovePins { pool, query, reply }).await
    }

    /// Every server that operators took out of service.
    pub(crate) async fn drains(&self) -> Result<Vec<DrainProgress>, Stopping> {
        self.ask(|reply| ControllerCommand::Drains { reply }).await
    }

    /// What other nodes want to know of the servers here.
    pub(crate) async fn servers_report(&self) -> Result<ServersReport, Stopping> {
        self.ask(|reply| ControllerCommand::ServersReport { reply }).await
    }

    /// Follows those orders that are later than what is known here.
    pub(crate) async fn adopt_orders(&self, orders: Vec<(PoolServer, DutyOrder)>) -> Result<(), Stopping> {
        self.ask(|reply| ControllerCommand::AdoptOrders { orders, reply }).await
    }

    /// What a plan for a window of this name is weighed against.
    pub(crate) async fn window_ground(&self, name: Name) -> Result<WindowGround, Stopping> {
        self.ask(|reply| ControllerCommand::WindowGround { name, reply }).await.map(|ground| *ground)
    }

    /// Plans a window, or plans it anew; gives whether that changed anything.
    pub(crate) async fn put_window(
        &self,
        name: Name,
        window: Window,
    ) -> Result<Result<bool, WindowBookError>, Stopping> {
        let window = Box::new(window);
        self.ask(|reply| ControllerCommand::PutWindow { name, window, reply }).await
    }

    /// Removes a window; gives the servers that it holds until its end.
    pub(crate) async fn remove_window(
        &self,
        name: Name,
        who: String,
    ) -> Result<Result<Vec<PoolServer>, WindowBookError>, Stopping> {
        self.ask(|reply| ControllerCommand::RemoveWindow { name, who, reply }).await
    }

    /// Every window, with its times so long ahead.
    pub(crate) async fn windows(&self, length: Duration) -> Result<Windows, Stopping> {
        self.ask(|reply| ControllerCommand::Windows { length, reply }).await
    }

    /// Begins a roll, or says how it would begin.
    pub(crate) async fn begin_roll(
        &self,
        start: RollStart,
    ) -> Result<Result<RollView, RollBookError>, Stopping> {
        self.ask(|reply| ControllerCommand::BeginRoll { start: Box::new(start), reply }).await
    }

    /// Has a roll pause, go on or end.
    pub(crate) async fn order_roll(
        &self,
        id: u64,
        verb: RollVerb,
        reason: Option<String>,
        who: String,
    ) -> Result<Result<RollView, RollBookError>, Stopping> {
        self.ask(|reply| ControllerCommand::OrderRoll { id, verb, reason, who, reply }).await
    }

    /// Takes a report of the work on a server of a roll.
    pub(crate) async fn report_work(
        &self,
        id: u64,
        report: WorkReport,
        who: String,
    ) -> Result<Result<RollView, RollBookError>, Stopping> {
        self.ask(|reply| ControllerCommand::ReportWork { id, report, who, reply }).await
    }

    /// One roll.
    pub(crate) async fn roll(&self, id: u64) -> Result<Result<RollView, RollBookError>, Stopping> {
        self.ask(|reply| ControllerCommand::Roll { id, reply }).await
    }

    /// Every roll, the newest first.
    pub(crate) async fn rolls(&self) -> Result<Rolls, Stopping> {
        self.ask(|reply| ControllerCommand::Rolls { reply }).await
    }

    /// Keeps an order for an address or a node, or that it was taken back.
    pub(crate) async fn order_address(
        &self,
        of: (PlanKind, String),
        order: Option<StandingOrder>,
    ) -> Result<(), Stopping> {
        self.ask(|reply| ControllerCommand::OrderAddress { of, order, reply }).await
    }

    /// Follows those plans that are later than what is known here.
    pub(crate) async fn adopt_plans(&self, plans: Vec<StoredPlan>) -> Result<(), Stopping> {
        self.ask(|reply| ControllerCommand::AdoptPlans { plans, reply }).await
    }

    pub(crate) async fn status(&self, detail: StatusDetail) -> Result<Status, Stopping> {
        self.ask(|reply| ControllerCommand::Status { detail, reply }).await
    }

    /// Which server a request would go to.
    pub(crate) async fn explain(
        &self,
        frontend: Name,
        imagined: HypotheticalRequest,
    ) -> Result<Result<ExplainResponse, UnknownFrontend>, Stopping> {
        self.ask(|reply| ControllerCommand::Explain { frontend, imagined, reply }).await
    }

    /// The rules of a frontend with what they counted.
    pub(crate) async fn rule_counts(
        &self,
        frontend: Name,
    ) -> Result<Result<RuleCounts, UnknownFrontend>, Stopping> {
        self.ask(|reply| ControllerCommand::RuleCounts { frontend, reply }).await
    }

    /// Whom a frontend refused.
    pub(crate) async fn refusals(
        &self,
        frontend: Name,
    ) -> Result<Result<Refusals, UnknownFrontend>, Stopping> {
        self.ask(|reply| ControllerCommand::Refusals { frontend, reply }).await
    }

    /// Every rule of every frontend, with when the last request met it since the start.
    pub(crate) async fn rule_lasts(&self) -> Result<Vec<LastMet>, Stopping> {
        self.ask(|reply| ControllerCommand::RuleLasts { reply }).await
    }

    /// The limits of clients with what they did.
    pub(crate) async fn limits(&self) -> Result<Limits, Stopping> {
        self.ask(|reply| ControllerCommand::Limits { reply }).await
    }

    /// The last probes of a server.
    pub(crate) async fn probes(&self, server: PoolServer) -> Result<Option<Probes>, Stopping> {
        self.ask(|reply| ControllerCommand::Probes { server, reply }).await
    }

    /// Sends the work of a pool back to its lowest tier that can; gives that tier.
    pub(crate) async fn fail_back(
        &self,
        pool: Name,
        who: String,
    ) -> Result<Result<u8, FailbackError>, Stopping> {
        self.ask(|reply| ControllerCommand::FailBack { pool, who, reply }).await
    }

    /// Counts totals anew from now on, beside those since the start; gives the moment.
    pub(crate) async fn reset_totals(&self) -> Result<Wall, Stopping> {
        self.ask(|reply| ControllerCommand::ResetTotals { reply }).await
    }

    /// Prepares a trial of a frontend.
    pub(crate) async fn watch(
        &self,
        frontend: Name,
        from: Option<IpNet>,
        to: Option<String>,
        capacity: usize,
    ) -> Result<Result<TrialTarget, UnknownFrontend>, Stopping> {
        self.ask(|reply| ControllerCommand::Watch { frontend, from, to, capacity, reply }).await
    }

    /// What the copy file should hold now; its tokens are not the controller's to know.
    pub(crate) async fn copy(&self) -> Result<StateSnapshot, Stopping> {
        self.ask(|reply| ControllerCommand::Copy { reply }).await
    }

    /// Refuses all changes from now on; what only looks is answered on.
    pub(crate) async fn begin_to_stop(&self) {
        let _ = self.ask(|reply| ControllerCommand::BeginToStop { reply }).await;
    }

    /// Takes back that the service is to stop.
    pub(crate) async fn go_on(&self) {
        let _ = self.ask(|reply| ControllerCommand::GoOn { reply }).await;
    }

    /// Stops traffic; gives the number of connections that were broken off at the end of the grace period.
    pub(crate) async fn stop(&self, grace: Duration, queued: Queued) -> Result<usize, Stopping> {
        self.ask(|reply| ControllerCommand::Stop { grace, queued, reply }).await
    }

    /// What a successor needs to know of the work here, with the pins that were made or used at a second or later; by default all.
    pub(crate) async fn work(&self, pins_since: Option<u32>) -> Result<HandedWork, Stopping> {
        self.ask(|reply| ControllerCommand::HandedWork { pins_since, reply }).await
    }

    /// Cookies that tie clients are signed with this key from now on.
    pub(crate) async fn sign_pins(&self, key: PinKey) -> Result<(), Stopping> {
        self.ask(|reply| ControllerCommand::SignPins { key: Box::new(key), reply }).await
    }

    /// Frontends speak by the certificates that were read last.
    pub(crate) async fn speak_tls(&self) -> Result<(), Stopping> {
        self.ask(|reply| ControllerCommand::SpeakTls { reply }).await
    }

    /// The tables of pins that outlive the service.
    pub(crate) async fn kept_pins(&self) -> Result<KeptTables, Stopping> {
        self.ask(|reply| ControllerCommand::KeptPins { reply }).await
    }

    /// Copies of all sockets that frontends listen with.
    pub(crate) async fn sockets(&self) -> Result<Vec<HandedSocket>, Stopping> {
        self.ask(|reply| ControllerCommand::Sockets { reply }).await
    }

    /// Does what a successor says to the work at a server, by its `pool/server address`.
    pub(crate) async fn work_act(&self, act: WorkAct, server: String) {
        // A controller that has ended has no work.
        let _ = self.commands.send(ControllerCommand::WorkAct { act, server }).await;
    }

    /// Goes on counting where the service before this one stopped, and has it do what is done here, until `reports` end.
    pub(crate) async fn follow(&self, totals: HandedTotals, work: UpgradeReport, mut from: Following) {
        let (totals, work, since) = (Box::new(totals), Box::new(work), wall());
        let until = Wall(since.0.saturating_add(i64::try_from(from.within.as_millis()).unwrap_or(i64::MAX)));
        let follows = FollowedPredecessor { process: from.process, since, until, acts: from.acts };
        let _ = self.commands.send(ControllerCommand::InheritTotals { totals, work, follows }).await;
        let commands = self.commands.clone();
        tokio::spawn(async move {
            while let Some(report) = from.reports.recv().await {
                let _ = commands.send(ControllerCommand::InheritWork { report: Box::new(report) }).await;
            }
            let _ = commands.send(ControllerCommand::EndPredecessor).await;
        });
    }
}

async fn serve(
    mut state: ControllerState,
    mut commands: mpsc::Receiver<ControllerCommand>,
    mut reports: mpsc::Receiver<ProbeReport>,
    mut lookups: mpsc::Receiver<LookupReport>,
    ready: watch::Sender<Readiness>,
) {
    let tell_ready = |state: &ControllerState| {
        let (at, revision) = (Instant::now(), state.running_number());
        let _ = ready.send_replace(Readiness { is_ready: state.is_ready(), at, revision });
    };
    let mut seconds = tokio::time::interval(SECOND);
    seconds.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut beats = tokio::time::interval(slow_start::BEAT);
    beats.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            command = commands.recv() => match command {
                Some(ControllerCommand::Sockets { reply }) => {
                    let sockets = state.publisher.plane.sockets();
                    tokio::spawn(async move {
                        let _ = reply.send(sockets.await);
                    });
                }
                Some(ControllerCommand::Stop { grace, queued, reply }) => {
                    // Those who look are answered while work in flight finishes.
                    let stopping = state.stop(grace, queued);
                    tokio::spawn(async move {
                        let _ = reply.send(stopping.await);
                    });
                }
                Some(command) => {
                    let may_matter = command.changes() || matches!(command, ControllerCommand::BeginToStop { .. } | ControllerCommand::GoOn { .. });
                    obey(&mut state, command);
                    if may_matter {
                        tell_ready(&state);
                    }
                }
                None => return,
            },
            Some(report) = reports.recv() => {
                // Whatever waits is taken together, so that a rack going down costs one snapshot.
                let mut touched = BTreeSet::new();
                touched.extend(state.on_report(report));
                while let Ok(report) = reports.try_recv() {
                    touched.extend(state.on_report(report));
                }
                if !touched.is_empty() {
                    state.publish_pools(&touched);
                    tell_status(&state);
                }
            }
            Some(report) = lookups.recv() => {
                state.on_lookup(report);
                tell_status(&state);
            }
            _ = beats.tick() => state.on_beat(),
            _ = seconds.tick() => {
                state.on_second();
                tell_ready(&state);
                tell_status(&state);
            }
        }
    }
}

fn tell_status(state: &ControllerState) {
    if state.reports.journal.is_status_watched() {
        state.reports.journal.tell_status(Box::new(state.status(&StatusDetail::Short(None))));
    }
}

/// Carries a command out. A caller that went away meanwhile gets no answer; what was done stays done.
fn obey(state: &mut ControllerState, command: ControllerCommand) {
    if state.stopping && command.changes() {
        // Its sender learns that the service stops, for the way of the answer ends here.
        return;
    }
    match command {
        ControllerCommand::View { reply } => drop(reply.send(Box::new(state.view()))),
        ControllerCommand::Bind { checked, reply } => drop(reply.send(state.bind(&checked))),
        ControllerCommand::Run { change, reply } => {
            let published = state.run(*change);
            let _ = reply.send(published);
            tell_status(state);
        }
        ControllerCommand::Act { act, reply } => {
            let done = state.act(*act);
            tell_status(state);
            drop(reply.send(done));
        }
        ControllerCommand::Servers { servers, reply } => drop(reply.send(state.server_statuses(&servers))),
        ControllerCommand::Drains { reply } => drop(reply.send(state.drains())),
        ControllerCommand::ServersReport { reply } => drop(reply.send(state.servers_report())),
        ControllerCommand::Pins { pool, query, reply } => drop(reply.send(state.pins(&pool, &query))),
        ControllerCommand::RemovePins { pool, query, reply } => {
            drop(reply.send(state.remove_pins(&pool, &query)));
        }
        ControllerCommand::AdoptOrders { orders, reply } => {
            state.adopt_orders(orders);
            let _ = reply.send(());
        }
        ControllerCommand::WindowGround { name, reply } => {
            drop(reply.send(Box::new(state.window_ground(&name))));
        }
        ControllerCommand::PutWindow { name, window, reply } => {
            drop(reply.send(state.put_window(&name, *window)));
        }
        ControllerCommand::RemoveWindow { name, who, reply } => {
            drop(reply.send(state.remove_window(&name, &who)));
        }
        ControllerCommand::Windows { length, reply } => drop(reply.send(state.windows(length))),
        ControllerCommand::BeginRoll { start, reply } => {
            let begun = state.begin_roll(*start);
            tell_status(state);
            drop(reply.send(begun));
        }
        ControllerCommand::OrderRoll { id, verb, reason, who, reply } => {
            let done = state.order_roll(id, verb, reason, &who);
            tell_status(state);
            drop(reply.send(done));
        }
        ControllerCommand::ReportWork { id, report, who, reply } => {
            let done = state.report_work(id, report, &who);
            tell_status(state);
            drop(reply.send(done));
        }
        ControllerCommand::Roll { id, reply } => drop(reply.send(state.roll(id))),
        ControllerCommand::Rolls { reply } => drop(reply.send(state.rolls())),
        ControllerCommand::OrderAddress { of, order, reply } => {
            state.order_address(of, order);
            tell_status(state);
            let _ = reply.send(());
        }
        ControllerCommand::AdoptPlans { plans, reply } => {
            state.adopt_plans(&plans);
            let _ = reply.send(());
        }
        ControllerCommand::Status { detail, reply } => drop(reply.send(state.status(&detail))),
        ControllerCommand::Refusals { frontend, reply } => drop(reply.send(state.refusals(&frontend))),
        ControllerCommand::RuleLasts { reply } => drop(reply.send(state.rule_lasts())),
        ControllerCommand::Limits { reply } => drop(reply.send(state.limits())),
        ControllerCommand::RuleCounts { frontend, reply } => drop(reply.send(state.rule_counts(&frontend))),
        ControllerCommand::Explain { frontend, imagined, reply } => {
            drop(reply.send(state.explain(&frontend, &imagined)));
        }
        ControllerCommand::Probes { server, reply } => drop(reply.send(state.probes(&server))),
        ControllerCommand::ResetTotals { reply } => {
            let _ = reply.send(state.reset_totals());
        }
        ControllerCommand::FailBack { pool, who, reply } => {
            let done = state.fail_back(&pool, &who);
            tell_status(state);
            drop(reply.send(done));
        }
        ControllerCommand::Watch { frontend, from, to, capacity, reply } => {
            drop(reply.send(state.watch(&frontend, from, to.as_deref(), capacity)));
        }
        ControllerCommand::Copy { reply } => drop(reply.send(state.copy())),
        ControllerCommand::BeginToStop { reply } => {
            state.stopping = true;
            let _ = reply.send(());
        }
        ControllerCommand::GoOn { reply } => {
            state.stopping = false;
            state.state_file.changed();
            let _ = reply.send(());
        }
        ControllerCommand::HandedWork { pins_since, reply } => {
            drop(reply.send(state.handed_work(pins_since)));
        }
        ControllerCommand::SignPins { key, reply } => {
            state.sign_pins(*key);
            let _ = reply.send(());
        }
        ControllerCommand::SpeakTls { reply } => {
            if state.certificates.speak(&state.document()) {
                state.publisher.plane.judge_clients();
            }
            let _ = reply.send(());
        }
        ControllerCommand::KeptPins { reply } => drop(reply.send(state.kept_pins())),
        ControllerCommand::WorkAct { act, server } => state.work_act(act, &server),
        ControllerCommand::InheritTotals { totals, work, follows } => {
            state.inherit_work(*work);
            state.inherit_totals(&totals);
            state.follow_predecessor(follows);
        }
        ControllerCommand::InheritWork { report } => state.inherit_work(*report),
        ControllerCommand::EndPredecessor => {
            state.end_predecessor();
            tell_status(state);
        }
        ControllerCommand::Sockets { .. } | ControllerCommand::Stop { .. } => {
            unreachable!("the loop keeps these to itself")
        }
    }
}
