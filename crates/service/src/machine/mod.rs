//! The machine of this node: what is read of it now and then, and the headline of what runs short.

mod read;

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use merismos_core::config::document::{FrontendSpec, Protocol};
use merismos_core::machine::{
    MachineFacts, MachineFinding, MachineNeeds, MachineSubject, ServerPorts, examine,
};
use serde_json::json;

use self::read::Watched;
use crate::controller::{Controller, RunningView};
use crate::journal::Journal;
use crate::troubles::{TroubleKind, Troubles};

/// How often it is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// How many times as long as reading took is waited at least: of a machine with very many sockets it takes a while.
const PATIENCE: u32 = 50;
/// How many looks are kept: growth is counted over as long as they reach back.
const KEPT: usize = 7;

/// What was read of the machine during the last minute.
#[derive(Clone, Debug, Default)]
pub(crate) struct MachineWatch {
    /// Held for a look or a change only.
    looks: Arc<Mutex<VecDeque<(Instant, MachineFacts)>>>,
}

/// What was found at a look, and over what time what grows was counted.
#[derive(Debug)]
pub(crate) struct MachineLook {
    pub(crate) within: Option<Duration>,
    pub(crate) findings: Vec<MachineFinding>,
}

impl MachineWatch {
    /// Looks now. Cost: some milliseconds on another thread.
    pub(crate) async fn look(&self, view: &RunningView) -> MachineLook {
        let (needs, watched) = needs(view);
        let read = tokio::task::spawn_blocking(move || read::read(&watched)).await;
        let facts = read.unwrap_or_default();
        let looks = self.looks.lock().unwrap_or_else(PoisonError::into_inner);
        let before = looks.front().map(|(at, facts)| (facts, at.elapsed()));
        let findings = examine(&facts, before, &needs);
        MachineLook { within: before.map(|(_, within)| within), findings }
    }

    /// Looks again and again, and says what clients are about to feel.
    pub(crate) async fn run(self, controller: Controller, troubles: Troubles, journal: Journal) {
        let mut pressing_before = Vec::new();
        loop {
            let Ok(view) = controller.view().await else { return };
            let begun = Instant::now();
            let (needs, watched) = needs(&view);
            let facts = tokio::task::spawn_blocking(move || read::read(&watched)).await.unwrap_or_default();
            let took = begun.elapsed();
            let findings = {
                let mut looks = self.looks.lock().unwrap_or_else(PoisonError::into_inner);
                let before = looks.front().map(|(at, facts)| (facts, at.elapsed()));
                let findings = examine(&facts, before, &needs);
                looks.push_back((Instant::now(), facts));
                while looks.len() > KEPT {
                    looks.pop_front();
                }
                findings
            };
            let pressing: Vec<MachineFinding> = findings.into_iter().filter(is_headline).collect();
            // What is there at one look alone is over before anybody has read it.
            let lasting = pressing.iter().find(|finding| {
                pressing_before.iter().any(|before: &MachineFinding| before.subject == finding.subject)
            });
            tell(lasting, &troubles, &journal);
            pressing_before = pressing;
            tokio::time::sleep(LOOK_EVERY.max(took * PATIENCE)).await;
        }
    }
}

/// Whether it becomes a headline. Descriptors have a watch of their own, which sees each client that waits.
fn is_headline(finding: &MachineFinding) -> bool {
    finding.is_pressing() && finding.subject != MachineSubject::Descriptors
}

fn tell(lasting: Option<&MachineFinding>, troubles: &Troubles, journal: &Journal) {
    match lasting {
        Some(finding) => {
            let message = format!(
                "this machine runs short: {}; {}. `merismos doctor` shows what helps",
                finding.found, finding.why
            );
            if troubles.set(TroubleKind::Machine, message.clone()) {
                journal.here(message, json!({}));
            }
        }
        None => {
            if troubles.clear(TroubleKind::Machine) {
                journal.here("this machine has enough of everything again", json!({}));
            }
        }
    }
}

/// What the configuration that runs needs of the machine, and which sockets are its own.
fn needs(view: &RunningView) -> (MachineNeeds, Watched) {
    let document = view.effective.document();
    let mut watched = Watched::default();
    let mut servers = Vec::new();
    for (pool, spec) in &document.pools {
        let sources = (spec.reaching.source_addresses.len() as u64).max(1);
        for (name, server) in &spec.servers {
            let addresses: Vec<_> = server.addresses().collect();
            watched.servers.extend(&addresses);
            servers.push(ServerPorts { server: format!("{pool}/{name}"), addresses, sources });
        }
    }
    let takes_datagrams = |frontend: &FrontendSpec| frontend.protocol == Protocol::Udp;
    watched.listens = document.frontends.values().map(|frontend| frontend.endpoint().address).collect();
    let needs = MachineNeeds {
        backlog: merismos_plane::BACKLOG as u64,
        servers,
        addresses_move: !document.addresses.is_empty(),
        takes_datagrams: document.frontends.values().any(takes_datagrams),
    };
    (needs, watched)
}
