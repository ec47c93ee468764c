//! Rules and their examples: what they name has to be there, and what examples say has to hold.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use super::redirect_circles;
use crate::config::Problem;
use crate::config::check::one_of;
use crate::config::document::{Document, ExampleSpec, Protocol, RuleAction, RuleChanges, RuleSpec};
use crate::config::warnings::{Warning, WarningReason};
use crate::name::Name;
use crate::rules::{
    Condition, FieldTemplate, LocationTemplate, RequestVersion, RuleFacts, RuleOutcome, RuleSet,
    UNTOUCHED_FIELDS, implies, is_never_met, outcome, overlap, path_pattern,
};

/// How many rules for one host, or for none, are compared with each other.
const MOST_COMPARED: usize = 1_000;
/// How many rules before it a rule is compared with for requests that meet both.
const MOST_OVERLAPPING: usize = 100;

/// Checks what rules and examples name.
pub(super) fn references(document: &Document, problems: &mut Vec<Problem>) {
    for (name, rule) in &document.rules {
        whole_action(name, rule, problems);
        for (pool, _) in rule.pools().filter(|(pool, _)| !document.pools.contains_key(*pool)) {
            let key = if rule.pool.is_some() { "pool" } else { "pool_weights" };
            let wanted = one_of("pool", pool, document.pools.keys());
            problems.push(Problem::dangling(&format!("rules.{name}.{key}"), "pool", pool, wanted));
        }
        if rule.pool.is_none() && rule.pools().count() > 0 && rule.pools().all(|(_, weight)| weight == 0) {
            let found = "every pool has weight 0, and none would be chosen".to_owned();
            problems.push(Problem::at(
                &format!("rules.{name}.pool_weights"),
                found,
                "one weight of 1 or more",
            ));
        }
        for list in rule.when.networks().filter(|list| !document.networks.contains_key(*list)) {
            let wanted = one_of("network", list, document.networks.keys());
            problems.push(Problem::dangling(&format!("rules.{name}.when"), "list of networks", list, wanted));
        }
    }
    for (name, frontend) in &document.frontends {
        for rule in frontend.rules.iter().filter(|rule| !document.rules.contains_key(*rule)) {
            let wanted = one_of("rule", rule, document.rules.keys());
            problems.push(Problem::dangling(&format!("frontends.{name}.rules"), "rule", rule, wanted));
        }
    }
    for (name, frontend) in document.frontends.iter().filter(|(_, spec)| spec.protocol != Protocol::Http) {
        for (rule, spec) in document.rules_of(frontend) {
            for_connections(name, (rule, spec), problems);
        }
    }
    for (name, frontend) in &document.frontends {
        let excepted = frontend.http.iter().flat_map(|http| &http.maintenance.maintenance_except);
        let lists = excepted
            .map(|list| ("maintenance_except", list))
            .chain(frontend.allow.iter().map(|list| ("allow", list)))
            .chain(frontend.deny.iter().map(|list| ("deny", list)));
        for (key, list) in lists.filter(|(_, list)| !document.networks.contains_key(*list)) {
            let wanted = one_of("network", list, document.networks.keys());
            problems.push(Problem::dangling(
                &format!("frontends.{name}.{key}"),
                "list of networks",
                list,
                wanted,
            ));
        }
    }
    for (name, example) in &document.examples {
        let expects_rule = example.expect_rule.is_some() || example.expect_pool.is_some();
        let expects_change = example.expect_path.is_some() || !example.expect_fields.is_empty();
        let expects_answer = example.expect_status.is_some() || example.expect_location.is_some();
        if !expects_rule && !expects_change && !expects_answer {
            let found = "the example expects nothing".to_owned();
            let wanted =
                "expect_rule, expect_pool, expect_path, expect_fields, expect_status or expect_location";
            problems.push(Problem::at(&format!("examples.{name}"), found, wanted));
        }
        let mut dangling = |key: &str, kind: &str, named: &Name, wanted: String| {
            problems.push(Problem::dangling(&format!("examples.{name}.{key}"), kind, named, wanted));
        };
        if !document.frontends.contains_key(&example.frontend) {
            let wanted = one_of("frontend", &example.frontend, document.frontends.keys());
            dangling("frontend", "frontend", &example.frontend, wanted);
        }
        if let Some(rule) = example.expect_rule.as_ref().filter(|rule| !document.rules.contains_key(*rule)) {
            dangling("expect_rule", "rule", rule, one_of("rule", rule, document.rules.keys()));
        }
        if let Some(pool) = example.expect_pool.as_ref().filter(|pool| !document.pools.contains_key(*pool)) {
            dangling("expect_pool", "pool", pool, one_of("pool", pool, document.pools.keys()));
        }
    }
}

