//! Limits: what they allow has to be something, and of those who list them.

use crate::config::Problem;
use crate::config::check::one_of;
use crate::config::document::{Document, FrontendSpec, LimitKey, LimitSpec, Protocol};
use crate::config::warnings::{Warning, WarningReason};
use crate::name::Name;

/// Checks what limits allow, and who lists them.
pub(super) fn references(document: &Document, problems: &mut Vec<Problem>) {
    for (name, limit) in &document.limits {
        whole(name, limit, problems);
    }
    for (name, frontend) in &document.frontends {
        let path = format!("frontends.{name}.limits");
        for limit in &frontend.limits {
            match document.limits.get(limit) {
                Some(spec) => fits(&path, (limit, spec), (name, frontend), problems),
                None => problems.push(dangling(document, &path, limit)),
            }
        }
    }
    for (name, frontend) in document.frontends.iter().filter(|(_, spec)| spec.protocol != Protocol::Http) {
        let adapts = |pool: &Name| document.pools.get(pool).is_some_and(|pool| pool.adaptive_limit);
        if let Some(pool) = document.pools_of(frontend).find(|pool| adapts(pool)) {
            let found = format!(
                "it goes by response times, and clients of frontend {name} ({}) get none",
                frontend.protocol
            );
            problems.push(Problem::at(
                &format!("pools.{pool}.adaptive_limit"),
                found,
                "a pool of http frontends alone",
            ));
        }
    }
    for (name, rule) in &document.rules {
        let path = format!("rules.{name}.limits");
        for limit in &rule.limits {
            match document.limits.get(limit) {
                Some(spec) if spec.rate.is_none() && spec.in_flight.is_none() && spec.bandwidth.is_none() => {
                    let found =
                        format!("limit {limit} counts connections alone, and a rule is met by requests");
                    problems.push(Problem::at(&path, found, "a limit with rate, in_flight or bandwidth"));
                }
                Some(_) => {}
                None => problems.push(dangling(document, &path, limit)),
            }
        }
    }
}

fn dangling(document: &Document, path: &str, limit: &Name) -> Problem {
    Problem::dangling(path, "limit", limit, one_of("limit", limit, document.limits.keys()))
}

/// A limit allows something.
fn whole(name: &Name, limit: &LimitSpec, problems: &mut Vec<Problem>) {
    let mut wrong = |key: &str, found: &str, wanted: &str| {
        let path = if key.is_empty() { format!("limits.{name}") } else { format!("limits.{name}.{key}") };
        problems.push(Problem::at(&path, found.to_owned(), wanted));
    };
    let counts = limit.rate.is_some() || limit.in_flight.is_some() || limit.connections.is_some();
    if !counts && limit.bandwidth.is_none() {
        wrong("", "the limit limits nothing", "rate, in_flight, connections or bandwidth");
    }
    if limit.burst.is_some() && limit.rate.is_none() {
        wrong("burst", "there is no rate that it is a burst of", "rate beside it");
    }
    if limit.connections.is_some() && !limit.per.is_known_early() {
        let found =
            format!("connections are counted before anything is read, and {} is not known then", limit.per);
        wrong(
            "connections",
            &found,
            "per = \"client-address\" or \"all\", or a limit of its own for connections",
        );
    }
}

/// The clients of a frontend have what a limit goes by.
fn fits(
    path: &str,
    (limit, spec): (&Name, &LimitSpec),
    (name, frontend): (&Name, &FrontendSpec),
    problems: &mut Vec<Problem>,
) {
    if frontend.protocol == Protocol::Http {
        if spec.per == LimitKey::Label {
            let found =
                format!("limit {limit} goes by what rules call a request, and it is asked before any rule");
            problems.push(Problem::at(
                path,
                found,
                "the limit at the rule that gives the label, or at one behind it",
            ));
        }
        return;
    }
    let protocol = frontend.protocol;
    if !spec.per.is_known_of(protocol) {
        let found = format!("limit {limit} goes by {}, and frontend {name} speaks {protocol}", spec.per);
        problems.push(Problem::at(path, found, "a limit per client-address or all"));
    }
    if spec.rate.is_none() && spec.connections.is_none() {
        let found = format!(
            "limit {limit} counts requests and their bodies, and clients of frontend {name} ({protocol}) make none"
        );
        problems.push(Problem::at(path, found, "a limit with rate or connections"));
    }
}

/// Limits that nothing lists.
pub(super) fn unused(document: &Document, found: &mut Vec<Warning>) {
    let listed = |limit: &Name| {
        document.frontends.values().any(|frontend| frontend.limits.contains(limit))
            || document.rules.values().any(|rule| rule.limits.contains(limit))
    };
    for limit in document.limits.keys().filter(|limit| !listed(limit)) {
        let path = format!("limits.{limit}");
        found.push(Warning::notice(&WarningReason::UnusedLimit { limit: limit.clone() }, &path));
    }
}
