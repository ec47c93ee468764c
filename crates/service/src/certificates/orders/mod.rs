//! Certificates that are ordered from authorities (ACME, RFC 8555): when, by which node, and what becomes of it.

mod authority_client;
mod dns_update;
pub(super) mod kept;
mod order;
mod proofs;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use instant_acme::CertificateIdentifier;
use merismos_api::EventKind;
use merismos_core::config::document::{AuthoritySpec, CertificateSpec, Document};
use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_plane::challenges::ChallengeTable;
use merismos_probe::secret_ref::SecretCache;
use merismos_store::Store;
use rustls::pki_types::CertificateDer;
use serde_json::json;
use tokio::sync::{Notify, Semaphore};

pub(crate) use self::order::CertificateOrderError;
use self::order::{Errand, ORDER_LIMIT};
use self::proofs::Proofs;
use super::facts::{CertificateFacts, LoadedCertificate};
use crate::certificates::SealingKey;
use crate::clock::wall;
use crate::journal::Journal;

/// How many orders are under way at once.
const ORDERS_AT_ONCE: usize = 4;
/// How long after a first failure it is tried again; each further one doubles it.
const FIRST_REST: Duration = Duration::from_secs(60);
/// The longest rest after a failure that is not the authority's wish.
const LONGEST_REST: Duration = Duration::from_secs(6 * 3_600);
/// How long a certificate that another node orders, or that the database keeps from being ordered, is left alone.
const SHORT_REST: Duration = Duration::from_secs(30);
/// How often a certificate is renewed at most, unless its life is short.
const RENEWED_AT_MOST_EVERY: Duration = Duration::from_secs(3_600);
/// How often an authority is asked when it wants a certificate to be renewed (RFC 9773, 4.3), unless it says another time.
const ASKED_EVERY: Duration = Duration::from_secs(6 * 3_600);
/// The shortest time between two such questions.
const ASKED_AT_MOST_EVERY: Duration = Duration::from_secs(60);

/// How it stands with the orders of one certificate.
#[derive(Clone, Debug)]
struct OrderProgress {
    /// For which names, and from whom: others begin anew.
    names: Vec<String>,
    authority: AuthoritySpec,
    is_under_way: bool,
    failures: u32,
    /// Why the last order failed, and when.
    failure: Option<(Wall, String)>,
    /// When what is shown is to be renewed; long ago when nothing is.
    due: Wall,
    /// Not before then.
    rests_until: Wall,
    /// When the authority wants it to be renewed, and for which certificate that is.
    suggested: Option<(String, Wall)>,
    asks_again: Wall,
}

/// What people see of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct OrderView {
    pub(super) authority: Option<String>,
    pub(super) next: Option<Wall>,
    pub(super) failure: Option<String>,
    pub(super) is_under_way: bool,
}

/// What all orders need.
#[derive(Debug)]
pub(crate) struct OrderMeans {
    pub(crate) store: Store,
    pub(crate) node: [u8; 16],
    pub(crate) key: Arc<SealingKey>,
    pub(crate) challenges: ChallengeTable,
}

#[derive(Debug)]
struct OrderDeskState {
    store: Store,
    node: [u8; 16],
    key: Arc<SealingKey>,
    proofs: Proofs,
    secrets: SecretCache,
    folder: PathBuf,
    journal: Journal,
    /// Notified when an order has come to an end.
    wake: Arc<Notify>,
    places: Semaphore,
    progress: Mutex<BTreeMap<Name, OrderProgress>>,
    /// Failures that people are to be told of: which certificate, and what happened.
    news: Mutex<Vec<(Name, String)>>,
}

/// Who orders certificates.
#[derive(Clone, Debug)]
pub(super) struct OrderDesk(Arc<OrderDeskState>);

impl OrderDesk {
    pub(super) fn new(
        means: OrderMeans,
        secrets: SecretCache,
        folder: PathBuf,
        journal: Journal,
        wake: Arc<Notify>,
    ) -> Self {
        Self(Arc::new(OrderDeskState {
            store: means.store,
            node: means.node,
            key: means.key,
            proofs: Proofs::new(means.challenges),
            secrets,
            folder,
            journal,
            wake,
            places: Semaphore::new(ORDERS_AT_ONCE),
            progress: Mutex::default(),
            news: Mutex::default(),
        }))
    }

