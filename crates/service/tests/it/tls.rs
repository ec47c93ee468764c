//! Frontends whose clients speak TLS: real clients, certificates by name, and certificates that are replaced and can't be read.

use std::fs::Permissions;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use merismos_api::{EventKind, FrontendDiagnosis, HandshakeQuery, TrialRequest, TrialState};
use merismos_client::ClientError;
use merismos_core::proof::TrialVerdict;
use merismos_lab::free::free_address;
use merismos_lab::stand_in::{Fault, StandIn};
use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams, CertifiedIssuer, DnType, IsCa,
    KeyIdMethod, KeyPair, RevokedCertParams, SerialNumber,
};
use tokio::task::block_in_place;

use crate::browser::Browser;
use crate::harness::{Service, until};

/// An authority of the test's own, and files of certificates by it.
pub(crate) struct Authority {
    folder: tempfile::TempDir,
    issuer: CertifiedIssuer<'static, KeyPair>,
}

impl Authority {
    pub(crate) fn new() -> Self {
        let mut params = CertificateParams::default();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.distinguished_name.push(DnType::CommonName, "Skerry test root");
        let issuer = CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap();
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("root.pem"), issuer.pem()).unwrap();
        Self { folder, issuer }
    }

    /// The chain and the key that were issued under a name.
    pub(crate) fn files(&self, name: &str) -> [PathBuf; 2] {
        ["pem", "key"].map(|ending| self.folder.path().join(format!("{name}.{ending}")))
    }

    pub(crate) fn root(&self) -> String {
        self.folder.path().join("root.pem").display().to_string()
    }

    /// Makes a certificate for these names; the files are swapped in whole.
    pub(crate) fn issue(&self, name: &str, names: &[&str]) -> [PathBuf; 2] {
        self.issue_for(name, names, Duration::from_secs(90 * 86_400))
    }

    /// As [`Self::issue`], for so long from now.
    pub(crate) fn issue_for(&self, name: &str, names: &[&str], lasts: Duration) -> [PathBuf; 2] {
        let key = KeyPair::generate().unwrap();
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        let mut params = CertificateParams::new(names).unwrap();
        params.not_after = (SystemTime::now() + lasts).into();
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        let certificate = params.signed_by(&key, &self.issuer).unwrap();
        let files = self.files(name);
        for (file, text) in files.iter().zip([certificate.pem(), key.serialize_pem()]) {
            std::fs::write(file.with_extension("new"), text).unwrap();
            std::fs::set_permissions(file.with_extension("new"), Permissions::from_mode(0o600)).unwrap();
            std::fs::rename(file.with_extension("new"), file).unwrap();
        }
        files
    }

    /// Writes a list of revoked certificates: those that were issued under these names.
    pub(crate) fn revoke(&self, names: &[&str]) -> PathBuf {
        self.revoke_until(names, Duration::from_secs(86_400))
    }

    /// As [`Self::revoke`], with the time until the list is to be replaced.
    pub(crate) fn revoke_until(&self, names: &[&str], next: Duration) -> PathBuf {
        let revoked = names.iter().map(|name| {
            let text = std::fs::read(self.folder.path().join(format!("{name}.pem"))).unwrap();
            let (_, pem) = x509_parser::pem::parse_x509_pem(&text).unwrap();
            let serial = pem.parse_x509().unwrap().tbs_certificate.serial.to_bytes_be();
            RevokedCertParams {
                serial_number: SerialNumber::from(serial),
                revocation_time: SystemTime::now().into(),
                reason_code: None,
                invalidity_date: None,
            }
        });
        let now = SystemTime::now();
        let list = CertificateRevocationListParams {
            this_update: (now - Duration::from_secs(3_600)).into(),
            next_update: (now + next).into(),
            crl_number: SerialNumber::from(1_u64),
            issuing_distribution_point: None,
            revoked_certs: revoked.collect(),
            key_identifier_method: KeyIdMethod::Sha256,
        };
        let file = self.folder.path().join("revoked.pem");
        let text = list.signed_by(&self.issuer).unwrap().pem().unwrap();
        std::fs::write(file.with_extension("new"), text).unwrap();
        std::fs::rename(file.with_extension("new"), &file).unwrap();
        file
    }

    /// The digest of a certificate that was issued before, in hexadecimal digits.
    pub(crate) fn sha256(&self, name: &str) -> String {
        let file = self.folder.path().join(format!("{name}.pem"));
        let args = ["x509", "-noout", "-fingerprint", "-sha256", "-in", file.to_str().unwrap()];
        let text = said(&run("openssl", &args, ""));
        let digits = text.trim().rsplit_once('=').unwrap().1;
        digits.replace(':', "").to_lowercase()
    }

    /// The tables of certificates with these names, which were issued before.
    pub(crate) fn tables(&self, certificates: &[&str]) -> String {
        let table = |name: &&str| {
            let at = |ending: &str| self.folder.path().join(format!("{name}.{ending}")).display().to_string();
            format!("\n[certificates.{name}]\nchain = \"file:{}\"\nkey = \"file:{}\"\n", at("pem"), at("key"))
        };
        certificates.iter().map(table).collect()
    }
}

/// The document of the harness, whose frontend has these keys too.
pub(crate) fn document(service: &Service, keys: &str) -> String {
    service.document().replace("[frontends.harbour]", &format!("[frontends.harbour]\n{keys}"))
}

