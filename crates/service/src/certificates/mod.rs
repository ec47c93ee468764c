//! Certificates, and how servers are trusted: read from where documents refer to, looked at, and handed to the plane; replaced when their files change.

mod client_view;
mod clients;
mod coverage;
mod facts;
mod orders;
mod sealed;
mod self_signed;
mod servers;
mod tickets;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use merismos_api::{CertificateView, EventKind, HandshakeView};
use merismos_connector::identity;
use merismos_core::config::document::{
    CertificateSpec, CertificateTrust, DaysBefore, Document, FrontendSpec, NotifiedChange, SecretRef,
};
use merismos_core::config::impact::CertificateChange;
use merismos_core::config::{Warning, WarningLevel, WarningReason};
use merismos_core::name::Name;
use merismos_core::notifications::ReportedChange;
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_plane::tls::{FrontendTls, ServerTlsTable, ShownCertificate, TlsTable, TlsTerms, TlsTickets};
use merismos_probe::secret_ref::{FileStamp, SecretCache};
use merismos_store::{SharedSecret, Store, StoreError};
use rustls::server::ProducesTickets;
use serde_json::json;
use sha2::{Digest, Sha256};
use tokio::sync::Notify;

pub(crate) use self::client_view::from_here;
use self::clients::ClientTrusts;
use self::coverage::{certificate_changes, uncovered_hosts};
use self::facts::{CertificateError, LoadedCertificate};
pub(crate) use self::orders::{CertificateOrderError, OrderMeans};
use self::orders::{OrderDesk, kept};
pub(crate) use self::sealed::SealingKey;
use self::servers::ServerTrusts;
use self::tickets::TicketKeys;
use crate::clock::wall;
use crate::controller::Controller;
use crate::journal::Journal;
use crate::notifications::{ChangeReport, NotificationSender};

/// How often files are looked at.
const LOOKED_AT_EVERY: Duration = Duration::from_secs(5);
/// How long files are waited for.
const READ_WITHIN: Duration = Duration::from_secs(5);
/// How long before its end a certificate is a headline.
const ENDS_SOON: Duration = Duration::from_secs(14 * 86_400);

/// A certificate of the document, as far as it could be had.
#[derive(Clone, Debug)]
struct KnownCertificate {
    spec: CertificateSpec,
    /// Of what was read last, so that the same is not looked at again.
    digest: [u8; 32],
    /// Of the files that it was read from, so that they need not be read again.
    stamps: Option<[FileStamp; 2]>,
    /// What clients are shown: the last one that could be.
    loaded: Option<LoadedCertificate>,
    /// Why what stands there now can't be shown.
    problem: Option<String>,
    /// Who can read its key that should not.
    exposed: Option<String>,
}

/// The name of the keys of session tickets in the database, and what they are sealed for.
const TICKET_KEYS: &str = "ticket-keys";

#[derive(Debug)]
struct Shared {
    secrets: SecretCache,
    /// Where those stand that are made here.
    folder: PathBuf,
    table: TlsTable,
    servers: ServerTrusts,
    clients: ClientTrusts,
    orders: OrderDesk,
    tickets: Arc<TicketKeys>,
    journal: Journal,
    messages: NotificationSender,
    /// Held for a look or a change, never while a file is read.
    known: Mutex<BTreeMap<Name, KnownCertificate>>,
    /// Notified when there is something to look at before the time: another document, or an order that has come to an end.
    wake: Arc<Notify>,
    /// Held by who reads files, so that of two what was read later is kept.
    reading: Arc<tokio::sync::Mutex<()>>,
}

/// All certificates, for whoever needs them.
#[derive(Clone, Debug)]
pub(crate) struct CertificateKeeper(Arc<Shared>);

impl CertificateKeeper {
    /// Hands what it reads to the plane by its tables.
    pub(crate) fn new(
        secrets: SecretCache,
        state_folder: &Path,
        table: TlsTable,
        servers: ServerTlsTable,
        orders: OrderMeans,
        journal: Journal,
        messages: NotificationSender,
    ) -> Self {
        let folder = state_folder.join("certificates");
        let tickets = Arc::new(TicketKeys::of(state_folder, wall()));
        let (known, reading) = (Mutex::default(), Arc::default());
        let servers = ServerTrusts::new(servers);
        let wake: Arc<Notify> = Arc::default();
        let orders =
            OrderDesk::new(orders, secrets.clone(), folder.clone(), journal.clone(), Arc::clone(&wake));
        Self(Arc::new(Shared {
            secrets,
            folder,
            table,
            servers,
            clients: ClientTrusts::default(),
            orders,
            tickets,
            journal,
            messages,
            known,
            wake,
            reading,
        }))
    }

