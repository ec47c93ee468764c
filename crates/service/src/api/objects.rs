//! Calls that look at the objects of the configuration, one by one.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse, Response};
use merismos_api::{HostView, Hosts, ObjectView, Objects};
use merismos_core::config::document::{Document, Labels};
use merismos_core::config::object::{ObjectKind, ObjectPath};
use merismos_core::config::{edit, hosts, objects, references};
use merismos_core::health::timing::timing;
use serde::Deserialize;
use utoipa::IntoParams;

use super::ApiState;
use super::problem::{ApiError, Finding, Looking, PathParams, QueryParams};

/// The most objects that one answer holds.
const LARGEST_PAGE: u32 = 1_000;

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct ObjectsQuery {
    /// Only this kind of object.
    kind: Option<ObjectKind>,
    /// Only what is inside this pool or this range.
    inside: Option<String>,
    /// Only objects with this in their name, summary, note or labels, in any case of letters.
    search: Option<String>,
    /// Only objects with these labels: `key=value` or `key`, with commas between.
    labels: Option<String>,
    /// Of a draft instead of the running revision.
    #[param(pattern = "^[a-z][a-z0-9-]{0,62}$")]
    draft: Option<String>,
    /// How many to pass over.
    offset: Option<u32>,
    /// How many at most.
    #[param(minimum = 1, maximum = 1000)]
    limit: Option<u32>,
}

fn matches_labels(labels: &Labels, wanted: &str) -> bool {
    wanted.split(',').filter(|part| !part.is_empty()).all(|part| {
        let (key, value) = part.split_once('=').map_or((part, None), |(key, value)| (key, Some(value)));
        let found = labels.iter().find(|(name, _)| name.as_str() == key.trim());
        found.is_some_and(|(_, has)| value.is_none_or(|value| has == value.trim()))
    })
}

fn matches_search(entry: &objects::ObjectEntry<'_>, wanted: &str) -> bool {
    let holds = |text: &str| text.to_lowercase().contains(wanted);
    holds(&entry.object.words())
        || holds(entry.note)
        || entry.labels.iter().any(|(key, value)| holds(&format!("{key}={value}")))
        || holds(&entry.summary())
}

fn view(document: &Document, entry: &objects::ObjectEntry<'_>) -> ObjectView {
    ObjectView {
        path: entry.object.to_string(),
        kind: entry.object.kind(),
        name: entry.object.words().split_once(' ').map_or_else(String::new, |(_, name)| name.to_owned()),
        summary: entry.summary(),
        note: entry.note.to_owned(),
        labels: texts(entry.labels),
        used_by: references::users(document, &entry.object).iter().map(ObjectPath::to_string).collect(),
        keys: edit::value(document, &entry.object).unwrap_or_default(),
        timing: match &entry.object {
            ObjectPath::Check(name) => document.checks.get(name).map(timing),
            _ => None,
        },
    }
}

fn texts(labels: &Labels) -> BTreeMap<String, String> {
    labels.iter().map(|(key, value)| (key.to_string(), value.clone())).collect()
}

async fn document(app: &ApiState, draft: Option<&str>) -> Result<(u64, Arc<Document>), ApiError> {
    match draft {
        None => {
            let view = app.controller.view().await?;
            Ok((view.number(), view.checked.shared()))
        }
        Some(name) => {
            let name = name.parse().map_err(ApiError::bad_request)?;
            let (base, document) = app.drafts.document(&name).await?;
            Ok((base, Arc::new(document)))
        }
    }
}

fn page(offset: Option<u32>, limit: Option<u32>) -> Result<(usize, usize), ApiError> {
    let limit = limit.unwrap_or(100);
    if !(1..=LARGEST_PAGE).contains(&limit) {
        return Err(ApiError::bad_request(format!("limit is a number from 1 to {LARGEST_PAGE}")));
    }
    let offset = i32::try_from(offset.unwrap_or(0));
    let offset =
        offset.map_err(|_| ApiError::bad_request(format!("offset is a number up to {}", i32::MAX)))?;
    Ok((offset as usize, limit as usize))
}

