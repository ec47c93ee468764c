//! Rolls: servers that are worked on one after the other, by a program, from several terminals, and over crashes.

use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;

use merismos_api::{DutyRequest, EventKind, RollOrderRequest, RollRequest, RollVerb, RollView, WorkReport};
use merismos_client::ClientError;
use merismos_core::duty::{DrainPins, Duty};
use merismos_core::roll::{RollPlan, RollState, RollStep, WorkOutcome};
use merismos_lab::free::free_address;
use merismos_lab::stand_in::{Fault, StandIn};

use crate::harness::{Service, merismos, until};

fn request(preview: bool) -> RollRequest {
    let plan = RollPlan {
        pool: Some("quay".to_owned()),
        servers: Vec::new(),
        host: None,
        label: None,
        at_once: 1,
        within: Some("5s".parse().unwrap()),
        pins: DrainPins::default(),
        soak: None,
        return_within: None,
        reason: "updates".to_owned(),
        anyway: false,
    };
    RollRequest { plan, preview }
}

fn steps(roll: &RollView) -> Vec<(&str, RollStep)> {
    roll.servers.iter().map(|entry| (entry.server.server.as_str(), entry.step)).collect()
}

async fn step(service: &Service, id: u64, server: &str) -> RollStep {
    let roll = service.client().roll(id).await.unwrap();
    roll.servers.iter().find(|entry| entry.server.server.as_str() == server).unwrap().step
}

fn report(server: &str, outcome: WorkOutcome) -> WorkReport {
    WorkReport { server: format!("quay/{server}").parse().unwrap(), outcome, note: None }
}

