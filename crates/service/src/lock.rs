//! The lock of a state folder, and how one service hands it to the next.
//!
//! The file `lock` is locked by the service that uses the folder, and holds its process number, with `listening` behind it once its
//! frontends listen. A service that is told to stop writes its state, gives the lock back and goes on taking clients until the next one
//! listens beside it (their sockets share their ports, `SO_REUSEPORT`), or until it is plain that none comes.

use std::fs::{DirBuilder, File, OpenOptions};
use std::io::{self, Read, Seek, Write};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process, test_kill_process};

/// How long a service waits for the one that it replaces to give the lock back.
const HAND_OVER_LIMIT: Duration = Duration::from_secs(15);
/// How often it is looked.
const LOOK_EVERY: Duration = Duration::from_millis(10);
/// How long a service that stops looks whether another one takes the lock.
const SUCCESSOR_WITHIN: Duration = Duration::from_millis(150);
/// How long the next one may take until it listens.
const SUCCESSOR_LISTENS_WITHIN: Duration = Duration::from_secs(10);

const LISTENING: &str = "listening";

/// Why a state folder can't be had.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LockError {
    #[error("the state folder {path} can't be used", path = path.display())]
    Folder { path: PathBuf, source: io::Error },
    #[error(
        "another merismosd uses the state folder {path}: stop it, give this one a folder of its own, or let this one take its \
         place with --replace",
        path = path.display()
    )]
    Locked { path: PathBuf },
    #[error("the merismosd that uses the state folder {path} did not give it back within 15 s; it was asked to stop", path = path.display())]
    NotGiven { path: PathBuf },
}

/// A state folder that is this service's.
#[derive(Debug)]
pub(crate) struct FolderLock {
    path: PathBuf,
    file: File,
    /// The service before this one still sees its clients through: its sockets are beside ours.
    pub(crate) has_predecessor: bool,
}

fn open(path: &Path) -> io::Result<File> {
    OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path)
}

fn try_lock(file: &File) -> io::Result<bool> {
    match file.try_lock() {
        Ok(()) => Ok(true),
        Err(std::fs::TryLockError::WouldBlock) => Ok(false),
        Err(std::fs::TryLockError::Error(source)) => Err(source),
    }
}

/// What a lock file says: whose it is, and whether that one listens.
fn read(path: &Path) -> (Option<Pid>, bool) {
    let text = std::fs::read_to_string(path).unwrap_or_default();
    let mut words = text.split_whitespace();
    let pid = words.next().and_then(|word| word.parse().ok()).and_then(Pid::from_raw);
    (pid, words.next() == Some(LISTENING))
}

impl FolderLock {
    /// Makes the folder, and locks it against a second service; `replace`s the one that has it.
    pub(crate) async fn take(folder: &Path, replace: bool) -> Result<Self, LockError> {
        let wrong = |source| LockError::Folder { path: folder.to_owned(), source };
        DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(wrong)?;
        let path = folder.join("lock");
        let file = open(&path).map_err(wrong)?;
        let (before, _) = read(&path);
        if !try_lock(&file).map_err(wrong)? {
            if !replace {
                return Err(LockError::Locked { path: folder.to_owned() });
            }
            if let Some(pid) = before {
                tracing::info!(process = pid.as_raw_nonzero(), "taking the place of the service that runs");
                // One that is gone by now has given the lock back.
                let _ = kill_process(pid, Signal::TERM);
            }
            let end = Instant::now() + HAND_OVER_LIMIT;
            while !try_lock(&file).map_err(wrong)? {
                if Instant::now() >= end {
                    return Err(LockError::NotGiven { path: folder.to_owned() });
                }
                tokio::time::sleep(LOOK_EVERY).await;
            }
        }
        let has_predecessor = before.is_some_and(|pid| is_merismosd(pid) && test_kill_process(pid).is_ok());
        let mut lock = Self { path, file, has_predecessor };
        lock.write("").map_err(wrong)?;
        Ok(lock)
    }

    fn write(&mut self, more: &str) -> io::Result<()> {
        self.file.rewind()?;
        self.file.set_len(0)?;
        write!(self.file, "{} {more}", std::process::id())?;
        self.file.flush()
    }

    /// Says that the frontends listen, so that the service before this one need not.
    pub(crate) fn say_listening(&mut self) {
        if let Err(error) = self.write(LISTENING) {
            tracing::warn!(%error, "the lock file can't be written");
        }
    }

    /// Gives the lock back, and waits until the next service listens; gives at once whether there is one by `on_successor`.
    pub(crate) async fn hand_over(mut self, on_successor: impl FnOnce()) {
        let _ = self.file.unlock();
        let own = std::process::id();
        let is_other = |pid: Option<Pid>| pid.is_some_and(|pid| pid.as_raw_nonzero().get() as u32 != own);
        let end = Instant::now() + SUCCESSOR_WITHIN;
        while !is_other(read(&self.path).0) {
            if Instant::now() >= end {
                return;
            }
            tokio::time::sleep(LOOK_EVERY).await;
        }
        on_successor();
        let end = Instant::now() + SUCCESSOR_LISTENS_WITHIN;
        while !read(&self.path).1 && Instant::now() < end {
            tokio::time::sleep(LOOK_EVERY).await;
        }
        // Read once more for the log alone.
        let mut text = String::new();
        let _ = self.file.rewind().and_then(|()| self.file.read_to_string(&mut text));
        tracing::info!(next = text.trim(), "the next service listens; this one sees its clients through");
    }
}

/// Whether a process is a service like this one; its number may be another program's by now.
fn is_merismosd(pid: Pid) -> bool {
    let name = std::fs::read_to_string(format!("/proc/{}/comm", pid.as_raw_nonzero()));
    name.is_ok_and(|name| name.trim() == "merismosd")
        && pid.as_raw_nonzero().get() as u32 != std::process::id()
}
