//! The life of the service: start, serve, stop.

use std::fs::{DirBuilder, File};
use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::Duration;

use merismos_api::EventKind;
use merismos_core::config::{self, Problem};
use merismos_plane::Plane;
use merismos_plane::lookup::Lookups;
use merismos_plane::probe::{Prober, Surroundings};
use merismos_store::copy::CopyError;
use merismos_store::outbox::Outbox;
use merismos_store::{Store, StoreError, Token};
use serde_json::json;
use tokio::net::TcpListener;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::{mpsc, watch};

use crate::access::{self, Access, AccessError};
use crate::api::{self, ApiUsage, App, StatusFrames};
use crate::controller::{Controller, Start, State};
use crate::deploy::Deployer;
use crate::drafts::Drafts;
use crate::journal::Journal;
use crate::keeper::{self, Keeper, Known};
use crate::messages::Messages;
use crate::settings::Settings;
use crate::trials::Trials;

/// How many probe reports may wait for the controller.
const REPORTS: usize = 4_096;
/// How many answers of lookups may wait for the controller.
const LOOKUPS: usize = 256;
/// How long the last records may take on their way to the database when the service ends.
const LAST_RECORDS: Duration = Duration::from_secs(3);
/// How long open API connections may take to end.
const API_GRACE: Duration = Duration::from_secs(2);

