//! How long a check takes to notice, and what it costs.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::config::document::CheckSpec;

/// How long it takes from a failure to `down` (or from the repair to `up`), for a given check.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DetectionDelay {
    /// The failure comes just before a probe and is noticed without waiting. Milliseconds.
    pub best_ms: u64,
    /// The failure comes anywhere between two probes with the same likelihood. Milliseconds.
    pub average_ms: u64,
    /// The failure comes just after a probe passed, and each probe takes its whole timeout. Milliseconds.
    pub worst_ms: u64,
}

/// What a check's timing means.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DetectionTiming {
    /// From a server's failure to `down`.
    pub noticed: DetectionDelay,
    /// From a server's repair to `up`.
    pub back: DetectionDelay,
    /// Probes that each server gets in a minute while it answers at once.
    pub probes_per_minute: u64,
}

/// Computes what a check's timing means.
///
/// Probes start `interval` apart, or `timeout` apart when a silent server makes a probe take longer than the
/// interval (probes of one server never overlap). The k-th failure in a row ends `(k - 1) * pace` after the
/// first failing probe started, plus that last probe's own length: none for a refused connection (best),
/// the timeout for a silent server (worst). The wait for the first probe lies between 0 and one interval.
#[must_use]
pub fn timing(check: &CheckSpec) -> DetectionTiming {
    let (interval, timeout) = (check.interval.get(), check.timeout.get());
    let silent_pace = interval.max(timeout);
    let delay = |count: u32, pace_worst: Duration, last_probe_worst: Duration| {
        let rest = count.saturating_sub(1);
        let best = interval * rest;
        let worst = interval + pace_worst * rest + last_probe_worst;
        let millis = |length: Duration| u64::try_from(length.as_millis()).unwrap_or(u64::MAX);
        DetectionDelay {
            best_ms: millis(best),
            average_ms: millis((best + worst) / 2),
            worst_ms: millis(worst),
        }
    };
    DetectionTiming {
        noticed: delay(check.down_after, silent_pace, timeout),
        back: back(check),
        probes_per_minute: (60_000 / interval.as_millis().max(1)) as u64,
    }
}

/// From the repair to `up`: the wait for the next probe is as long as the pace of a server that is down; the probes
/// after the first that passes come at the usual one.
fn back(check: &CheckSpec) -> DetectionDelay {
    let interval = check.interval.get();
    let rest = interval * check.up_after.saturating_sub(1);
    let wait = check.interval_down.map_or(interval, |span| span.get());
    let worst = wait + rest + check.timeout.get();
    let millis = |length: Duration| u64::try_from(length.as_millis()).unwrap_or(u64::MAX);
    DetectionDelay { best_ms: millis(rest), average_ms: millis((rest + worst) / 2), worst_ms: millis(worst) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::document::{CheckKind, FlappingSettings, ProbeAddress, SendExpect};
    use crate::units::Span;

    fn check(interval: u64, timeout: u64, down_after: u32, up_after: u32) -> CheckSpec {
        CheckSpec {
            kind: CheckKind::Tcp(SendExpect::default()),
            interval: Span::from_millis(interval),
            interval_down: None,
            timeout: Span::from_millis(timeout),
            elsewhere: ProbeAddress::default(),
            down_after,
            up_after,
            steadiness: FlappingSettings::default(),
            note: String::new(),
            labels: std::collections::BTreeMap::new(),
        }
    }

    #[test]
    fn the_usual_case() {
        let timing = timing(&check(2_000, 1_000, 3, 2));
        assert_eq!(timing.noticed, DetectionDelay { best_ms: 4_000, average_ms: 5_500, worst_ms: 7_000 });
        assert_eq!(timing.back, DetectionDelay { best_ms: 2_000, average_ms: 3_500, worst_ms: 5_000 });
        assert_eq!(timing.probes_per_minute, 30);
    }

    #[test]
    fn a_timeout_longer_than_the_interval_sets_the_pace_of_a_silent_server() {
        assert_eq!(timing(&check(1_000, 3_000, 3, 1)).noticed.worst_ms, 1_000 + 2 * 3_000 + 3_000);
    }
}
