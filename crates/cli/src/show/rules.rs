//! Rules for people.

use comfy_table::Cell;
use merismos_api::{RuleCount, RuleCounts, RuleTrace, RulesView};

use super::table::table;
use super::{bad, good, moment, strong, text};

/// Prints the rules of a frontend with what they counted.
pub(crate) fn counts(counts: &RuleCounts) {
    if counts.rules.is_empty() {
        text(&format!("Frontend {} has no rules: every request goes to its pools.\n", counts.frontend));
        return;
    }
    let mut table = table(&["", "rule", "when", "then", "requests", "share", "last"]);
    let share = |matches: u64| match counts.requests {
        0 => String::new(),
        all => format!("{:.1} %", 100.0 * matches as f64 / all as f64),
    };
    for (number, rule) in counts.rules.iter().enumerate() {
        table.add_row([
            Cell::new(number + 1),
            Cell::new(&rule.name),
            Cell::new(&rule.when),
            Cell::new(&rule.does),
            Cell::new(rule.matches),
            Cell::new(share(rule.matches)),
            Cell::new(last_met(rule)),
        ]);
    }
    let met: u64 = counts.rules.iter().filter(|rule| !rule.goes_on).map(|rule| rule.matches).sum();
    let rest = counts.requests.saturating_sub(met);
    text(&format!(
        "{table}\n{rest} of {} requests met none that decides: the pools of the frontend got them, or they were refused.\n",
        counts.requests
    ));
}

/// When the last request met it; one that none has met for long may be of no use.
fn last_met(rule: &RuleCount) -> String {
    let last = rule.last.map_or_else(|| "never".to_owned(), moment);
    match rule.unmet_days {
        Some(days) => format!("{last}; none for {days} days"),
        None => last,
    }
}

/// Prints which rule a request meets, and why it meets none before.
pub(crate) fn explained(rules: &RulesView) {
    for rule in &rules.before {
        if rule.is_met {
            text(&format!("{} rule {}: {}\n", good("✓"), strong(&rule.name), rule.does));
        } else {
            text(&format!("{} rule {}: not met\n", bad("✗"), strong(&rule.name)));
        }
        tests(rule);
    }
    if rules.more_before > 0 {
        text(&format!("  and {} more rules that are not met\n", rules.more_before));
    }
    match &rules.met {
        Some(rule) => {
            text(&format!("{} rule {}: {}\n", good("✓"), strong(&rule.name), rule.does));
            tests(rule);
        }
        None if rules.status.is_some() => {}
        None => text("  no rule decides: the pools of the frontend get the request\n"),
    }
    let path = rules.path.as_ref().map(|path| format!("path {path}"));
    let host = rules.host.as_ref().map(|host| format!("host {host}"));
    let request: Vec<&String> = path.iter().chain(&host).chain(&rules.request_fields).collect();
    for (whose, changes) in [("request", request), ("response", rules.response_fields.iter().collect())] {
        for change in changes {
            text(&format!("    {whose}: {change}\n"));
        }
    }
    for decision in &rules.decides {
        text(&format!("    {decision}\n"));
    }
}

fn tests(rule: &RuleTrace) {
    if rule.tests.is_empty() {
        text(&format!("    {}\n", rule.when));
    }
    for test in &rule.tests {
        let sign = if test.holds { good("✓") } else { bad("✗") };
        let observed = test
            .observed
            .as_ref()
            .map_or_else(|| "it has none".to_owned(), |value| format!("it has {value:?}"));
        text(&format!("    {sign} {}: {observed}\n", test.test));
    }
}