/// Why the service does not run.
#[derive(Debug, thiserror::Error)]
pub(crate) enum RunError {
    #[error("the state folder {path} can't be used", path = path.display())]
    Folder { path: PathBuf, source: io::Error },
    #[error("another merismosd uses the state folder {path}: stop it, or give this one a folder of its own", path = path.display())]
    Locked { path: PathBuf },
    #[error(
        "the API can't listen on {address}: stop what uses the port, or choose another with --api-listen"
    )]
    ApiListen { address: std::net::SocketAddr, source: io::Error },
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Copy(#[from] CopyError),
    #[error(transparent)]
    Access(#[from] AccessError),
    #[error(transparent)]
    Plane(#[from] merismos_plane::StartError),
    #[error("the recorded revision {number} does not pass this release's checks: {}", .problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Revision { number: u64, problems: Vec<Problem> },
    #[error("signals can't be received")]
    Signals(#[source] io::Error),
    #[error("the probes' thread can't be started")]
    Probes(#[source] io::Error),
    #[error("the load clients' thread can't be started")]
    Load(#[source] io::Error),
}

/// Makes the state folder, and locks it against a second service.
fn take_folder(path: &Path) -> Result<File, RunError> {
    let wrong = |source| RunError::Folder { path: path.to_owned(), source };
    DirBuilder::new().recursive(true).mode(0o700).create(path).map_err(wrong)?;
    let lock = File::create(path.join("lock")).map_err(wrong)?;
    match lock.try_lock() {
        Ok(()) => Ok(lock),
        Err(std::fs::TryLockError::WouldBlock) => Err(RunError::Locked { path: path.to_owned() }),
        Err(std::fs::TryLockError::Error(source)) => Err(wrong(source)),
    }
}

/// Everything that runs beside the controller.
struct Parts {
    controller: Controller,
    journal: Journal,
    store: Store,
    keeper: Keeper,
    app: Arc<App>,
}

/// Runs the service until it is told to stop.
pub(crate) async fn run(settings: Settings) -> Result<(), RunError> {
    let _lock = take_folder(&settings.state_folder)?;
    let address = settings.api_listen;
    let listener =
        TcpListener::bind(address).await.map_err(|source| RunError::ApiListen { address, source })?;
    let mut stop = [SignalKind::terminate(), SignalKind::interrupt()].map(signal);
    let load = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .thread_name("load")
        .enable_all()
        .build()
        .map_err(RunError::Load)?;
    let ended = serve(&settings, listener, &mut stop, load.handle().clone()).await;
    // However it ended: a task must not wait for the threads of another runtime.
    load.shutdown_background();
    ended
}

/// Starts everything and waits until the service is told to stop.
async fn serve(
    settings: &Settings,
    listener: TcpListener,
    stop: &mut [io::Result<Signal>; 2],
    load: tokio::runtime::Handle,
) -> Result<(), RunError> {
    let address = settings.api_listen;
    let parts = start(settings, load).await?;
    let version = env!("CARGO_PKG_VERSION");
    parts.journal.write(
        EventKind::Node,
        "this node",
        format!("merismosd {version} started; API and console on http://{address}"),
        json!({ "version": version }),
    );
    let (end_api, api_ends) = watch::channel(false);
    let api = tokio::spawn(api::serve(listener, Arc::clone(&parts.app), api_ends));
    let [terminate, interrupt] = stop;
    let (Ok(terminate), Ok(interrupt)) = (terminate, interrupt) else {
        return Err(RunError::Signals(io::Error::other("no signal handler")));
    };
    tokio::select! {
        _ = terminate.recv() => {}
        _ = interrupt.recv() => {}
    }
    tracing::info!(grace = ?settings.grace, "stopping: no new work is taken, work in flight may finish");
    parts.journal.write(EventKind::Node, "this node", "stops", json!({}));
    parts.keeper.is_saved().await;
    tokio::select! {
        left = parts.controller.stop(settings.grace) => match left {
            Ok(0) | Err(_) => tracing::info!("all work in flight has finished"),
            Ok(left) => tracing::warn!(left, "the grace period is over; connections were broken off"),
        },
        _ = terminate.recv() => tracing::warn!("told to stop a second time: ending at once"),
        _ = interrupt.recv() => tracing::warn!("told to stop a second time: ending at once"),
    }
    let _ = end_api.send(true);
    let _ = tokio::time::timeout(API_GRACE, api).await;
    let last = tokio::time::timeout(LAST_RECORDS, parts.journal.outbox().flush(&parts.store)).await;
    if !matches!(last, Ok(Ok(()))) {
        tracing::warn!(waiting = parts.journal.outbox().backlog().waiting, "records were lost with the end");
    }
    parts.store.close().await;
    Ok(())
}

async fn start(settings: &Settings, load: tokio::runtime::Handle) -> Result<Parts, RunError> {
    let surroundings = Surroundings { command_folder: settings.command_folder.clone() };
    let store = Store::new(&settings.database)?;
    let copy_file = settings.state_folder.join("copy.json");
    let (known, failure) = keeper::load(&store, &copy_file).await?;
    if let Some(error) = failure.filter(|error| !error.is_away()) {
        return Err(error.into());
    }
    let Known { revision, duties, mut tokens, copy } = known;
    let first = access::first_token(&settings.state_folder)?;
    if !tokens.iter().any(|token| token.hash == first.hash) {
        tokens.push(first);
    }
    let checked = match &revision {
        Some(revision) => {
            let number = revision.number;
            let loaded = config::load(&revision.document, config::Format::Json);
            Some(loaded.map_err(|problems| RunError::Revision { number, problems })?)
        }
        None => None,
    };
    let outbox = Outbox::new(settings.waiting_events);
    let journal = Journal::new(outbox.clone());
    let (reports, reported) = mpsc::channel(REPORTS);
    let (lookups, looked_up) = mpsc::channel(LOOKUPS);
    let (copy_is_old, changed) = watch::channel(0);
    let pin_key = access::pin_key(&settings.state_folder)?;
    let plane = Plane::start(settings.workers, pin_key.clone())?;
    let decisions = plane.decisions();
    let nodes = Arc::new(AtomicU64::new(1));
    tokio::spawn(give_signs_of_life(
        store.clone(),
        access::node_id(&settings.state_folder)?,
        Arc::clone(&nodes),
    ));
    let (messages, messenger) = Messages::new();
    let usage = ApiUsage::new(settings.api_limits);
    let state = State::new(Start {
        plane,
        api_usage: Arc::clone(&usage),
        messages: messages.clone(),
        nodes,
        prober: Prober::new(reports, surroundings.clone(), settings.probes_at_once)
            .map_err(RunError::Probes)?,
        lookups: Lookups::new(lookups),
        found: copy.found,
        journal: journal.clone(),
        duties,
        known_health: copy.health,
        pin_key,
        holds: copy.tiers.into_iter().filter_map(|(pool, hold)| Some((pool.parse().ok()?, hold))).collect(),
        copy_is_old,
    });
    let controller = Controller::start(state, reported, looked_up);
    let deployer = Arc::new(Deployer::new(controller.clone(), store.clone(), surroundings.clone()));
    if let (Some(revision), Some(checked)) = (revision, checked) {
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
        let _ = controller.run(revision, checked, bound).await;
    }
    let keeper = Keeper::start(controller.clone(), tokens.clone(), copy_file, changed);
    tokio::spawn(messenger.run(journal.clone(), store.clone()));
    follow_database(&store, &controller, &deployer, &journal, tokens.clone());
    let drafts = Drafts::new(controller.clone(), store.clone(), Arc::clone(&deployer), journal.clone());
    let trials = Trials::new(controller.clone(), journal.clone(), store.clone(), load);
    let app = Arc::new(App {
        controller: controller.clone(),
        deployer,
        drafts,
        journal: journal.clone(),
        store: store.clone(),
        keeper: keeper.clone(),
        access: Access::new(tokens),
        trials,
        messages,
        decisions,
        surroundings,
        usage,
        frames: StatusFrames::default(),
    });
    Ok(Parts { controller, journal, store, keeper, app })
}

/// Says from time to time that this node is there, and learns how many there are.
async fn give_signs_of_life(store: Store, id: [u8; 16], nodes: Arc<AtomicU64>) {
    loop {
        // While the database is away the last number stands.
        if let Ok(count) = store.sign_of_life(id).await {
            nodes.store(count, Relaxed);
        }
        tokio::time::sleep(merismos_store::GONE_AFTER / 3).await;
    }
}

/// Empties the outbox, and settles what differs whenever the database comes back (and once at the start).
fn follow_database(
    store: &Store,
    controller: &Controller,
    deployer: &Arc<Deployer>,
    journal: &Journal,
    tokens: Vec<Token>,
) {
    // One word at a time is enough: settling looks at everything anyway.
    let (settle, mut wanted) = mpsc::channel::<()>(1);
    let _ = settle.try_send(());
    let (watcher, outbox) = (journal.clone(), journal.outbox().clone());
    tokio::spawn(outbox.run(store.clone(), move |error| match error {
        Some(error) => {
            let says = format!("the database is away, records wait for it: {error}");
            watcher.write(EventKind::Node, "this node", says, json!({}));
        }
        None => {
            watcher.write(EventKind::Node, "this node", "the database is back, records follow", json!({}));
            let _ = settle.try_send(());
        }
    }));
    let (store, controller, deployer) = (store.clone(), controller.clone(), Arc::clone(deployer));
    tokio::spawn(async move {
        while wanted.recv().await.is_some() {
            if let Err(error) = keeper::reconcile(&store, &controller, &deployer, &tokens).await {
                tracing::warn!(%error, "what the database has was not settled; it is when it is back");
            }
        }
    });
}
