//! The command line as a person uses it.

use std::process::Output;

use merismos_lab::free::free_address;
use merismos_lab::stand_in::Fault;
use rstest::rstest;

use crate::harness::{Database, Service, merismos, until};

fn out(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn err(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_way_from_an_empty_service_to_a_proven_one() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let file = service.folder.path().join("skerry.toml");
    std::fs::write(&file, service.document()).unwrap();
    let file = file.to_str().unwrap();

    let preview = service.merismos(&["apply", file, "--preview"]);
    assert!(
        out(&preview).contains("+ add server quay/gull") && out(&preview).contains("This was a preview"),
        "{}",
        out(&preview)
    );
    let unaccepted = service.merismos(&["apply", file, "--revision-note", "the first"]);
    let key = "slow-timeout:checks.well.timeout";
    assert_eq!(unaccepted.status.code(), Some(1), "{}", err(&unaccepted));
    assert!(err(&unaccepted).contains(&format!("--accept-warning {key}")), "{}", err(&unaccepted));
    let applied = service.merismos(&["apply", file, "--revision-note", "the first", "--accept-warning", key]);
    assert!(applied.status.success() && out(&applied).contains("Revision 1 runs now"), "{}", out(&applied));
    assert!(out(&service.merismos(&["apply", file])).contains("Nothing changes: revision 1"));
    service.all_up().await;

    let status = service.merismos(&["status"]);
    for part in ["All is well.", "harbour", "pool quay · round-robin · 2 of 2 eligible", "50.0 %"] {
        assert!(out(&status).contains(part), "{part:?} in {}", out(&status));
    }
    let trial = service.merismos(&["trial", "harbour", "--requests", "200"]);
    assert_eq!(trial.status.code(), Some(0), "{}{}", out(&trial), err(&trial));
    assert!(out(&trial).contains("✓ As expected") && out(&trial).contains("p = 1.000"), "{}", out(&trial));
    assert!(out(&service.merismos(&["trial", "list"])).contains("as expected"));

    let drained = service.merismos(&["drain", "quay/gull", "--reason", "new disk"]);
    assert!(out(&drained).contains("quay/gull drains: it gets no new clients; nothing is open"));
    let back = service.merismos(&["return", "quay/gull", "--wait"]);
    assert!(back.status.success() && out(&back).contains("quay/gull is back"), "{}", err(&back));
    assert!(service.merismos(&["drain", "quay/gull", "--reason", "new disk"]).status.success());
    let explained = service.merismos(&["explain", "harbour"]);
    assert!(
        out(&explained).contains("✓ quay/tern") && out(&explained).contains("admin: new disk"),
        "{}",
        out(&explained)
    );
    let last = service.merismos(&["withdraw", "quay/tern", "--reason", "oh"]);
    assert_eq!(last.status.code(), Some(3));
    assert!(err(&last).contains("--anyway"), "{}", err(&last));
    assert!(service.merismos(&["return", "quay/gull", "--reason", "done"]).status.success());

    let events = out(&service.merismos(&["events"]));
    for part in ["runs now, by admin: the first", "draining by admin: new disk", "in service by admin: done"]
    {
        assert!(events.contains(part), "{part:?} in {events}");
    }
    let export = out(&service.merismos(&["export"]));
    std::fs::write(file, export).unwrap();
    assert!(out(&service.merismos(&["apply", file])).contains("Nothing changes"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_failed_trial_exits_with_1_and_shows_what_happened() {
    let service = Service::with(&["gull", "tern"]).await;
    // No probe notices the failure before the trial does.
    service.apply(&service.document().replace("interval = \"200ms\"", "interval = \"1h\"")).await.unwrap();
    service.stand_ins[1].set(Fault::Error { status: 500 }).await;
    let trial = service.merismos(&["trial", "harbour", "--requests", "40"]);
    assert_eq!(trial.status.code(), Some(1), "{}", out(&trial));
    assert!(out(&trial).contains("✗ Not as expected"), "{}", out(&trial));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_document_with_three_mistakes_is_refused_with_all_of_them() {
    let service = Service::with(&["gull"]).await;
    let file = service.folder.path().join("wrong.toml");
    let text = service.document().replace("kind = \"http\"", "kind = \"https\"").replace("pool = ", "pol = ");
    std::fs::write(&file, text.replace("address = \"127.0.0.1:", "address = \"127.0.0.1:9")).unwrap();
    let refused = service.merismos(&["apply", file.to_str().unwrap()]);
    assert_eq!(refused.status.code(), Some(1));
    let says = err(&refused);
    for part in [
        "line 4: checks.well.kind",
        "frontends.harbour.pol: there is no key \"pol\" here. Right would be: the key pool",
        "address",
    ] {
        assert!(says.contains(part), "{part:?} in {says}");
    }
    assert_eq!(service.status().await.revision.number, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn events_are_followed_as_they_happen() {
    let service = Service::with(&["gull", "tern"]).await;
    let mut child = merismos()
        .args(["--url", &service.url(), "--token", &service.token(), "events", "--follow"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let lines = std::sync::Arc::new(std::sync::Mutex::new(String::new()));
    let (sink, mut source) = (std::sync::Arc::clone(&lines), child.stdout.take().unwrap());
    let reader = std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        while let Ok(count @ 1..) = std::io::Read::read(&mut source, &mut buffer) {
            sink.lock().unwrap().push_str(&String::from_utf8_lossy(&buffer[..count]));
        }
    });
    until("past events are shown", async || lines.lock().unwrap().contains("runs now")).await;
    service.stand_ins[0].set(Fault::Refuse).await;
    until("the failure is shown", async || lines.lock().unwrap().contains("down after")).await;
    child.kill().unwrap();
    child.wait().unwrap();
    reader.join().unwrap();
}

#[test]
fn a_service_that_is_not_running_is_said_with_what_to_do() {
    let output =
        merismos().args(["--url", &format!("http://{}", free_address()), "status"]).output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    let says = err(&output);
    assert!(
        says.contains("no Merismos service answers") && says.contains("Start the service (`merismosd"),
        "{says}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_log_in_is_kept_for_its_owner_alone_and_a_wrong_one_is_not_kept() {
    use std::os::unix::fs::PermissionsExt;

    let service = Service::with(&["gull"]).await;
    let home = tempfile::tempdir().unwrap();
    let call = |args: &[&str]| merismos().env("XDG_CONFIG_HOME", home.path()).args(args).output().unwrap();
    let wrong = call(&["login", "--url", &service.url(), "--token", "guess"]);
    assert_eq!(wrong.status.code(), Some(3));
    assert!(err(&wrong).contains("the service does not know this token"), "{}", err(&wrong));
    let token_file = service.folder.path().join("state/first-token");
    let right = call(&["login", "--url", &service.url(), "--token-file", token_file.to_str().unwrap()]);
    assert!(right.status.success(), "{}", err(&right));
    let kept = home.path().join("merismos/login.toml");
    assert_eq!(std::fs::metadata(kept).unwrap().permissions().mode() & 0o777, 0o600);
    assert!(call(&["status"]).status.success(), "later calls need neither address nor token");
}

#[rstest]
#[case::no_command(&[])]
#[case::unknown_command(&["restart"])]
#[case::no_reason(&["drain", "quay/gull"])]
#[case::not_a_server(&["drain", "gull", "--reason", "x"])]
#[case::no_requests(&["trial", "harbour", "--requests", "0"])]
#[case::no_file(&["apply", "/nonexistent.toml"])]
#[case::a_status_is_no_warning(&["check", "change", "well", "--accept-warning", "200-399"])]
fn a_wrong_call_exits_with_2(#[case] args: &[&str]) {
    let output = merismos().args(args).output().unwrap();
    assert_eq!(output.status.code(), Some(2), "{}", err(&output));
    assert!(err(&output).len() > 20, "{}", err(&output));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_name_that_is_not_there_is_a_wrong_call_whichever_command_it_is_given_to() {
    let service = Service::with(&["gull"]).await;
    let calls: [&[&str]; 18] = [
        &["status", "kay"],
        &["explain", "harbor"],
        &["decisions", "--frontend", "harbor", "--count", "1"],
        &["diagnose", "quay/gul"],
        &["pool", "show", "kay"],
        &["pool", "change", "kay", "--attempts", "2"],
        &["server", "remove", "quay/gul"],
        &["server", "probes", "quay/gul"],
        &["server", "add", "kay", "192.0.2.1:80"],
        &["check", "try", "wel", "quay/gull"],
        &["notification", "try", "night"],
        &["drain", "quay/gul", "--reason", "x"],
        &["failback", "kay"],
        &["trial", "harbor", "--requests", "1"],
        &["trial", "show", "7"],
        &["draft", "review", "autumn"],
        &["revision", "show", "99"],
        &["token", "revoke", "night-shift"],
    ];
    for call in calls {
        let output = service.merismos(call);
        assert_eq!(output.status.code(), Some(2), "{call:?}: {}{}", out(&output), err(&output));
        let unknown = call.iter().find(|flag| {
            ["kay", "harbor", "gul", "wel", "night", "autumn", "99", "7"]
                .iter()
                .any(|name| flag.ends_with(name))
        });
        assert!(unknown.is_none_or(|name| err(&output).contains(*name)), "{call:?}: {}", err(&output));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_check_sends_is_written_and_shown_with_the_escapes_of_a_document() {
    let service = Service::with(&["gull"]).await;
    let send = r"\x00\u0001PING\r\n";
    let made =
        service.merismos(&["check", "create", "raw", "--kind", "tcp", "--send", send, "--expect", r"\\o/"]);
    assert!(out(&made).contains("send 8 bytes: 00 01 50 49 4e 47 0d 0a"), "{}{}", out(&made), err(&made));
    let object = "checks.raw".parse().unwrap();
    let keys = service.client().object(&object, None).await.unwrap().keys;
    assert_eq!((&keys["send"], &keys["expect"]), (&"\0\u{1}PING\r\n".into(), &r"\o/".into()));
    let shown = out(&service.merismos(&["check", "show", "raw"]));
    assert!(shown.contains(r"\u0000\u0001PING\r\n  (8 bytes: 00 01 "), "{shown}");
    assert!(shown.contains(r"\\o/"), "{shown}");
    let wrong = service.merismos(&["check", "create", "more", "--kind", "tcp", "--send", r"\xff"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(err(&wrong).contains(r"\x00 to \x7f"), "{}", err(&wrong));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_status_tells_totals_response_times_and_how_often_a_server_went_down() {
    let service = Service::with(&["gull", "tern"]).await;
    let lines = |args: &[&str]| -> Vec<String> {
        let output = service.merismos(args);
        assert_eq!(output.status.code(), Some(0), "{args:?}: {}", err(&output));
        let columns = |line: &str| line.split_whitespace().collect::<Vec<_>>().join(" ");
        out(&output).lines().map(columns).collect()
    };
    for _ in 0..6 {
        assert_eq!(service.get().await.unwrap().0, 200);
    }
    let totals = lines(&["status", "--totals", "--reset"]);
    let has = |totals: &[String], begin: &str| totals.iter().any(|line| line.starts_with(begin));
    assert!(has(&totals, "quay/gull 3 0 0 0 "), "{totals:#?}");
    for _ in 0..2 {
        assert_eq!(service.get().await.unwrap().0, 200);
    }
    let totals = lines(&["status", "--totals"]);
    let gull = totals.iter().find(|line| line.starts_with("quay/gull 4 0 0 0 ")).unwrap();
    assert!(gull.contains(" B 1 0 0 0 "), "{totals:#?}");

    let before = service.server("tern").await;
    let latency = before.latency.unwrap();
    assert!(latency.measured >= 1 && latency.median_us <= latency.p99_us, "{latency:?}");
    assert!(latency.p99_us < 10_000_000, "{latency:?}");
    assert_eq!(before.health.downs_today, 0);
    service.stand_ins[1].set(Fault::Refuse).await;
    until("tern is down", async || service.server("tern").await.health.downs_today == 1).await;
    let short = lines(&["status", "--short"]);
    assert!(short.iter().any(|line| line.starts_with("quay round-robin 1 of 2 1 1 ")), "{short:#?}");
    let no_terminal = service.merismos(&["status", "--watch"]);
    assert_eq!(no_terminal.status.code(), Some(2));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_service_is_made_in_one_step_and_removed_in_one() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let done = |args: &[&str]| {
        let output = service.merismos(args);
        assert_eq!(output.status.code(), Some(0), "{args:?}: {}{}", out(&output), err(&output));
        out(&output) + &err(&output)
    };
    let listen = service.frontend.to_string();
    let servers: Vec<String> = ["oak", "elm"]
        .iter()
        .zip(&service.stand_ins)
        .map(|(name, stand_in)| format!("{name}={}", stand_in.address))
        .collect();
    let mut create = vec![
        "service",
        "create",
        "catalogue",
        "--listen",
        &listen,
        "--server",
        &servers[0],
        "--server",
        &servers[1],
    ];
    create.extend(["--check", "http:/health"]);
    let seen = done(&[&create[..], &["--preview"]].concat());
    for part in [
        "+ add frontend catalogue",
        "+ add server catalogue/elm",
        "+ add check catalogue",
        "nothing was changed",
    ] {
        assert!(seen.contains(part), "{part}: {seen}");
    }
    assert!(done(&create).contains("Revision 1 runs now"));
    until("both servers are up", async || service.status().await.pools[0].eligible == 2).await;
    assert_eq!(service.get().await.unwrap().0, 200);

    // A second one that shares its check; of the first, what the second uses stays.
    let other = merismos_lab::free::free_address().to_string();
    done(&["service", "create", "shop", "--listen", &other, "--server", &servers[0], "--check", "catalogue"]);
    let removed = done(&["service", "remove", "catalogue"]);
    assert!(
        removed.contains("- remove frontend catalogue") && removed.contains("- remove pool catalogue"),
        "{removed}"
    );
    assert!(removed.contains("check catalogue is left: pool shop uses it too"), "{removed}");
    let removed = done(&["service", "remove", "shop"]);
    assert!(removed.contains("- remove check catalogue"), "{removed}");
    let document = done(&["export"]);
    assert_eq!(document.trim(), "format = 3");
    let none = service.merismos(&["service", "remove", "shop"]);
    assert_eq!(none.status.code(), Some(2));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_answer_is_there_as_json() {
    let service = Service::with(&["gull"]).await;
    for args in [&["status"][..], &["explain", "harbour"], &["trial", "list"], &["export"]] {
        let output = service.merismos(&[args, &["--json"]].concat());
        let parsed: Result<serde_json::Value, _> = serde_json::from_slice(&output.stdout);
        assert!(parsed.is_ok_and(|value| value.is_object()), "{args:?}: {}", out(&output));
    }
    let events = service.merismos(&["events", "--json"]);
    assert!(out(&events).lines().all(|line| serde_json::from_str::<serde_json::Value>(line).is_ok()));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn object_by_object_from_an_empty_service_to_a_working_frontend_and_back() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let done = |args: &[&str]| {
        let output = service.merismos(args);
        assert_eq!(output.status.code(), Some(0), "{args:?}: {}{}", out(&output), err(&output));
        out(&output)
    };
    let listen = service.frontend.to_string();
    assert!(done(&["pool", "create", "quay", "--label", "site=north"]).contains("+ add pool quay"));
    let early = service.merismos(&["frontend", "create", "harbour", "--listen", &listen, "--pool", "quay"]);
    assert_eq!(early.status.code(), Some(1));
    assert!(err(&early).contains("--accept-warning empty-pool:pools.quay"), "{}", err(&early));

    let servers: Vec<String> =
        service.stand_ins.iter().map(|stand_in| stand_in.address.to_string()).collect();
    let added = done(&["server", "add", "quay", &servers[0], "3", &servers[1]]);
    assert!(added.contains("weight 3") && added.contains("75.0 %"), "{added}");
    let check = [
        "check",
        "create",
        "well",
        "--kind",
        "http",
        "--path",
        "/health",
        "--interval",
        "200ms",
        "--timeout",
        "190ms",
    ];
    assert!(done(&check).contains("noticed after 400 ms at best"));
    done(&["pool", "change", "quay", "--check", "well"]);
    let preview =
        done(&["frontend", "create", "harbour", "--listen", &listen, "--pool", "quay", "--preview"]);
    assert!(preview.contains("This was a preview"), "{preview}");
    assert!(service.get().await.is_err());
    done(&[
        "frontend",
        "create",
        "harbour",
        "--listen",
        &listen,
        "--pool",
        "quay",
        "--revision-note",
        "ferries",
    ]);
    service.all_up().await;
    assert_eq!(service.get().await.unwrap().0, 200);

    for (args, part) in [
        (&["pool", "list", "--label", "site=north"][..], "frontend harbour"),
        (&["server", "list", "quay"], "weight 3"),
        (&["frontend", "show", "harbour"], "connection_limit       10000"),
        (&["check", "list"], "pool quay"),
        (&["host", "list"], "(only seen)"),
        (&["revision", "list"], "ferries"),
    ] {
        let shown = done(args);
        assert!(shown.contains(part), "{args:?}: {part:?} in {shown}");
    }
    let used = service.merismos(&["check", "remove", "well"]);
    assert_eq!(used.status.code(), Some(3));
    assert!(err(&used).contains("frontend harbour, pool quay, check well"), "{}", err(&used));

    // Addresses from a range, hosts from a list, several changes in a draft.
    done(&["draft", "create", "autumn", "--note", "the autumn timetable"]);
    let list = service.folder.path().join("hosts");
    std::fs::write(&list, "192.0.2.30 auk\n192.0.2.31 skua\n").unwrap();
    done(&["host", "import", list.to_str().unwrap(), "--draft", "autumn"]);
    done(&["range", "create", "public", "--addresses", "127.0.0.1-127.0.0.3", "--draft", "autumn"]);
    let other = free_address().port().to_string();
    done(&["frontend", "copy", "harbour", "pier", "--from", "public", "--port", &other, "--draft", "autumn"]);
    let added = done(&[
        "server", "add", "quay", "--hosts", "auk,skua", "--port", "8080", "--weight", "0", "--draft",
        "autumn",
    ]);
    // The edit's own change, and a line about the whole.
    assert!(added.contains("+ add server quay/auk") && !added.contains("public/pier"), "{added}");
    assert!(added.contains("Draft autumn: 7 changes, ready;"), "{added}");
    let weigh = |server: &str, weight: &str| {
        done(&["server", "change", server, "--weight", weight, "--draft", "autumn"])
    };
    let running = service.status().await.pools[0].servers.clone();
    let (one, other_one) = (running[0].server.as_str(), running[1].server.as_str());
    weigh(one, "0");
    let idle = weigh(other_one, "0");
    assert!(idle.contains("1 warning to accept"), "{idle}");
    let review = service.merismos(&["draft", "review", "autumn"]);
    assert_eq!(review.status.code(), Some(1), "deploying it would be refused: {}", out(&review));
    weigh(one, &running[0].weight.to_string());
    let undone = weigh(other_one, &running[1].weight.to_string());
    assert!(undone.contains("as it runs again: pools.quay.servers.at-127-0-0-1"), "{undone}");
    let review = done(&["draft", "review", "autumn"]);
    for part in [
        "+ add address public/pier (127.0.0.2)",
        "+ add server quay/auk (address auk:8080, weight 0)",
        "Ready:",
    ] {
        assert!(review.contains(part), "{part:?} in {review}");
    }
    assert!(done(&["draft", "deploy", "autumn"]).contains("runs now"));
    let answer = crate::harness::http_client();
    let answer = answer.get(format!("http://127.0.0.2:{other}/")).send().await.unwrap();
    assert_eq!(answer.status().as_u16(), 200);
    let back = done(&["revision", "revert", "5", "--revision-note", "not yet"]);
    assert!(back.contains("- remove frontend pier") && back.contains("runs now"), "{back}");
    assert!(done(&["revision", "compare", "5", "7"]).contains("Nothing: they have the same content."));
    let listed = done(&["revision", "list"]).split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(listed.contains("remove frontend pier"), "{listed}");
    let printed = done(&["events", "--kind", "revision"]);
    assert!(printed.contains("; changed: add pool quay (algorithm round-robin"), "{printed}");
    let wrong = service.merismos(&["server", "change", "quay/none", "--weight", "1"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(err(&wrong).contains("there is no server quay/none"), "{}", err(&wrong));
}