    /// Shares the keys of session tickets with the other nodes.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer; each node goes on with those that it has.
    pub(crate) async fn follow_tickets(&self, store: &Store, sealing: &SealingKey) -> Result<(), StoreError> {
        let kept = store.shared_secret(TICKET_KEYS).await?;
        let (number, shared) = match kept {
            None => (0, Vec::new()),
            // It was sealed with another store-secret, which is a trouble already.
            Some(kept) => match sealing.open(TICKET_KEYS, &kept.sealed) {
                None => return Ok(()),
                Some(shared) => (kept.number, shared),
            },
        };
        let tickets = Arc::clone(&self.0.tickets);
        let joined = tokio::task::spawn_blocking(move || tickets.join(&shared, wall())).await;
        let Ok(Some(all)) = joined else { return Ok(()) };
        let sealed = sealing.seal(TICKET_KEYS, &all);
        store.put_shared_secret(TICKET_KEYS, &SharedSecret { number: number + 1, sealed }).await
    }

    /// Whether a document refers to anything that is read here.
    fn has_work(document: &Document) -> bool {
        !document.certificates.is_empty() || ServerTrusts::are_needed(document)
    }

    fn known(&self) -> MutexGuard<'_, BTreeMap<Name, KnownCertificate>> {
        self.0.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads what a document refers to, as far as it is not what was read before; what became of certificates goes to the journal. Files
    /// that do not answer are not waited for longer than a moment: what is read of them comes later.
    pub(crate) async fn prepare(&self, document: Arc<Document>) {
        if !Self::has_work(&document) {
            return;
        }
        let keeper = self.clone();
        let reading = async move {
            // Whoever reads files that do not answer keeps the turn, so that no second thread waits for them.
            let turn = Arc::clone(&keeper.0.reading).lock_owned().await;
            let reading = tokio::task::spawn_blocking(move || {
                let _turn = turn;
                keeper.load(&document);
            });
            reading.await
        };
        match tokio::time::timeout(READ_WITHIN, reading).await {
            Ok(Ok(())) => {}
            Ok(Err(error)) => tracing::error!(%error, "certificates were not read"),
            Err(_) => {
                tracing::error!("the files of certificates do not answer; they are followed when they do")
            }
        }
    }

    /// As [`Self::prepare`], for as long as it takes. It blocks.
    fn load(&self, document: &Document) {
        let now = wall();
        self.0.tickets.turn(now);
        for (pool, says) in self.0.servers.load(document) {
            self.0.journal.write(EventKind::Certificate, format!("pool {pool}"), says, json!({}));
        }
        for (frontend, says) in self.0.clients.load(document) {
            self.0.journal.write(EventKind::Certificate, format!("frontend {frontend}"), says, json!({}));
        }
        for (name, spec) in &document.certificates {
            // Before the files are read: what is written meanwhile is seen the next time.
            let stamps = self.stamps(spec);
            let is_untouched =
                |known: &KnownCertificate| known.spec == *spec && stamps.is_some() && known.stamps == stamps;
            if self.known().get(name).is_some_and(is_untouched) {
                continue;
            }
            let before = self.known().get(name).cloned();
            let digest = self.digest(name, spec);
            let is_due = |known: &KnownCertificate| {
                let loaded = known.loaded.as_ref();
                !spec.self_signed.is_empty()
                    && loaded.is_none_or(|loaded| self_signed::is_due(&loaded.facts, now))
            };
            let is_known =
                |known: &KnownCertificate| known.spec == *spec && known.digest == digest && !is_due(known);
            if before.as_ref().is_some_and(is_known) {
                let exposed = self.exposed(spec);
                self.report_exposed(name, before.and_then(|known| known.exposed).as_ref(), exposed.as_ref());
                if let Some(known) = self.known().get_mut(name) {
                    known.exposed = exposed;
                    known.stamps = stamps;
                }
                continue;
            }
            let was_exposed = before.as_ref().and_then(|known| known.exposed.clone());
            let read = self.read(name, spec, now);
            let (mut known, says) = KnownCertificate::after(before, spec.clone(), digest, read);
            known.exposed = self.exposed(spec);
            known.stamps = stamps;
            self.report_exposed(name, was_exposed.as_ref(), known.exposed.as_ref());
            let fails = known.problem.is_some();
            self.known().insert(name.clone(), known);
            if let Some(says) = says {
                if fails {
                    self.tell(document, name, NotifiedChange::CertificateFails, &says);
                }
                self.0.journal.write(EventKind::Certificate, format!("certificate {name}"), says, json!({}));
            }
        }
    }