    fn progress(&self) -> MutexGuard<'_, BTreeMap<Name, OrderProgress>> {
        self.0.progress.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins what is due of a document's orders. `shown` is what there is of each certificate now.
    pub(super) fn look(&self, document: &Document, shown: &BTreeMap<Name, LoadedCertificate>, now: Wall) {
        self.progress().retain(|name, _| {
            document.certificates.get(name).is_some_and(|certificate| certificate.authority.is_some())
        });
        for (name, spec) in &document.certificates {
            let Some(errand) = self.errand(document, name, spec, shown.get(name)) else { continue };
            let loaded = shown.get(name);
            let (is_due, asks) = {
                let mut all = self.progress();
                let progress = progress_of(&mut all, name, &errand);
                progress.due =
                    loaded.map_or(Wall(0), |loaded| due(&loaded.facts, progress.suggested.as_ref()));
                let is_due = !progress.is_under_way && progress.next() <= now;
                let asks =
                    !is_due && !progress.is_under_way && loaded.is_some() && progress.asks_again <= now;
                progress.is_under_way |= is_due;
                if asks {
                    progress.asks_again = now.plus(ASKED_EVERY);
                }
                (is_due, asks)
            };
            let desk = self.clone();
            if is_due {
                tokio::spawn(async move { drop(desk.see_through(errand).await) });
            } else if asks && let Some(loaded) = loaded.cloned() {
                tokio::spawn(async move { desk.ask(errand, &loaded).await });
            }
        }
    }

    fn errand(
        &self,
        document: &Document,
        name: &Name,
        spec: &CertificateSpec,
        shown: Option<&LoadedCertificate>,
    ) -> Option<Errand> {
        let authority_name = spec.authority.clone()?;
        let authority = document.authorities.get(&authority_name)?.clone();
        Some(Errand {
            store: self.0.store.clone(),
            key: Arc::clone(&self.0.key),
            proofs: self.0.proofs.clone(),
            secrets: self.0.secrets.clone(),
            folder: self.0.folder.clone(),
            certificate: name.clone(),
            names: spec.names.clone(),
            authority_name,
            authority,
            replaces: shown.and_then(|shown| shown.key.cert.first()).map(|own| own.clone().into_owned()),
            wanted_beyond: shown.map(|shown| shown.facts.not_after),
        })
    }

    /// Orders a certificate now, whenever it would be due.
    pub(super) async fn order_now(
        &self,
        document: &Document,
        name: &Name,
        shown: Option<&LoadedCertificate>,
    ) -> Result<LoadedCertificate, CertificateOrderError> {
        let errand =
            document.certificates.get(name).and_then(|spec| self.errand(document, name, spec, shown));
        let Some(errand) = errand else { return Err(CertificateOrderError::NotOrdered) };
        {
            let mut all = self.progress();
            let progress = progress_of(&mut all, name, &errand);
            if std::mem::replace(&mut progress.is_under_way, true) {
                return Err(CertificateOrderError::UnderWay);
            }
        }
        // Whoever asks may leave: the order is seen through all the same.
        let desk = self.clone();
        match tokio::spawn(async move { desk.see_through(errand).await }).await {
            Ok(done) => done,
            Err(error) => Err(CertificateOrderError::BrokenOff(error.to_string())),
        }
    }

    /// Sees an order through that was marked as under way.
    async fn see_through(&self, errand: Errand) -> Result<LoadedCertificate, CertificateOrderError> {
        let _mark = UnderWay { desk: self.clone(), certificate: errand.certificate.clone() };
        let _place = self.0.places.acquire().await.expect("the semaphore is never closed");
        let mut wait = None;
        let done = self.order(&errand, &mut wait).await;
        self.note(&errand, &done, wait);
        self.0.wake.notify_one();
        done
    }

    /// `wait` is how long the authority wants us to leave it alone after a failure.
    async fn order(
        &self,
        errand: &Errand,
        wait: &mut Option<Duration>,
    ) -> Result<LoadedCertificate, CertificateOrderError> {
        let work = format!("certificate {}", errand.certificate);
        // Longer than an order lasts, so that no other node begins the same.
        let lasting = ORDER_LIMIT + Duration::from_secs(60);
        if !self.0.store.take_lease(&work, self.0.node, lasting).await? {
            return Err(CertificateOrderError::Elsewhere);
        }
        let done = match errand.client() {
            Ok(client) => {
                let done = errand.run(&client).await;
                *wait = client.wait();
                done
            }
            Err(error) => Err(error),
        };
        if let Err(error) = self.0.store.end_lease(&work, self.0.node).await {
            tracing::debug!(%error, work, "the lease ends by itself");
        }
        done
    }

