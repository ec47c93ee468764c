//! Pins that are kept here: listed, removed, and forgotten when their time is over.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Instant;

use merismos_api::{EventKind, PinQuery, Pins, TrafficPeriod};
use merismos_core::name::{Name, PoolServer};
use merismos_core::pins::{
    CrowdingChange, LearnedPin, PinCrowding, PinKey, PinScope, ServerShares, SkewChange,
};
use merismos_core::routing::{Pool, Server};
use serde_json::json;

use super::UnknownPool;
use super::explain::pin_view;
use super::rates::MINUTE;
use super::state::ControllerState;
use crate::pin_keeper::KeptTables;

/// The most pins that one answer lists.
const MOST_LISTED: usize = 1_000;

impl ControllerState {
    /// Forgets pins that were idle for longer than `pin_idle`.
    pub(super) fn forget_idle_pins(&self) {
        let second = self.publisher.plane.pin_second();
        for pool in &self.publisher.plane.snapshot().pools {
            if let Some((table, limits)) = pool.pin_rule.as_ref().and_then(|rule| rule.learned.as_ref()) {
                table.forget_idle(second, limits);
            }
        }
    }

    /// Signs cookies with another key from now on.
    pub(super) fn sign_pins(&mut self, key: PinKey) {
        self.publisher.cells.sign_pins(key);
        if self.running.is_some() {
            self.publish(Vec::new());
        }
    }

    /// The tables of pins that outlive the service: those of pools with `pin_keep`.
    pub(super) fn kept_pins(&self) -> KeptTables {
        let mut tables = BTreeMap::new();
        for (name, pool) in &self.document().pools {
            if !pool.persistence.keep {
                continue;
            }
            let scope = PinScope::of(name, &pool.persistence);
            let table = self.publisher.cells.pin_tables().find(|(known, _)| **known == scope);
            tables.extend(table.map(|(_, table)| (scope, Arc::clone(table))));
        }
        KeptTables { tables: tables.into_iter().collect(), second: self.publisher.plane.pin_second() }
    }

    /// Reports pools whose pins have pulled the shares away from the weights for long, and the end of that.
    pub(super) fn watch_pin_skew(&mut self, now: Instant) {
        let (snapshot, tick) = (self.publisher.plane.snapshot(), self.publisher.plane.now());
        let pinned: Vec<_> = snapshot.pools.iter().filter(|pool| pool.pin_rule.is_some()).collect();
        self.reports.pin_skews.retain(|name, _| pinned.iter().any(|pool| pool.name == *name));
        for pool in pinned {
            let windows = self.periods(pool, MINUTE, now);
            let requests = windows.iter().map(|window| window.per_second).sum::<f64>() * MINUTE.as_secs_f64();
            let share = |(window, server): (&TrafficPeriod, &Server)| ServerShares {
                expected: server.standing.share,
                of_all: window.share.unwrap_or_default(),
                of_new: window.new_share,
            };
            let shares: Vec<ServerShares> = windows.iter().zip(&pool.servers).map(share).collect();
            let skew = self.reports.pin_skews.entry(pool.name.clone()).or_default();
            let says = match skew.on_sample(tick, requests as u64, &shares) {
                None => continue,
                Some(SkewChange::Over) => "its shares are near the expected ones again".to_owned(),
                Some(SkewChange::Begun(place)) => skew_words(&pool.servers[place], shares[place]),
            };
            let detail = json!({ "skewed": skew.is_reported() });
            self.reports.journal.write(EventKind::Traffic, format!("pool {}", pool.name), says, detail);
        }
    }

