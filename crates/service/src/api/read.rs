//! Calls that only look.

use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::HeaderName;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse, Response};
use merismos_api::{EventFilter, EventKind, Events, ExplainResponse, Limits, Refusals, RuleCounts, Status};
use merismos_core::config::DocumentFormat;
use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_store::EventQuery;
use serde::Deserialize;
use utoipa::IntoParams;

use super::ApiState;
use super::problem::{ApiError, Finding, Looking, PathParams, QueryParams};
use crate::controller::{HypotheticalRequest, StatusDetail};
use crate::journal;

/// The field that names the revision of an exported document.
const REVISION: HeaderName = HeaderName::from_static("merismos-revision");

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct StatusQuery {
    /// Leave out the servers of all pools but this one when there are very many.
    #[param(pattern = "^[a-z][a-z0-9-]{0,62}$")]
    pool: Option<String>,
    /// Leave out the servers of every pool when there are very many.
    #[serde(default)]
    short: bool,
}

impl StatusQuery {
    /// Whose servers are shown one by one.
    pub(super) fn detail(&self) -> Result<StatusDetail, ApiError> {
        Ok(match &self.pool {
            Some(pool) => StatusDetail::Short(Some(pool.parse().map_err(ApiError::bad_request)?)),
            None if self.short => StatusDetail::Short(None),
            None => StatusDetail::All,
        })
    }
}

/// Everything that is going on.
#[utoipa::path(
    get, path = "/status", operation_id = "show_status", tag = "look", params(StatusQuery),
    responses((status = 200, body = Status), Looking)
)]
pub(super) async fn status(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<StatusQuery>,
) -> Result<Json<Status>, ApiError> {
    Ok(Json(app.controller.status(query.detail()?).await?))
}

/// A hypothetical request.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct ExplainQuery {
    /// The client's address; 127.0.0.1 when it is left out.
    #[param(value_type = Option<String>)]
    client: Option<IpAddr>,
    /// The method; GET when it is left out.
    #[param(example = "GET", pattern = "^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$")]
    method: Option<String>,
    /// The path with its query.
    #[param(pattern = "^/")]
    path: Option<String>,
    /// The host that is asked for.
    host: Option<String>,
    /// The server name that a TLS client asks for.
    sni: Option<String>,
    /// What a TCP client sends first.
    first_bytes: Option<String>,
    /// Cookies, as in `Cookie`: `visit=a81f; lang=en`.
    cookie: Option<String>,
    /// Fields, one a line: `X-Account: 17`.
    header: Option<String>,
    /// The server that the connection it comes on was assigned to before: `booking/gull`.
    #[param(value_type = Option<String>, pattern = "^[a-z][a-z0-9-]{0,62}/[a-z][a-z0-9-]{0,62}$")]
    connection: Option<String>,
}

impl ExplainQuery {
    fn imagined(self) -> Result<HypotheticalRequest, ApiError> {
        let wrong = "a field is a name, a colon and a value, such as X-Account: 17";
        let field = |line: &str| {
            let (name, value) = line.split_once(':').ok_or_else(|| ApiError::bad_request(wrong))?;
            Ok((name.trim().to_ascii_lowercase(), value.trim().to_owned()))
        };
        let lines = self.header.as_deref().unwrap_or_default().lines().filter(|line| !line.trim().is_empty());
        let mut fields = lines.map(field).collect::<Result<Vec<_>, ApiError>>()?;
        fields.extend(self.cookie.map(|cookie| ("cookie".to_owned(), cookie)));
        let is_method = |method: &String| {
            let is_of_token = |byte: u8| byte.is_ascii_alphanumeric() || b"!#$%&'*+.^_`|~-".contains(&byte);
            (1..=100).contains(&method.len()) && method.bytes().all(is_of_token)
        };
        if !self.method.as_ref().is_none_or(is_method) {
            return Err(ApiError::bad_request("a method is a word, such as POST (RFC 9110, 9.1)"));
        }
        if self.path.as_ref().is_some_and(|path| !path.starts_with('/')) {
            return Err(ApiError::bad_request("a path begins with a slash"));
        }
        let client = self.client.unwrap_or(IpAddr::V4(Ipv4Addr::LOCALHOST));
        let connection =
            self.connection.map(|text| text.parse().map_err(ApiError::bad_request)).transpose()?;
        Ok(HypotheticalRequest {
            client,
            method: self.method,
            path: self.path,
            host: self.host,
            sni: self.sni,
            first_bytes: self.first_bytes,
            fields,
            connection,
        })
    }
}

