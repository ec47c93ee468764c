//! Calls for drafts and revisions.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_api::{
    ApplyOptions, Between, Draft, DraftEdits, DraftReview, Drafts, NamedChange, NewDraft, RevertRequest,
    Review, RevisionHead, RevisionResponse, Revisions,
};
use merismos_core::config::diff::diff;
use merismos_core::config::document::Document;
use merismos_core::config::{self, DocumentFormat};
use merismos_core::name::Name;
use serde::Deserialize;
use utoipa::IntoParams;

use super::ApiState;
use super::auth::CallerName;
use super::changes::{check_note, deploy as deploy_proposal, saved, whole};
use super::problem::{ApiError, Changing, Finding, JsonBody, Looking, PathParams, QueryParams};
use super::read::largest;
use crate::deploy::{Proposal, ProposedDocument};
use crate::drafts::DraftError;

fn name(text: &str) -> Result<Name, ApiError> {
    text.parse().map_err(ApiError::bad_request)
}

/// Every draft.
#[utoipa::path(
    get, path = "/drafts", operation_id = "list_drafts", tag = "draft",
    responses((status = 200, body = Drafts), Looking)
)]
pub(super) async fn list(State(app): State<Arc<ApiState>>) -> Result<Json<Drafts>, ApiError> {
    Ok(Json(Drafts { drafts: app.drafts.list().await? }))
}

/// Begin a draft from what runs.
#[utoipa::path(
    post, path = "/drafts", operation_id = "begin_draft", tag = "draft", request_body = NewDraft,
    params(("Idempotency-Key" = Option<String>, Header, description = "What the caller names this call: sent again with it, it creates nothing new", example = "night-417", pattern = "^[!-~]{1,255}$")),
    responses((status = 200, body = Draft), Changing)
)]
pub(super) async fn begin(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    JsonBody(new): JsonBody<NewDraft>,
) -> Result<Json<Draft>, ApiError> {
    check_note(&new.note)?;
    Ok(Json(app.drafts.begin(new, who).await?))
}

/// What a draft would do.
#[utoipa::path(
    get, path = "/drafts/{draft}", operation_id = "review_draft", tag = "draft", params(("draft" = String, Path, description = "The draft's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = DraftReview), Finding)
)]
pub(super) async fn review(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(draft): PathParams<String>,
) -> Result<Json<DraftReview>, ApiError> {
    Ok(Json(app.drafts.review(&name(&draft)?, &who).await?))
}

/// Make edits in a draft, and accept warnings of it.
#[utoipa::path(
    post, path = "/drafts/{draft}/edits", operation_id = "edit_draft", tag = "draft", request_body = DraftEdits,
    params(("draft" = String, Path, description = "The draft's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = DraftReview), Changing)
)]
pub(super) async fn edit(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(draft): PathParams<String>,
    JsonBody(edits): JsonBody<DraftEdits>,
) -> Result<Json<DraftReview>, ApiError> {
    check_note(edits.note.as_deref().unwrap_or_default())?;
    let draft = name(&draft)?;
    whole(async move { app.drafts.edit(&draft, edits, &who).await }).await
}

/// Make a draft the running revision.
#[utoipa::path(
    post, path = "/drafts/{draft}/deploy", operation_id = "deploy_draft", tag = "draft", request_body = RevertRequest,
    params(("draft" = String, Path, description = "The draft's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = Review), Changing)
)]
pub(super) async fn deploy(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(draft): PathParams<String>,
    JsonBody(request): JsonBody<RevertRequest>,
) -> Result<Json<Review>, ApiError> {
    check_note(&request.going.note)?;
    let draft = name(&draft)?;
    whole(async move {
        let review = app.drafts.deploy(&draft, request.going, &who).await?;
        Ok::<_, DraftError>(saved(&app, review).await)
    })
    .await
}

/// Make a draft begin from what runs now.
#[utoipa::path(
    post, path = "/drafts/{draft}/rebase", operation_id = "rebase_draft", tag = "draft", params(("draft" = String, Path, description = "The draft's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = DraftReview), Changing)
)]
pub(super) async fn rebase(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(draft): PathParams<String>,
) -> Result<Json<DraftReview>, ApiError> {
    let draft = name(&draft)?;
    whole(async move { app.drafts.rebase(&draft, &who).await }).await
}

