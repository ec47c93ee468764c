//! Real clients of servers that leave: curl, the clients of a key-value store and of a database, libraries for WebSockets and gRPC, a
//! datagram's flow.

use std::io::{BufRead, BufReader, Write};
use std::net::{SocketAddr, UdpSocket};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use merismos_api::{DutiesRequest, DutyRequest};
use merismos_core::duty::{CutWork, Duty};
use merismos_lab::free::free_address;
use merismos_lab::stand_in::StandIn;

use tokio::task::block_in_place;

use crate::browser::Browser;
use crate::harness::{Instance, PATIENCE, Service, until};
use crate::peers::{GRPC, WEBSOCKETS};

/// A program with which one can talk; ended with the test.
pub(crate) struct Talk {
    child: Child,
    lines: Receiver<String>,
}

impl Talk {
    pub(crate) fn start(program: &str, args: &[&str]) -> Self {
        let mut command = Command::new(program);
        command.args(args).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child =
            command.spawn().unwrap_or_else(|error| panic!("{program}: {error}; `make test` installs it"));
        let out = BufReader::new(child.stdout.take().unwrap());
        let (said, lines) = channel();
        std::thread::spawn(move || {
            for line in out.lines().map_while(Result::ok) {
                if said.send(line).is_err() {
                    return;
                }
            }
        });
        Self { child, lines }
    }

    /// The next line that it says.
    pub(crate) fn line(&mut self) -> String {
        block_in_place(|| self.lines.recv_timeout(PATIENCE)).expect("it says something")
    }

    pub(crate) fn say(&mut self, line: &str) {
        let stdin = self.child.stdin.as_mut().expect("it listens");
        writeln!(stdin, "{line}").unwrap();
        stdin.flush().unwrap();
    }

    /// Whether it has ended by itself.
    pub(crate) fn is_over(&mut self) -> bool {
        self.child.try_wait().unwrap().is_some()
    }

    /// Says that nothing more comes, and waits for its end; whether it ended well.
    pub(crate) fn end(mut self) -> bool {
        drop(self.child.stdin.take());
        let began = std::time::Instant::now();
        block_in_place(|| {
            loop {
                if let Some(status) = self.child.try_wait().unwrap() {
                    return status.success();
                }
                assert!(began.elapsed() < PATIENCE, "it ends");
                std::thread::sleep(Duration::from_millis(10));
            }
        })
    }
}

impl Drop for Talk {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Two stores with their frontend and pool, the first of them first.
struct Stores {
    frontend: SocketAddr,
    addresses: [SocketAddr; 2],
    _running: [Talk; 2],
}

impl Stores {
    async fn start() -> Self {
        let addresses = [free_address(), free_address()];
        let running = addresses.map(|address| {
            let port = address.port().to_string();
            Talk::start(
                "redis-server",
                &["--port", &port, "--bind", "127.0.0.1", "--save", "", "--appendonly", "no"],
            )
        });
        for address in addresses {
            until("the store listens", async || std::net::TcpStream::connect(address).is_ok()).await;
        }
        Self { frontend: free_address(), addresses, _running: running }
    }

    fn document(&self) -> String {
        let [one, two] = self.addresses;
        format!(
            "[checks.open]\nkind = \"tcp\"\ninterval = \"500ms\"\ntimeout = \"200ms\"\n[pools.stores]\ncheck = \"open\"\n\
             algorithm = \"in-order\"\n[pools.stores.servers.one]\naddress = \"{one}\"\n[pools.stores.servers.two]\n\
             address = \"{two}\"\n[frontends.stores]\nprotocol = \"tcp\"\nlisten = \"{}\"\npool = \"stores\"\n",
            self.frontend
        )
    }

