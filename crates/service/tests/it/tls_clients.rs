//! Clients of many kinds before frontends that speak TLS: WebSockets, HTTP/2 in bulk, a browser, and gRPC.

use std::process::{Command, Stdio};

use merismos_lab::free::free_address;
use tokio::task::block_in_place;

use crate::harness::{Service, until};
use crate::leaving::Talk;
use crate::peers::{GRPC, WEBSOCKETS};
use crate::tls::{Authority, document, run, said};

/// A client of a common WebSocket library, over TLS.
const SECURE_WEBSOCKET: &str = r#"
import asyncio, ssl, sys, websockets
async def talk():
    context = ssl.create_default_context(cafile=sys.argv[2])
    url = f"wss://booking.skerry.example:{sys.argv[1]}/talk"
    async with websockets.connect(url, ssl=context, host="127.0.0.1", server_hostname="booking.skerry.example", max_size=None) as socket:
        for word in ["ahoy", "x" * 300000]:
            await socket.send(word)
            assert await socket.recv() == word
    print("done", flush=True)
asyncio.run(talk())
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn websockets_and_many_large_responses_go_over_tls() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let (talks, repeating) = (free_address(), free_address());
    let port = repeating.port().to_string();
    let mut echo = Talk::start("/usr/bin/python3", &["-c", WEBSOCKETS, "serve", &port]);
    assert_eq!(echo.line(), "ready");
    let text = document(&service, "certificates = [\"booking\"]")
        + &format!(
            "\n[pools.talks]\ncheck = \"open\"\n[pools.talks.servers.one]\naddress = \"{repeating}\"\n[checks.open]\nkind = \"tcp\"\n\
             [frontends.talks]\nprotocol = \"http\"\nlisten = \"{talks}\"\npool = \"talks\"\ncertificates = [\"booking\"]\n"
        )
        + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    until("the talks are served", async || {
        let talks = "talks/one".parse().unwrap();
        service.client().server(&talks).await.unwrap().eligible
    })
    .await;
    let talked =
        run("/usr/bin/python3", &["-c", SECURE_WEBSOCKET, &talks.port().to_string(), &authority.root()], "");
    assert_eq!(said(&talked), "done\n", "{}", said(&talked));
    for (version, more) in [("HTTP/2", &["-m", "20"][..]), ("HTTP/1.1", &["--h1"])] {
        let url = format!("https://{}/bytes/300000", service.frontend);
        let load = run("h2load", &[&["-n", "400", "-c", "4"], more, &[&url]].concat(), "");
        let load = said(&load);
        assert!(load.contains("400 succeeded, 0 failed, 0 errored, 0 timeout"), "{version}: {load}");
        assert!(load.contains("(120000000) data"), "{version}: {load}");
    }
    until("nothing is left open", async || service.server("gull").await.in_flight == 0).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_browser_that_trusts_the_authority_shows_the_page_and_another_does_not() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let text = document(&service, "certificates = [\"booking\"]") + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    service.all_up().await;
    let home = |name: &str| service.folder.path().join(name);
    let trusted = home("trusting").join(".pki/nssdb");
    std::fs::create_dir_all(&trusted).unwrap();
    std::fs::create_dir_all(home("strange")).unwrap();
    let store = format!("sql:{}", trusted.display());
    for args in [&["-N", "--empty-password"][..], &["-A", "-t", "C,,", "-n", "root", "-i", &authority.root()]]
    {
        let made = run("certutil", &[&["-d", &store], args].concat(), "");
        assert!(made.status.success(), "{}", said(&made));
    }
    let page = |name: &str| {
        let url = format!("https://booking.skerry.example:{}/", service.frontend.port());
        let log = format!("--log-net-log={}", home("net.json").display());
        let args = ["--headless", "--no-sandbox", "--disable-gpu", "--dump-dom", &log, &url];
        let shown = Command::new("timeout")
            .args(["60", "chromium"])
            .env("HOME", home(name))
            .arg("--host-resolver-rules=MAP booking.skerry.example 127.0.0.1")
            .args(args)
            .stdin(Stdio::null())
            .output()
            .unwrap();
        String::from_utf8_lossy(&shown.stdout).into_owned()
    };
    let shown = block_in_place(|| page("trusting"));
    assert!(shown.contains("gull"), "{shown}");
    let log = std::fs::read_to_string(home("net.json")).unwrap();
    assert!(
        log.contains("\"negotiated_protocol\":\"h2\"") || log.contains("\"next_proto\":\"h2\""),
        "it speaks HTTP/2"
    );
    let shown = block_in_place(|| page("strange"));
    assert!(!shown.contains("gull"), "{shown}");
    let refused = service.status().await.frontends[0].bad_handshake.clone();
    assert!(refused.as_ref().is_some_and(|why| why.contains("refuses the certificate")), "{refused:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn calls_and_streams_of_grpc_go_over_tls() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let peers = std::env::var("MERISMOS_PYTHON_PEERS").expect("`make test` says where they are");
    let grpc = |args: &[&str]| {
        let path = format!("PYTHONPATH={peers}");
        Talk::start("env", &[&[&path, "/usr/bin/python3", "-c", GRPC], args].concat())
    };
    let callee = free_address();
    let mut server = grpc(&["serve", &callee.port().to_string()]);
    assert_eq!(server.line(), "ready");
    let text = format!(
        "format = 3\n[checks.open]\nkind = \"tcp\"\n[pools.calls]\ncheck = \"open\"\nhttp_version = \"2\"\n[pools.calls.servers.one]\naddress = \"{callee}\"\n\
         [frontends.harbour]\nprotocol = \"http\"\nlisten = \"{}\"\npool = \"calls\"\ncertificates = [\"booking\"]\n{}",
        service.frontend,
        authority.tables(&["booking"])
    );
    let mut request = Service::request(&text);
    request.going.preview = true;
    let seen = service.client().apply(&request).await.unwrap();
    request.going.preview = false;
    request.going.accept = seen.warnings.into_iter().map(|warning| warning.warning.key).collect();
    service.client().apply(&request).await.unwrap();
    until("it is up", async || {
        let pools = service.status().await.pools;
        pools.iter().any(|pool| pool.servers.iter().any(|server| server.eligible))
    })
    .await;
    let port = service.frontend.port().to_string();
    let mut client = grpc(&["ask", &port, &authority.root(), "booking.skerry.example"]);
    assert_eq!(client.line(), "SERVING", "twenty calls, an error in trailers, and the first of the stream");
    server.say("NOT_SERVING");
    assert_eq!(client.line(), "NOT_SERVING", "the stream tells of the change");
    assert!(client.end(), "it found nothing wrong");
}
