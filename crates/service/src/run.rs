//! The life of the service: start, serve, stop.

use std::collections::BTreeMap;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use std::time::Duration;

use merismos_connector::descriptors::DescriptorBudget;
use merismos_core::config::{self, Problem};
use merismos_core::nodes::NodeReport;
use merismos_plane::memory::Memory;
use merismos_plane::{Plane, Queued};
use merismos_probe::lookup::Lookups;
use merismos_probe::secret_ref::SecretCache;
use merismos_probe::{ProbeEnvironment, Prober};
use merismos_store::outbox::Outbox;
use merismos_store::pin_files::PinFiles;
use merismos_store::{Store, StoreError};
use serde_json::json;
use tokio::net::TcpListener;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;

use crate::access::{self, Access, FailedLogins, SecretError};
use crate::addresses::AddressWatch;
use crate::announcements::AnnouncementWatch;
use crate::api::{self, ApiState, ApiUsage, RepeatedCalls, StatusFrames, WindowDesk};
use crate::certificates::{self, CertificateKeeper, OrderMeans};
use crate::clock::{GrowingNumbers, wall};
use crate::controller::{Controller, ControllerStart, ControllerState, RevisionChange};
use crate::deploy::Deployer;
use crate::drafts::DraftDesk;
use crate::journal::Journal;
use crate::lock::{FolderLock, LockError};
use crate::machine::MachineWatch;
use crate::nodes::{NodeFollower, NodeIdentity, NodeWatch, PinKeyKeeper};
use crate::notifications::NotificationSender;
use crate::pin_keeper::{self, PinKeeper};
use crate::recent_requests::RequestHistory;
use crate::rule_uses::RuleUses;
use crate::settings::Settings;
use crate::shortages;
use crate::state_file::{self, LoadError, RestoredState, StateFile};
use crate::trials::TrialRunner;
use crate::troubles::{TroubleKind, Troubles};
use crate::upgrade::{self, Predecessor, Succession, UpgradeError, UpgradeOffer, UpgradeParts};

/// How many probe reports may wait for the controller.
const REPORTS: usize = 4_096;
/// How many answers of lookups may wait for the controller.
const LOOKUPS: usize = 256;
/// How long the last records may take on their way to the database when the service ends.
const LAST_RECORDS: Duration = Duration::from_secs(3);
/// How long after a failure it is tried again to settle what the database and this node know.
const SETTLED_AGAIN_AFTER: Duration = Duration::from_secs(2);
/// How often it is written down when tokens were used.
const TOKENS_NOTED_EVERY: Duration = Duration::from_secs(30);
/// How long open API connections may take to end.
const API_GRACE: Duration = Duration::from_secs(2);