    /// Notes that a key can be read by others, or no more.
    fn report_exposed(&self, name: &Name, before: Option<&String>, now: Option<&String>) {
        let says = match (before, now) {
            (None, Some(exposed)) => exposed.clone(),
            (Some(_), None) => "its key can be read by its owner alone again".to_owned(),
            (None, None) | (Some(_), Some(_)) => return,
        };
        self.0.journal.write(EventKind::Certificate, format!("certificate {name}"), says, json!({}));
    }

    /// Tells people of a certificate that clients are shown, with the pool that they come to first, or that servers are shown, with theirs.
    fn tell(&self, document: &Document, name: &Name, change: NotifiedChange, says: &str) {
        let user = document.frontends.values().find(|frontend| frontend.certificates.contains(name));
        let user = user.map(|frontend| &frontend.pool).or_else(|| showing_pools(document, name).next());
        let Some(pool) = user else { return };
        let report = ReportedChange {
            at: wall(),
            pool: pool.clone(),
            subject: format!("certificate {name}"),
            change: change.to_string(),
            message: says.to_owned(),
        };
        self.0.messages.changed(ChangeReport { change, report });
    }

    /// Reminds people of certificates whose end has come nearer than so many days after `since`.
    fn remind(&self, document: &Document, since: Wall, now: Wall) {
        let near: Vec<(Name, String)> = {
            let known = self.known();
            // One that is renewed by itself is nobody's work, unless that fails.
            let is_work = |name: &Name, spec: &CertificateSpec| {
                spec.self_signed.is_empty() && (spec.authority.is_none() || self.0.orders.has_failed(name))
            };
            let near = known.iter().filter(|(name, known)| is_work(name, &known.spec));
            let near = near.filter_map(|(name, known)| {
                let end = known.loaded.as_ref()?.facts.not_after;
                let days = day_passed(&known.spec.remind_before, end, since, now)?;
                let many = if days == 1 { "1 day".to_owned() } else { format!("{days} days") };
                Some((name.clone(), format!("ends in {many} ({end}), and is the newest that there is")))
            });
            near.collect()
        };
        for (name, says) in near {
            self.tell(document, &name, NotifiedChange::CertificateEnds, &says);
            let subject = format!("certificate {name}");
            self.0.journal.write(EventKind::Certificate, subject, says, json!({}));
        }
    }

    /// Notes lists of revoked certificates that were to be replaced by a time after `since`.
    fn report_overdue_lists(&self, since: Wall, now: Wall) {
        for (frontend, says) in self.0.clients.overdue_since(since, now) {
            self.0.journal.write(EventKind::Certificate, format!("frontend {frontend}"), says, json!({}));
        }
    }

    /// Ordered certificates that the document does not have any more go when they have ended: until then a revision may bring them back.
    async fn forget_ended(&self, document: Arc<Document>, now: Wall) {
        let keeper = self.clone();
        let forget = move || {
            for (name, path) in kept::all(&keeper.0.folder) {
                if !document.certificates.contains_key(&name) && kept::has_ended(&path, now) {
                    match std::fs::remove_file(&path) {
                        Ok(()) => {
                            tracing::info!(certificate = %name, "an ordered certificate that ended was removed")
                        }
                        Err(error) => {
                            tracing::warn!(path = %path.display(), %error, "it could not be removed")
                        }
                    }
                }
            }
        };
        if let Err(error) = tokio::task::spawn_blocking(forget).await {
            tracing::error!(%error, "ended certificates were not removed");
        }
    }

    /// The stamps of the files that a certificate is read from; `None` where they say nothing.
    fn stamps(&self, spec: &CertificateSpec) -> Option<[FileStamp; 2]> {
        let stamp = |secret: &Option<SecretRef>| self.0.secrets.stamp(secret.as_ref()?);
        Some([stamp(&spec.chain)?, stamp(&spec.key)?])
    }

