//! The live stream: server-sent events.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::Extension;
use axum::body::Body;
use axum::extract::State;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use futures_util::stream;
use merismos_api::StreamMessage;
use merismos_core::name::Name;
use serde::Deserialize;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::{Mutex, broadcast, watch};
use tokio::time::{Interval, MissedTickBehavior, interval};
use utoipa::IntoParams;

use super::ApiState;
use super::problem::{ApiError, Looking, QueryParams};
use super::server::StreamCount;
use crate::access::Credential;
use crate::controller::{Controller, StatusDetail, Stopping};
use crate::journal::{StatusFrame, StreamItem};

/// How often a stream on which nothing happens gets a comment, so that a client which is gone is noticed.
const COMMENT_EVERY: Duration = Duration::from_secs(15);
/// How old a status may be that a new stream begins with.
const FRESH: Duration = Duration::from_secs(1);

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct StreamQuery {
    /// Show the servers of this pool one by one, also when there are very many.
    #[param(pattern = "^[a-z][a-z0-9-]{0,62}$")]
    pool: Option<String>,
}

/// Statuses that were made for streams, each once for all who look at the same pool.
#[derive(Debug, Default)]
pub(crate) struct StatusFrames {
    /// By the pool that is looked at. Held while a status is made, so that readers of the same one wait for it.
    made: Mutex<BTreeMap<Option<Name>, StatusFrame>>,
}

impl StatusFrames {
    /// The status of that number or newer, with the servers of `pool`.
    async fn get(
        &self,
        controller: &Controller,
        pool: Option<&Name>,
        number: u64,
    ) -> Result<Bytes, Stopping> {
        let mut made = self.made.lock().await;
        made.retain(|_, known| known.number >= number && known.made.elapsed() < FRESH);
        if let Some(known) = made.get(&pool.cloned()) {
            return Ok(known.frame.clone());
        }
        let status = controller.status(StatusDetail::Short(pool.cloned())).await?;
        let new = StatusFrame::new(number, Box::new(status));
        let frame = new.frame.clone();
        made.insert(pool.cloned(), new);
        Ok(frame)
    }
}

/// What a stream needs while it lasts.
struct StreamGuard {
    app: Arc<ApiState>,
    pool: Option<Name>,
    journal: broadcast::Receiver<StreamItem>,
    status: watch::Receiver<Option<StatusFrame>>,
    comments: Interval,
    credential: Credential,
    _count: StreamCount,
}

impl StreamGuard {
    /// What comes next; `None` when the service stops, or when the watcher lost its right to it.
    async fn next(&mut self) -> Option<Bytes> {
        loop {
            if !self.app.access.still_counts(&self.credential) {
                return None;
            }
            tokio::select! {
                item = self.journal.recv() => match item {
                    Ok(item) => return Some(item.frame),
                    // A watcher that was too slow misses events; the page asks for them when it is back.
                    Err(RecvError::Lagged(_)) => {}
                    Err(RecvError::Closed) => return None,
                },
                changed = self.status.changed() => {
                    changed.ok()?;
                    let newest = self.status.borrow_and_update().clone()?;
                    // What goes to everyone leaves out what this watcher looks at.
                    let Some(pool) = self.pool.as_ref().filter(|_| newest.shortened) else {
                        return Some(newest.frame);
                    };
                    let own = self.app.frames.get(&self.app.controller, Some(pool), newest.number).await;
                    return Some(own.unwrap_or(newest.frame));
                }
                _ = self.comments.tick() => return Some(Bytes::from_static(b":\n\n")),
            }
        }
    }
}

/// What happens, as it happens: the status at once and each second, events, and trials as they go on.
#[utoipa::path(
    get, path = "/stream", operation_id = "watch_status", tag = "look", params(StreamQuery),
    responses((status = 200, description = "Server-sent events named status, event and trial", body = StreamMessage, content_type = "text/event-stream"), Looking)
)]
pub(super) async fn stream(
    State(app): State<Arc<ApiState>>,
    Extension(credential): Extension<Credential>,
    QueryParams(query): QueryParams<StreamQuery>,
) -> Result<Response, ApiError> {
    let count = app.usage.open_stream().ok_or_else(|| ApiError::too_many_streams(&app.usage))?;
    let pool = query.pool.map(|pool| pool.parse::<Name>()).transpose().map_err(ApiError::bad_request)?;
    let (journal, mut status) = (app.journal.watch(), app.journal.watch_status());
    let number = status.borrow_and_update().as_ref().map_or(0, |newest| newest.number);
    let first = app.frames.get(&app.controller, pool.as_ref(), number).await?;
    let mut comments = interval(COMMENT_EVERY);
    comments.set_missed_tick_behavior(MissedTickBehavior::Delay);
    comments.reset();
    let watcher = StreamGuard { app, pool, journal, status, comments, credential, _count: count };
    let frames = stream::unfold((Some(first), watcher), async |(first, mut watcher)| {
        let frame = match first {
            Some(first) => first,
            None => watcher.next().await?,
        };
        Some((Ok::<_, Infallible>(frame), (None, watcher)))
    });
    Ok(([(CONTENT_TYPE, "text/event-stream")], Body::from_stream(frames)).into_response())
}
