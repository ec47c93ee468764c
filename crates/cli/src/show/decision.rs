//! A decision for people.

use merismos_api::Decision;

use super::{moment, strong, text};

/// Prints where a request went and why, or one JSON object on a line.
pub(crate) fn print(decision: &Decision, json: bool) {
    if json {
        text(&(serde_json::to_string(decision).expect("API types have text keys") + "\n"));
        return;
    }
    let head = format!("{} {} → {}", decision.frontend, decision.client, decision.server);
    text(&format!("{}  {}: {} ({})\n", moment(decision.at), strong(&head), decision.why, decision.algorithm));
    if let Some(rule) = &decision.rule {
        text(&format!("    by rule {rule}\n"));
    }
    if let Some(label) = &decision.label {
        text(&format!("    label {label}\n"));
    }
    if let Some(why) = &decision.why_pool {
        text(&format!("    pool {}: {why}\n", decision.pool));
    }
    if !decision.failed_at.is_empty() {
        text(&format!("    failed before at {}\n", decision.failed_at.join(", ")));
    }
    for other in &decision.others {
        text(&format!("    {}: {}\n", other.server, other.why));
    }
    if decision.more_others > 0 {
        text(&format!("    and {} more servers\n", decision.more_others));
    }
    if decision.passed_over > 0 {
        text(&format!("    {} decisions before this one were not sampled\n", decision.passed_over));
    }
}
