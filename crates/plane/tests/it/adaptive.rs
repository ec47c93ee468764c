//! A limit that follows the response times of a real server.

use std::sync::{Arc, Condvar, Mutex};
use std::time::{Duration, Instant};

use crate::rig::{Client, Rig, Server};

/// How many requests the server works on at once.
const HANDS: usize = 4;
/// How long each takes.
const WORK: Duration = Duration::from_millis(20);

/// A server with few hands: what comes beyond them waits inside of it.
fn busy_server() -> Server {
    let hands = Arc::new((Mutex::new(HANDS), Condvar::new()));
    Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            let (free, freed) = &*hands;
            let mut now = freed.wait_while(free.lock().unwrap(), |free| *free == 0).unwrap();
            *now -= 1;
            drop(now);
            std::thread::sleep(WORK);
            *free.lock().unwrap() += 1;
            freed.notify_one();
            conn.answer("done");
        }
    })
}

/// So many clients that ask again as soon as they have an answer, until the limit is as wanted; gives how many were refused at once.
fn load(rig: &Rig, clients: usize, is_enough: impl Fn(u32) -> bool + Sync) -> (u64, bool) {
    let end = Instant::now() + Duration::from_secs(30);
    let limit = || {
        let snapshot = rig.plane.snapshot();
        let server = &snapshot.pools[0].servers[0];
        server.cell.room.adaptive_limit(server.limits).unwrap()
    };
    let is_over = || is_enough(limit()) || Instant::now() > end;
    let refused: u64 = std::thread::scope(|scope| {
        let one = || {
            let (mut client, mut refused) = (Client::to(rig.address), 0);
            while !is_over() {
                if client.get("/").status == 503 {
                    refused += 1;
                    std::thread::sleep(Duration::from_millis(1));
                }
            }
            refused
        };
        let threads: Vec<_> = (0..clients).map(|_| scope.spawn(one)).collect();
        threads.into_iter().map(|thread| thread.join().unwrap()).sum()
    });
    (refused, is_enough(limit()))
}

#[test]
fn an_overloaded_server_gets_fewer_requests_at_once() {
    let server = busy_server();
    let rig = Rig::new(&[server.address], "adaptive_limit = true\nqueue_limit = 0", "");
    // What it takes while it has little to do.
    let mut first = rig.client();
    for _ in 0..12 {
        assert_eq!(first.get("/").status, 200);
    }
    // Forty at once are ten for each hand: most of them would wait inside of it.
    let (refused, has_shrunk) = load(&rig, 40, |limit| limit <= 3 * HANDS as u32);
    assert!(has_shrunk, "it is at most three for each hand");
    assert!(refused > 0, "the others got 503 at once");
    assert_eq!(rig.counts(0).failed, 0, "a full server has not failed");
}
