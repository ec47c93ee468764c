//! Clients that show certificates: real ones, of two authorities, with lists of who is revoked, and sessions that are taken up again.

use std::net::SocketAddr;
use std::path::PathBuf;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use merismos_client::ClientError;
use rstest::rstest;

use crate::harness::{Service, until};
use crate::leaving::Talk;
use crate::tls::{Authority, curl, document, echo_heads, run, said};

const NAME: &str = "booking.skerry.example";
const REQUEST: &str = "GET / HTTP/1.1\r\nHost: booking.skerry.example\r\nConnection: close\r\n\r\n";

/// A service that asks its clients for certificates, and servers that show what they get.
struct Asking {
    service: Service,
    /// Of the frontend's own certificate.
    own: Authority,
    /// Of the clients'.
    clients: Authority,
}

impl Asking {
    async fn begin() -> Self {
        let (own, clients) = (Authority::new(), Authority::new());
        own.issue("booking", &[NAME]);
        clients.issue("thora", &["thora.skerry.example"]);
        clients.issue("njal", &["njal.skerry.example"]);
        Self { service: Service::with(&["gull"]).await, own, clients }
    }

    fn text(&self, keys: &str) -> String {
        let heads = echo_heads();
        let table = format!("\n[pools.quay.servers.heads]\naddress = \"{heads}\"\n");
        let gull =
            format!("\n[pools.quay.servers.gull]\naddress = \"{}\"\n", self.service.stand_ins[0].address);
        let text = document(&self.service, &format!("certificates = [\"booking\"]\n{keys}"));
        text.replace(&gull, &table) + &self.own.tables(&["booking"])
    }

    fn keys(&self, asks: &str) -> String {
        format!("client_certificates = \"{asks}\"\nclient_authorities = \"{}\"", self.clients.root())
    }

    fn at(&self) -> SocketAddr {
        self.service.frontend
    }

    /// What curl says with somebody's certificate.
    fn as_client(&self, of: &Authority, name: &str, more: &[&str]) -> String {
        let [certificate, key] = of.files(name).map(|file| file.display().to_string());
        let own = ["--cert", &certificate, "--key", &key];
        said(&curl(&self.own, self.at(), NAME, &[&own[..], more].concat()))
    }

    fn says(&self, part: &str) -> bool {
        String::from_utf8(self.service.merismos(&["status"]).stdout).unwrap().contains(part)
    }
}

/// A client's certificate as servers are told of it.
fn told(file: &PathBuf) -> String {
    let (_, pem) = x509_parser::pem::parse_x509_pem(&std::fs::read(file).unwrap()).unwrap();
    format!(":{}:", STANDARD.encode(pem.contents))
}

/// The values of a field in a head.
fn values<'h>(head: &'h str, name: &str) -> Vec<&'h str> {
    let lines = head.lines().filter_map(|line| line.split_once(": "));
    lines
        .filter(|(known, _)| known.replace('_', "-").eq_ignore_ascii_case(name))
        .map(|(_, value)| value)
        .collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn servers_are_told_of_certificates_that_passed_and_of_no_others() {
    let asking = Asking::begin().await;
    let keys = format!("{}\nrules = [\"who\"]", asking.keys("required"));
    let rule = "\n[rules.who]\nwhen = \"always\"\naction = \"continue\"\nset_request_fields = { X-Who = \"{certificate.subject}\" }\n";
    asking.service.apply(&(asking.text(&keys) + rule)).await.unwrap();
    assert!(asking.says(", client certificates required"));
    let forged =
        ["-H", "Client-Cert: :AAAA:", "-H", "client_cert: :AAAA:", "-H", "Client-Cert-Chain: :AAAA:"];
    let thora = told(&asking.clients.files("thora")[0]);
    for version in ["--http1.1", "--http2"] {
        let head = asking.as_client(&asking.clients, "thora", &[&forged[..], &[version]].concat());
        assert_eq!(values(&head, "Client-Cert"), [thora.as_str()], "{head}");
        assert_eq!(values(&head, "X-Who"), ["CN=thora"], "{head}");
        // curl sends an authority's certificate behind the client's: its own, and not the forged one.
        let chain = values(&head, "Client-Cert-Chain");
        assert!(chain.len() <= 1 && !chain.contains(&":AAAA:"), "{head}");
    }
    let nothing = said(&curl(&asking.own, asking.at(), NAME, &[]));
    assert!(nothing.starts_with("curl:"), "{nothing}");
    until("it is said", async || asking.says("a client shows no certificate, and has to")).await;
    let other = Authority::new();
    other.issue("thora", &["thora.skerry.example"]);
    let stranger = asking.as_client(&other, "thora", &[]);
    assert!(stranger.starts_with("curl:"), "{stranger}");
    until("it is said", async || asking.says("not by one of the authorities that are trusted for clients"))
        .await;
    // Who need not show one is served, and is not believed either.
    asking.service.apply(&asking.text(&asking.keys("optional"))).await.unwrap();
    let head = said(&curl(&asking.own, asking.at(), NAME, &forged));
    assert!(head.starts_with("GET / HTTP/1.1"), "{head}");
    assert_eq!(values(&head, "Client-Cert"), [""; 0], "{head}");
    let head = asking.as_client(&asking.clients, "thora", &[]);
    assert_eq!(values(&head, "Client-Cert"), [thora.as_str()], "{head}");
    // Where nobody is asked, nobody is believed.
    asking.service.apply(&asking.text("")).await.unwrap();
    let head = asking.as_client(&asking.clients, "thora", &forged);
    assert!(head.starts_with("GET / HTTP/1.1") && values(&head, "Client-Cert").is_empty(), "{head}");
}

