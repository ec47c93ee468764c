//! The key that pins are signed with, which nodes share: a client that comes to another node keeps its server.

use std::path::PathBuf;
use std::sync::Arc;

use merismos_store::{SharedSecret, Store, StoreError};
use serde_json::json;
use tokio::sync::Mutex;

use crate::access::{self, PinSecrets, SecretError};
use crate::certificates::SealingKey;
use crate::controller::{Controller, Stopping};
use crate::journal::Journal;
use crate::troubles::{TroubleKind, Troubles};

/// Its name in the database, and what it is sealed for.
const NAME: &str = "pin-key";

/// Keeps the files of the key in step with the database.
#[derive(Clone, Debug)]
pub(crate) struct PinKeyKeeper {
    folder: PathBuf,
    sealing: Arc<SealingKey>,
    /// Held while the key is drawn or followed: one at a time.
    one_at_a_time: Arc<Mutex<()>>,
}

/// Why no new key was drawn.
#[derive(Debug, thiserror::Error)]
pub(crate) enum PinKeyError {
    #[error(transparent)]
    Secret(#[from] SecretError),
    #[error(transparent)]
    Stopping(#[from] Stopping),
}

impl PinKeyKeeper {
    pub(crate) fn new(folder: PathBuf, sealing: Arc<SealingKey>) -> Self {
        Self { folder, sealing, one_at_a_time: Arc::default() }
    }

    /// Takes over the key of the other nodes, or gives them this node's when they have none or an older one.
    pub(super) async fn follow(
        &self,
        store: &Store,
        controller: &Controller,
        journal: &Journal,
        troubles: &Troubles,
    ) -> Result<(), StoreError> {
        let _turn = self.one_at_a_time.lock().await;
        let kept = store.shared_secret(NAME).await?;
        let folder = self.folder.clone();
        let Ok(Ok(own)) = tokio::task::spawn_blocking(move || PinSecrets::read(&folder)).await else {
            // The disk is away; what was read at the start goes on.
            return Ok(());
        };
        let Some(kept) = kept else { return self.give(store, &own, 1).await };
        let Some(shared) = self.sealing.open(NAME, &kept.sealed).as_deref().and_then(PinSecrets::from_bytes)
        else {
            let says = "this node's store-secret is not that of the other nodes, so it can't read the secrets that they share: clients that come \
                        here from them lose their pins, and certificates that they ordered can't be shown. Copy the file store-secret \
                        of one of them into this node's state folder, and restart";
            if troubles.set(TroubleKind::ForeignSecrets, says) {
                journal.here(says, json!({}));
            }
            return Ok(());
        };
        troubles.clear(TroubleKind::ForeignSecrets);
        if shared == own {
            return Ok(());
        }
        if own.follows(&shared) {
            // It was drawn here while the database was away.
            return self.give(store, &own, kept.number + 1).await;
        }
        let (folder, troubles) = (self.folder.clone(), troubles.clone());
        let taken = tokio::task::spawn_blocking(move || {
            shared.write(&folder)?;
            access::pin_key(&folder, &troubles)
        });
        match taken.await {
            Ok(Ok(key)) => {
                let _ = controller.sign_pins(key).await;
                journal.here("signs pins with the key that the nodes share", json!({}));
            }
            Ok(Err(error)) => tracing::warn!(%error, "the key of pins that nodes share can't be kept"),
            Err(error) => tracing::error!(%error, "the key of pins was not taken over"),
        }
        Ok(())
    }

    async fn give(&self, store: &Store, own: &PinSecrets, number: u64) -> Result<(), StoreError> {
        let sealed = self.sealing.seal(NAME, &own.to_bytes());
        store.put_shared_secret(NAME, &SharedSecret { number, sealed }).await
    }

    /// Draws a new key. The other nodes get it at once, or when the database is back.
    pub(crate) async fn renew(
        &self,
        store: &Store,
        controller: &Controller,
        troubles: &Troubles,
    ) -> Result<(), PinKeyError> {
        let _turn = self.one_at_a_time.lock().await;
        let (folder, troubles) = (self.folder.clone(), troubles.clone());
        let drawn = tokio::task::spawn_blocking(move || {
            let key = access::renew_pin_key(&folder, &troubles)?;
            Ok::<_, SecretError>((key, PinSecrets::read(&folder)?))
        });
        let (key, own) =
            drawn.await.unwrap_or_else(|panicked| std::panic::resume_unwind(panicked.into_panic()))?;
        controller.sign_pins(key).await?;
        let given = match store.shared_secret(NAME).await {
            Ok(kept) => self.give(store, &own, kept.map_or(0, |kept| kept.number) + 1).await,
            Err(error) => Err(error),
        };
        if let Err(error) = given {
            tracing::warn!(%error, "the other nodes get the new key of pins when the database is back");
        }
        Ok(())
    }
}
