//! Real programs before and behind Merismos, from Debian's packages.

use std::io::{BufRead, BufReader};
use std::net::{SocketAddr, UdpSocket};
use std::process::{Child, Command, Output, Stdio};

use merismos_api::TryRequest;
use merismos_lab::free::free_address;

use crate::dns::NameServer;
use crate::harness::{Database, PATIENCE, Service, until};

/// A program that is ended with the test.
struct Peer(Child);

impl Peer {
    fn start(program: &str, args: &[&str]) -> Self {
        let mut command = Command::new(program);
        let command = command.args(args).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
        Self(command.spawn().unwrap_or_else(|error| panic!("{program}: {error}; `make test` installs it")))
    }
}

impl Drop for Peer {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn run(program: &str, args: &[&str]) -> Output {
    Command::new(program).args(args).output().unwrap_or_else(|error| panic!("{program}: {error}"))
}

fn text(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// A service whose frontend `line` takes TCP or UDP for one server.
async fn before(protocol: &str, server: SocketAddr, more: &str) -> Service {
    before_pool(protocol, server, more, "").await
}

/// As [`before`], with more keys for the pool.
async fn before_pool(protocol: &str, server: SocketAddr, more: &str, pool: &str) -> Service {
    let service = Service::bare(Database::shared(), &[]).await;
    let line = |protocol: &str| {
        format!(
            "[frontends.{protocol}-line]\nprotocol = \"{protocol}\"\nlisten = \"{}\"\npool = \"quay\"\n{more}\n",
            service.frontend
        )
    };
    let lines: String = protocol.split('+').map(line).collect();
    let document = format!(
        "format = 3\n[pools.quay]\n{pool}\n[pools.quay.servers.real]\naddress = \"{server}\"\n{lines}"
    );
    let mut request = Service::request(&document);
    request.going.accept =
        vec!["no-check:pools.quay".to_owned(), "no-answer:pools.quay.servers.real.address".to_owned()];
    service.client().apply(&request).await.unwrap();
    service
}

async fn listens(address: SocketAddr) {
    until("the program listens", async || std::net::TcpStream::connect(address).is_ok()).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_and_its_own_client() {
    let database = std::env::var("MERISMOS_TEST_DATABASE").unwrap();
    let address: SocketAddr = database.rsplit('@').next().unwrap().parse().unwrap();
    let service = before("tcp", address, "").await;
    let port = service.frontend.port().to_string();
    let ask = |statement: &str| {
        run(
            "mariadb",
            &["--no-defaults", "-h127.0.0.1", "-P", &port, "-umerismos", "-pmerismos", "-N", "-e", statement],
        )
    };
    assert_eq!(text(&ask("SELECT 6 * 7")), "42\n");
    // Sixteen megabytes: far beyond what goes through buffers.
    let large =
        ask("SELECT REPEAT('x', 4000000) FROM (SELECT 1 UNION SELECT 2 UNION SELECT 3 UNION SELECT 4) four");
    let complaint = String::from_utf8_lossy(&large.stderr);
    assert_eq!(large.stdout.len(), 4 * 4_000_001, "{:?} {complaint}", large.status);
    assert!(large.stdout.iter().all(|byte| *byte == b'x' || *byte == b'\n'));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_key_value_store_and_its_own_client() {
    let address = free_address();
    let port = address.port().to_string();
    let _store = Peer::start(
        "redis-server",
        &["--port", &port, "--bind", "127.0.0.1", "--save", "", "--appendonly", "no"],
    );
    listens(address).await;
    let service = before("tcp", address, "").await;
    let port = service.frontend.port().to_string();
    let ask = |args: &[&str]| text(&run("redis-cli", &[&["-p", &port][..], args].concat()));
    assert_eq!(ask(&["SET", "ferry", "Thora"]), "OK\n");
    assert_eq!(ask(&["GET", "ferry"]), "Thora\n");
    let bench = run(
        "redis-benchmark",
        &["-p", &port, "-n", "2000", "-c", "20", "-P", "8", "-q", "-t", "ping_inline"],
    );
    assert!(bench.status.success() && text(&bench).contains("requests per second"), "{bench:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn bulk_by_tcp_and_udp_on_one_port() {
    let address = free_address();
    let port = address.port().to_string();
    let _server = Peer::start("iperf3", &["-s", "-p", &port, "-B", "127.0.0.1"]);
    listens(address).await;
    let service = before("tcp+udp", address, "").await;
    let port = service.frontend.port().to_string();
    let measure = async |more: &[&str]| {
        let mut answer = String::new();
        // The server may still be busy with the connection that looked whether it listens.
        until("iperf3 has measured", async || {
            let output = run("iperf3", &[&["-c", "127.0.0.1", "-p", &port, "-J"][..], more].concat());
            answer = text(&output);
            output.status.success()
        })
        .await;
        serde_json::from_str::<serde_json::Value>(&answer).unwrap()
    };
    let tcp = measure(&["-n", "64M"]).await;
    // The receiver stops counting when the sender has sent all, while some is still on its way.
    assert!(tcp["end"]["sum_received"]["bytes"].as_u64().unwrap() >= 30_000_000, "{tcp}");
    // A machine that stands still for a moment loses some, with any relay: not each time.
    until("most of the datagrams arrive", async || {
        let udp = measure(&["-u", "-b", "4M", "-t", "1", "-l", "1200"]).await;
        let sum = &udp["end"]["sum"];
        assert!(sum["packets"].as_u64().unwrap() > 200, "{sum}");
        sum["lost_percent"].as_f64().unwrap() < 20.0
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn log_lines_by_datagram_are_dealt_out_one_by_one() {
    let stations = [0, 1].map(|_| UdpSocket::bind("127.0.0.1:0").unwrap());
    let service = Service::bare(Database::shared(), &[]).await;
    let servers: String = stations
        .iter()
        .enumerate()
        .map(|(n, socket)| {
            format!("[pools.logs.servers.s{n}]\naddress = \"{}\"\n", socket.local_addr().unwrap())
        })
        .collect();
    let document = format!(
        "format = 3\n{servers}[frontends.logs]\nprotocol = \"udp\"\nbalance_per = \"datagram\"\nlisten = \"{}\"\npool = \"logs\"\n",
        service.frontend
    );
    let mut request = Service::request(&document);
    request.going.accept = vec!["no-check:pools.logs".to_owned()];
    let refused = service.client().apply(&request).await;
    assert!(refused.is_ok(), "{refused:?}");
    let port = service.frontend.port().to_string();
    for line in 0..6 {
        let sent =
            run("logger", &["-d", "-n", "127.0.0.1", "-P", &port, "-t", "ferry", &format!("line {line}")]);
        assert!(sent.status.success(), "{sent:?}");
    }
    for station in &stations {
        station.set_read_timeout(Some(PATIENCE)).unwrap();
        for _ in 0..3 {
            let mut buffer = [0; 2048];
            let length = station.recv(&mut buffer).unwrap();
            let line = String::from_utf8_lossy(&buffer[..length]).into_owned();
            assert!(line.contains("ferry") && line.contains("line "), "{line}");
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_name_server_and_its_resolver() {
    let names = NameServer::start("gull IN A 192.0.2.21\n");
    let service = before("udp", names.address, "").await;
    let port = service.frontend.port().to_string();
    until("it answers", async || {
        let asked = run(
            "dig",
            &["@127.0.0.1", "-p", &port, "+short", "+tries=1", "+timeout=1", "gull.skerry.example", "A"],
        );
        text(&asked) == "192.0.2.21\n"
    })
    .await;
    for _ in 0..20 {
        let asked = run("dig", &["@127.0.0.1", "-p", &port, "+noall", "+answer", "skerry.example", "SOA"]);
        assert!(text(&asked).contains("hostmaster"), "{asked:?}");
    }
}

/// An echo server and a client of the same well-known library.
pub(crate) const WEBSOCKETS: &str = r#"
import asyncio, sys, websockets
async def echo(socket, *_):
    async for message in socket:
        await socket.send(message)
async def serve():
    async with websockets.serve(echo, "127.0.0.1", int(sys.argv[2])):
        print("ready", flush=True)
        await asyncio.Future()
async def talk():
    async with websockets.connect(f"ws://127.0.0.1:{sys.argv[2]}/talk", max_size=None) as socket:
        for message in ["ahoy", "x" * 900_000, b"\x00\xff" * 1000]:
            await socket.send(message)
            assert await socket.recv() == message
        await (await socket.ping())
    print("well", flush=True)
asyncio.run(serve() if sys.argv[1] == "serve" else talk())
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn web_sockets_of_a_common_library() {
    let address = free_address();
    let mut server =
        Peer::start("/usr/bin/python3", &["-c", WEBSOCKETS, "serve", &address.port().to_string()]);
    let mut ready = String::new();
    BufReader::new(server.0.stdout.as_mut().unwrap()).read_line(&mut ready).unwrap();
    assert_eq!(ready, "ready\n");
    let service = before("http", address, "").await;
    let talked = run("/usr/bin/python3", &["-c", WEBSOCKETS, "talk", &service.frontend.port().to_string()]);
    assert_eq!(text(&talked), "well\n", "{}", String::from_utf8_lossy(&talked.stderr));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_common_http_client_in_both_versions_it_knows_of_ours() {
    let service = Service::with(&["gull"]).await;
    let url = format!("http://{}/bytes/100000", service.frontend);
    for version in ["--http1.0", "--http1.1"] {
        let got =
            run("curl", &["-sS", version, "-o", "/dev/null", "-w", "%{http_code} %{size_download}", &url]);
        assert_eq!(text(&got), "200 100000", "{version}: {got:?}");
        let head = run("curl", &["-sS", version, "-I", &url]);
        assert!(
            text(&head).contains("content-length: 100000") || text(&head).contains("Content-Length: 100000")
        );
        let sent = run("curl", &["-sS", version, "-H", "Expect: 100-continue", "-d", "ferry=Thora", &url]);
        assert!(sent.status.success(), "{sent:?}");
    }
    let two = run(
        "curl",
        &[
            "-sS",
            "-w",
            " %{num_connects}",
            &url,
            "-o",
            "/dev/null",
            "-:",
            "-sS",
            &url,
            "-o",
            "/dev/null",
            "-w",
            " %{num_connects}",
        ],
    );
    assert_eq!(text(&two), " 1 0", "the connection is kept: {two:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_common_http_client_over_http_2() {
    let service = Service::with(&["gull"]).await;
    let url = format!("http://{}/bytes/100000", service.frontend);
    let version = "--http2-prior-knowledge";
    let got = run(
        "curl",
        &["-sS", version, "-o", "/dev/null", "-w", "%{http_version} %{http_code} %{size_download}", &url],
    );
    assert_eq!(text(&got), "2 200 100000", "{got:?}");
    let head = run("curl", &["-sS", version, "-I", &url]);
    assert!(
        text(&head).starts_with("HTTP/2 200") && text(&head).contains("content-length: 100000"),
        "{head:?}"
    );
    let sent =
        run("curl", &["-sS", version, "-w", "%{http_code}", "-d", "ferry=Thora", "-o", "/dev/null", &url]);
    assert_eq!(text(&sent), "200", "{sent:?}");
    let (one, two) = (format!("{url}?one"), format!("{url}?two"));
    let kept = ["-o", "/dev/null", "-w", " %{num_connects}"];
    let mut args = vec!["-sS", version];
    args.extend([one.as_str()].iter().chain(&kept).chain(&["-:", "-sS", version, two.as_str()]).chain(&kept));
    assert_eq!(text(&run("curl", &args)), " 1 0", "the connection is kept");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn many_requests_at_once_over_few_connections() {
    let service = Service::with(&["gull", "tern"]).await;
    let url = format!("http://{}/bytes/70000", service.frontend);
    let load = run("h2load", &["-n", "1000", "-c", "4", "-m", "50", &url]);
    let said = text(&load);
    assert!(said.contains("1000 succeeded, 0 failed, 0 errored, 0 timeout"), "{load:?}");
    assert!(said.contains("(70000000) data"), "{said}");
}

/// The standard health service of gRPC and its client: unary calls, and a stream that stays open; over TLS, where the client is given the
/// authority and the name.
pub(crate) const GRPC: &str = r#"
import sys
from concurrent import futures
import grpc
from grpc_health.v1 import health, health_pb2 as pb, health_pb2_grpc as service
port = sys.argv[2]
if sys.argv[1] == "serve":
    server = grpc.server(futures.ThreadPoolExecutor(4))
    state = health.HealthServicer()
    service.add_HealthServicer_to_server(state, server)
    server.add_insecure_port("127.0.0.1:" + port)
    state.set("booking", pb.HealthCheckResponse.SERVING)
    server.start()
    print("ready", flush=True)
    # The test that started this says with each line what the state is now.
    for line in sys.stdin:
        state.set("booking", pb.HealthCheckResponse.ServingStatus.Value(line.strip()))
if sys.argv[3:]:
    root, options = open(sys.argv[3], "rb").read(), [("grpc.ssl_target_name_override", sys.argv[4])]
    channel = grpc.secure_channel("127.0.0.1:" + port, grpc.ssl_channel_credentials(root), options)
else:
    channel = grpc.insecure_channel("127.0.0.1:" + port)
stub = service.HealthStub(channel)
ask = pb.HealthCheckRequest(service="booking")
if sys.argv[1] == "watch":
    try:
        for answer in stub.Watch(ask, timeout=60):
            print(pb.HealthCheckResponse.ServingStatus.Name(answer.status), flush=True)
    except grpc.RpcError as error:
        print(error.code().name, flush=True)
elif sys.argv[1] == "ask":
    for _ in range(20):
        assert stub.Check(ask, timeout=20).status == pb.HealthCheckResponse.SERVING
    try:
        stub.Check(pb.HealthCheckRequest(service="unknown"), timeout=20)
        sys.exit("an unknown service was answered")
    except grpc.RpcError as error:
        assert error.code() == grpc.StatusCode.NOT_FOUND, error
    watch = stub.Watch(ask, timeout=20)
    print(pb.HealthCheckResponse.ServingStatus.Name(next(watch).status), flush=True)
    print(pb.HealthCheckResponse.ServingStatus.Name(next(watch).status), flush=True)
    watch.cancel()
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn grpc_with_its_health_service() {
    let peers = std::env::var("MERISMOS_PYTHON_PEERS").expect("`make test` says where they are");
    let start = |role: &str, port: u16| {
        let mut command = Command::new("/usr/bin/python3");
        command.args(["-c", GRPC, role, &port.to_string()]).env("PYTHONPATH", &peers);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        Peer(command.spawn().unwrap())
    };
    let line = |peer: &mut Peer| {
        let (mut line, out) = (String::new(), peer.0.stdout.as_mut().unwrap());
        // Byte by byte: what comes later belongs to the next reader.
        let mut byte = [0];
        while std::io::Read::read(out, &mut byte).unwrap() == 1 && byte != *b"\n" {
            line.push(char::from(byte[0]));
        }
        line
    };
    let address = free_address();
    let mut server = start("serve", address.port());
    assert_eq!(line(&mut server), "ready");
    let service = before_pool("http", address, "", "http_version = \"2\"").await;
    let ask = async |service: &Service, keys: serde_json::Value| {
        let request = TryRequest { servers: vec!["quay/real".to_owned()], keys: keys.as_object().cloned() };
        let answer = service.client().try_check(&"new".parse().unwrap(), &request).await.unwrap();
        answer.tries.into_iter().next().unwrap().evidence.observed
    };
    let of = |name: &str| serde_json::json!({ "kind": "grpc", "service": name });
    assert_eq!(ask(&service, of("booking")).await, "SERVING");
    assert!(ask(&service, of("unknown")).await.starts_with("gRPC status 5"));
    let mut client = start("ask", service.frontend.port());
    assert_eq!(
        line(&mut client),
        "SERVING",
        "twenty calls, an error in trailers, and the first of the stream"
    );
    std::io::Write::write_all(server.0.stdin.as_mut().unwrap(), b"NOT_SERVING\n").unwrap();
    assert_eq!(line(&mut client), "NOT_SERVING", "the stream tells of the change");
    assert!(client.0.wait().unwrap().success());
    assert_eq!(ask(&service, of("booking")).await, "NOT_SERVING");
}