    /// The digest of what a certificate is read from.
    fn digest(&self, name: &Name, spec: &CertificateSpec) -> [u8; 32] {
        if !spec.self_signed.is_empty() {
            return [1; 32];
        }
        let mut digest = Sha256::new();
        if spec.authority.is_some() {
            digest.update(kept::text(&self.0.folder, name));
        }
        for secret in [&spec.chain, &spec.key].into_iter().flatten() {
            digest.update(self.0.secrets.read(secret).unwrap_or_default());
            digest.update([0]);
        }
        digest.finalize().into()
    }

    /// What is wrong with who can read the key.
    fn exposed(&self, spec: &CertificateSpec) -> Option<String> {
        let file = self.0.secrets.exposed(spec.key.as_ref()?)?;
        let file = file.display();
        Some(format!(
            "every user of this machine can read its key: let its owner alone do so (chmod 600 {file}), and have it issued anew with another key if any of them should not have"
        ))
    }

    fn read(&self, name: &Name, spec: &CertificateSpec, now: Wall) -> Result<LoadedCertificate, String> {
        let words = |error: &dyn std::fmt::Display| error.to_string();
        if let (Some(chain), Some(key)) = (&spec.chain, &spec.key) {
            let [chain, key] = [chain, key].map(|secret| self.0.secrets.read(secret));
            LoadedCertificate::read(&chain?, &key?).map_err(|error| words(&error))
        } else if let Some(authority) = &spec.authority {
            let kept = kept::certificate(&self.0.folder, name, &spec.names);
            kept.ok_or_else(|| format!("authority {authority} has not issued it yet"))
        } else {
            self_signed::certificate(&self.0.folder, name, &spec.self_signed, now)
                .map_err(|error| words(&error))
        }
    }

    /// Begins the orders that are due, and tells people of those that failed.
    fn order(&self, document: &Document, now: Wall) {
        self.0.orders.look(document, &self.loaded(), now);
        for (name, says) in self.0.orders.news() {
            self.tell(document, &name, NotifiedChange::CertificateFails, &says);
        }
    }

    /// The certificates that are as the document wants them: one for other names, or from elsewhere, is only shown until there is another.
    fn loaded(&self) -> BTreeMap<Name, LoadedCertificate> {
        let known = self.known();
        let wanted = known.iter().filter(|(_, known)| known.problem.is_none());
        let loaded = wanted.filter_map(|(name, known)| Some((name.clone(), known.loaded.clone()?)));
        loaded.collect()
    }

    /// Orders a certificate now, whenever it would be due.
    ///
    /// # Errors
    /// Why there is no new one; the one before stays.
    pub(crate) async fn order_now(
        &self,
        document: Arc<Document>,
        name: &Name,
    ) -> Result<(), CertificateOrderError> {
        let shown = self.loaded().remove(name);
        self.0.orders.order_now(&document, name, shown.as_ref()).await?;
        self.prepare(document).await;
        Ok(())
    }

    /// Until when clients are shown a certificate that they take.
    pub(crate) fn holds_until(&self, name: &Name) -> Option<Wall> {
        let known = self.known();
        let loaded = known.get(name).filter(|known| known.problem.is_none())?.loaded.as_ref()?;
        loaded.trouble(wall()).is_none().then_some(loaded.facts.not_after)
    }

    /// Has the frontends of a document speak by what was read. Others go on as they are, until [`Self::forget_others`].
    ///
    /// Gives whether clients with certificates are judged by other terms than before.
    pub(crate) fn speak(&self, document: &Document) -> bool {
        let (mut speaking, new) = (self.0.table.get(), self.speaking(document));
        // One that asks for certificates that can't be judged does not go on as it was before it asked.
        speaking.retain(|name, _| {
            let asks = document.frontends.get(name).is_some_and(|spec| spec.client_certificates.is_some());
            !asks || new.contains_key(name)
        });
        speaking.extend(new);
        let judges_anew = self.0.table.set(speaking);
        let known = self.known();
        let to_servers = document
            .certificates
            .keys()
            .filter_map(|name| Some((name.clone(), Arc::clone(&known.get(name)?.loaded.as_ref()?.key))));
        identity::show(to_servers.collect());
        drop(known);
        self.0.servers.speak(document);
        judges_anew
    }

    /// Frontends, pools and certificates that the document does not have are forgotten.
    pub(crate) fn forget_others(&self, document: &Document) {
        let mut speaking = self.0.table.get();
        speaking.retain(|name, _| document.frontends.contains_key(name));
        self.0.table.set(speaking);
        self.known().retain(|name, _| document.certificates.contains_key(name));
        self.0.servers.forget_others(document);
        self.0.clients.forget_others(document);
        self.0.wake.notify_one();
    }

