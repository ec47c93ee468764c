//! CertificateKeeper: read from where documents refer to, looked at, and handed to the plane; replaced when their files change.

mod facts;
mod self_signed;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use merismos_api::{CertificateView, EventKind};
use merismos_core::config::document::{CertificateSpec, Document, FrontendSpec};
use merismos_core::config::{Warning, WarningLevel, WarningReason};
use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_plane::tls::{FrontendTls, ShownCertificate, TlsTable, TlsTerms, TlsTickets};
use merismos_probe::secret_ref::SecretCache;
use serde_json::json;
use sha2::{Digest, Sha256};

use self::facts::{CertificateError, LoadedCertificate};
use crate::clock::wall;
use crate::controller::Controller;
use crate::journal::Journal;

/// How often files are looked at.
const LOOKED_AT_EVERY: Duration = Duration::from_secs(5);
/// How long before its end a certificate is a headline.
const ENDS_SOON: Duration = Duration::from_secs(14 * 86_400);

/// A certificate of the document, as far as it could be had.
#[derive(Clone, Debug, Default)]
struct KnownCertificate {
    spec: Option<CertificateSpec>,
    /// Of what was read last, so that the same is not looked at again.
    digest: [u8; 32],
    /// What clients are shown: the last one that could be.
    loaded: Option<LoadedCertificate>,
    /// Why what stands there now can't be shown.
    problem: Option<String>,
}

#[derive(Debug)]
struct Shared {
    secrets: SecretCache,
    /// Where those stand that are made here.
    folder: PathBuf,
    table: TlsTable,
    tickets: TlsTickets,
    /// Held for a look or a change, and while files are read at a change of the document.
    known: Mutex<BTreeMap<Name, KnownCertificate>>,
}

/// All certificates, for whoever needs them.
#[derive(Clone, Debug)]
pub(crate) struct CertificateKeeper(Arc<Shared>);

/// What became of a certificate.
struct CertificateNews {
    name: Name,
    says: String,
}

impl CertificateKeeper {
    pub(crate) fn new(secrets: SecretCache, state_folder: &std::path::Path, table: TlsTable) -> Self {
        let folder = state_folder.join("certificates");
        let (tickets, known) = (TlsTickets::new(), Mutex::default());
        Self(Arc::new(Shared { secrets, folder, table, tickets, known }))
    }

    fn known(&self) -> MutexGuard<'_, BTreeMap<Name, KnownCertificate>> {
        self.0.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads what a document refers to, as far as it is not what was read before, and forgets all else. It blocks while files are read.
    fn load(&self, document: &Document) -> Vec<CertificateNews> {
        let now = wall();
        let mut news = Vec::new();
        let mut known = self.known();
        known.retain(|name, _| document.certificates.contains_key(name));
        for (name, spec) in &document.certificates {
            let before = known.entry(name.clone()).or_default();
            let is_same_spec = before.spec.as_ref() == Some(spec);
            let digest = if spec.self_signed.is_empty() { self.digest(spec) } else { [1; 32] };
            let renews = !spec.self_signed.is_empty()
                && before.loaded.as_ref().is_none_or(|loaded| self_signed::is_due(&loaded.facts, now));
            if is_same_spec && before.digest == digest && !renews {
                continue;
            }
            let was_shown = before.loaded.as_ref().map(|loaded| loaded.facts.sha256.clone());
            (before.spec, before.digest) = (Some(spec.clone()), digest);
            match self.read(name, spec, now) {
                Ok(loaded) => {
                    let facts = &loaded.facts;
                    let until = facts.not_after;
                    let says = format!(
                        "is shown to clients from now on: for {}, until {until}",
                        facts.names.join(", ")
                    );
                    let is_news =
                        was_shown.is_some_and(|sha256| sha256 != facts.sha256) || before.problem.is_some();
                    if is_news {
                        news.push(CertificateNews { name: name.clone(), says });
                    }
                    (before.loaded, before.problem) = (Some(loaded), None);
                }
                Err(problem) => {
                    let stays = match &before.loaded {
                        Some(loaded) => {
                            format!("; the one before, which ends on {}, stays", loaded.facts.not_after)
                        }
                        None => "; its frontends refuse the clients that it is for".to_owned(),
                    };
                    let problem = format!("can't be shown: {problem}{stays}");
                    if before.problem.as_ref() != Some(&problem) {
                        news.push(CertificateNews { name: name.clone(), says: problem.clone() });
                    }
                    before.problem = Some(problem);
                }
            }
        }
        news
    }