/// Why the service does not run.
#[derive(Debug, thiserror::Error)]
pub(crate) enum RunError {
    #[error(transparent)]
    Lock(#[from] LockError),
    #[error(transparent)]
    Upgrade(#[from] UpgradeError),
    #[error(
        "the API can't listen on {address}: stop what uses the port, or choose another with --api-listen"
    )]
    ApiListen { address: std::net::SocketAddr, source: io::Error },
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Load(#[from] LoadError),
    #[error(transparent)]
    Secret(#[from] SecretError),
    #[error(transparent)]
    Plane(#[from] merismos_plane::StartError),
    #[error("the recorded revision {number} does not pass this release's checks: {}", .problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Revision { number: u64, problems: Vec<Problem> },
    #[error("signals can't be received")]
    Signals(#[source] io::Error),
    #[error("the probes' thread can't be started")]
    Probes(#[source] io::Error),
    #[error("the load clients' thread can't be started")]
    LoadClients(#[source] io::Error),
}

/// Everything that runs beside the controller.
struct ServiceParts {
    controller: Controller,
    journal: Journal,
    store: Store,
    keeper: StateFile,
    pin_keeper: PinKeeper,
    app: Arc<ApiState>,
    troubles: Troubles,
    memory: Memory,
    pins: PinFiles,
    messenger: JoinHandle<()>,
    follower: JoinHandle<()>,
}

/// Runs the service until it is stopped.
pub(crate) async fn run(settings: Settings, allotment: DescriptorBudget) -> Result<(), RunError> {
    let mut predecessor = match settings.upgrade {
        Some(_) => Some(Predecessor::take_over(&settings.state_folder, settings.api_listen).await?),
        None => None,
    };
    let lock = match predecessor.as_mut().and_then(|before| before.lock.take()) {
        Some(lock) => FolderLock::inherit(&settings.state_folder, lock)?,
        None => FolderLock::take(&settings.state_folder)?,
    };
    let address = settings.api_listen;
    let listener = match predecessor.as_mut().and_then(|before| before.api.take()) {
        Some(listener) => listener,
        None => {
            let bound = TcpListener::bind(address).await;
            bound.map_err(|source| RunError::ApiListen { address, source })?
        }
    };
    let mut stop = [SignalKind::terminate(), SignalKind::interrupt()].map(signal);
    let load = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .thread_name("load")
        .enable_all()
        .build()
        .map_err(RunError::LoadClients)?;
    let ended =
        serve(&settings, allotment, (lock, listener), predecessor, &mut stop, load.handle().clone()).await;
    // However it ended: a task must not wait for the threads of another runtime.
    load.shutdown_background();
    ended
}

/// Why a service ends.
enum Ending {
    /// It was told to.
    Told,
    /// Another one has taken over.
    Succeeded(Succession),
}

/// Starts everything and waits until the service is stopped.
async fn serve(
    settings: &Settings,
    allotment: DescriptorBudget,
    (lock, listener): (FolderLock, TcpListener),
    predecessor: Option<Predecessor>,
    stop: &mut [io::Result<Signal>; 2],
    load: tokio::runtime::Handle,
) -> Result<(), RunError> {
    let address = settings.api_listen;
    // The runtime keeps what it listens with; a successor gets a copy of the copy.
    let api_socket = listener.as_fd().try_clone_to_owned();
    let parts = start(settings, load, predecessor).await?;
    let watchers = || (parts.troubles.clone(), parts.journal.clone());
    let (troubles, journal) = watchers();
    tokio::spawn(shortages::watch_descriptors(allotment, troubles, journal));
    let (troubles, journal) = watchers();
    tokio::spawn(shortages::watch_client_memory(parts.memory.clone(), troubles, journal));
    let version = env!("CARGO_PKG_VERSION");
    parts.journal.here(
        format!("merismosd {version} started; API and console on http://{address}"),
        json!({ "version": version }),
    );
    let (end_api, api_ends) = watch::channel(false);
    let api = tokio::spawn(api::serve(listener, Arc::clone(&parts.app), api_ends));
    let [terminate, interrupt] = stop;
    let (Ok(terminate), Ok(interrupt)) = (terminate, interrupt) else {
        return Err(RunError::Signals(io::Error::other("no signal handler")));
    };
    let ending = tokio::select! {
        _ = terminate.recv() => Ending::Told,
        _ = interrupt.recv() => Ending::Told,
        succession = wait_for_successor(settings, &parts, &lock, api_socket) => Ending::Succeeded(succession),
    };
    let (grace, queued, succession) = match ending {
        Ending::Told => {
            tracing::info!(grace = ?settings.grace, "stopping: no new work is taken, work in flight may finish");
            parts.journal.here("stops", json!({}));
            parts.controller.begin_to_stop().await;
            // While this node still takes clients.
            let (moving, announced) = (&parts.app.addresses, &parts.app.announcements);
            tokio::join!(moving.leave(), announced.leave(settings.grace));
            let (nodes, store) = (parts.app.nodes.clone(), parts.store.clone());
            tokio::spawn(async move { nodes.step_down(&store).await });
            parts.keeper.finish().await;
            parts.pin_keeper.finish().await;
            (settings.grace, Queued::Served, None)
        }
        Ending::Succeeded(succession) => {
            let within = succession.within;
            tracing::info!(?within, "another service has taken over: this one sees its clients through");
            // Its API answers at the same address, and messages that were not delivered yet are its own.
            let _ = end_api.send(true);
            parts.app.addresses.hand_over().await;
            parts.app.announcements.hand_over().await;
            parts.messenger.abort();
            parts.follower.abort();
            (within, Queued::HandedOn, Some(succession))
        }
    };
    let (reporting, controller) = (parts.controller.clone(), &parts.controller);
    let reporter =
        succession.map(|succession| tokio::spawn(async move { succession.report(&reporting).await }));
    // A service without a successor keeps the folder until it has ended.
    let _held = reporter.is_none().then_some(lock);
    tokio::select! {
        left = controller.stop(grace, queued) => match left {
            Ok(0) | Err(_) => tracing::info!("all work in flight has finished"),
            Ok(left) => tracing::warn!(left, "the grace period is over; connections were broken off"),
        },
        _ = terminate.recv() => tracing::warn!("asked to stop a second time: ending at once"),
        _ = interrupt.recv() => tracing::warn!("asked to stop a second time: ending at once"),
    }
    parts.app.announcements.end().await;
    let _ = end_api.send(true);
    let _ = tokio::time::timeout(API_GRACE, api).await;
    let last = tokio::time::timeout(LAST_RECORDS, parts.journal.outbox().flush(&parts.store)).await;
    if !matches!(last, Ok(Ok(()))) {
        parts.journal.outbox().keep_waiting().await;
        let waiting = parts.journal.outbox().backlog().waiting;
        tracing::warn!(
            waiting,
            "the database did not take the last records; events of them follow after the next start"
        );
    }
    if let Some(reporter) = reporter {
        // What was counted last is told before the end of the connection says that nothing is open.
        tokio::time::sleep(upgrade::REPORTED_EVERY).await;
        reporter.abort();
    } else {
        // The next one, perhaps with another state folder, need not wait. If the database is away, it forgets by itself.
        let _ = tokio::time::timeout(LAST_RECORDS, parts.store.leave()).await;
    }
    parts.store.close().await;
    Ok(())
}

/// Waits for a service that takes over from this one; for ever where none can.
async fn wait_for_successor(
    settings: &Settings,
    parts: &ServiceParts,
    lock: &FolderLock,
    api_socket: io::Result<OwnedFd>,
) -> Succession {
    let offer = UpgradeOffer::listen(&settings.state_folder).and_then(|offer| Ok((offer, api_socket?)));
    match offer {
        Ok((offer, api_socket)) => {
            let handed = UpgradeParts {
                controller: &parts.controller,
                keeper: &parts.keeper,
                pins: &parts.pins,
                pin_keeper: &parts.pin_keeper,
                journal: &parts.journal,
                lock,
                api: (&api_socket, settings.api_listen),
            };
            offer.succession(&handed).await
        }
        Err(error) => {
            tracing::warn!(%error, "no other service can take over from this one");
            std::future::pending().await
        }
    }
}

async fn start(
    settings: &Settings,
    load: tokio::runtime::Handle,
    mut predecessor: Option<Predecessor>,
) -> Result<ServiceParts, RunError> {
    let secrets = SecretCache { folder: settings.secrets_folder.clone() };
    let surroundings =
        ProbeEnvironment { command_folder: settings.command_folder.clone(), secrets: secrets.clone() };
    let copy_file = settings.state_folder.join("copy.json");
    let troubles = Troubles::default();
    warn_of_exposure(settings, &troubles);
    let id = access::node_id(&settings.state_folder, &troubles)?;
    let identity = NodeIdentity { id, name: settings.node.clone() };
    let store = Store::new(&settings.database)?.of_node(id);
    let known = state_file::load(&store, &copy_file, &troubles).await?;
    let RestoredState { revision, duties, plans, mut tokens, copy } = known;
    let first = access::first_token(&settings.state_folder, &tokens, &troubles)?;
    if !tokens.iter().any(|token| token.hash == first.hash) {
        tokens.push(first);
    }
    let checked = match &revision {
        Some(revision) => {
            let number = revision.number;
            let loaded = config::load(&revision.document, config::DocumentFormat::Json);
            Some(loaded.map_err(|problems| RunError::Revision { number, problems })?)
        }
        None => None,
    };
    let nodes = NodeWatch::new(identity.clone());
    let report = NodeReport {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        started: wall(),
        at: wall(),
        revision: revision.as_ref().map_or(0, |revision| revision.number),
        workers: settings.workers as u64,
        api: settings.api_listen.to_string(),
        trouble: None,
        down: Vec::new(),
        down_in_all: 0,
        out: BTreeMap::new(),
        addresses: BTreeMap::new(),
        announcements: BTreeMap::new(),
    };
    let slot = NodeFollower::meet(&store, &nodes, &report).await;
    let waiting = settings.state_folder.join("waiting-events");
    let outbox = Outbox::new(settings.waiting_events, Some(waiting));
    let journal = Journal::new(outbox.clone(), &identity, slot);
    let addresses = AddressWatch::new(nodes.clone(), journal.clone(), predecessor.is_some());
    let announcements =
        AnnouncementWatch::new(nodes.name().clone(), journal.clone(), secrets.clone(), predecessor.is_some());
    let (reports, reported) = mpsc::channel(REPORTS);
    let (lookups, looked_up) = mpsc::channel(LOOKUPS);
    let (copy_is_old, changed) = watch::channel(0);
    let pin_key = access::pin_key(&settings.state_folder, &troubles)?;
    let mut plane = Plane::start(settings.workers, settings.client_memory)?;
    let pins = PinFiles::new(settings.state_folder.join("pins"));
    if let Some(before) = &mut predecessor {
        plane.inherit(std::mem::take(&mut before.sockets));
    }
    let (decisions, memory) = (plane.decisions(), plane.memory());
    let recent = RequestHistory::listen(&plane.samples());
    let (messages, messenger) = NotificationSender::new(secrets.clone());
    let sealing = Arc::new(access::sealing_key(&settings.state_folder, &troubles)?);
    let orders = OrderMeans {
        store: store.clone(),
        node: id,
        key: Arc::clone(&sealing),
        challenges: plane.challenges(),
    };
    let certificates = CertificateKeeper::new(
        secrets.clone(),
        &settings.state_folder,
        plane.tls(),
        plane.server_tls(),
        orders,
        journal.clone(),
        messages.clone(),
    );
    let certificates_seen = copy.written.unwrap_or_else(wall);
    let (usage, guesses) = (ApiUsage::new(settings.api_limits.clone()), FailedLogins::default());
    let state = ControllerState::new(ControllerStart {
        plane,
        api_usage: Arc::clone(&usage),
        guesses: guesses.clone(),
        troubles: troubles.clone(),
        messages: messages.clone(),
        nodes: nodes.clone(),
        addresses: addresses.clone(),
        announcements: announcements.clone(),
        order_numbers: GrowingNumbers::of_slot(slot),
        prober: Prober::new(reports, surroundings.clone(), settings.probes_at_once)
            .map_err(RunError::Probes)?,
        lookups: Lookups::new(lookups),
        found: copy.found,
        journal: journal.clone(),
        duties,
        plans,
        known_health: copy.health,
        watched_until: copy.written,
        pin_key,
        certificates: certificates.clone(),
        pins: pin_keeper::load(&pins),
        has_predecessor: predecessor.is_some(),
        holds: copy.tiers.into_iter().filter_map(|(pool, hold)| Some((pool.parse().ok()?, hold))).collect(),
        former_names: copy
            .former_names
            .into_iter()
            .filter_map(|(pool, former)| Some((pool.parse().ok()?, former)))
            .collect(),
        copy_is_old: copy_is_old.clone(),
    });
    let access = Access::new(tokens, copy.sessions, settings.session_limits, copy_is_old.clone());
    let controller = Controller::start(state, reported, looked_up);
    let deployer = Arc::new(Deployer::new(
        controller.clone(),
        store.clone(),
        surroundings.clone(),
        certificates.clone(),
        recent,
    ));
    if let Some(before) = &mut predecessor {
        before.still_waits().await?;
    }
    if let (Some(revision), Some(checked)) = (revision, checked) {
        certificates.prepare(checked.shared()).await;
        let bound = controller.bind(checked.clone()).await;
        // An address that is taken does not keep the rest from serving: the controller tries it again each second.
        let bound = match bound {
            Ok(Ok(bound)) => bound,
            Ok(Err(error)) => {
                tracing::error!(%error, "not every frontend can listen");
                Vec::new()
            }
            Err(_) => Vec::new(),
        };
        let _ = controller.run(RevisionChange::new(revision, checked, bound)).await;
    }
    if let (Some(before), Some(within)) = (predecessor, settings.upgrade) {
        let (process, version) = (before.state.process, before.state.version.clone());
        let (from, totals, work) = before.say_serving(within).await;
        announcements.begin();
        controller.follow(totals, work, from).await;
        journal.here(
            format!(
                "took over from merismosd {version}, process {process}, which finishes its clients' work"
            ),
            json!({ "version": version, "process": process }),
        );
    }
    let pin_keeper = PinKeeper::start(controller.clone(), pins.clone(), troubles.clone(), journal.clone());
    let keeper = StateFile::start(
        controller.clone(),
        access.clone(),
        copy_file,
        changed,
        troubles.clone(),
        journal.clone(),
    );
    // What this start made, a first token among it, is in the state file from the start on.
    copy_is_old.send_modify(|changes| *changes += 1);
    let messenger = tokio::spawn(messenger.run(journal.clone(), store.clone(), nodes.clone()));
    tokio::spawn(certificates::keep_up(certificates.clone(), controller.clone(), certificates_seen));
    follow_database(&store, &controller, &deployer, &journal, &access, &troubles);
    tokio::spawn(note_uses_of_tokens(store.clone(), access.clone()));
    let pin_key = PinKeyKeeper::new(settings.state_folder.clone(), Arc::clone(&sealing));
    let follower = NodeFollower {
        store: store.clone(),
        watch: nodes.clone(),
        addresses: addresses.clone(),
        announcements: announcements.clone(),
        controller: controller.clone(),
        deployer: Arc::clone(&deployer),
        access: access.clone(),
        pin_key: pin_key.clone(),
        certificates: certificates.clone(),
        sealing,
        journal: journal.clone(),
        troubles: troubles.clone(),
        report,
    };
    let follower = tokio::spawn(follower.run());
    let machine = MachineWatch::default();
    tokio::spawn(machine.clone().run(controller.clone(), troubles.clone(), journal.clone()));
    let rule_uses = RuleUses::default();
    tokio::spawn(rule_uses.clone().run(controller.clone(), store.clone()));
    let drafts = DraftDesk::new(controller.clone(), store.clone(), Arc::clone(&deployer), journal.clone());
    let trials = TrialRunner::new(controller.clone(), journal.clone(), store.clone(), load);
    let app = Arc::new(ApiState {
        controller: controller.clone(),
        deployer,
        drafts,
        journal: journal.clone(),
        store: store.clone(),
        keeper: keeper.clone(),
        access,
        guesses,
        trials,
        messages,
        decisions,
        surroundings,
        usage,
        frames: StatusFrames::default(),
        windows: WindowDesk::default(),
        repeats: RepeatedCalls::default(),
        pin_key,
        nodes,
        addresses,
        announcements,
        machine,
        rule_uses,
        certificates,
        state_folder: settings.state_folder.clone(),
        troubles: troubles.clone(),
    });
    Ok(ServiceParts {
        controller,
        journal,
        store,
        keeper,
        pin_keeper,
        app,
        troubles,
        memory,
        pins,
        messenger,
        follower,
    })
}

/// Notes what lets others in who should not be: a state folder that others can read, and an API that can be reached from
/// elsewhere without encryption.
fn warn_of_exposure(settings: &Settings, troubles: &Troubles) {
    let folder = &settings.state_folder;
    let mode = std::fs::metadata(folder).map_or(0, |metadata| metadata.permissions().mode() & 0o777);
    if mode & 0o077 != 0 {
        let message = format!(
            "others can get into the state folder {} (mode {mode:o}), which holds secrets: `chmod 700` it, and restart",
            folder.display()
        );
        tracing::warn!("{message}");
        troubles.set(TroubleKind::StateFolder, message);
    }
    let address = settings.api_listen;
    if !address.ip().is_loopback() {
        let message = format!(
            "the API listens on {address} without encryption: tokens can be read on the way. Listen on loopback and come by SSH"
        );
        tracing::warn!("{message}");
        troubles.set(TroubleKind::PlainApi, message);
    }
}

/// Writes from time to time when tokens were used.
async fn note_uses_of_tokens(store: Store, access: Access) {
    let mut written = Vec::new();
    loop {
        tokio::time::sleep(TOKENS_NOTED_EVERY).await;
        let tokens = access.tokens();
        let mut noted = Vec::new();
        for token in tokens {
            // While the database is away nothing is lost: it is tried again.
            if written.contains(&token) || store.put_token(&token).await.is_ok() {
                noted.push(token);
            }
        }
        written = noted;
    }
}

/// Empties the outbox, and settles what differs whenever the database comes back (and once at the start).
fn follow_database(
    store: &Store,
    controller: &Controller,
    deployer: &Arc<Deployer>,
    journal: &Journal,
    access: &Access,
    troubles: &Troubles,
) {
    // One word at a time is enough: settling looks at everything anyway.
    let (settle, mut wanted) = mpsc::channel::<()>(1);
    let _ = settle.try_send(());
    let (watcher, outbox) = (journal.clone(), journal.outbox().clone());
    tokio::spawn(outbox.run(store.clone(), move |error| match error {
        Some(error) => {
            let says = format!("the database is away, records wait for it: {error}");
            watcher.here(says, json!({}));
        }
        None => {
            watcher.here("the database is back, records follow", json!({}));
            let _ = settle.try_send(());
        }
    }));
    let (store, controller, deployer) = (store.clone(), controller.clone(), Arc::clone(deployer));
    let (access, troubles, journal) = (access.clone(), troubles.clone(), journal.clone());
    tokio::spawn(async move {
        while wanted.recv().await.is_some() {
            let mut said = false;
            while let Err(error) =
                state_file::reconcile(&store, &controller, &deployer, &access, &troubles, &journal).await
            {
                if !said {
                    tracing::warn!(%error, "what the database has was not settled; it is tried again until it is");
                    said = true;
                }
                tokio::time::sleep(SETTLED_AGAIN_AFTER).await;
            }
        }
    });
}
