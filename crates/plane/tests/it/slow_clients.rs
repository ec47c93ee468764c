//! Clients that ask for what has no form at servers, take nothing, take their requests back, or are slow on purpose: it costs
//! them, and no server.

use std::io::{Read, Write};
use std::time::{Duration, Instant};

use rstest::rstest;

use crate::http2_frames::{Frames, Rest};
use crate::rig::{Conn, ConnectionEnd, Rig, Server, until};

const TWO: &str = "http_version = \"2\"";

#[rstest]
#[case::less_than("GET /a<b HTTP/1.1\r\nHost: a\r\n\r\n")]
#[case::backtick("GET /`a` HTTP/1.1\r\nHost: a\r\n\r\n")]
#[case::empty_host("GET / HTTP/1.1\r\nHost: \r\n\r\n")]
#[case::encoded_host("GET / HTTP/1.1\r\nHost: a%41.example\r\n\r\n")]
fn what_has_no_form_in_http_2_is_the_clients_doing(#[case] request: &str) {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], TWO, "");
    let answer = rig.client().send(request).answer().unwrap();
    assert_eq!(answer.status, 400, "{answer:?}");
    let counts = rig.counts(0);
    assert_eq!((counts.failed, counts.taken, server.connections()), (0, 0, 0), "{counts:?}");
    assert_eq!(rig.frontend_counts().refused, 1);
}

#[rstest]
#[case::to_http_1("")]
#[case::to_http_2(TWO)]
fn too_many_trailers_are_the_clients_doing(#[case] keys: &str) {
    let rig = Rig::new(&[Server::named("gull").address], keys, "");
    let mut request =
        "POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n1\r\nx\r\n0\r\n".to_owned();
    request.extend((0..65).map(|number| format!("X-{number}: y\r\n")));
    let answer = rig.client().send(request + "\r\n").answer().unwrap();
    assert_eq!(answer.status, 400, "{answer:?}");
    assert_eq!(rig.counts(0).failed, 0);
}

/// Without any progress for so long, nothing more comes, also on a busy machine.
const STANDS_STILL: Duration = Duration::from_secs(3);

#[test]
fn a_client_that_takes_nothing_gets_nothing_more_begun() {
    let fill = "x".repeat(12_000);
    let server = Server::start(move |mut conn: Conn, _| {
        while conn.request().is_some() {
            conn.say(format!("HTTP/1.1 200 OK\r\nX-Fill: {fill}\r\nContent-Length: 0\r\n\r\n"));
        }
    });
    let rig = Rig::new(&[server.address], "", "max_concurrent_streams = 100");
    let mut frames = Frames::to(&rig).settings();
    frames.stream.set_write_timeout(Some(STANDS_STILL)).unwrap();
    // It believes that each answer came, and never reads one.
    let (mut sent, mut begun) = (0, 0);
    while sent < 15_000 {
        let requests: Vec<u8> = (0..50).flat_map(|_| frames.get().1).collect();
        if frames.stream.write_all(&requests).is_err() {
            break;
        }
        sent += 50;
        let mut since = Instant::now();
        while begun < sent && since.elapsed() < STANDS_STILL {
            let before = std::mem::replace(&mut begun, rig.frontend_counts().requests);
            if begun != before {
                since = Instant::now();
            }
            std::thread::yield_now();
        }
        if begun < sent {
            break;
        }
    }
    let last = begun;
    // As many as may be open at once; how much more the kernel holds depends on how its buffers grew.
    assert!(last >= 100, "{last}");
    // What the sockets between hold, and the streams that may be open.
    assert!(last < 6_000, "{last} answers of 12 kB for one that took none");
    drop(frames);
    until("it has left", || rig.frontend_counts().connections == 0);
}

