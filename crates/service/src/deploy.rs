//! From a proposal to the running revision: composed, checked whole, weighed, tried, committed, published.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::time::Instant;

use merismos_api::{AcceptedWarning, ApplyOptions, Between, NamedChange, Review, Timings, TouchedDocument};
use merismos_core::config::check::check;
use merismos_core::config::diff::{diff, in_a_line};
use merismos_core::config::document::Document;
use merismos_core::config::edit::{self, Edit, EditError};
use merismos_core::config::impact::{CertificateChange, impact};
use merismos_core::config::lost_capacity::losses;
use merismos_core::config::renames::Renames;
use merismos_core::config::{self, Checked, DocumentFormat, Problem, merge, tree};
use merismos_core::config::{Acceptance, Warning};
use merismos_core::duty::{Duty, DutyOrder};
use merismos_core::name::PoolServer;
use merismos_plane::BindError;
use merismos_probe::ProbeEnvironment;
use merismos_store::{Revision, Store, StoreError};
use tokio::sync::Mutex;

use crate::certificates::CertificateKeeper;
use crate::clock::wall;
use crate::controller::{Controller, RevisionChange, RunningView, Stopping};
use crate::preflight::{self, PreflightResult};
use crate::recent_requests::RequestHistory;

/// What is to run.
#[derive(Debug)]
pub(crate) enum ProposedDocument {
    /// A document's text, whole or only its parts at some paths.
    Text { text: String, format: DocumentFormat, only: Vec<String> },
    /// Edits of what runs.
    Edits(Vec<Edit>),
    /// A document: a draft's or an older revision's.
    Document(Box<Document>),
}

/// What an author wants to run, and how.
#[derive(Debug)]
pub(crate) struct Proposal {
    pub(crate) what: ProposedDocument,
    pub(crate) going: ApplyOptions,
    /// The warnings that were accepted before, in a draft.
    pub(crate) accepted: Vec<Acceptance>,
    pub(crate) author: String,
}

/// Why a proposal does not run. What ran before still does.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ApplyError {
    /// The document has mistakes; nothing was changed.
    #[error("the document is refused, nothing was changed; mistakes: {}", .0.len())]
    Mistakes(Vec<Problem>),
    /// An edit can't be made.
    #[error("{0}; nothing was changed")]
    Edit(#[from] EditError),
    /// Its author looked at another revision.
    #[error(
        "revision {running} runs by now, and this change is based on revision {based_on}: look at what changed in \
         between, then decide again"
    )]
    Stale { based_on: u64, running: u64, between: Option<Box<Between>> },
    /// Warnings have to be accepted first.
    #[error(
        "nothing was changed, for clients would feel it: {}{}. Correct it, or accept what is meant to be so",
        .0.first().map_or("", |weighed| weighed.warning.message.as_str()),
        if .0.len() > 1 { format!(" (and {} more)", .0.len() - 1) } else { String::new() }
    )]
    Unaccepted(Vec<AcceptedWarning>),
    /// A frontend can't listen.
    #[error("{0}; nothing was changed")]
    Bind(#[from] BindError),
    /// The database did not take it.
    #[error(
        "the revision could not be recorded, so it does not run: {0}. Traffic goes on as before. Should the database \
         have taken it after all, it runs as soon as the database is back"
    )]
    NotRecorded(StoreError),
    /// The service stops and takes no changes any more.
    #[error(transparent)]
    Stopping(#[from] Stopping),
}

/// Makes revisions, one at a time.
#[derive(Debug)]
pub(crate) struct Deployer {
    controller: Controller,
    store: Store,
    surroundings: ProbeEnvironment,
    certificates: CertificateKeeper,
    recent: RequestHistory,
    /// Held over a whole deployment, so that two never interleave.
    one_at_a_time: Mutex<()>,
    /// Held while addresses are bound and not yet listened on: two who try the same one would be in each other's way.
    binding: Mutex<()>,
}

/// What a proposal comes to, before anything is tried.
struct WeighedProposal {
    view: RunningView,
    checked: Checked,
    review: Review,
}

impl Deployer {
    pub(crate) fn new(
        controller: Controller,
        store: Store,
        surroundings: ProbeEnvironment,
        certificates: CertificateKeeper,
        recent: RequestHistory,
    ) -> Self {
        Self {
            controller,
            store,
            surroundings,
            certificates,
            recent,
            one_at_a_time: Mutex::new(()),
            binding: Mutex::new(()),
        }
    }

