//! Which tier of a pool works, and when work goes back to a lower one.
//!
//! ```text
//!                  the working tier falls below its minimum
//!   tier 0 works ------------------------------------------> tier 1 works
//!        ^                                                        |
//!        +------- automatic: at once --------------------------<--+
//!        +------- after 5m: when tier 0 was able for 5m -------<--+
//!        +------- by hand: when an operator orders it ----------<--+
//! ```

use serde::{Deserialize, Serialize};

use crate::config::document::Failback;
use crate::time::Wall;

/// How many tiers there are.
pub const TIERS: usize = 8;

/// How many servers of each tier could work.
pub type EligiblePerTier = [u32; TIERS];

/// The lowest tier with enough servers that can work. When none has enough, the one that has most; `None` when no server
/// can.
#[must_use]
pub fn lowest(able: &EligiblePerTier, minimum: u16) -> Option<u8> {
    let tiers = || (0..TIERS as u8).zip(able);
    let enough = tiers().find(|(_, count)| **count >= u32::from(minimum));
    let most = || tiers().rev().filter(|(_, count)| **count > 0).max_by_key(|(_, count)| **count);
    enough.or_else(most).map(|(tier, _)| tier)
}

/// What is remembered of a pool whose work does not go back by itself. It outlives a restart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TierHold {
    /// The tier that works.
    pub tier: u8,
    /// Since when a lower tier could work without a break.
    pub lower_able_since: Option<Wall>,
}

impl TierHold {
    /// Follows what servers can do now. `held` is what was remembered before, if anything; nothing is remembered where
    /// no server can work.
    #[must_use]
    pub fn follow(
        held: Option<Self>,
        able: &EligiblePerTier,
        minimum: u16,
        failback: Failback,
        now: Wall,
    ) -> Option<Self> {
        let Some(lowest) = lowest(able, minimum) else { return held };
        let stays = Self { tier: lowest, lower_able_since: None };
        let Some(held) = held.filter(|held| held.tier > lowest) else { return Some(stays) };
        if able[usize::from(held.tier)] < u32::from(minimum) {
            return Some(stays);
        }
        let since = held.lower_able_since.unwrap_or(now);
        match failback {
            Failback::Automatic => Some(stays),
            Failback::After(span) if now.since(since) >= span.get() => Some(stays),
            Failback::After(_) | Failback::ByHand => Some(Self { lower_able_since: Some(since), ..held }),
        }
    }

    /// An operator orders that work goes back.
    #[must_use]
    pub fn released(self, able: &EligiblePerTier, minimum: u16) -> Self {
        Self { tier: lowest(able, minimum).unwrap_or(self.tier).min(self.tier), lower_able_since: None }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::units::Span;

    fn able(counts: &[u32]) -> EligiblePerTier {
        let mut able = [0; TIERS];
        able[..counts.len()].copy_from_slice(counts);
        able
    }

    #[rstest]
    #[case::the_first(&[3, 2], 1, Some(0))]
    #[case::too_few_of_the_first(&[1, 2], 2, Some(1))]
    #[case::nowhere_enough_most_work(&[1, 2, 0], 3, Some(1))]
    #[case::nowhere_enough_and_alike(&[1, 1], 3, Some(0))]
    #[case::no_server(&[0, 0], 1, None)]
    fn the_lowest_that_is_enough(#[case] counts: &[u32], #[case] minimum: u16, #[case] tier: Option<u8>) {
        assert_eq!(lowest(&able(counts), minimum), tier);
    }

    fn run(failback: Failback, steps: &[(i64, &[u32])]) -> Vec<u8> {
        let mut held = None;
        let follow = |(second, counts): &(i64, &[u32])| {
            held = TierHold::follow(held, &able(counts), 1, failback, Wall(second * 1_000));
            held.unwrap().tier
        };
        steps.iter().map(follow).collect()
    }

    const STEPS: [(i64, &[u32]); 7] = [
        (0, &[1, 1]),
        (1, &[0, 1]),
        (2, &[1, 1]),
        (20, &[0, 1]),
        (21, &[1, 1]),
        (50, &[1, 1]),
        (51, &[1, 0]),
    ];

    #[rstest]
    #[case::at_once(Failback::Automatic, &[0, 1, 0, 1, 0, 0, 0])]
    #[case::a_break_begins_the_wait_anew(Failback::After(Span::from_millis(25_000)), &[0, 1, 1, 1, 1, 0, 0])]
    #[case::by_hand_until_the_standby_fails(Failback::ByHand, &[0, 1, 1, 1, 1, 1, 0])]
    fn going_back(#[case] failback: Failback, #[case] tiers: &[u8]) {
        assert_eq!(run(failback, &STEPS), tiers);
    }

    #[test]
    fn somebody_says_so() {
        let held = TierHold { tier: 1, lower_able_since: Some(Wall(5)) };
        assert_eq!(held.released(&able(&[1, 1]), 1), TierHold { tier: 0, lower_able_since: None });
        assert_eq!(held.released(&able(&[0, 1]), 1).tier, 1, "no server of the lower tier can");
    }
}
