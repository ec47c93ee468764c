//! The clients that a trial sends: what each of them saw is kept.
//!
//! HTTP clients keep their connections alive, as browsers do, and their cookies where the trial keeps them. A connection that
//! breaks is opened anew for the next request; the request that it broke under is counted as broken and not sent again,
//! for that is what a client would have seen. TCP clients connect anew each time, and UDP clients send from a new port.
#![forbid(unsafe_code)]

mod http;
mod run;
mod stream_client;
mod tls;

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

pub use run::run;
pub use stream_client::{can_send_from, usual_source};
pub use tls::LoadTls;

/// What is to be sent.
#[derive(Clone, Debug)]
pub struct LoadPlan {
    /// Address and port that all requests go to.
    pub address: SocketAddr,
    /// How clients speak TLS; `None`: they speak in plain text.
    pub tls: Option<LoadTls>,
    /// What each client sends.
    pub work: RequestSpec,
    /// How many requests are sent in all.
    pub shots: u64,
    /// How many at the same time.
    pub concurrency: u32,
    /// How many a second by all clients; `None`: as fast as answers come.
    pub per_second: Option<u32>,
    /// How long one may take from its connection to the end of its answer.
    pub timeout: Duration,
    /// The clients: how many, with which addresses and cookies.
    pub clients: LoadClients,
}

/// What is sent: an HTTP request, a connection or a datagram.
#[derive(Clone, Debug)]
pub enum RequestSpec {
    /// A request on a connection that is kept.
    Http {
        /// The path; begins with a slash and holds no spaces.
        path: String,
        /// The host that is asked for, without its port; without it, the name of TLS, or the address.
        host: Option<String>,
        /// A field that each request carries; its value is this text and the request's number.
        mark: Option<(&'static str, String)>,
    },
    /// A connection. Without anything to say the client ends its side at once, and an end is an answer.
    Tcp {
        /// What the client says.
        say: Vec<u8>,
    },
    /// A datagram from a port of its own.
    Udp {
        /// What the client says.
        say: Vec<u8>,
        /// Whether an answer is waited for.
        is_answered: bool,
    },
}

/// Who sends it. They take turns.
#[derive(Clone, Debug)]
pub struct LoadClients {
    /// How many there are; at least as many as send at the same time.
    pub count: u32,
    /// Their addresses, in turn; where there are none, the system chooses.
    pub addresses: Vec<IpAddr>,
    /// Whether each keeps the cookies that it is given (HTTP).
    pub keep_cookies: bool,
    /// How many of 100 requests come from a client that begins anew, without connection and cookies (HTTP).
    pub new_percent: u8,
}

impl LoadClients {
    /// Whether the request of a number is one of a client that begins anew: they are spread evenly, and the first is never one.
    fn is_new(&self, number: u64) -> bool {
        let until = |number: u64| number * u64::from(self.new_percent) / 100;
        number > 0 && until(number) != until(number - 1)
    }
}

/// What a client saw.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ClientOutcome {
    /// A whole answer with this status.
    Answer(u16),
    /// All that was to come, of a protocol without statuses.
    Done,
    /// No connection, or no whole answer.
    Broken,
    /// No answer came within the time for it.
    Late,
}

/// A request that has ended, with its outcome and its times.
#[derive(Clone, Debug)]
pub struct RequestRecord {
    /// Its number, from 0.
    pub number: u64,
    /// The client's number, from 0.
    pub client: u32,
    /// Where it came from, as far as it came.
    pub from: Option<SocketAddr>,
    /// It was the first on its connection.
    pub is_first: bool,
    /// Its client began anew with it.
    pub is_new: bool,
    /// The names of the cookies that it carried, in order (HTTP).
    pub cookies: Arc<[String]>,
    /// When it was sent, since the start of the run.
    pub sent: Duration,
    /// How long it took.
    pub took: Duration,
    /// What came of it.
    pub seen: ClientOutcome,
}
