//! What survives: what is loaded at the start, the copy while running, and what follows when the database is back.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::Duration;

use merismos_core::duty::DutyOrder;
use merismos_core::name::PoolServer;
use merismos_store::files::set_aside;
use merismos_store::plans::StoredPlan;
use merismos_store::state_snapshot::{self, StateSnapshot, StateSnapshotError};
use merismos_store::{Revision, Store, StoreError, Token};
use serde_json::json;
use tokio::sync::watch;

use crate::access::Access;
use crate::controller::Controller;
use crate::deploy::Deployer;
use crate::journal::Journal;
use crate::troubles::{TroubleKind, Troubles};

/// How long changes are gathered before the copy is written.
const GATHER: Duration = Duration::from_millis(20);
/// How long an order waits for its copy to be on the disk.
const SAVE_LIMIT: Duration = Duration::from_secs(5);

/// How long after a failure the state file is tried again.
const RETRY_AFTER: Duration = Duration::from_secs(2);

/// What the service starts from.
#[derive(Debug, Default)]
pub(crate) struct RestoredState {
    pub(crate) revision: Option<Revision>,
    pub(crate) duties: BTreeMap<PoolServer, DutyOrder>,
    pub(crate) plans: Vec<StoredPlan>,
    pub(crate) tokens: Vec<Token>,
    pub(crate) copy: StateSnapshot,
}

