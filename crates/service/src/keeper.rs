//! What survives: what is loaded at the start, the copy while running, and what follows when the database is back.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use merismos_core::duty::Order;
use merismos_core::name::PoolServer;
use merismos_store::copy::{self, Copy, CopyError};
use merismos_store::{Revision, Store, StoreError, Token};
use tokio::sync::watch;

use crate::controller::Controller;
use crate::deploy::Deployer;

/// How long changes are gathered before the copy is written.
const GATHER: Duration = Duration::from_millis(20);
/// How long an order waits for its copy to be on the disk.
const SAVE_LIMIT: Duration = Duration::from_secs(5);

/// What the service starts from.
#[derive(Debug, Default)]
pub(crate) struct Known {
    pub(crate) revision: Option<Revision>,
    pub(crate) duties: BTreeMap<PoolServer, Order>,
    pub(crate) tokens: Vec<Token>,
    pub(crate) copy: Copy,
}

/// What the database knows.
async fn from_database(store: &Store) -> Result<Known, StoreError> {
    store.migrate().await?;
    Ok(Known {
        revision: store.latest_revision().await?,
        duties: store.duties().await?.into_iter().collect(),
        tokens: store.tokens().await?,
        copy: Copy::default(),
    })
}

/// Joins what the database and the copy know: the newest of each. Gives the database's failure beside it.
pub(crate) async fn load(store: &Store, copy_file: &Path) -> Result<(Known, Option<StoreError>), CopyError> {
    let copy = copy::read(copy_file)?.unwrap_or_default();
    let (mut known, failure) = match from_database(store).await {
        Ok(known) => (known, None),
        Err(error) => (Known::default(), Some(error)),
    };
    let newest = |revision: &Option<Revision>| revision.as_ref().map_or(0, |revision| revision.number);
    if newest(&copy.revision) > newest(&known.revision) {
        known.revision.clone_from(&copy.revision);
    }
    for (server, order) in &copy.duties {
        let Ok(server) = server.parse::<PoolServer>() else { continue };
        if known.duties.get(&server).is_none_or(|kept| kept.at < order.at) {
            known.duties.insert(server, order.clone());
        }
    }
    for token in &copy.tokens {
        if !known.tokens.iter().any(|kept| kept.hash == token.hash) {
            known.tokens.push(token.clone());
        }
    }
    known.copy = copy;
    Ok((known, failure))
}

/// Keeps the copy file up to date.
#[derive(Clone, Debug)]
pub(crate) struct Keeper {
    changed: watch::Receiver<u64>,
    saved: watch::Receiver<u64>,
}

impl Keeper {
    /// Starts writing the copy whenever `changed` says that it is old.
    pub(crate) fn start(
        controller: Controller,
        tokens: Vec<Token>,
        file: PathBuf,
        changed: watch::Receiver<u64>,
    ) -> Self {
        let (tell_saved, saved) = watch::channel(0);
        tokio::spawn(write_copies(controller, tokens, file, changed.clone(), tell_saved));
        Self { changed, saved }
    }

    /// Waits until everything that has changed by now is in the copy; `false` when that takes too long.
    pub(crate) async fn is_saved(&self) -> bool {
        let wanted = *self.changed.borrow();
        let mut saved = self.saved.clone();
        let waiting = saved.wait_for(|saved| *saved >= wanted);
        matches!(tokio::time::timeout(SAVE_LIMIT, waiting).await, Ok(Ok(_)))
    }
}

async fn write_copies(
    controller: Controller,
    tokens: Vec<Token>,
    file: PathBuf,
    mut changed: watch::Receiver<u64>,
    saved: watch::Sender<u64>,
) {
    let tokens: Arc<[Token]> = tokens.into();
    while changed.changed().await.is_ok() {
        tokio::time::sleep(GATHER).await;
        let state = *changed.borrow_and_update();
        let Ok(copy) = controller.copy().await else { return };
        let copy = Copy { tokens: tokens.to_vec(), ..copy };
        let file = file.clone();
        match tokio::task::spawn_blocking(move || copy::write(&file, &copy)).await {
            Ok(Ok(())) => {
                let _ = saved.send(state);
            }
            Ok(Err(error)) => tracing::error!(%error, "the copy could not be written"),
            Err(error) => tracing::error!(%error, "writing the copy ended badly"),
        }
    }
}

/// Brings the database up to what this service knows, and this service up to what the database knows.
pub(crate) async fn reconcile(
    store: &Store,
    controller: &Controller,
    deployer: &Deployer,
    tokens: &[Token],
) -> Result<(), StoreError> {
    store.migrate().await?;
    for token in tokens {
        store.add_token(token).await?;
    }
    let Ok(copy) = controller.copy().await else { return Ok(()) };
    for (server, order) in &copy.duties {
        if let Ok(server) = server.parse() {
            store.put_duty(&server, order).await?;
        }
    }
    let recorded = store.latest_revision().await?;
    let recorded_number = recorded.as_ref().map_or(0, |revision| revision.number);
    match (copy.revision, recorded) {
        // The database was set back or is new: what runs is worth keeping.
        (Some(running), _) if running.number > recorded_number => store.add_revision(&running).await?,
        (_, Some(recorded)) => {
            if let Err(error) = deployer.adopt(recorded).await {
                tracing::error!(%error, "the newest recorded revision does not run");
            }
        }
        (_, None) => {}
    }
    Ok(())
}
