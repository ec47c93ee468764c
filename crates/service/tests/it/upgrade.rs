//! Upgrades: a new process takes over, and clients notice nothing.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::os::unix::net::UnixStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::thread::JoinHandle;
use std::time::Duration;

use merismos_api::DutyRequest;
use merismos_core::duty::Duty;
use merismos_lab::stand_in::{Fault, StandIn};

use merismos_lab::free::free_address;

use crate::harness::{PATIENCE, Service, until};

/// How many new connections are made while services take over from each other.
const CONNECTIONS: u64 = 20_000;

/// Clients of a frontend, until they are told to end.
struct Clients {
    end: Arc<AtomicBool>,
    served: Arc<AtomicU64>,
    running: Vec<JoinHandle<Vec<String>>>,
}

impl Clients {
    fn new() -> Self {
        Self { end: Arc::default(), served: Arc::default(), running: Vec::new() }
    }

    /// Adds one that does something again and again; what fails is noted.
    fn add(&mut self, mut work: impl FnMut() -> Result<(), String> + Send + 'static) {
        let (end, served) = (Arc::clone(&self.end), Arc::clone(&self.served));
        self.running.push(std::thread::spawn(move || {
            let mut failures = Vec::new();
            while !end.load(SeqCst) {
                match work() {
                    Ok(()) => drop(served.fetch_add(1, SeqCst)),
                    Err(failure) => failures.push(failure),
                }
            }
            failures
        }));
    }

    fn served(&self) -> u64 {
        self.served.load(SeqCst)
    }

    /// Ends them; gives what failed.
    fn end(self) -> Vec<String> {
        self.end.store(true, SeqCst);
        self.running.into_iter().flat_map(|client| client.join().unwrap()).collect()
    }
}

fn connect(address: SocketAddr) -> Result<TcpStream, String> {
    let stream = TcpStream::connect(address).map_err(|error| format!("connecting: {error}"))?;
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    Ok(stream)
}

/// A request on a connection of its own.
fn one_request(address: SocketAddr) -> Result<(), String> {
    let mut stream = connect(address)?;
    let ask = stream.write_all(b"GET / HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n");
    ask.map_err(|error| format!("asking: {error}"))?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer).map_err(|error| format!("reading: {error}"))?;
    if answer.starts_with("HTTP/1.1 200") { Ok(()) } else { Err(format!("answered {answer:?}")) }
}

/// A client that keeps its connection until it is told that it ends.
fn kept_connection(address: SocketAddr) -> impl FnMut() -> Result<(), String> {
    let mut kept: Option<BufReader<TcpStream>> = None;
    move || {
        let mut stream = match kept.take() {
            Some(stream) => stream,
            None => BufReader::new(connect(address)?),
        };
        let ask = stream.get_mut().write_all(b"GET / HTTP/1.1\r\nHost: a\r\n\r\n");
        ask.map_err(|error| format!("asking on a kept connection: {error}"))?;
        let (mut length, mut closes) = (0, false);
        loop {
            let mut line = String::new();
            let read = stream.read_line(&mut line).map_err(|error| format!("reading: {error}"))?;
            if read == 0 {
                return Err("a kept connection ended without an answer".to_owned());
            }
            let line = line.trim().to_ascii_lowercase();
            if let Some(value) = line.strip_prefix("content-length: ") {
                length = value.parse().unwrap();
            }
            closes |= line == "connection: close";
            if line.is_empty() {
                break;
            }
        }
        let mut body = vec![0; length];
        stream.read_exact(&mut body).map_err(|error| format!("reading: {error}"))?;
        // A moment of rest: that is when a connection is closed that nobody needs.
        std::thread::sleep(Duration::from_millis(3));
        if !closes {
            kept = Some(stream);
        }
        Ok(())
    }
}

