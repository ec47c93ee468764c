//! Persistence: what ties a client to its server.

mod former;
mod table;
mod token;

pub use former::FormerNames;
pub use table::{LearnedPin, PinDigest, PinLimits, PinTable};
pub use token::{PinClaim, PinKey};

use std::collections::BTreeMap;

use crate::config::document::Persistence;
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
    /// What follows the cookie's value in its field: where it is sent, and for how long.
    attributes: String,
    /// How long a pin holds, in minutes.
    lifetime_minutes: Option<u32>,
    /// The number of the pool, or of its group, so that a pin of other pools is none here.
    pool: u64,
    /// Its numbers under former names, the newest first, and that of a pool that belongs to a group.
    former_pools: Box<[u64]>,
    /// The places of the servers by their identities, those of former names too, in order.
    servers: Box<[(u64, u32)]>,
}

impl PinRule {
    /// A rule for the servers of a pool, in the order of their places. What a server is called now goes before what
    /// another one was called.
    pub fn new<'n>(
        pool: &Name,
        settings: &Persistence,
        names: impl Iterator<Item = &'n Name>,
        former: &FormerNames,
    ) -> Self {
        let mut places: BTreeMap<u64, u32> = names.map(identity).zip(0..).collect();
        for (name, now) in former.servers() {
            if let Some(place) = places.get(&identity(now)).copied() {
                places.entry(identity(name)).or_insert(place);
            }
        }
        let lifetime_minutes =
            settings.lifetime.map(|span| u32::try_from(span.get().as_secs() / 60).unwrap_or(u32::MAX));
        // Pins from before the pool joined its group go on to hold.
        let (own, of_group) = (number(pool), settings.group.as_ref().map(group_number));
        Self {
            cookie: settings.cookie_name().to_owned(),
            attributes: attributes(settings, lifetime_minutes),
            lifetime_minutes,
            pool: of_group.unwrap_or(own),
            former_pools: of_group.map(|_| own).into_iter().chain(former.pools().map(number)).collect(),
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
    fn write(&self, key: &PinKey, server: &Name, minute: u32, out: &mut Vec<u8>) {
        key.write(self.pool, PinClaim { server: identity(server), minute }, out);
    }

    /// The field that ties a client to a server from a minute since 1970 on, with its line end (RFC 6265, 4.1).
    #[must_use]
    pub fn field(&self, key: &PinKey, server: &Name, minute: u32) -> Vec<u8> {
        let mut field = format!("Set-Cookie: {}=", self.cookie).into_bytes();
        self.write(key, server, minute, &mut field);
        field.extend_from_slice(self.attributes.as_bytes());
        field.extend_from_slice(b"\r\n");
        field
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

/// No name of a pool begins like this, so a group has no pool's number.
fn group_number(group: &Name) -> u64 {
    digest(format!("group {group}").as_bytes())
}

fn attributes(settings: &Persistence, lifetime_minutes: Option<u32>) -> String {
    let path = settings.path.as_deref().unwrap_or("/");
    let mut text = format!("; Path={path}; HttpOnly; SameSite={}", settings.same_site.attribute());
    if let Some(domain) = &settings.domain {
        text += &format!("; Domain={domain}");
    }
    if let Some(minutes) = lifetime_minutes {
        text += &format!("; Max-Age={}", u64::from(minutes) * 60);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::document::CookieSameSite;

    fn name(name: &str) -> Name {
        name.parse().unwrap()
    }

    fn rule(pool: &str, names: &[&str], former: &FormerNames) -> PinRule {
        let names: Vec<Name> = names.iter().copied().map(name).collect();
        let settings = Persistence { lifetime: Some("60m".parse().unwrap()), ..Persistence::default() };
        PinRule::new(&name(pool), &settings, names.iter(), former)
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

    fn grouped(pool: &str, group: Option<&str>, names: &[&str]) -> PinRule {
        let settings = Persistence { group: group.map(name), ..Persistence::default() };
        let names: Vec<Name> = names.iter().copied().map(name).collect();
        PinRule::new(&name(pool), &settings, names.iter(), &FormerNames::default())
    }

    #[test]
    fn a_pin_holds_in_every_pool_of_its_group_and_in_no_other() {
        let key = PinKey::new(&[7; 32]);
        let plain = grouped("plain", Some("site"), &["auk", "gull"]);
        let other = grouped("encrypted", Some("site"), &["gull", "tern"]);
        let gull = pin(&plain, "gull");
        assert_eq!(other.read(&key, &gull, 1_000), Some(0), "the server of the same name");
        assert_eq!(other.read(&key, &pin(&plain, "auk"), 1_000), None, "it has no such server");
        assert_eq!(grouped("encrypted", Some("shop"), &["gull"]).read(&key, &gull, 1_000), None);
        assert_eq!(grouped("site", None, &["gull"]).read(&key, &gull, 1_000), None, "a pool is not a group");
    }

    #[test]
    fn a_pool_that_joins_a_group_keeps_its_clients() {
        let key = PinKey::new(&[7; 32]);
        let before = grouped("plain", None, &["auk", "gull"]);
        let after = grouped("plain", Some("site"), &["auk", "gull"]);
        assert_eq!(after.read(&key, &pin(&before, "gull"), 1_000), Some(1));
        assert_eq!(before.read(&key, &pin(&after, "gull"), 1_000), None, "one that leaves it does not");
    }

    #[test]
    fn the_field_says_where_the_cookie_is_sent_and_for_how_long() {
        let settings = Persistence {
            cookie: Some("visit".to_owned()),
            lifetime: Some("2h".parse().unwrap()),
            domain: Some("skerry.example".to_owned()),
            path: Some("/booking".to_owned()),
            same_site: CookieSameSite::Strict,
            ..Persistence::default()
        };
        let gull = name("gull");
        let rule = PinRule::new(&name("booking"), &settings, [&gull].into_iter(), &FormerNames::default());
        let field = String::from_utf8(rule.field(&PinKey::new(&[7; 32]), &gull, 1_000)).unwrap();
        let (value, attributes) = field.split_once("; ").unwrap();
        assert!(value.starts_with("Set-Cookie: visit="), "{value}");
        assert_eq!(
            attributes,
            "Path=/booking; HttpOnly; SameSite=Strict; Domain=skerry.example; Max-Age=7200\r\n"
        );
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