    /// Says what a proposal would change, and unless it is a preview, makes it the running revision.
    pub(crate) async fn apply(&self, proposal: Proposal) -> Result<Review, ApplyError> {
        // Previews do not wait.
        let _turn = if proposal.going.preview { None } else { Some(self.one_at_a_time.lock().await) };
        let view = self.controller.view().await?;
        self.refuse_stale(proposal.going.based_on, &view).await?;
        let checks = Instant::now();
        let checked = compose(&view, proposal.what)?;
        let check_us = micros(checks);
        let compares = Instant::now();
        let joining = if proposal.going.withdrawn {
            joining(&view, &checked, &proposal.author)
        } else {
            BTreeMap::new()
        };
        let mut view = view;
        joining.keys().for_each(|server| view.facts.withdraw(server.clone()));
        let WeighedProposal { view, checked, mut review } = weigh(view, checked);
        (review.took.check_us, review.took.compare_us) = (check_us, micros(compares));

        let going = proposal.going;
        let tries = Instant::now();
        let (mut bound, mut tried, mut binding) = (Vec::new(), PreflightResult::default(), None);
        let mut shown = Vec::new();
        if !(going.preview && going.quick) {
            binding = Some(self.binding.lock().await);
            bound = self.controller.bind(checked.clone()).await??;
            if going.preview {
                // It was only to see whether the ports are free.
                bound.clear();
                binding = None;
            }
            // Servers may want to see a certificate that comes with the document, so certificates are first.
            let of_certificates = self.try_certificates(&view, &checked).await;
            tried = preflight::try_out(&view, &checked, &self.surroundings).await;
            tried.warnings.extend(of_certificates.0);
            shown = of_certificates.1;
        }
        review.took.try_us = micros(tries);
        let after = checked.with_found(&view.found);
        let (old, new) = (view.effective.document(), after.document());
        if !tried.failing.is_empty() {
            review.impact = impact(old, new, &view.facts, &tried.failing);
        }
        review.impact.certificates = shown;
        review.impact.requests = self.recent.replay(view.checked.clone(), checked.clone()).await;
        let losses = losses(old, new, &view.facts, &tried.failing);
        let tried: Vec<_> = losses.into_iter().chain(tried.warnings).collect();
        let accepting =
            WarningAcceptance { keys: &going.accept, before: &proposal.accepted, who: &proposal.author };
        review.warnings = warned(&view, &checked, tried, &accepting, &TouchedObjects::of(&review));

        // The first revision is made even of an empty document, so that there is one to go back to.
        let running = view.number();
        if going.preview || (review.changes.is_empty() && running != 0) {
            return Ok(review);
        }
        let open: Vec<_> = review.warnings.iter().filter(|warning| warning.needs_word()).cloned().collect();
        if !open.is_empty() {
            return Err(ApplyError::Unaccepted(open));
        }
        let commits = Instant::now();
        let next = Revision {
            number: 0,
            document: checked.document().to_json(),
            author: proposal.author,
            note: going.note,
            at: wall(),
            accepted: review.warnings.iter().filter_map(|warning| warning.accepted.clone()).collect(),
            digest: None,
            parent: None,
            changed: in_a_line(review.changes.iter().map(|change| change.description.as_str())),
        }
        .after(view.revision.as_deref());
        if let Err(error) = self.store.add_revision(&next, &joining).await {
            drop((binding, bound));
            return Err(self.not_recorded(error, running).await);
        }
        review.took.commit_us = micros(commits);
        self.certificates.prepare(checked.shared()).await;
        let runs = Instant::now();
        review.revision = next.number;
        review.made = true;
        let published = self
            .controller
            .run(RevisionChange { revision: next, checked, bound, joining, is_followed: false })
            .await?;
        drop(binding);
        review.took.run_us = u64::try_from((published - runs).as_micros()).unwrap_or(u64::MAX);
        Ok(review)
    }

    /// What is wrong with certificates that are new in a document, and which hosts' clients would be shown another one.
    async fn try_certificates(
        &self,
        view: &RunningView,
        checked: &Checked,
    ) -> (Vec<Warning>, Vec<CertificateChange>) {
        let (certificates, old, new) = (self.certificates.clone(), view.checked.clone(), checked.clone());
        let tried = tokio::task::spawn_blocking(move || certificates.try_out(old.document(), new.document()));
        tried.await.unwrap_or_default()
    }

    /// Refuses what is based on another revision than the running one.
    pub(crate) async fn refuse_stale(
        &self,
        based_on: Option<u64>,
        view: &RunningView,
    ) -> Result<(), ApplyError> {
        let running = view.number();
        match based_on.filter(|based_on| *based_on != running) {
            None => Ok(()),
            Some(based_on) => {
                let between = self.between(based_on, view).await.map(Box::new);
                Err(ApplyError::Stale { based_on, running, between })
            }
        }
    }