#[test]
fn a_client_that_takes_its_requests_back_again_and_again_is_told_to_go() {
    let silent = Server::start(|mut conn, _| while conn.request().is_some() {});
    let rig = Rig::new(&[silent.address], "", "");
    let mut frames = Frames::to(&rig).settings();
    until("it is there", || rig.frontend_counts().connections == 1);
    for round in 0..60 {
        let (streams, heads): (Vec<u32>, Vec<Vec<u8>>) = (0..10).map(|_| frames.get()).unzip();
        if frames.stream.write_all(&heads.concat()).is_err() {
            break;
        }
        let is_over = || rig.frontend_counts().connections == 0 || rig.counts(0).in_flight == 10;
        until("the server has them, or it got GOAWAY", is_over);
        let resets = streams.iter().map(|stream| Frames::frame(3, 0, *stream, &8_u32.to_be_bytes()));
        if frames.stream.write_all(&resets.collect::<Vec<_>>().concat()).is_err() {
            break;
        }
        until("they have ended", || rig.counts(0).in_flight == 0);
        assert!(round < 30, "it goes on and on");
    }
    assert_eq!(frames.goaway(), Some(0xb), "ENHANCE_YOUR_CALM");
    assert!(silent.connections() < 200, "{}", silent.connections());
    assert_eq!(rig.counts(0).failed, 0);
}

#[test]
fn a_connection_begins_with_settings_and_with_nothing_else() {
    let rig = Rig::new(&[Server::named("gull").address], "", "");
    let mut frames = Frames::to(&rig);
    frames.stream.write_all(&Frames::frame(6, 0, 0, &[0; 8])).unwrap();
    // No answer to its PING, and no GOAWAY: it need not be HTTP/2 at all (RFC 9113, 3.4).
    assert_eq!(frames.rest(), Rest::default());
    until("it was let go", || rig.frontend_counts().connections == 0);
}

#[test]
fn a_client_that_sends_a_byte_now_and_then_is_ended_and_one_that_is_fast_enough_is_not() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "min_rate = \"100B\"\nmin_rate_grace = \"1s\"");
    let send = |size: usize, every: u64| {
        let mut client = rig.client();
        client.send(format!("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: {}\r\n\r\n", 40 * size));
        let mut writer = client.writer();
        let writing = std::thread::spawn(move || {
            for _ in 0..40 {
                std::thread::sleep(Duration::from_millis(every));
                if writer.write_all(&vec![b'x'; size]).is_err() {
                    return;
                }
            }
        });
        let answer = client.answer().unwrap();
        writing.join().unwrap();
        answer.status
    };
    assert_eq!(send(1, 100), 408, "10 bytes a second");
    assert_eq!(send(40, 50), 200, "800 bytes a second");
    assert_eq!(rig.counts(0).failed, 0);
}

#[test]
fn a_head_whose_body_never_comes_holds_no_server() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "idle_timeout = \"500ms\"");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\n");
    assert_eq!(client.answer().unwrap().status, 408);
    assert_eq!(server.connections(), 0);
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\n");
    until("the head has come", || rig.frontend_counts().requests == 2);
    assert_eq!(server.connections(), 0);
    assert_eq!(client.send("hello").answer().unwrap().status, 200);
}

#[test]
fn answers_with_many_fields_pass_and_those_with_too_many_are_the_servers_doing() {
    for (count, status) in [(200, 200), (300, 502)] {
        let server = Server::start(move |mut conn, _| {
            while conn.request().is_some() {
                let fields: String = (0..count).map(|number| format!("X-{number}: y\r\n")).collect();
                conn.say(format!("HTTP/1.1 200 OK\r\n{fields}Content-Length: 0\r\n\r\n"));
            }
        });
        let rig = Rig::new(&[server.address], "", "");
        let answer = rig.client().get("/");
        assert_eq!(answer.status, status);
        assert!(status != 200 || answer.head.contains("X-199: y"));
    }
}

