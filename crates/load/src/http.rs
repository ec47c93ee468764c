//! HTTP/1.1 clients in a closed loop: each connection sends its next request when the last one was answered.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bytes::Bytes;
use http_body_util::{BodyExt, Empty};
use hyper::Request;
use hyper::client::conn::http1::SendRequest;
use hyper::header::{HOST, HeaderName, HeaderValue, USER_AGENT};
use hyper_util::rt::TokioIo;
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep_until, timeout};

/// What is to be sent.
#[derive(Clone, Debug)]
pub struct Plan {
    /// Where to.
    pub address: SocketAddr,
    /// The path; begins with a slash and holds no spaces.
    pub path: String,
    /// How many requests.
    pub requests: u64,
    /// How many connections at the same time.
    pub concurrency: u32,
    /// Requests a second over all connections; `None`: as fast as answers come.
    pub per_second: Option<u32>,
    /// How long one request may take from its connection to the end of its answer.
    pub timeout: Duration,
    /// A field that each request carries; its value is this text and the request's number.
    pub mark: Option<(&'static str, String)>,
}

/// What a client saw of one request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Seen {
    /// A whole answer with this status.
    Answer(u16),
    /// No connection, or no whole answer.
    Broken,
    /// Nothing in time.
    Late,
}

/// One request.
#[derive(Clone, Copy, Debug)]
pub struct Shot {
    /// Its number, from 0.
    pub number: u64,
    /// When it was sent, since the start of the run.
    pub sent: Duration,
    /// How long it took.
    pub took: Duration,
    /// What came of it.
    pub seen: Seen,
}

/// Sends everything; `each` is told every request as it ends. Must run on a Tokio runtime.
pub async fn run(plan: Plan, each: impl Fn(&Shot) + Send + Sync + 'static) -> Vec<Shot> {
    let (plan, each) = (Arc::new(plan), Arc::new(each));
    let next = Arc::new(AtomicU64::new(0));
    let start = Instant::now();
    let mut clients = JoinSet::new();
    for _ in 0..plan.concurrency.max(1) {
        let (plan, each, next) = (Arc::clone(&plan), Arc::clone(&each), Arc::clone(&next));
        clients.spawn(async move {
            let mut client = Client { plan: &plan, connection: None };
            let mut shots = Vec::new();
            loop {
                let number = next.fetch_add(1, Ordering::Relaxed);
                if number >= plan.requests {
                    return shots;
                }
                if let Some(per_second) = plan.per_second {
                    sleep_until(
                        start + Duration::from_secs(1).mul_f64(number as f64 / f64::from(per_second)),
                    )
                    .await;
                }
                let sent = Instant::now();
                let asked = timeout(plan.timeout, client.ask(number)).await;
                let seen = asked.unwrap_or(Seen::Late);
                if seen == Seen::Late {
                    client.connection = None;
                }
                let shot = Shot { number, sent: sent - start, took: sent.elapsed(), seen };
                each(&shot);
                shots.push(shot);
            }
        });
    }
    let mut shots: Vec<Shot> = clients.join_all().await.into_iter().flatten().collect();
    shots.sort_by_key(|shot| shot.number);
    shots
}

struct Client<'p> {
    plan: &'p Plan,
    connection: Option<Connection>,
}

struct Connection {
    sender: SendRequest<Empty<Bytes>>,
    driver: tokio::task::JoinHandle<()>,
}

impl Drop for Connection {
    fn drop(&mut self) {
        self.driver.abort();
    }
}

impl Client<'_> {
    async fn ask(&mut self, number: u64) -> Seen {
        match self.try_ask(number).await {
            Ok(status) => Seen::Answer(status),
            Err(_) => {
                self.connection = None;
                Seen::Broken
            }
        }
    }

    async fn try_ask(&mut self, number: u64) -> Result<u16, Box<dyn std::error::Error + Send + Sync>> {
        let ready = self.connection.as_ref().is_some_and(|connection| connection.sender.is_ready());
        if !ready {
            self.connection = None;
        }
        let connection = match &mut self.connection {
            Some(connection) => connection,
            None => self.connection.insert(connect(self.plan.address).await?),
        };
        let mut request = Request::get(&self.plan.path)
            .header(HOST, self.plan.address.to_string())
            .header(USER_AGENT, "merismos-trial")
            .body(Empty::<Bytes>::new())?;
        if let Some((name, value)) = &self.plan.mark {
            let value = HeaderValue::from_str(&format!("{value}{number}"))?;
            request.headers_mut().insert(HeaderName::from_static(name), value);
        }
        let answer = connection.sender.send_request(request).await?;
        let status = answer.status().as_u16();
        let mut body = answer.into_body();
        while let Some(frame) = body.frame().await {
            frame?;
        }
        // Wait until the connection can carry another request, or is known to be at its end.
        let _ = connection.sender.ready().await;
        Ok(status)
    }
}

async fn connect(address: SocketAddr) -> Result<Connection, Box<dyn std::error::Error + Send + Sync>> {
    let stream = TcpStream::connect(address).await?;
    stream.set_nodelay(true)?;
    let (sender, driver) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
    let driver = tokio::spawn(async move {
        // How a connection ends is told by the request that it carried.
        let _ = driver.await;
    });
    Ok(Connection { sender, driver })
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::TcpListener;

    use super::*;

    async fn server(answer: &'static [u8]) -> SocketAddr {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                tokio::spawn(async move {
                    let mut request = [0; 4096];
                    while matches!(stream.read(&mut request).await, Ok(1..)) {
                        if stream.write_all(answer).await.is_err() || answer.is_empty() {
                            return;
                        }
                    }
                });
            }
        });
        address
    }

    fn plan(address: SocketAddr, requests: u64) -> Plan {
        Plan {
            address,
            path: "/".to_owned(),
            requests,
            concurrency: 4,
            per_second: None,
            timeout: Duration::from_secs(10),
            mark: Some(("merismos-mark", "9-".to_owned())),
        }
    }

    #[tokio::test]
    async fn every_request_is_sent_once_and_its_outcome_kept() {
        let address = server(b"HTTP/1.1 204 No Content\r\n\r\n").await;
        let told = Arc::new(AtomicU64::new(0));
        let counter = Arc::clone(&told);
        let shots = run(plan(address, 50), move |_| {
            counter.fetch_add(1, Ordering::Relaxed);
        })
        .await;
        assert!(shots.iter().map(|shot| shot.number).eq(0..50));
        assert!(shots.iter().all(|shot| shot.seen == Seen::Answer(204)));
        assert_eq!(told.load(Ordering::Relaxed), 50);
    }

    #[tokio::test]
    async fn broken_and_late_answers_are_told_apart() {
        let broken = run(plan(server(b"").await, 8), |_| {}).await;
        assert!(broken.iter().all(|shot| shot.seen == Seen::Broken), "{broken:?}");
        let half = server(b"HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\nhalf").await;
        let late = run(Plan { timeout: Duration::from_millis(100), ..plan(half, 4) }, |_| {}).await;
        assert!(late.iter().all(|shot| shot.seen == Seen::Late), "{late:?}");
    }

    #[tokio::test]
    async fn a_rate_is_not_exceeded() {
        let address = server(b"HTTP/1.1 204 No Content\r\n\r\n").await;
        let shots = run(Plan { per_second: Some(100), ..plan(address, 20) }, |_| {}).await;
        assert!(shots[19].sent >= Duration::from_millis(190));
    }
}
