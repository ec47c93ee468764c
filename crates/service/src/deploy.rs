//! From a text to the running revision: checked whole, bound, committed, published.

use merismos_api::{ApplyAnswer, ApplyRequest, NamedChange};
use merismos_core::config::{self, Problem};
use merismos_plane::BindError;
use merismos_store::{Revision, Store, StoreError};
use tokio::sync::Mutex;

use crate::clock::wall;
use crate::controller::{Comparison, Controller, Stopping};

/// Why a document does not run. What ran before still does.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ApplyError {
    /// It holds mistakes.
    #[error("the document is refused, nothing was changed; mistakes: {}", .0.len())]
    Mistakes(Vec<Problem>),
    /// Its author looked at another revision.
    #[error(
        "revision {running} runs by now, and this document is based on revision {based_on}: look at what changed in \
         between (`merismos export`), then apply again"
    )]
    Stale { based_on: u64, running: u64 },
    /// A frontend can't listen.
    #[error("{0}; nothing was changed")]
    Bind(#[from] BindError),
    /// The database did not take it.
    #[error(
        "the revision could not be recorded, so it does not run: {0}. Traffic goes on as before. Should the database \
         have taken it after all, it runs as soon as the database is back; `merismos status` shows both"
    )]
    NotRecorded(StoreError),
    /// The service stops.
    #[error(transparent)]
    Stopping(#[from] Stopping),
}

/// Makes revisions, one at a time.
#[derive(Debug)]
pub(crate) struct Deployer {
    controller: Controller,
    store: Store,
    /// Held over a whole deployment, so that two never interleave.
    one_at_a_time: Mutex<()>,
}

impl Deployer {
    pub(crate) fn new(controller: Controller, store: Store) -> Self {
        Self { controller, store, one_at_a_time: Mutex::new(()) }
    }

    /// Says what a document would change, and unless it is a preview, makes it the running revision.
    pub(crate) async fn apply(
        &self,
        request: ApplyRequest,
        author: String,
    ) -> Result<ApplyAnswer, ApplyError> {
        let checked = config::load(&request.text, request.format).map_err(ApplyError::Mistakes)?;
        let _turn = self.one_at_a_time.lock().await;
        let Comparison { revision, changes, moves } = self.controller.compare(checked.clone()).await?;
        if let Some(based_on) = request.based_on.filter(|based_on| *based_on != revision) {
            return Err(ApplyError::Stale { based_on, running: revision });
        }
        let warnings = checked.warnings().to_vec();
        let changes: Vec<_> =
            changes.into_iter().map(|change| NamedChange { words: change.words(), change }).collect();
        // The first revision is made even of an empty document, so that there is one to go back to.
        let makes = !request.preview && (!changes.is_empty() || revision == 0);
        let answer = |revision, made| ApplyAnswer { revision, made, changes, moves, warnings };
        // A preview binds too, and lets go again: it has to say when a port is taken.
        let bound = self.controller.bind(checked.clone()).await??;
        if !makes {
            return Ok(answer(revision, false));
        }
        let next = Revision {
            number: revision + 1,
            document: checked.document().to_json(),
            author,
            note: request.note,
            at: wall(),
        };
        if let Err(error) = self.store.add_revision(&next).await {
            return Err(self.not_recorded(error, revision).await);
        }
        let number = next.number;
        self.controller.run(next, checked, bound).await?;
        Ok(answer(number, true))
    }

    /// What to tell an author whose revision was not taken. When the database holds one of that number already,
    /// an earlier commit was answered by silence: it runs now, and this author is told to look at it.
    async fn not_recorded(&self, error: StoreError, based_on: u64) -> ApplyError {
        if let StoreError::Stale { .. } = error
            && let Ok(Some(latest)) = self.store.latest_revision().await
        {
            let running = latest.number;
            match self.adopt_in_turn(latest).await {
                Ok(()) => return ApplyError::Stale { based_on, running },
                Err(error) => tracing::error!(%error, "the newest recorded revision does not run"),
            }
        }
        ApplyError::NotRecorded(error)
    }

    /// Runs a revision that the database has and this service does not: one whose commit was answered by silence.
    pub(crate) async fn adopt(&self, revision: Revision) -> Result<(), AdoptError> {
        let _turn = self.one_at_a_time.lock().await;
        self.adopt_in_turn(revision).await
    }

    /// As [`Self::adopt`], for whoever holds the turn.
    async fn adopt_in_turn(&self, revision: Revision) -> Result<(), AdoptError> {
        let running = self.controller.export().await?.map_or(0, |(revision, _)| revision.number);
        if revision.number <= running {
            return Ok(());
        }
        let number = revision.number;
        let checked = config::load(&revision.document, config::Format::Json)
            .map_err(|problems| AdoptError::Mistakes { number, problems })?;
        // An address that can't be had does not keep the rest from running; the controller tries it again.
        let bound = self.controller.bind(checked.clone()).await?.unwrap_or_default();
        Ok(self.controller.run(revision, checked, bound).await?)
    }
}

/// Why a recorded revision can't run.
#[derive(Debug, thiserror::Error)]
pub(crate) enum AdoptError {
    #[error("revision {number} does not pass this release's checks: {}", .problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Mistakes { number: u64, problems: Vec<Problem> },
    #[error(transparent)]
    Stopping(#[from] Stopping),
}
