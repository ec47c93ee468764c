//! The two kinds of time. What must survive a restart is [`Wall`]; everything else is [`Tick`].

use std::fmt;
use std::time::Duration;

use chrono::{DateTime, SecondsFormat};
use serde::{Deserialize, Serialize};

/// Monotonic time: nanoseconds since a start that the caller chose (a node's start, or 0 in a simulation).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Tick(pub u64);

impl Tick {
    /// This moment plus `after`; stays at the end of time instead of wrapping.
    #[must_use]
    pub fn plus(self, after: Duration) -> Self {
        Self(self.0.saturating_add(u64::try_from(after.as_nanos()).unwrap_or(u64::MAX)))
    }

    /// How long ago `earlier` was; zero when it lies ahead.
    #[must_use]
    pub fn since(self, earlier: Self) -> Duration {
        Duration::from_nanos(self.0.saturating_sub(earlier.0))
    }
}

/// Wall-clock time: milliseconds since 1970-01-01T00:00:00Z. Written as in RFC 3339, in UTC.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Wall(pub i64);

/// A text that is not a moment as in RFC 3339.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("wanted a moment such as 2026-03-01T08:30:00.000Z; found {0:?}")]
pub struct WallError(String);

impl TryFrom<String> for Wall {
    type Error = WallError;

    fn try_from(text: String) -> Result<Self, WallError> {
        let parsed = DateTime::parse_from_rfc3339(&text);
        parsed.map(|moment| Self(moment.timestamp_millis())).map_err(|_| WallError(text))
    }
}

impl From<Wall> for String {
    fn from(wall: Wall) -> Self {
        wall.to_string()
    }
}

impl fmt::Display for Wall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let moment = DateTime::from_timestamp_millis(self.0).unwrap_or_default();
        f.pad(&moment.to_rfc3339_opts(SecondsFormat::Millis, true))
    }
}

impl Wall {
    /// This moment plus `after`; stays at the end of time instead of wrapping.
    #[must_use]
    pub fn plus(self, after: Duration) -> Self {
        Self(self.0.saturating_add(i64::try_from(after.as_millis()).unwrap_or(i64::MAX)))
    }

    /// This moment less a length of time.
    #[must_use]
    pub fn minus(self, before: Duration) -> Self {
        Self(self.0.saturating_sub(i64::try_from(before.as_millis()).unwrap_or(i64::MAX)))
    }

    /// How long ago `earlier` was; zero when it lies ahead (the clock was set back).
    #[must_use]
    pub fn since(self, earlier: Self) -> Duration {
        Duration::from_millis(u64::try_from(self.0.saturating_sub(earlier.0)).unwrap_or(0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_never_wrap_and_never_go_negative() {
        assert_eq!(Tick(u64::MAX).plus(Duration::from_secs(1)), Tick(u64::MAX));
        assert_eq!(Tick(5).since(Tick(9)), Duration::ZERO);
        assert_eq!(Tick(9).since(Tick(5)), Duration::from_nanos(4));
    }

    #[test]
    fn wall_time_is_written_as_in_rfc_3339() {
        let wall = Wall(1_772_353_800_250);
        assert_eq!(wall.to_string(), "2026-03-01T08:30:00.250Z");
        assert_eq!(Wall::try_from(wall.to_string()), Ok(wall));
        assert_eq!(Wall::try_from("2026-03-01T10:30:00.25+02:00".to_owned()), Ok(wall));
        assert!(Wall::try_from("yesterday".to_owned()).is_err());
    }

    #[test]
    fn a_clock_set_back_gives_zero_and_not_a_huge_age() {
        assert_eq!(Wall(1_000).since(Wall(5_000)), Duration::ZERO);
        assert_eq!(Wall(5_000).since(Wall(1_000)), Duration::from_secs(4));
    }
}
