//! Several nodes on one database: what is done at one holds on all, one of them does what one has to do, and each goes on alone.

use merismos_api::{DutyRequest, Event, EventKind, NodeView};
use merismos_client::ClientError;
use merismos_core::duty::Duty;
use merismos_lab::free::free_address;
use merismos_lab::stand_in::{Fault, StandIn};

use crate::harness::{Database, Instance, Service, until};
use crate::windows::plan;

/// The document of [`Service::document`] without its frontend: the nodes of a test are on one machine, where one of them alone can listen.
fn document(service: &Service) -> String {
    let text = service.document();
    let (begin, rest) = text.split_once("[frontends.harbour]").unwrap();
    let (_, end) = rest.split_once("pool = \"quay\"\n").unwrap();
    format!("{begin}{end}")
}

/// Two nodes, with servers that both find up.
async fn two(database: Database, names: &[&str]) -> (Service, Service) {
    let north = Service::bare_with(database, names, &["--node", "north"]).await;
    north.apply(&document(&north)).await.unwrap();
    let south = north.beside("south", &[]).await;
    north.all_up().await;
    until("the other one runs the revision", async || south.status().await.revision.number == 1).await;
    south.all_up().await;
    until("each knows the other", async || {
        north.status().await.node.nodes == 2 && south.status().await.node.nodes == 2
    })
    .await;
    (north, south)
}

async fn withdraw(service: &Service, server: &str, why: &str) {
    let request = DutyRequest::new(Duty::Withdrawn, why);
    service.client().duty(&server.parse().unwrap(), &request).await.unwrap();
}

async fn duty(service: &Service, name: &str) -> (Duty, String) {
    let order = service.server(name).await.duty;
    order.map(|order| (order.duty, order.reason)).unwrap_or_default()
}

async fn events(service: &Service, kind: EventKind) -> Vec<Event> {
    let events = service.client().events(500).await.unwrap().events;
    events.into_iter().filter(|event| event.kind == kind).collect()
}

