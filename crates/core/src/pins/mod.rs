//! Persistence: what ties a client to its server.

mod token;

pub use token::{PinKey, Pinned};

use crate::draw::digest;
use crate::name::Name;

/// The number that a pin names a server by. It is made of the name alone: whoever reads it learns no address, and it is
/// the same on every node and after a restart.
#[must_use]
pub fn identity(server: &Name) -> u64 {
    digest(server.as_str().as_bytes())
}

/// How the clients of a pool are tied to its servers.
#[derive(Clone, Debug)]
pub struct PinRule {
    /// The cookie's name.
    pub cookie: String,
    /// The pool's own number, so that the pin of one pool is none in another.
    pub pool: u64,
    /// How long a pin holds, in minutes.
    pub lifetime_minutes: Option<u32>,
    /// The places of the servers by their identities, in order.
    servers: Box<[(u64, u32)]>,
}

impl PinRule {
    /// A rule for the servers of a pool, in the order of their places.
    pub fn new<'n>(
        pool: &Name,
        cookie: String,
        lifetime_minutes: Option<u32>,
        servers: impl Iterator<Item = &'n Name>,
    ) -> Self {
        let mut servers: Vec<(u64, u32)> = servers.map(identity).zip(0..).collect();
        servers.sort_unstable();
        Self { cookie, pool: digest(pool.as_str().as_bytes()), lifetime_minutes, servers: servers.into() }
    }

    /// The place of the server with an identity.
    #[must_use]
    pub fn place(&self, identity: u64) -> Option<usize> {
        let found = self.servers.binary_search_by_key(&identity, |(known, _)| *known).ok()?;
        Some(self.servers[found].1 as usize)
    }

    /// Whether a pin made at a minute still holds at another.
    #[must_use]
    pub fn holds(&self, made: u32, now: u32) -> bool {
        self.lifetime_minutes.is_none_or(|lifetime| now.saturating_sub(made) <= lifetime)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn servers_are_found_by_their_identity_and_pins_end() {
        let names: Vec<Name> = ["auk", "gull", "tern"].map(|name| name.parse().unwrap()).to_vec();
        let rule = PinRule::new(&"booking".parse().unwrap(), "pin".to_owned(), Some(60), names.iter());
        for (place, name) in names.iter().enumerate() {
            assert_eq!(rule.place(identity(name)), Some(place));
        }
        assert_eq!(rule.place(identity(&"petrel".parse().unwrap())), None);
        assert!(rule.holds(1_000, 1_060) && !rule.holds(1_000, 1_061));
        assert!(rule.holds(1_000, 900), "a clock that was set back ends no pin");
    }
}
