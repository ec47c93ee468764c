//! The machine of a node: what runs short is a headline before clients feel it.

use std::io::Read;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::time::{Duration, Instant};

use merismos_lab::network::Network;
use serde_json::Value;

use crate::addresses::Node;
use crate::harness::Instance;

const DOCUMENT: &str = r#"format = 3

[frontends.line]
protocol = "tcp"
listen = "127.0.0.1:8000"
pool = "quay"

[pools.quay.servers.gull]
address = "127.0.0.2:9000"
"#;

fn part<'r>(report: &'r Value, subject: &str) -> &'r Value {
    let findings = report["findings"].as_array().expect("findings");
    findings.iter().find(|finding| finding["subject"] == subject).expect(subject)
}

#[test]
fn source_ports_that_come_to_an_end_are_told_with_what_helps() {
    let mut network = Network::new().unwrap();
    let database = Instance::new();
    let machine = network.machine("north", &["192.0.2.1/24"]).unwrap();
    // The command line's own connections take some of them too, each until it has been over for a second.
    let few_ports = ["-w", "net.ipv4.ip_local_port_range=40000 40199", "net.ipv4.tcp_migrate_req=0"];
    assert!(machine.command("sysctl").args(few_ports).output().unwrap().status.success());
    let listener = machine.enter(|| TcpListener::bind("127.0.0.2:9000").unwrap()).unwrap();
    std::thread::spawn(move || {
        let mut held = Vec::new();
        while let Ok((mut connection, _)) = listener.accept() {
            // The client learns by this that its connection leads to the server.
            let _ = std::io::Write::write_all(&mut connection, b"x");
            held.push(connection);
        }
    });
    let node = Node::new(machine.clone(), "north", &database, None);
    let document = node.folder.path().join("line.toml");
    std::fs::write(&document, DOCUMENT).unwrap();
    // A check would take ports of its own.
    node.done(&["apply", document.to_str().unwrap(), "--accept-warning", "no-check:pools.quay"]);

    let report = node.json(&["doctor"]);
    assert_eq!(report["node"], "north");
    let ports = part(&report, "source-ports");
    assert_eq!(ports["state"], "enough", "{ports}");
    assert!(ports["found"].as_str().unwrap().contains("of 200 source ports in use"), "{ports}");
    let closing = part(&report, "closing-listeners");
    assert_eq!(
        (&closing["state"], &closing["help"][0]),
        (&"advice".into(), &"net.ipv4.tcp_migrate_req = 1".into())
    );
    assert!(node.merismos(&["doctor"]).status.success(), "advice alone is no failure");

    let to: SocketAddr = "127.0.0.1:8000".parse().unwrap();
    let clients: Vec<TcpStream> = machine
        .enter(|| {
            let open = |_| {
                let mut client = TcpStream::connect(to).unwrap();
                client.read_exact(&mut [0]).unwrap();
                client
            };
            (0..170).map(open).collect()
        })
        .unwrap();
    let report = node.merismos(&["doctor"]);
    let text = String::from_utf8_lossy(&report.stdout).into_owned();
    assert_eq!(report.status.code(), Some(1), "{text}");
    for says in [
        "near its end",
        "quay/gull (127.0.0.2:9000): 170 of 200 source ports in use (85 %)",
        "source_addresses",
    ] {
        assert!(text.contains(says), "{says} in {text}");
    }
    // What lasts is in every status: two looks are 10 seconds apart, and more on a machine that has little time.
    let begun = Instant::now();
    loop {
        let status = String::from_utf8_lossy(&node.merismos(&["status"]).stdout).into_owned();
        if status.contains("170 of 200 source ports in use") && status.contains("merismos doctor") {
            break;
        }
        assert!(begun.elapsed() < Duration::from_secs(120), "{status}");
        std::thread::sleep(Duration::from_millis(500));
    }
    drop(clients);
}