    /// Notes what became of an order, for the next one and for people.
    fn note(
        &self,
        errand: &Errand,
        done: &Result<LoadedCertificate, CertificateOrderError>,
        wait: Option<Duration>,
    ) {
        let now = wall();
        let name = &errand.certificate;
        let mut all = self.progress();
        let progress = progress_of(&mut all, name, errand);
        match done {
            Ok(loaded) => {
                let facts = &loaded.facts;
                let life = facts.not_after.since(facts.not_before);
                // One that an authority wants to be renewed at once is renewed, and not again and again.
                let rest = RENEWED_AT_MOST_EVERY.min(life / 8);
                (progress.failures, progress.failure, progress.rests_until) = (0, None, now.plus(rest));
                (progress.suggested, progress.asks_again) = (None, now);
                let says = format!(
                    "was issued by authority {} for {}, until {}",
                    errand.authority_name,
                    facts.names.join(", "),
                    facts.not_after
                );
                self.write(name, says);
            }
            Err(error) => {
                let is_news = progress.failure.as_ref().is_none_or(|(_, why)| *why != error.to_string());
                let rest = if error.is_ours() {
                    SHORT_REST
                } else {
                    progress.failures = progress.failures.saturating_add(1);
                    rest_after(progress.failures).max(wait.unwrap_or_default())
                };
                progress.rests_until = now.plus(rest);
                if matches!(error, CertificateOrderError::Elsewhere) {
                    return;
                }
                progress.failure = Some((now, error.to_string()));
                if is_news {
                    let says = format!("could not be ordered: {error}; {}", progress.next_words(name, now));
                    self.write(name, says.clone());
                    self.0.news.lock().unwrap_or_else(PoisonError::into_inner).push((name.clone(), says));
                }
            }
        }
    }

    fn write(&self, name: &Name, says: String) {
        self.0.journal.write(EventKind::Certificate, format!("certificate {name}"), says, json!({}));
    }

    /// Asks the authority when it wants a certificate to be renewed (RFC 9773).
    async fn ask(&self, errand: Errand, loaded: &LoadedCertificate) {
        let asked = self.suggestion(&errand, loaded).await;
        let Some((moment, again)) = asked else { return };
        let mut all = self.progress();
        let progress = progress_of(&mut all, &errand.certificate, &errand);
        progress.suggested = Some((loaded.facts.sha256.clone(), moment));
        progress.asks_again = wall().plus(again.clamp(ASKED_AT_MOST_EVERY, ASKED_EVERY));
    }

    /// A moment of the window that it suggests, and when to ask again. An authority that is away, or does not know of this, says nothing.
    async fn suggestion(&self, errand: &Errand, loaded: &LoadedCertificate) -> Option<(Wall, Duration)> {
        let own: &CertificateDer<'_> = loaded.key.cert.first()?;
        let id = CertificateIdentifier::try_from(own).ok()?;
        let client = errand.client().ok()?;
        let account = errand.known_account(&client).await.ok()??;
        let (info, again) = account.renewal_info(&id).await.ok()?;
        let moment = |time: time::OffsetDateTime| time.unix_timestamp().saturating_mul(1_000);
        let (start, end) = (moment(info.suggested_window.start), moment(info.suggested_window.end));
        let into = (end.saturating_sub(start).max(0) as f64 * fraction(&loaded.facts)) as i64;
        Some((Wall(start.saturating_add(into)), again))
    }

    /// What people see of a certificate's orders.
    pub(super) fn view(
        &self,
        document: &Document,
        name: &Name,
        shown: Option<&LoadedCertificate>,
    ) -> OrderView {
        let Some(authority) = document.certificates.get(name).and_then(|spec| spec.authority.as_ref()) else {
            return OrderView::default();
        };
        let all = self.progress();
        let progress = all.get(name);
        let suggested = progress.and_then(|progress| progress.suggested.as_ref());
        let due = shown.map(|shown| due(&shown.facts, suggested));
        let rests_until = progress.map_or(Wall(0), |progress| progress.rests_until);
        OrderView {
            authority: Some(authority.to_string()),
            next: due.max(Some(rests_until)).filter(|next| next.0 > 0),
            failure: progress.and_then(|progress| progress.failure.as_ref().map(|(_, why)| why.clone())),
            is_under_way: progress.is_some_and(|progress| progress.is_under_way),
        }
    }

    /// Whether a certificate's last order failed.
    pub(super) fn has_failed(&self, name: &Name) -> bool {
        self.progress().get(name).is_some_and(|progress| progress.failure.is_some())
    }

    /// Certificates whose last order failed, a sentence each.
    pub(super) fn troubles(&self, now: Wall) -> Vec<String> {
        let all = self.progress();
        let failed = all.iter().filter_map(|(name, progress)| {
            let (at, why) = progress.failure.as_ref()?;
            Some(format!(
                "certificate {name} could not be ordered {} ago: {why}; {}",
                humane(now.since(*at)),
                progress.next_words(name, now)
            ))
        });
        failed.collect()
    }

