//! Whom a frontend refused, for people.

use comfy_table::Cell;
use merismos_api::Refusals;

use super::table::table;
use super::{moment, strong, text};

fn times(count: u64) -> String {
    if count == 1 { "once".to_owned() } else { format!("{count} times") }
}

/// Prints whom a frontend refused, and why.
pub(crate) fn print(refusals: &Refusals) {
    if refusals.reasons.is_empty() {
        text(&format!("Frontend {} has refused no client since the node started.\n", refusals.frontend));
        return;
    }
    for (number, reason) in refusals.reasons.iter().enumerate() {
        let head = format!("{} ({})", reason.says.trim_end_matches('.'), reason.reason);
        text(&format!("{}{}: {}\n", if number > 0 { "\n" } else { "" }, strong(&head), times(reason.count)));
        let mut most = table(&["clients", "times", "last"]);
        for refused in &reason.networks {
            let about = if refused.over > 0 {
                format!("{} at most", refused.count)
            } else {
                refused.count.to_string()
            };
            most.add_row([Cell::new(&refused.network), Cell::new(about), Cell::new(moment(refused.last))]);
        }
        text(&format!("{most}\n"));
    }
}
