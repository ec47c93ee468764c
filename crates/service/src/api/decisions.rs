//! The decision log.

use std::convert::Infallible;
use std::sync::Arc;

use axum::Extension;
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::Stream;
use futures_util::stream::StreamExt;
use merismos_api::{Decision, NotChosen};
use merismos_core::config::document::Algorithm;
use merismos_core::describe::{Tense, because, full_words, pool_choice, server_fact, why_not};
use merismos_core::name::Name;
use merismos_plane::decisions::{self, OtherServer, PinReason};
use serde::Deserialize;
use tokio_stream::wrappers::BroadcastStream;
use utoipa::IntoParams;

use super::ApiState;
use super::problem::{ApiError, QueryParams, Watching};
use crate::access::Credential;
use crate::clock::wall;
use crate::controller::UnknownFrontend;

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct DecisionsQuery {
    /// Only decisions about work that came to this frontend.
    #[param(pattern = "^[a-z][a-z0-9-]{0,62}$")]
    frontend: Option<String>,
}

/// Decisions as they are made: some of them when there are many, each with how many were passed over.
#[utoipa::path(
    get, path = "/decisions", operation_id = "watch_decisions", tag = "look", params(DecisionsQuery),
    responses((status = 200, description = "Server-sent events named decision", body = Decision, content_type = "text/event-stream"), Watching)
)]
pub(super) async fn decisions(
    State(app): State<Arc<ApiState>>,
    Extension(credential): Extension<Credential>,
    QueryParams(query): QueryParams<DecisionsQuery>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let frontend =
        query.frontend.map(|name| name.parse::<Name>()).transpose().map_err(ApiError::bad_request)?;
    if let Some(name) = &frontend
        && !app.controller.view().await?.checked.document().frontends.contains_key(name)
    {
        return Err(UnknownFrontend(name.clone()).into());
    }
    let count = app.usage.open_stream().ok_or_else(|| ApiError::too_many_streams(&app.usage))?;
    let watcher = app.decisions.watch();
    let received = BroadcastStream::new(watcher.receiver.resubscribe());
    let access = app.access.clone();
    let received = received.take_while(move |_| std::future::ready(access.still_counts(&credential)));
    let events = received.filter_map(move |received| {
        // It watches for as long as the stream is there.
        let _watches = (&watcher, &count);
        let wanted =
            received.ok().filter(|decision| frontend.as_ref().is_none_or(|name| *name == decision.frontend));
        std::future::ready(wanted.map(|decision| {
            let event = Event::default().event("decision").json_data(view(&decision));
            Ok(event.unwrap_or_else(|error| Event::default().comment(error.to_string())))
        }))
    });
    Ok(Sse::new(events).keep_alive(KeepAlive::default()))
}

fn view(decision: &decisions::SampledDecision) -> Decision {
    let why = match decision.tied {
        Some(PinReason::Pin) => "its client is pinned to it".to_owned(),
        Some(PinReason::Trial) => "a trial sends it there".to_owned(),
        Some(PinReason::Connection) => "its connection was assigned to it before".to_owned(),
        None => because(decision.algorithm, decision.key.as_deref(), decision.fact.as_ref(), Tense::Made),
    };
    let not_chosen = |other: &OtherServer| NotChosen {
        server: other.server.to_string(),
        why: why_other(other, decision.algorithm, decision.tied.is_some()),
    };
    Decision {
        at: wall(),
        frontend: decision.frontend.to_string(),
        rule: decision.rule.as_ref().map(ToString::to_string),
        label: decision.label.clone(),
        client: decision.client.to_string(),
        pool: decision.pool.to_string(),
        why_pool: decision.why_pool.as_ref().map(pool_choice),
        pool_reason: decision.why_pool.clone(),
        algorithm: decision.algorithm.to_string(),
        key: decision.key.clone(),
        server: decision.server.to_string(),
        why,
        failed_at: decision.failed_at.iter().map(ToString::to_string).collect(),
        others: decision.others.iter().map(not_chosen).collect(),
        more_others: decision.more_others,
        passed_over: decision.passed_over,
    }
}

fn why_other(other: &OtherServer, algorithm: Algorithm, is_tied: bool) -> String {
    let fact = other.fact.as_ref().map(|fact| format!(" ({})", server_fact(fact))).unwrap_or_default();
    match (other.reason, other.full) {
        (Some(reason), _) => reason.to_string(),
        (None, Some(full)) => full_words(full).to_owned(),
        (None, None) if is_tied => format!("it was not asked{fact}"),
        (None, None) if algorithm == Algorithm::RoundRobin => "it was not its turn".to_owned(),
        (None, None) => format!("{}{fact}", why_not(algorithm)),
    }
}
