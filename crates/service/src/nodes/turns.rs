//! Orders that take servers out are given one after the other, by whatever node: two that each look harmless could empty a pool together.

use std::time::Duration;

use merismos_store::Store;

use super::NodeWatch;
use crate::controller::Controller;

/// The work that only one node may do at a time.
const WORK: &str = "order";
/// For how long an order has its turn, should its node end in the middle.
const LASTS: Duration = Duration::from_secs(3);
/// How long an order waits for its turn, where the database answered when it was asked last. It may be urgent: after that it is given without.
const WAITS: Duration = Duration::from_secs(2);
const TRIED_EVERY: Duration = Duration::from_millis(20);

/// A turn among the nodes, until it is given back.
#[derive(Debug)]
pub(crate) struct NodeTurn {
    store: Store,
    node: [u8; 16],
}

impl NodeTurn {
    /// Gives the turn to the next.
    pub(crate) async fn end(self) {
        if let Err(error) = self.store.end_lease(WORK, self.node).await {
            tracing::debug!(%error, "the turn ends by itself");
        }
    }
}

/// Takes the turn and learns what other nodes ordered. Gives nothing when there is no other node, when the database does not answer, or when it takes
/// too long: then the guard goes by what is known here.
pub(crate) async fn take_turn(store: &Store, watch: &NodeWatch, controller: &Controller) -> Option<NodeTurn> {
    if watch.count() < 2 || watch.seen().is_away {
        return None;
    }
    let node = watch.own.id;
    let taking = async {
        while !store.take_lease(WORK, node, LASTS).await.ok()? {
            tokio::time::sleep(TRIED_EVERY).await;
        }
        let turn = NodeTurn { store: store.clone(), node };
        controller.adopt_orders(store.duties().await.ok()?).await.ok()?;
        Some(turn)
    };
    tokio::time::timeout(WAITS, taking).await.ok().flatten()
}
