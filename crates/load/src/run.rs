//! Sending: so many clients, so many at the same time, each shot's outcome kept.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use tokio::task::JoinSet;
use tokio::time::{Instant, sleep_until, timeout};

use crate::http::HttpClient;
use crate::stream_client::StreamClient;
use crate::{ClientOutcome, LoadPlan, RequestRecord, RequestSpec};

/// Sends everything; `each` is called with every outcome as it ends. Must run on a Tokio runtime.
pub async fn run(
    plan: LoadPlan,
    each: impl Fn(&RequestRecord) + Send + Sync + 'static,
) -> Vec<RequestRecord> {
    let (plan, each) = (Arc::new(plan), Arc::new(each));
    let next = Arc::new(AtomicU64::new(0));
    let start = Instant::now();
    let at_once = plan.concurrency.max(1);
    let mut hands = JoinSet::new();
    for hand in 0..at_once {
        let (plan, each, next) = (Arc::clone(&plan), Arc::clone(&each), Arc::clone(&next));
        hands.spawn(async move {
            let mine = (hand..plan.clients.count.max(at_once)).step_by(at_once as usize);
            let mut clients: Vec<LoadClient> = mine.map(|number| LoadClient::new(&plan, number)).collect();
            let mut shots = Vec::new();
            let mut turn = 0;
            loop {
                let number = next.fetch_add(1, Ordering::Relaxed);
                if number >= plan.shots {
                    return shots;
                }
                if let Some(per_second) = plan.per_second {
                    sleep_until(
                        start + Duration::from_secs(1).mul_f64(number as f64 / f64::from(per_second)),
                    )
                    .await;
                }
                let is_new = plan.clients.is_new(number);
                if is_new {
                    clients[turn].begin_anew();
                }
                let shot = clients[turn].send(plan.timeout, number, start).await;
                let shot = RequestRecord { is_new, ..shot };
                turn = (turn + 1) % clients.len();
                each(&shot);
                shots.push(shot);
            }
        });
    }
    let mut shots: Vec<RequestRecord> = hands.join_all().await.into_iter().flatten().collect();
    shots.sort_by_key(|shot| shot.number);
    shots
}

/// One client and what it does again and again.
struct LoadClient {
    number: u32,
    does: ClientTask,
}

