//! Trials of every kind of traffic, by clients with addresses, connections and cookies of their own.

use std::net::SocketAddr;

use merismos_api::{Trial, TrialRequest, TrialState};
use merismos_client::ClientError;
use merismos_core::proof::{RequestResults, Tally, TrialVerdict};
use merismos_lab::free::free_address;
use merismos_lab::stand_in::{Fault, StandIn};

use crate::harness::{Service, until};

/// What a stand-in answers to over a connection without HTTP before it.
const GET: &str = "GET / HTTP/1.1\r\nHost: harbour.skerry.example\r\n\r\n";

async fn begun(service: &Service, request: &TrialRequest) -> Trial {
    service.client().begin_trial(request).await.unwrap()
}

async fn over(service: &Service, id: u64) -> Trial {
    until("the trial is over", async || service.client().trial(id).await.unwrap().state == TrialState::Done)
        .await;
    service.client().trial(id).await.unwrap()
}

async fn tally(service: &Service, request: &TrialRequest) -> Tally {
    over(service, begun(service, request).await.id).await.tally.unwrap()
}

fn at_once(frontend: &str, requests: u32) -> TrialRequest {
    TrialRequest { concurrency: 4, ..TrialRequest::of(frontend, requests) }
}

/// The service's document with more keys for the pool and the frontend.
fn document(service: &Service, pool: &str, frontend: &str) -> String {
    let text = service.document().replace("[pools.quay]\n", &format!("[pools.quay]\n{pool}\n"));
    text.replace("pool = \"quay\"\n", &format!("pool = \"quay\"\n{frontend}\n"))
}

/// The document with another frontend before the same pool.
async fn with_frontend(service: &Service, pool: &str, protocol: &str, more: &str) -> SocketAddr {
    let address = free_address();
    let text = format!(
        "{}\n[frontends.line]\nprotocol = \"{protocol}\"\nlisten = \"{address}\"\npool = \"quay\"\n{more}\n",
        document(service, pool, "")
    );
    service.apply(&text).await.unwrap();
    address
}

