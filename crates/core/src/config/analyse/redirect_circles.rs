//! Redirects of rules that lead back to themselves, at once or over others.

use std::net::{IpAddr, Ipv4Addr};

use crate::config::WarningLevel;
use crate::config::document::{Document, FrontendSpec, RuleAction, RuleSpec};
use crate::config::warnings::{Warning, WarningReason};
use crate::name::Name;
use crate::rules::{RequestVersion, RuleFacts, RuleSet, hosts_of, location, paths_of};

/// How many redirects are followed. Clients follow some twenty.
const MOST_REDIRECTS: usize = 8;

/// A request as far as redirects change it: its host and its target.
type RedirectedRequest = (String, String);

/// Warns of redirects whose client comes back to the rule that redirected it first. What is tried is one request that meets the rule, without fields.
pub(super) fn warnings(
    document: &Document,
    (name, frontend): (&Name, &FrontendSpec),
    found: &mut Vec<Warning>,
) {
    let rules: Vec<(&Name, &RuleSpec)> = document.rules_of(frontend).collect();
    let is_redirect = |place: &usize| rules[*place].1.action == RuleAction::Redirect;
    let redirects: Vec<usize> = (0..rules.len()).filter(is_redirect).collect();
    if redirects.is_empty() {
        return;
    }
    let set = RuleSet::new(rules.iter().map(|(_, rule)| &rule.when), &document.networks);
    let scheme = if frontend.certificates.is_empty() { "http://" } else { "https://" };
    for first in redirects {
        let (rule_name, rule) = rules[first];
        let mut request = request_for(rule);
        let mut visited = Vec::new();
        let mut here = decides(&set, &rules, frontend, &request).filter(|place| *place == first);
        while let Some(place) = here.filter(|_| visited.len() < MOST_REDIRECTS) {
            visited.push(place);
            let Some(next) = led_to(rules[place].1, &request, scheme) else { break };
            request = next;
            here = decides(&set, &rules, frontend, &request).filter(is_redirect);
            if here == Some(first) {
                let reason =
                    WarningReason::RedirectCircle { rule: rule_name.clone(), frontend: name.clone() };
                let path = format!("rules.{rule_name}.location");
                found.push(Warning::new(&reason, WarningLevel::Warning, &path));
                break;
            }
            // A circle that this rule only leads into is one of the rules in it.
            here = here.filter(|place| !visited.contains(place));
        }
    }
}

/// A request that meets a rule, as far as its hosts and paths tell.
fn request_for(rule: &RuleSpec) -> RedirectedRequest {
    let host = hosts_of(rule.when.tree())
        .and_then(|hosts| hosts.iter().find(|host| !host.starts_with("*.")))
        .map_or("a.invalid", String::as_str);
    let target = paths_of(rule.when.tree()).first().cloned();
    (host.to_owned(), target.unwrap_or_else(|| "/".to_owned()))
}

/// The rule that decides about a request.
fn decides(
    set: &RuleSet,
    rules: &[(&Name, &RuleSpec)],
    frontend: &FrontendSpec,
    request: &RedirectedRequest,
) -> Option<usize> {
    let any_field = |_: &str, _: &mut dyn FnMut(&[u8]) -> bool| false;
    let facts = RuleFacts {
        client: IpAddr::V4(Ipv4Addr::UNSPECIFIED),
        method: "GET",
        target: &request.1,
        path: None,
        host: Some(request.0.as_bytes()),
        server_name: None,
        has_certificate: false,
        certificate_subject: &String::new,
        version: RequestVersion::One,
        local: frontend.endpoint().address,
        any_field: &any_field,
    };
    let mut from = 0;
    loop {
        let place = set.next(&facts, from)?;
        if !rules[place].1.goes_on() {
            return Some(place);
        }
        from = place + 1;
    }
}

/// The request that a client makes next; `None` where it goes elsewhere than to this scheme.
fn led_to(rule: &RuleSpec, request: &RedirectedRequest, scheme: &str) -> Option<RedirectedRequest> {
    let location = location(rule, Some(request.0.as_bytes()), &request.1)?;
    if location.starts_with('/') {
        return Some((request.0.clone(), location));
    }
    let rest = location.strip_prefix(scheme)?;
    let (host, path) = rest.split_at(rest.find(['/', '?']).unwrap_or(rest.len()));
    let path = if path.starts_with('/') { path.to_owned() } else { format!("/{path}") };
    Some((host.to_owned(), path))
}
