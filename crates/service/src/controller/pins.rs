//! Pins that are kept here: listed, removed, and forgotten when their time is over.

use merismos_api::{PinQuery, PinView, Pins};
use merismos_core::name::{Name, PoolServer};
use merismos_core::routing::Pool;

use super::UnknownPool;
use super::explain::pin_view;
use super::state::ControllerState;

/// The most pins that one answer lists.
const MOST_LISTED: usize = 1_000;

impl ControllerState {
    /// Forgets the pins that nobody used for too long.
    pub(super) fn forget_idle_pins(&self) {
        let second = self.publisher.plane.pin_second();
        for pool in &self.publisher.plane.snapshot().pools {
            if let Some((table, limits)) = pool.pin_rule.as_ref().and_then(|rule| rule.learned.as_ref()) {
                table.forget_idle(second, limits);
            }
        }
    }

    fn pool_with_pins(&self, name: &Name) -> Result<std::sync::Arc<Pool>, UnknownPool> {
        let snapshot = self.publisher.plane.snapshot();
        let place = snapshot.pools.binary_search_by(|pool| pool.name.cmp(name));
        place
            .map(|place| std::sync::Arc::clone(&snapshot.pools[place]))
            .map_err(|_| UnknownPool(name.clone()))
    }

    /// The pins of a pool, those that were used last first.
    pub(super) fn pins(&self, name: &Name, query: &PinQuery) -> Result<Pins, UnknownPool> {
        let pool = self.pool_with_pins(name)?;
        let second = self.publisher.plane.pin_second();
        let Some(rule) = &pool.pin_rule else { return Ok(Pins::default()) };
        let Some((table, limits)) = &rule.learned else { return Ok(Pins::default()) };
        let mut found = Vec::new();
        let mut matching = 0;
        table.for_each(second, limits, |_, pin| {
            let server = rule.place(pin.server).map(|place| pool.servers[place].name.clone());
            if !query.takes(pin.client, server.as_ref()) {
                return;
            }
            matching += 1;
            if found.len() < MOST_LISTED * 2 {
                found.push((*pin, server));
            }
        });
        found.sort_by_key(|(pin, _)| std::cmp::Reverse(pin.used));
        found.truncate(query.limit.map_or(MOST_LISTED, |limit| limit as usize).min(MOST_LISTED));
        // A server that is gone has no name any more; its pins end when their clients come.
        let gone = || PoolServer { pool: name.clone(), server: "gone".parse().expect("a name") };
        let view = |(pin, server): (merismos_core::pins::LearnedPin, Option<PoolServer>)| -> PinView {
            let server = server.unwrap_or_else(gone);
            pin_view(rule, pin.kind, &server, Some((pin, limits.end(&pin))), second)
        };
        Ok(Pins {
            pins: found.into_iter().map(view).collect(),
            matching,
            kept: table.len(),
            limit: limits.pins,
            evicted: table.evicted(),
            bytes: table.memory(),
        })
    }

    /// Removes the pins of a pool that a query means; gives their number.
    pub(super) fn remove_pins(&self, name: &Name, query: &PinQuery) -> Result<u64, UnknownPool> {
        let pool = self.pool_with_pins(name)?;
        let Some(rule) = &pool.pin_rule else { return Ok(0) };
        let Some((table, _)) = &rule.learned else { return Ok(0) };
        Ok(table.remove_where(|_, pin| {
            let server = rule.place(pin.server).map(|place| &pool.servers[place].name);
            query.takes(pin.client, server)
        }))
    }
}
