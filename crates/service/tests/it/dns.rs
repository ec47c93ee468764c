//! Servers from DNS names, asked of a real name server that is nothing else.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, SystemTime};

use merismos_api::{EventKind, LookupStatus};
use merismos_core::config::edit::Edit;
use merismos_lab::free::free_address;
use tempfile::TempDir;

use crate::harness::{Database, Service, until};
use crate::objects::change;

/// A private name server for `skerry.example`.
pub(crate) struct NameServer {
    child: Child,
    folder: TempDir,
    pub(crate) address: std::net::SocketAddr,
    serial: u64,
}

impl NameServer {
    pub(crate) fn start(records: &str) -> Self {
        let (folder, address) = (tempfile::tempdir().unwrap(), free_address());
        write_zone(folder.path(), 1, records);
        let child = run(folder.path(), address);
        Self { child, folder, address, serial: 1 }
    }

    /// Answers with other records from now on.
    fn change(&mut self, records: &str) {
        self.serial += 1;
        write_zone(self.folder.path(), self.serial, records);
        let pid = self.child.id().to_string();
        assert!(Command::new("kill").args(["-HUP", &pid]).status().unwrap().success());
    }

    fn stop(&mut self) {
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }

    fn restart(&mut self) {
        self.child = run(self.folder.path(), self.address);
    }
}

impl Drop for NameServer {
    fn drop(&mut self) {
        self.stop();
    }
}

fn write_zone(folder: &Path, serial: u64, records: &str) {
    let zone = format!(
        "$ORIGIN skerry.example.\n$TTL 1\n@ IN SOA ns hostmaster {serial} 3600 600 86400 1\n@ IN NS ns\nns IN A 127.0.0.1\n{records}"
    );
    let path = folder.join("skerry.zone");
    std::fs::write(&path, zone).unwrap();
    // The server looks at the time of the file, to the second.
    let file = std::fs::File::options().write(true).open(&path).unwrap();
    file.set_modified(SystemTime::now() + Duration::from_secs(serial)).unwrap();
}

fn run(folder: &Path, address: std::net::SocketAddr) -> Child {
    let at = |name: &str| folder.join(name).display().to_string();
    let config = format!(
        "server:\n  server-count: 1\n  ip-address: {}@{}\n  username: \"\"\n  chroot: \"\"\n  database: \"\"\n  do-ip6: no\n  \
         zonesdir: \"{}\"\n  pidfile: \"{}\"\n  xfrdfile: \"{}\"\n  zonelistfile: \"{}\"\n  xfrdir: \"{}\"\n\
         remote-control:\n  control-enable: no\nzone:\n  name: skerry.example\n  zonefile: skerry.zone\n",
        address.ip(),
        address.port(),
        folder.display(),
        at("pid"),
        at("xfrd"),
        at("zones"),
        folder.display()
    );
    std::fs::write(folder.join("nsd.conf"), config).unwrap();
    let path = std::env::var("PATH").unwrap_or_default() + ":/usr/sbin";
    Command::new("nsd")
        .env("PATH", path)
        .args(["-d", "-c", &at("nsd.conf")])
        .stderr(Stdio::null())
        .spawn()
        .expect("the package nsd is installed: run `make test`, which does it")
}

fn document(service: &Service, lookup: &str) -> String {
    format!("{}\n[pools.quay.lookups.dns]\nmin_interval = \"1s\"\n{lookup}", service.document())
}

async fn lookup(service: &Service) -> LookupStatus {
    service.status().await.pools[0].lookups[0].clone()
}

async fn servers(service: &Service) -> Vec<String> {
    let status = service.status().await;
    status.pools[0]
        .servers
        .iter()
        .map(|server| format!("{} {} {}", server.server, server.weight, server.tier))
        .collect()
}

