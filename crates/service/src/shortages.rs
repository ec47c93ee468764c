//! What this node is short of: a trouble and an event when it begins, one log line a minute while it goes on, an event when it is
//! over.

use std::time::Duration;

use merismos_connector::descriptors::{self, DescriptorBudget};
use merismos_core::units::Size;
use merismos_plane::memory::Memory;
use serde_json::json;

use crate::journal::Journal;
use crate::troubles::{TroubleKind, Troubles};

/// How many seconds have to go well until it is no trouble any more.
const QUIET: u32 = 60;

/// Watches for clients that wait, or are answered 503, because there are too few file descriptors.
pub(crate) async fn watch_descriptors(allotment: DescriptorBudget, troubles: Troubles, journal: Journal) {
    let says = || {
        format!(
            "the service is short of file descriptors (it may have {}): clients wait before they are taken, or get 503. Raise the \
             limit (`ulimit -n`, `LimitNOFILE=`) and restart; probes and the API have a reserve of {}",
            allotment.limit, allotment.reserve
        )
    };
    let watch = ShortageWatch { troubles, journal, kind: TroubleKind::Descriptors };
    watch.run(descriptors::shortages, says, "there are enough file descriptors again").await;
}

/// Watches for clients that are ended because they hold too much memory.
pub(crate) async fn watch_client_memory(memory: Memory, troubles: Troubles, journal: Journal) {
    let says = || {
        let limits = memory.limits();
        let size = |bytes| Size::from_bytes(bytes).to_string();
        let who = memory.worst().map_or_else(String::new, |address| format!(" ({address} most)"));
        format!(
            "clients held more memory than they may{who}, and those that held most were ended: {} so far. Find out why that address \
             does not read its answers or finish its requests, or raise --client-memory-per-address ({}) or --client-memory ({})",
            memory.cut(),
            size(limits.per_address),
            size(limits.in_all),
        )
    };
    let watch = ShortageWatch { troubles, journal, kind: TroubleKind::ClientMemory };
    watch.run(|| memory.cut(), says, "clients hold no more memory than they may again").await;
}

struct ShortageWatch {
    troubles: Troubles,
    journal: Journal,
    kind: TroubleKind,
}

impl ShortageWatch {
    /// Looks each second whether the count has grown.
    async fn run(self, count: impl Fn() -> u64, says: impl Fn() -> String, over: &str) {
        let Self { troubles, journal, kind } = self;
        let (mut seen, mut quiet, mut since_said) = (count(), 0, QUIET);
        loop {
            tokio::time::sleep(Duration::from_secs(1)).await;
            let now = count();
            since_said += 1;
            if now > seen {
                let message = says();
                let is_news = troubles.set(kind, message.clone());
                if is_news {
                    journal.here(message, json!({}));
                } else if since_said >= QUIET {
                    tracing::warn!(times = now, "{message}");
                }
                if is_news || since_said >= QUIET {
                    since_said = 0;
                }
                quiet = 0;
            } else {
                quiet += 1;
                if quiet == QUIET && troubles.clear(kind) {
                    journal.here(over, json!({}));
                }
            }
            seen = now;
        }
    }
}