    /// How each frontend with a certificate that could be had speaks.
    fn speaking(&self, document: &Document) -> BTreeMap<Name, FrontendTls> {
        let tickets = TlsTickets(Arc::clone(&self.0.tickets) as Arc<dyn ProducesTickets>);
        let known = self.known();
        let with_tls = document.frontends.iter().filter(|(_, spec)| !spec.certificates.is_empty());
        let speaking = with_tls.filter_map(|(name, spec)| {
            let shown = spec.certificates.iter().filter_map(|certificate| {
                let loaded = known.get(certificate)?.loaded.as_ref()?;
                Some(ShownCertificate { names: loaded.facts.names.clone(), key: Arc::clone(&loaded.key) })
            });
            let shown: Vec<ShownCertificate> = shown.collect();
            // One whose clients can't be judged serves nobody, and never anybody unjudged.
            let clients = self.0.clients.of(name, spec).ok()?;
            if shown.is_empty() {
                return None;
            }
            let terms = TlsTerms {
                policy: spec.tls_policy.unwrap_or_default(),
                ciphers: spec.tls_ciphers.clone(),
                unknown: spec.unknown_name.unwrap_or_default(),
                is_http: spec.http.is_some(),
                clients,
            };
            match FrontendTls::new(shown, terms, &tickets) {
                Ok(tls) => Some((name.clone(), tls)),
                Err(error) => {
                    tracing::error!(%error, frontend = %name, "a frontend can't speak TLS");
                    None
                }
            }
        });
        speaking.collect()
    }

    /// What is wrong with new and changed certificates of a document, before it goes live, and which hosts' clients would be shown another one.
    pub(crate) fn try_out(&self, old: &Document, new: &Document) -> (Vec<Warning>, Vec<CertificateChange>) {
        let now = wall();
        let mut warnings = ServerTrusts::try_out(old, new);
        warnings.extend(ClientTrusts::try_out(old, new));
        let mut names = self.names(new);
        for (name, spec) in &new.certificates {
            let is_read = spec.self_signed.is_empty() && spec.authority.is_none();
            if old.certificates.get(name) == Some(spec) || !is_read {
                continue;
            }
            let path = format!("certificates.{name}");
            let problem = match self.read(name, spec, now) {
                Ok(loaded) => {
                    names.insert(name, loaded.facts.names.clone());
                    identity::offer(name.clone(), Arc::clone(&loaded.key));
                    loaded.trouble(now).map(|trouble| trouble.to_string())
                }
                Err(problem) => Some(problem),
            };
            if let Some(problem) = problem {
                let is_used = new.frontends.values().any(|frontend| frontend.certificates.contains(name))
                    || showing_pools(new, name).next().is_some();
                let level = if is_used { WarningLevel::Warning } else { WarningLevel::Notice };
                warnings.push(Warning::new(&WarningReason::BadCertificate { problem }, level, &path));
            }
        }
        warnings.extend(uncovered_hosts(new, &names));
        let changes = certificate_changes((old, &self.names(old)), (new, &names));
        (warnings, changes)
    }

