//! Keeps pins over a restart, for pools that want it (`pin_keep`): every few seconds what was made or used since is added to their files.

use std::collections::BTreeMap;
use std::io;
use std::sync::Arc;
use std::time::Duration;

use merismos_core::pins::{KeptPin, PinScope, PinTable};
use merismos_store::files::set_aside;
use merismos_store::pin_files::PinFiles;
use serde_json::json;
use tokio::sync::{Mutex, OwnedMutexGuard, mpsc, oneshot};

use crate::controller::Controller;
use crate::journal::Journal;
use crate::troubles::{TroubleKind, Troubles};

/// How often pins are written. So much may be lost with a crash.
const WRITTEN_EVERY: Duration = Duration::from_secs(5);
/// A file that holds so many times the pins that there are is written anew.
const MOST_TIMES: u64 = 2;
/// Up to so many pins a file is not written anew.
const FEW: u64 = 10_000;
/// How long the last pins may take to be on the disk.
const LAST_WITHIN: Duration = Duration::from_secs(5);

/// Reads all pins that are kept. What can't be read is logged, and its clients get new pins.
pub(crate) fn load(files: &PinFiles) -> Vec<(PinScope, Vec<KeptPin>)> {
    let scopes = files.scopes().unwrap_or_else(|error| {
        tracing::error!(%error, folder = %files.folder().display(), "kept pins can't be read");
        Vec::new()
    });
    let read = |scope: PinScope| match files.read(&scope) {
        Ok(pins) => Some((scope, pins)),
        Err(error) => {
            let aside = set_aside(&files.path(&scope)).map(|path| path.display().to_string());
            tracing::error!(%error, pins = %scope, aside = aside.unwrap_or_default(), "kept pins can't be read");
            None
        }
    };
    scopes.into_iter().filter_map(read).collect()
}

/// The tables whose pins are kept, and the second that pins count by.
#[derive(Debug)]
pub(crate) struct KeptTables {
    pub(crate) tables: Vec<(PinScope, Arc<PinTable>)>,
    pub(crate) second: u32,
}

/// The task that writes pins.
#[derive(Clone, Debug)]
pub(crate) struct PinKeeper {
    finish: mpsc::Sender<oneshot::Sender<()>>,
    /// Held while the files are written.
    files: Arc<Mutex<()>>,
}

/// The files of pins are another's as long as this is there.
#[derive(Debug)]
pub(crate) struct HeldPinFiles {
    _files: OwnedMutexGuard<()>,
}

impl PinKeeper {
    pub(crate) fn start(
        controller: Controller,
        files: PinFiles,
        troubles: Troubles,
        journal: Journal,
    ) -> Self {
        let (finish, mut asked) = mpsc::channel::<oneshot::Sender<()>>(1);
        let writing = Arc::<Mutex<()>>::default();
        let held = Arc::clone(&writing);
        tokio::spawn(async move {
            let mut written = WrittenPins { files, progress: BTreeMap::new() };
            loop {
                let last = tokio::time::timeout(WRITTEN_EVERY, asked.recv()).await.ok().flatten();
                let _held = held.lock().await;
                let Ok(kept) = controller.kept_pins().await else { return };
                let pass = tokio::task::spawn_blocking(move || {
                    let done = written.write(&kept);
                    (written, done)
                });
                let Ok((next, done)) = pass.await else { return };
                written = next;
                match done {
                    Ok(()) => {
                        if troubles.clear(TroubleKind::KeptPins) {
                            journal.here("pins are written again".to_owned(), json!({}));
                        }
                    }
                    Err(error) => {
                        let says = format!(
                            "pins can't be written to {}: {error}. After a restart clients get new pins; make room on the disk",
                            written.files.folder().display()
                        );
                        if troubles.set(TroubleKind::KeptPins, says.clone()) {
                            journal.here(says, json!({}));
                        }
                    }
                }
                if let Some(done) = last {
                    let _ = done.send(());
                    return;
                }
            }
        });
        Self { finish, files: writing }
    }

