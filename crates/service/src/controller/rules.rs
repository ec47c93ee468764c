//! What the rules of frontends make of requests, and what they counted.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use merismos_api::{RuleCount, RuleCounts, RuleTestView, RuleTrace, RuledPool, RulesView};
use merismos_core::config::Document;
use merismos_core::config::document::{RulePersistence, RuleSpec};
use merismos_core::limits::ClientLimit;
use merismos_core::name::Name;
use merismos_core::routing::{CompiledRule, Frontend, FrontendRules, Pool, RuleDecision};
use merismos_core::rules::{FieldChanges, RequestVersion, RuleFacts, location, request_path};
use merismos_core::time::Wall;

use super::state::ControllerState;
use super::{HypotheticalRequest, UnknownFrontend};
use crate::clock::wall;
use crate::rule_uses::LastMet;

impl ControllerState {
    /// The rules of a frontend with what they counted.
    pub(super) fn rule_counts(&self, name: &Name) -> Result<RuleCounts, UnknownFrontend> {
        let snapshot = self.publisher.plane.snapshot();
        let frontend = snapshot.frontend_named(name).ok_or_else(|| UnknownFrontend(name.clone()))?;
        let (document, now, wall) = (self.document(), self.publisher.plane.now(), wall());
        let count = |rule: &CompiledRule| {
            let spec = document.rules.get(&rule.name);
            RuleCount {
                name: rule.name.to_string(),
                when: spec.map(|spec| spec.when.to_string()).unwrap_or_default(),
                does: spec.map(|spec| spec.does()).unwrap_or_default(),
                matches: rule.cell.matches(),
                last: rule.cell.last().map(|last| ago(wall, now.since(last))),
                goes_on: spec.is_some_and(RuleSpec::goes_on),
                unmet_days: None,
            }
        };
        Ok(RuleCounts {
            frontend: name.to_string(),
            requests: frontend.cell.counts().requests,
            rules: frontend.rules.iter().flat_map(|rules| rules.rules()).map(count).collect(),
        })
    }

    /// Every rule of every frontend, with when the last request met it since the start.
    pub(super) fn rule_lasts(&self) -> Vec<LastMet> {
        let (snapshot, now, wall) = (self.publisher.plane.snapshot(), self.publisher.plane.now(), wall());
        let of = |frontend: &Arc<Frontend>| -> Vec<_> {
            let rules = frontend.rules.iter().flat_map(|rules| rules.rules());
            rules
                .map(|rule| {
                    let key = (frontend.name.to_string(), rule.name.to_string());
                    (key, rule.cell.last().map(|last| ago(wall, now.since(last))))
                })
                .collect()
        };
        snapshot.frontends().flat_map(of).collect()
    }
}

/// Changes of fields, one a text.
fn field_words(changes: &FieldChanges) -> Vec<String> {
    let is_set = |name: &&String| !changes.added.iter().any(|(added, _)| added.eq_ignore_ascii_case(name));
    let removed = changes.removed.iter().filter(is_set).map(|name| format!("without {name}"));
    removed.chain(changes.added.iter().map(|(name, value)| format!("{name}: {value}"))).collect()
}

fn ago(now: Wall, time: Duration) -> Wall {
    Wall(now.0 - i64::try_from(time.as_millis()).unwrap_or(i64::MAX))
}

/// How many of the rules that lead to a pool are named.
const RULES_NAMED: usize = 8;

/// The pools that a frontend's rules send requests to.
pub(super) fn ruled_pools(frontend: &Frontend) -> Vec<RuledPool> {
    let Some(rules) = frontend.rules.as_deref() else { return Vec::new() };
    let mut found: BTreeMap<&Name, (&Arc<Pool>, Vec<&Name>)> = BTreeMap::new();
    for rule in rules.rules() {
        if let RuleDecision::Pools(way) = rules.decision(rule) {
            for pool in way.pools() {
                found.entry(&pool.name).or_insert_with(|| (pool, Vec::new())).1.push(&rule.name);
            }
        }
    }
    let view = |(pool, names): (&Arc<Pool>, Vec<&Name>)| RuledPool {
        pool: pool.name.to_string(),
        rules: names.iter().take(RULES_NAMED).map(ToString::to_string).collect(),
        more: names.len().saturating_sub(RULES_NAMED) as u64,
        usable: pool.eligible() > 0,
    };
    found.into_values().map(view).collect()
}

/// The rules that lead to a pool of which no server is eligible.
pub(super) fn ruled_out(frontend: &Frontend) -> Option<String> {
    let dead = ruled_pools(frontend).into_iter().find(|ruled| !ruled.usable)?;
    let rules = dead.rules.join(", ");
    Some(format!("every request of rule {rules} gets 503: no server of pool {} is eligible", dead.pool))
}

/// How many of the rules before the one that decides are shown.
const RULES_SHOWN: usize = 20;