enum ClientTask {
    Ask { browser: HttpClient, path: String, mark: Option<(&'static str, String)> },
    Connect { caller: StreamClient, say: Vec<u8> },
    Send { caller: StreamClient, say: Vec<u8>, is_answered: bool },
}

impl LoadClient {
    fn new(plan: &LoadPlan, number: u32) -> Self {
        let addresses = &plan.clients.addresses;
        let source = (!addresses.is_empty()).then(|| addresses[number as usize % addresses.len()]);
        let caller = StreamClient { to: plan.address, source, tls: plan.tls.clone(), from: None };
        let does = match plan.work.clone() {
            RequestSpec::Http { path, host, mark } => {
                let browser =
                    HttpClient::new(plan.address, source, plan.tls.clone(), plan.clients.keep_cookies)
                        .asking_for(host);
                ClientTask::Ask { browser, path, mark }
            }
            RequestSpec::Tcp { say } => ClientTask::Connect { caller, say },
            RequestSpec::Udp { say, is_answered } => ClientTask::Send { caller, say, is_answered },
        };
        Self { number, does }
    }

    /// Becomes another client; those of TCP and UDP are in any case.
    fn begin_anew(&mut self) {
        if let ClientTask::Ask { browser, .. } = &mut self.does {
            browser.begin_anew();
        }
    }

    async fn send(&mut self, limit: Duration, number: u64, start: Instant) -> RequestRecord {
        let sent = Instant::now();
        let (seen, from, is_first) = match &mut self.does {
            ClientTask::Ask { browser, path, mark } => {
                let mark = mark.as_ref().map(|(name, text)| (*name, format!("{text}{number}")));
                let seen = timeout(limit, browser.ask(path, mark)).await;
                if seen.is_err() {
                    browser.hang_up();
                }
                (seen.unwrap_or(ClientOutcome::Late), None, browser.is_first)
            }
            ClientTask::Connect { caller, say } => {
                let seen = timeout(limit, caller.connection(say)).await;
                (
                    seen.map_or(ClientOutcome::Late, |seen| seen.unwrap_or(ClientOutcome::Broken)),
                    caller.from,
                    true,
                )
            }
            ClientTask::Send { caller, say, is_answered } => {
                let seen = timeout(limit, caller.datagram(say, *is_answered)).await;
                (
                    seen.map_or(ClientOutcome::Late, |seen| seen.unwrap_or(ClientOutcome::Broken)),
                    caller.from,
                    true,
                )
            }
        };
        let cookies = match &self.does {
            ClientTask::Ask { browser, .. } => browser.carried(),
            ClientTask::Connect { .. } | ClientTask::Send { .. } => Arc::default(),
        };
        RequestRecord {
            number,
            client: self.number,
            from,
            is_first,
            is_new: false,
            cookies,
            sent: sent - start,
            took: sent.elapsed(),
            seen,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::net::{IpAddr, SocketAddr};
    use std::sync::Mutex;

    use rstest::rstest;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::{TcpListener, UdpSocket};

    use super::*;
    use crate::LoadClients;

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

    fn plan(address: SocketAddr, shots: u64) -> LoadPlan {
        LoadPlan {
            tls: None,
            address,
            work: RequestSpec::Http {
                path: "/".to_owned(),
                host: None,
                mark: Some(("merismos-mark", "9-".to_owned())),
            },
            shots,
            concurrency: 4,
            per_second: None,
            timeout: Duration::from_secs(10),
            clients: LoadClients { count: 1, addresses: Vec::new(), keep_cookies: false, new_percent: 0 },
        }
    }

    #[tokio::test]
    async fn every_request_is_sent_once_and_its_outcome_kept() {
        let address = server(b"HTTP/1.1 204 No Content\r\n\r\n").await;
        let ended = Arc::new(AtomicU64::new(0));
        let counter = Arc::clone(&ended);
        let shots = run(plan(address, 50), move |_| {
            counter.fetch_add(1, Ordering::Relaxed);
        })
        .await;
        assert!(shots.iter().map(|shot| shot.number).eq(0..50));
        assert!(shots.iter().all(|shot| shot.seen == ClientOutcome::Answer(204)));
        assert_eq!(ended.load(Ordering::Relaxed), 50);
    }

    #[tokio::test]
    async fn broken_and_late_answers_are_told_apart() {
        let broken = run(plan(server(b"").await, 8), |_| {}).await;
        assert!(broken.iter().all(|shot| shot.seen == ClientOutcome::Broken), "{broken:?}");
        let half = server(b"HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\nhalf").await;
        let late = run(LoadPlan { timeout: Duration::from_millis(100), ..plan(half, 4) }, |_| {}).await;
        assert!(late.iter().all(|shot| shot.seen == ClientOutcome::Late), "{late:?}");
    }

    #[tokio::test]
    async fn a_rate_is_not_exceeded() {
        let address = server(b"HTTP/1.1 204 No Content\r\n\r\n").await;
        let shots = run(LoadPlan { per_second: Some(100), ..plan(address, 20) }, |_| {}).await;
        assert!(shots[19].sent >= Duration::from_millis(190));
    }

    /// A server that answers each request with its cookies and sets another one, and what it saw of its clients.
    async fn counting() -> (SocketAddr, Arc<Mutex<Vec<(SocketAddr, String)>>>) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let seen = Arc::new(Mutex::new(Vec::new()));
        let noted = Arc::clone(&seen);
        tokio::spawn(async move {
            while let Ok((mut stream, from)) = listener.accept().await {
                let noted = Arc::clone(&noted);
                tokio::spawn(async move {
                    let mut request = [0; 4096];
                    while let Ok(count @ 1..) = stream.read(&mut request).await {
                        let text = String::from_utf8_lossy(&request[..count]).into_owned();
                        let cookie = text.lines().find_map(|line| line.strip_prefix("cookie: "));
                        noted.lock().unwrap().push((from, cookie.unwrap_or_default().to_owned()));
                        let sets = "Set-Cookie: berth=7; Path=/\r\nSet-Cookie: gone=1; Max-Age=0\r\n";
                        let answer = format!("HTTP/1.1 204 No Content\r\n{sets}\r\n");
                        stream.write_all(answer.as_bytes()).await.unwrap();
                    }
                });
            }
        });
        (address, seen)
    }

    #[tokio::test]
    async fn clients_have_their_own_addresses_connections_and_cookies() {
        let (address, seen) = counting().await;
        let addresses = ["127.0.9.1", "127.0.9.2"].map(|address| address.parse().unwrap()).to_vec();
        let clients = LoadClients { count: 6, addresses, keep_cookies: true, new_percent: 0 };
        let shots = run(LoadPlan { clients, concurrency: 2, ..plan(address, 24) }, |_| {}).await;
        assert!(shots.iter().all(|shot| shot.seen == ClientOutcome::Answer(204)), "{shots:?}");
        assert_eq!(shots.iter().filter(|shot| shot.is_first).count(), 6, "each keeps its connection");
        assert!((0..6).all(|client| shots.iter().any(|shot| shot.client == client)));
        let seen = seen.lock().unwrap();
        let from =
            |last: u8| seen.iter().filter(|(from, _)| from.ip() == IpAddr::from([127, 0, 9, last])).count();
        assert_eq!((from(1) + from(2), from(1) > 0, from(2) > 0), (24, true, true));
        assert_eq!(seen.iter().filter(|(_, cookie)| cookie == "berth=7").count(), 18, "{seen:?}");
        assert_eq!(
            seen.iter().filter(|(_, cookie)| cookie.is_empty()).count(),
            6,
            "strangers at first: {seen:?}"
        );
    }

    #[tokio::test]
    async fn new_clients_are_spread_evenly_and_bring_nothing_along() {
        let (address, seen) = counting().await;
        let clients = LoadClients { count: 2, addresses: Vec::new(), keep_cookies: true, new_percent: 25 };
        let shots = run(LoadPlan { clients, concurrency: 2, ..plan(address, 40) }, |_| {}).await;
        let new: Vec<u64> = shots.iter().filter(|shot| shot.is_new).map(|shot| shot.number).collect();
        assert_eq!(new, (4..40).step_by(4).collect::<Vec<_>>());
        assert!(
            shots.iter().filter(|shot| shot.is_new).all(|shot| shot.is_first),
            "on connections of their own"
        );
        let strangers = seen.lock().unwrap().iter().filter(|(_, cookie)| cookie.is_empty()).count();
        assert_eq!(strangers, 2 + 9);
    }

    #[rstest]
    #[case::greets_first(b"".as_slice(), b"220 ready\r\n".as_slice(), ClientOutcome::Done)]
    #[case::ends(b"".as_slice(), b"".as_slice(), ClientOutcome::Done)]
    #[case::answers(b"PING\r\n".as_slice(), b"+PONG\r\n".as_slice(), ClientOutcome::Done)]
    #[case::ends_without_an_answer(b"PING\r\n".as_slice(), b"".as_slice(), ClientOutcome::Broken)]
    #[tokio::test]
    async fn connections(#[case] say: &[u8], #[case] answer: &'static [u8], #[case] wanted: ClientOutcome) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let heard = Arc::new(Mutex::new(Vec::new()));
        let notes = Arc::clone(&heard);
        tokio::spawn(async move {
            while let Ok((mut stream, from)) = listener.accept().await {
                let mut said = vec![0; 64];
                let count = stream.read(&mut said).await.unwrap();
                said.truncate(count);
                notes.lock().unwrap().push((from, said));
                let _ = stream.write_all(answer).await;
            }
        });
        let shots =
            run(LoadPlan { work: RequestSpec::Tcp { say: say.to_vec() }, ..plan(address, 8) }, |_| {}).await;
        assert!(shots.iter().all(|shot| shot.seen == wanted), "{shots:?}");
        let mut from: Vec<_> = shots.iter().filter_map(|shot| shot.from).collect();
        from.sort_unstable();
        let mut heard = heard.lock().unwrap().clone();
        heard.sort_unstable();
        assert!(heard.iter().map(|(from, _)| *from).eq(from), "each is known by where it came from");
        assert!(heard.iter().all(|(_, said)| said == say));
    }

    #[tokio::test]
    async fn nobody_listens() {
        let address = UdpSocket::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
        for work in [
            RequestSpec::Tcp { say: Vec::new() },
            RequestSpec::Udp { say: b"at 60.1 N".to_vec(), is_answered: true },
        ] {
            let shots = run(LoadPlan { work, ..plan(address, 4) }, |_| {}).await;
            assert!(shots.iter().all(|shot| shot.seen == ClientOutcome::Broken), "{shots:?}");
        }
    }

    #[rstest]
    #[case::answered(true, true, ClientOutcome::Done)]
    #[case::lost(false, true, ClientOutcome::Late)]
    #[case::one_way(false, false, ClientOutcome::Done)]
    #[tokio::test]
    async fn datagrams(#[case] answers: bool, #[case] is_answered: bool, #[case] wanted: ClientOutcome) {
        let server = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let address = server.local_addr().unwrap();
        tokio::spawn(async move {
            let mut said = [0; 64];
            while let Ok((count, from)) = server.recv_from(&mut said).await {
                if answers {
                    server.send_to(&said[..count], from).await.unwrap();
                }
            }
        });
        let work = RequestSpec::Udp { say: b"at 60.1 N".to_vec(), is_answered };
        let limit = if answers { Duration::from_secs(10) } else { Duration::from_millis(100) };
        let shots = run(LoadPlan { work, timeout: limit, ..plan(address, 4) }, |_| {}).await;
        assert!(shots.iter().all(|shot| shot.seen == wanted), "{shots:?}");
        let ports: std::collections::BTreeSet<_> = shots.iter().filter_map(|shot| shot.from).collect();
        assert_eq!(ports.len(), 4, "each comes from a port of its own");
    }
}
