//! What rules make of a request, as far as the document tells.

use super::condition::{Condition, Fact, Test, TestComparison, Tree};
use super::edits::{RequestEdits, RuleEdits, path_pattern};
use super::matcher::{RuleFacts, RuleSet, host_name};
use super::request_path::{self, is_under};
use super::template::TemplateFacts;
use crate::config::Document;
use crate::config::document::{AmbiguousPaths, FrontendSpec, RuleAction, RuleSpec};
use crate::name::Name;

/// What becomes of a request at a frontend.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RuleOutcome {
    /// The rule that it meets first.
    pub rule: Option<Name>,
    /// The pools that it may go to.
    pub pools: Vec<Name>,
    /// The status that it gets from the frontend itself; `None` where a server answers, or nobody does.
    pub status: Option<u16>,
    /// Where it is redirected.
    pub location: Option<String>,
    /// What rules change about it.
    pub edits: RequestEdits,
}

/// What becomes of a request at a frontend, by its rules.
///
/// `rules` are those of the frontend, in order.
#[must_use]
pub fn outcome(
    document: &Document,
    frontend: &FrontendSpec,
    rules: &RuleSet,
    facts: &RuleFacts<'_>,
) -> RuleOutcome {
    let refuses = frontend.http.as_ref().and_then(|http| http.ambiguous_paths) != Some(AmbiguousPaths::Allow);
    if refuses && !rules.is_empty() && request_path::read(facts.target).ambiguity.is_some() {
        return RuleOutcome { status: Some(400), ..RuleOutcome::default() };
    }
    let listed: Vec<(&Name, &RuleSpec)> = document.rules_of(frontend).collect();
    let (mut edits, mut from) = (RequestEdits::default(), 0);
    let met = loop {
        let Some(place) = rules.next(facts, from) else { break None };
        let Some((name, rule)) = listed.get(place).copied() else { break None };
        if let Some(changes) = RuleEdits::of(rule) {
            changes.apply(facts, &mut edits);
        }
        if !rule.goes_on() {
            break Some((name, rule));
        }
        from = place + 1;
    };
    let Some((name, rule)) = met else {
        let pools = frontend.chosen_pools().cloned().collect();
        return RuleOutcome { pools, edits, ..RuleOutcome::default() };
    };
    RuleOutcome {
        rule: Some(name.clone()),
        pools: rule.pools().map(|(pool, _)| pool.clone()).collect(),
        status: rule.own_status(),
        location: location(rule, facts.host, facts.target),
        edits,
    }
}

/// Where a rule redirects a request; `None` when it is no redirect.
#[must_use]
pub fn location(rule: &RuleSpec, host: Option<&[u8]>, target: &str) -> Option<String> {
    let template = rule.location.as_ref().filter(|_| rule.action == RuleAction::Redirect)?;
    let host = host.map(host_name).unwrap_or_default();
    let (host, prefix) = (String::from_utf8_lossy(&host), met_prefix(&rule.when, target));
    let pattern = path_pattern(rule.when.tree());
    Some(template.render(TemplateFacts { host: &host, target, prefix, pattern }))
}

/// The path of `under` by which a condition is met.
#[must_use]
pub fn met_prefix<'c>(condition: &'c Condition, target: &str) -> &'c str {
    fn prefixes<'c>(tree: &'c Tree, found: &mut Vec<&'c str>) {
        match tree {
            Tree::All(parts) | Tree::Any(parts) => parts.iter().for_each(|part| prefixes(part, found)),
            Tree::Test(Test { fact: Fact::Path, comparison: TestComparison::Under(paths) }) => {
                found.extend(paths.iter().map(String::as_str));
            }
            Tree::Always | Tree::Not(_) | Tree::Test(_) => {}
        }
    }
    let (mut found, path) = (Vec::new(), request_path::read(target));
    prefixes(condition.tree(), &mut found);
    found.into_iter().find(|prefix| is_under(&path.bytes, prefix.as_bytes())).unwrap_or_default()
}