/// Throw a draft away.
#[utoipa::path(
    delete, path = "/drafts/{draft}", operation_id = "discard_draft", tag = "draft", params(("draft" = String, Path, description = "The draft's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 204), Finding)
)]
pub(super) async fn discard(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(draft): PathParams<String>,
) -> Result<StatusCode, ApiError> {
    app.drafts.discard(&name(&draft)?, &who).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct RevisionsQuery {
    /// Only revisions with numbers below this one.
    before: Option<u64>,
    /// How many at most.
    #[param(minimum = 1, maximum = 1000)]
    limit: Option<u32>,
}

fn head(head: merismos_store::StoredRevisionHead, running: u64) -> RevisionHead {
    let merismos_store::StoredRevisionHead { number, author, note, at, accepted, changed } = head;
    RevisionHead { number, author, note, at, changed, running: number == running, accepted }
}

/// Revisions, the newest first.
#[utoipa::path(
    get, path = "/revisions", operation_id = "list_revisions", tag = "revision", params(RevisionsQuery),
    responses((status = 200, body = Revisions), Looking)
)]
pub(super) async fn revisions(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<RevisionsQuery>,
) -> Result<Json<Revisions>, ApiError> {
    let limit = query.limit.unwrap_or(50);
    largest(query.before)?;
    if !(1..=1_000).contains(&limit) {
        return Err(ApiError::bad_request("limit is a number from 1 to 1000"));
    }
    let running = app.controller.view().await?.number();
    let found = app.store.revisions(query.before, limit).await.map_err(ApiError::away)?;
    Ok(Json(Revisions { revisions: found.into_iter().map(|revision| head(revision, running)).collect() }))
}

/// A recorded revision with its document; number 0 is the empty document before the first.
async fn recorded(
    app: &ApiState,
    number: u64,
) -> Result<(Option<merismos_store::Revision>, Document), ApiError> {
    if number == 0 {
        return Ok((None, Document::default()));
    }
    let found = app.store.revision(number).await.map_err(ApiError::away)?;
    let Some(revision) = found else {
        return Err(ApiError::unknown(format!("There is no revision {number}.")));
    };
    let document = config::read_text(&revision.document, DocumentFormat::Json).map_err(|problems| {
        let detail =
            format!("Revision {number} does not make sense to this release: {} problems.", problems.len());
        ApiError::new(StatusCode::CONFLICT, "unreadable-revision", "A revision of another release", detail)
    })?;
    Ok((Some(revision), document))
}

/// One revision, what it changed, and its document.
#[utoipa::path(
    get, path = "/revisions/{number}", operation_id = "show_revision", tag = "revision", params(("number" = u64, Path, description = "The revision's number")),
    responses((status = 200, body = RevisionResponse), Changing)
)]
pub(super) async fn revision(
    State(app): State<Arc<ApiState>>,
    PathParams(number): PathParams<u64>,
) -> Result<Json<RevisionResponse>, ApiError> {
    let running = app.controller.view().await?.number();
    let (Some(revision), document) = recorded(&app, number).await? else {
        return Err(ApiError::unknown("Revisions are counted from 1."));
    };
    let (_, before) = recorded(&app, number - 1).await?;
    let changes = diff(&before, &document).into_iter().map(NamedChange::from).collect();
    let revision = head(revision.head(), running);
    Ok(Json(RevisionResponse { revision, changes, document: document.to_toml() }))
}

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct CompareQuery {
    /// The older revision; 0 is the empty document before the first.
    from: u64,
    /// The newer one.
    to: u64,
}

/// What changed between any two revisions.
#[utoipa::path(
    get, path = "/compare", operation_id = "compare_revisions", tag = "revision", params(CompareQuery),
    responses((status = 200, body = Between), Changing)
)]
pub(super) async fn compare(
    State(app): State<Arc<ApiState>>,
    QueryParams(CompareQuery { from, to }): QueryParams<CompareQuery>,
) -> Result<Json<Between>, ApiError> {
    let ((_, old), (_, new)) = (recorded(&app, from).await?, recorded(&app, to).await?);
    let changes = diff(&old, &new).into_iter().map(NamedChange::from).collect();
    Ok(Json(Between { from, to, changes }))
}

/// Make an older revision's content the newest revision.
#[utoipa::path(
    post, path = "/revisions/{number}/revert", operation_id = "revert_to_revision", tag = "revision", request_body = RevertRequest,
    params(("number" = u64, Path, description = "The revision to go back to")),
    responses((status = 200, body = Review), Changing)
)]
pub(super) async fn revert(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(number): PathParams<u64>,
    JsonBody(request): JsonBody<RevertRequest>,
) -> Result<Json<Review>, ApiError> {
    check_note(&request.going.note)?;
    let (revision, document) = recorded(&app, number).await?;
    let mut going = request.going;
    if going.note.is_empty() {
        going.note = format!("back to revision {number}");
    }
    // What was accepted when that revision was made does not have to be said again.
    let accepted = revision.map(|revision| revision.accepted).unwrap_or_default();
    let what = ProposedDocument::Document(Box::new(document));
    let proposal = Proposal { what, going: ApplyOptions { ..going }, accepted, author: who };
    whole(deploy_proposal(app, proposal)).await
}