    /// The names that the certificates of a document are for, as far as they are known: those that are new and in files are not.
    fn names<'d>(&self, document: &'d Document) -> BTreeMap<&'d Name, Vec<String>> {
        let known = self.known();
        let names = |(name, spec): (&'d Name, &'d CertificateSpec)| {
            let loaded =
                known.get(name).filter(|known| known.spec == *spec).and_then(|known| known.loaded.as_ref());
            let own = || spec.names.iter().chain(&spec.self_signed).cloned().collect();
            (name, loaded.map_or_else(own, |loaded| loaded.facts.names.clone()))
        };
        document.certificates.iter().map(names).collect()
    }

    /// Every certificate of the document that runs.
    pub(crate) fn views(&self, document: &Document) -> Vec<CertificateView> {
        let now = wall();
        let known = self.known();
        let views = known.iter().map(|(name, certificate)| {
            let users = document.frontends.iter().filter(|(_, spec)| spec.certificates.contains(name));
            let facts = certificate.loaded.as_ref().map(|loaded| &loaded.facts);
            let wanted = certificate.loaded.as_ref().filter(|_| certificate.problem.is_none());
            let orders = self.0.orders.view(document, name, wanted);
            CertificateView {
                name: name.to_string(),
                names: facts.map_or_else(|| certificate.spec.names.clone(), |facts| facts.names.clone()),
                issuer: facts.map(|facts| facts.issuer.clone()),
                is_self_signed: facts.is_some_and(|facts| facts.is_self_signed),
                not_before: facts.map(|facts| facts.not_before),
                not_after: facts.map(|facts| facts.not_after),
                days_left: facts.map(|facts| days_left(facts.not_after, now)),
                chain_length: facts.map_or(0, |facts| facts.behind as u64 + 1),
                sha256: facts.map(|facts| facts.sha256.clone()),
                frontends: users.map(|(name, _)| name.to_string()).collect(),
                pools: showing_pools(document, name).map(Name::to_string).collect(),
                problem: certificate.problem.clone().or_else(|| trouble(certificate, now)),
                authority: orders.authority,
                next_order: orders.next,
                is_being_ordered: orders.is_under_way,
                order_failure: orders.failure,
            }
        });
        views.collect()
    }

    /// What clients of the frontends that speak TLS, or of the one that is named, are shown when they ask for a host.
    pub(crate) async fn handshakes(
        &self,
        document: &Document,
        only: Option<&Name>,
        host: &str,
    ) -> Vec<HandshakeView> {
        let asked = document.frontends.iter().filter(|(name, spec)| match only {
            Some(only) => *name == only,
            None => !spec.certificates.is_empty(),
        });
        let handshakes = asked.map(|(name, spec)| client_view::handshake(name, spec, host));
        let mut views = futures_util::future::join_all(handshakes).await;
        let known = self.known();
        for view in &mut views {
            let Some(own) = view.chain.first() else { continue };
            let shown = known.iter().find(|(_, known)| {
                known.loaded.as_ref().is_some_and(|loaded| loaded.facts.sha256 == own.sha256)
            });
            view.certificate = shown.map(|(name, _)| name.to_string());
        }
        views
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

    /// Certificates and pools that need an operator, a sentence each.
    pub(crate) fn troubles(&self, now: Wall) -> Vec<String> {
        let known = self.known();
        let troubles = known.iter().filter_map(|(name, certificate)| {
            if let Some(problem) = &certificate.problem {
                return Some(format!("certificate {name} {problem}"));
            }
            if let Some(trouble) = trouble(certificate, now) {
                return Some(format!("certificate {name}: {trouble}"));
            }
            let spec = &certificate.spec;
            // One that is renewed by itself is worth a sentence when that fails, and has one then.
            if spec.authority.is_some() {
                return None;
            }
            let end = certificate.loaded.as_ref()?.facts.not_after;
            let is_near = spec.self_signed.is_empty() && end <= now.plus(ENDS_SOON);
            is_near.then(|| {
                format!(
                    "certificate {name} ends in {} ({end}): put a new chain and key into its files, which are followed by themselves",
                    humane(end.since(now))
                )
            })
        });
        let others = self.0.orders.troubles(now).into_iter().chain(self.0.servers.troubles());
        troubles.chain(others).chain(self.0.clients.troubles(now)).collect()
    }

    /// Why a handshake with a server of the pool failed a moment ago.
    pub(crate) fn last_server_failure(&self, pool: &Name) -> Option<String> {
        self.0.servers.last_failure(pool)
    }
}

/// The pools whose servers are shown a certificate.
fn showing_pools<'d>(document: &'d Document, certificate: &'d Name) -> impl Iterator<Item = &'d Name> {
    let shows = move |trust: &CertificateTrust| trust.certificate.as_ref() == Some(certificate);
    let pools = document.pools.iter().filter(move |(_, pool)| pool.reaching.tls.as_ref().is_some_and(shows));
    pools.map(|(name, _)| name)
}