    /// The failures that nobody was told of yet.
    pub(super) fn news(&self) -> Vec<(Name, String)> {
        std::mem::take(&mut *self.0.news.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl OrderProgress {
    /// When it is ordered next by itself.
    fn next(&self) -> Wall {
        self.due.max(self.rests_until)
    }

    /// When it is tried again, and how people can do so before.
    fn next_words(&self, name: &Name, now: Wall) -> String {
        let next = self.next();
        if self.due > now {
            return format!("it is renewed by itself at {next}, or with `merismos certificate renew {name}`");
        }
        let rest = humane(next.since(now));
        format!("the next try is in {rest}, or with `merismos certificate order {name}`")
    }
}

/// An order that is under way, until it is dropped.
struct UnderWay {
    desk: OrderDesk,
    certificate: Name,
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        if let Some(progress) = self.desk.progress().get_mut(&self.certificate) {
            progress.is_under_way = false;
        }
    }
}

/// What is known of a certificate's orders; nothing when it is for other names now, or from another authority.
fn progress_of<'p>(
    all: &'p mut BTreeMap<Name, OrderProgress>,
    name: &Name,
    errand: &Errand,
) -> &'p mut OrderProgress {
    let new = |is_under_way| OrderProgress {
        names: errand.names.clone(),
        authority: errand.authority.clone(),
        is_under_way,
        failures: 0,
        failure: None,
        due: Wall(0),
        rests_until: Wall(0),
        suggested: None,
        asks_again: Wall(0),
    };
    let progress = all.entry(name.clone()).or_insert_with(|| new(false));
    if progress.names != errand.names || progress.authority != errand.authority {
        *progress = new(progress.is_under_way);
    }
    progress
}

/// Where a certificate stands among all, from 0 to 1: so that those of one day are not all renewed in one minute.
fn fraction(facts: &CertificateFacts) -> f64 {
    let digits = facts.sha256.get(..8).unwrap_or_default();
    f64::from(u32::from_str_radix(digits, 16).unwrap_or_default()) / f64::from(u32::MAX)
}

/// When a certificate is renewed: when its authority wants it, else at two thirds of its life, or up to a twenty-fourth of it before.
fn due(facts: &CertificateFacts, suggested: Option<&(String, Wall)>) -> Wall {
    if let Some((_, moment)) = suggested.filter(|(sha256, _)| *sha256 == facts.sha256) {
        return *moment;
    }
    let life = (facts.not_after.0 - facts.not_before.0).max(0) as f64;
    Wall(facts.not_before.0 + (life * (2.0 / 3.0 - fraction(facts) / 24.0)) as i64)
}

/// How long nothing is ordered after so many failures in a row.
fn rest_after(failures: u32) -> Duration {
    let doubled = FIRST_REST.saturating_mul(2_u32.saturating_pow(failures.saturating_sub(1)));
    doubled.min(LONGEST_REST)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn facts(sha256: &str) -> CertificateFacts {
        CertificateFacts {
            subject: String::new(),
            names: Vec::new(),
            issuer: String::new(),
            not_before: Wall(1_000_000),
            not_after: Wall(1_000_000 + 90 * 86_400_000),
            key: String::new(),
            sha256: sha256.to_owned(),
            is_self_signed: false,
            behind: 0,
        }
    }

    #[rstest]
    #[case("00000000", 60.0)]
    #[case("80000000", 58.125)]
    #[case("ffffffff", 56.25)]
    fn certificates_are_renewed_at_two_thirds_of_their_life_and_not_all_at_once(
        #[case] sha256: &str,
        #[case] days: f64,
    ) {
        let at = due(&facts(sha256), None);
        let after = (at.0 - 1_000_000) as f64 / 86_400_000.0;
        assert!((after - days).abs() < 0.001, "{after}");
    }

    #[test]
    fn what_the_authority_wants_counts_for_that_certificate_alone() {
        let suggested = ("aa".to_owned(), Wall(7));
        assert_eq!(due(&facts("aa"), Some(&suggested)), Wall(7));
        assert!(due(&facts("bb"), Some(&suggested)) > Wall(1_000_000));
    }

    #[rstest]
    #[case(1, 60)]
    #[case(2, 120)]
    #[case(5, 960)]
    #[case(9, 15_360)]
    #[case(10, 21_600)]
    #[case(u32::MAX, 21_600)]
    fn failures_are_followed_by_longer_and_longer_rests(#[case] failures: u32, #[case] seconds: u64) {
        assert_eq!(rest_after(failures), Duration::from_secs(seconds));
    }
}
