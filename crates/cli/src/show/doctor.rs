//! The machine of a node, for people.

use std::time::Duration;

use comfy_table::Cell;
use merismos_api::MachineReport;
use merismos_core::machine::{MachineFinding, MachineState, MachineSubject};
use merismos_core::units::humane;

use super::table::table;
use super::{bad, good, strong, text};

/// Prints what was found: a line each, and of what is not enough why that matters and what helps.
pub(crate) fn report(found: &MachineReport) {
    let within = match found.within_ms {
        Some(within) => format!("with what happened in the last {}", humane(Duration::from_millis(within))),
        None => "just begun to look".to_owned(),
    };
    text(&format!("{}, {within}\n", strong(&format!("Machine of node {}", found.node))));
    let mut all = table(&["", "what", "found", "wanted"]);
    for finding in &found.findings {
        all.add_row([
            Cell::new(state(finding.state)),
            Cell::new(subject(finding.subject)),
            Cell::new(&finding.found),
            Cell::new(&finding.wanted),
        ]);
    }
    text(&format!("{all}\n"));
    let mut said = None;
    for finding in found.findings.iter().filter(|finding| !finding.help.is_empty()) {
        // Several servers may be short of the same.
        if said.replace(finding.subject) != Some(finding.subject) {
            advice(finding);
        }
    }
    let pressing = found.findings.iter().filter(|finding| finding.is_pressing()).count();
    text(&match pressing {
        0 => format!("{} nothing runs short\n", good("●")),
        1 => format!("{} one thing runs short: clients feel it, or will soon\n", bad("✕")),
        many => format!("{} {many} things run short: clients feel it, or will soon\n", bad("✕")),
    });
}

fn advice(finding: &MachineFinding) {
    text(&format!("{}: {}.\n", strong(subject(finding.subject)), finding.why));
    for line in &finding.help {
        text(&format!("    {line}\n"));
    }
}

fn state(state: MachineState) -> String {
    match state {
        MachineState::Unknown => "? unknown".to_owned(),
        MachineState::Enough => format!("{} enough", good("●")),
        MachineState::Advice => "○ could be better".to_owned(),
        MachineState::Near => format!("{} near its end", bad("▲")),
        MachineState::Short => format!("{} short", bad("✕")),
    }
}

fn subject(subject: MachineSubject) -> &'static str {
    match subject {
        MachineSubject::SourcePorts => "source ports",
        MachineSubject::ListenQueues => "listen queues",
        MachineSubject::Descriptors => "file descriptors",
        MachineSubject::ConnectionTracking => "connection tracking",
        MachineSubject::Memory => "memory",
        MachineSubject::ClosingListeners => "closing listeners",
        MachineSubject::ReturnPath => "return path filter",
        MachineSubject::AddressResolution => "address resolution",
        MachineSubject::Neighbours => "neighbours",
        MachineSubject::PacketQueues => "packet queues",
        MachineSubject::Datagrams => "datagrams",
        MachineSubject::Clock => "clock",
        MachineSubject::Processors => "processors",
    }
}
