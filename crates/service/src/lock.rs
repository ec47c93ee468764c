//! The lock of a state folder: one service uses it at a time. A service that takes over from another gets the lock with everything else.

use std::fs::{DirBuilder, File, OpenOptions};
use std::io::{self, Seek, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

/// Why a state folder can't be had.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LockError {
    #[error("the state folder {path} can't be used", path = path.display())]
    Folder { path: PathBuf, source: io::Error },
    #[error(
        "another merismosd uses the state folder {path}: stop it, give this one a folder of its own, or let this one take over \
         from it: `merismosd upgrade`",
        path = path.display()
    )]
    Locked { path: PathBuf },
}

/// A state folder that is this service's.
#[derive(Debug)]
pub(crate) struct FolderLock(File);

impl FolderLock {
    /// Makes the folder, and locks it against a second service.
    pub(crate) fn take(folder: &Path) -> Result<Self, LockError> {
        let wrong = |source| LockError::Folder { path: folder.to_owned(), source };
        DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(wrong)?;
        let mut options = OpenOptions::new();
        let options = options.read(true).write(true).create(true).truncate(false);
        let file = options.open(folder.join("lock")).map_err(wrong)?;
        match file.try_lock() {
            Ok(()) => Self::named(file).map_err(wrong),
            Err(std::fs::TryLockError::WouldBlock) => Err(LockError::Locked { path: folder.to_owned() }),
            Err(std::fs::TryLockError::Error(source)) => Err(wrong(source)),
        }
    }

    /// The lock that another service holds and hands over: it is both's until that one ends.
    pub(crate) fn inherit(folder: &Path, file: File) -> Result<Self, LockError> {
        Self::named(file).map_err(|source| LockError::Folder { path: folder.to_owned(), source })
    }

    /// Writes whose it is, for people.
    fn named(mut file: File) -> io::Result<Self> {
        file.rewind()?;
        file.set_len(0)?;
        write!(file, "{}", std::process::id())?;
        file.flush()?;
        Ok(Self(file))
    }

    /// Another descriptor of the lock, for a successor.
    pub(crate) fn copy(&self) -> io::Result<OwnedFd> {
        self.0.try_clone().map(OwnedFd::from)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_is_one_services_until_its_lock_and_every_copy_are_gone() {
        let folder = tempfile::tempdir().unwrap();
        let lock = FolderLock::take(folder.path()).unwrap();
        assert!(matches!(FolderLock::take(folder.path()), Err(LockError::Locked { .. })));
        let handed = FolderLock::inherit(folder.path(), lock.copy().unwrap().into()).unwrap();
        drop(lock);
        assert!(matches!(FolderLock::take(folder.path()), Err(LockError::Locked { .. })));
        let holder = std::fs::read_to_string(folder.path().join("lock")).unwrap();
        assert_eq!(holder, std::process::id().to_string());
        drop(handed);
        FolderLock::take(folder.path()).unwrap();
    }
}