    /// Reports tables of pins that are full, and the end of that.
    pub(super) fn watch_pin_room(&mut self) {
        let (snapshot, tick) = (self.publisher.plane.snapshot(), self.publisher.plane.now());
        let tables = snapshot.pools.iter().filter_map(|pool| {
            let (table, limits) = pool.pin_rule.as_ref()?.learned.as_ref()?;
            Some((pool, table, limits))
        });
        let mut before = std::mem::take(&mut self.reports.pin_crowdings);
        let mut seen = Vec::new();
        for (pool, table, limits) in tables {
            // Pools of one group share a table: it is told of the first of them.
            if seen.contains(&Arc::as_ptr(table)) {
                continue;
            }
            seen.push(Arc::as_ptr(table));
            let evicted = table.evicted();
            let mut crowding = before.remove(&pool.name).unwrap_or_else(|| PinCrowding::from(evicted));
            let says = match crowding.on_sample(tick, evicted) {
                None => None,
                Some(CrowdingChange::Begun) => Some(crowding_words(limits.pins)),
                Some(CrowdingChange::Over(gone)) => Some(format!(
                    "its pins have room again: no pin went before its time for ten minutes; {gone} had gone before"
                )),
            };
            if let Some(says) = says {
                let detail =
                    json!({ "full": crowding.gone().is_some(), "pins": table.len(), "limit": limits.pins });
                self.reports.journal.write(EventKind::Traffic, format!("pool {}", pool.name), says, detail);
            }
            self.reports.pin_crowdings.insert(pool.name.clone(), crowding);
        }
    }

    /// Pools whose pins have too little room, a sentence each.
    pub(super) fn crowded_pins(&self) -> Vec<String> {
        let snapshot = self.publisher.plane.snapshot();
        let crowded = snapshot.pools.iter().filter_map(|pool| {
            let gone = self.reports.pin_crowdings.get(&pool.name)?.gone()?;
            let (_, limits) = pool.pin_rule.as_ref()?.learned.as_ref()?;
            Some(format!("pool {}: {}; {gone} have gone so far", pool.name, crowding_words(limits.pins)))
        });
        crowded.collect()
    }

    fn pool_with_pins(&self, name: &Name) -> Result<Arc<Pool>, UnknownPool> {
        let snapshot = self.publisher.plane.snapshot();
        let place = snapshot.pools.binary_search_by(|pool| pool.name.cmp(name));
        place.map(|place| Arc::clone(&snapshot.pools[place])).map_err(|_| UnknownPool(name.clone()))
    }

    /// The pins of a pool, those that were used last first.
    pub(super) fn pins(&self, name: &Name, query: &PinQuery) -> Result<Pins, UnknownPool> {
        let pool = self.pool_with_pins(name)?;
        let second = self.publisher.plane.pin_second();
        let refused_cookies = pool.cell.refused_cookies();
        let none = Pins { refused_cookies, ..Pins::default() };
        let Some(rule) = &pool.pin_rule else { return Ok(none) };
        let Some((table, limits)) = &rule.learned else { return Ok(none) };
        let mut found = Vec::new();
        let mut matching = 0;
        table.for_each(second, limits, |_, pin| {
            let server = rule.place(pin.server).map(|place| pool.servers[place].name.clone());
            if !query.takes(pin.client, server.as_ref()) {
                return;
            }
            matching += 1;
            found.push((*pin, server));
            if found.len() >= 2 * MOST_LISTED {
                found.select_nth_unstable_by_key(MOST_LISTED, |(pin, _)| Reverse(pin.used));
                found.truncate(MOST_LISTED);
            }
        });
        found.sort_by_key(|(pin, _)| Reverse(pin.used));
        found.truncate(query.limit.map_or(MOST_LISTED, |limit| limit as usize).min(MOST_LISTED));
        let view = |(pin, server): (LearnedPin, Option<PoolServer>)| {
            pin_view(rule.kind_of(&pin), server.as_ref(), Some((pin, limits.end(&pin))), second)
        };
        Ok(Pins {
            pins: found.into_iter().map(view).collect(),
            matching,
            kept: table.len(),
            limit: limits.pins,
            evicted: table.evicted(),
            bytes: table.memory(),
            refused_cookies,
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

/// What it means that pins have too little room.
fn crowding_words(limit: u64) -> String {
    format!(
        "there is room for {limit} pins, and clients need more: the pins that were used longest ago go before their time, and those \
         clients may come to other servers. Raise `pin_limit`, or lower `pin_idle`"
    )
}

/// What pins do to a server's share.
fn skew_words(server: &Server, shares: ServerShares) -> String {
    let new = shares.of_new.map_or_else(
        || "no client was new".to_owned(),
        |new| format!("of the new clients it got {:.1} %", new * 100.0),
    );
    format!(
        "its pins pull the shares away from the weights: {} got {:.1} % of the last minute and {:.1} % were expected; {new}. \
         `merismos pin list` shows its clients, and `merismos pin remove` lets them go",
        server.name,
        shares.of_all * 100.0,
        shares.expected * 100.0
    )
}
