//! Names of objects, and `pool/server`.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// The name of a frontend, pool, server or check: 1 to 63 of a-z, 0-9 and hyphen, beginning with a letter.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Name(String);

/// Why a text is not a [`Name`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a name is 1 to 63 of a-z, 0-9 and hyphen, beginning with a letter; found {found:?}")]
pub struct NameError {
    /// The text that was given.
    pub found: String,
}

impl Name {
    /// The name as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for Name {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        let good = (1..=63).contains(&text.len())
            && text.starts_with(|c: char| c.is_ascii_lowercase())
            && text.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
        if good { Ok(Self(text.to_owned())) } else { Err(NameError { found: text.to_owned() }) }
    }
}

impl TryFrom<String> for Name {
    type Error = NameError;

    fn try_from(text: String) -> Result<Self, NameError> {
        text.parse()
    }
}

impl From<Name> for String {
    fn from(name: Name) -> Self {
        name.0
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// A server in its pool, written `pool/server`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct PoolServer {
    /// Name of the pool that the server is in.
    pub pool: Name,
    /// The server's name inside the pool.
    pub server: Name,
}

/// Why a text is not a [`PoolServer`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PoolServerError {
    /// There is no single slash in it.
    #[error("a server is written pool/server, such as booking/gull; found {0:?}")]
    Shape(String),
    /// One of its two names is wrong.
    #[error(transparent)]
    Name(#[from] NameError),
}

impl FromStr for PoolServer {
    type Err = PoolServerError;

    fn from_str(text: &str) -> Result<Self, PoolServerError> {
        let (pool, server) = text.split_once('/').ok_or_else(|| PoolServerError::Shape(text.to_owned()))?;
        Ok(Self { pool: pool.parse()?, server: server.parse()? })
    }
}

impl TryFrom<String> for PoolServer {
    type Error = PoolServerError;

    fn try_from(text: String) -> Result<Self, PoolServerError> {
        text.parse()
    }
}

impl From<PoolServer> for String {
    fn from(server: PoolServer) -> Self {
        server.to_string()
    }
}

impl fmt::Display for PoolServer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{}/{}", self.pool, self.server))
    }
}

/// How many names are offered where one was not found.
const MOST_OFFERED: usize = 8;

/// The names to offer where one was not found: those that look most like it first.
pub fn nearest<'n>(found: &str, names: impl Iterator<Item = &'n Name>) -> Vec<&'n Name> {
    let mut names: Vec<_> = names.map(|name| (strsim::jaro_winkler(found, name.as_str()), name)).collect();
    names.sort_by(|(a, first), (b, second)| b.total_cmp(a).then_with(|| first.cmp(second)));
    names.into_iter().take(MOST_OFFERED).map(|(_, name)| name).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::one_letter("a", true)]
    #[case::digits_and_hyphen("gull-2", true)]
    #[case::sixty_three(&"a".repeat(63), true)]
    #[case::sixty_four(&"a".repeat(64), false)]
    #[case::empty("", false)]
    #[case::digit_first("2gull", false)]
    #[case::upper_case("Gull", false)]
    #[case::slash("a/b", false)]
    #[case::not_ascii("möwe", false)]
    fn names(#[case] text: &str, #[case] good: bool) {
        assert_eq!(text.parse::<Name>().is_ok(), good, "{text:?}");
    }

    #[test]
    fn a_server_is_written_with_one_slash() {
        let server: PoolServer = "booking/gull".parse().unwrap();
        assert_eq!((server.pool.as_str(), server.server.as_str()), ("booking", "gull"));
        assert_eq!(server.to_string(), "booking/gull");
        assert!(matches!("gull".parse::<PoolServer>(), Err(PoolServerError::Shape(_))));
        assert!(matches!("a/b/c".parse::<PoolServer>(), Err(PoolServerError::Name(_))));
    }
}
