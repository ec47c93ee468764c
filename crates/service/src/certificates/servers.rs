//! How the servers of pools are trusted: read from where documents refer to, and handed to the plane.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use merismos_core::config::document::{CertificateTrust, Document};
use merismos_core::config::{Warning, WarningLevel, WarningReason};
use merismos_core::name::Name;
use merismos_plane::tls::{ServerTls, ServerTlsTable};
use sha2::{Digest, Sha256};

/// For how long a handshake that failed is shown.
const SHOWN_FOR: Duration = Duration::from_secs(60);

/// What a pool's servers are trusted by.
#[derive(Clone, Debug)]
struct KnownTrust {
    trust: CertificateTrust,
    /// Of the file of authorities, so that the same is not read again: sessions with servers would begin anew.
    digest: [u8; 32],
    /// The last one that could be had.
    tls: Option<Arc<ServerTls>>,
    /// Why the newest can't be.
    problem: Option<String>,
}

/// The trust of all pools whose servers speak TLS.
#[derive(Debug)]
pub(super) struct ServerTrusts {
    table: ServerTlsTable,
    /// Held for a look or a change, never while a file is read.
    known: Mutex<BTreeMap<Name, KnownTrust>>,
}

fn digest(trust: &CertificateTrust) -> [u8; 32] {
    let text = trust.authorities.as_ref().map(|path| std::fs::read(path).unwrap_or_default());
    Sha256::digest(text.unwrap_or_default()).into()
}

impl ServerTrusts {
    pub(super) fn new(table: ServerTlsTable) -> Self {
        Self { table, known: Mutex::default() }
    }

    fn known(&self) -> MutexGuard<'_, BTreeMap<Name, KnownTrust>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether there is anything to read for a document.
    pub(super) fn are_needed(document: &Document) -> bool {
        document.pools.values().any(|pool| pool.reaching.tls.is_some())
    }

    /// Reads what a document refers to, as far as it is not what was read before. It blocks. Gives what is to be said of pools.
    pub(super) fn load(&self, document: &Document) -> Vec<(Name, String)> {
        let mut news = Vec::new();
        for (name, pool) in &document.pools {
            let Some(trust) = &pool.reaching.tls else { continue };
            let (before, digest) = (self.known().get(name).cloned(), digest(trust));
            if before.as_ref().is_some_and(|known| known.trust == *trust && known.digest == digest) {
                continue;
            }
            let (shown, problem) = before.map_or((None, None), |before| (before.tls, before.problem));
            let known = match ServerTls::new(trust.clone()) {
                Ok(tls) => {
                    if problem.is_some() {
                        news.push((name.clone(), "its servers are verified by new authorities".to_owned()));
                    }
                    KnownTrust { trust: trust.clone(), digest, tls: Some(Arc::new(tls)), problem: None }
                }
                Err(error) => {
                    // Those of another trust must not stand in for one that was made stricter.
                    let tls = shown.filter(|tls| tls.trust() == trust);
                    let stays =
                        if tls.is_some() { "those before stay" } else { "none of its servers is reached" };
                    let says = format!("{error}; {stays}");
                    if problem.as_ref() != Some(&says) {
                        news.push((name.clone(), says.clone()));
                    }
                    KnownTrust { trust: trust.clone(), digest, tls, problem: Some(says) }
                }
            };
            self.known().insert(name.clone(), known);
        }
        news
    }

    /// Has the servers of a document's pools spoken to by what was read. Others go on as they are.
    pub(super) fn speak(&self, document: &Document) {
        let mut speaking = self.table.get();
        let known = self.known();
        for (name, pool) in &document.pools {
            let known = known.get(name).filter(|known| pool.reaching.tls.as_ref() == Some(&known.trust));
            if let Some(tls) = known.and_then(|known| known.tls.as_ref()) {
                speaking.insert(name.clone(), Arc::clone(tls));
            } else if pool.reaching.tls.is_some() {
                speaking.remove(name);
            }
        }
        drop(known);
        self.table.set(speaking);
    }

    /// Pools that the document does not have, or that speak no TLS in it, are forgotten.
    pub(super) fn forget_others(&self, document: &Document) {
        let stays = |name: &Name| document.pools.get(name).is_some_and(|pool| pool.reaching.tls.is_some());
        let mut speaking = self.table.get();
        speaking.retain(|name, _| stays(name));
        self.table.set(speaking);
        self.known().retain(|name, _| stays(name));
    }

    /// What is wrong with what new and changed pools trust, before it goes live.
    pub(super) fn try_out(old: &Document, new: &Document) -> Vec<Warning> {
        let changed = new.pools.iter().filter_map(|(name, pool)| {
            let trust = pool.reaching.tls.as_ref()?;
            let before = old.pools.get(name).and_then(|pool| pool.reaching.tls.as_ref());
            (before != Some(trust)).then_some((name, trust))
        });
        let warnings = changed.filter_map(|(name, trust)| {
            let problem = ServerTls::new(trust.clone()).err()?.to_string();
            let is_used =
                new.frontends.values().any(|frontend| new.pools_of(frontend).any(|pool| pool == name));
            let level = if is_used { WarningLevel::Warning } else { WarningLevel::Notice };
            let path = format!("pools.{name}.tls");
            Some(Warning::new(&WarningReason::NoTrust { pool: name.clone(), problem }, level, &path))
        });
        warnings.collect()
    }

    /// Pools whose servers are not trusted as their document says, a sentence each.
    pub(super) fn troubles(&self) -> Vec<String> {
        let known = self.known();
        let troubles = known.iter().filter_map(|(name, known)| {
            known.problem.as_ref().map(|problem| format!("pool {name}: {problem}"))
        });
        troubles.collect()
    }

    /// Why a handshake with a server of the pool failed a moment ago.
    pub(super) fn last_failure(&self, pool: &Name) -> Option<String> {
        self.table.last_failure(pool, SHOWN_FOR)
    }
}
