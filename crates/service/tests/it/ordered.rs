//! Certificates that are ordered from an authority: a stand-in that looks at the real frontends, and at a real name server.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use merismos_api::{CertificateOrder, CertificateView, EventKind};
use merismos_client::ClientError;
use merismos_core::time::Wall;
use merismos_lab::authority::AuthorityOptions;
use merismos_lab::free::free_address;
use merismos_lab::stand_in::{Fault, StandIn};
use rstest::rstest;
use tempfile::TempDir;

use crate::harness::{Database, Service, until};
use crate::tls::{document, run, said};

const NAME: &str = "booking.skerry.example";

/// The stand-in, which looks at the frontends of a service.
struct OrderedFrom {
    stand_in: Option<StandIn>,
    options: AuthorityOptions,
    _folder: TempDir,
}

impl OrderedFrom {
    fn looking_at(http: SocketAddr, tls: SocketAddr) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let options = AuthorityOptions {
            listen: free_address(),
            root: folder.path().join("root.pem"),
            http: Some(http),
            tls: Some(tls),
            dns: None,
            hours: 90 * 24,
            renew_after_hours: None,
        };
        let stand_in = StandIn::for_certificates("lighthouse", &options).unwrap();
        Self { stand_in: Some(stand_in), options, _folder: folder }
    }

    fn root(&self) -> &Path {
        &self.options.root
    }

    /// Begins anew, with other options: it has forgotten all but its root.
    async fn restart(&mut self) {
        self.stand_in = None;
        until("the port is free again", async || {
            let started = StandIn::for_certificates("lighthouse", &self.options);
            self.stand_in = started.ok();
            self.stand_in.is_some()
        })
        .await;
    }

    async fn fails(&self, fault: Fault) {
        self.stand_in.as_ref().unwrap().set(fault).await;
    }

    /// The table of the authority, with more keys.
    fn table(&self, keys: &str) -> String {
        let (at, root) = (self.options.listen, self.root().display());
        format!(
            "\n[authorities.lighthouse]\ndirectory = \"https://{at}/directory\"\ndirectory_authorities = \"{root}\"\nterms_agreed = true\n{keys}\n"
        )
    }

    /// What a client gets that trusts its root.
    fn get(&self, at: SocketAddr, name: &str) -> String {
        let (resolve, root) = (format!("{name}:{}:127.0.0.1", at.port()), self.root().display().to_string());
        let url = format!("https://{name}:{}/", at.port());
        said(&run("curl", &["-sS", "--max-time", "20", "--cacert", &root, "--resolve", &resolve, &url], ""))
    }
}

fn certificate(names: &[&str]) -> String {
    format!("\n[certificates.booking]\nauthority = \"lighthouse\"\nnames = {names:?}\n")
}

/// A frontend of plain text, which redirects everything but what authorities ask.
fn plain(at: SocketAddr) -> String {
    format!(
        "\n[frontends.plain]\nprotocol = \"http\"\nlisten = \"{at}\"\npool = \"quay\"\nredirect_to_https = 443\n"
    )
}

async fn shown(service: &Service) -> CertificateView {
    let all = service.client().certificates().await.unwrap().certificates;
    all.into_iter().find(|view| view.name == "booking").unwrap()
}

async fn is_issued(service: &Service) -> CertificateView {
    until("the certificate is issued", async || shown(service).await.sha256.is_some()).await;
    shown(service).await
}

async fn renewed(service: &Service) -> Result<CertificateView, ClientError> {
    let name = "booking".parse().unwrap();
    service.client().order_certificate(&name, CertificateOrder { renew: true }).await
}