    /// What happened since a revision; `None` when that is unknown, for it or the database is not there.
    pub(crate) async fn between(&self, based_on: u64, view: &RunningView) -> Option<Between> {
        let old = match based_on {
            0 => Document::default(),
            number => {
                let revision = self.store.revision(number).await.ok()??;
                config::read_text(&revision.document, DocumentFormat::Json).ok()?
            }
        };
        let changes = diff(&old, view.checked.document()).into_iter().map(NamedChange::from).collect();
        Some(Between { from: based_on, to: view.number(), changes })
    }

    /// What to tell an author whose revision was not taken. When the database holds one of that number already,
    /// an earlier commit was answered by silence: it runs now, and this author is asked to look at it.
    async fn not_recorded(&self, error: StoreError, based_on: u64) -> ApplyError {
        if let StoreError::Stale { .. } = error
            && let Ok(Some(latest)) = self.store.latest_revision().await
        {
            let running = latest.number;
            match self.adopt_in_turn(latest).await {
                Ok(()) => {
                    let between = match self.controller.view().await {
                        Ok(view) => self.between(based_on, &view).await.map(Box::new),
                        Err(_) => None,
                    };
                    return ApplyError::Stale { based_on, running, between };
                }
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

    /// As [`Self::adopt`], for the holder of the turn.
    async fn adopt_in_turn(&self, revision: Revision) -> Result<(), AdoptError> {
        if revision.number <= self.controller.view().await?.number() {
            return Ok(());
        }
        let number = revision.number;
        let checked = config::load(&revision.document, DocumentFormat::Json)
            .map_err(|problems| AdoptError::Mistakes { number, problems })?;
        // Servers that join withdrawn have their orders beside the revision.
        self.controller.adopt_orders(self.store.duties().await?).await?;
        let _binding = self.binding.lock().await;
        // An address that can't be had does not keep the rest from running; the controller tries it again.
        let bound = self.controller.bind(checked.clone()).await?.unwrap_or_default();
        self.certificates.prepare(checked.shared()).await;
        let change = RevisionChange { is_followed: true, ..RevisionChange::new(revision, checked, bound) };
        self.controller.run(change).await?;
        Ok(())
    }
}

/// The orders of servers that a change adds, for those that join withdrawn.
fn joining(view: &RunningView, checked: &Checked, who: &str) -> BTreeMap<PoolServer, DutyOrder> {
    let (old, new) = (view.checked.document(), checked.document());
    let renames = Renames::between(old, new);
    let renamed: BTreeSet<&PoolServer> = renames.servers.values().collect();
    let is_known = |server: &PoolServer| {
        let known = old.pools.get(&server.pool).is_some_and(|pool| pool.servers.contains_key(&server.server));
        known || renamed.contains(server)
    };
    let all = new.pools.iter().flat_map(|(pool, spec)| {
        spec.servers.keys().map(|server| PoolServer { pool: pool.clone(), server: server.clone() })
    });
    let order = || DutyOrder {
        number: view.order_numbers.next(),
        ..DutyOrder::new(Duty::Withdrawn, "it was added withdrawn", who, wall())
    };
    all.filter(|server| !is_known(server)).map(|server| (server, order())).collect()
}

fn micros(since: Instant) -> u64 {
    u64::try_from(since.elapsed().as_micros()).unwrap_or(u64::MAX)
}

/// Whether this machine has an address: something can be bound to it.
pub(crate) fn is_here(address: IpAddr) -> bool {
    std::net::UdpSocket::bind((address, 0)).is_ok()
}

/// The document that a proposal stands for.
fn compose(view: &RunningView, what: ProposedDocument) -> Result<Checked, ApplyError> {
    match what {
        ProposedDocument::Text { text, format, only } if only.is_empty() => {
            config::load(&text, format).map_err(ApplyError::Mistakes)
        }
        ProposedDocument::Text { text, format, only } => {
            let from = config::read_text(&text, format).map_err(ApplyError::Mistakes)?;
            let parts = merge::take_parts(view.checked.document(), &from, &only);
            let joined = parts.and_then(check).map_err(|mut problems| {
                if let Ok(tree) = tree::parse(&text, format) {
                    for problem in &mut problems {
                        problem.line = tree.line_of(&problem.path);
                    }
                }
                ApplyError::Mistakes(problems)
            })?;
            Ok(joined)
        }
        ProposedDocument::Edits(edits) => {
            let edited = edit::edit_at(view.checked.document(), &edits, &is_here)?;
            check(edited).map_err(ApplyError::Mistakes)
        }
        ProposedDocument::Document(document) => check(*document).map_err(ApplyError::Mistakes),
    }
}

/// Compares a document with the running one.
fn weigh(view: RunningView, checked: Checked) -> WeighedProposal {
    let changes = diff(view.checked.document(), checked.document());
    let after = checked.with_found(&view.found);
    let review = Review {
        revision: view.number(),
        made: false,
        changes: changes.into_iter().map(NamedChange::from).collect(),
        impact: impact(view.effective.document(), after.document(), &view.facts, &BTreeSet::new()),
        touched: touched(&view, after.document()),
        warnings: Vec::new(),
        saved: None,
        took: Timings::default(),
    };
    WeighedProposal { view, checked, review }
}

/// What is in flight where listeners or servers go.
fn touched(view: &RunningView, new: &Document) -> Vec<TouchedDocument> {
    let mut touched = Vec::new();
    let listening: BTreeSet<_> = new.frontends.values().map(|frontend| frontend.endpoint()).collect();
    for frontend in view.snapshot.frontends().filter(|change| !listening.contains(&change.listen)) {
        let count = frontend.cell.connections();
        if count > 0 {
            touched.push(TouchedDocument {
                whose: format!("frontend {}", frontend.name),
                count,
                message: format!(
                    "connections on {}: requests in flight are finished, then they are closed",
                    frontend.listen
                ),
            });
        }
    }
    let servers = new.pools.values().flat_map(|pool| pool.servers.values());
    let stays: BTreeSet<_> = servers.map(|server| server.address.get()).collect();
    for pool in &view.snapshot.pools {
        let gone = pool.servers.iter().filter(|server| !stays.contains(&server.address));
        for (server, count) in gone.map(|server| (server, server.cell.counts().in_flight)) {
            if count > 0 {
                touched.push(TouchedDocument {
                    whose: format!("server {}", server.name),
                    count,
                    message: "requests in flight: they are finished, then its connections are closed"
                        .to_owned(),
                });
            }
        }
    }
    touched
}

/// Whose word there is for warnings.
struct WarningAcceptance<'a> {
    keys: &'a [String],
    before: &'a [Acceptance],
    who: &'a str,
}

/// The objects that a change touches, with all that is inside them: `pools.booking` for one of its servers.
struct TouchedObjects(BTreeSet<String>);

impl TouchedObjects {
    fn of(review: &Review) -> Self {
        let changed = review.changes.iter().map(|change| Self::outermost(&change.change.path));
        let pools = review.impact.pools.iter().map(|name| format!("pools.{name}"));
        let frontends = review.impact.frontends.iter().map(|name| format!("frontends.{name}"));
        Self(changed.chain(pools).chain(frontends).collect())
    }

    fn holds(&self, path: &str) -> bool {
        self.0.contains(&Self::outermost(path))
    }

    fn outermost(path: &str) -> String {
        path.splitn(3, '.').take(2).collect::<Vec<_>>().join(".")
    }
}

/// Every warning, those that need acceptance first.
fn warned(
    view: &RunningView,
    checked: &Checked,
    tried: Vec<Warning>,
    accepting: &WarningAcceptance<'_>,
    touches: &TouchedObjects,
) -> Vec<AcceptedWarning> {
    // A warning that weighs more now, or says more, is another one: the pool that was empty before has clients now.
    let known: BTreeSet<_> = view
        .checked
        .warnings()
        .iter()
        .map(|warning| (warning.key.as_str(), warning.level, warning.message.as_str()))
        .collect();
    let all = checked.warnings().iter().cloned().chain(tried);
    let mut all: Vec<_> = all
        .map(|warning| {
            let earlier = accepting
                .before
                .iter()
                .find(|accepted| accepted.key == warning.key && accepted.message == warning.message)
                .cloned();
            let now = accepting.keys.contains(&warning.key).then(|| Acceptance {
                key: warning.key.clone(),
                message: warning.message.clone(),
                who: accepting.who.to_owned(),
                at: wall(),
            });
            let known = known.contains(&(warning.key.as_str(), warning.level, warning.message.as_str()));
            let touched = touches.holds(&warning.path);
            AcceptedWarning { known, touched, accepted: earlier.or(now).filter(|_| !known), warning }
        })
        .collect();
    all.sort_by_key(|weighed| (!weighed.needs_word(), weighed.known, weighed.warning.level));
    all
}

/// Why a recorded revision can't run.
#[derive(Debug, thiserror::Error)]
pub(crate) enum AdoptError {
    #[error("revision {number} does not pass this release's checks: {}", .problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Mistakes { number: u64, problems: Vec<Problem> },
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Stopping(#[from] Stopping),
}
