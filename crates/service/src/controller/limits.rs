//! What limits of clients did, and what they would say of a request.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use merismos_api::{EventKind, HeldOffNetwork, LimitTrace, LimitView, Limits};
use merismos_core::config::document::Protocol;
use merismos_core::limits::{ClientLimit, LimitTotals, Offender, RateAnswer};
use merismos_core::name::Name;
use merismos_core::routing::{Frontend, RequestFacts};
use merismos_core::time::{Tick, Wall};
use merismos_core::units::humane;
use serde_json::json;

use super::state::ControllerState;
use crate::clock::wall;

/// How many networks of clients that a limit holds off are shown.
const NETWORKS_SHOWN: usize = 10;
/// How long a limit has to hold off no client until that is an event.
const QUIET: Duration = Duration::from_secs(60);

/// Limits that hold clients off now, and what they had held off when it began.
#[derive(Debug, Default)]
pub(super) struct ReportedLimits(BTreeMap<Name, ReportedLimit>);

#[derive(Debug)]
struct ReportedLimit {
    /// How much was held off when it was looked at last.
    seen: u64,
    /// How much was held off when it began, and when it grew last; `None` while it holds off no client.
    since: Option<(u64, Instant)>,
}

fn held_off(totals: &LimitTotals) -> u64 {
    totals.refused + totals.delayed + totals.observed
}

impl ControllerState {
    /// The limits with what they did.
    pub(super) fn limits(&self) -> Limits {
        let (document, now, wall) = (self.document(), self.publisher.plane.now(), wall());
        let view = |limit: &Arc<ClientLimit>| {
            let (name, spec, totals) = (&limit.name, limit.spec(), limit.counts.totals());
            let frontends = document.frontends.iter().filter(|(_, frontend)| frontend.limits.contains(name));
            let rules = document.rules.iter().filter(|(_, rule)| rule.limits.contains(name));
            LimitView {
                name: name.to_string(),
                per: spec.per.to_string(),
                allows: spec.allows(),
                action: spec.does(),
                frontends: frontends.map(|(name, _)| name.to_string()).collect(),
                rules: rules.map(|(name, _)| name.to_string()).collect(),
                passed: totals.passed,
                delayed: totals.delayed,
                refused: totals.refused,
                observed: totals.observed,
                shared: totals.shared,
                clients: limit.clients(now.0).map(|clients| clients as u64),
                held_off: networks(&totals.offenders, now, wall),
            }
        };
        Limits { limits: self.publisher.plane.snapshot().limits.iter().map(view).collect() }
    }

    /// Writes an event for each limit that begins to hold clients off, and for each that has held off no client for a minute.
    pub(super) fn report_limits(&mut self, now: Instant) {
        let snapshot = self.publisher.plane.snapshot();
        let reported = &mut self.reports.limits.0;
        for limit in snapshot.limits.iter() {
            let totals = limit.counts.totals();
            let held = held_off(&totals);
            let known = reported.entry(limit.name.clone()).or_insert(ReportedLimit { seen: 0, since: None });
            let before = std::mem::replace(&mut known.seen, held);
            let says = match known.since {
                None if held > before => {
                    known.since = Some((before, now));
                    begins(limit, &totals)
                }
                Some((from, _)) if held > before => {
                    known.since = Some((from, now));
                    continue;
                }
                Some((from, last)) if now.duration_since(last) >= QUIET => {
                    known.since = None;
                    format!("it holds clients off no more; it did {} times", held.saturating_sub(from))
                }
                Some(_) | None => continue,
            };
            let detail = json!({
                "refused": totals.refused, "delayed": totals.delayed, "observed": totals.observed,
            });
            self.reports.journal.write(EventKind::Traffic, format!("limit {}", limit.name), says, detail);
        }
        reported.retain(|name, _| snapshot.limits.iter().any(|limit| limit.name == *name));
    }
}

fn begins(limit: &ClientLimit, totals: &LimitTotals) -> String {
    let spec = limit.spec();
    let does = if limit.observes() { "would hold off (it observes)" } else { "holds off" };
    let whom = totals.offenders.first().map(|most| format!(", first {}", most.network)).unwrap_or_default();
    format!("it {does} clients that ask for more than {} per {}{whom}", spec.allows(), spec.per)
}

/// The networks that were held off most, as they are shown.
pub(super) fn networks(most: &[Offender], now: Tick, wall: Wall) -> Vec<HeldOffNetwork> {
    let view = |it: &Offender| HeldOffNetwork {
        network: it.network.to_string(),
        count: it.count,
        over: it.over,
        last: Wall(wall.0 - i64::try_from(now.since(Tick(it.last)).as_millis()).unwrap_or(i64::MAX)),
    };
    most.iter().take(NETWORKS_SHOWN).map(view).collect()
}

/// What limits would say of a request, a connection or a flow that came now.
pub(super) fn traces<'l>(
    frontend: &Frontend,
    limits: impl Iterator<Item = &'l Arc<ClientLimit>>,
    facts: &RequestFacts<'_>,
    now: Tick,
) -> Vec<LimitTrace> {
    limits.map(|limit| trace(frontend, limit, facts, now)).collect()
}

fn trace(frontend: &Frontend, limit: &ClientLimit, facts: &RequestFacts<'_>, now: Tick) -> LimitTrace {
    let (spec, peeked) = (limit.spec(), limit.peek(facts, now.0));
    let is_http = frontend.protocol == Protocol::Http;
    let rate = match peeked.rate {
        Some(RateAnswer::Early(early)) => Some(format!(
            "the client asks too fast, and may come again in {}",
            humane(Duration::from_nanos(early))
        )),
        Some(RateAnswer::Pass(0)) | None => None,
        Some(RateAnswer::Pass(wait)) => {
            Some(format!("it would wait for {}", humane(Duration::from_nanos(wait))))
        }
    };
    let at_once = if is_http {
        spec.in_flight.zip(peeked.in_flight).map(|(most, now)| (most, now, "requests in flight"))
    } else {
        spec.connections.zip(peeked.connections).map(|(most, now)| (most, now, "connections"))
    };
    let full = at_once.is_some_and(|(most, now, _)| now >= u64::from(most));
    let at_once = at_once.map(|(most, now, what)| format!("the client has {now} of {most} {what}"));
    let is_refused = full || matches!(peeked.rate, Some(RateAnswer::Early(_)));
    let passes = !is_refused || limit.observes();
    let parts: Vec<String> = rate.into_iter().chain(at_once).collect();
    let says = match (parts.is_empty(), limit.observes()) {
        (true, _) => "it would pass".to_owned(),
        (false, true) => format!("{}; it passes all the same, for the limit observes", parts.join("; ")),
        (false, false) => parts.join("; "),
    };
    LimitTrace {
        name: limit.name.to_string(),
        per: spec.per.to_string(),
        allows: spec.allows(),
        action: spec.does(),
        passes,
        says,
    }
}