#[test]
fn fields_that_servers_might_believe_come_from_trusted_peers_alone() {
    let server = Server::named("gull");
    let request =
        "GET / HTTP/1.1\r\nHost: a\r\nX-Real-IP: 192.0.2.1\r\nX_Client_IP: 192.0.2.2\r\nX-Own: kept\r\n\r\n";
    let get = |frontend: &str| {
        let rig = Rig::new(&[server.address], "", frontend);
        rig.client().send(request).answer().unwrap().text()
    };
    let text = get("");
    assert!(!text.contains("192.0.2.") && text.contains("X-Own: kept"), "{text}");
    let text = get("trusted = [\"127.0.0.0/8\"]");
    assert!(text.contains("X-Real-IP: 192.0.2.1") && text.contains("X_Client_IP: 192.0.2.2"), "{text}");
    let text = get("dropped_fields = [\"X-Own\"]");
    assert!(text.contains("X-Real-IP") && !text.contains("kept"), "{text}");
}

#[test]
fn small_rules_of_http() {
    let rig = Rig::new(&[Server::named("gull").address], "", "");
    // A refusal of HEAD has no content.
    let mut client = rig.client();
    client.send("HEAD / HTTP/1.1\r\n\r\n");
    let head = client.head().unwrap();
    assert!(head.contains(" 400 "), "{head}");
    assert_eq!(client.rest(), (Vec::new(), ConnectionEnd::Closed));
    // A later minor version is read as 1.1.
    let answer = rig.client().send("GET / HTTP/1.2\r\nHost: a\r\n\r\n").answer().unwrap();
    assert!(answer.status == 200 && answer.text().contains("GET / HTTP/1.1"), "{answer:?}");
    let answer = rig.client().send("GET / HTTP/2.0\r\nHost: a\r\n\r\n").answer().unwrap();
    assert_eq!(answer.status, 505);
    // Extensions of chunks do not go on.
    let rig = Rig::new(&[chunk_echo().address], "", "");
    let answer = rig
        .client()
        .send("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n1;a=\"b\r\nx\r\n0\r\n\r\n")
        .answer()
        .unwrap();
    assert_eq!(answer.text(), "1\r\nx\r\n0\r\n\r\n");
    // An open quote of a trusted peer swallows nothing of ours.
    let rig = Rig::new(&[Server::named("gull").address], "", "trusted = [\"127.0.0.0/8\"]");
    let answer =
        rig.client().send("GET / HTTP/1.1\r\nHost: a\r\nForwarded: for=\"_x\r\n\r\n").answer().unwrap();
    assert!(answer.text().contains("\r\nForwarded: for=127.0.0.1;"), "{}", answer.text());
}

/// A server that answers with the chunks as they came.
fn chunk_echo() -> Server {
    Server::start(|mut conn, _| {
        while conn.head().is_some() {
            let mut body = String::new();
            while !body.ends_with("0\r\n\r\n") {
                let mut byte = [0];
                if conn.stream.read_exact(&mut byte).is_err() {
                    return;
                }
                body.push(byte[0] as char);
            }
            conn.answer(&body);
        }
    })
}

#[test]
fn a_change_of_protocol_is_told_without_what_concerns_the_servers_connection() {
    let server = Server::saying(
        b"HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade, X-Hop\r\nUpgrade: echo\r\nX-Hop: 1\r\n\
          Keep-Alive: timeout=5\r\nContent-Length: 0\r\nX-End: kept\r\n\r\n",
    );
    let rig = Rig::new(&[server.address], "persistence = \"cookie\"", "");
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\n");
    let head = client.head().unwrap();
    assert!(head.contains("\nConnection: Upgrade\n") && head.contains("\nUpgrade: echo\n"), "{head}");
    assert!(head.contains("X-End: kept") && head.contains("Set-Cookie: merismos-pin="), "{head}");
    assert!(
        !head.contains("X-Hop") && !head.contains("Keep-Alive") && !head.contains("Content-Length"),
        "{head}"
    );
}
