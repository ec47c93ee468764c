//! Very large configurations, and very many deploys.

use std::fmt::Write;
use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use merismos_client::EventFilterQuery;
use merismos_core::config::DocumentFormat;
use serde_json::json;

use crate::harness::{Database, Service, until};
use crate::objects::{change, set};

/// Resident memory of a process, in MiB.
fn resident(pid: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1024
}

/// 1,000 pools of 10 servers, all at one listener's port on 127/8, and 200 frontends.
fn large(server_port: u16, first_port: u16) -> String {
    let mut text =
        "format = 3\n[checks.open]\nkind = \"tcp\"\ninterval = \"30s\"\ntimeout = \"5s\"\n".to_owned();
    for pool in 0..1_000 {
        write!(text, "[pools.p{pool}]\ncheck = \"open\"\n").unwrap();
        for server in 0..10 {
            let (high, low) = (pool / 250, pool % 250 + 1);
            writeln!(
                text,
                "servers.s{server} = {{ address = \"127.{}.{low}.{}:{server_port}\" }}",
                high + 10,
                server + 1
            )
            .unwrap();
        }
        if pool % 5 == 0 {
            let port = first_port + pool / 5;
            write!(text, "[frontends.f{pool}]\nprotocol = \"http\"\nlisten = \"127.0.9.1:{port}\"\npool = \"p{pool}\"\n").unwrap();
        }
    }
    text
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn ten_thousand_servers_in_a_thousand_pools() {
    // All of them are one listener: it takes each probe's connection and lets it go.
    let listener = TcpListener::bind("0.0.0.0:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || listener.incoming().for_each(drop));
    let service = Service::bare(Database::shared(), &[]).await;
    // Every process of tests has an address of its own for its frontends, on ports that the system gives to no process by
    // itself.
    let text = large(port, 20_000).replace("127.0.9.1", &format!("127.9.{}.1", std::process::id() % 250));
    let made = service.client().apply(&Service::request(&text)).await.unwrap();
    assert_eq!((made.made, made.changes.len()), (true, 1 + 1_000 + 10_000 + 200));
    let status = service.client().short_status(None).await.unwrap();
    assert!(status.shortened && status.servers == 10_000 && status.frontends.len() == 200);
    assert!(status.pools.iter().all(|pool| pool.servers.is_empty() && pool.size == 10));
    let one = service.client().short_status(Some(&"p7".parse().unwrap())).await.unwrap();
    assert_eq!(one.pools.iter().map(|pool| pool.servers.len()).sum::<usize>(), 10);
    let page = EventFilterQuery { search: Some("p999/s9".to_owned()), ..EventFilterQuery::default() };
    assert_eq!(service.client().objects(&page).await.unwrap().total, 1);

    // A share moves among those that are eligible.
    until("all are up", async || {
        let status = service.client().short_status(None).await.unwrap();
        status.pools.iter().map(|pool| pool.eligible).sum::<u64>() == 10_000
    })
    .await;
    let changed = change(&service, vec![set("pools.p7.servers.s3", json!({ "weight": 4 }))]).await.unwrap();
    assert_eq!((changed.changes.len(), changed.impact.moves.len()), (1, 10));
    eprintln!("10,000 servers: first deploy {:?}, then {:?}", made.took, changed.took);
    let export = service.client().document(DocumentFormat::Toml).await.unwrap();
    assert!(!service.apply(&export).await.unwrap().made, "what is exported is what runs");
    let memory = resident(service.pid());
    eprintln!("10,000 servers: {memory} MiB resident");
    assert!(memory < 250, "{memory} MiB are resident");
}

/// One client on one kept connection, as fast as the answers come; gives how many and the longest wait.
fn load(address: SocketAddr, stop: Arc<AtomicBool>) -> std::thread::JoinHandle<(u64, Duration)> {
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async move {
            let client = crate::harness::http_client();
            let (mut count, mut longest) = (0, Duration::ZERO);
            while !stop.load(Ordering::Relaxed) {
                let began = Instant::now();
                let answer = client.get(format!("http://{address}/")).send().await.expect("an answer");
                assert_eq!(answer.status().as_u16(), 200);
                answer.bytes().await.expect("a whole answer");
                longest = longest.max(began.elapsed());
                count += 1;
            }
            (count, longest)
        })
    })
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_hundred_deploys_in_a_row_under_load_hurt_no_request() {
    let service = Service::with(&["gull", "tern"]).await;
    let stop = Arc::new(AtomicBool::new(false));
    let clients: Vec<_> = (0..3).map(|_| load(service.frontend, Arc::clone(&stop))).collect();
    let mut slowest = 0;
    for weight in 2..102 {
        let edit = set("pools.quay.servers.gull", json!({ "weight": weight }));
        let review = change(&service, vec![edit]).await.unwrap();
        assert!(review.made);
        slowest = slowest.max(review.took.run_us);
    }
    assert_eq!(service.status().await.revision.number, 101);
    stop.store(true, Ordering::Relaxed);
    for client in clients {
        let (count, longest) = client.join().expect("every request is answered with 200");
        assert!(count > 100, "there was traffic all the while: {count}");
        // No request waits for a deploy, which takes at least a commit; a busy machine may stall a while.
        assert!(longest < Duration::from_secs(5), "{longest:?}");
        eprintln!(
            "{count} requests, the longest took {longest:?}; slowest commit to all workers {slowest} µs"
        );
    }
    let frontend = &service.status().await.frontends[0];
    assert_eq!((frontend.refused, frontend.unavailable, frontend.unanswered), (0, 0, 0));
}
