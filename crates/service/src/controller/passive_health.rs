//! What traffic says of servers, where a pool listens to it.

use std::collections::BTreeSet;
use std::time::Instant;

use merismos_core::config::document::{FrontendSpec, PassiveAction, PassiveCheck, Protocol};
use merismos_core::eligibility::IneligibleReason;
use merismos_core::health::HealthState;
use merismos_core::name::Name;
use merismos_core::routing::Server;
use merismos_core::units::Span;

use super::state::ControllerState;

/// What is listened to where nothing is said, in pools that get datagrams.
const OF_DATAGRAMS: PassiveCheck = PassiveCheck {
    failures: 3,
    within: Span::from_millis(10_000),
    count_5xx: false,
    action: PassiveAction::Suspect,
    allow_last: false,
};

impl ControllerState {
    /// Looks which servers have failed more than their pool bears, and tells their probes.
    pub(super) fn weigh_traffic(&mut self) {
        let (snapshot, now) = (self.publisher.plane.snapshot(), Instant::now());
        let mut reports = Vec::new();
        let document = self.document();
        // Where no process listens, ICMP says so, and hardly any check of a host does.
        let udp = document.frontends.values().filter(|frontend| frontend.protocol == Protocol::Udp);
        let of_datagrams: BTreeSet<&Name> = udp.flat_map(FrontendSpec::pools).collect();
        for pool in &snapshot.pools {
            let Some(spec) = document.pools.get(&pool.name) else { continue };
            let usual = of_datagrams.contains(&pool.name).then_some(OF_DATAGRAMS);
            let Some(evidence) = spec.passive_check.or(usual) else { continue };
            // Several may be reported at once: the last of them is spared too.
            let can_work =
                |server: &Server| matches!(server.standing.reason, None | Some(IneligibleReason::Standby));
            let mut left = pool.servers.iter().filter(|server| can_work(server)).count();
            for server in &pool.servers {
                let Some(health) = self.servers.health.get(&server.name) else { continue };
                let open = match evidence.action {
                    PassiveAction::Suspect => health.state == HealthState::Up,
                    PassiveAction::Down => matches!(health.state, HealthState::Up | HealthState::Suspect),
                };
                let takes_one = evidence.action == PassiveAction::Down && can_work(server);
                if !open || (takes_one && left <= 1 && !evidence.allow_last) {
                    continue;
                }
                let counts = server.cell.counts();
                let by = self.totals.rates.server(server.cell.id, &counts, evidence.within.get(), now).by;
                let of = |failed: u64, errors: u64| if evidence.count_5xx { failed + errors } else { failed };
                let (failed, total) = (of(by.failed, by.errors), of(counts.failed, counts.errors));
                // What was reported already is not reported again.
                let fresh = failed.min(total.saturating_sub(health.evidence_told));
                if fresh >= u64::from(evidence.failures) {
                    left -= usize::from(takes_one);
                    reports.push((server.name.clone(), evidence, fresh, total));
                }
            }
        }
        for (server, evidence, fresh, total) in reports {
            if let Some(health) = self.servers.health.get_mut(&server) {
                health.evidence_told = total;
            }
            let what = if evidence.count_5xx { "failed or answered 500 and above" } else { "failed" };
            let why = format!("{fresh} requests {what} within {}", evidence.within);
            self.prober.tell(&server, evidence.action, why);
        }
    }
}