async fn leader(service: &Service) -> Option<String> {
    let nodes = service.client().nodes().await.unwrap().nodes;
    let leading: Vec<NodeView> = nodes.into_iter().filter(|node| node.leads).collect();
    assert!(leading.len() <= 1, "{leading:?}");
    leading.first().map(|node| node.name.clone())
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_done_at_one_node_holds_on_the_other() {
    let (north, south) = two(Database::shared(), &["gull", "tern"]).await;

    // Revisions, both ways.
    let heavier = document(&north).replace("[pools.quay]\n", "[pools.quay]\nnote = \"by the south\"\n");
    south.apply(&heavier).await.unwrap();
    until("the north runs it", async || north.status().await.revision.number == 2).await;
    assert_eq!(north.status().await.revision.author, "admin-2", "the south's first token has another name");
    // A change that is based on the revision before is refused.
    let mut late = Service::request(&document(&north));
    late.going.based_on = Some(1);
    let refused = north.client().apply(&late).await.unwrap_err();
    assert!(matches!(refused, ClientError::Refused(_)), "{refused:?}");

    // Duties, and what was said of them is recorded once.
    withdraw(&south, "quay/gull", "new disk").await;
    until("it is withdrawn in the north", async || duty(&north, "gull").await.0 == Duty::Withdrawn).await;
    assert_eq!(duty(&north, "gull").await.1, "new disk");
    assert!(!north.server("gull").await.eligible);
    until("it is recorded", async || !events(&north, EventKind::Duty).await.is_empty()).await;
    let recorded = events(&north, EventKind::Duty).await;
    assert_eq!(recorded.len(), 1, "{recorded:#?}");
    assert_eq!(recorded[0].node, "south");
    let runs = |event: &Event| event.message.starts_with("runs now");
    let revisions: Vec<Event> = events(&north, EventKind::Revision).await.into_iter().filter(runs).collect();
    assert_eq!(revisions.len(), 2, "each revision once: {revisions:#?}");

    // Tokens.
    let made = south.client().create_token(&"kittiwake".parse().unwrap()).await.unwrap();
    let kittiwake = merismos_client::Client::new(&north.url(), &made.token).unwrap();
    until("the north knows the token", async || kittiwake.status().await.is_ok()).await;
    north.client().revoke_token(&"kittiwake".parse().unwrap()).await.unwrap();
    let at_south = merismos_client::Client::new(&south.url(), &made.token).unwrap();
    until("the south refuses it", async || at_south.status().await.is_err()).await;

    // A server that is renamed elsewhere stays as it is: withdrawn.
    let rename = merismos_core::config::edit::Edit::Rename {
        object: "pools.quay.servers.gull".parse().unwrap(),
        to: "skua".parse().unwrap(),
    };
    let change = merismos_api::ChangeRequest { edits: vec![rename], going: Service::request("").going };
    north.client().change(&change).await.unwrap();
    until("the south runs it", async || south.status().await.revision.number == 3).await;
    assert_eq!(duty(&south, "skua").await, (Duty::Withdrawn, "new disk".to_owned()));

    // A node that starts later knows it all.
    let west = north.beside("west", &[]).await;
    assert_eq!(west.status().await.revision.number, 3);
    assert_eq!(duty(&west, "skua").await.0, Duty::Withdrawn);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn orders_that_cross_are_settled_by_one_rule_and_said() {
    let (north, south) = two(Database::Own(Instance::new()), &["gull", "tern", "skua"]).await;
    north.database.instance().kill();
    for node in [&north, &south] {
        until("it knows that the database is away", async || {
            node.status().await.troubles.iter().any(|trouble| trouble.contains("The other node goes on"))
        })
        .await;
    }
    // Both hold at once, each where it was given.
    withdraw(&north, "quay/gull", "new disk").await;
    withdraw(&south, "quay/gull", "new memory").await;
    withdraw(&south, "quay/tern", "new fan").await;
    assert_eq!(duty(&north, "gull").await.1, "new disk");
    assert_eq!(duty(&south, "gull").await.1, "new memory");
    assert_eq!(duty(&north, "tern").await.0, Duty::InService);

    north.database.instance().start();
    until("the later one holds on both", async || {
        duty(&north, "gull").await.1 == "new memory" && duty(&south, "gull").await.1 == "new memory"
    })
    .await;
    until("what did not cross is followed", async || duty(&north, "tern").await.0 == Duty::Withdrawn).await;
    until("it is said whose order does not hold", async || {
        let crossed = "withdrawn by admin-2: new memory, given on another node at the same time, holds; withdrawn by admin on this one does \
                       not (new disk)";
        let said = events(&south, EventKind::Duty).await;
        said.iter().filter(|event| event.message == crossed && event.node == "north").count() == 1
    })
    .await;
    let crossed = |event: &Event| event.message.contains("at the same time");
    assert_eq!(events(&north, EventKind::Duty).await.iter().filter(|event| crossed(event)).count(), 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_node_leads_and_another_takes_its_place() {
    let (mut north, mut south) = two(Database::shared(), &["gull"]).await;
    until("one leads", async || leader(&north).await.is_some()).await;
    let first = leader(&north).await.unwrap();
    until("both agree", async || leader(&south).await.as_deref() == Some(&*first)).await;
    assert_ne!(north.status().await.node.leads, south.status().await.node.leads);

    let (gone, stays) = if first == "north" { (&mut north, &mut south) } else { (&mut south, &mut north) };
    let other = if first == "north" { "south" } else { "north" };
    gone.signal("-KILL");
    gone.ended().await;
    until("the other one leads", async || leader(stays).await.as_deref() == Some(other)).await;
    let says = format!("node {first} is gone: its last sign of life is ");
    until("its end is a headline", async || {
        stays.status().await.troubles.iter().any(|trouble| trouble.starts_with(&says))
    })
    .await;
    until("it is written down", async || {
        let said = events(stays, EventKind::Node).await;
        let about =
            |event: &Event| event.message.starts_with(&format!("node {first} is gone: no sign of life"));
        said.iter().filter(|event| about(event)).count() == 1
    })
    .await;
    let listed = stays.merismos(&["node", "list"]);
    assert_eq!(listed.status.code(), Some(1), "one is gone");
    let listed = String::from_utf8(listed.stdout).unwrap();
    assert!(listed.contains("gone for") && listed.contains("alive") && listed.contains("leads"), "{listed}");

    // It comes back, and all is well without anyone's help.
    gone.start().await;
    until("it is there again", async || stays.status().await.troubles.is_empty()).await;
    assert_eq!(leader(stays).await.as_deref(), Some(other), "who leads goes on");
    // Its first sign of life may have come before it knew what it runs.
    until("both run the same", async || stays.merismos(&["node", "list"]).status.code() == Some(0)).await;
    let refused = stays.client().remove_node(&first).await.unwrap_err().to_string();
    assert!(refused.contains("stop it first"), "{refused}");

    // One that stops in order leaves at once; one that is killed can be forgotten.
    gone.signal("-TERM");
    gone.ended().await;
    until("it has left", async || stays.client().nodes().await.unwrap().nodes.len() == 1).await;
    gone.start().await;
    until("both are there", async || stays.status().await.node.nodes == 2).await;
    gone.signal("-KILL");
    gone.ended().await;
    until("it can be forgotten", async || stays.client().remove_node(&first).await.is_ok()).await;
    assert_eq!(stays.client().nodes().await.unwrap().nodes.len(), 1);
    assert_eq!(stays.status().await.troubles, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn windows_and_messages_are_the_work_of_one_node() {
    let hook = StandIn::for_posts("bell", free_address()).unwrap();
    let north = Service::bare_with(Database::shared(), &["gull", "tern", "skua"], &["--node", "north"]).await;
    let text = document(&north)
        + &format!(
            "\n[notifications.bell]\nwebhook = \"http://{}/hook\"\nbatch_window = \"1s\"\nmin_interval = \"1s\"\nchanges = [\"down\"]\n",
            hook.address
        );
    north.apply(&text).await.unwrap();
    let south = north.beside("south", &[]).await;
    for node in [&north, &south] {
        node.all_up().await;
        until("each knows the other", async || node.status().await.node.nodes == 2).await;
    }
    until("one leads", async || leader(&north).await.is_some() && leader(&south).await.is_some()).await;

    // Both see the server go down, and one of them sends the message.
    north.stand_ins[0].set(Fault::Refuse).await;
    for node in [&north, &south] {
        until("it is down", async || node.server("gull").await.health.state.to_string() == "down").await;
    }
    let of_gull = |text: &str| text.contains("quay/gull");
    let messages = || hook.inbox().iter().filter(|message| of_gull(&message.text)).count();
    until("it is said", async || messages() > 0).await;
    let leading = leader(&north).await.unwrap();
    let (lead, other) = if leading == "north" { (&north, &south) } else { (&south, &north) };
    let sent = lead.client().messages(10).await.unwrap().messages;
    assert_eq!(sent.iter().filter(|message| of_gull(&message.message)).count(), 1, "{sent:?}");
    until("both list it", async || {
        let listed = other.client().messages(10).await.unwrap().messages;
        listed.iter().filter(|message| of_gull(&message.message)).count() == 1
    })
    .await;

    // A window that is planned at one opens once.
    other.client().put_window(&"autumn".parse().unwrap(), &plan(&["quay/tern"], 4)).await.unwrap();
    for node in [&north, &south] {
        until("its server drains", async || duty(node, "tern").await.0 == Duty::Draining).await;
    }
    let begins = |event: &Event| event.message.starts_with("begins");
    until("it is written down", async || events(&north, EventKind::Window).await.iter().any(begins)).await;
    let opened: Vec<Event> = events(&north, EventKind::Window).await.into_iter().filter(begins).collect();
    assert_eq!(opened.len(), 1, "{opened:#?}");
    assert_eq!(opened[0].node, leading);
    assert_eq!(messages(), 1, "nothing is said twice");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_message_is_not_lost_with_the_node_that_would_have_sent_it() {
    let hook = StandIn::for_posts("bell", free_address()).unwrap();
    let mut north = Service::bare_with(Database::shared(), &["gull", "tern"], &["--node", "north"]).await;
    let text = document(&north)
        + &format!(
            "\n[notifications.bell]\nwebhook = \"http://{}/hook\"\nbatch_window = \"2s\"\nchanges = [\"down\"]\n",
            hook.address
        );
    north.apply(&text).await.unwrap();
    until("the north leads", async || leader(&north).await.as_deref() == Some("north")).await;
    let south = north.beside("south", &[]).await;
    south.all_up().await;
    // It sees the failure, and is killed while it gathers what else may fail.
    north.stand_ins[0].set(Fault::Refuse).await;
    for node in [&north, &south] {
        until("it is down", async || node.server("gull").await.health.state.to_string() == "down").await;
    }
    north.signal("-KILL");
    north.ended().await;
    until("the other one says it", async || !hook.inbox().is_empty()).await;
    assert!(hook.inbox()[0].text.contains("quay/gull"), "{:?}", hook.inbox());
    assert_eq!(leader(&south).await.as_deref(), Some("south"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn servers_that_nodes_see_differently_are_named_with_what_that_may_mean() {
    use std::os::unix::fs::PermissionsExt;
    let program = |says: &str| {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("look");
        std::fs::write(&path, format!("#!/bin/sh\nexit {says}\n")).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
        folder
    };
    let (well, ill) = (program("0"), program("1"));
    let flags =
        |folder: &tempfile::TempDir| ["--command-folder".to_owned(), folder.path().display().to_string()];
    let of_north = flags(&well);
    let north =
        Service::bare_with(Database::shared(), &["gull"], &["--node", "north", &of_north[0], &of_north[1]])
            .await;
    let text = document(&north)
        .replace("kind = \"http\"\npath = \"/health\"", "kind = \"command\"\nprogram = \"look\"");
    north.apply(&text).await.unwrap();
    north.all_up().await;
    let of_south = flags(&ill);
    let south = north.beside("south", &[&of_south[0], &of_south[1]]).await;
    let west = north.beside("west", &[&of_north[0], &of_north[1]]).await;
    until("the south finds it down", async || south.server("gull").await.health.state.to_string() == "down")
        .await;
    let says = "only node south finds quay/gull down, and nodes north and west do not: look at the way from south to it";
    for node in [&north, &south, &west] {
        until("each says so", async || node.status().await.troubles.iter().any(|trouble| trouble == says))
            .await;
    }
    let shown = north.merismos(&["node", "show", "south"]);
    let shown = String::from_utf8(shown.stdout).unwrap();
    assert!(
        shown.contains("1 servers are down as seen from there") && shown.contains("quay/gull"),
        "{shown}"
    );
    until("it is written down once", async || {
        let said = events(&north, EventKind::Node).await;
        said.iter().filter(|event| event.message == says).count() == 1
    })
    .await;
    std::fs::write(ill.path().join("look"), "#!/bin/sh\nexit 0\n").unwrap();
    until("it is over", async || {
        let said = events(&north, EventKind::Node).await;
        said.iter().any(|event| event.message == "all nodes see quay/gull alike again")
    })
    .await;
    until("all is well", async || north.status().await.troubles.is_empty()).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_key_of_pins_is_that_of_all_nodes() {
    let (north, south) = two(Database::shared(), &["gull"]).await;
    let secret = |service: &Service| std::fs::read(service.folder.path().join("state/pin-secret")).unwrap();
    let before = secret(&north);
    until("the south has the north's", async || secret(&south) == before).await;
    south.client().renew_pin_key().await.unwrap();
    until("the north has the new one", async || secret(&north) == secret(&south) && secret(&north) != before)
        .await;
    let former =
        |service: &Service| std::fs::read(service.folder.path().join("state/pin-secret-before")).unwrap();
    assert_eq!((former(&north), former(&south)), (before.clone(), before));

    // One that does not share what the secrets are sealed with says what to do.
    let stranger =
        Service::bare_with(Database::Another(north.database.url()), &[], &["--node", "stranger"]).await;
    until("it says so", async || {
        let says = "this node's store-secret is not that of the other nodes";
        stranger.status().await.troubles.iter().any(|trouble| trouble.starts_with(says))
    })
    .await;
    assert_ne!(secret(&stranger), secret(&north));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_keys_of_session_tickets_are_those_of_all_nodes() {
    let (north, south) = two(Database::shared(), &["gull"]).await;
    let keys = |service: &Service| std::fs::read(service.folder.path().join("state/ticket-keys")).unwrap();
    // When it was drawn and its secret: each node drew one at its start.
    until("each has both", async || keys(&north).len() == 2 * 40 && keys(&north) == keys(&south)).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_nodes_of_one_name_are_a_headline() {
    let (north, _south) = two(Database::shared(), &["gull"]).await;
    let double = north.beside("north", &[]).await;
    for node in [&north, &double] {
        until("it says so", async || {
            let says = "another node is called north too";
            node.status().await.troubles.iter().any(|trouble| trouble.starts_with(says))
        })
        .await;
    }
    assert_eq!(north.merismos(&["node", "remove", "north"]).status.code(), Some(3));
    assert_eq!(north.merismos(&["node", "show", "nowhere"]).status.code(), Some(2));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_nodes_can_not_empty_a_pool_together() {
    let (north, south) = two(Database::shared(), &["gull", "tern"]).await;
    for turn in 0..5 {
        let request = DutyRequest::new(Duty::Withdrawn, "new disk");
        let (gull, tern) = ("quay/gull".parse().unwrap(), "quay/tern".parse().unwrap());
        let (at_north, at_south) = (north.client(), south.client());
        let (one, other) = tokio::join!(at_north.duty(&gull, &request), at_south.duty(&tern, &request));
        assert_eq!(
            [one.is_ok(), other.is_ok()].iter().filter(|done| **done).count(),
            1,
            "turn {turn}: {one:?} {other:?}"
        );
        let refused = one.err().or(other.err()).unwrap().to_string();
        assert!(refused.contains("would have no eligible server"), "{refused}");
        let back = DutyRequest { at_once: true, ..DutyRequest::new(Duty::InService, "it works") };
        for server in [&gull, &tern] {
            north.client().duty(server, &back).await.unwrap();
        }
        for node in [&north, &south] {
            node.all_up().await;
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_is_drained_when_no_node_has_work_at_it() {
    use std::io::Write;
    let north = Service::bare_with(Database::shared(), &["gull", "tern"], &["--node", "north"]).await;
    north.apply(&north.document()).await.unwrap();
    // The nodes are on one machine, where the first one alone listens: all traffic is its own.
    let south = north.beside("south", &[]).await;
    for node in [&north, &south] {
        node.all_up().await;
        until("each knows the other", async || node.status().await.node.nodes == 2).await;
    }
    let mut slow = std::net::TcpStream::connect(north.frontend).unwrap();
    slow.write_all(b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nx").unwrap();
    let mut busy = None;
    until("a server works on it", async || {
        let status = north.status().await;
        busy = status.pools[0]
            .servers
            .iter()
            .find(|server| server.in_flight > 0)
            .map(|server| server.server.clone());
        busy.is_some()
    })
    .await;
    let busy = busy.unwrap();
    let ordered = south.merismos(&["drain", &busy, "--reason", "new disk"]);
    let says = String::from_utf8_lossy(&ordered.stdout).into_owned();
    assert!(ordered.status.success() && says.contains("another node"), "{says}");
    let here = async || {
        let drains = south.client().drains().await.unwrap().servers;
        drains.into_iter().find(|drain| drain.server == busy).unwrap().draining
    };
    until("the other node says what is open there", async || here().await.open_elsewhere == 1).await;
    let draining = here().await;
    assert_eq!((draining.open.all(), draining.nodes_not_done, draining.safe), (0, 1, false));
    drop(slow);
    until("both say that it can be worked on", async || {
        let at_north = north.client().drains().await.unwrap().servers;
        here().await.safe && at_north.iter().all(|drain| drain.draining.safe)
    })
    .await;
    let drained = |event: &Event| event.message.starts_with("drained");
    until("it is written down", async || events(&south, EventKind::Duty).await.iter().any(drained)).await;
    assert_eq!(events(&south, EventKind::Duty).await.iter().filter(|event| drained(event)).count(), 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_node_follows_on_after_upgrades_that_fail_and_that_work_and_leaves_the_lead_when_it_stops() {
    let (mut north, south) = two(Database::shared(), &["gull", "tern"]).await;
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let failed = north.run_once(&["upgrade", "--api-listen", &taken.local_addr().unwrap().to_string()]);
    assert!(!failed.status.success());
    withdraw(&south, "quay/gull", "after the failure").await;
    until("the first process follows on", async || duty(&north, "gull").await.0 == Duty::Withdrawn).await;

    let _old = north.upgrade().await;
    let back = DutyRequest { at_once: true, ..DutyRequest::new(Duty::InService, "it works") };
    south.client().duty(&"quay/gull".parse().unwrap(), &back).await.unwrap();
    until("the new process follows", async || duty(&north, "gull").await.0 == Duty::InService).await;
    let nodes = south.client().nodes().await.unwrap().nodes;
    assert_eq!(nodes.len(), 2, "it is the same node: {nodes:?}");

    until("the north leads", async || leader(&south).await.as_deref() == Some("north")).await;
    // What it has open keeps it from ending at once; it does not lead meanwhile.
    north.apply(&north.document()).await.unwrap();
    let mut slow = std::net::TcpStream::connect(north.frontend).unwrap();
    std::io::Write::write_all(&mut slow, b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nx")
        .unwrap();
    until("it is under way", async || {
        let status = north.status().await;
        status.pools[0].servers.iter().any(|server| server.in_flight == 1)
    })
    .await;
    north.signal("-TERM");
    until("the south leads", async || leader(&south).await.as_deref() == Some("south")).await;
    let nodes = south.client().nodes().await.unwrap().nodes;
    assert!(
        nodes.iter().all(|node| node.is_alive) && nodes.len() == 2,
        "it still says that it is there: {nodes:?}"
    );
    drop(slow);
    north.ended().await;
    until("it has left", async || south.client().nodes().await.unwrap().nodes.len() == 1).await;
}
