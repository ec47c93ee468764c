//! An explanation for people.

use merismos_api::ExplainResponse;

use super::{bad, good, strong, text};

/// Prints which server the next request would go to, and why no other.
pub(crate) fn print(answer: &ExplainResponse) {
    let head = format!(
        "frontend {} → pool {} ({}) → {}",
        answer.frontend,
        answer.pool,
        answer.algorithm,
        answer.server.as_deref().unwrap_or("no server")
    );
    text(&format!("{}\n", strong(&head)));
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
    text(&format!(
        "Decided by revision {}, duty and health of this moment; nothing was sent.\n",
        answer.revision
    ));
}