/// The servers that a pool has by its lookup, once they are these.
async fn finds(service: &Service, wanted: &[String]) {
    let what = format!("the servers are {wanted:?}");
    until(&what, async || servers(service).await == wanted).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn servers_come_and_go_with_the_answers_and_an_empty_one_keeps_the_last() {
    let service = Service::bare(Database::shared(), &[]).await;
    let port = free_address().port();
    let records =
        |hosts: &[&str]| -> String { hosts.iter().map(|host| format!("booking IN A {host}\n")).collect() };
    let mut dns = NameServer::start(&records(&["127.0.2.1", "127.0.2.2"]));
    let stand_ins: Vec<_> = ["127.0.2.1", "127.0.2.2", "127.0.2.3"]
        .map(|host| {
            merismos_lab::stand_in::StandIn::start(host, format!("{host}:{port}").parse().unwrap()).unwrap()
        })
        .into();
    let text = document(
        &service,
        &format!(
            "name = \"booking.skerry.example\"\nrecords = \"address\"\nport = {port}\nresolver = \"{}\"\n",
            dns.address
        ),
    );
    until("the name server answers", async || {
        service.apply(&text).await.is_ok_and(|review| review.made)
            || service.status().await.revision.number == 1
    })
    .await;
    let name = |host: u8| format!("quay/dns-127-0-2-{host}-{port} 1 0");
    finds(&service, &[name(1), name(2)]).await;
    service.all_up().await;
    assert_eq!(service.get().await.unwrap().0, 200);

    dns.change(&records(&["127.0.2.2", "127.0.2.3"]));
    finds(&service, &[name(2), name(3)]).await;
    let events = service.client().events(50).await.unwrap().events;
    let found: Vec<_> = events
        .iter()
        .filter(|event| event.kind == EventKind::Lookup)
        .map(|event| event.message.as_str())
        .collect();
    let gone = format!("gone: booking.skerry.example does not name 127.0.2.1:{port} any more");
    assert!(found.contains(&gone.as_str()), "{found:?}");

    service.all_up().await;
    // Under another name it has found the same: the next answer is not waited for.
    let rename = |from: &str, to: &str| Edit::Rename {
        object: format!("pools.quay.lookups.{from}").parse().unwrap(),
        to: to.parse().unwrap(),
    };
    for (from, to) in [("dns", "names"), ("names", "dns")] {
        change(&service, vec![rename(from, to)]).await.unwrap();
        assert_eq!(service.status().await.pools[0].eligible, 2, "{from} to {to}");
        assert_eq!(service.get().await.unwrap().0, 200);
    }

    // An answer that shrinks to nothing, and then none at all: the last servers stay.
    dns.change("");
    until("the empty answer is reported", async || {
        lookup(&service)
            .await
            .trouble
            .is_some_and(|trouble| trouble.contains("has no address records; the last 2 servers are kept"))
    })
    .await;
    assert_eq!(servers(&service).await.len(), 2);
    dns.stop();
    until("the silence is reported", async || {
        lookup(&service).await.trouble.is_some_and(|trouble| trouble.contains("could not be looked up"))
    })
    .await;
    assert_eq!(service.get().await.unwrap().0, 200);

    // Also over a restart without the name server.
    let mut service = service;
    service.crash_and_restart().await;
    finds(&service, &[name(2), name(3)]).await;
    until("it serves", async || service.get().await.is_ok_and(|(status, _)| status == 200)).await;

    write_zone(dns.folder.path(), 9, &records(&["127.0.2.3"]));
    dns.restart();
    finds(&service, &[name(3)]).await;
    until("the trouble is over", async || lookup(&service).await.trouble.is_none()).await;
    drop(stand_ins);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn service_records_give_ports_weights_and_tiers_and_may_remove_all() {
    let service = Service::bare(Database::shared(), &[]).await;
    let records = "_web._tcp IN SRV 10 3 8081 a\n_web._tcp IN SRV 10 1 8082 b\n_web._tcp IN SRV 20 5 8083 b\n\
                   a IN A 127.0.2.11\nb IN A 127.0.2.12\n";
    let mut dns = NameServer::start(records);
    let text = document(
        &service,
        &format!(
            "name = \"_web._tcp.skerry.example\"\nrecords = \"service\"\nresolver = \"{}\"\nwhen_empty = \"remove\"\n",
            dns.address
        ),
    );
    service.apply(&text).await.unwrap();
    let all = [
        "quay/dns-127-0-2-11-8081 3 0".to_owned(),
        "quay/dns-127-0-2-12-8082 1 0".to_owned(),
        "quay/dns-127-0-2-12-8083 5 1".to_owned(),
    ];
    finds(&service, &all).await;
    let export = service.client().document(merismos_core::config::DocumentFormat::Toml).await.unwrap();
    assert!(!export.contains("127.0.2.11"), "what was found is no configuration");
    dns.change("");
    finds(&service, &[]).await;
    assert_eq!(service.get().await.unwrap().0, 503);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_name_that_leads_nowhere_is_told_before_it_goes_live() {
    let service = Service::bare(Database::shared(), &[]).await;
    let dns = NameServer::start("");
    let text = document(
        &service,
        &format!(
            "name = \"none.skerry.example\"\nrecords = \"address\"\nport = 80\nresolver = \"{}\"\n",
            dns.address
        ),
    );
    let mut preview = Service::request(&text);
    preview.going.preview = true;
    until("it is reported", async || {
        let review = service.client().apply(&preview).await.unwrap();
        let found = review
            .warnings
            .iter()
            .find(|warning| warning.warning.key == "lookup-fails:pools.quay.lookups.dns");
        found.is_some_and(|warning| {
            warning.warning.message.contains("none.skerry.example has no address records")
        })
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn addresses_that_are_taken_together_are_one_server_that_is_reached_where_it_answers() {
    let service = Service::bare(Database::shared(), &[]).await;
    let port = free_address().port();
    // Nothing listens at the first two.
    let dns = NameServer::start("booking IN AAAA ::1\nbooking IN A 127.0.2.7\nbooking IN A 127.0.2.8\n");
    let at = format!("127.0.2.8:{port}").parse().unwrap();
    let _gull = merismos_lab::stand_in::StandIn::start("gull", at).unwrap();
    let text = document(
        &service,
        &format!(
            "name = \"booking.skerry.example\"\nrecords = \"address\"\nport = {port}\nmerge_addresses = true\nresolver = \"{}\"\n",
            dns.address
        ),
    );
    until("the name server answers", async || {
        service.apply(&text).await.is_ok_and(|review| review.made)
            || service.status().await.revision.number == 1
    })
    .await;
    finds(&service, &[format!("quay/dns---1-{port} 1 0")]).await;
    service.all_up().await;
    for _ in 0..5 {
        let (status, text) = service.get().await.unwrap();
        assert!(status == 200 && text.starts_with("gull"), "{status} {text}");
    }
}
