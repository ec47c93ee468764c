//! The live stream: server-sent events.

use std::convert::Infallible;
use std::sync::Arc;

use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::Stream;
use futures_util::stream::{self, StreamExt};
use merismos_api::StreamMessage;
use merismos_core::name::Name;
use serde::Deserialize;
use tokio_stream::wrappers::BroadcastStream;
use utoipa::IntoParams;

use super::App;
use super::problem::{ApiError, InQuery, Looking};
use crate::controller::Detail;

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct StreamQuery {
    /// Show the servers of this pool one by one, also when there are very many.
    pool: Option<String>,
}

/// What happens, as it happens: the status at once and each second, events, and trials as they go on.
#[utoipa::path(
    get, path = "/stream", tag = "look", params(StreamQuery),
    responses((status = 200, description = "Server-sent events named status, event and trial", body = StreamMessage, content_type = "text/event-stream"), Looking)
)]
pub(super) async fn stream(
    State(app): State<Arc<App>>,
    InQuery(query): InQuery<StreamQuery>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let messages = BroadcastStream::new(app.journal.watch());
    let pool = query.pool.map(|pool| pool.parse::<Name>()).transpose().map_err(ApiError::bad_request)?;
    let first = StreamMessage::Status(Box::new(app.controller.status(Detail::Short(pool.clone())).await?));
    // A watcher that was too slow misses messages; the next status, a second later, has all that is so.
    let messages = messages.filter_map(|message| std::future::ready(message.ok()));
    let messages = messages.then(move |message| {
        let (controller, pool) = (app.controller.clone(), pool.clone());
        async move {
            match (message, pool) {
                // What goes to everyone leaves out what this watcher looks at.
                (StreamMessage::Status(status), Some(pool)) if status.shortened => {
                    let own = controller.status(Detail::Short(Some(pool))).await;
                    StreamMessage::Status(own.map_or(status, Box::new))
                }
                (message, _) => message,
            }
        }
    });
    let all = stream::iter([first]).chain(messages);
    let events = all.map(|message| {
        let event = Event::default().event(message.name());
        Ok(event.json_data(&message).unwrap_or_else(|error| Event::default().comment(error.to_string())))
    });
    Ok(Sse::new(events).keep_alive(KeepAlive::default()))
}
