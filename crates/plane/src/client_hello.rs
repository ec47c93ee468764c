//! What a TLS client says before anything else: the name of the server that it wants (RFC 8446, 4.1.2; RFC 6066, 3). It is
//! read and passed on; the session is the client's and its server's.

use std::time::Duration;

use rustls::server::Acceptor;
use tokio::net::TcpStream;

use crate::buffer::Buffer;
use crate::context::WorkerContext;
use crate::deadline::WakeReason;
use crate::io::{ConnectionTimer, IoError, read, readable};

/// The first byte of a record that holds a handshake (RFC 8446, 5.1).
const HANDSHAKE: u8 = 22;

/// A greeting that comes in pieces.
#[derive(Default)]
struct ClientHelloParser(Acceptor);

impl ClientHelloParser {
    /// Takes the next piece. `None` while more has to come; then the name, when it is a greeting that has one.
    fn take(&mut self, mut piece: &[u8]) -> Option<Option<String>> {
        while !piece.is_empty() {
            if self.0.read_tls(&mut piece).is_err() {
                return Some(None);
            }
            match self.0.accept() {
                Ok(None) => {}
                Ok(Some(accepted)) => return Some(accepted.client_hello().server_name().map(str::to_owned)),
                Err(_) => return Some(None),
            }
        }
        None
    }
}

/// What a client began with.
pub(crate) struct ClientHello {
    /// The server that it wants, if it said so in time.
    pub(crate) name: Option<String>,
    /// All that was read of it.
    pub(crate) first: Option<Buffer>,
}

/// Hears whom a client wants to speak with, for so long at most. `first` is what it has sent already. `None`
/// when its connection is over.
pub(crate) async fn peek_client_hello(
    worker: &WorkerContext,
    stream: &mut TcpStream,
    first: Option<Buffer>,
    limit: Duration,
    watch: ConnectionTimer<'_>,
) -> Option<ClientHello> {
    watch.set_timeout(limit);
    let (mut greeting, mut taken) = (ClientHelloParser::default(), 0);
    let mut buffer = match first {
        Some(first) => first,
        None => match readable(stream, watch).await {
            Ok(()) => worker.small.take(),
            Err(trouble) => return no_client_hello(&trouble, None, watch),
        },
    };
    loop {
        let is_tls = buffer.first().is_none_or(|first| *first == HANDSHAKE);
        if let Some(name) = if is_tls { greeting.take(&buffer[taken..]) } else { Some(None) } {
            watch.alarm.cancel();
            return Some(ClientHello { name, first: Some(buffer) });
        }
        taken = buffer.len();
        buffer.compact();
        if buffer.room().is_empty() {
            // So long a greeting is none.
            watch.alarm.cancel();
            return Some(ClientHello { name: None, first: Some(buffer) });
        }
        if let Err(trouble) = read(stream, &mut buffer, watch).await {
            return no_client_hello(&trouble, Some(buffer), watch);
        }
    }
}

/// No greeting came to its end: the server shall see what there is of it, unless the connection is over.
fn no_client_hello(
    trouble: &IoError,
    first: Option<Buffer>,
    watch: ConnectionTimer<'_>,
) -> Option<ClientHello> {
    match trouble {
        // It waits for its server to speak first, or has said all that it will.
        IoError::Closed | IoError::Rang(WakeReason::Deadline) => {
            watch.alarm.cancel();
            Some(ClientHello { name: None, first: first.filter(|first| !first.is_empty()) })
        }
        IoError::Broken
        | IoError::Rang(WakeReason::Cut | WakeReason::Drained | WakeReason::Close | WakeReason::Crowded) => {
            None
        }
    }
}

#[cfg(fuzzing)]
pub(crate) fn fuzz(data: &[u8]) {
    let Some((size, data)) = data.split_first() else { return };
    let whole = ClientHelloParser::default().take(data);
    let mut greeting = ClientHelloParser::default();
    let pieces = data.chunks(usize::from(*size).max(1)).find_map(|piece| greeting.take(piece));
    assert_eq!(whole, pieces);
}