/// What a rule looks at and does is possible for connections of which nothing is read.
fn for_connections(frontend: &Name, (rule, spec): (&Name, &RuleSpec), problems: &mut Vec<Problem>) {
    let mut wrong = |found: String, wanted: &str| {
        problems.push(Problem::at(&format!("frontends.{frontend}.rules"), found, wanted));
    };
    if let Some(fact) = spec.when.fact_of_requests() {
        let found =
            format!("rule {rule} looks at {fact}, and of connections of this frontend (tcp) it is not known");
        wrong(found, "rules that look at client, server-name, local-address and port alone");
    }
    let changes = spec.changes != RuleChanges::default() || spec.choice_cookie.is_some();
    if !matches!(spec.action, RuleAction::Pool | RuleAction::Close) || changes || !spec.limits.is_empty() {
        let found = format!(
            "rule {rule} does something with requests ({}), and this frontend (tcp) reads none",
            spec.does()
        );
        wrong(found, "rules that lead to pools or close the connection, and nothing beside that");
    }
}

/// An action has what it needs.
fn whole_action(name: &Name, rule: &RuleSpec, problems: &mut Vec<Problem>) {
    let mut wrong = |key: &str, found: &str, wanted: &str| {
        problems.push(Problem::at(&format!("rules.{name}.{key}"), found.to_owned(), wanted));
    };
    match rule.action {
        RuleAction::Pool => match (&rule.pool, rule.pool_weights.is_empty()) {
            (None, true) => wrong(
                "pool",
                "the rule leads to no pool",
                "pool = \"booking\", or pool_weights = { booking = 95, booking-next = 5 }",
            ),
            (Some(_), false) => wrong("pool", "the rule has pool and pool_weights", "one of the two"),
            (Some(_), true) if rule.choice_cookie.is_some() => wrong(
                "choice_cookie",
                "it keeps a choice among several pools, and the rule leads to one",
                "pool_weights beside it",
            ),
            _ => {}
        },
        RuleAction::Redirect if rule.location.is_none() => wrong(
            "location",
            "the rule leads nowhere",
            "location = \"https://www.skerry.example{path}{query}\" or the like",
        ),
        RuleAction::Refuse if rule.status.is_some_and(|status| status < 400) => {
            wrong("status", "the status refuses nothing", "a number from 400 to 599");
        }
        RuleAction::Respond if rule.body.is_some() && matches!(rule.status, Some(204 | 205 | 304)) => {
            wrong(
                "body",
                "a response with this status has no body (RFC 9110, 15)",
                "no body, or another status",
            );
        }
        RuleAction::Continue if rule.changes == RuleChanges::default() && rule.limits.is_empty() => {
            wrong(
                "action",
                "the rule changes nothing, and requests go on as they are",
                "rewrite_path, set_request_fields, limits or the like beside it",
            );
        }
        RuleAction::Redirect
        | RuleAction::Respond
        | RuleAction::Refuse
        | RuleAction::Close
        | RuleAction::Continue => {}
    }
    whole_changes(rule, &mut wrong);
}

/// What is changed on the way can be changed.
fn whole_changes(rule: &RuleSpec, wrong: &mut impl FnMut(&str, &str, &str)) {
    let changes = &rule.changes;
    if changes.rewrite_path.as_ref().is_some_and(|path| !path.is_path()) {
        wrong("rewrite_path", "it is a whole URL, and servers get a path", "a path, such as /booking{rest}");
    }
    let names = |key: &'static str, names: &[String]| {
        names.iter().map(|name| (key, name.clone())).collect::<Vec<_>>()
    };
    let set = |key: &'static str, fields: &BTreeMap<String, String>| {
        fields.keys().map(|name| (key, name.clone())).collect::<Vec<_>>()
    };
    let all = [
        set("set_request_fields", &changes.set_request_fields),
        set("add_request_fields", &changes.add_request_fields),
        set("add_response_fields", &changes.add_response_fields),
        names("remove_request_fields", &changes.remove_request_fields),
        set("set_response_fields", &changes.set_response_fields),
        names("remove_response_fields", &changes.remove_response_fields),
    ];
    for (key, name) in all.into_iter().flatten() {
        if UNTOUCHED_FIELDS.iter().any(|untouched| name.eq_ignore_ascii_case(untouched)) {
            let path = if !key.starts_with("remove") { format!("{key}.{name}") } else { key.to_owned() };
            let found = format!("{name} delimits or directs messages, or is written here");
            wrong(&path, &found, "another field; rewrite_host for the host");
        }
    }
    let mut templates: Vec<(String, &str)> = Vec::new();
    for (key, fields) in [
        ("set_request_fields", &changes.set_request_fields),
        ("add_request_fields", &changes.add_request_fields),
        ("set_response_fields", &changes.set_response_fields),
        ("add_response_fields", &changes.add_response_fields),
    ] {
        templates.extend(fields.iter().map(|(name, value)| (format!("{key}.{name}"), value.as_str())));
    }
    templates.extend(changes.request_label.iter().map(|label| ("request_label".to_owned(), label.as_str())));
    templates.extend(changes.rewrite_host.iter().map(|host| ("rewrite_host".to_owned(), host.as_str())));
    let mut named: Vec<(String, String)> = Vec::new();
    for (path, value) in templates {
        match value.parse::<FieldTemplate>() {
            Err(error) => wrong(&path, &format!("found {value:?}: {error}"), "a value such as {client}"),
            Ok(template) => named.extend(template.captures().map(|group| (path.clone(), group.to_owned()))),
        }
    }
    for (key, location) in [("location", &rule.location), ("rewrite_path", &changes.rewrite_path)] {
        let groups = location.iter().flat_map(LocationTemplate::captures);
        named.extend(groups.map(|group| (key.to_owned(), group.to_owned())));
    }
    let pattern = path_pattern(rule.when.tree());
    for (path, group) in named {
        if !pattern.is_some_and(|pattern| pattern.has_group(&group)) {
            let found = format!("the condition has no path matches with a group {group}");
            wrong(&path, &found, "path matches \"^/v(?P<number>[0-9]+)/\" for {capture.number}");
        }
    }
}

