//! Servers that speak TLS: verified by name and authority, or told why not; over HTTP/1.1, HTTP/2 and TCP.

use std::net::SocketAddr;
use std::path::PathBuf;

use merismos_api::{ApplyRequest, PoolStatus, ServerTrust};
use merismos_client::ClientError;
use merismos_core::health::HealthState;
use merismos_lab::free::free_address;

use crate::harness::{Service, http_client, until};
use crate::leaving::Talk;
use crate::tls::{Authority, curl, run, said};

/// A server of a common library: each answer says for which name its client asked in the handshake, whether the session was taken up again,
/// and on which of its connections it is; a body comes back as it is.
const PEER: &str = r#"
import http.server, ssl, sys
names, taken = {}, [0]
class Peer(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def setup(self):
        super().setup()
        taken[0] += 1
        self.number = taken[0]
    def answer(self, body):
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def do_GET(self):
        name = names.get(self.connection)
        shown = (self.connection.getpeercert() or {}).get("subjectAltName", [("", "nothing")])[0][1]
        self.answer(f"{name} {self.connection.session_reused} {self.connection.version()} {shown} {self.number}\n".encode())
    def do_POST(self):
        self.answer(self.rfile.read(int(self.headers["Content-Length"])))
    def log_message(self, *_):
        pass
def asked(socket, name, _):
    names[socket] = name
    if sys.argv[4:] == ["follow"]:
        fresh = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        fresh.load_cert_chain(sys.argv[2], sys.argv[3])
        socket.context = fresh
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(sys.argv[2], sys.argv[3])
context.sni_callback = asked
if sys.argv[4:] and sys.argv[4] != "follow":
    context.load_verify_locations(sys.argv[4])
    context.verify_mode = ssl.CERT_REQUIRED
server = http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Peer)
server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
print("ready", flush=True)
server.serve_forever()
"#;

/// Starts the server with this certificate and key.
fn peer(files: &[PathBuf; 2]) -> (Talk, SocketAddr) {
    start_peer(files, &[])
}

/// As [`peer`], one that reads both anew for each session.
pub(crate) fn following_peer(files: &[PathBuf; 2]) -> (Talk, SocketAddr) {
    start_peer(files, &["follow"])
}

fn start_peer(files: &[PathBuf; 2], more: &[&str]) -> (Talk, SocketAddr) {
    let address = free_address();
    let [chain, key] = files.each_ref().map(|file| file.to_str().unwrap());
    let port = address.port().to_string();
    let args = ["-c", PEER, &port, chain, key];
    let mut talk = Talk::start("/usr/bin/python3", &[&args[..], more].concat());
    assert_eq!(talk.line(), "ready");
    (talk, address)
}

/// A document with one server, whose pool has these keys.
fn document(service: &Service, server: SocketAddr, keys: &str) -> String {
    format!(
        "format = 3\n[checks.well]\nkind = \"http\"\ninterval = \"200ms\"\ntimeout = \"5s\"\n[pools.quay]\ncheck = \"well\"\n{keys}\n\
         [pools.quay.servers.gull]\naddress = \"{server}\"\n[frontends.harbour]\nprotocol = \"http\"\nlisten = \"{}\"\npool = \"quay\"\n",
        service.frontend
    )
}

fn preview(text: &str) -> ApplyRequest {
    let mut request = Service::request(text);
    request.going.preview = true;
    request
}

/// Applies a document, whatever is warned about.
async fn insist(service: &Service, text: &str) {
    let mut request = preview(text);
    let seen = service.client().apply(&request).await.unwrap();
    request.going.preview = false;
    request.going.accept = seen.warnings.into_iter().map(|warning| warning.warning.key).collect();
    service.client().apply(&request).await.unwrap();
}

async fn pool(service: &Service) -> PoolStatus {
    service.status().await.pools.remove(0)
}

async fn is_up(service: &Service) -> bool {
    pool(service).await.servers[0].health.state == HealthState::Up
}

/// Why the server is down, or not up yet.
async fn why(service: &Service) -> String {
    pool(service).await.servers[0].health.last_probe.as_ref().map_or_else(String::new, ToString::to_string)
}