    /// A session of the store's own client.
    fn session(&self) -> Talk {
        // Otherwise what it says waits until there is more of it.
        Talk::start("stdbuf", &["-oL", "redis-cli", "-p", &self.frontend.port().to_string()])
    }
}

fn in_order(service: &Service, more: &str) -> String {
    let keys = "[pools.quay]\nalgorithm = \"in-order\"\npersistence = \"cookie\"";
    format!("{}\n{more}", service.document().replace("[pools.quay]", keys))
}

/// Drains servers in one order, and waits until each can be worked on.
async fn drain(service: &Service, servers: &[&str], within: &str) -> CutWork {
    let order = DutyRequest {
        within: Some(within.parse().unwrap()),
        ..DutyRequest::new(Duty::Draining, "new disks")
    };
    let servers = servers.iter().map(|server| (*server).to_owned()).collect();
    let order = DutiesRequest { servers, host: None, label: None, order };
    service.client().duties(&order, None).await.unwrap();
    let mut cut = CutWork::default();
    until("they can be worked on", async || {
        let drains = service.client().drains().await.unwrap().servers;
        cut = drains.iter().fold(CutWork::default(), |all, drain| CutWork {
            requests: all.requests + drain.draining.cut.requests,
            connections: all.connections + drain.draining.cut.connections,
            tunnels: all.tunnels + drain.draining.cut.tunnels,
        });
        drains.iter().all(|drain| drain.draining.safe)
    })
    .await;
    cut
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn with_time_enough_no_client_of_any_kind_fails() {
    let service = Service::with(&["gull", "tern"]).await;
    let stores = Stores::start().await;
    let stations =
        ["auk", "skua"].map(|name| StandIn::for_datagrams(name, ([127, 0, 0, 1], 0).into()).unwrap());
    let buoys = free_address();
    let mut more = stores.document();
    more += &format!(
        "[checks.where]\nkind = \"udp\"\nsend = \"where\"\nexpect = \"where\"\ninterval = \"500ms\"\ntimeout = \"200ms\"\n\
         [pools.buoys]\ncheck = \"where\"\nalgorithm = \"in-order\"\n[frontends.buoys]\nprotocol = \"udp\"\nlisten = \"{buoys}\"\n\
         pool = \"buoys\"\nidle_timeout = \"3s\"\n"
    );
    for station in &stations {
        more += &format!("[pools.buoys.servers.{}]\naddress = \"{}\"\n", station.name, station.address);
    }
    service.apply(&in_order(&service, &more)).await.unwrap();
    service.all_up().await;
    // A download that lasts, a client with a cookie, a session of the store, and a flow.
    let url = format!("http://{}/bytes/40000000", service.frontend);
    let mut download = Talk::start(
        "curl",
        &["-sS", "--limit-rate", "12M", "-o", "/dev/null", "-w", "%{http_code} %{size_download}\n", &url],
    );
    let jar = service.folder.path().join("jar");
    let jar = jar.to_str().unwrap();
    let page = format!("http://{}/", service.frontend);
    let visit = || {
        let mut curl = Command::new("curl");
        let asked = block_in_place(|| curl.args(["-sS", "-b", jar, "-c", jar, &page]).output()).unwrap();
        assert!(asked.status.success(), "{asked:?}");
        String::from_utf8(asked.stdout).unwrap()
    };
    let home = visit();
    let mut session = stores.session();
    session.say("SET ferry Thora");
    assert_eq!(session.line(), "OK");
    let flow = UdpSocket::bind("127.0.0.1:0").unwrap();
    flow.set_read_timeout(Some(PATIENCE)).unwrap();
    flow.connect(buoys).unwrap();
    let station = |flow: &UdpSocket| {
        let mut said = [0; 100];
        flow.send(b"where").unwrap();
        let count = block_in_place(|| flow.recv(&mut said)).unwrap();
        String::from_utf8_lossy(&said[..count]).into_owned()
    };
    let at = station(&flow);
    assert!(at.contains("auk"), "{at}");
    until("the download is at gull", async || service.server("gull").await.in_flight > 0).await;
    let draining = async { drain(&service, &["quay/gull", "stores/one", "buoys/auk"], "8s").await };
    let working = async {
        until("new clients go elsewhere", async || service.get().await.unwrap().1.contains("tern")).await;
        assert_eq!(visit(), home, "the cookie still ties its client");
        session.say("GET ferry");
        assert_eq!(session.line(), "Thora", "the session goes on");
        assert_eq!(station(&flow), at, "so does the flow");
        let mut later = stores.session();
        later.say("GET ferry");
        assert_eq!(later.line(), "", "a new session is with the other store");
        assert!(later.end());
        assert_eq!(download.line(), "200 40000000");
        assert!(download.end());
        assert!(session.end());
    };
    let (cut, ()) = tokio::join!(draining, working);
    assert_eq!(cut, CutWork::default(), "nothing was cut");
}

/// A client of a well-known library that tells how its connection ends.
const WEBSOCKET: &str = r#"
import asyncio, sys, websockets
async def talk():
    async with websockets.connect(f"ws://127.0.0.1:{sys.argv[1]}/talk") as socket:
        await socket.send("ahoy")
        print(await socket.recv(), flush=True)
        try:
            await socket.recv()
        except websockets.ConnectionClosed as end:
            print(end.code, flush=True)
asyncio.run(talk())
"#;
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_deadline_ends_each_kind_in_its_own_way_and_counts_it() {
    let service = Service::with(&["gull", "tern"]).await;
    let stores = Stores::start().await;
    let (talks, repeating) = (free_address(), [free_address(), free_address()]);
    let mut servers = repeating.map(|address| {
        Talk::start("/usr/bin/python3", &["-c", WEBSOCKETS, "serve", &address.port().to_string()])
    });
    assert!(servers.iter_mut().all(|server| server.line() == "ready"));
    let [one, two] = repeating;
    let mut more = stores.document();
    more += &format!(
        "[pools.talks]\ncheck = \"open\"\nalgorithm = \"in-order\"\n[pools.talks.servers.one]\naddress = \"{one}\"\n\
         [pools.talks.servers.two]\naddress = \"{two}\"\n[frontends.talks]\nprotocol = \"http\"\nlisten = \"{talks}\"\n\
         pool = \"talks\"\n"
    );
    service.apply(&in_order(&service, &more)).await.unwrap();
    service.all_up().await;
    let mut session = stores.session();
    session.say("SET ferry Thora");
    assert_eq!(session.line(), "OK");
    let mut socket = Talk::start("/usr/bin/python3", &["-c", WEBSOCKET, &talks.port().to_string()]);
    assert_eq!(socket.line(), "ahoy");
    let url = format!("http://{}/bytes/60000000", service.frontend);
    let download = Talk::start("curl", &["-sS", "--limit-rate", "1M", "-o", "/dev/null", &url]);
    until("the download is at gull", async || service.server("gull").await.in_flight > 0).await;
    let cut = drain(&service, &["quay/gull", "stores/one", "talks/one"], "1s").await;
    assert_eq!(cut, CutWork { requests: 1, connections: 1, tunnels: 1 });
    assert_eq!(socket.line(), "1001", "the server goes away (RFC 6455, 7.4.1)");
    assert!(socket.end());
    assert!(!download.end(), "curl tells that the download is not whole");
    // What the cut session had said is with the store that left; another session is with the other one.
    let mut later = stores.session();
    later.say("GET ferry");
    assert_eq!(later.line(), "");
    assert!(service.client().drains().await.unwrap().servers.iter().all(|drain| drain.draining.safe));
    tokio::time::timeout(Duration::from_secs(1), service.get()).await.unwrap().unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_browser_keeps_its_server_until_the_deadline_and_sees_no_error() {
    let service = Service::with(&["gull", "tern"]).await;
    service.apply(&in_order(&service, "")).await.unwrap();
    service.all_up().await;
    let browser = Browser::start().await;
    let page = format!("http://{}/", service.frontend);
    let home = async || {
        browser.goto(&page).await;
        browser.text("body").await
    };
    assert!(home().await.starts_with("gull"));
    let draining = async { drain(&service, &["quay/gull"], "8s").await };
    let browsing = async {
        until("new clients go elsewhere", async || service.get().await.unwrap().1.starts_with("tern")).await;
        assert!(home().await.starts_with("gull"), "its jar holds the cookie");
    };
    let (cut, ()) = tokio::join!(draining, browsing);
    assert_eq!(cut, CutWork::default(), "a connection at rest is no work that is cut");
    assert!(home().await.starts_with("tern"), "its next page is another server's");
    browser.end().await;
}

/// A session of a database's own client keeps what was set in it; a stream of gRPC stays open and tells of changes.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn sessions_of_a_database_and_streams_of_grpc_outlive_a_drain_and_end_at_a_deadline() {
    let service = Service::with(&["gull"]).await;
    let (books, calls, databases) = (free_address(), free_address(), [Instance::new(), Instance::new()]);
    let peers = std::env::var("MERISMOS_PYTHON_PEERS").expect("`make test` says where they are");
    let grpc = |role: &str, port: u16| {
        let (path, port) = (format!("PYTHONPATH={peers}"), port.to_string());
        Talk::start("env", &[&path, "/usr/bin/python3", "-c", GRPC, role, &port])
    };
    let callees = [free_address(), free_address()];
    let mut callee = callees.map(|address| grpc("serve", address.port()));
    assert!(callee.iter_mut().all(|server| server.line() == "ready"));
    let mut more = "[checks.open]\nkind = \"tcp\"\ninterval = \"500ms\"\ntimeout = \"200ms\"\n".to_owned();
    let servers = [("books", [databases[0].address(), databases[1].address()]), ("calls", callees)];
    for (pool, [one, two]) in servers {
        more += &format!(
            "[pools.{pool}]\ncheck = \"open\"\nalgorithm = \"in-order\"\n{}\n[pools.{pool}.servers.one]\naddress = \"{one}\"\n\
             [pools.{pool}.servers.two]\naddress = \"{two}\"\n",
            if pool == "calls" { "http_version = \"2\"" } else { "" }
        );
    }
    more += &format!(
        "[frontends.books]\nprotocol = \"tcp\"\nlisten = \"{books}\"\npool = \"books\"\n\
         [frontends.calls]\nprotocol = \"http\"\nlisten = \"{calls}\"\npool = \"calls\"\n"
    );
    service.apply(&format!("{}\n{more}", service.document())).await.unwrap();
    let is_eligible = async |server: &str| {
        let status = service.client().server(&server.parse().unwrap()).await.unwrap();
        status.eligible
    };
    until("all are up", async || {
        is_eligible("books/one").await && is_eligible("calls/one").await && is_eligible("calls/two").await
    })
    .await;
    let port = books.port().to_string();
    let session = || {
        let mut session = Talk::start(
            "mariadb",
            &["--no-defaults", "-h127.0.0.1", "-P", &port, "-umerismos", "-pmerismos", "-BNn"],
        );
        session.say("SET @ferry = 'Thora'; SELECT @ferry;");
        assert_eq!(session.line(), "Thora");
        session
    };
    let mut talk = session();
    let mut stream = grpc("watch", calls.port());
    assert_eq!(stream.line(), "SERVING");
    let leaving = ["books/one", "calls/one"];
    let draining = async { drain(&service, &leaving, "30s").await };
    let working = async {
        until("they drain", async || !is_eligible("books/one").await && !is_eligible("calls/one").await)
            .await;
        talk.say("SELECT CONCAT(@ferry, '!');");
        assert_eq!(talk.line(), "Thora!", "the session is the same");
        callee[0].say("NOT_SERVING");
        assert_eq!(stream.line(), "NOT_SERVING", "the stream is the same");
        callee[0].say("SERVING");
        assert_eq!(stream.line(), "SERVING");
        assert!(talk.end());
        drop(stream);
    };
    let (cut, ()) = tokio::join!(draining, working);
    assert_eq!(cut, CutWork::default(), "nothing was cut");
    for server in leaving {
        let back = DutyRequest::new(Duty::InService, "disks are in");
        service.client().duty(&server.parse().unwrap(), &back).await.unwrap();
        until("it is back", async || is_eligible(server).await).await;
    }
    let mut talk = session();
    let mut stream = grpc("watch", calls.port());
    assert_eq!(stream.line(), "SERVING");
    let cut = drain(&service, &leaving, "1s").await;
    assert_eq!(cut, CutWork { requests: 1, connections: 1, tunnels: 0 });
    assert_eq!(stream.line(), "UNAVAILABLE", "what clients of gRPC try again by themselves");
    talk.say("SELECT @ferry;");
    assert!(!talk.end(), "the database's client tells that its session is lost");
}