/// Examples of which something else becomes than they say.
pub(super) fn examples(document: &Document, problems: &mut Vec<Problem>) {
    let mut sets: BTreeMap<&Name, RuleSet> = BTreeMap::new();
    for (name, example) in &document.examples {
        let Some(frontend) = document.frontends.get(&example.frontend) else { continue };
        if frontend.protocol == Protocol::Udp {
            let found = format!("frontend {} speaks udp, and has no rules", example.frontend);
            problems.push(Problem::at(
                &format!("examples.{name}.frontend"),
                found,
                "a frontend with protocol http or tcp",
            ));
            continue;
        }
        let conditions = document.rules_of(frontend).map(|(_, rule)| &rule.when);
        let set =
            sets.entry(&example.frontend).or_insert_with(|| RuleSet::new(conditions, &document.networks));
        let becomes =
            with_facts(example, frontend.endpoint().address, |facts| outcome(document, frontend, set, facts));
        if !is_as_expected(example, &becomes) {
            let found = format!("the request now {}", describe(&becomes));
            let problem = Problem::at(&format!("examples.{name}"), found, expected(example));
            problems.push(problem);
        }
    }
}

fn with_facts<T>(example: &ExampleSpec, local: SocketAddr, look: impl FnOnce(&RuleFacts<'_>) -> T) -> T {
    let any_field = |name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool| {
        let of_name = example.headers.iter().filter(|(own, _)| own.eq_ignore_ascii_case(name));
        of_name.into_iter().any(|(_, value)| is_wanted(value.as_bytes()))
    };
    look(&RuleFacts {
        client: example.client.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED)),
        method: &example.method,
        target: &example.path,
        path: None,
        host: example.host.as_deref().map(str::as_bytes),
        server_name: example.server_name.as_deref(),
        has_certificate: false,
        certificate_subject: &String::new,
        version: RequestVersion::One,
        local,
        any_field: &any_field,
    })
}

fn is_as_expected(example: &ExampleSpec, becomes: &RuleOutcome) -> bool {
    let rule = example.expect_rule.is_none() || example.expect_rule == becomes.rule;
    let pool = example.expect_pool.as_ref().is_none_or(|pool| becomes.pools.contains(pool));
    let status = example.expect_status.is_none() || example.expect_status == becomes.status;
    let location = example.expect_location.is_none() || example.expect_location == becomes.location;
    let target = becomes.edits.target.as_deref().unwrap_or(&example.path);
    let path = example.expect_path.as_deref().is_none_or(|path| path == target);
    let fields = example.expect_fields.iter().all(|(name, value)| {
        let mut added = becomes.edits.request.added.iter();
        added.any(|(added, is)| added.eq_ignore_ascii_case(name) && is == value)
    });
    rule && pool && status && location && path && fields
}