/// A program that notes for which server it was run, and fails for one.
fn program(service: &Service, fails_for: &str) -> (String, std::path::PathBuf) {
    let (path, notes) = (service.folder.path().join("work.sh"), service.folder.path().join("worked"));
    let text = format!(
        "#!/bin/sh\necho \"$MERISMOS_SERVER $MERISMOS_ADDRESS $MERISMOS_HOST\" >> {}\n[ \"$MERISMOS_SERVER\" != \"quay/{fails_for}\" ]\n",
        notes.display()
    );
    std::fs::write(&path, text).unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    (path.display().to_string(), notes)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_program_works_on_each_server_while_nobody_notices() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let (program, notes) = program(&service, "nobody");
    let rolling = merismos()
        .args(["--url", &service.url(), "--token", &service.token()])
        .args(["roll", "quay", "--run", &program, "--soak", "1s", "--reason", "updates"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut ended = tokio::task::spawn_blocking(move || rolling.wait_with_output().unwrap());
    let mut served = 0;
    let said = loop {
        tokio::select! {
            said = &mut ended => break said.unwrap(),
            answer = service.get() => {
                assert_eq!(answer.unwrap().0, 200);
                served += 1;
            }
        }
    };
    let text = String::from_utf8(said.stdout).unwrap();
    assert_eq!(said.status.code(), Some(0), "{text}{}", String::from_utf8_lossy(&said.stderr));
    assert!(text.ends_with("Roll 1 is finished: 3 done.\n"), "{text}");
    assert!(served > 20, "clients were there all the time");
    let worked = std::fs::read_to_string(notes).unwrap();
    let worked: Vec<_> = worked.lines().map(|line| line.split(' ').collect::<Vec<_>>()).collect();
    assert_eq!(worked.iter().map(|line| line[0]).collect::<Vec<_>>(), ["quay/auk", "quay/gull", "quay/tern"]);
    assert_eq!(
        (worked[1][1], worked[1][2]),
        (service.stand_ins[0].address.to_string().as_str(), "127.0.0.1")
    );
    let status = service.status().await;
    assert!(status.pools[0].servers.iter().all(|server| server.reason.is_none()), "all are back");
    let roll = service.client().roll(1).await.unwrap();
    assert!(
        roll.servers
            .iter()
            .all(|entry| entry.note.as_ref().is_some_and(|note| note.contains("at the others")))
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_failing_step_stops_the_roll_with_the_server_withdrawn() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let bell = StandIn::for_posts("bell", free_address()).unwrap();
    let told = format!(
        "{}\n[notifications.bell]\nwebhook = \"http://{}/\"\nbatch_window = \"100ms\"\nchanges = [\"roll-failed\"]\n",
        service.document(),
        bell.address
    );
    service.apply(&told).await.unwrap();
    let (program, notes) = program(&service, "gull");
    let said = service.merismos(&["roll", "quay", "--run", &program, "--reason", "updates"]);
    let text = String::from_utf8(said.stdout).unwrap();
    assert_eq!(said.status.code(), Some(1), "{text}");
    assert!(text.contains("Roll 1 is stopped: quay/gull: "), "{text}");
    assert!(text.contains("`merismos return quay/gull`"), "{text}");
    assert_eq!(std::fs::read_to_string(notes).unwrap().lines().count(), 2, "tern is not touched");
    assert_eq!(service.server("gull").await.duty.unwrap().duty, Duty::Withdrawn);
    let roll = service.client().roll(1).await.unwrap();
    assert_eq!(
        steps(&roll),
        [("auk", RollStep::Done), ("gull", RollStep::Failed), ("tern", RollStep::Waiting)]
    );
    let is_headline = async || {
        let troubles = service.status().await.troubles;
        troubles.iter().any(|trouble| {
            trouble.starts_with("roll 1 stopped at quay/gull: ")
                && trouble.ends_with("`merismos return quay/gull`")
        })
    };
    assert!(is_headline().await);
    let gull = "quay/gull".parse().unwrap();
    service.client().duty(&gull, &DutyRequest::new(Duty::InService, "mended")).await.unwrap();
    assert!(!is_headline().await, "it is back");
    let events = service.client().events(100).await.unwrap().events;
    let end = events
        .iter()
        .find(|event| event.kind == EventKind::Roll && event.message.starts_with("stopped at quay/gull"));
    assert!(end.is_some(), "{events:?}");
    until("that is a message", async || !bell.inbox().is_empty()).await;
    let message = &bell.inbox()[0].text;
    assert!(
        message.contains("\"subject\":\"roll 1\"") && message.contains("stopped at quay/gull"),
        "{message}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_roll_is_paused_resumed_and_reported_from_elsewhere_and_survives_crashes() {
    let mut service = Service::with(&["gull", "tern", "auk"]).await;
    let preview = service.client().begin_roll(&request(true), None).await.unwrap();
    assert_eq!((preview.id, preview.servers.len(), preview.guard.len()), (0, 3, 0));
    assert!(service.client().rolls().await.unwrap().rolls.is_empty(), "a preview begins nothing");
    let roll = service.client().begin_roll(&request(false), Some("deploy-417")).await.unwrap();
    let again = service.client().begin_roll(&request(false), Some("deploy-417")).await.unwrap();
    assert_eq!(roll.id, again.id, "the same call begins one roll");
    let mut other = request(false);
    other.plan.reason = "something else".to_owned();
    let other = service.client().begin_roll(&other, Some("deploy-417")).await;
    assert!(matches!(other, Err(ClientError::Refused(_))), "{other:?}");
    let busy = service.client().begin_roll(&request(false), None).await;
    let Err(ClientError::Refused(problem)) = busy else { panic!("{busy:?}") };
    assert_eq!(problem.detail, "roll 1 works on quay/auk already: it has to end first");
    until("auk can be worked on", async || step(&service, roll.id, "auk").await == RollStep::Ready).await;
    service.crash_and_restart().await;
    assert_eq!(step(&service, roll.id, "auk").await, RollStep::Ready);
    let said = service.merismos(&["roll", "pause", "1", "--reason", "lunch"]);
    assert!(String::from_utf8(said.stdout).unwrap().starts_with("roll 1 paused: by admin: lunch\n"));
    service.client().report_work(roll.id, &report("auk", WorkOutcome::Begun)).await.unwrap();
    let twice = service.client().report_work(roll.id, &report("auk", WorkOutcome::Begun)).await;
    assert!(matches!(twice, Err(ClientError::Refused(_))), "one works on it");
    assert_eq!(service.merismos(&["roll", "report", "1", "quay/auk", "done"]).status.code(), Some(0));
    until("auk is done", async || step(&service, roll.id, "auk").await == RollStep::Done).await;
    service.crash_and_restart().await;
    let roll = service.client().roll(roll.id).await.unwrap();
    assert_eq!((roll.state, roll.servers[1].step), (RollState::Paused, RollStep::Waiting));
    let resume = RollOrderRequest { order: RollVerb::Resume, reason: None };
    service.client().order_roll(roll.id, &resume).await.unwrap();
    until("gull can be worked on", async || step(&service, roll.id, "gull").await == RollStep::Ready).await;
    let stop = RollOrderRequest { order: RollVerb::Stop, reason: Some("enough".to_owned()) };
    let roll = service.client().order_roll(roll.id, &stop).await.unwrap();
    assert_eq!((roll.state, roll.is_over), (RollState::Stopped, true));
    until("gull is back", async || service.server("gull").await.reason.is_none()).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_roll_waits_for_the_guard_and_leaves_alone_what_is_out() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let auk = "quay/auk".parse().unwrap();
    service.client().duty(&auk, &DutyRequest::new(Duty::Withdrawn, "broken")).await.unwrap();
    service.stand_ins[0].set(Fault::Refuse).await;
    until("gull is down", async || service.server("gull").await.reason.is_some()).await;
    let mut request = request(false);
    request.plan.servers = vec!["quay/tern".to_owned(), "quay/auk".to_owned()];
    request.plan.pool = None;
    let roll = service.client().begin_roll(&request, None).await.unwrap();
    assert_eq!(steps(&roll), [("auk", RollStep::Skipped), ("tern", RollStep::Waiting)]);
    until("that is a headline", async || {
        service.status().await.troubles.iter().any(|trouble| {
            trouble
                .starts_with("roll 1 can't go on: quay/tern waits: pool quay would have no eligible server")
        })
    })
    .await;
    service.stand_ins[0].set(Fault::None).await;
    until("tern can be worked on", async || step(&service, roll.id, "tern").await == RollStep::Ready).await;
    let events = service.client().events(200).await.unwrap().events;
    let told = events.iter().filter(|event| event.message.contains("quay/tern waits")).count();
    assert_eq!(told, 1, "it is told once");
}

/// Answers the questions of an attached terminal.
fn with_answers(service: &Service, args: &[&str], answers: &str) -> std::process::Output {
    let mut child = merismos()
        .args(["--url", &service.url(), "--token", &service.token()])
        .args(args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(answers.as_bytes()).unwrap();
    child.wait_with_output().unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_terminal_that_goes_away_fails_nothing_and_another_goes_on() {
    let service = Service::with(&["gull", "tern"]).await;
    let begin = ["roll", "quay/gull", "quay/tern", "--ask", "--reason", "updates"];
    let left = with_answers(&service, &begin, "");
    assert_eq!(left.status.code(), Some(2), "{}", String::from_utf8_lossy(&left.stdout));
    let says = String::from_utf8(left.stderr).unwrap();
    assert!(says.contains("`merismos roll attach 1 --ask` goes on with it"), "{says}");
    let roll = service.client().roll(1).await.unwrap();
    assert_eq!((roll.state, roll.servers[0].step), (RollState::Running, RollStep::Working));
    let ended = with_answers(&service, &["roll", "attach", "1", "--ask"], "y\ny\n");
    let text = String::from_utf8(ended.stdout).unwrap();
    assert_eq!(ended.status.code(), Some(0), "{text}");
    assert!(text.ends_with("Roll 1 is finished: 2 done.\n"), "{text}");
}