/// Which server a request that came to a frontend now would go to, and why no other. Nothing is sent.
#[utoipa::path(
    get, path = "/frontends/{frontend}/explain", tag = "look",
    params(ExplainQuery, ("frontend" = String, Path, description = "The frontend's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = ExplainResponse), Finding)
)]
pub(super) async fn explain(
    State(app): State<Arc<ApiState>>,
    PathParams(frontend): PathParams<String>,
    QueryParams(query): QueryParams<ExplainQuery>,
) -> Result<Json<ExplainResponse>, ApiError> {
    let frontend: Name = frontend.parse().map_err(ApiError::bad_request)?;
    Ok(Json(app.controller.explain(frontend, query.imagined()?).await??))
}

/// Limits of clients, with what they let pass and held off.
#[utoipa::path(get, path = "/limits", tag = "look", responses((status = 200, body = Limits), Looking))]
pub(super) async fn limits(State(app): State<Arc<ApiState>>) -> Result<Json<Limits>, ApiError> {
    Ok(Json(app.controller.limits().await?))
}

/// The rules of a frontend, in order, with how many requests met each first and when the last one did.
#[utoipa::path(
    get, path = "/frontends/{frontend}/rules", tag = "look",
    params(("frontend" = String, Path, description = "The frontend's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = RuleCounts), Finding)
)]
pub(super) async fn rule_counts(
    State(app): State<Arc<ApiState>>,
    PathParams(frontend): PathParams<String>,
) -> Result<Json<RuleCounts>, ApiError> {
    let frontend: Name = frontend.parse().map_err(ApiError::bad_request)?;
    let mut counts = app.controller.rule_counts(frontend).await??;
    app.rule_uses.complete(&mut counts);
    Ok(Json(counts))
}

/// Whom a frontend refused since the node started: for each reason how often, and which networks of clients most.
#[utoipa::path(
    get, path = "/frontends/{frontend}/refusals", tag = "look",
    params(("frontend" = String, Path, description = "The frontend's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = Refusals), Finding)
)]
pub(super) async fn refusals(
    State(app): State<Arc<ApiState>>,
    PathParams(frontend): PathParams<String>,
) -> Result<Json<Refusals>, ApiError> {
    let frontend: Name = frontend.parse().map_err(ApiError::bad_request)?;
    Ok(Json(app.controller.refusals(frontend).await??))
}

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct EventsQuery {
    /// Only events with numbers below this one.
    before: Option<u64>,
    /// Only these kinds, with commas between.
    #[param(
        example = "health,duty",
        pattern = "^(health|duty|revision|draft|lookup|tier|traffic|node|trial|message|token)(,(health|duty|revision|draft|lookup|tier|traffic|node|trial|message|token))*$"
    )]
    kind: Option<String>,
    /// Only those about this: a pool (and its servers), `pool/server`, a frontend, `revision 7`.
    #[param(max_length = 200)]
    object: Option<String>,
    /// Only what this one did.
    #[param(pattern = "^[a-z][a-z0-9-]{0,62}$")]
    by: Option<String>,
    /// Only what happened then or later.
    #[param(value_type = Option<String>, format = DateTime)]
    since: Option<Wall>,
    /// Only what happened before.
    #[param(value_type = Option<String>, format = DateTime)]
    until: Option<Wall>,
    /// How many at most.
    #[param(minimum = 1, maximum = 1000)]
    limit: Option<u32>,
}