/// Stand-ins that answer datagrams where the service's own take connections.
fn stations(service: &Service) -> Vec<StandIn> {
    let station = |stand_in: &StandIn| StandIn::for_datagrams(&stand_in.name, stand_in.address).unwrap();
    service.stand_ins.iter().map(station).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn connections_are_counted_where_they_went_and_a_server_that_refuses_is_told() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    with_frontend(&service, "", "tcp", "").await;
    let request = TrialRequest { say: Some(GET.to_owned()), ..at_once("line", 300) };
    let trial = over(&service, begun(&service, &request).await.id).await;
    let tally = trial.tally.unwrap();
    assert_eq!(
        (trial.sends, tally.verdict),
        (RequestResults::Connections, TrialVerdict::AsExpected),
        "{:?}",
        tally.because
    );
    assert_eq!(tally.rows.iter().map(|row| row.requests).collect::<Vec<_>>(), [100, 100, 100]);
    assert!(tally.because[0].contains("every connection was answered"), "{:?}", tally.because);
    assert!(tally.rows.iter().all(|row| row.median_us.is_some()));
    // One that refuses is passed over, and the trial says how often.
    let slow = TrialRequest { per_second: Some(200), ..request.clone() };
    let begun = begun(&service, &slow).await;
    until("a part has been sent", async || service.client().trial(begun.id).await.unwrap().ended >= 60).await;
    service.stand_ins[1].set(Fault::Refuse).await;
    let broken = over(&service, begun.id).await;
    let tally = broken.tally.unwrap();
    // What was with it in that moment breaks off: a connection that was taken is not given to another one.
    assert!(tally.failed <= u64::from(request.concurrency), "{:?}", tally.because);
    assert_eq!(tally.without_server, 0, "{:?}", tally.because);
    assert!(tally.retried > 0, "{:?}", tally.because);
    let names_the_failure = tally.because.iter().any(|why| why.contains("failed at quay/tern"));
    assert!(names_the_failure, "{:?}", tally.because);
    assert!(
        broken.happened.iter().any(|happening| happening.subject == "quay/tern"),
        "{:?}",
        broken.happened
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_clients_datagrams_go_to_the_server_of_its_address() {
    let service = Service::with(&["gull", "tern"]).await;
    let _stations = stations(&service);
    with_frontend(&service, "algorithm = \"hash\"", "udp", "idle_timeout = \"2s\"").await;
    let from =
        TrialRequest { clients: Some(40), from: Some("127.0.9.0/24".to_owned()), ..at_once("line", 200) };
    let counted = tally(&service, &from).await;
    assert_eq!(
        (counted.verdict, counted.tied, counted.strayed),
        (TrialVerdict::AsExpected, 200, 0),
        "{counted:?}"
    );
    assert!(counted.rows.iter().all(|row| row.requests > 20), "both have clients: {:?}", counted.rows);
    // All from one address is one client.
    let alone = tally(&service, &at_once("line", 40)).await;
    assert_eq!((alone.verdict, alone.tied), (TrialVerdict::AsExpected, 40), "{alone:?}");
    assert_eq!(alone.rows.iter().filter(|row| row.requests > 0).count(), 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn datagrams_without_answers_are_judged_by_where_they_went() {
    let service = Service::with(&["gull", "tern"]).await;
    let stations = stations(&service);
    with_frontend(&service, "", "udp", "balance_per = \"datagram\"").await;
    let trial = over(&service, begun(&service, &at_once("line", 60)).await.id).await;
    let counted = trial.tally.unwrap();
    assert_eq!(
        (trial.sends, counted.verdict),
        (RequestResults::OneWay, TrialVerdict::AsExpected),
        "{:?}",
        counted.because
    );
    assert_eq!(counted.rows.iter().map(|row| row.requests).collect::<Vec<_>>(), [30, 30]);
    assert!(counted.because[0].contains("every datagram was sent on"), "{:?}", counted.because);
    // When the port is closed the host answers by ICMP, and what comes after goes elsewhere.
    stations[0].set(Fault::Refuse).await;
    let deaf = tally(&service, &at_once("line", 60)).await;
    assert_eq!(deaf.verdict, TrialVerdict::NotAsExpected, "{deaf:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clients_are_tied_by_what_they_carry() {
    let service = Service::with(&["gull", "tern"]).await;
    // An application that sets no cookie ties no client.
    service.apply(&document(&service, "persistence = \"application-cookie:SESSION\"", "")).await.unwrap();
    let visitors = TrialRequest { clients: Some(10), keep_cookies: true, ..at_once("harbour", 200) };
    let loose = tally(&service, &visitors).await;
    assert_eq!((loose.verdict, loose.tied, loose.strayed), (TrialVerdict::AsExpected, 0, 0), "{loose:?}");
    let why = "no client was tied: pool quay ties clients by the cookie SESSION, and no response set it";
    assert_eq!(loose.because.last().map(String::as_str), Some(why));
    // What all clients of a trial have alike ties all of them to one server.
    service.apply(&document(&service, "persistence = \"query:day\"", "")).await.unwrap();
    let by_day = TrialRequest { path: "/?day=3".to_owned(), ..at_once("harbour", 60) };
    let same = tally(&service, &by_day).await;
    assert_eq!(same.verdict, TrialVerdict::AsExpected, "{same:?}");
    let why = "pool quay ties clients by query:day, which is the same for all of the trial";
    assert!(same.because.iter().any(|because| because.ends_with(why)), "{same:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clients_that_keep_their_cookies_stay_and_are_moved_when_their_server_goes() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    service.apply(&document(&service, "persistence = \"cookie\"", "")).await.unwrap();
    // Strangers every time: the pins that they get are not given back.
    let strangers = tally(&service, &at_once("harbour", 90)).await;
    assert_eq!((strangers.verdict, strangers.tied), (TrialVerdict::AsExpected, 0), "{strangers:?}");
    let pinned = TrialRequest { clients: Some(30), keep_cookies: true, ..at_once("harbour", 600) };
    let stayed = tally(&service, &pinned).await;
    assert_eq!(
        (stayed.verdict, stayed.tied, stayed.strayed),
        (TrialVerdict::AsExpected, 570, 0),
        "{stayed:?}"
    );
    assert_eq!(stayed.test.map(|test| test.statistic), Some(0.0), "30 strangers in turns");
    // While one is withdrawn, its clients go to the others, and none of that is amiss.
    // Some requests are open there at that moment.
    service.stand_ins[1].set(Fault::Slow { delay_ms: 80 }).await;
    let slow = TrialRequest { per_second: Some(300), ..pinned };
    let begun = begun(&service, &slow).await;
    until("a part has been sent", async || service.client().trial(begun.id).await.unwrap().ended >= 200)
        .await;
    service.merismos(&["withdraw", "quay/tern", "--reason", "a test"]);
    let moved = over(&service, begun.id).await.tally.unwrap();
    assert_eq!((moved.failed, moved.strayed), (0, 0), "{moved:?}");
    assert!(moved.tied < 570, "its clients were strangers once more: {moved:?}");
    let moves: Vec<_> =
        moved.moves.iter().map(|moved| (moved.from.to_string(), moved.reason.clone())).collect();
    assert_eq!(
        moves,
        [("quay/tern".to_owned(), Some("withdrawn by an operator".to_owned()))],
        "each move has a reason"
    );
    assert!((5..=15).contains(&moved.moves[0].clients), "a third of 30 clients: {:?}", moved.moves);
    // One of four requests is a new client's: they are strangers, and the others stay.
    let mixed = TrialRequest { new_percent: Some(25), per_second: None, ..slow };
    let mixed = tally(&service, &mixed).await;
    assert_eq!(
        (mixed.verdict, mixed.moves.len(), mixed.strayed),
        (TrialVerdict::AsExpected, 0, 0),
        "{mixed:?}"
    );
    // 149 began anew; for some of the 30 that was their first request.
    assert!((149..=179).contains(&(600 - mixed.tied)), "{mixed:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_is_out_of_service_is_tried_alone_before_clients_reach_it() {
    let service = Service::with(&["gull", "tern"]).await;
    service.merismos(&["withdraw", "quay/tern", "--reason", "a test"]);
    let shown = service.merismos(&["trial", "harbour", "--requests", "40", "--server", "quay/tern"]);
    let says = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert_eq!(shown.status.code(), Some(0), "{says}");
    for wanted in ["all for quay/tern", "As expected: every request was answered by quay/tern"] {
        assert!(says.contains(wanted), "{wanted:?} in {says}");
    }
    // Clients beside it go on as before: a mark without a trial moves no one.
    let client = crate::harness::http_client();
    let guess = client.get(format!("http://{}/", service.frontend)).header("merismos-mark", "7-1");
    assert!(guess.send().await.unwrap().text().await.unwrap().contains("gull"));
    // One that does not answer fails, and no other server helps it out.
    service.stand_ins[1].set(Fault::Refuse).await;
    let alone = TrialRequest { server: Some("quay/tern".to_owned()), ..at_once("harbour", 10) };
    let failed = tally(&service, &alone).await;
    assert_eq!(
        (failed.verdict, failed.failed, failed.retried),
        (TrialVerdict::NotAsExpected, 10, 0),
        "{failed:?}"
    );
    let nowhere = TrialRequest { server: Some("quay/petrel".to_owned()), ..at_once("harbour", 10) };
    let error = service.client().begin_trial(&nowhere).await.unwrap_err();
    assert!(error.to_string().contains("has a server quay/petrel"), "{error}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn where_connections_are_dealt_out_what_comes_on_one_stays() {
    let service = Service::with(&["gull", "tern"]).await;
    service.apply(&document(&service, "", "balance_per = \"connection\"")).await.unwrap();
    let few = tally(&service, &at_once("harbour", 60)).await;
    assert_eq!((few.verdict, few.tied, few.strayed), (TrialVerdict::TooFew, 56, 0), "{few:?}");
    let many = TrialRequest { clients: Some(20), ..at_once("harbour", 60) };
    let many = tally(&service, &many).await;
    assert_eq!((many.verdict, many.tied, many.strayed), (TrialVerdict::AsExpected, 40, 0), "{many:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_can_not_be_tried_is_told() {
    let service = Service::with(&["gull"]).await;
    with_frontend(&service, "", "tcp", "").await;
    let line = || at_once("line", 9);
    let from = |network: &str| Some(network.to_owned());
    for (request, says) in [
        (TrialRequest { clients: Some(0), ..line() }, "1 to 1000 clients"),
        (TrialRequest { path: "/ferry".to_owned(), ..line() }, "are for http"),
        (TrialRequest { keep_cookies: true, ..line() }, "are for http"),
        (TrialRequest { say: Some(GET.to_owned()), ..at_once("harbour", 9) }, "takes http"),
        (TrialRequest { say: Some(String::new()), ..line() }, "1 to 1000 bytes"),
        (TrialRequest { from: from("the quay"), ..line() }, "127.0.9.0/24"),
        (TrialRequest { from: from("192.0.2.0/24"), ..line() }, "none of its addresses"),
        (TrialRequest { from: from("::1"), ..line() }, "no client comes there"),
        (at_once("nowhere", 9), "no frontend nowhere"),
    ] {
        let error = service.client().begin_trial(&request).await.unwrap_err();
        let ClientError::Refused(problem) = &error else { panic!("{error:?}") };
        assert!(problem.detail.contains(says), "{}", problem.detail);
    }
    assert!(service.client().trials().await.unwrap().trials.is_empty());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_command_line_tries_and_tells_all_of_it() {
    let service = Service::with(&["gull", "tern"]).await;
    with_frontend(&service, "algorithm = \"hash\"", "tcp", "").await;
    let args =
        ["trial", "line", "--requests", "50", "--clients", "25", "--from", "127.0.9.0/24", "--say", GET];
    let output = service.merismos(&args);
    let printed = String::from_utf8_lossy(&output.stdout);
    assert_eq!(output.status.code(), Some(0), "{printed}{}", String::from_utf8_lossy(&output.stderr));
    for wanted in [
        "50 connections that say \"GET / HTTP",
        "8 at the same time, by 25 clients from 127.0.9.0/24",
        "50 of one server alone, 0 of them went elsewhere",
        "✓ As expected: every connection went to the one server that its key, pin or connection says",
    ] {
        assert!(printed.contains(wanted), "{wanted:?} in {printed}");
    }
    let list = service.merismos(&["trial", "list"]);
    assert!(String::from_utf8_lossy(&list.stdout).contains("50 connections"), "{list:?}");
}
