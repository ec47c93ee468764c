//! What is wrong with this node itself, until it is mended: shown in the status beside what is wrong with traffic.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

/// What a trouble is about. There is one of a kind at a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum TroubleKind {
    /// There are too few file descriptors.
    Descriptors,
    /// The machine runs short of something else.
    Machine,
    /// Clients hold too much memory.
    ClientMemory,
    /// The state file can't be written.
    StateFileWrite,
    /// The state file could not be read at the start.
    StateFileRead,
    /// Pins that are to be kept can't be written.
    KeptPins,
    /// The database does not answer.
    DatabaseAway,
    /// The database refused at the start.
    Database,
    /// The database holds another revision of the number that runs here.
    OtherRevision,
    /// A revision that another node made does not run here.
    Unfollowed,
    /// What nodes share was sealed with another key than this node's.
    ForeignSecrets,
    /// Revisions are missing from the database.
    LostRevisions,
    /// A file with a secret was broken at the start.
    PinSecret,
    /// The file with the secret that seals what the database keeps was broken at the start.
    StoreSecret,
    /// The file with the node's identity was broken at the start.
    NodeId,
    /// The file with the first token was broken at the start.
    FirstToken,
    /// Others may read the state folder.
    StateFolder,
    /// The API can be reached from elsewhere without encryption.
    PlainApi,
}

/// Everything that is wrong with this node.
#[derive(Clone, Debug, Default)]
pub(crate) struct Troubles {
    /// Held for a look or a change only.
    known: Arc<Mutex<BTreeMap<TroubleKind, String>>>,
}

impl Troubles {
    /// Something is wrong; a sentence that says what it means and what to do. Gives whether it is news.
    pub(crate) fn set(&self, kind: TroubleKind, message: impl Into<String>) -> bool {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.insert(kind, message.into()).is_none()
    }

    /// It is mended. Gives whether it was wrong.
    pub(crate) fn clear(&self, kind: TroubleKind) -> bool {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.remove(&kind).is_some()
    }

    /// What is wrong, a sentence each.
    pub(crate) fn messages(&self) -> Vec<String> {
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.values().cloned().collect()
    }
}