    /// The digest of what a certificate is read from.
    fn digest(&self, spec: &CertificateSpec) -> [u8; 32] {
        let mut digest = Sha256::new();
        for secret in [&spec.chain, &spec.key].into_iter().flatten() {
            digest.update(self.0.secrets.read(secret).unwrap_or_default());
            digest.update([0]);
        }
        digest.finalize().into()
    }

    fn read(&self, name: &Name, spec: &CertificateSpec, now: Wall) -> Result<LoadedCertificate, String> {
        let words = |error: &dyn std::fmt::Display| error.to_string();
        if let (Some(chain), Some(key)) = (&spec.chain, &spec.key) {
            let [chain, key] = [chain, key].map(|secret| self.0.secrets.read(secret));
            LoadedCertificate::read(&chain?, &key?).map_err(|error| words(&error))
        } else {
            self_signed::certificate(&self.0.folder, name, &spec.self_signed, now)
                .map_err(|error| words(&error))
        }
    }

    /// Reads what a document refers to and has frontends speak by it; what became of certificates goes to the journal. Frontends that the
    /// document does not have go on as they are, until [`Self::forget_others`].
    pub(crate) fn follow(&self, document: &Document, journal: &Journal) {
        for CertificateNews { name, says } in self.load(document) {
            journal.write(EventKind::Certificate, format!("certificate {name}"), says, json!({}));
        }
        let mut speaking = self.0.table.get();
        speaking.extend(self.speaking(document));
        self.0.table.set(speaking);
    }

    /// Frontends that the document does not have speak no more.
    pub(crate) fn forget_others(&self, document: &Document) {
        let mut speaking = self.0.table.get();
        speaking.retain(|name, _| document.frontends.contains_key(name));
        self.0.table.set(speaking);
    }

    /// How each frontend with a certificate that could be had speaks.
    fn speaking(&self, document: &Document) -> BTreeMap<Name, FrontendTls> {
        let known = self.known();
        let with_tls = document.frontends.iter().filter(|(_, spec)| !spec.certificates.is_empty());
        let speaking = with_tls.filter_map(|(name, spec)| {
            let shown = spec.certificates.iter().filter_map(|certificate| {
                let loaded = known.get(certificate)?.loaded.as_ref()?;
                Some(ShownCertificate { names: loaded.facts.names.clone(), key: Arc::clone(&loaded.key) })
            });
            let shown: Vec<ShownCertificate> = shown.collect();
            if shown.is_empty() {
                return None;
            }
            let terms = TlsTerms {
                policy: spec.tls_policy.unwrap_or_default(),
                unknown: spec.unknown_name.unwrap_or_default(),
                is_http: spec.http.is_some(),
            };
            match FrontendTls::new(shown, terms, &self.0.tickets) {
                Ok(tls) => Some((name.clone(), tls)),
                Err(error) => {
                    tracing::error!(%error, frontend = %name, "a frontend can't speak TLS");
                    None
                }
            }
        });
        speaking.collect()
    }

    /// What is wrong with new and changed certificates of a document, before it goes live.
    pub(crate) fn try_out(&self, old: &Document, new: &Document) -> Vec<Warning> {
        let now = wall();
        let mut warnings = Vec::new();
        for (name, spec) in &new.certificates {
            if old.certificates.get(name) == Some(spec) || !spec.self_signed.is_empty() {
                continue;
            }
            let path = format!("certificates.{name}");
            let problem = match self.read(name, spec, now) {
                Ok(loaded) => loaded.trouble(now).map(|trouble| trouble.to_string()),
                Err(problem) => Some(problem),
            };
            if let Some(problem) = problem {
                let is_used = new.frontends.values().any(|frontend| frontend.certificates.contains(name));
                let level = if is_used { WarningLevel::Warning } else { WarningLevel::Notice };
                warnings.push(Warning::new(&WarningReason::BadCertificate { problem }, level, &path));
            }
        }
        warnings
    }