    /// Leaves the files alone until what this gives is dropped.
    pub(crate) async fn hold(&self) -> HeldPinFiles {
        HeldPinFiles { _files: Arc::clone(&self.files).lock_owned().await }
    }

    /// Writes what there is, and no more after it.
    pub(crate) async fn finish(&self) {
        let (done, finished) = oneshot::channel();
        if self.finish.send(done).await.is_ok() {
            let _ = tokio::time::timeout(LAST_WITHIN, finished).await;
        }
    }
}

/// How far the files have come.
#[derive(Debug)]
struct WrittenPins {
    files: PinFiles,
    /// Of each file: from which second on pins are missing, how many it holds, and how many removals its table had seen.
    progress: BTreeMap<PinScope, (u32, u64, u64)>,
}

impl WrittenPins {
    fn write(&mut self, kept: &KeptTables) -> io::Result<()> {
        for scope in self.files.scopes()? {
            if !kept.tables.iter().any(|(known, _)| *known == scope) {
                self.files.remove(&scope)?;
                self.progress.remove(&scope);
            }
        }
        for (scope, table) in &kept.tables {
            // What can't be added is written anew the next time.
            let known = self.progress.remove(scope);
            let removals = table.removals();
            let next = match known {
                Some((since, held, seen))
                    if seen == removals && held <= FEW.max(table.len() * MOST_TIMES) =>
                {
                    let pins = table.changed_since(since);
                    if !pins.is_empty() {
                        self.files.append(scope, &pins)?;
                    }
                    held + pins.len() as u64
                }
                _ => {
                    let pins = table.changed_since(0);
                    self.files.write(scope, &pins)?;
                    pins.len() as u64
                }
            };
            // Pins of this second may still change within it.
            self.progress.insert(scope.clone(), (kept.second, next, removals));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use merismos_core::pins::{LearnedPin, PinDigest, PinLimits};

    use super::*;

    const LIMITS: PinLimits = PinLimits { pins: 100, idle: 600, lifetime: None };

    fn put(table: &PinTable, key: u64, second: u32) {
        let client = "192.0.2.7".parse().unwrap();
        let pin = LearnedPin { server: key, client, kind: 0, made: second, used: second };
        table.put(PinDigest(key), pin, &LIMITS);
    }

    #[test]
    fn what_was_made_since_is_added_and_what_was_removed_is_not_kept() {
        let folder = tempfile::tempdir().unwrap();
        let files = PinFiles::new(folder.path().join("pins"));
        let scope = PinScope::Pool("quay".parse().unwrap());
        let gone = PinScope::Pool("gone".parse().unwrap());
        files.write(&gone, &[]).unwrap();
        let table = Arc::new(PinTable::new(1));
        put(&table, 1, 5);
        let kept = |second| KeptTables { tables: vec![(scope.clone(), Arc::clone(&table))], second };
        let mut written = WrittenPins { files: files.clone(), progress: BTreeMap::new() };
        written.write(&kept(6)).unwrap();
        put(&table, 2, 7);
        written.write(&kept(8)).unwrap();
        let keys = || files.read(&scope).unwrap().iter().map(|kept| kept.key.0).collect::<Vec<_>>();
        assert_eq!(keys(), [1, 2], "added at the end");
        assert_eq!(
            files.scopes().unwrap(),
            std::slice::from_ref(&scope),
            "pools that keep none any more have no file"
        );
        assert_eq!(table.remove_where(|key, _| key.0 == 1), 1);
        written.write(&kept(9)).unwrap();
        assert_eq!(keys(), [2]);
        let loaded = load(&files);
        assert_eq!((loaded.len(), loaded[0].1.len()), (1, 1));
        std::fs::write(files.path(&scope), "broken").unwrap();
        assert!(load(&files).is_empty());
        assert!(!files.path(&scope).exists(), "it is kept aside");
    }
}