#[rstest]
#[case::by_a_request("challenge = \"http-01\"", &[NAME, "127.0.0.1"])]
#[case::by_a_handshake("challenge = \"tls-alpn-01\"", &[NAME, "www.skerry.example"])]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_certificate_is_ordered_by_itself_shown_renewed_and_kept(
    #[case] challenge: &str,
    #[case] names: &[&str],
) {
    let at = free_address();
    let mut service = Service::with(&["gull"]).await;
    let mut authority = OrderedFrom::looking_at(at, service.frontend);
    let text = document(&service, "certificates = [\"booking\"]")
        + &plain(at)
        + &authority.table(challenge)
        + &certificate(names);
    service.apply(&text).await.unwrap();
    let first = is_issued(&service).await;
    assert_eq!(first.authority.as_deref(), Some("lighthouse"));
    assert_eq!((&first.problem, &first.order_failure), (&None, &None));
    let mut found = first.names.clone();
    found.sort_unstable();
    let mut wanted = names.to_vec();
    wanted.sort_unstable();
    assert_eq!(found, wanted);
    let days = (first.next_order.unwrap().0 - first.not_before.unwrap().0) / 86_400_000;
    assert!((56..=60).contains(&days), "{days}: two thirds of 90 days, or a little before");
    for name in names {
        until("a client that trusts the root takes it", async || {
            authority.get(service.frontend, name).starts_with("gull")
        })
        .await;
    }
    let events = service.client().events(100).await.unwrap().events;
    let says = |part: &str| {
        let of_certificates = events.iter().filter(|event| event.kind == EventKind::Certificate);
        of_certificates.filter(|event| event.message.contains(part)).count()
    };
    assert_eq!(says("was issued by authority lighthouse"), 1, "{events:#?}");
    // What is asked for again and again holds, and is not ordered; by hand it is renewed.
    let refused = service.merismos(&["certificate", "order", "booking"]);
    assert!(!refused.status.success() && said(&refused).contains("holds until"), "{}", said(&refused));
    let again = service.merismos(&["certificate", "renew", "booking"]);
    assert!(again.status.success() && said(&again).contains("was issued"), "{}", said(&again));
    let second = shown(&service).await;
    assert_ne!(second.sha256, first.sha256);
    assert!(authority.get(service.frontend, NAME).starts_with("gull"));
    // An authority that knows nobody any more gets a new account.
    authority.restart().await;
    let third = renewed(&service).await.unwrap();
    assert_eq!(third.order_failure, None);
    assert_ne!(third.sha256, second.sha256);
    // After a crash, with the authority gone for good, clients are shown what they were.
    authority.stand_in = None;
    service.crash_and_restart().await;
    assert_eq!(shown(&service).await.sha256, third.sha256);
    assert!(authority.get(service.frontend, NAME).starts_with("gull"));
    // No challenge is answered any more, and nothing that is secret is said.
    let asked = format!("http://{at}/.well-known/acme-challenge/x");
    assert!(said(&run("curl", &["-si", &asked], "")).starts_with("HTTP/1.1 308 "));
    let export = said(&service.merismos(&["export"]));
    assert!(!export.contains("PRIVATE") && !service.log().contains("PRIVATE"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_issued_is_taken_from_the_database_by_a_node_without_it() {
    let at = free_address();
    let mut service = Service::with(&["gull"]).await;
    let mut authority = OrderedFrom::looking_at(at, service.frontend);
    let text = document(&service, "certificates = [\"booking\"]")
        + &plain(at)
        + &authority.table("")
        + &certificate(&[NAME]);
    service.apply(&text).await.unwrap();
    let first = is_issued(&service).await;
    service.signal("-TERM");
    service.ended().await;
    std::fs::remove_dir_all(service.folder.path().join("state/certificates")).unwrap();
    // It looks at nothing that is ours, so that an order could not succeed.
    authority.options.http = Some(free_address());
    authority.restart().await;
    service.start().await;
    let found = is_issued(&service).await;
    assert_eq!(found.sha256, first.sha256);
    until("clients are shown it", async || authority.get(service.frontend, NAME).starts_with("gull")).await;
    // With another secret its key can't be opened, and that is said.
    service.signal("-TERM");
    service.ended().await;
    std::fs::remove_dir_all(service.folder.path().join("state/certificates")).unwrap();
    std::fs::write(service.folder.path().join("state/store-secret"), [7; 32]).unwrap();
    service.start().await;
    until("it is said", async || shown(&service).await.order_failure.is_some()).await;
    let why = shown(&service).await.order_failure.unwrap();
    assert!(why.contains("all nodes need the same"), "{why}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_order_that_fails_says_why_waits_and_leaves_the_certificate_before() {
    let at = free_address();
    let service = Service::with(&["gull"]).await;
    let mut authority = OrderedFrom::looking_at(at, service.frontend);
    let bell = StandIn::for_posts("bell", free_address()).unwrap();
    let text = |authority: &OrderedFrom, names: &[&str]| {
        document(&service, "certificates = [\"booking\"]")
            + &plain(at)
            + &authority.table("")
            + &certificate(names)
            + &format!(
                "\n[notifications.bell]\nwebhook = \"http://{}/\"\nbatch_window = \"100ms\"\nmin_interval = \"1s\"\nchanges = [\"certificate-fails\"]\n",
                bell.address
            )
    };
    // It wants us to wait for an hour; by hand it is asked before.
    authority.fails(Fault::Error { status: 429 }).await;
    service.apply(&text(&authority, &[NAME])).await.unwrap();
    until("it has failed", async || shown(&service).await.order_failure.is_some()).await;
    let status = said(&service.merismos(&["status"]));
    assert!(status.contains("the next try is in 59 min, or with"), "{status}");
    authority.fails(Fault::None).await;
    let ordered = service.merismos(&["certificate", "order", "booking"]);
    assert!(ordered.status.success(), "{}", said(&ordered));
    let first = is_issued(&service).await;
    let failed = async |part: &str| {
        let view = renewed(&service).await.unwrap();
        let why = view.order_failure.clone().unwrap_or_default();
        assert!(why.contains(part), "{part}: {why}");
        assert_eq!(view.sha256, first.sha256, "the one before stays");
        view
    };
    authority.fails(Fault::Error { status: 429 }).await;
    let view = failed("you come too often (rateLimited)").await;
    // At its due time; for one that is due the rest would count.
    assert!(view.next_order >= first.next_order);
    let status = said(&service.merismos(&["status"]));
    assert!(status.contains("certificate booking could not be ordered"), "{status}");
    assert!(status.contains("it is renewed by itself at 2"), "{status}");
    until("people are told", async || {
        bell.inbox().iter().any(|message| message.text.contains("you come too often"))
    })
    .await;
    assert!(!service.merismos(&["certificate", "status"]).status.success());
    // Nothing listens there.
    authority.fails(Fault::Refuse).await;
    failed("Connection refused").await;
    // It looks elsewhere than at our frontends.
    authority.options.http = Some(service.stand_ins[0].address);
    authority.restart().await;
    let view = failed("does not see that booking.skerry.example is ours").await;
    assert!(view.order_failure.unwrap().contains("and not the key authorization (unauthorized)"));
    // Its own certificate is not vouched for by whom we were told.
    let other = OrderedFrom::looking_at(at, service.frontend);
    std::fs::copy(other.root(), authority.root()).unwrap();
    failed("authority").await;
    // The frontend serves all the while, and a renewal that goes well ends the trouble.
    let mended = OrderedFrom::looking_at(at, service.frontend);
    service.apply(&text(&mended, &[NAME])).await.unwrap();
    let view = renewed(&service).await.unwrap();
    assert_eq!(view.order_failure, None);
    assert!(!said(&service.merismos(&["status"])).contains("could not be ordered"));
    until("clients are shown it", async || mended.get(service.frontend, NAME).starts_with("gull")).await;
    authority = mended;
    // Other names are ordered by themselves; until they are there the old ones are shown.
    service.apply(&text(&authority, &[NAME, "www.skerry.example"])).await.unwrap();
    until("the other names are there", async || {
        shown(&service).await.names.iter().any(|name| name == "www.skerry.example")
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_certificate_is_renewed_when_its_authority_wants_it() {
    let at = free_address();
    let mut service = Service::bare(Database::shared(), &["gull"]).await;
    service.signal("-TERM");
    service.ended().await;
    service.bring_own_clock();
    service.start().await;
    let mut authority = OrderedFrom::looking_at(at, service.frontend);
    authority.options.renew_after_hours = Some(0);
    authority.restart().await;
    let text = document(&service, "certificates = [\"booking\"]")
        + &plain(at)
        + &authority.table("")
        + &certificate(&[NAME]);
    service.apply(&text).await.unwrap();
    let first = is_issued(&service).await;
    until("it knows that the authority wants it now", async || {
        shown(&service)
            .await
            .next_order
            .is_some_and(|next| next < first.not_before.unwrap().plus(Duration::from_secs(86_400)))
    })
    .await;
    assert_eq!(shown(&service).await.sha256, first.sha256, "not twice within an hour");
    service.set_clock("+2h");
    until("it is renewed", async || shown(&service).await.sha256 != first.sha256).await;
    let second = shown(&service).await;
    assert!(second.not_after > Some(Wall(0)) && second.order_failure.is_none());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nobody_is_reminded_of_the_end_of_a_certificate_that_is_renewed_by_itself() {
    let at = free_address();
    let service = Service::with(&["gull"]).await;
    let mut authority = OrderedFrom::looking_at(at, service.frontend);
    // Each is three days from its end when it is issued, which is a day on which people are reminded.
    authority.options.hours = 72;
    authority.restart().await;
    let text = document(&service, "certificates = [\"booking\"]")
        + &plain(at)
        + &authority.table("")
        + &certificate(&[NAME]);
    service.apply(&text).await.unwrap();
    is_issued(&service).await;
    let says = async |part: &str| {
        let events = service.client().events(200).await.unwrap().events;
        events.iter().filter(|event| event.message.contains(part)).count()
    };
    for times in 1..=2 {
        renewed(&service).await.unwrap();
        until("it is shown", async || says("is shown from now on").await > times).await;
    }
    assert_eq!(says("ends in").await, 0);
    authority.fails(Fault::Refuse).await;
    assert!(renewed(&service).await.unwrap().order_failure.is_some());
}

/// A name server that takes signed updates of `skerry.example`.
struct Zone {
    child: Child,
    address: SocketAddr,
    _folder: TempDir,
}

/// In base64, as name servers keep it.
const ZONE_KEY: &str = "c2tlcnJ5LWxpbmVzLWtleS1mb3ItdXBkYXRlcy0zMmI=";

impl Zone {
    fn start() -> Self {
        let (folder, address) = (tempfile::tempdir().unwrap(), free_address());
        let path = folder.path().display();
        std::fs::create_dir(folder.path().join("db")).unwrap();
        let zone = "$ORIGIN skerry.example.\n$TTL 1\n@ IN SOA ns hostmaster 1 3600 600 86400 1\n@ IN NS ns\nns IN A 127.0.0.1\n";
        std::fs::write(folder.path().join("skerry.zone"), zone).unwrap();
        let config = format!(
            "server:\n  listen: {}@{}\n  rundir: {path}\n  user: root:root\ndatabase:\n  storage: {path}/db\n\
             key:\n  - id: merismos.skerry.example\n    algorithm: hmac-sha256\n    secret: {ZONE_KEY}\n\
             acl:\n  - id: updates\n    key: merismos.skerry.example\n    action: update\n\
             zone:\n  - domain: skerry.example\n    file: {path}/skerry.zone\n    acl: updates\n",
            address.ip(),
            address.port()
        );
        let file: PathBuf = folder.path().join("knot.conf");
        std::fs::write(&file, config).unwrap();
        let child =
            Command::new("knotd").arg("-c").arg(&file).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        let child = child.unwrap_or_else(|error| panic!("knotd: {error}; `make test` installs it"));
        Self { child, address, _folder: folder }
    }

    /// The TXT records of a name.
    fn texts(&self, name: &str) -> String {
        let (at, port) = (format!("@{}", self.address.ip()), self.address.port().to_string());
        said(&run("dig", &[&at, "-p", &port, "+short", "+tries=1", "+time=1", name, "TXT"], ""))
    }
}

impl Drop for Zone {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn names_with_a_star_are_ordered_by_signed_updates_of_a_zone() {
    let zone = Zone::start();
    until("the name server answers", async || {
        let (at, port) = (format!("@{}", zone.address.ip()), zone.address.port().to_string());
        said(&run("dig", &[&at, "-p", &port, "+short", "+tries=1", "+time=1", "skerry.example", "NS"], ""))
            .contains("ns.")
    })
    .await;
    let secrets = tempfile::tempdir().unwrap();
    std::fs::write(secrets.path().join("tsig"), ZONE_KEY).unwrap();
    let folder = secrets.path().display().to_string();
    let service = Service::bare(Database::shared(), &["gull"]).await;
    let mut authority = OrderedFrom::looking_at(free_address(), free_address());
    authority.options.dns = Some(zone.address);
    authority.restart().await;
    let keys = |key: &str| {
        format!(
            "challenge = \"dns-01\"\nname_server = \"{}\"\nzone = \"skerry.example\"\ntsig_key = \"{key}\"\ntsig_secret = \"file:{folder}/tsig\"",
            zone.address
        )
    };
    let names = ["skerry.example", "*.skerry.example"];
    let text = |key: &str| {
        document(&service, "certificates = [\"booking\"]")
            + &authority.table(&keys(key))
            + &certificate(&names)
    };
    // A key that the name server does not know.
    service.apply(&text("other.skerry.example")).await.unwrap();
    until("it is said", async || shown(&service).await.order_failure.is_some()).await;
    let why = shown(&service).await.order_failure.unwrap();
    assert!(
        why.contains("skerry.example can't be shown to be ours")
            && why.contains("refuses the update: NOTAUTH"),
        "{why}"
    );
    service.apply(&text("merismos.skerry.example")).await.unwrap();
    is_issued(&service).await;
    for name in ["skerry.example", "thora.skerry.example"] {
        until("a client takes it", async || authority.get(service.frontend, name).starts_with("gull")).await;
    }
    assert_eq!(zone.texts("_acme-challenge.skerry.example"), "", "the records are gone");
}
