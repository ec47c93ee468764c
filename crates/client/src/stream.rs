//! The live stream.

use std::pin::Pin;

use eventsource_stream::Eventsource;
use futures_util::StreamExt;
use merismos_api::StreamMessage;
use serde::de::DeserializeOwned;

use crate::{ClientError, from_json};

type Messages<T> = Pin<Box<dyn futures_util::Stream<Item = Result<T, ClientError>> + Send>>;

/// What happens at a service, as it happens.
pub struct Stream<T = StreamMessage> {
    messages: Messages<T>,
}

impl<T> std::fmt::Debug for Stream<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Stream").finish_non_exhaustive()
    }
}

impl<T: DeserializeOwned + 'static> Stream<T> {
    pub(crate) fn new(url: String, response: reqwest::Response, is_for_people: bool) -> Self {
        let messages = response.bytes_stream().eventsource().map(move |event| {
            let event = event
                .map_err(|error| ClientError::Unreachable { url: url.clone(), why: error.to_string() })?;
            from_json(&event.data, is_for_people)
                .map_err(|source| ClientError::Unreadable { url: url.clone(), source })
        });
        Self { messages: Box::pin(messages) }
    }

    /// The next message; `None` when the service has ended the stream.
    ///
    /// # Errors
    /// [`ClientError`] when the connection breaks.
    pub async fn next(&mut self) -> Option<Result<T, ClientError>> {
        self.messages.next().await
    }
}
