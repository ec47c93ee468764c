//! What a TLS client says before anything else: the name of the server that it wants (RFC 8446, 4.1.2; RFC 6066, 3). It is
//! read and passed on; the session is the client's and its server's.

use merismos_core::routing::FirstBytes;
use rustls::server::Acceptor;

use crate::buffer::Buffer;
use crate::context::WorkerContext;
use crate::deadline::WakeReason;
use crate::io::{ConnectionTimer, IoError, Source, read, readable};
use crate::tls::HANDSHAKE;

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

/// What has come of a client's first bytes.
struct FirstBytesParser<'a> {
    wanted: &'a FirstBytes,
    greeting: ClientHelloParser,
    taken: usize,
    /// The name, or that there is none, once that is known.
    name: Option<Option<String>>,
}

impl FirstBytesParser<'_> {
    /// Looks at all that has come; whether no more is needed.
    fn look(&mut self, bytes: &[u8]) -> bool {
        if self.wanted.wants_name && self.name.is_none() {
            let is_tls = bytes.first().is_none_or(|first| *first == HANDSHAKE);
            self.name = if is_tls { self.greeting.take(&bytes[self.taken..]) } else { Some(None) };
            self.taken = bytes.len();
        }
        let patterns = &self.wanted.patterns;
        let is_found = patterns.is_empty() || patterns.iter().any(|pattern| pattern.find(bytes).is_some());
        is_found && (self.name.is_some() || !self.wanted.wants_name)
    }
}

/// Hears what a client says first, as far as that has a part in where it goes. `first` is what it has sent already. `None` when its
/// connection is over.
pub(crate) async fn peek_client_hello(
    worker: &WorkerContext,
    stream: &mut impl Source,
    first: Option<Buffer>,
    wanted: &FirstBytes,
    watch: ConnectionTimer<'_>,
) -> Option<ClientHello> {
    watch.set_timeout(wanted.within);
    let mut heard = FirstBytesParser { wanted, greeting: ClientHelloParser::default(), taken: 0, name: None };
    let mut buffer = match first {
        Some(first) => first,
        None => match readable(stream, watch).await {
            Ok(()) => worker.small.take(),
            Err(trouble) => return no_client_hello(&trouble, None, None, watch),
        },
    };
    loop {
        let is_enough = heard.look(&buffer);
        buffer.compact();
        // What has not come within so many bytes does not come.
        if is_enough || buffer.room().is_empty() {
            watch.alarm.cancel();
            return Some(ClientHello { name: heard.name.flatten(), first: Some(buffer) });
        }
        if let Err(trouble) = read(stream, &mut buffer, watch).await {
            return no_client_hello(&trouble, heard.name.flatten(), Some(buffer), watch);
        }
    }
}

/// No greeting came to its end: the server shall see what there is of it, unless the connection is over.
fn no_client_hello(
    trouble: &IoError,
    name: Option<String>,
    first: Option<Buffer>,
    watch: ConnectionTimer<'_>,
) -> Option<ClientHello> {
    match trouble {
        // It waits for its server to speak first, or has said all that it will.
        IoError::Closed | IoError::Rang(WakeReason::Deadline) => {
            watch.alarm.cancel();
            Some(ClientHello { name, first: first.filter(|first| !first.is_empty()) })
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
