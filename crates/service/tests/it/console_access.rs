//! The console without a mouse and without sight: no finding of an accessibility checker on any page, and whole jobs by keyboard alone.

use std::path::Path;
use std::process::{Command, Output};

use crate::harness::{Database, Service, until};

/// Runs one of the console's own browser tests.
async fn browser_test(script: &'static str, arguments: Vec<String>) -> Output {
    let console = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console");
    // Each wait inside is bounded; this bounds them all.
    let run = move || {
        Command::new("timeout")
            .args(["300", "node", script])
            .args(arguments)
            .current_dir(console)
            .output()
            .unwrap()
    };
    tokio::task::spawn_blocking(run).await.unwrap()
}

fn said(output: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_page_in_any_state_has_an_accessibility_finding() {
    let service = Service::with(&["gull", "tern"]).await;
    until("all are up", async || service.status().await.pools[0].eligible == 2).await;
    let check = service.status().await.pools[0].check.as_ref().unwrap().name.clone();
    let arguments = [service.url(), service.token(), "quay".into(), "harbour".into(), check, "gull".into()];
    let output = browser_test("tests/accessibility.mjs", arguments.into()).await;
    assert!(output.status.success(), "{}", said(&output));
    assert!(said(&output).contains(" states, 0 findings"), "{}", said(&output));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whole_jobs_are_done_by_keyboard_alone() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let servers: Vec<String> =
        service.stand_ins.iter().map(|stand_in| stand_in.address.to_string()).collect();
    let arguments = vec![service.url(), service.token(), service.frontend.to_string(), servers.join(",")];
    let output = browser_test("tests/keyboard.mjs", arguments).await;
    assert!(output.status.success(), "{}", said(&output));
    let status = service.status().await;
    assert_eq!(status.pools[0].eligible, 1, "one of two servers is drained");
}