async fn get(service: &Service) -> String {
    http_client().get(format!("http://{}/", service.frontend)).send().await.unwrap().text().await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn servers_are_verified_by_name_and_authority_and_checks_follow_their_pool() {
    let authority = Authority::new();
    let (_peer, address) = peer(&authority.issue("gull", &["gull.skerry.example"]));
    let service = Service::bare(crate::harness::Database::shared(), &[]).await;
    let trusted = format!("tls_name = \"gull.skerry.example\"\ntls_authorities = \"{}\"", authority.root());
    service.apply(&document(&service, address, &trusted)).await.unwrap();
    until("it is up", async || is_up(&service).await).await;
    assert_eq!(pool(&service).await.server_tls, ServerTrust::Verified);
    let first = get(&service).await;
    assert!(first.starts_with("gull.skerry.example ") && first.contains("TLSv1.3"), "{first}");
    let connection = |said: &str| said.split_whitespace().last().unwrap().to_owned();
    // The next requests of a client go over the same connection.
    let url = format!("http://{}/", service.frontend);
    let asked = said(&run("curl", &[&["-sS"][..], &[url.as_str(); 5]].concat(), ""));
    let mut over: Vec<String> = asked.lines().map(connection).collect();
    assert_eq!(over.len(), 5, "{asked}");
    over.dedup();
    assert_eq!(over.len(), 1, "{asked}");
    // A body of many records, both ways.
    let body: Vec<u8> = (0..3_000_000_u32).map(|at| (at % 251) as u8).collect();
    let back = http_client().post(&url).body(body.clone()).send().await.unwrap().bytes().await.unwrap();
    assert!(back == body, "{} bytes came back", back.len());
    // A connection that is made later takes the session up again.
    let mut later = String::new();
    let aged = document(&service, address, &format!("{trusted}\nidle_connection_age = \"1s\""));
    service.apply(&aged).await.unwrap();
    until("a connection is made anew, for the same session", async || {
        later = get(&service).await;
        connection(&later) != connection(&first) && later.contains(" True ")
    })
    .await;

    // Another name, and no authority: said at the check, at the pool, and not hidden from the client.
    for (keys, says) in [
        (trusted.replace("gull.skerry", "tern.skerry"), "the certificate is not for tern.skerry.example"),
        ("tls_name = \"gull.skerry.example\"".to_owned(), "not signed by a trusted authority"),
    ] {
        insist(&service, &document(&service, address, &keys)).await;
        until(says, async || why(&service).await.contains(says)).await;
        // Connections that were made before, by other rules, serve nobody any more.
        let unchecked = |keys: &str| document(&service, address, keys).replace("check = \"well\"\n", "");
        insist(&service, &unchecked(&trusted)).await;
        for _ in 0..8 {
            assert!(get(&service).await.starts_with("gull.skerry.example "));
        }
        insist(&service, &unchecked(&keys)).await;
        for _ in 0..8 {
            assert_eq!(http_client().get(&url).send().await.unwrap().status(), 502);
        }
        let failure = pool(&service).await.server_tls_failure.unwrap();
        assert!(failure.starts_with("quay/gull: ") && failure.contains(says), "{failure}");
        let shown = String::from_utf8(service.merismos(&["status", "quay"]).stdout).unwrap();
        assert!(shown.contains("servers over TLS, verified") && shown.contains(says), "{shown}");
    }

    // Whoever is not verified has to be accepted first; one certificate alone needs no authority.
    let open = document(&service, address, "tls = \"unverified\"");
    let Err(ClientError::Refused(problem)) = service.apply(&open).await else { panic!("it is refused") };
    assert!(format!("{problem:?}").contains("whoever stands between can read and change everything"));
    let mut request = Service::request(&open);
    request.going.accept = vec!["unverified-servers:pools.quay.tls".to_owned()];
    service.client().apply(&request).await.unwrap();
    until("it is up", async || is_up(&service).await).await;
    assert_eq!(pool(&service).await.server_tls, ServerTrust::Unverified);
    let says = get(&service).await;
    assert!(says.starts_with("None "), "an address is no name to ask for: {says}");
    for (digest, is_right) in [(authority.sha256("gull"), true), ("0".repeat(64), false)] {
        let keys = format!("tls = \"unverified\"\ntls_pin = \"{digest}\"");
        insist(&service, &document(&service, address, &keys)).await;
        assert_eq!(pool(&service).await.server_tls, ServerTrust::Pinned);
        if is_right {
            until("it is up", async || is_up(&service).await).await;
        } else {
            let says = "the certificate is another one than the pinned one";
            until(says, async || why(&service).await.contains(says)).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_connection_serves_the_requests_of_one_host_where_servers_are_asked_for_that() {
    let authority = Authority::new();
    let (_peer, address) = peer(&authority.issue("all", &["*.skerry.example", "127.0.0.1"]));
    let service = Service::bare(crate::harness::Database::shared(), &[]).await;
    let keys = format!(
        "tls_name_of = \"request\"\ntls_authorities = \"{}\"\nidle_connection_timeout = \"1m\"",
        authority.root()
    );
    let text = document(&service, address, &keys);
    let no_tls = text.replace(&format!("tls_authorities = \"{}\"\n", authority.root()), "");
    let Err(ClientError::Refused(problem)) = service.apply(&no_tls).await else { panic!("it is refused") };
    assert!(format!("{problem:?}").contains("spoken to in plain text"), "{problem:?}");
    service.apply(&text).await.unwrap();
    until("it is up", async || is_up(&service).await).await;
    let ask = |host: &str| {
        let resolve = format!("{host}:{}:127.0.0.1", service.frontend.port());
        said(&run(
            "curl",
            &["-sS", "--resolve", &resolve, &format!("http://{host}:{}/", service.frontend.port())],
            "",
        ))
    };
    let (fares, piers) = (ask("fares.skerry.example"), ask("piers.skerry.example"));
    assert!(fares.starts_with("fares.skerry.example "), "{fares}");
    assert!(piers.starts_with("piers.skerry.example "), "{piers}");
    let connection = |said: &str| said.split_whitespace().last().unwrap().to_owned();
    assert_ne!(connection(&fares), connection(&piers));
    // Each worker keeps its own: of a few requests for one host some go over a connection that was there, and all are for the right one.
    let again: Vec<String> = (0..8).map(|_| ask("fares.skerry.example")).collect();
    assert!(again.iter().all(|said| said.starts_with("fares.skerry.example ")), "{again:?}");
    assert!(again.iter().any(|said| connection(said) == connection(&fares)), "{again:?}");
    // A name that the certificate is not for is no other client's trouble.
    let refused = ask("fares.elsewhere.example");
    assert!(refused.contains("502"), "{refused}");
    assert!(ask("piers.skerry.example").starts_with("piers.skerry.example "));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn http_2_and_tcp_go_on_to_servers_in_tls_and_clients_in_tls_too() {
    let authority = Authority::new();
    let (_peer, address) = peer(&authority.issue("gull", &["gull.skerry.example"]));
    authority.issue("site", &["site.skerry.example"]);
    let service = Service::bare(crate::harness::Database::shared(), &[]).await;
    let (two, line) = (free_address(), free_address());
    let trust = |name: &str| format!("tls_name = \"{name}\"\ntls_authorities = \"{}\"", authority.root());
    // A frontend of its own is the server that speaks HTTP/2 over TLS.
    let text = document(&service, address, &trust("gull.skerry.example"))
        .replace("[frontends.harbour]", "[frontends.harbour]\ncertificates = [\"site\"]")
        + &format!(
            "[pools.second]\nhttp_version = \"2\"\n{}\n[pools.second.servers.front]\naddress = \"{}\"\n\
         [frontends.two]\nprotocol = \"http\"\nlisten = \"{two}\"\npool = \"second\"\n\
         [frontends.line]\nprotocol = \"tcp\"\nlisten = \"{line}\"\npool = \"quay\"\n",
            trust("site.skerry.example"),
            service.frontend
        )
        + &authority.tables(&["site"]);
    insist(&service, &text).await;
    until("it is up", async || is_up(&service).await).await;
    // In TLS to the frontend, and in TLS on to the server.
    for version in ["--http1.1", "--http2"] {
        let answer = said(&curl(&authority, service.frontend, "site.skerry.example", &[version]));
        assert!(answer.starts_with("gull.skerry.example "), "{version}: {answer}");
    }
    // In plain text to a frontend, in HTTP/2 over TLS to the next.
    let body = "x".repeat(700_000);
    for _ in 0..3 {
        let answer = http_client().get(format!("http://{two}/")).send().await.unwrap();
        let says = answer.text().await.unwrap();
        assert!(says.starts_with("gull.skerry.example "), "{says}");
        let back = http_client().post(format!("http://{two}/")).body(body.clone()).send().await.unwrap();
        assert_eq!(back.text().await.unwrap().len(), body.len());
    }
    // Bytes of TCP, in plain text from the client.
    let asked = run("curl", &["-sS", "--http1.1", &format!("http://{line}/")], "");
    assert!(said(&asked).starts_with("gull.skerry.example "), "{asked:?}");
    let sent = run(
        "curl",
        &["-sS", "--http1.1", "-H", "Expect:", "-d", &body[..100_000], &format!("http://{line}/")],
        "",
    );
    assert_eq!(sent.stdout.len(), 100_000, "{sent:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn authorities_are_followed_and_a_server_in_plain_text_is_told() {
    let authority = Authority::new();
    let (_peer, address) = peer(&authority.issue("gull", &["gull.skerry.example"]));
    let service = Service::with(&["tern"]).await;
    let own = service.folder.path().join("own.pem");
    let keys = format!("tls_name = \"gull.skerry.example\"\ntls_authorities = \"{}\"", own.display());
    let text = document(&service, address, &keys);
    // A file that is not there is told before it goes live.
    let Err(ClientError::Refused(problem)) = service.apply(&text).await else { panic!("it is refused") };
    assert!(format!("{problem:?}").contains("none of pool quay's servers is reached"), "{problem:?}");
    let other = Authority::new();
    std::fs::copy(other.root(), &own).unwrap();
    insist(&service, &text).await;
    // It has the right name and another key.
    let says = "the signature of the certificate is wrong";
    until(says, async || why(&service).await.contains(says)).await;
    std::fs::copy(authority.root(), &own).unwrap();
    until("it is up", async || is_up(&service).await).await;
    until("clients get through", async || get(&service).await.starts_with("gull.skerry.example ")).await;
    // What can't be read stays as it was, and is a headline.
    std::fs::write(&own, "-----BEGIN CERTIFICATE-----\nbm9uZQ==\n-----END CERTIFICATE-----\n").unwrap();
    let trouble = async || {
        service
            .status()
            .await
            .troubles
            .into_iter()
            .find(|trouble| trouble.starts_with("pool quay: the authorities"))
    };
    until("it is a headline", async || trouble().await.is_some()).await;
    assert!(trouble().await.unwrap().ends_with("those before stay"));
    assert!(get(&service).await.starts_with("gull.skerry.example "));
    std::fs::copy(authority.root(), &own).unwrap();
    until("it is mended", async || trouble().await.is_none()).await;

    // Servers that do not speak it are found out before it goes live, also when they were there before.
    let address = service.stand_ins[0].address;
    insist(&service, &document(&service, address, "")).await;
    until("it is up", async || is_up(&service).await).await;
    let plain = document(&service, address, &keys);
    let Err(ClientError::Refused(problem)) = service.apply(&plain).await else { panic!("it is refused") };
    assert!(format!("{problem:?}").contains("no-server-left:frontends.harbour"), "{problem:?}");
    let preview = service.client().apply(&preview(&plain)).await.unwrap();
    let words: Vec<_> = preview.changes.iter().map(|change| change.description.as_str()).collect();
    assert!(format!("{:?}", preview.warnings).contains("what came back is no TLS"), "{:?}", preview.warnings);
    assert!(words.contains(&"tls of pool quay: verified, nothing before"), "{words:?}");
    insist(&service, &plain).await;
    let says = "what came back is no TLS";
    until(says, async || why(&service).await.contains(says)).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn servers_that_ask_are_shown_the_certificate_of_the_pool_by_traffic_and_probes() {
    let authority = Authority::new();
    authority.issue("node", &["node.skerry.example"]);
    let (_peer, address) =
        start_peer(&authority.issue("gull", &["gull.skerry.example"]), &[&authority.root()]);
    let service = Service::bare(crate::harness::Database::shared(), &[]).await;
    let trusted = format!("tls_name = \"gull.skerry.example\"\ntls_authorities = \"{}\"", authority.root());
    let text = document(&service, address, &trusted) + &authority.tables(&["node"]);
    insist(&service, &text).await;
    let says = "it wants a certificate of ours";
    until(says, async || why(&service).await.contains(says)).await;
    let showing = text.replace("[pools.quay]", "[pools.quay]\ntls_certificate = \"node\"");
    service.apply(&showing).await.unwrap();
    until("it is up", async || is_up(&service).await).await;
    let shown = get(&service).await;
    assert!(shown.contains(" node.skerry.example "), "{shown}");
    let view = service.client().certificates().await.unwrap().certificates.remove(0);
    assert_eq!((view.pools.as_slice(), view.frontends.len()), (&["quay".to_owned()][..], 0));
    // It is followed as any other: the next connection shows the new one.
    authority.issue("node", &["other.skerry.example"]);
    let renamed = ["certificate", "rename", "node", "harbour-node"];
    let aged = showing.replace("[pools.quay]", "[pools.quay]\nidle_connection_age = \"1s\"");
    service.apply(&aged).await.unwrap();
    until("the new one is shown", async || get(&service).await.contains(" other.skerry.example ")).await;
    // Who refers to it follows a rename, and keeps it from being removed.
    let done = service.merismos(&renamed);
    assert!(done.status.success(), "{}", said(&done));
    let removed = service.merismos(&["certificate", "remove", "harbour-node"]);
    assert_eq!(removed.status.code(), Some(3), "{}", said(&removed));
    assert!(said(&removed).contains("is used by pool quay"), "{}", said(&removed));
    until("it is still up", async || is_up(&service).await).await;
    assert!(get(&service).await.contains(" other.skerry.example "));
}