/// Refuses a number that is larger than any there can be: the OpenAPI document promises 64 bits with a sign.
pub(super) fn largest(number: Option<u64>) -> Result<(), ApiError> {
    if number.is_some_and(|number| i64::try_from(number).is_err()) {
        return Err(ApiError::bad_request(format!("before is a number up to {}", i64::MAX)));
    }
    Ok(())
}

/// The longest text that an event can be about, in characters.
const LONGEST_OBJECT: usize = 200;

/// Events, the newest first.
#[utoipa::path(
    get, path = "/events", operation_id = "list_events", tag = "look", params(EventsQuery),
    responses((status = 200, body = Events), Looking)
)]
pub(super) async fn events(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<EventsQuery>,
) -> Result<Json<Events>, ApiError> {
    let limit = query.limit.unwrap_or(100);
    largest(query.before)?;
    if !(1..=1_000).contains(&limit) {
        return Err(ApiError::bad_request("limit is a number from 1 to 1000"));
    }
    let kinds: Option<Vec<EventKind>> =
        query.kind.iter().flat_map(|kinds| kinds.split(',')).map(|kind| EventKind::of(kind.trim())).collect();
    let kinds = kinds.ok_or_else(|| {
        let words: Vec<_> = EventKind::ALL.iter().map(|(_, word)| *word).collect();
        ApiError::bad_request(format!("kind is one or more of {}, with commas between", words.join(", ")))
    })?;
    if query.by.as_ref().is_some_and(|by| by.parse::<Name>().is_err()) {
        return Err(ApiError::bad_request("by is a token's name, such as night-shift"));
    }
    if query.object.as_ref().is_some_and(|object| object.chars().count() > LONGEST_OBJECT) {
        return Err(ApiError::bad_request(format!("object has at most {LONGEST_OBJECT} characters")));
    }
    let EventsQuery { before, object, by, since, until, .. } = query;
    let filter = EventFilter { before, kinds, object, by, since, until };
    let wanted = EventQuery {
        before,
        kinds: filter.kinds.iter().map(|kind| kind.word()).collect(),
        object: filter.object.clone(),
        by: filter.by.clone(),
        since,
        until,
    };
    let stored = match app.store.events(&wanted, limit).await {
        Ok(stored) => stored,
        Err(error) => {
            tracing::debug!(%error, "events are read from memory");
            let events = app.journal.recent(&filter, true, limit as usize);
            return Ok(Json(Events { events, complete: false }));
        }
    };
    let mut events: Vec<_> = stored.into_iter().map(journal::from_store).collect();
    // What waits in the outbox is younger than all that this node has recorded, so the two join without a gap.
    events.extend(app.journal.recent(&filter, false, limit as usize));
    events.sort_by(|one, other| (other.id, &other.node).cmp(&(one.id, &one.node)));
    events.dedup_by(|one, other| one.id == other.id && one.node == other.node);
    events.truncate(limit as usize);
    Ok(Json(Events { events, complete: true }))
}

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct DocumentQuery {
    /// How it is written; TOML when nothing is said.
    format: Option<DocumentFormat>,
}

/// The running document; the same content always gives the same bytes. `Merismos-Revision` names its revision.
#[utoipa::path(
    get, path = "/document", operation_id = "show_document", tag = "look", params(DocumentQuery),
    responses((status = 200, content((String = "application/toml"), (Object = "application/json")), headers(("merismos-revision" = u64))), Looking)
)]
pub(super) async fn document(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<DocumentQuery>,
) -> Result<Response, ApiError> {
    let view = app.controller.view().await?;
    let (number, document) = (view.number(), view.checked.document());
    let (kind, text) = match query.format.unwrap_or(DocumentFormat::Toml) {
        DocumentFormat::Toml => ("application/toml", document.to_toml()),
        DocumentFormat::Json => ("application/json", document.to_json()),
    };
    Ok(([(CONTENT_TYPE, kind.to_owned()), (REVISION, number.to_string())], text).into_response())
}