/// What becomes of a request, for people.
pub(in crate::config) fn describe(becomes: &RuleOutcome) -> String {
    let by = match (&becomes.rule, becomes.status) {
        (Some(rule), _) => format!("meets rule {rule}"),
        (None, Some(400)) => return "is refused with 400: its path is ambiguous".to_owned(),
        (None, _) => "meets no rule".to_owned(),
    };
    let pools: Vec<&str> = becomes.pools.iter().map(Name::as_str).collect();
    let path = becomes.edits.target.as_ref().map(|target| format!("as {target}"));
    let fields = (!becomes.edits.request.is_empty()).then(|| becomes.edits.request.to_string());
    let changed: String = [path, fields].into_iter().flatten().map(|part| format!(" {part}")).collect();
    match (&becomes.location, becomes.status) {
        (Some(location), Some(status)) => format!("{by} and is redirected to {location} ({status})"),
        (_, Some(status)) => format!("{by} and gets {status}"),
        (_, None) if pools.is_empty() => format!("{by} and its connection is closed"),
        (_, None) => format!("{by} and goes to pool {}{changed}", pools.join(" or ")),
    }
}

fn expected(example: &ExampleSpec) -> String {
    let parts = [
        example.expect_rule.as_ref().map(|rule| format!("rule {rule}")),
        example.expect_pool.as_ref().map(|pool| format!("pool {pool}")),
        example.expect_path.as_ref().map(|path| format!("path {path}")),
        (!example.expect_fields.is_empty()).then(|| {
            let fields = example.expect_fields.iter().map(|(name, value)| format!("{name}: {value}"));
            fields.collect::<Vec<_>>().join(", ")
        }),
        example.expect_status.map(|status| format!("status {status}")),
        example.expect_location.as_ref().map(|location| format!("a redirect to {location}")),
    ];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    format!("{}, as the example says; change the rules, or the example with them", parts.join(", "))
}

/// Rules that no request meets.
pub(super) fn warnings(document: &Document, found: &mut Vec<Warning>) {
    let listed: BTreeSet<&Name> = document.frontends.values().flat_map(|frontend| &frontend.rules).collect();
    for (name, rule) in &document.rules {
        let path = format!("rules.{name}");
        if is_never_met(rule.when.tree()) {
            let reason = WarningReason::RuleNeverMet { rule: name.clone() };
            found.push(Warning::new(&reason, crate::config::WarningLevel::Warning, &path));
        }
        if !listed.contains(name) {
            found.push(Warning::notice(&WarningReason::UnusedRule { rule: name.clone() }, &path));
        }
    }
    for (frontend, spec) in &document.frontends {
        let rules: Vec<(&Name, &Condition)> =
            document.rules_of(spec).map(|(name, rule)| (name, &rule.when)).collect();
        let specs: Vec<&RuleSpec> = document.rules_of(spec).map(|(_, rule)| rule).collect();
        // Only rules for the same host, or for any, can stand before each other.
        let mut by_host: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for (place, (_, condition)) in rules.iter().enumerate() {
            for host in crate::rules::hosts_of(condition.tree()).into_iter().flatten() {
                by_host.entry(host).or_default().push(place);
            }
        }
        let general: Vec<usize> = (0..rules.len())
            .filter(|place| {
                let hosts = crate::rules::hosts_of(rules[*place].1.tree());
                hosts.is_none_or(|hosts| hosts.iter().any(|host| host.starts_with("*.")))
            })
            .take(MOST_COMPARED)
            .collect();
        for (place, (name, condition)) in rules.iter().enumerate() {
            let own =
                crate::rules::hosts_of(condition.tree()).and_then(|hosts| by_host.get(hosts[0].as_str()));
            let others = own.into_iter().flatten().take(MOST_COMPARED).chain(&general);
            let earlier: Vec<usize> = others.copied().filter(|other| *other < place).collect();
            let mut shadowing = earlier.iter().copied();
            let by = shadowing
                .find(|other| !specs[*other].goes_on() && implies(condition.tree(), rules[*other].1.tree()));
            if let Some(by) = by {
                let reason = WarningReason::ShadowedRule {
                    rule: (*name).clone(),
                    by: rules[by].0.clone(),
                    frontend: frontend.clone(),
                };
                let path = format!("frontends.{frontend}.rules.{name}");
                found.push(Warning::new(&reason, crate::config::WarningLevel::Warning, &path));
                continue;
            }
            let decides_otherwise = |other: &usize| {
                !specs[*other].goes_on()
                    && !specs[place].goes_on()
                    && specs[*other].does() != specs[place].does()
            };
            let mut first = earlier.into_iter().take(MOST_OVERLAPPING).filter(decides_otherwise);
            if let Some(first) = first.find(|other| overlap(condition.tree(), rules[*other].1.tree())) {
                let reason = WarningReason::OverlappingRules {
                    first: rules[first].0.clone(),
                    rule: (*name).clone(),
                    frontend: frontend.clone(),
                };
                let path = format!("frontends.{frontend}.rules.{name}");
                found.push(Warning::notice(&reason, &path));
            }
        }
        redirect_circles::warnings(document, (frontend, spec), found);
    }
}
