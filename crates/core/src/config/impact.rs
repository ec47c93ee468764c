//! What a change would do to the shares, given the duties and the health of this moment.

use serde::{Deserialize, Serialize};

use super::Document;
use crate::eligibility::{Standing, Truths, pool_shares};
use crate::name::PoolServer;

/// How a change moves one server's expected share.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShareMove {
    /// The server.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub server: PoolServer,
    /// Its expected share now, 0 to 1; absent when it is new.
    pub before: Option<f64>,
    /// Its expected share afterwards, 0 to 1; absent when it is removed.
    pub after: Option<f64>,
    /// Why it would get nothing afterwards, when that is so.
    pub why_none: Option<String>,
}

/// The servers whose expected share would move, each with its share before and after, in the order of their names.
///
/// Both sides are computed with the same duties and health. A server that is new, or whose address or check
/// changes, is counted as if its first probe passes, for that is what the engineer asks: the shares to come.
#[must_use]
pub fn impact(old: &Document, new: &Document, truths: &impl Truths) -> Vec<ShareMove> {
    let mut moves = Vec::new();
    let names: std::collections::BTreeSet<_> = old.pools.keys().chain(new.pools.keys()).collect();
    for pool in names {
        let before = old.pools.get(pool).map(|spec| pool_shares(pool, spec, truths)).unwrap_or_default();
        let assumed = AssumeNew { old, new, truths };
        let after = new.pools.get(pool).map(|spec| pool_shares(pool, spec, &assumed)).unwrap_or_default();
        let servers: std::collections::BTreeSet<_> = before.keys().chain(after.keys()).collect();
        for server in servers {
            let (was, will) = (before.get(server), after.get(server));
            let share = |standing: Option<&Standing>| standing.map(|standing| standing.share);
            if share(was) != share(will) {
                let why_none = will.and_then(|standing| standing.reason.as_ref()).map(ToString::to_string);
                moves.push(ShareMove {
                    server: PoolServer { pool: pool.clone(), server: server.clone() },
                    before: share(was),
                    after: share(will),
                    why_none,
                });
            }
        }
    }
    moves
}

/// The truths as they are, except that servers that the change makes anew count as up.
struct AssumeNew<'a, T> {
    old: &'a Document,
    new: &'a Document,
    truths: &'a T,
}

impl<T: Truths> AssumeNew<'_, T> {
    fn is_known(&self, server: &PoolServer) -> bool {
        let find = |document: &Document| {
            let pool = document.pools.get(&server.pool)?;
            let check = pool.check.as_ref().and_then(|name| document.checks.get(name)).cloned();
            Some((pool.servers.get(&server.server)?.address, check))
        };
        find(self.old).is_some_and(|before| Some(before) == find(self.new))
    }
}

impl<T: Truths> Truths for AssumeNew<'_, T> {
    fn duty(&self, server: &PoolServer) -> crate::duty::Duty {
        self.truths.duty(server)
    }

    fn health(&self, server: &PoolServer) -> crate::health::State {
        if self.is_known(server) { self.truths.health(server) } else { crate::health::State::Up }
    }
}
