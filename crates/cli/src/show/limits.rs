//! Limits for people.

use comfy_table::Cell;
use merismos_api::{LimitTrace, Limits};

use super::table::table;
use super::{bad, good, moment, strong, text};

/// Prints what limits did.
pub(crate) fn counts(limits: &Limits) {
    if limits.limits.is_empty() {
        text("There is no limit: clients may ask for as much as they like.\n");
        return;
    }
    let mut all =
        table(&["limit", "each", "may have", "used by", "passed", "delayed", "refused", "observed"]);
    for limit in &limits.limits {
        let rules = limit.rules.iter().map(|rule| format!("rule {rule}"));
        let users: Vec<String> = limit.frontends.iter().cloned().chain(rules).collect();
        all.add_row([
            Cell::new(&limit.name),
            Cell::new(&limit.per),
            Cell::new(format!("{}; {}", limit.allows, limit.action)),
            Cell::new(users.join(", ")),
            Cell::new(limit.passed),
            Cell::new(limit.delayed),
            Cell::new(limit.refused),
            Cell::new(limit.observed),
        ]);
    }
    text(&format!("{all}\n"));
    for limit in limits.limits.iter().filter(|limit| !limit.held_off.is_empty()) {
        text(&format!("\n{}\n", strong(&format!("Held off most by {}", limit.name))));
        let mut most = table(&["clients", "times", "last"]);
        for held in &limit.held_off {
            let about =
                if held.over > 0 { format!("{} at most", held.count) } else { held.count.to_string() };
            most.add_row([Cell::new(&held.network), Cell::new(about), Cell::new(moment(held.last))]);
        }
        text(&format!("{most}\n"));
    }
    for limit in limits.limits.iter().filter(|limit| limit.shared > 0) {
        text(&format!(
            "{} {}: {} were counted together with others, for more clients came than are counted by themselves (clients).\n",
            bad("!"),
            limit.name,
            limit.shared
        ));
    }
}

/// Prints what limits say of a request.
pub(crate) fn explained(limits: &[LimitTrace]) {
    for limit in limits {
        let sign = if limit.passes { good("✓") } else { bad("✗") };
        text(&format!(
            "{sign} limit {}: {} per {} ({}): {}\n",
            strong(&limit.name),
            limit.allows,
            limit.per,
            limit.action,
            limit.says
        ));
    }
}