    /// Every certificate of the document that runs.
    pub(crate) fn views(&self, document: &Document) -> Vec<CertificateView> {
        let now = wall();
        let known = self.known();
        let views = known.iter().map(|(name, certificate)| {
            let users = document.frontends.iter().filter(|(_, spec)| spec.certificates.contains(name));
            let facts = certificate.loaded.as_ref().map(|loaded| &loaded.facts);
            CertificateView {
                name: name.to_string(),
                names: facts.map(|facts| facts.names.clone()).unwrap_or_default(),
                issuer: facts.map(|facts| facts.issuer.clone()),
                is_self_signed: facts.is_some_and(|facts| facts.is_self_signed),
                not_before: facts.map(|facts| facts.not_before),
                not_after: facts.map(|facts| facts.not_after),
                days_left: facts.map(|facts| days_left(facts.not_after, now)),
                chain_length: facts.map_or(0, |facts| facts.behind as u64 + 1),
                sha256: facts.map(|facts| facts.sha256.clone()),
                frontends: users.map(|(name, _)| name.to_string()).collect(),
                problem: certificate.problem.clone().or_else(|| trouble(certificate, now)),
            }
        });
        views.collect()
    }

    /// Why the last handshake of a frontend that came to nothing did.
    pub(crate) fn last_failure(&self, frontend: &Name) -> Option<String> {
        self.0.table.last_failure(frontend)
    }

    /// The name that clients of a frontend ask for when nobody says another one: the first of its first certificate.
    pub(crate) fn usual_name(&self, spec: &FrontendSpec) -> Option<String> {
        let first = spec.certificates.first()?;
        let known = self.known();
        let name = known.get(first).and_then(|known| known.loaded.as_ref()?.facts.names.first());
        let name =
            name.map(|name| name.strip_prefix("*.").map_or(name.clone(), |rest| format!("www.{rest}")));
        Some(name.unwrap_or_else(|| spec.listen.get().ip().to_string()))
    }

    /// CertificateKeeper that need an operator, a sentence each.
    pub(crate) fn troubles(&self, now: Wall) -> Vec<String> {
        let known = self.known();
        let troubles = known.iter().filter_map(|(name, certificate)| {
            if let Some(problem) = &certificate.problem {
                return Some(format!("certificate {name} {problem}"));
            }
            if let Some(trouble) = trouble(certificate, now) {
                return Some(format!("certificate {name}: {trouble}"));
            }
            let spec = certificate.spec.as_ref()?;
            let end = certificate.loaded.as_ref()?.facts.not_after;
            let is_near = spec.self_signed.is_empty() && end <= now.plus(ENDS_SOON);
            is_near.then(|| {
                format!(
                    "certificate {name} ends in {} ({end}): put a new chain and key into its files, which are followed by themselves",
                    humane(end.since(now))
                )
            })
        });
        troubles.collect()
    }
}

/// Why clients do not take what they are shown.
fn trouble(certificate: &KnownCertificate, now: Wall) -> Option<String> {
    let trouble: CertificateError = certificate.loaded.as_ref()?.trouble(now)?;
    Some(format!("{trouble}; clients are shown it all the same, and warn"))
}

/// Whole days until a moment; fewer than 0 when it has passed.
fn days_left(end: Wall, now: Wall) -> i64 {
    (end.0 - now.0).div_euclid(86_400_000)
}

/// Looks at the files of certificates every few seconds, for as long as the service runs.
pub(crate) async fn keep_up(certificates: CertificateKeeper, controller: Controller, journal: Journal) {
    loop {
        tokio::time::sleep(LOOKED_AT_EVERY).await;
        let Ok(view) = controller.view().await else { return };
        let document = view.effective.shared();
        if document.certificates.is_empty() {
            continue;
        }
        let (certificates, journal) = (certificates.clone(), journal.clone());
        let followed = tokio::task::spawn_blocking(move || certificates.follow(&document, &journal));
        if let Err(error) = followed.await {
            tracing::error!(%error, "certificates were not looked at");
        }
    }
}
