//! The copy: a file from which the service starts and serves when the database is away.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};

use merismos_core::config::discovery::DiscoveredServer;
use merismos_core::duty::DutyOrder;
use merismos_core::health::{HealthState, ServerFeedback};
use merismos_core::pins::FormerNames;
use merismos_core::tiers::TierHold;
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};

use crate::files::write_whole;
use crate::plans::StoredPlan;
use crate::{Revision, Token};

/// Everything that the service needs to go on as it was.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StateSnapshot {
    /// When it was written: until then its servers were watched.
    #[serde(default)]
    pub written: Option<Wall>,
    /// The revision that ran last; absent before the first one.
    pub revision: Option<Revision>,
    /// Every order, by `pool/server`.
    pub duties: BTreeMap<String, DutyOrder>,
    /// Windows and rolls, also those that were removed lately.
    #[serde(default)]
    pub plans: Vec<StoredPlan>,
    /// The health seen last, by `pool/server address`.
    pub health: BTreeMap<String, KnownHealth>,
    /// Who may use the API.
    pub tokens: Vec<Token>,
    /// Who is logged in to the console of this node.
    #[serde(default)]
    pub sessions: Vec<StoredSession>,
    /// What the lookups found last, by `pool/lookup`.
    #[serde(default)]
    pub found: BTreeMap<String, BTreeSet<DiscoveredServer>>,
    /// The tiers that pools work on whose work does not go back by itself.
    #[serde(default)]
    pub tiers: BTreeMap<String, TierHold>,
    /// What pools and their servers were called before, by the pool's name now.
    #[serde(default)]
    pub former_names: BTreeMap<String, FormerNames>,
}

/// One log-in to the console.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredSession {
    /// The SHA-256 of its secret in hexadecimal.
    pub hash: String,
    /// The hash of the token that it was begun with; it ends with it.
    pub token: String,
    /// When it was begun.
    pub at: Wall,
    /// When it was used last.
    pub used: Wall,
}

/// A server's health as it was seen last.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KnownHealth {
    /// The state when the snapshot was written.
    pub state: HealthState,
    /// Since when it had this state.
    pub since: Wall,
    /// What it asked for.
    #[serde(default, alias = "wish")]
    pub feedback: Option<ServerFeedback>,
    /// Until when it is held down.
    #[serde(default)]
    pub held_until: Option<Wall>,
}

/// Why the copy can't be used.
#[derive(Debug, thiserror::Error)]
pub enum StateSnapshotError {
    /// The file can't be read or written.
    #[error("{path} can't be read or written: {source}", path = path.display())]
    File {
        /// The file that could not be read.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The file holds something else.
    #[error("{path} is not a copy that this release wrote: {source}", path = path.display())]
    Content {
        /// The file with the mistake.
        path: PathBuf,
        /// The mistake and its place.
        source: serde_json::Error,
    },
}

/// Reads the copy; `None` when there is none yet.
///
/// # Errors
/// When the file is there and can't be used.
pub fn read(path: &Path) -> Result<Option<StateSnapshot>, StateSnapshotError> {
    let text = match std::fs::read(path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(source) => return Err(StateSnapshotError::File { path: path.to_owned(), source }),
    };
    let copy = serde_json::from_slice(&text);
    let mut copy: StateSnapshot =
        copy.map_err(|source| StateSnapshotError::Content { path: path.to_owned(), source })?;
    // An earlier release did not write when it wrote; the system knows.
    copy.written = copy.written.or_else(|| modified(path));
    Ok(Some(copy))
}

fn modified(path: &Path) -> Option<Wall> {
    let at = std::fs::metadata(path).and_then(|file| file.modified()).ok()?;
    let since = at.duration_since(std::time::UNIX_EPOCH).ok()?;
    Some(Wall(i64::try_from(since.as_millis()).ok()?))
}

/// Writes the copy: after a crash the file holds the old one or the new one, whole. Only its owner can read it.
///
/// # Errors
/// When the file can't be written; the old one is untouched then.
pub fn write(path: &Path, copy: &StateSnapshot) -> Result<(), StateSnapshotError> {
    let wrong = |source| StateSnapshotError::File { path: path.to_owned(), source };
    let text = serde_json::to_vec(copy).map_err(|error| wrong(io::Error::other(error)))?;
    write_whole(path, &text).map_err(wrong)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_copy_comes_back_as_it_was_and_is_for_its_owner_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("copy.json");
        assert_eq!(read(&path).unwrap(), None);
        let mut copy = StateSnapshot { written: Some(Wall(7)), ..StateSnapshot::default() };
        copy.health.insert(
            "booking/gull 192.0.2.21:80".to_owned(),
            KnownHealth {
                state: HealthState::Down,
                since: Wall(5),
                feedback: Some(ServerFeedback::Share(30)),
                held_until: Some(Wall(9)),
            },
        );
        write(&path, &copy).unwrap();
        assert_eq!(read(&path).unwrap().as_ref(), Some(&copy));
        // One that does not say when it was written is as old as its file.
        write(&path, &StateSnapshot { written: None, ..copy }).unwrap();
        assert!(read(&path).unwrap().unwrap().written > Some(Wall(7)));
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
    }

    #[test]
    fn a_broken_copy_is_told_and_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("copy.json");
        std::fs::write(&path, "{").unwrap();
        assert!(matches!(read(&path), Err(StateSnapshotError::Content { .. })));
        assert!(write(&folder.path().join("none/copy.json"), &StateSnapshot::default()).is_err());
    }
}