/// What rules make of a request.
pub(super) struct RuledRequest<'f> {
    pub(super) view: RulesView,
    /// The limits of the rules that it meets.
    pub(super) limits: Vec<&'f Arc<ClientLimit>>,
    /// The frontend with the pools that it goes to, or why it goes to none.
    pub(super) goes: Result<&'f Frontend, String>,
    /// What rules call it.
    pub(super) label: Option<String>,
    /// A rule says that pins do not count for it.
    pub(super) without_pins: bool,
}

/// What the rules of a frontend make of a request: what is shown of them, and the frontend with the pools that it goes to, or why it goes
/// to none.
pub(super) fn by_rules<'f>(
    frontend: &'f Frontend,
    rules: &'f FrontendRules,
    document: &Document,
    imagined: &HypotheticalRequest,
) -> RuledRequest<'f> {
    let target = imagined.path.as_deref().unwrap_or("/");
    let any_field = |name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool| {
        let of_name = imagined.fields.iter().filter(|(known, _)| known == name);
        of_name.into_iter().any(|(_, value)| is_wanted(value.as_bytes()))
    };
    let facts = RuleFacts {
        client: imagined.client,
        method: imagined.method.as_deref().unwrap_or("GET"),
        target,
        path: None,
        host: imagined.host.as_deref().map(str::as_bytes),
        server_name: imagined.sni.as_deref(),
        has_certificate: false,
        certificate_subject: &String::new,
        version: RequestVersion::One,
        local: frontend.listen.address,
        any_field: &any_field,
    };
    let trace = |place: usize, rule: &CompiledRule| {
        let spec = document.rules.get(&rule.name);
        let (_, tests) = rules.set().trace(place, &facts);
        RuleTrace {
            name: rule.name.to_string(),
            is_met: rules.set().trace(place, &facts).0,
            when: spec.map(|spec| spec.when.to_string()).unwrap_or_default(),
            does: spec.map(|spec| spec.does()).unwrap_or_default(),
            tests: tests
                .into_iter()
                .map(|test| RuleTestView { test: test.test, holds: test.holds, observed: test.observed })
                .collect(),
        }
    };
    let mut view = RulesView {
        met: None,
        before: Vec::new(),
        more_before: 0,
        status: None,
        location: None,
        path: None,
        host: None,
        request_fields: Vec::new(),
        response_fields: Vec::new(),
        decides: Vec::new(),
    };
    if let Some(maintenance) = rules.maintenance_for(imagined.client) {
        view.status = Some(503);
        let reason = &maintenance.reason;
        let why = format!(
            "the frontend is in maintenance ({reason}): the client gets 503 before any rule is asked"
        );
        return RuledRequest { view, limits: Vec::new(), goes: Err(why), label: None, without_pins: false };
    }
    if rules.refuses_ambiguous
        && let Some(why) = request_path::read(target).ambiguity
    {
        view.status = Some(400);
        let why = format!(
            "the path holds {why}, which servers read in several ways: the client gets 400 before any rule is asked (ambiguous_paths)"
        );
        return RuledRequest { view, limits: Vec::new(), goes: Err(why), label: None, without_pins: false };
    }
    let mut limits = Vec::new();
    let mut edits = None;
    let met = rules.follow(&facts, &mut edits, |_, rule| limits.extend(rule.limits.iter()));
    if let Some(edits) = edits.as_deref() {
        view.path.clone_from(&edits.target);
        view.host.clone_from(&edits.host);
        view.request_fields = field_words(&edits.request);
        view.response_fields = field_words(&edits.response);
        view.decides = edits.decisions();
    }
    let without_pins = edits.as_ref().is_some_and(|edits| edits.persistence == Some(RulePersistence::None));
    let label = edits.and_then(|edits| edits.label);
    let before = met.map_or(rules.rules().len(), |(place, _)| place);
    view.before = rules.rules()[..before]
        .iter()
        .enumerate()
        .take(RULES_SHOWN)
        .map(|(at, rule)| trace(at, rule))
        .collect();
    view.more_before = before.saturating_sub(RULES_SHOWN) as u64;
    let Some((place, rule)) = met else {
        return RuledRequest { view, limits, goes: Ok(frontend), label, without_pins };
    };
    view.met = Some(trace(place, rule));
    let goes = match rules.decision(rule) {
        RuleDecision::Pools(way) => Ok(&**way),
        RuleDecision::Redirect(spec) => {
            view.status = spec.own_status();
            view.location = location(spec, facts.host, target);
            let to = view.location.as_deref().unwrap_or_default();
            Err(format!(
                "rule {} redirects it to {to} (status {}), and no server gets it",
                rule.name,
                view.status.unwrap_or_default()
            ))
        }
        RuleDecision::Respond(spec) => {
            view.status = spec.own_status();
            Err(format!(
                "rule {} gives it status {}, and no server gets it",
                rule.name,
                view.status.unwrap_or_default()
            ))
        }
        RuleDecision::Close => Err(format!("rule {} closes its connection without a word", rule.name)),
    };
    RuledRequest { view, limits, goes, label, without_pins }
}
