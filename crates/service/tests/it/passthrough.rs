//! TLS that is passed on by its server name: beside names whose TLS ends here, to servers with certificates of their own.

use crate::harness::{Service, until};
use crate::leaving::Talk;
use crate::server_tls::following_peer;
use crate::tls::{Authority, curl, document, said};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_name_is_passed_on_beside_names_that_end_here_while_its_certificate_is_replaced() {
    let authority = Authority::new();
    authority.issue("booking", &["booking.skerry.example"]);
    let files = authority.issue("tickets", &["tickets.skerry.example"]);
    let (_peer, server) = following_peer(&files);
    let service = Service::with(&["gull"]).await;
    let keys = "certificates = [\"booking\"]\npassthrough.tickets = [\"tickets.skerry.example\", \"*.fleet.skerry.example\"]";
    let text = document(&service, keys)
        + &format!(
            "\n[pools.tickets]\ncheck = \"open\"\n[pools.tickets.servers.skua]\naddress = \"{server}\"\n[checks.open]\nkind = \"tcp\"\n"
        )
        + &authority.tables(&["booking"]);
    service.apply(&text).await.unwrap();
    let ask = |name: &str| said(&curl(&authority, service.frontend, name, &[]));
    until("both are served", async || {
        ask("booking.skerry.example").starts_with("gull")
            && ask("tickets.skerry.example").starts_with("tickets.")
    })
    .await;
    // A name that is not passed on gets a certificate of the frontend, which is not for that name.
    assert!(ask("pier.skerry.example").contains("no alternative certificate subject name matches"));
    // A session begins, the server's certificate is replaced, and the session goes on; the next sees the new one.
    let to = service.frontend.to_string();
    let args =
        ["-connect", &to, "-servername", "tickets.skerry.example", "-quiet", "-CAfile", &authority.root()];
    let mut open = Talk::start("openssl", &[&["s_client"], &args[..]].concat());
    let mut asks_on = || {
        open.say("GET / HTTP/1.1\r\nHost: tickets.skerry.example\r\n\r");
        while !open.line().starts_with("tickets.skerry.example ") {}
    };
    asks_on();
    authority.issue("tickets", &["tickets.skerry.example", "any.fleet.skerry.example"]);
    until("the new certificate is shown", async || ask("any.fleet.skerry.example").starts_with("any.fleet."))
        .await;
    asks_on();
    let status = service.status().await;
    let passed = &status.frontends[0].passthrough[0];
    assert_eq!((passed.pool.as_str(), passed.usable, passed.names.len()), ("tickets", true, 2));
    let shown = String::from_utf8(service.merismos(&["status"]).stdout).unwrap();
    assert!(shown.contains("tickets for tickets.skerry.example, *.fleet.skerry.example"), "{shown}");
    // What is asked beforehand is what happens.
    let explained = service.merismos(&["explain", "harbour", "--sni", "a.fleet.skerry.example"]);
    let explained = String::from_utf8(explained.stdout).unwrap();
    assert!(explained.contains("pool tickets") && explained.contains("passed on"), "{explained}");
    let other = service.merismos(&["explain", "harbour", "--sni", "booking.skerry.example"]);
    assert!(String::from_utf8(other.stdout).unwrap().contains("pool quay"));
    // No other pool takes over for one without servers: its clients would meet another certificate.
    let drained = service.merismos(&["withdraw", "tickets/skua", "--reason", "new disk", "--anyway"]);
    assert!(drained.status.success(), "{drained:?}");
    until("it is told", async || {
        let trouble = service.status().await.frontends[0].trouble.clone();
        trouble.is_some_and(|trouble| trouble.contains("no server of pool tickets is eligible"))
    })
    .await;
    assert!(!curl(&authority, service.frontend, "tickets.skerry.example", &[]).status.success());
    assert!(ask("booking.skerry.example").starts_with("gull"));
}