#[rstest]
#[case("-tls1_3")]
#[case("-tls1_2")]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_is_revoked_does_not_come_in_and_does_not_come_back(#[case] version: &str) {
    let asking = Asking::begin().await;
    let list = asking.clients.revoke(&[]);
    let keys = format!("{}\nclient_revocations = \"{}\"", asking.keys("required"), list.display());
    asking.service.apply(&asking.text(&keys)).await.unwrap();
    let session = asking.service.folder.path().join("session").display().to_string();
    let (to, root) = (asking.at().to_string(), asking.own.root());
    let [certificate, key] = asking.clients.files("thora").map(|file| file.display().to_string());
    let args = [
        "s_client",
        "-connect",
        &to,
        "-CAfile",
        &root,
        "-servername",
        NAME,
        "-ign_eof",
        version,
        "-cert",
        &certificate,
        "-key",
        &key,
    ];
    let first = said(&run("openssl", &[&args[..], &["-sess_out", &session]].concat(), REQUEST));
    assert!(first.contains("New, TLS") && first.contains("Client-Cert: :"), "{first}");
    let again = said(&run("openssl", &[&args[..], &["-sess_in", &session]].concat(), REQUEST));
    assert!(again.contains("Reused, TLS") && again.contains("Client-Cert: :"), "{again}");
    asking.clients.revoke(&["thora"]);
    until("she does not come in", async || {
        asking.as_client(&asking.clients, "thora", &[]).starts_with("curl:")
    })
    .await;
    until("it is said", async || asking.says("a client's certificate was revoked")).await;
    let back = said(&run("openssl", &[&args[..], &["-sess_in", &session]].concat(), REQUEST));
    assert!(!back.contains("Client-Cert: :") && !back.contains("200 OK"), "{back}");
    until("it is said", async || asking.says("was revoked, in a session that it took up again")).await;
    let other = asking.as_client(&asking.clients, "njal", &[]);
    assert!(other.starts_with("GET / HTTP/1.1"), "{other}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clients_of_a_trial_show_a_certificate_of_the_document() {
    let asking = Asking::begin().await;
    let text = document(
        &asking.service,
        &format!("certificates = [\"booking\"]\n{}", asking.keys("required")),
    ) + &asking.own.tables(&["booking"])
        + &asking.clients.tables(&["thora"])
        + &format!(
            "\n[frontends.open]\nprotocol = \"http\"\nlisten = \"{}\"\npool = \"quay\"\ncertificates = [\"booking\"]\n",
            merismos_lab::free::free_address()
        );
    asking.service.apply(&text).await.unwrap();
    asking.service.all_up().await;
    let trial = |frontend: &str, more: &[&str]| {
        let ended = asking.service.merismos(&[&["trial", frontend, "--requests", "20"], more].concat());
        (ended.status.code(), said(&ended))
    };
    for (frontend, more, says) in [
        ("harbour", &[][..], "asks every client for a certificate"),
        ("open", &["--certificate", "thora"], "and open does not"),
        ("harbour", &["--certificate", "njal"], "there is no certificate njal"),
    ] {
        let (code, text) = trial(frontend, more);
        assert!(code == Some(3) && text.contains(says), "{code:?} {text}");
    }
    let (code, text) = trial("harbour", &["--certificate", "thora"]);
    assert!(code == Some(0) && text.contains("20 requests, 0 failed"), "{code:?} {text}");
    // One of another authority does not pass.
    let (code, text) = trial("harbour", &["--certificate", "booking"]);
    assert!(code == Some(1) && text.contains("20 failed"), "{code:?} {text}");
}

/// A client over a connection that it keeps, which gives answers to requests.
fn keeps_connection(asking: &Asking, name: &str, to: SocketAddr) -> Talk {
    let [certificate, key] = asking.clients.files(name).map(|file| file.display().to_string());
    let (to, root) = (to.to_string(), asking.own.root());
    let of_client = ["-cert", &certificate, "-key", &key, "-CAfile", &root, "-servername", NAME];
    Talk::start("openssl", &[&["s_client", "-quiet", "-crlf", "-connect", &to], &of_client[..]].concat())
}