/// Why the service can't start from what is recorded.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LoadError {
    #[error("{0}. There is no state file to start from instead")]
    Store(#[source] StoreError),
    #[error(transparent)]
    StateFile(#[from] StateSnapshotError),
    #[error("the broken state file {path} can't be moved out of the way", path = path.display())]
    Aside { path: PathBuf, source: std::io::Error },
}

/// What the database knows.
async fn from_database(store: &Store) -> Result<RestoredState, StoreError> {
    store.migrate().await?;
    Ok(RestoredState {
        revision: store.latest_revision().await?,
        duties: store.duties().await?.into_iter().collect(),
        plans: store.plans().await?,
        tokens: store.tokens().await?,
        copy: StateSnapshot::default(),
    })
}

/// Reads the state file; one that is broken is kept aside.
fn from_state_file(path: &Path, troubles: &Troubles) -> Result<Option<StateSnapshot>, LoadError> {
    match state_snapshot::read(path) {
        Ok(copy) => Ok(copy),
        Err(error @ StateSnapshotError::Content { .. }) => {
            let aside = set_aside(path);
            let aside = aside.map_err(|source| LoadError::Aside { path: path.to_owned(), source })?;
            let message = format!(
                "{error}; it is kept as {}. This start knows what the database knows: health begins anew, and orders that the \
                 database had not taken yet are lost",
                aside.display()
            );
            tracing::error!("{message}");
            troubles.set(TroubleKind::StateFileRead, message);
            Ok(None)
        }
        Err(error) => Err(error.into()),
    }
}

/// Joins what the database and the state file know: the newest of each. One of the two is enough, and what is wrong with the
/// other is a trouble.
pub(crate) async fn load(
    store: &Store,
    file: &Path,
    troubles: &Troubles,
) -> Result<RestoredState, LoadError> {
    let is_first_start = !file.exists();
    let copy = from_state_file(file, troubles)?;
    let mut known = match from_database(store).await {
        Ok(known) => known,
        // A first start without a database is a mistake in the settings more often than not, unless it is just not there yet.
        Err(error) if is_first_start && !matches!(error, StoreError::Away(_)) => {
            return Err(LoadError::Store(error));
        }
        Err(error) => {
            tracing::error!(%error, "the start goes by the state file alone");
            let message = format!("the database could not be used at the start: {error}");
            troubles.set(TroubleKind::Database, message);
            RestoredState::default()
        }
    };
    let copy = copy.unwrap_or_default();
    let newest = |revision: &Option<Revision>| revision.as_ref().map_or(0, |revision| revision.number);
    // Of two revisions of one number the one that ran here goes on, until an operator has looked at both.
    if newest(&copy.revision) >= newest(&known.revision) {
        known.revision.clone_from(&copy.revision);
    }
    for (server, order) in &copy.duties {
        let Ok(server) = server.parse::<PoolServer>() else { continue };
        if known.duties.get(&server).is_none_or(|kept| kept.number < order.number) {
            known.duties.insert(server, order.clone());
        }
    }
    // The newest state of each is found when they are taken over.
    known.plans.extend(copy.plans.iter().cloned());
    for token in &copy.tokens {
        match known.tokens.iter_mut().find(|kept| kept.hash == token.hash) {
            Some(kept) => kept.join(token),
            None => known.tokens.push(token.clone()),
        }
    }
    known.copy = copy;
    Ok(known)
}

/// How far the state file has come.
#[derive(Clone, Copy, Debug, Default)]
struct SaveProgress {
    number: u64,
    /// What could not be written, last.
    failed: u64,
}

/// Keeps the state file up to date.
#[derive(Clone, Debug)]
pub(crate) struct StateFile {
    changed: watch::Receiver<u64>,
    saved: watch::Receiver<SaveProgress>,
    /// The state file is another's from now on.
    finished: Arc<AtomicBool>,
}

impl StateFile {
    /// Starts writing the state file whenever `changed` says that it is old.
    pub(crate) fn start(
        controller: Controller,
        access: Access,
        file: PathBuf,
        changed: watch::Receiver<u64>,
        troubles: Troubles,
        journal: Journal,
    ) -> Self {
        let (tell_saved, saved) = watch::channel(SaveProgress::default());
        let finished = Arc::<AtomicBool>::default();
        let writer =
            StateFileWriter { controller, access, file, troubles, journal, finished: Arc::clone(&finished) };
        tokio::spawn(writer.run(changed.clone(), tell_saved));
        Self { changed, saved, finished }
    }

    /// Waits until everything is in the state file, and writes it no more.
    pub(crate) async fn finish(&self) {
        self.is_saved().await;
        self.finished.store(true, Relaxed);
    }

    /// Writes it again, after [`finish`](Self::finish).
    pub(crate) fn go_on(&self) {
        self.finished.store(false, Relaxed);
    }

    /// Waits until everything that has changed by now is in the state file; `false` when it can't be written.
    pub(crate) async fn is_saved(&self) -> bool {
        let wanted = *self.changed.borrow();
        let mut saved = self.saved.clone();
        let waiting = saved.wait_for(|saved| saved.number >= wanted || saved.failed >= wanted);
        match tokio::time::timeout(SAVE_LIMIT, waiting).await {
            Ok(Ok(saved)) => saved.number >= wanted,
            Ok(Err(_)) | Err(_) => false,
        }
    }
}

/// Writes the state file.
struct StateFileWriter {
    controller: Controller,
    access: Access,
    file: PathBuf,
    troubles: Troubles,
    journal: Journal,
    finished: Arc<AtomicBool>,
}

impl StateFileWriter {
    async fn run(self, mut changed: watch::Receiver<u64>, saved: watch::Sender<SaveProgress>) {
        let mut is_behind = false;
        loop {
            let changing = changed.changed();
            if is_behind {
                // What could not be written is tried again, whether more changes or not.
                if let Ok(Err(_)) = tokio::time::timeout(RETRY_AFTER, changing).await {
                    return;
                }
            } else if changing.await.is_err() {
                return;
            }
            tokio::time::sleep(GATHER).await;
            let number = *changed.borrow_and_update();
            let Ok(copy) = self.controller.copy().await else { return };
            if self.finished.load(Relaxed) {
                continue;
            }
            let copy =
                StateSnapshot { tokens: self.access.tokens(), sessions: self.access.sessions(), ..copy };
            let file = self.file.clone();
            let written = tokio::task::spawn_blocking(move || state_snapshot::write(&file, &copy)).await;
            let written = written.unwrap_or_else(|error| {
                let (path, source) = (self.file.clone(), std::io::Error::other(error));
                Err(StateSnapshotError::File { path, source })
            });
            is_behind = written.is_err();
            match written {
                Ok(()) => {
                    saved.send_modify(|saved| saved.number = number);
                    if self.troubles.clear(TroubleKind::StateFileWrite) {
                        self.tell("the state file is written again, and holds everything".to_owned());
                    }
                }
                Err(error) => {
                    saved.send_modify(|saved| saved.failed = number);
                    let message = format!(
                        "the state file is behind: {error}. It is tried again every {} s; until then a restart without the \
                         database would go back to what the file holds. Make room on the disk",
                        RETRY_AFTER.as_secs()
                    );
                    if self.troubles.set(TroubleKind::StateFileWrite, message.clone()) {
                        self.tell(message);
                    }
                }
            }
        }
    }

    fn tell(&self, message: String) {
        self.journal.here(message, json!({}));
    }
}

/// Brings the database up to what this service knows, and this service up to what the database knows.
pub(crate) async fn reconcile(
    store: &Store,
    controller: &Controller,
    deployer: &Deployer,
    access: &Access,
    troubles: &Troubles,
    journal: &Journal,
) -> Result<(), StoreError> {
    store.migrate().await?;
    access.join(&store.tokens().await?);
    for token in access.tokens() {
        store.put_token(&token).await?;
    }
    // Of two orders for a server the later one holds, wherever it was kept.
    let recorded = store.duties().await?;
    let plans = store.plans().await?;
    if controller.adopt_orders(recorded).await.is_err() || controller.adopt_plans(plans).await.is_err() {
        return Ok(());
    }
    let Ok(copy) = controller.copy().await else { return Ok(()) };
    for (server, order) in &copy.duties {
        if let Ok(server) = server.parse() {
            store.put_duty(&server, order).await?;
        }
    }
    for plan in &copy.plans {
        store.put_plan(plan).await?;
    }
    let recorded = store.latest_revision().await?;
    let recorded_number = recorded.as_ref().map_or(0, |revision| revision.number);
    let tell = |kind, message: String| {
        if troubles.set(kind, message.clone()) {
            journal.here(message, json!({}));
        }
    };
    match (copy.revision, recorded) {
        // The database was set back or is new: what runs is worth keeping.
        (Some(running), recorded) if running.number > recorded_number => {
            store.add_revision(&running, &BTreeMap::new()).await?;
            let lost = running.number - 1 - recorded_number;
            if lost > 0 || recorded.is_none() {
                let held = recorded
                    .map_or("no revision".to_owned(), |revision| format!("revision {}", revision.label()));
                tell(
                    TroubleKind::LostRevisions,
                    format!(
                        "the database was set back: it held {held} when this node ran revision {}, which was recorded again. {lost} \
                         revisions between them can't be shown or reverted to any more",
                        running.label()
                    ),
                );
            }
        }
        (Some(running), Some(recorded)) if running.number == recorded_number => {
            if running.is_same_as(&recorded) {
                troubles.clear(TroubleKind::OtherRevision);
            } else {
                tell(
                    TroubleKind::OtherRevision,
                    format!(
                        "this node runs revision {} and the database holds another one of that number, {} by {}: another node or a \
                         restored copy made it. Look at both (`merismos export`, `merismos revision show {recorded_number}`) and \
                         apply the one that is right; it becomes revision {}",
                        running.label(),
                        recorded.label(),
                        recorded.author,
                        recorded_number + 1
                    ),
                );
            }
        }
        (_, Some(recorded)) => {
            if let Err(error) = deployer.adopt(recorded).await {
                tracing::error!(%error, "the newest recorded revision does not run");
            } else {
                troubles.clear(TroubleKind::OtherRevision);
            }
        }
        (_, None) => {}
    }
    troubles.clear(TroubleKind::Database);
    Ok(())
}
