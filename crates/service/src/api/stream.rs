//! The live stream: server-sent events.

use std::convert::Infallible;
use std::sync::Arc;

use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::Stream;
use futures_util::stream::{self, StreamExt};
use merismos_api::{ProblemDocument, StreamMessage};
use tokio_stream::wrappers::BroadcastStream;

use super::App;
use super::problem::ApiError;

/// What happens, as it happens: the status at once and each second, events, and trials as they go on.
#[utoipa::path(
    get, path = "/stream", tag = "look",
    responses(
        (status = 200, description = "Server-sent events named status, event and trial", body = StreamMessage, content_type = "text/event-stream"),
        (status = 401, body = ProblemDocument, content_type = "application/problem+json"),
    )
)]
pub(super) async fn stream(
    State(app): State<Arc<App>>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let messages = BroadcastStream::new(app.journal.watch());
    let first = StreamMessage::Status(Box::new(app.controller.status().await?));
    // A watcher that was too slow misses messages; the next status, a second later, has all that is so.
    let messages = messages.filter_map(|message| std::future::ready(message.ok()));
    let all = stream::iter([first]).chain(messages);
    let events = all.map(|message| {
        let event = Event::default().event(message.name());
        Ok(event.json_data(&message).unwrap_or_else(|error| Event::default().comment(error.to_string())))
    });
    Ok(Sse::new(events).keep_alive(KeepAlive::default()))
}