/// How many requests servers took since the totals begin.
async fn counted(service: &Service) -> u64 {
    let status = service.status().await;
    status.pools[0].servers.iter().map(|server| server.totals.taken).sum()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn under_load_nobody_is_refused_or_cut_off_and_counts_go_on() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let frontend = service.frontend;
    let mut clients = Clients::new();
    for _ in 0..3 {
        clients.add(move || one_request(frontend));
    }
    for _ in 0..2 {
        clients.add(kept_connection(frontend));
    }
    let mut old = Vec::new();
    for upgrade in 1..=3_u64 {
        until("it serves", async || clients.served() >= CONNECTIONS * upgrade / 4).await;
        old.push(service.upgrade().await);
    }
    until("all are served", async || clients.served() >= CONNECTIONS).await;
    let served = clients.served();
    let failures = clients.end();
    assert!(
        failures.is_empty(),
        "{} of {served} failed, such as {:?}",
        failures.len(),
        &failures[..failures.len().min(5)]
    );
    for old in old {
        until("the old one has ended", async || old.has_ended()).await;
    }
    let status = service.status().await;
    // Its workers' counts may be a report behind for a moment.
    until("every request is counted once", async || counted(&service).await >= served).await;
    let counted = counted(&service).await;
    assert!(counted <= served + 5, "{counted} counted, {served} served");
    assert_eq!(status.revision.number, 1);
    assert!(status.pools[0].servers.iter().all(|server| server.health.watched_until.is_none()), "no gap");
    let events = service.client().events(200).await.unwrap().events;
    assert!(events.iter().any(|event| event.message.contains("took over from merismosd")), "{events:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn work_at_the_old_process_is_seen_finished_and_cut_from_the_new_one() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let lines = ["auk", "razorbill", "puffin"]
        .map(|name| StandIn::for_lines(name, ([127, 0, 0, 1], 0).into()).unwrap());
    let tcp = free_address();
    let mut document = service.document();
    document += &format!(
        "\n[frontends.lines]\nprotocol = \"tcp\"\nlisten = \"{tcp}\"\npool = \"lines\"\n\n[checks.open]\nkind = \"tcp\"\ninterval = \"500ms\"\ntimeout = \"200ms\"\n\n[pools.lines]\ncheck = \"open\"\n"
    );
    for server in &lines {
        document += &format!("[pools.lines.servers.{}]\naddress = \"{}\"\n", server.name, server.address);
    }
    service.apply(&document).await.unwrap();
    let mut talk: Vec<_> = (0..3).map(|_| BufReader::new(connect(tcp).unwrap())).collect();
    let say = |stream: &mut BufReader<TcpStream>| {
        stream.get_mut().write_all(b"hello\n")?;
        let mut line = String::new();
        stream.read_line(&mut line).map(|_| line)
    };
    let at: Vec<String> = talk.iter_mut().map(|stream| say(stream).unwrap()).collect();
    let old = service.upgrade().await;
    let connections = async |name: &str| {
        let status = service.status().await;
        let mut servers = status.pools.into_iter().flat_map(|pool| pool.servers);
        let server = servers.find(|server| server.server == format!("lines/{name}")).unwrap();
        server.in_flight
    };
    // They are open at the old process, and the new one counts them.
    assert_eq!((connections("auk").await, connections("razorbill").await), (1, 1));
    assert_eq!(say(&mut talk[0]).unwrap(), at[0], "they go on");
    until("the status tells of it", async || {
        let troubles = service.status().await.troubles;
        troubles
            .iter()
            .any(|trouble| trouble.contains("finishes 3 connections of clients; it ends after 59 min"))
    })
    .await;
    let drains = DutyRequest::new(Duty::Draining, "a test");
    service.client().duty(&"lines/razorbill".parse().unwrap(), &drains).await.unwrap();
    let drain = &service.client().drains().await.unwrap().servers[0];
    assert!(!drain.draining.safe, "not while the old process has work there: {drain:?}");
    // What is withdrawn is cut there too.
    let withdrawn = DutyRequest::new(Duty::Withdrawn, "a test");
    service.client().duty(&"lines/auk".parse().unwrap(), &withdrawn).await.unwrap();
    until("it is cut off", async || connections("auk").await == 0).await;
    let of = |name: &str| at.iter().position(|at| at.contains(name)).expect("one at each server");
    let cut = say(&mut talk[of("auk")]);
    assert!(cut.as_ref().map_or(true, String::is_empty), "{cut:?}");
    let kept = say(&mut talk[of("razorbill")]).unwrap();
    assert!(kept.contains("razorbill"), "{kept}");
    drop(talk);
    until("the drain is done", async || service.client().drains().await.unwrap().servers[0].draining.safe)
        .await;
    until("the old one has ended", async || old.has_ended()).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_successor_that_does_not_get_so_far_changes_nothing() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let folder = service.folder.path().join("state");
    let changes = async |service: &Service| {
        let order = DutyRequest::new(Duty::InService, "a test");
        service.client().duty(&"quay/gull".parse().unwrap(), &order).await.is_ok()
    };
    // One that takes everything and ends.
    let mut stream = UnixStream::connect(folder.join("upgrade")).unwrap();
    let version = "{\"take\":{\"protocol\":1,\"version\":\"9.9.9\",\"process\":1}}\n";
    stream.write_all(version.as_bytes()).unwrap();
    let mut gives = String::new();
    BufReader::new(&stream).read_line(&mut gives).unwrap();
    assert!(gives.starts_with("{\"gives\":"), "{gives}");
    assert!(!changes(&service).await, "nothing is changed while it hands over");
    assert_eq!(service.get().await.unwrap().0, 200);
    drop(stream);
    until("it goes on", async || changes(&service).await).await;
    // One of a later release, and one that says nonsense.
    for (says, answer) in
        [("{\"take\":{\"protocol\":2,\"version\":\"\",\"process\":1}}\n", "{\"refuses\":"), ("hello\n", "")]
    {
        let mut stream = UnixStream::connect(folder.join("upgrade")).unwrap();
        stream.write_all(says.as_bytes()).unwrap();
        let mut answered = String::new();
        BufReader::new(&stream).read_line(&mut answered).unwrap();
        assert!(answered.starts_with(answer), "{answered}");
    }
    // A real one that can't start.
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let failed = service.run_once(&["upgrade", "--api-listen", &taken.local_addr().unwrap().to_string()]);
    let says = String::from_utf8(failed.stderr).unwrap();
    assert!(!failed.status.success() && says.contains("the API can't listen on"), "{says}");
    until("it goes on", async || changes(&service).await).await;
    assert_eq!(service.get().await.unwrap().0, 200);
    let events = service.client().events(200).await.unwrap().events;
    let failures =
        events.iter().filter(|event| event.message.starts_with("an upgrade came to nothing")).count();
    assert_eq!(failures, 4, "{events:?}");
    // A change made after it survives a restart: the state file is written again.
    service
        .client()
        .duty(&"quay/gull".parse().unwrap(), &DutyRequest::new(Duty::Withdrawn, "a test"))
        .await
        .unwrap();
    service.crash_and_restart().await;
    assert_eq!(service.server("gull").await.duty.unwrap().duty, Duty::Withdrawn);
    // Where none runs there is nothing to take over.
    service.signal("-TERM");
    assert!(service.ended().await.success());
    let alone = service.run_once(&["upgrade"]);
    let says = String::from_utf8(alone.stderr).unwrap();
    assert!(!alone.status.success() && says.contains("no merismosd can be reached"), "{says}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn slow_work_is_finished_and_pins_go_along() {
    let mut service = Service::with(&["gull", "tern", "auk"]).await;
    let keys = "[pools.quay]\npersistence = \"header:X-Account\"\n";
    service.apply(&service.document().replace("[pools.quay]", keys)).await.unwrap();
    let home = async |service: &Service, account: u32| {
        let client = crate::harness::http_client();
        let request = client.get(format!("http://{}/", service.frontend)).header("x-account", account);
        request.send().await.unwrap().text().await.unwrap()
    };
    let mut homes = Vec::new();
    for account in 0..12 {
        homes.push(home(&service, account).await);
    }
    service.stand_ins[0].set(Fault::Slow { delay_ms: 1_500 }).await;
    let frontend = service.frontend;
    let slow: Vec<_> = (0..3).map(|_| std::thread::spawn(move || one_request(frontend))).collect();
    until("one is in flight", async || service.server("gull").await.in_flight == 1).await;
    service.stand_ins[0].set(Fault::None).await;
    let old = service.upgrade().await;
    for request in slow {
        request.join().unwrap().expect("what was in flight is finished");
    }
    for (account, home_before) in homes.iter().enumerate() {
        assert_eq!(&home(&service, account as u32).await, home_before);
    }
    until("the old one has ended", async || old.has_ended()).await;
    assert!(service.folder.path().join("state/pins").read_dir().unwrap().count() <= 1);
}
