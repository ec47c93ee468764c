//! An explanation for people.

use merismos_api::ExplainResponse;

use super::{bad, good, strong, text};

/// Prints which server the next request would go to, and why no other.
pub(crate) fn print(answer: &ExplainResponse) {
    let decided =
        answer.rules.as_ref().filter(|_| answer.server.is_none()).and_then(|rules| rules.met.as_ref());
    let by_itself = decided.filter(|rule| !rule.does.starts_with("pool "));
    let head = match by_itself {
        Some(rule) => format!("frontend {} → rule {} → {}", answer.frontend, rule.name, rule.does),
        None if answer.rules.as_ref().is_some_and(|rules| rules.status.is_some()) => {
            let status = answer.rules.as_ref().and_then(|rules| rules.status).unwrap_or_default();
            format!("frontend {} → status {status}", answer.frontend)
        }
        None => head(answer),
    };
    text(&format!("{}\n", strong(&head)));
    super::limits::explained(&answer.limits);
    if let Some(rules) = &answer.rules {
        super::rules::explained(rules);
    }
    if answer.rules.as_ref().is_some_and(|rules| rules.status.is_some()) || by_itself.is_some() {
        let status = answer.rules.as_ref().and_then(|rules| rules.status);
        let sign = if status.is_some_and(|status| status < 400) { good("✓") } else { bad("✗") };
        text(&format!("{sign} {}\n", answer.why));
        end(answer);
        return;
    }
    servers(answer);
    end(answer);
}

fn head(answer: &ExplainResponse) -> String {
    format!(
        "frontend {} → pool {} ({}) → {}",
        answer.frontend,
        answer.pool,
        answer.algorithm,
        answer.server.as_deref().unwrap_or("no server")
    )
}

fn servers(answer: &ExplainResponse) {
    if let Some(why) = &answer.why_pool {
        text(&format!("  pool {}: {why}\n", answer.pool));
    }
    if answer.unit == "connection" {
        text("  connections are distributed: whatever comes later on one stays with its server\n");
    }
    match &answer.server {
        Some(server) => text(&format!("{} {server}: {}\n", good("✓"), answer.why)),
        None => text(&format!("{} {}\n", bad("✗"), answer.why)),
    }
    for other in &answer.others {
        text(&format!("  {}: {}\n", other.server, other.why));
    }
}

fn end(answer: &ExplainResponse) {
    text(&format!(
        "Decided by revision {}, duty and health of this moment; nothing was sent.\n",
        answer.revision
    ));
}
