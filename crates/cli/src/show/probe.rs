//! Probes step by step, for people.

use std::collections::BTreeSet;

use comfy_table::Cell;
use merismos_api::{Diagnosis, DiagnosisStep, FrontendDiagnosis, ProbeRecord, Probes, TryResponse};
use merismos_core::health::{HealthState, ProbeStep};
use merismos_core::name::Name;

use super::table::{micros, table};
use super::{bad, clock, good, moment, strong, text};

fn step_words(step: ProbeStep) -> &'static str {
    match step {
        ProbeStep::Connect => "port",
        ProbeStep::Tls => "TLS",
        ProbeStep::Answer => "answer",
        ProbeStep::Status => "status",
        ProbeStep::Body => "content",
        ProbeStep::Done => "verdict",
    }
}

/// Prints what a check said of some servers, side by side.
pub(crate) fn tries(check: &Name, answer: &TryResponse) {
    text(&format!("{}\n", strong(&format!("check {check}, {}", answer.asks))));
    let steps: BTreeSet<ProbeStep> =
        answer.tries.iter().flat_map(|tried| tried.evidence.steps.iter().map(|taken| taken.step)).collect();
    let mut rows = table(&[]);
    let head =
        answer.tries.iter().map(|tried| format!("{} {}", if tried.passed { "✓" } else { "✗" }, tried.server));
    rows.set_header(std::iter::once("STEP".to_owned()).chain(head));
    for step in steps {
        let cell = |tried: &merismos_api::TryResult| {
            let mut taken = tried.evidence.steps.iter().filter(|taken| taken.step == step);
            let words = |taken: &merismos_core::health::CompletedStep| {
                format!("{} {}", micros(Some(taken.took_us)), taken.observed)
            };
            let all: Vec<_> = taken.by_ref().map(words).collect();
            Cell::new(if all.is_empty() { "-".to_owned() } else { all.join("\n") })
        };
        let mut row = vec![Cell::new(step_words(step))];
        row.extend(answer.tries.iter().map(cell));
        rows.add_row(row);
    }
    text(&format!("{rows}\n"));
    for tried in &answer.tries {
        let took = micros(Some(tried.evidence.took_us));
        let line = format!(
            "{} at {}: {} in {took}: {}",
            tried.server,
            tried.address,
            if tried.passed { "passes" } else { "fails" },
            tried.evidence.observed
        );
        text(&format!("{} {line}\n", if tried.passed { good("✓") } else { bad("✗") }));
    }
    text("Their health is as it was: a try counts for nothing.\n");
}

/// Prints where a server fails and what that means.
pub(crate) fn diagnosis(diagnosis: &Diagnosis) {
    let against = diagnosis.against.as_ref().map(|server| format!(", beside {server}")).unwrap_or_default();
    text(&format!("{}\n", strong(&format!("{} at {}{against}", diagnosis.server, diagnosis.address))));
    let mut rows = table(&[]);
    let head = ["", "STEP", "TOOK", &diagnosis.server].into_iter().chain(diagnosis.against.as_deref());
    rows.set_header(head);
    for rung in &diagnosis.rungs {
        rows.add_row(row(rung, diagnosis.against.is_some()));
    }
    text(&format!("{rows}\n\n"));
    let mark = if diagnosis.works { good("✓") } else { bad("✗") };
    text(&format!("{mark} {}\n", diagnosis.message));
    list("May be", &diagnosis.causes);
    list("Look at", &diagnosis.next);
}

/// Prints whether clients get through to a frontend.
pub(crate) fn frontend_diagnosis(diagnosis: &FrontendDiagnosis) {
    let FrontendDiagnosis { frontend, address, host, .. } = diagnosis;
    text(&format!("{}\n", strong(&format!("frontend {frontend} at {address}, asked for {host}"))));
    let mut rows = table(&[]);
    rows.set_header(["", "STEP", "TOOK", "WHAT CAME OF IT"]);
    for step in &diagnosis.steps {
        rows.add_row(row(step, false));
    }
    text(&format!("{rows}\n\n"));
    let mark = if diagnosis.works { good("✓") } else { bad("✗") };
    text(&format!("{mark} {}\n", diagnosis.message));
    list("Look at", &diagnosis.next);
}

fn row(rung: &DiagnosisStep, has_other: bool) -> Vec<Cell> {
    let mut row = vec![
        Cell::new(if rung.works { "✓" } else { "✗" }),
        Cell::new(&rung.what),
        Cell::new(rung.took_us.map_or_else(String::new, |took| micros(Some(took)))),
        Cell::new(&rung.observed),
    ];
    if has_other {
        row.push(Cell::new(rung.there.as_deref().unwrap_or("")));
    }
    row
}

fn list(head: &str, items: &[String]) {
    if items.is_empty() {
        return;
    }
    text(&format!("{head}:\n"));
    for item in items {
        text(&format!("  - {item}\n"));
    }
}

/// Prints the last probes of a server.
pub(crate) fn probes(probes: &Probes) {
    let since = format!("{} since {}", probes.state, moment(probes.since));
    text(&format!("{}\n", strong(&format!("{} · {since}", probes.server))));
    let changes = match probes.changes_today {
        0 => String::new(),
        1 => "; its health has changed once today".to_owned(),
        changes => format!("; its health has changed {changes} times today"),
    };
    text(&format!("{}{changes}\n", probes.message));
    if probes.marks.is_empty() {
        return;
    }
    let line: String = probes.marks.iter().map(mark).collect();
    text(&format!("{line} now\n"));
    let mut rows = table(&["at", "", "took", "step", "what came back"]);
    let newest = probes.marks.iter().rev().take(NEWEST);
    for mark in newest {
        let to = mark.to.map(|to| format!(" → {to}")).unwrap_or_default();
        rows.add_row(vec![
            Cell::new(clock(mark.at)),
            Cell::new(if mark.passed { "✓" } else { "✗" }),
            Cell::new(micros(Some(mark.took_us))),
            Cell::new(step_words(mark.step)),
            Cell::new(format!("{}{to}", mark.observed)),
        ]);
    }
    text(&format!("{rows}\n"));
}

/// How many probes are described in words.
const NEWEST: usize = 10;

/// A probe as one sign: passes and failures, and where its health changed.
fn mark(mark: &ProbeRecord) -> &'static str {
    match (mark.passed, mark.to) {
        (true, None) => "·",
        (true, Some(HealthState::Up)) => "▲",
        (true, Some(_)) => "△",
        (false, None) => "✗",
        (false, Some(HealthState::Down)) => "▼",
        (false, Some(_)) => "▽",
    }
}
