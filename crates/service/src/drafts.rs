//! Drafts: changes gather in one, are reviewed, rebased when others were faster, and deployed as one revision.

use std::sync::Arc;

use merismos_api::{ApplyOptions, Draft, DraftEdits, DraftReview, EventKind, NamedChange, NewDraft, Review};
use merismos_core::config::Acceptance;
use merismos_core::config::check::check;
use merismos_core::config::diff::diff;
use merismos_core::config::document::Document;
use merismos_core::config::edit::{EditError, edit_at};
use merismos_core::config::merge::{MergeError, merge};
use merismos_core::config::{self, DocumentFormat, Problem};
use merismos_core::name::Name;
use merismos_store::{Store, StoreError, StoredDraft};
use serde_json::json;

use crate::clock::wall;
use crate::controller::{Controller, RunningView, Stopping};
use crate::deploy::{ApplyError, Deployer, Proposal, ProposedDocument, is_here};
use crate::journal::Journal;

/// How often an edit is made anew when others change the same draft at the same moment.
const TRIES: usize = 8;

/// Why a draft could not be worked on. It is as it was.
#[derive(Debug, thiserror::Error)]
pub(crate) enum DraftError {
    #[error("there is no draft {0}")]
    Unknown(Name),
    #[error("there is a draft {0} already: go on with it, or choose another name")]
    Exists(Name),
    #[error("{0}; the draft is as it was")]
    Edit(#[from] EditError),
    #[error(
        "draft {name} can't be rebased by itself: both it and the revisions since changed {}. Throw it away and make \
         its changes again, or change these keys in it to what runs now",
        .paths.join(", ")
    )]
    Overlap { name: Name, paths: Vec<String> },
    #[error("the rebased draft would hold mistakes; it is as it was")]
    Merged(Vec<Problem>),
    #[error("a draft in the database is misnamed: {0}")]
    Misnamed(String),
    #[error(
        "draft {name} has no warning {key}; its review shows its warnings once it is not stale and has \
         no mistakes"
    )]
    NoWarning { name: Name, key: String },
    #[error("revision {0}, from which the draft began, can't be read any more")]
    NoBase(u64),
    #[error("draft {0} is changed by others all the time; try again")]
    Busy(Name),
    #[error("drafts are kept in the database, and {0}. Nothing was changed; traffic goes on as before")]
    Store(#[from] StoreError),
    #[error("draft {name} makes no sense to this release: {why}")]
    Unreadable { name: Name, why: String },
    #[error(transparent)]
    Apply(#[from] ApplyError),
}

impl From<Stopping> for DraftError {
    fn from(stopping: Stopping) -> Self {
        Self::Apply(stopping.into())
    }
}

/// The drafts of the service.
#[derive(Clone, Debug)]
pub(crate) struct DraftDesk {
    controller: Controller,
    store: Store,
    deployer: Arc<Deployer>,
    journal: Journal,
}

fn show(draft: &StoredDraft, running: u64) -> Draft {
    Draft {
        name: draft.name.clone(),
        owner: draft.owner.clone(),
        note: draft.note.clone(),
        base: draft.base,
        stale: draft.base != running,
        version: draft.version,
        created: draft.created,
        changed: draft.changed,
    }
}

fn document(name: &Name, draft: &StoredDraft) -> Result<Document, DraftError> {
    config::read_text(&draft.document, DocumentFormat::Json).map_err(|problems| DraftError::Unreadable {
        name: name.clone(),
        why: problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "),
    })
}

impl DraftDesk {
    pub(crate) fn new(
        controller: Controller,
        store: Store,
        deployer: Arc<Deployer>,
        journal: Journal,
    ) -> Self {
        Self { controller, store, deployer, journal }
    }

    fn tell(&self, name: &Name, says: String) {
        self.journal.write(EventKind::Draft, format!("draft {name}"), says, json!({}));
    }

    async fn load(&self, name: &Name) -> Result<StoredDraft, DraftError> {
        self.store.draft(name.as_str()).await?.ok_or_else(|| DraftError::Unknown(name.clone()))
    }

    pub(crate) async fn list(&self) -> Result<Vec<Draft>, DraftError> {
        let running = self.controller.view().await?.number();
        Ok(self.store.drafts().await?.iter().map(|draft| show(draft, running)).collect())
    }

    /// Begins a draft from what runs.
    pub(crate) async fn begin(&self, new: NewDraft, owner: String) -> Result<Draft, DraftError> {
        let view = self.controller.view().await?;
        let now = wall();
        let draft = StoredDraft {
            name: new.name.to_string(),
            owner,
            note: new.note,
            base: view.number(),
            document: view.checked.document().to_json(),
            accepted: Vec::new(),
            version: 1,
            created: now,
            changed: now,
        };
        if !self.store.add_draft(&draft).await? {
            return Err(DraftError::Exists(new.name));
        }
        self.tell(&new.name, format!("begun by {} from revision {}", draft.owner, draft.base));
        Ok(show(&draft, view.number()))
    }

    /// A draft's document, and the revision that it began from.
    pub(crate) async fn document(&self, name: &Name) -> Result<(u64, Document), DraftError> {
        let draft = self.load(name).await?;
        Ok((draft.base, document(name, &draft)?))
    }

    /// Makes edits in a draft, and notes which of its warnings are accepted.
    pub(crate) async fn edit(
        &self,
        name: &Name,
        edits: DraftEdits,
        who: &str,
    ) -> Result<DraftReview, DraftError> {
        if edits.preview {
            let mut draft = self.load(name).await?;
            draft.document = edit_at(&document(name, &draft)?, &edits.edits, &is_here)?.to_json();
            return self.review_of(draft, who, true).await;
        }
        let mut accepted = Vec::new();
        if !edits.accept.is_empty() {
            let review = self.review(name, who).await?.review;
            let warnings = review.into_iter().flat_map(|review| review.warnings);
            let warnings: Vec<_> = warnings.collect();
            let unknown =
                edits.accept.iter().find(|key| warnings.iter().all(|warning| warning.warning.key != **key));
            if let Some(key) = unknown {
                return Err(DraftError::NoWarning { name: name.clone(), key: key.clone() });
            }
            let warnings = warnings.into_iter();
            accepted.extend(warnings.filter(|warning| edits.accept.contains(&warning.warning.key)).map(
                |warning| Acceptance {
                    key: warning.warning.key,
                    message: warning.warning.message,
                    who: who.to_owned(),
                    at: wall(),
                },
            ));
        }
        for _ in 0..TRIES {
            let mut draft = self.load(name).await?;
            draft.document = edit_at(&document(name, &draft)?, &edits.edits, &is_here)?.to_json();
            draft
                .accepted
                .retain(|accepted_before| accepted.iter().all(|new| new.key != accepted_before.key));
            draft.accepted.extend(accepted.iter().cloned());
            if let Some(note) = &edits.note {
                draft.note.clone_from(note);
            }
            draft.version += 1;
            draft.changed = wall();
            if self.store.change_draft(&draft).await? {
                self.tell(name, format!("changed by {who}"));
                return self.review(name, who).await;
            }
        }
        Err(DraftError::Busy(name.clone()))
    }

    async fn base(&self, number: u64, view: &RunningView) -> Result<Document, DraftError> {
        if number == view.number() {
            return Ok(view.checked.document().clone());
        }
        if number == 0 {
            return Ok(Document::default());
        }
        let revision = self.store.revision(number).await?.ok_or(DraftError::NoBase(number))?;
        config::read_text(&revision.document, DocumentFormat::Json).map_err(|_| DraftError::NoBase(number))
    }

    /// What a draft would do.
    pub(crate) async fn review(&self, name: &Name, who: &str) -> Result<DraftReview, DraftError> {
        self.review_of(self.load(name).await?, who, false).await
    }

    /// As [`Self::review`], of a draft that was loaded; a quick one tries nothing on the network.
    async fn review_of(&self, draft: StoredDraft, who: &str, quick: bool) -> Result<DraftReview, DraftError> {
        let name = &draft.name.parse::<Name>().map_err(|error| DraftError::Misnamed(error.to_string()))?;
        let view = self.controller.view().await?;
        let wanted = document(name, &draft)?;
        // Settled addresses make the same changes read the same, whether the draft is finished or not.
        let checked = check(wanted.clone());
        let (new, mut mistakes) = match checked {
            Ok(checked) => (checked.document().clone(), Vec::new()),
            Err(problems) => (wanted.clone(), problems),
        };
        let base = self.base(draft.base, &view).await?;
        let changes = diff(&base, &new).into_iter().map(NamedChange::from).collect();
        let mut review = None;
        let mut between = None;
        if draft.base != view.number() {
            between = self.deployer.between(draft.base, &view).await;
        } else if mistakes.is_empty() {
            let going = ApplyOptions { preview: true, quick, ..ApplyOptions::default() };
            match self.deployer.apply(self.proposal(&draft, wanted, going, who)).await {
                Ok(done) => review = Some(done),
                Err(ApplyError::Bind(error)) => {
                    let at =
                        new.frontends.iter().find(|(_, frontend)| frontend.listen.get() == error.address());
                    let path = at.map_or_else(String::new, |(name, _)| format!("frontends.{name}.listen"));
                    let wanted = "an address of this machine and a port that is free";
                    mistakes.push(Problem::new(&path, error.to_string(), wanted));
                }
                Err(ApplyError::Mistakes(problems)) => mistakes = problems,
                Err(error) => return Err(error.into()),
            }
        }
        let accepted = draft.accepted.clone();
        Ok(DraftReview { draft: show(&draft, view.number()), mistakes, changes, review, between, accepted })
    }

    fn proposal(&self, draft: &StoredDraft, wanted: Document, going: ApplyOptions, who: &str) -> Proposal {
        Proposal {
            what: ProposedDocument::Document(Box::new(wanted)),
            going: ApplyOptions { based_on: Some(draft.base), ..going },
            accepted: draft.accepted.clone(),
            author: who.to_owned(),
        }
    }

    /// Makes a draft the running revision; it is gone then.
    pub(crate) async fn deploy(
        &self,
        name: &Name,
        going: ApplyOptions,
        who: &str,
    ) -> Result<Review, DraftError> {
        let draft = self.load(name).await?;
        let wanted = document(name, &draft)?;
        let note = if going.note.is_empty() { draft.note.clone() } else { going.note.clone() };
        let proposal = self.proposal(&draft, wanted, ApplyOptions { note, ..going }, who);
        let review = self.deployer.apply(proposal).await?;
        if review.made {
            self.tell(name, format!("deployed by {who} as revision {}", review.revision));
            if let Err(error) = self.store.remove_draft(name.as_str()).await {
                tracing::warn!(%error, draft = %name, "a deployed draft could not be removed");
            }
        }
        Ok(review)
    }

    /// Makes a draft begin from what runs now, when it and the revisions since did not touch the same.
    pub(crate) async fn rebase(&self, name: &Name, who: &str) -> Result<DraftReview, DraftError> {
        for _ in 0..TRIES {
            let mut draft = self.load(name).await?;
            let view = self.controller.view().await?;
            if draft.base == view.number() {
                return self.review(name, who).await;
            }
            let base = self.base(draft.base, &view).await?;
            let merged = merge(&base, &document(name, &draft)?, view.checked.document());
            let merged = merged.map_err(|error| match error {
                MergeError::Overlap(paths) => DraftError::Overlap { name: name.clone(), paths },
                MergeError::Keys(problems) => DraftError::Merged(problems),
            })?;
            let from = draft.base;
            draft.document = merged.to_json();
            draft.base = view.number();
            draft.version += 1;
            draft.changed = wall();
            if self.store.change_draft(&draft).await? {
                self.tell(name, format!("rebased by {who} from revision {from} to {}", draft.base));
                return self.review(name, who).await;
            }
        }
        Err(DraftError::Busy(name.clone()))
    }

    /// Throws a draft away.
    pub(crate) async fn discard(&self, name: &Name, who: &str) -> Result<(), DraftError> {
        if !self.store.remove_draft(name.as_str()).await? {
            return Err(DraftError::Unknown(name.clone()));
        }
        self.tell(name, format!("thrown away by {who}"));
        Ok(())
    }
}
