//! Persistence: what ties a client to its server.

mod former;
mod token;

pub use former::FormerNames;
pub use token::{PinClaim, PinKey};

use std::collections::BTreeMap;

use crate::draw::digest;
use crate::name::Name;

/// The number that a pin names a server by. It is made of the name alone: its reader learns no address, and it is
/// the same on every node and after a restart.
#[must_use]
pub fn identity(server: &Name) -> u64 {
    digest(server.as_str().as_bytes())
}

/// How the clients of a pool are tied to its servers.
#[derive(Clone, Debug)]
pub struct PinRule {
    /// Name of the cookie that carries the pin.
    pub cookie: String,
    /// How long a pin holds, in minutes.
    pub lifetime_minutes: Option<u32>,
    /// The pool's own number, so that the pin of one pool is none in another.
    pool: u64,
    /// Its numbers under former names, the newest first.
    former_pools: Box<[u64]>,
    /// The places of the servers by their identities, those of former names too, in order.
    servers: Box<[(u64, u32)]>,
}

impl PinRule {
    /// A rule for the servers of a pool, in the order of their places. What a server is called now goes before what
    /// another one was called.
    pub fn new<'n>(
        pool: &Name,
        cookie: String,
        lifetime_minutes: Option<u32>,
        names: impl Iterator<Item = &'n Name>,
        former: &FormerNames,
    ) -> Self {
        let mut places: BTreeMap<u64, u32> = names.map(identity).zip(0..).collect();
        for (name, now) in former.servers() {
            if let Some(place) = places.get(&identity(now)).copied() {
                places.entry(identity(name)).or_insert(place);
            }
        }
        Self {
            cookie,
            lifetime_minutes,
            pool: number(pool),
            former_pools: former.pools().map(number).collect(),
            servers: places.into_iter().collect(),
        }
    }

    /// The place of the server that a cookie's value names, at a minute since 1970; `None` when it was not we who wrote
    /// it, when it was for another pool, when its time is over or its server gone.
    #[must_use]
    pub fn read(&self, key: &PinKey, value: &[u8], minute: u32) -> Option<usize> {
        let mut pools = std::iter::once(&self.pool).chain(&self.former_pools);
        let pinned = pools.find_map(|pool| key.read(*pool, value))?;
        if self.holds(pinned.minute, minute) { self.place(pinned.server) } else { None }
    }

    /// Appends the value that ties a client to a server from a minute since 1970 on.
    pub fn write(&self, key: &PinKey, server: &Name, minute: u32, out: &mut Vec<u8>) {
        key.write(self.pool, PinClaim { server: identity(server), minute }, out);
    }

    fn place(&self, identity: u64) -> Option<usize> {
        let found = self.servers.binary_search_by_key(&identity, |(known, _)| *known).ok()?;
        Some(self.servers[found].1 as usize)
    }

    /// Whether a pin made at a minute still holds at another.
    fn holds(&self, made: u32, now: u32) -> bool {
        self.lifetime_minutes.is_none_or(|lifetime| now.saturating_sub(made) <= lifetime)
    }
}

fn number(pool: &Name) -> u64 {
    digest(pool.as_str().as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(name: &str) -> Name {
        name.parse().unwrap()
    }

    fn rule(pool: &str, names: &[&str], former: &FormerNames) -> PinRule {
        let names: Vec<Name> = names.iter().copied().map(name).collect();
        PinRule::new(&name(pool), "pin".to_owned(), Some(60), names.iter(), former)
    }

    fn pin(rule: &PinRule, server: &str) -> Vec<u8> {
        let mut value = Vec::new();
        rule.write(&PinKey::new(&[7; 32]), &name(server), 1_000, &mut value);
        value
    }

    #[test]
    fn servers_are_found_by_their_pins_and_pins_end() {
        let key = PinKey::new(&[7; 32]);
        let names = ["auk", "gull", "tern"];
        let rule = rule("booking", &names, &FormerNames::default());
        for (place, name) in names.iter().enumerate() {
            assert_eq!(rule.read(&key, &pin(&rule, name), 1_060), Some(place));
        }
        assert_eq!(rule.read(&key, &pin(&rule, "petrel"), 1_000), None);
        let gull = pin(&rule, "gull");
        assert_eq!(rule.read(&key, &gull, 1_061), None);
        assert_eq!(rule.read(&key, &gull, 900), Some(1), "a clock that was set back ends no pin");
        assert_eq!(rule.read(&PinKey::new(&[8; 32]), &gull, 1_000), None);
    }

    #[test]
    fn pins_go_with_renamed_servers_and_pools() {
        let key = PinKey::new(&[7; 32]);
        let before = rule("booking", &["auk", "gull"], &FormerNames::default());
        let (auk, gull) = (pin(&before, "auk"), pin(&before, "gull"));
        let mut former = FormerNames::default();
        former.pool_was(name("booking"));
        former.server_was(name("gull"), name("puffin"));
        let now = rule("tickets", &["auk", "puffin"], &former);
        assert_eq!((now.read(&key, &auk, 1_000), now.read(&key, &gull, 1_000)), (Some(0), Some(1)));
        assert_eq!(now.read(&key, &pin(&now, "puffin"), 1_000), Some(1));

        former.server_was(name("puffin"), name("skua"));
        let twice = rule("tickets", &["auk", "skua"], &former);
        assert_eq!(twice.read(&key, &gull, 1_000), Some(1), "over two renames");
        let again = rule("tickets", &["auk", "gull", "skua"], &former);
        assert_eq!(again.read(&key, &gull, 1_000), Some(1), "the name is another server's now");
        let gone = rule("tickets", &["auk"], &former);
        assert_eq!(gone.read(&key, &gull, 1_000), None);
    }
}
