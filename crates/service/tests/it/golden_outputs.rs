//! The wording of every command's output, one file a command in `golden/output`. Numbers, times and addresses differ from run to run and
//! are masked; columns are one space apart. `MERISMOS_WRITE_GOLDEN=1` writes the files anew.

use std::path::Path;

use regex::Regex;

use crate::harness::{Service, until};

/// What differs from run to run, in the order in which it is masked.
const MASKS: [(&str, &str); 10] = [
    (r"\d{4}-\d{2}-\d{2}[ T]\d{2}:\d{2}(:\d{2})?(\.\d+)?Z?", "WHEN"),
    (r"\b\d{2}:\d{2}:\d{2}(\.\d+)?\b", "WHEN"),
    (r"\b(\d{1,3}\.){3}\d{1,3}(:\d+)?\b", "ADDRESS"),
    (r"\bnode \S+ \([0-9a-f]{6}\)|\b[0-9a-f]{6}\b", "NODE"),
    (r"\b\d[\d.]* ?(µs|ms|s|min|h|d)\b( \d+ ?min)?", "TIME"),
    (r"a probe is under way", "next probe in TIME"),
    (r"[█▏▎▍▌▋▊▉]+", "BAR"),
    (r"·{3,}", "···"),
    (r"[+-]?\d[\d.]*", "#"),
    (r"[ \t]+", " "),
];

fn masked(text: &str) -> String {
    let mut text = text.to_owned();
    for (pattern, with) in MASKS {
        text = Regex::new(pattern).unwrap().replace_all(&text, with).into_owned();
    }
    // How many alike there are is a matter of time.
    let mut lines: Vec<&str> = text.lines().map(str::trim_end).collect();
    lines.dedup();
    lines.join("\n") + "\n"
}

/// Compares with the file, or writes it.
fn hold(name: &str, printed: &str) {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("golden/output").join(format!("{name}.txt"));
    if std::env::var_os("MERISMOS_WRITE_GOLDEN").is_some() {
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        std::fs::write(&file, printed).unwrap();
    }
    let expected = std::fs::read_to_string(&file).unwrap_or_default();
    assert!(expected == printed, "{}:\n{expected}\nis now\n{printed}", file.display());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_output_is_worded_as_it_was() {
    let service = Service::with(&["gull", "tern"]).await;
    until("all are up and were probed again", async || {
        let probes = service.client().probes(&"quay/gull".parse().unwrap()).await.unwrap();
        service.status().await.pools[0].eligible == 2 && probes.marks.len() >= 12
    })
    .await;
    let check = service.status().await.pools[0].check.as_ref().unwrap().name.clone();
    let commands: &[(&str, &[&str])] = &[
        ("check-show", &["check", "show", &check]),
        ("check-try", &["check", "try", &check, "quay/gull", "quay/tern"]),
        ("diagnose", &["diagnose", "quay/gull"]),
        ("draft-create", &["draft", "create", "autumn", "--note", "fewer ferries"]),
        ("draft-list", &["draft", "list"]),
        ("draft-change", &["server", "change", "quay/gull", "--weight", "3", "--draft", "autumn"]),
        ("draft-review", &["draft", "review", "autumn"]),
        ("explain", &["explain", "harbour"]),
        ("frontend-show", &["frontend", "show", "harbour"]),
        ("key", &["key", "pool.ramp"]),
        ("pool-change-preview", &["pool", "change", "quay", "--algorithm", "least-load", "--preview"]),
        ("pool-list", &["pool", "list"]),
        ("pool-show", &["pool", "show", "quay"]),
        ("server-drain", &["drain", "quay/tern", "--reason", "new disk"]),
        ("server-return", &["return", "quay/tern", "--wait"]),
        ("server-list", &["server", "list", "quay"]),
        ("server-probes", &["server", "probes", "quay/gull"]),
        ("server-show", &["server", "show", "quay/gull"]),
        ("status", &["status"]),
        ("status-totals", &["status", "--totals"]),
        ("token-list", &["token", "list"]),
        ("revision-list", &["revision", "list"]),
        ("wrong-key", &["pool", "change", "quay", "--ramp", "soon"]),
        ("unknown-object", &["pool", "show", "qay"]),
    ];
    for (name, arguments) in commands {
        let output = service.merismos(arguments);
        let printed = format!(
            "$ merismos {}\n{}{}",
            arguments.join(" "),
            String::from_utf8_lossy(&output.stdout),
            String::from_utf8_lossy(&output.stderr)
        );
        hold(name, &masked(&printed));
    }
}
