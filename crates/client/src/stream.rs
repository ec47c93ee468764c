//! The live stream.

use std::pin::Pin;

use eventsource_stream::Eventsource;
use futures_util::StreamExt;
use merismos_api::StreamMessage;

use crate::ClientError;

type Messages = Pin<Box<dyn futures_util::Stream<Item = Result<StreamMessage, ClientError>> + Send>>;

/// What happens at a service, as it happens.
pub struct Stream {
    messages: Messages,
}

impl std::fmt::Debug for Stream {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Stream").finish_non_exhaustive()
    }
}

impl Stream {
    pub(crate) fn new(url: String, response: reqwest::Response) -> Self {
        let messages = response.bytes_stream().eventsource().map(move |event| {
            let event = event
                .map_err(|error| ClientError::Unreachable { url: url.clone(), why: error.to_string() })?;
            serde_json::from_str(&event.data)
                .map_err(|source| ClientError::Unreadable { url: url.clone(), source })
        });
        Self { messages: Box::pin(messages) }
    }

    /// The next message; `None` when the service has ended the stream.
    ///
    /// # Errors
    /// [`ClientError`] when the connection breaks.
    pub async fn next(&mut self) -> Option<Result<StreamMessage, ClientError>> {
        self.messages.next().await
    }
}
