//! Fields that servers might believe and that clients do not get through.

use std::sync::Arc;

use crate::config::document::HttpKeys;

/// What servers learn of a client's certificate from us alone (RFC 9440, 3), whatever else is dropped.
const CLIENT_CERTIFICATE: [&str; 2] = ["Client-Cert", "Client-Cert-Chain"];

/// Names of fields. A look costs one shift for most names, for few lengths are among them.
#[derive(Clone, Debug, Default)]
pub struct DroppedFields {
    /// Which lengths the names have, as bits; 63 stands for all that are longer.
    lengths: u64,
    /// In lower case, with hyphens where they have underscores.
    names: Arc<[Box<str>]>,
}

impl DroppedFields {
    /// Those of a frontend.
    #[must_use]
    pub fn of(keys: &HttpKeys) -> Self {
        match &keys.dropped_fields {
            Some(names) => names.iter().map(String::as_str).chain(CLIENT_CERTIFICATE).collect(),
            None => HttpKeys::USUAL_DROPPED_FIELDS.into_iter().chain(CLIENT_CERTIFICATE).collect(),
        }
    }

    /// Whether a field is one of them. Names that only differ by underscores count as the same: servers that make variables of
    /// fields (RFC 3875, 4.1.18) take them for the same.
    #[must_use]
    #[inline]
    pub fn holds(&self, name: &str) -> bool {
        self.lengths >> name.len().min(63) & 1 == 1 && self.has(name)
    }

    fn has(&self, name: &str) -> bool {
        self.names.iter().any(|known| is_same(known, name))
    }
}

fn is_same(known: &str, name: &str) -> bool {
    known.len() == name.len()
        && known.bytes().zip(name.bytes()).all(|(known, byte)| match byte {
            b'_' => known == b'-',
            byte => known == byte.to_ascii_lowercase(),
        })
}

impl<'n> FromIterator<&'n str> for DroppedFields {
    fn from_iter<I: IntoIterator<Item = &'n str>>(names: I) -> Self {
        let names: Arc<[Box<str>]> =
            names.into_iter().map(|name| name.to_ascii_lowercase().replace('_', "-").into()).collect();
        let lengths = names.iter().fold(0, |lengths, name| lengths | 1 << name.len().min(63));
        Self { lengths, names }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_found_whatever_their_case_and_with_underscores() {
        let dropped: DroppedFields = ["X-Real-IP", "under_score"].into_iter().collect();
        for name in ["x-real-ip", "X_Real_IP", "X-REAL_IP", "Under-Score", "under_score"] {
            assert!(dropped.holds(name), "{name}");
        }
        for name in ["X-Real-IPs", "X-Rael-IP", "", &"x".repeat(100)] {
            assert!(!dropped.holds(name), "{name}");
        }
        assert!(!DroppedFields::default().holds("X-Real-IP"));
    }
}