impl KnownCertificate {
    /// What is known after reading once more, and what is to be said of it.
    fn after(
        before: Option<Self>,
        spec: CertificateSpec,
        digest: [u8; 32],
        read: Result<LoadedCertificate, String>,
    ) -> (Self, Option<String>) {
        let (shown, problem) = before.map_or((None, None), |before| (before.loaded, before.problem));
        match read {
            Ok(loaded) => {
                let facts = &loaded.facts;
                let is_other = shown.is_some_and(|shown| shown.facts.sha256 != facts.sha256);
                let says = (is_other || problem.is_some()).then(|| {
                    let names = facts.names.join(", ");
                    format!("is shown from now on: for {names}, until {}", facts.not_after)
                });
                (
                    Self { spec, digest, stamps: None, loaded: Some(loaded), problem: None, exposed: None },
                    says,
                )
            }
            Err(why) => {
                let stays = match &shown {
                    Some(shown) => {
                        format!("; the one before, which ends on {}, stays", shown.facts.not_after)
                    }
                    None => "; its frontends refuse the clients that it is for".to_owned(),
                };
                let says = format!("can't be shown: {why}{stays}");
                let news = (problem.as_ref() != Some(&says)).then(|| says.clone());
                (Self { spec, digest, stamps: None, loaded: shown, problem: Some(says), exposed: None }, news)
            }
        }
    }
}

/// Why clients do not take what they are shown, or should not.
fn trouble(certificate: &KnownCertificate, now: Wall) -> Option<String> {
    let trouble: Option<CertificateError> =
        certificate.loaded.as_ref().and_then(|loaded| loaded.trouble(now));
    let trouble = trouble.map(|trouble| format!("{trouble}; clients are shown it all the same, and warn"));
    trouble.or_else(|| certificate.exposed.clone())
}

const HOUR_MS: i64 = 3_600_000;

/// Whole days until a moment; fewer than 0 when it has passed.
fn days_left(end: Wall, now: Wall) -> i64 {
    (end.0 - now.0).div_euclid(86_400_000)
}

/// How many days before a certificate's end people are reminded, where it does not say.
const REMINDED_AT: [u16; 5] = [30, 14, 7, 3, 1];

/// The fewest days before an end, of those at which people are to be reminded, that were reached after `since`.
fn day_passed(wanted: &[DaysBefore], end: Wall, since: Wall, now: Wall) -> Option<u16> {
    let reached = |days: u16| end.0 - i64::from(days) * 86_400_000;
    let wanted = wanted.iter().map(|days| days.get());
    let usual = REMINDED_AT.into_iter().filter(|_| wanted.len() == 0);
    wanted.clone().chain(usual).filter(|days| (since.0 + 1..=now.0).contains(&reached(*days))).min()
}

/// Looks at the files of certificates every few seconds, for as long as the service runs. `seen` is when this node looked last, perhaps
/// before a restart.
pub(crate) async fn keep_up(certificates: CertificateKeeper, controller: Controller, mut seen: Wall) {
    loop {
        let _ = tokio::time::timeout(LOOKED_AT_EVERY, certificates.0.wake.notified()).await;
        let Ok(view) = controller.view().await else { return };
        let document = view.effective.shared();
        if CertificateKeeper::has_work(&document) {
            certificates.prepare(Arc::clone(&document)).await;
            if controller.speak_tls().await.is_err() {
                return;
            }
            let now = wall();
            certificates.order(&document, now);
            certificates.remind(&document, seen, now);
            certificates.report_overdue_lists(seen, now);
            if seen.0.div_euclid(HOUR_MS) != now.0.div_euclid(HOUR_MS) {
                certificates.forget_ended(Arc::clone(&document), now).await;
            }
            seen = now;
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const DAY: i64 = 86_400_000;

    #[rstest]
    #[case::nothing_near(31 * DAY, 5_000, &[], None)]
    #[case::at_the_moment(30 * DAY, 5_000, &[], Some(30))]
    #[case::once_alone(30 * DAY - 5_000, 5_000, &[], None)]
    #[case::two_were_missed_while_nobody_looked(7 * DAY - 1, 8 * DAY, &[], Some(7))]
    #[case::the_last_day(DAY, 5_000, &[], Some(1))]
    #[case::it_has_ended(-DAY, 5_000, &[], None)]
    #[case::none_that_is_not_wanted(14 * DAY, 5_000, &["60d", "2d"], None)]
    #[case::one_that_is_wanted_in_any_order(60 * DAY, 5_000, &["2d", "60d"], Some(60))]
    fn people_are_reminded_once_at_each_of_these_days(
        #[case] left: i64,
        #[case] since: i64,
        #[case] wanted: &[&str],
        #[case] days: Option<u16>,
    ) {
        let now = Wall(1_000 * DAY);
        let wanted: Vec<DaysBefore> = wanted.iter().map(|days| days.parse().unwrap()).collect();
        assert_eq!(day_passed(&wanted, Wall(now.0 + left), Wall(now.0 - since), now), days);
    }
}