fn is_served(talk: &mut Talk) {
    talk.say("GET / HTTP/1.1\nHost: booking.skerry.example\n");
    while !talk.line().starts_with("gull answers") {}
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_is_revoked_loses_the_connections_that_are_open() {
    let asking = Asking::begin().await;
    let list = asking.clients.revoke(&[]);
    let keys = format!("{}\nclient_revocations = \"{}\"", asking.keys("required"), list.display());
    let line = merismos_lab::free::free_address();
    let shown = format!("pool = \"quay\"\ncertificates = [\"booking\"]\n{keys}\n");
    let text = document(&asking.service, &format!("certificates = [\"booking\"]\n{keys}"))
        + &format!("\n[frontends.line]\nprotocol = \"tcp\"\nlisten = \"{line}\"\n{shown}")
        + &asking.own.tables(&["booking"]);
    asking.service.apply(&text).await.unwrap();
    asking.service.all_up().await;
    let at = [asking.at(), line];
    let [mut of_thora, mut of_njal] =
        ["thora", "njal"].map(|name| at.map(|at| keeps_connection(&asking, name, at)));
    of_thora.iter_mut().chain(&mut of_njal).for_each(is_served);
    asking.clients.revoke(&["thora"]);
    until("hers are over", async || of_thora.iter_mut().all(Talk::is_over)).await;
    of_njal.iter_mut().for_each(is_served);
    until("there is an event", async || {
        let events = asking.service.client().events(50).await.unwrap().events;
        events.iter().any(|event| event.message == "its clients' certificates are judged by new files")
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_list_that_is_not_replaced_in_time_is_an_event() {
    let asking = Asking::begin().await;
    let list = asking.clients.revoke_until(&[], std::time::Duration::from_secs(3));
    let keys = format!("{}\nclient_revocations = \"{}\"", asking.keys("required"), list.display());
    asking.service.apply(&asking.text(&keys)).await.unwrap();
    until("there is an event", async || {
        let events = asking.service.client().events(50).await.unwrap().events;
        let is_overdue =
            |message: &str| message.starts_with("a list of revoked certificates was to be replaced by");
        events
            .iter()
            .filter(|event| event.subject == "frontend harbour" && is_overdue(&event.message))
            .count()
            == 1
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_session_of_a_frontend_that_asks_nobody_opens_none_that_asks() {
    let asking = Asking::begin().await;
    let open = merismos_lab::free::free_address();
    let beside = format!(
        "\n[frontends.open]\nprotocol = \"http\"\nlisten = \"{open}\"\npool = \"quay\"\ncertificates = [\"booking\"]\n"
    );
    asking.service.apply(&(asking.text(&asking.keys("required")) + &beside)).await.unwrap();
    for version in ["-tls1_3", "-tls1_2"] {
        let session = asking.service.folder.path().join(version).display().to_string();
        let root = asking.own.root();
        let ask = |at: SocketAddr, more: &[&str]| {
            let to = at.to_string();
            let args =
                ["s_client", "-connect", &to, "-CAfile", &root, "-servername", NAME, "-ign_eof", version];
            said(&run("openssl", &[&args[..], more].concat(), REQUEST))
        };
        let first = ask(open, &["-sess_out", &session]);
        assert!(first.contains("200 OK"), "{first}");
        let beyond = ask(asking.at(), &["-sess_in", &session]);
        assert!(!beyond.contains("200 OK"), "{version}: {beyond}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_frontend_whose_clients_can_not_be_judged_serves_nobody_until_they_can() {
    let asking = Asking::begin().await;
    asking.service.apply(&asking.text("")).await.unwrap();
    assert!(said(&curl(&asking.own, asking.at(), NAME, &[])).starts_with("GET / HTTP/1.1"));
    let file = asking.service.folder.path().join("clients.pem");
    std::fs::write(&file, "nothing yet\n").unwrap();
    let text = asking
        .text(&format!("client_certificates = \"required\"\nclient_authorities = \"{}\"", file.display()));
    let Err(ClientError::Refused(problem)) = asking.service.apply(&text).await else {
        panic!("it has to be accepted")
    };
    assert!(format!("{problem:?}").contains("the frontend refuses all its clients"), "{problem:?}");
    let mut request = Service::request(&text);
    request.going.accept.push("no-client-trust:frontends.harbour.client_certificates".to_owned());
    asking.service.client().apply(&request).await.unwrap();
    for answer in
        [said(&curl(&asking.own, asking.at(), NAME, &[])), asking.as_client(&asking.clients, "thora", &[])]
    {
        assert!(answer.starts_with("curl:"), "{answer}");
    }
    assert!(asking.says("the authorities for clients in"), "the status says so");
    std::fs::copy(asking.clients.root(), &file).unwrap();
    until("clients come in", async || {
        asking.as_client(&asking.clients, "thora", &[]).starts_with("GET / HTTP/1.1")
    })
    .await;
    // What breaks afterwards changes nothing but the status.
    std::fs::write(&file, "gone\n").unwrap();
    until("it is said", async || asking.says("those before stay")).await;
    assert!(asking.as_client(&asking.clients, "thora", &[]).starts_with("GET / HTTP/1.1"));
}
