//! Orders, and how far drains are.

use std::time::Duration;

use chrono::Utc;
use indicatif::{ProgressBar, ProgressStyle};
use merismos_api::{DrainProgress, DrainingStatus, DutiesResponse, DutyResponse};
use merismos_core::duty::{CutWork, Duty, OpenWork};
use merismos_core::time::Wall;
use merismos_core::units::humane;

use super::{bad, good, moment, note, strong, text};

/// Prints what became of an order.
pub(crate) fn orders(done: &DutiesResponse) {
    for said in &done.overridden {
        note(&format!("Done although {said}."));
    }
    for response in &done.servers {
        text(&format!("{} {}\n", strong(&response.server), order(response)));
    }
    if done.servers.iter().any(|response| !response.recorded) {
        note("The database did not take it; it is kept in the service's state folder and follows by itself.");
    }
    if done.servers.iter().any(|response| !response.saved) {
        note("The node's state file could not be written; the database has it. `merismos status` says why.");
    }
}

fn order(response: &DutyResponse) -> String {
    let DutyResponse { order, changed, in_flight, reached, draining, .. } = response;
    if !changed {
        let since = moment(order.at);
        return match order.duty {
            Duty::InService => "is in service; nothing changed.".to_owned(),
            Duty::Draining | Duty::Withdrawn => {
                format!("is {} since {since}, by the same order; nothing changed.", order.duty)
            }
        };
    }
    match order.duty {
        Duty::InService if *reached => "is back: it is in service and can work.".to_owned(),
        Duty::InService => "is in service: it gets new work when its check has passed.".to_owned(),
        Duty::Withdrawn if *in_flight > 0 => {
            format!("is withdrawn: it gets nothing more; what was open ({in_flight}) was broken off.")
        }
        Duty::Withdrawn => "is withdrawn: it gets nothing more, and nothing was open.".to_owned(),
        Duty::Draining => {
            format!("drains: it gets no new clients; {}", drain_words(*draining, order.deadline))
        }
    }
}

fn drain_words(draining: Option<DrainingStatus>, deadline: Option<Wall>) -> String {
    let Some(draining) = draining else { return "`merismos status` shows how far it is.".to_owned() };
    if draining.safe {
        return "nothing is open, and it can be worked on.".to_owned();
    }
    let open = open_words(draining.open) + &elsewhere_words(&draining);
    let tied = match (draining.clients_tied, draining.ties_end) {
        (true, None) => {
            "; clients that are tied to it come for as long as they like (--within or --pins move ends that)"
                .to_owned()
        }
        (true, Some(end)) if deadline != Some(end) => {
            format!("; clients that are tied to it come until {}", moment(end))
        }
        (true, Some(_)) | (false, _) => String::new(),
    };
    let closed =
        deadline.map_or_else(String::new, |at| format!("; what is left at {} is closed", moment(at)));
    format!("{open}{tied}{closed}.")
}

/// What other nodes are not done with: `; 3 more open from another node`.
pub(crate) fn elsewhere_words(draining: &DrainingStatus) -> String {
    let nodes = match draining.nodes_not_done {
        0 => return String::new(),
        1 => "another node".to_owned(),
        many => format!("{many} other nodes"),
    };
    match draining.open_elsewhere {
        0 => format!("; {nodes} may still send to it"),
        open => format!("; {open} more open from {nodes}"),
    }
}

fn counted(parts: [(u64, &str); 3]) -> String {
    let parts = parts.into_iter().filter(|(count, _)| *count > 0);
    let parts: Vec<String> =
        parts.map(|(count, what)| format!("{count} {what}{}", if count == 1 { "" } else { "s" })).collect();
    parts.join(", ")
}

/// What is open: `2 requests, 1 tunnel open`.
pub(crate) fn open_words(open: OpenWork) -> String {
    match counted([(open.requests, "request"), (open.connections, "connection"), (open.tunnels, "tunnel")]) {
        nothing if nothing.is_empty() => "nothing is open".to_owned(),
        parts => format!("{parts} open"),
    }
}

/// What was cut: `2 requests, 1 tunnel`.
fn cut_words(cut: CutWork) -> String {
    counted([(cut.requests, "request"), (cut.connections, "connection"), (cut.tunnels, "tunnel")])
}

/// Prints servers that can be worked on, and what had to be cut for that.
pub(crate) fn ready(servers: &[DrainProgress]) {
    for progress in servers {
        let cut = progress.draining.cut;
        let words = if cut.all() == 0 {
            good("can be worked on: nothing is open, and nothing was cut")
        } else {
            bad(&format!("can be worked on; its deadline cut {}", cut_words(cut)))
        };
        text(&format!("{} {words}\n", strong(&progress.server)));
    }
}

/// How far drains are; drawn on standard error when that is a terminal.
pub(crate) struct DrainBar(ProgressBar);

impl DrainBar {
    pub(crate) fn new() -> Self {
        let bar = ProgressBar::new(0);
        let style = ProgressStyle::with_template("{bar:24} {msg}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        bar.enable_steady_tick(Duration::from_millis(250));
        Self(bar)
    }

    pub(crate) fn at<'p>(&self, drains: impl Iterator<Item = &'p DrainProgress>) {
        let (mut open, mut ends_per_second) = (OpenWork::default(), 0.0);
        let (mut last, mut estimated) = (None, None);
        for progress in drains {
            let draining = &progress.draining;
            open.requests += draining.open.requests;
            open.connections += draining.open.connections;
            open.tunnels += draining.open.tunnels;
            ends_per_second += draining.ends_per_second.unwrap_or_default();
            last = last.max(draining.ties_end);
            estimated = estimated.max(draining.estimated_end);
        }
        let now = Wall(Utc::now().timestamp_millis());
        let all = open.all();
        self.0.set_length(self.0.length().unwrap_or_default().max(all).max(1));
        self.0.set_position(self.0.length().unwrap_or_default() - all);
        let mut words = open_words(open);
        if ends_per_second > 0.0 {
            words += &format!(", {ends_per_second:.1} end a second");
        }
        if let Some(end) = estimated.filter(|end| *end > now) {
            words += &format!(", empty in about {}", humane(whole_seconds(end, now)));
        }
        if let Some(end) = last.filter(|end| *end > now) {
            words += &format!("; tied clients may come for {}", humane(whole_seconds(end, now)));
        }
        self.0.set_message(words);
    }

    pub(crate) fn end(&self) {
        self.0.finish_and_clear();
    }
}

fn whole_seconds(end: Wall, now: Wall) -> Duration {
    Duration::from_secs(end.since(now).as_millis().div_ceil(1_000) as u64)
}