/// Objects of the configuration, in the order of their paths.
#[utoipa::path(
    get, path = "/objects", operation_id = "list_objects", tag = "objects", params(ObjectsQuery),
    responses((status = 200, body = Objects), Finding)
)]
pub(super) async fn list(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<ObjectsQuery>,
) -> Result<Json<Objects>, ApiError> {
    let (offset, limit) = page(query.offset, query.limit)?;
    let (revision, document) = document(&app, query.draft.as_deref()).await?;
    let search = query.search.unwrap_or_default().to_lowercase();
    let labels = query.labels.unwrap_or_default();
    let wanted = |entry: &objects::ObjectEntry<'_>| {
        query.kind.is_none_or(|kind| entry.object.kind() == kind)
            && query.inside.as_ref().is_none_or(|around| entry.is_inside(around))
            && matches_labels(entry.labels, &labels)
            && (search.is_empty() || matches_search(entry, &search))
    };
    let found: Vec<_> = objects::list(&document).into_iter().filter(wanted).collect();
    let objects = found.iter().skip(offset).take(limit).map(|entry| view(&document, entry)).collect();
    Ok(Json(Objects { revision, total: found.len() as u64, objects }))
}

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct ObjectQuery {
    /// Of a draft instead of the running revision.
    #[param(pattern = "^[a-z][a-z0-9-]{0,62}$")]
    draft: Option<String>,
}

/// One object.
#[utoipa::path(
    get, path = "/objects/{object}", operation_id = "show_object", tag = "objects",
    params(("object" = String, Path, description = "Its path, such as pools.booking.servers.gull"), ObjectQuery),
    responses((status = 200, body = ObjectView), Finding)
)]
pub(super) async fn show(
    State(app): State<Arc<ApiState>>,
    PathParams(object): PathParams<String>,
    QueryParams(query): QueryParams<ObjectQuery>,
) -> Result<Json<ObjectView>, ApiError> {
    let object: ObjectPath = object.parse().map_err(ApiError::bad_request)?;
    let (_, document) = document(&app, query.draft.as_deref()).await?;
    match objects::find(&document, &object) {
        Some(entry) => Ok(Json(view(&document, &entry))),
        None => Err(ApiError::unknown(format!("There is no {}.", object.words()))),
    }
}

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct HostsQuery {
    /// Only machines with this in their address, name, note, labels or servers.
    search: Option<String>,
    /// Only machines with these labels: `key=value` or `key`, with commas between.
    labels: Option<String>,
    /// How many to pass over.
    offset: Option<u32>,
    /// How many at most.
    #[param(minimum = 1, maximum = 1000)]
    limit: Option<u32>,
}

/// Machines: those that are known, and those that were seen in pools, in the order of their addresses.
#[utoipa::path(
    get, path = "/hosts", operation_id = "list_hosts", tag = "objects", params(HostsQuery),
    responses((status = 200, body = Hosts), Looking)
)]
pub(super) async fn machines(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<HostsQuery>,
) -> Result<Json<Hosts>, ApiError> {
    let (offset, limit) = page(query.offset, query.limit)?;
    let document = app.controller.view().await?.effective.shared();
    let search = query.search.unwrap_or_default().to_lowercase();
    let labels = query.labels.unwrap_or_default();
    let none = Labels::new();
    let all = hosts::seen(&document).into_iter().filter_map(|(address, seen)| {
        let known = seen.name.as_ref().and_then(|name| document.hosts.get(name));
        if !matches_labels(known.map_or(&none, |host| &host.labels), &labels) {
            return None;
        }
        let view = HostView {
            address: address.to_string(),
            name: seen.name.as_ref().map(ToString::to_string),
            note: known.map(|host| host.note.clone()).unwrap_or_default(),
            labels: known.map(|host| texts(&host.labels)).unwrap_or_default(),
            servers: seen.servers.iter().map(ToString::to_string).collect(),
        };
        let holds = |text: &str| text.to_lowercase().contains(&search);
        let found = holds(&view.address)
            || view.name.as_deref().is_some_and(holds)
            || holds(&view.note)
            || view.servers.iter().any(|server| holds(server))
            || view.labels.iter().any(|(key, value)| holds(&format!("{key}={value}")));
        found.then_some(view)
    });
    let all: Vec<_> = all.collect();
    Ok(Json(Hosts { total: all.len() as u64, hosts: all.into_iter().skip(offset).take(limit).collect() }))
}

/// The JSON Schema of a document, for editors that complete and check.
#[utoipa::path(
    get, path = "/document/schema", operation_id = "document_schema", tag = "look",
    responses((status = 200, body = Object, content_type = "application/schema+json"), Looking)
)]
pub(super) async fn schema() -> Response {
    ([(CONTENT_TYPE, "application/schema+json")], merismos_core::config::json_schema::text()).into_response()
}