pub(crate) fn run(program: &str, args: &[&str], input: &str) -> Output {
    block_in_place(|| {
        let mut child = Command::new(program)
            .args(args)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap_or_else(|error| panic!("{program}: {error}; `make test` installs it"));
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    })
}

/// Asks with curl for a name, trusting the authority; gives what it printed.
pub(crate) fn curl(authority: &Authority, at: SocketAddr, name: &str, more: &[&str]) -> Output {
    let (resolve, root) = (format!("{name}:{}:127.0.0.1", at.port()), authority.root());
    let url = format!("https://{name}:{}/", at.port());
    let args = ["-sS", "--max-time", "20", "--cacert", &root, "--resolve", &resolve, &url];
    run("curl", &[&args[..], more].concat(), "")
}

pub(crate) fn said(output: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

/// What a handshake of OpenSSL's own client comes to.
fn handshake(authority: &Authority, at: SocketAddr, more: &[&str]) -> String {
    let (to, root) = (at.to_string(), authority.root());
    said(&run("openssl", &[&["s_client", "-connect", &to, "-CAfile", &root], more].concat(), ""))
}

/// A server that answers every request with the head that it got.
pub(crate) fn echo_heads() -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            std::thread::spawn(move || echo(stream));
        }
    });
    address
}

fn echo(mut stream: TcpStream) {
    let mut head = Vec::new();
    let mut byte = [0];
    while stream.read(&mut byte).is_ok_and(|count| count == 1) {
        head.push(byte[0]);
        if head.ends_with(b"\r\n\r\n") {
            let answer = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", head.len());
            if stream.write_all(&[answer.as_bytes(), &head].concat()).is_err() {
                return;
            }
            head.clear();
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clients_of_each_kind_are_served_and_servers_and_cookies_know_that_it_was_tls() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let mut service = Service::with(&["gull"]).await;
    let heads = echo_heads();
    let text = document(&service, "certificates = [\"booking\"]")
        .replace("[pools.quay]", "[pools.quay]\npersistence = \"cookie\"")
        + &format!("\n[pools.quay.servers.heads]\naddress = \"{heads}\"\n")
        + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    service.all_up().await;
    for (version, more) in [("HTTP/1.1", &["--http1.1"][..]), ("HTTP/2", &["--http2"])] {
        let asked = curl(&authority, service.frontend, "booking.skerry.example", &[&["-i"], more].concat());
        let answer = said(&asked);
        assert!(answer.starts_with(&format!("{version} 200")), "{answer}");
        assert!(answer.to_lowercase().contains("httponly; samesite=lax; secure"), "{answer}");
    }
    let mut answer = String::new();
    until("the server that shows heads is asked", async || {
        answer = said(&curl(&authority, service.frontend, "booking.skerry.example", &[]));
        answer.contains("GET / HTTP/1.1")
    })
    .await;
    assert!(answer.contains("X-Forwarded-Proto: https\r\n"), "{answer}");
    assert!(answer.contains("Forwarded: for=127.0.0.1;proto=https;host="), "{answer}");
    // A trial speaks TLS by itself, and asks for a name that the certificate is for.
    let mut trial = service.client().begin_trial(&TrialRequest::of("harbour", 40)).await.unwrap();
    until("the trial is over", async || {
        trial = service.client().trial(trial.id).await.unwrap();
        trial.state != TrialState::Running
    })
    .await;
    let tally = trial.tally.as_ref().unwrap();
    assert_eq!(tally.verdict, TrialVerdict::AsExpected, "{trial:?}");
    let nobody = TrialRequest { host: Some("no name".to_owned()), ..TrialRequest::of("harbour", 1) };
    assert!(matches!(service.client().begin_trial(&nobody).await, Err(ClientError::Refused(_))));
    // Whoever speaks in plain text is told.
    let plain = run("curl", &["-s", "-i", &format!("http://{}/", service.frontend)], "");
    let plain = said(&plain);
    assert!(plain.starts_with("HTTP/1.1 400 ") && plain.contains("use https"), "{plain}");
    // A session is taken up again, in both versions, also after a restart.
    let to = service.frontend.to_string();
    let session = |version: &str, how: &str| {
        let session = service.folder.path().join(version).display().to_string();
        let request = "GET / HTTP/1.1\r\nHost: booking.skerry.example\r\nConnection: close\r\n\r\n";
        said(&run("openssl", &["s_client", "-connect", &to, version, how, &session, "-ign_eof"], request))
    };
    for version in ["-tls1_3", "-tls1_2"] {
        let begun = session(version, "-sess_out");
        assert!(begun.contains("New, TLSv1."), "{begun}");
        let reused = session(version, "-sess_in");
        assert!(reused.contains("Reused, TLSv1."), "{version}: {reused}");
    }
    service.crash_and_restart().await;
    until("clients are served again", async || {
        curl(&authority, service.frontend, "booking.skerry.example", &[]).status.success()
    })
    .await;
    for version in ["-tls1_3", "-tls1_2"] {
        let session = service.folder.path().join(version).display().to_string();
        let reused = said(&run("openssl", &["s_client", "-connect", &to, version, "-sess_in", &session], ""));
        assert!(reused.contains("Reused, TLSv1."), "{version}, after a restart: {reused}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_name_gets_its_certificate_and_unknown_names_what_the_frontend_says() {
    let authority = Authority::new();
    authority.issue("any", &["*.skerry.example"]);
    authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let text = document(&service, "certificates = [\"any\", \"booking\"]\nunknown_name = \"refuse\"")
        + &authority.tables(&["any", "booking"]);
    service.apply(&text).await.unwrap();
    let shown = |name: &str| {
        let all = handshake(&authority, service.frontend, &["-servername", name]);
        (all.contains("Verify return code: 0 (ok)"), all)
    };
    for name in ["booking.skerry.example", "pier.skerry.example"] {
        let (is_right, all) = shown(name);
        assert!(is_right, "{name}: {all}");
        assert!(curl(&authority, service.frontend, name, &[]).status.success(), "{name}");
    }
    for args in [&["-servername", "elsewhere.example"][..], &["-noservername"]] {
        let refused = handshake(&authority, service.frontend, args);
        assert!(refused.contains("unrecognized name"), "{args:?}: {refused}");
    }
    // The first certificate is for all others when the frontend does not refuse, and its client says what is wrong.
    service.apply(&text.replace("\nunknown_name = \"refuse\"", "")).await.unwrap();
    assert!(shown("elsewhere.example").0, "the chain is right");
    let warned = curl(&authority, service.frontend, "elsewhere.example", &[]);
    assert!(said(&warned).contains("no alternative certificate subject name matches"), "{warned:?}");
    // Versions.
    let old = ["-servername", "booking.skerry.example", "-tls1_2"];
    assert!(handshake(&authority, service.frontend, &old).contains("Protocol  : TLSv1.2"));
    let modern = text.replace("unknown_name = \"refuse\"", "tls_policy = \"modern\"");
    service.apply(&modern).await.unwrap();
    let refused = handshake(&authority, service.frontend, &old);
    assert!(refused.contains("alert protocol version"), "{refused}");
    assert!(shown("booking.skerry.example").1.contains("TLSv1.3"));
    // Ciphers: those that are named, in their order, and no others.
    let ciphers = "tls_ciphers = [\"TLS_CHACHA20_POLY1305_SHA256\", \"TLS_AES_128_GCM_SHA256\", \"TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256\"]";
    service.apply(&text.replace("unknown_name = \"refuse\"", ciphers)).await.unwrap();
    assert!(shown("booking.skerry.example").1.contains("Cipher is TLS_CHACHA20_POLY1305_SHA256"));
    let named = [&old[..], &["-cipher", "ECDHE-ECDSA-CHACHA20-POLY1305"]].concat();
    assert!(
        handshake(&authority, service.frontend, &named).contains("Cipher is ECDHE-ECDSA-CHACHA20-POLY1305")
    );
    let other = [&old[..], &["-cipher", "ECDHE-ECDSA-AES128-GCM-SHA256"]].concat();
    let refused = handshake(&authority, service.frontend, &other);
    assert!(refused.contains("alert handshake failure"), "{refused}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_certificate_is_replaced_under_open_connections_and_a_wrong_one_is_not_taken() {
    let authority = Authority::new();
    let [chain, key] = authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let text = document(&service, "certificates = [\"booking\"]") + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    let shown = async || service.client().certificates().await.unwrap().certificates.remove(0);
    let first = shown().await;
    assert_eq!(first.names, ["booking.skerry.example"]);
    assert_eq!((first.frontends.as_slice(), &first.problem), (&["harbour".to_owned()][..], &None));
    let listed = service.merismos(&["certificate", "status"]);
    assert!(String::from_utf8(listed.stdout).unwrap().contains("booking.skerry.example"));
    // A client that stays connected all the while.
    let to = service.frontend.to_string();
    let mut kept = Command::new("openssl")
        .args(["s_client", "-connect", &to, "-quiet", "-CAfile", &authority.root()])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut ask = || {
        let request = "GET / HTTP/1.1\r\nHost: booking.skerry.example\r\n\r\n";
        kept.stdin.as_mut().unwrap().write_all(request.as_bytes()).unwrap();
        let (out, mut got) = (kept.stdout.as_mut().unwrap(), Vec::new());
        let mut piece = [0; 4_096];
        while !String::from_utf8_lossy(&got).contains("gull") {
            let count = block_in_place(|| out.read(&mut piece)).unwrap();
            assert!(count > 0, "the connection is there");
            got.extend_from_slice(&piece[..count]);
        }
    };
    ask();
    let issued = handshake(&authority, service.frontend, &["-servername", "booking.skerry.example"]);
    authority.issue("booking", &["booking.skerry.example", "www.skerry.example"]);
    until("it is replaced", async || shown().await.sha256 != first.sha256).await;
    assert_eq!(shown().await.names.len(), 2);
    assert!(curl(&authority, service.frontend, "www.skerry.example", &[]).status.success());
    let renewed = handshake(&authority, service.frontend, &["-servername", "booking.skerry.example"]);
    let body = |text: &str| text.split("-----BEGIN").nth(1).unwrap().to_owned();
    assert_ne!(body(&issued), body(&renewed));
    ask();
    // A key of another pair: what was there stays, and that is told.
    let [_, other] = authority.issue("other", &["booking.skerry.example"]);
    std::fs::copy(&other, &key).unwrap();
    let trouble = async || {
        let troubles = service.status().await.troubles;
        troubles.into_iter().find(|trouble| trouble.starts_with("certificate booking can't be shown"))
    };
    until("it is a headline", async || trouble().await.is_some()).await;
    assert!(trouble().await.unwrap().contains("the key is not the one of the certificate"));
    assert!(curl(&authority, service.frontend, "www.skerry.example", &[]).status.success());
    ask();
    assert_eq!(service.merismos(&["certificate", "status"]).status.code(), Some(1));
    let events = service.client().events(50).await.unwrap().events;
    let of: Vec<_> = events.iter().filter(|event| event.kind == EventKind::Certificate).collect();
    assert_eq!(of.len(), 2, "{of:?}");
    assert!(of.iter().all(|event| event.subject == "certificate booking"));
    authority.issue("booking", &["booking.skerry.example"]);
    until("it is mended", async || trouble().await.is_none()).await;
    assert!(Path::new(&chain).exists());
    let _ = kept.kill();
    let _ = kept.wait();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_certificate_that_can_not_be_shown_is_told_before_it_goes_live() {
    let authority = Authority::new();
    let [chain, key] = authority.issue("booking", &["booking.skerry.example"]);
    let [_, other] = authority.issue("other", &["booking.skerry.example"]);
    std::fs::copy(&other, &key).unwrap();
    let service = Service::with(&["gull"]).await;
    let text = document(&service, "certificates = [\"booking\"]") + &authority.tables(&["booking"]);
    let Err(ClientError::Refused(problem)) = service.apply(&text).await else { panic!("it is refused") };
    assert!(format!("{problem:?}").contains("the key is not the one of the certificate"), "{problem:?}");
    std::fs::remove_file(&chain).unwrap();
    let mut request = Service::request(&text);
    request.going.accept = vec!["bad-certificate:certificates.booking".to_owned()];
    service.client().apply(&request).await.unwrap();
    let refused = handshake(&authority, service.frontend, &["-servername", "booking.skerry.example"]);
    assert!(refused.contains("alert internal error"), "nobody is served in plain text: {refused}");
    authority.issue("booking", &["booking.skerry.example"]);
    until("it is there", async || {
        curl(&authority, service.frontend, "booking.skerry.example", &[]).status.success()
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_lab_has_a_certificate_at_once_and_keeps_it_over_a_restart() {
    let mut service = Service::with(&["gull"]).await;
    let text = document(&service, "certificates = [\"lab\"]")
        + "\n[certificates.lab]\nself_signed = [\"lab.skerry.example\", \"127.0.0.1\"]\n";
    service.apply(&text).await.unwrap();
    let shown =
        async |service: &Service| service.client().certificates().await.unwrap().certificates.remove(0);
    let first = shown(&service).await;
    assert!(first.is_self_signed && first.days_left.unwrap() > 390, "{first:?}");
    let file = service.folder.path().join("state/certificates/lab.pem");
    let asked = ["-sS", "--cacert", file.to_str().unwrap(), &format!("https://{}/", service.frontend)];
    let answer = said(&run("curl", &asked, ""));
    assert!(answer.starts_with("gull"), "{answer}");
    service.crash_and_restart().await;
    service.all_up().await;
    assert_eq!(shown(&service).await.sha256, first.sha256);
    assert!(said(&run("curl", &asked, "")).starts_with("gull"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn tcp_frontends_end_tls_before_plain_servers() {
    let authority = Authority::new();
    authority.issue("line", &["line.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let (line, heads) = (free_address(), echo_heads());
    let text = service.document()
        + &format!(
            "\n[pools.heads]\ncheck = \"open\"\n[pools.heads.servers.one]\naddress = \"{heads}\"\n[checks.open]\nkind = \"tcp\"\n\
             [frontends.line]\nprotocol = \"tcp\"\nlisten = \"{line}\"\npool = \"heads\"\ncertificates = [\"line\"]\n"
        )
        + &authority.tables(&["line"]);
    service.apply(&text).await.unwrap();
    until("it is served", async || curl(&authority, line, "line.skerry.example", &[]).status.success()).await;
    let answer = said(&curl(&authority, line, "line.skerry.example", &["--http1.1"]));
    assert!(answer.contains("GET / HTTP/1.1\r\nHost: line.skerry.example"), "{answer}");
    assert!(!answer.contains("X-Forwarded"), "bytes are passed on as they came: {answer}");
    let plain = run("curl", &["-s", "--max-time", "10", &format!("http://{line}/")], "");
    assert!(!plain.status.success(), "nobody is served in plain text");
    // What is larger than a record goes through whole.
    let header = format!("X-Long: {}", "y".repeat(60_000));
    let answer = curl(&authority, line, "line.skerry.example", &["--http1.1", "-H", &header]);
    assert_eq!(
        said(&answer).matches('y').count(),
        60_000 + said(&answer).matches("skerry").count(),
        "{}",
        answer.stdout.len()
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn why_clients_do_not_come_through_is_counted_and_said() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let (plain, slow) = (free_address(), free_address());
    let frontend = |name: &str, listen: SocketAddr, keys: &str| {
        format!("\n[frontends.{name}]\nprotocol = \"http\"\nlisten = \"{listen}\"\npool = \"quay\"\n{keys}\n")
    };
    let keys = "certificates = [\"booking\"]\nunknown_name = \"refuse\"\ntls_policy = \"modern\"";
    let impatient = "certificates = [\"booking\"]\nhandshake_timeout = \"300ms\"";
    let text = document(&service, keys)
        + &frontend("plain", plain, "")
        + &frontend("slow", slow, impatient)
        + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    let status = async |name: &str| {
        let frontends = service.status().await.frontends;
        frontends.into_iter().find(|frontend| frontend.name == name).unwrap()
    };
    let is_said = async |name: &str, part: &str| {
        until(part, async || status(name).await.bad_handshake.is_some_and(|why| why.contains(part))).await;
    };
    // The certificate's name is right, and nobody trusts its authority.
    let port = service.frontend.port();
    let resolve = format!("booking.skerry.example:{port}:127.0.0.1");
    let url = format!("https://booking.skerry.example:{port}/");
    assert!(!run("curl", &["-sS", "--resolve", &resolve, &url], "").status.success());
    is_said("harbour", "a client does not trust the authority of the certificate").await;
    handshake(&authority, service.frontend, &["-servername", "elsewhere.example"]);
    is_said("harbour", "a client asked for elsewhere.example, of which there is no certificate").await;
    handshake(&authority, service.frontend, &["-servername", "booking.skerry.example", "-tls1_2"]);
    is_said("harbour", "no version, cipher or key exchange in common").await;
    assert_eq!(status("harbour").await.bad_handshakes, 3);
    assert!(curl(&authority, service.frontend, "booking.skerry.example", &[]).status.success());
    assert_eq!(status("harbour").await.handshakes, 1);
    // TLS where there is none, and plain text where TLS is.
    let alert = handshake(&authority, plain, &["-servername", "booking.skerry.example"]);
    assert!(alert.contains("handshake failure"), "{alert}");
    run("curl", &["-s", &format!("http://{}/", service.frontend)], "");
    assert_eq!((status("plain").await.wrong_protocol, status("harbour").await.wrong_protocol), (1, 1));
    let shown = String::from_utf8(service.merismos(&["status"]).stdout).unwrap();
    assert!(shown.contains("plain: 1 spoke TLS in the last 60 s, and it has no certificates"), "{shown}");
    assert!(
        shown.contains("harbour: 3 TLS handshakes failed in the last 60 s, and 1 did not; the last one: "),
        "{shown}"
    );
    // Who greets byte by byte is let go, and so is who never ends its greeting.
    let mut dawdling = TcpStream::connect(slow).unwrap();
    dawdling.write_all(&[22, 3, 1, 2, 0, 1]).unwrap();
    let mut rest = Vec::new();
    block_in_place(|| dawdling.read_to_end(&mut rest)).unwrap();
    is_said("slow", "a client took longer than 300ms").await;
    // A whole greeting, and nothing behind it.
    let mut stalling = TcpStream::connect(slow).unwrap();
    let config =
        rustls::ClientConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_root_certificates(rustls::RootCertStore::empty())
            .with_no_client_auth();
    let name = "booking.skerry.example".try_into().unwrap();
    rustls::ClientConnection::new(Arc::new(config), name).unwrap().write_tls(&mut stalling).unwrap();
    block_in_place(|| stalling.read_to_end(&mut rest)).unwrap();
    until("it is counted too", async || status("slow").await.bad_handshakes == 2).await;
    // Nonsense behind the first byte, and a record that is larger than any.
    for nonsense in [&[22, 9, 9, 255, 255, 1, 0][..], &[22, 3, 1, 0, 4, 1, 0, 0, 0]] {
        let mut client = TcpStream::connect(service.frontend).unwrap();
        client.write_all(nonsense).unwrap();
        let mut answer = Vec::new();
        block_in_place(|| client.read_to_end(&mut answer)).unwrap();
        assert_eq!(answer.first(), Some(&21), "an alert: {answer:?}");
    }
    assert!(curl(&authority, service.frontend, "booking.skerry.example", &[]).status.success());
}

/// A server that answers every connection with this and closes it.
fn says(answer: &'static [u8]) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().map_while(Result::ok) {
            let mut head = [0; 4_096];
            let _ = stream.read(&mut head);
            let _ = stream.write_all(answer);
        }
    });
    address
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_end_is_told_from_a_break() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let pools: [(&str, &[u8]); 3] = [
        ("whole", b"HTTP/1.0 200 OK\r\n\r\nuntil the end"),
        ("counted", b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nten bytes."),
        ("chunked", b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nA\r\nten bytes.\r\n"),
    ];
    let frontends = pools.map(|(name, answer)| (name, says(answer), free_address()));
    let tables = frontends.map(|(name, server, listen)| {
        format!(
            "\n[pools.{name}]\ncheck = \"open\"\nattempts = 1\n[pools.{name}.servers.one]\naddress = \"{server}\"\n[frontends.{name}]\n\
             protocol = \"http\"\nlisten = \"{listen}\"\npool = \"{name}\"\ncertificates = [\"booking\"]\n"
        )
    });
    let text = service.document()
        + "\n[checks.open]\nkind = \"tcp\"\n"
        + &tables.concat()
        + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    for (name, _, listen) in frontends {
        let server = format!("{name}/one").parse().unwrap();
        until("it is up", async || service.client().server(&server).await.unwrap().eligible).await;
        let got = curl(&authority, listen, "booking.skerry.example", &["--http1.1"]);
        if name == "whole" {
            assert!(got.status.success(), "{name}: {}", said(&got));
            assert_eq!(said(&got), "until the end");
        } else {
            assert!(!got.status.success(), "{name}: a part is not taken for the whole: {}", said(&got));
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn plain_text_is_sent_to_tls_and_browsers_are_held_to_it() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let plain = free_address();
    let redirecting = |keys: &str| {
        document(&service, "certificates = [\"booking\"]\nhsts_age = \"5m\"")
            .replace("[pools.quay]", "[pools.quay]\npersistence = \"cookie\"")
            + &format!(
                "\n[frontends.plain]\nprotocol = \"http\"\nlisten = \"{plain}\"\npool = \"quay\"\nredirect_to_https = {}\n{keys}\n",
                service.frontend.port()
            )
            + &authority.tables(&["booking"])
    };
    service.apply(&redirecting("")).await.unwrap();
    // A client that follows gets there, with its path, and keeps its method.
    let (from, to) = (plain.port(), service.frontend.port());
    let name = "booking.skerry.example";
    let resolve = [from, to].map(|port| format!("{name}:{port}:127.0.0.1"));
    let url = format!("http://{name}:{from}/fares?to=thora");
    let root = authority.root();
    let args = ["-sS", "--cacert", &root, "--resolve", &resolve[0], "--resolve", &resolve[1]];
    let shown = said(&run("curl", &[&args[..], &["-i", &url]].concat(), ""));
    assert!(shown.starts_with("HTTP/1.1 308 Permanent Redirect\r\n"), "{shown}");
    assert!(shown.contains(&format!("Location: https://{name}:{to}/fares?to=thora\r\n")), "{shown}");
    assert!(shown.contains("Cache-Control: no-store\r\n"), "{shown}");
    for more in [&["-L", "-d", "ferry=Thora"][..], &["-L", "--http2-prior-knowledge"]] {
        let code = ["-o", "/dev/null", "-w", "%{http_code} %{num_redirects} %{method}"];
        let followed = said(&run("curl", &[&args[..], more, &code, &[&url]].concat(), ""));
        assert!(followed.starts_with("200 1 "), "{more:?}: {followed}");
        assert_eq!(followed.ends_with("POST"), more.contains(&"-d"), "{followed}");
    }
    let old = said(&run("curl", &[&args[..], &["-i", "--http1.0", "-H", "Host:", &url]].concat(), ""));
    assert!(old.starts_with("HTTP/1.1 400 "), "{old}");
    let frontend = async |name: &str| {
        let frontends = service.status().await.frontends;
        frontends.into_iter().find(|frontend| frontend.name == name).unwrap()
    };
    let status = frontend("plain").await;
    assert_eq!((status.redirects, status.redirected), (true, 3));
    let explained = String::from_utf8(service.merismos(&["explain", "plain"]).stdout).unwrap();
    assert!(explained.contains(&format!("redirected to https at port {to} (status 308)")), "{explained}");
    let tried = service.client().begin_trial(&TrialRequest::of("plain", 10)).await;
    let Err(ClientError::Refused(problem)) = tried else { panic!("no server would get it") };
    assert!(format!("{problem:?}").contains("try the frontend that speaks TLS there"), "{problem:?}");
    // The field stands beside a cookie, and in HTTP/2.
    for version in ["--http1.1", "--http2"] {
        let answer = said(&curl(&authority, service.frontend, name, &["-i", version])).to_lowercase();
        assert!(answer.contains("strict-transport-security: max-age=300\r\n"), "{answer}");
        assert!(answer.contains("set-cookie: "), "{answer}");
    }
    // Responses of our own hold browsers to it as well.
    let out = ["withdraw", "quay/gull", "--reason", "new disk", "--anyway"];
    assert!(service.merismos(&out).status.success());
    for version in ["--http1.1", "--http2"] {
        let url = format!("https://{name}:{to}/");
        let own = said(&run("curl", &[&args[..], &["-i", version, &url]].concat(), "")).to_lowercase();
        assert!(own.contains(" 503"), "{own}");
        assert!(own.contains("strict-transport-security: max-age=300\r\n"), "{own}");
    }
    assert!(service.merismos(&["return", "quay/gull", "--at-once"]).status.success());
    let temporary = redirecting("redirect_status = \"307\"");
    service.apply(&temporary).await.unwrap();
    let shown = said(&run("curl", &[&args[..], &["-i", &url]].concat(), ""));
    assert!(shown.starts_with("HTTP/1.1 307 Temporary Redirect\r\n"), "{shown}");
    // What can't be taken back has to be accepted.
    let long = temporary.replace("hsts_age = \"5m\"", "hsts_age = \"8760h\"\nhsts_subdomains = true");
    let Err(ClientError::Refused(problem)) = service.apply(&long).await else { panic!("it is refused") };
    assert!(format!("{problem:?}").contains("and all names below them for 8760h"), "{problem:?}");
    // Where nobody could follow, or believe it, it is a mistake.
    for (wrong, says) in [
        (
            temporary.replace("redirect_to_https", "hsts_age = \"5m\"\nredirect_to_https"),
            "browsers believe it over TLS alone",
        ),
        (temporary.replace("hsts_age = \"5m\"", "redirect_to_https = 443"), "would be sent in a circle"),
    ] {
        let Err(ClientError::Refused(problem)) = service.apply(&wrong).await else { panic!("{says}") };
        assert!(format!("{problem:?}").contains(says), "{problem:?}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn people_are_reminded_of_an_end_and_told_of_files_that_can_not_be_shown() {
    let authority = Authority::new();
    let week = Duration::from_secs(7 * 86_400);
    let [_, key] = authority.issue_for("booking", &["booking.skerry.example"], week + Duration::from_secs(8));
    let service = Service::with(&["gull"]).await;
    let bell = StandIn::for_posts("bell", free_address()).unwrap();
    let changes = "changes = [\"certificate-ends\", \"certificate-fails\"]";
    let text = document(&service, "certificates = [\"booking\"]")
        + &format!(
            "\n[notifications.bell]\nwebhook = \"http://{}/\"\nbatch_window = \"100ms\"\nmin_interval = \"1s\"\n{changes}\n",
            bell.address
        )
        + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    let told = |part: &str| bell.inbox().iter().filter(|message| message.text.contains(part)).count();
    until("it is told", async || told("ends in 7 days") == 1).await;
    let ended = &service.status().await.troubles;
    assert!(ended.iter().any(|trouble| trouble.contains("certificate booking ends in 6 d")), "{ended:?}");
    std::fs::write(&key, "no key").unwrap();
    until("that is told too", async || told("can't be shown: the key can't be read") == 1).await;
    assert_eq!(told("ends in 7 days"), 1, "nobody is told twice");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_client_is_shown_is_tried_with_each_reason_for_a_warning() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    authority.issue("any", &["*.skerry.example"]);
    let mut service = Service::with(&["gull"]).await;
    let plain = free_address();
    let text =
        document(&service, "certificates = [\"booking\", \"any\", \"lab\"]\nunknown_name = \"refuse\"")
            + &format!("\n[frontends.plain]\nprotocol = \"http\"\nlisten = \"{plain}\"\npool = \"quay\"\n")
            + "\n[certificates.lab]\nself_signed = [\"lab.example\"]\n"
            + &authority.tables(&["booking", "any"]);
    service.apply(&text).await.unwrap();
    let ask = async |service: &Service, host: &str, frontend: Option<&str>| {
        let query = HandshakeQuery { host: host.to_owned(), frontend: frontend.map(str::to_owned) };
        let mut found = service.client().handshakes(&query).await.unwrap().handshakes;
        assert_eq!(found.len(), 1, "{found:?}");
        found.remove(0)
    };
    // Nobody vouches for it on this machine, and its authority was not sent.
    let shown = ask(&service, "booking.skerry.example", None).await;
    assert_eq!(
        (shown.version.as_deref(), shown.protocol.as_deref(), shown.certificate.as_deref()),
        (Some("TLS 1.3"), Some("h2"), Some("booking"))
    );
    assert_eq!(
        (shown.chain[0].names.as_slice(), shown.chain[0].key.as_str()),
        (&["booking.skerry.example".to_owned()][..], "ECDSA P-256")
    );
    let [why] = shown.reasons.as_slice() else { panic!("{shown:?}") };
    assert!(why.contains("neither sent nor among this machine's authorities"), "{why}");
    let said = service.merismos(&["certificate", "try", "booking.skerry.example"]);
    assert_eq!(said.status.code(), Some(1));
    let said = String::from_utf8(said.stdout).unwrap();
    assert!(said.contains("frontend harbour") && said.contains(why.as_str()), "{said}");
    // A service that trusts the authority has nothing to say.
    service.trust(authority.root().into());
    service.crash_and_restart().await;
    for (host, certificate) in [("booking.skerry.example", "booking"), ("pier.skerry.example", "any")] {
        let shown = ask(&service, host, Some("harbour")).await;
        assert_eq!((shown.certificate.as_deref(), shown.reasons.as_slice()), (Some(certificate), &[][..]));
    }
    let said = service.merismos(&["certificate", "try", "pier.skerry.example"]);
    assert_eq!(said.status.code(), Some(0), "{said:?}");
    // The console says the same.
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/certificates").await;
    for (host, says) in
        [("pier.skerry.example", "takes it without a warning"), ("lab.example", "nobody vouches for it")]
    {
        browser.type_over("[data-testid=try-host]", host).await;
        browser.press("Try it").await;
        let shown = async || browser.text("[data-testid=handshakes]").await;
        until(says, async || shown().await.contains(host) && shown().await.contains(says)).await;
    }
    let complaints = browser.complaints().await;
    assert!(complaints.is_empty(), "{complaints:#?}");
    browser.end().await;
    let own = ask(&service, "lab.example", None).await;
    assert_eq!(own.reasons, ["the certificate was signed with its own key: nobody vouches for it"]);
    // A name that is refused, one that would get the first certificate, and plain text.
    let refused = ask(&service, "elsewhere.example", None).await;
    assert!(
        refused.reasons[0].contains("alert unrecognized_name") && refused.chain.is_empty(),
        "{refused:?}"
    );
    let spoken = ask(&service, "booking.skerry.example", Some("plain")).await;
    assert_eq!(spoken.reasons, ["it has no certificates: its clients speak plain text"]);
    service.apply(&text.replace("\nunknown_name = \"refuse\"", "")).await.unwrap();
    let other = ask(&service, "elsewhere.example", None).await;
    assert_eq!(
        other.reasons,
        ["the certificate is for booking.skerry.example, and not for elsewhere.example"]
    );
    // What ended is told beside what else is wrong.
    authority.issue_for("booking", &["booking.skerry.example"], Duration::ZERO);
    until("it is shown", async || {
        let shown = ask(&service, "elsewhere.example", None).await;
        shown.reasons.len() == 2 && shown.reasons[1].starts_with("the certificate ended on ")
    })
    .await;
    for wrong in ["no name", ""] {
        let query = HandshakeQuery { host: wrong.to_owned(), frontend: None };
        assert!(service.client().handshakes(&query).await.is_err(), "{wrong:?}");
    }
    let nobody = HandshakeQuery { host: "a.example".to_owned(), frontend: Some("pier".to_owned()) };
    assert!(service.client().handshakes(&nobody).await.is_err());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_frontend_is_diagnosed_as_its_clients_meet_it() {
    let authority = Authority::new();
    authority.issue("booking", &["localhost", "booking.skerry.example"]);
    let mut service = Service::bare(crate::harness::Database::shared(), &["gull"]).await;
    service.trust(authority.root().into());
    service.crash_and_restart().await;
    let (plain, feed) = (free_address(), free_address());
    let text = document(&service, "certificates = [\"booking\"]")
        + &format!(
            "\n[frontends.plain]\nprotocol = \"http\"\nlisten = \"{plain}\"\npool = \"quay\"\nredirect_to_https = {}\n\
             [frontends.feed]\nprotocol = \"udp\"\nlisten = \"{feed}\"\npool = \"quay\"\n",
            service.frontend.port()
        )
        + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    service.all_up().await;
    let ask = async |frontend: &str, host: Option<&str>| {
        service.client().diagnose_frontend(&frontend.parse().unwrap(), host).await.unwrap()
    };
    let failed = |found: &FrontendDiagnosis| {
        let failed = found.steps.iter().find(|step| !step.works);
        failed.map(|step| (step.what.clone(), step.observed.clone()))
    };
    // All is well: the name is the machine's own.
    let well = ask("harbour", Some("localhost")).await;
    assert!(well.works && well.message.contains("over TLS, without a warning"), "{well:#?}");
    let steps: Vec<&str> = well.steps.iter().map(|step| step.what.as_str()).collect();
    assert_eq!(
        steps,
        [
            "the name",
            "the address",
            "the port",
            "the handshake",
            "the certificate",
            "the answer",
            "the pools"
        ]
    );
    let redirected = ask("plain", None).await;
    assert!(redirected.works, "{redirected:#?}");
    assert!(redirected.steps.iter().any(|step| step.observed.contains("status 308: redirected to https")));
    assert!(ask("feed", None).await.works);
    // A name that no certificate is for, and that leads nowhere.
    let other = ask("harbour", Some("elsewhere.invalid")).await;
    assert_eq!(failed(&other).unwrap().0, "the name");
    let warned: Vec<_> =
        other.steps.iter().filter(|step| !step.works).map(|step| step.what.as_str()).collect();
    assert_eq!(warned, ["the name", "the certificate"]);
    let said = service.merismos(&["diagnose", "harbour", "--host", "elsewhere.invalid"]);
    assert_eq!(said.status.code(), Some(1));
    let said = String::from_utf8(said.stdout).unwrap();
    assert!(
        said.contains("Clients can't find elsewhere.invalid") && said.contains("the certificate"),
        "{said}"
    );
    // No server can have the work.
    service.stand_ins[0].set(Fault::Refuse).await;
    let down = async || {
        let found = ask("harbour", None).await;
        let failed = found.steps.iter().filter(|step| !step.works);
        failed.map(|step| format!("{}: {}", step.what, step.observed)).collect::<Vec<_>>()
    };
    let both = ["the answer: status 503 for /", "the pools: quay: 0 of 1 servers eligible"];
    until("nobody can", async || down().await == both).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clients_with_too_many_handshakes_at_once_are_cut_off_and_the_status_says_so() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let text = document(&service, "certificates = [\"booking\"]\nclient_handshake_limit = 1")
        + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    // Each worker has room for one that says nothing.
    let mut silent: Vec<TcpStream> = (0..8).map(|_| TcpStream::connect(service.frontend).unwrap()).collect();
    for stream in &silent {
        stream.set_nonblocking(true).unwrap();
    }
    let open = |silent: &[TcpStream]| {
        let is_open = |stream: &&TcpStream| {
            stream.peek(&mut [0]).is_err_and(|error| error.kind() == std::io::ErrorKind::WouldBlock)
        };
        silent.iter().filter(is_open).count()
    };
    until("all but one of each worker are cut off", async || (1..=2).contains(&open(&silent))).await;
    let status = String::from_utf8(service.merismos(&["status"]).stdout).unwrap();
    assert!(
        status.contains("127.0.0.1 has 1 under way in a worker already (client_handshake_limit)"),
        "{status}"
    );
    silent.clear();
    until("others come through again", async || {
        said(&curl(&authority, service.frontend, "booking.skerry.example", &[])).starts_with("gull")
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_key_that_every_user_can_read_is_a_headline_until_none_can() {
    let authority = Authority::new();
    let [_, key] = authority.issue("booking", &["booking.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let text = document(&service, "certificates = [\"booking\"]") + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    let is_said = || {
        let status = String::from_utf8(service.merismos(&["status"]).stdout).unwrap();
        status.contains("certificate booking: every user of this machine can read its key")
    };
    assert!(!is_said());
    std::fs::set_permissions(&key, Permissions::from_mode(0o644)).unwrap();
    until("it is said", async || is_said()).await;
    assert!(!service.merismos(&["certificate", "status"]).status.success());
    std::fs::set_permissions(&key, Permissions::from_mode(0o640)).unwrap();
    until("it is over", async || !is_said()).await;
    let events = service.client().events(20).await.unwrap().events;
    for says in
        ["every user of this machine can read its key", "its key can be read by its owner alone again"]
    {
        assert!(events.iter().any(|event| event.message.contains(says)), "{says}: {events:?}");
    }
}
