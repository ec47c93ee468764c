//! What holds for any weights and any keys.

use std::collections::BTreeMap;

use proptest::prelude::*;
use proptest::test_runner::RngSeed;

use super::contract_tests::members;
use super::*;

/// The same cases in each run, so that a failure can be seen again.
fn config() -> ProptestConfig {
    ProptestConfig {
        cases: 64,
        rng_seed: RngSeed::Fixed(16),
        failure_persistence: None,
        ..ProptestConfig::default()
    }
}

fn greatest_common_divisor(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { greatest_common_divisor(b, a % b) }
}

fn keys() -> impl Iterator<Item = u64> {
    (0..2_000_u64).map(|number| crate::draw::mix(number + 1))
}

/// The server of each key.
fn owners(hash: &Hash) -> Vec<Option<usize>> {
    let cell = PoolRuntime::default();
    let pick = |key| {
        hash.pick(&PickContext { cell: &cell, key: Some(key), draw: 0, now: Tick(0) }, &Excluded::default())
    };
    keys().map(pick).collect()
}

/// Weights in thousandths, as they are during ramps: the cycles of such weights are long.
fn fine_weights() -> impl Strategy<Value = Vec<u32>> {
    proptest::collection::vec(0..40_000_u32, 1..6)
}

/// Weights as configured, in thousandths.
fn whole_weights() -> impl Strategy<Value = Vec<u32>> {
    proptest::collection::vec((0..=1_000_u32).prop_map(|weight| weight * 1_000), 1..12)
}

proptest! {
    #![proptest_config(config())]

    /// In as many turns in a row as the reduced weights add up to, wherever they begin, each server has exactly its
    /// weight.
    #[test]
    fn round_robin_is_exact_over_any_cycle(
        weights in prop_oneof![whole_weights(), fine_weights()],
        start in 0..300_u64,
    ) {
        let divisor = weights.iter().fold(0, |divisor, weight| greatest_common_divisor(divisor, u64::from(*weight)));
        prop_assume!(divisor > 0);
        let balance = RoundRobin::new(weights.iter().copied().enumerate());
        let cell = PoolRuntime::default();
        let cycle: u64 = weights.iter().map(|weight| u64::from(*weight) / divisor).sum();
        let mut counts = vec![0_u64; weights.len()];
        let context = PickContext { cell: &cell, key: None, draw: 0, now: Tick(0) };
        for _ in 0..start {
            balance.pick(&context, &Excluded::default());
        }
        for _ in 0..cycle {
            counts[balance.pick(&context, &Excluded::default()).expect("one has a weight")] += 1;
        }
        let expected: Vec<u64> = weights.iter().map(|weight| u64::from(*weight) / divisor).collect();
        prop_assert_eq!(counts, expected);
    }

    /// When a server may not work any more, its keys move and no other; when it may again, all are where they were.
    /// This holds for pools that compare all servers and for those that keep slots.
    #[test]
    fn a_server_that_leaves_moves_its_own_keys_alone(
        weights in prop_oneof![
            proptest::collection::vec(1..=20_u16, 2..12),
            proptest::collection::vec(1..=20_u16, 65..80),
        ],
        which in any::<prop::sample::Index>(),
    ) {
        let all = members(&weights);
        let gone = which.index(all.len());
        let mut without = all.clone();
        without[gone].weight = 0;
        let (before, after) = (owners(&Hash::new(all.clone(), None)), owners(&Hash::new(without, None)));
        for (before, after) in before.iter().zip(&after) {
            prop_assert_ne!(*after, Some(gone));
            prop_assert!(*before == Some(gone) || before == after, "{:?} {:?}", before, after);
        }
        prop_assert_eq!(before, owners(&Hash::new(all, None)));
    }

    /// Of a pool that compares all of its servers the same holds for one that is removed from the document.
    #[test]
    fn a_server_that_is_removed_moves_its_own_keys_alone(
        weights in proptest::collection::vec(1..=1_000_u16, 2..40),
        which in any::<prop::sample::Index>(),
    ) {
        let all = members(&weights);
        let gone = which.index(all.len());
        let mut without = all.clone();
        without.remove(gone);
        let by_name = |members: &[Member], owners: Vec<Option<usize>>| -> Vec<u64> {
            owners.into_iter().map(|owner| members[owner.expect("each has a weight")].identity).collect()
        };
        let before = by_name(&all, owners(&Hash::new(all.clone(), None)));
        let after = by_name(&without, owners(&Hash::new(without.clone(), None)));
        let own = all[gone].identity;
        prop_assert!(before.iter().zip(&after).all(|(before, after)| *before == own || before == after));
    }

    /// Keys fall on servers in proportion to the weights, as independent draws would: chance alone gives a difference
    /// like the greatest of these less than once in a million.
    #[test]
    fn keys_fall_evenly(weights in prop_oneof![
        proptest::collection::vec(1..=8_u16, 2..20),
        proptest::collection::vec(1..=8_u16, 65..90),
    ]) {
        let mut counts: BTreeMap<usize, u64> = BTreeMap::new();
        for owner in owners(&Hash::new(members(&weights), None)).into_iter().flatten() {
            *counts.entry(owner).or_default() += 1;
        }
        let observed: Vec<u64> = (0..weights.len()).map(|index| counts.get(&index).copied().unwrap_or(0)).collect();
        let total: u16 = weights.iter().sum();
        let all: u64 = observed.iter().sum();
        prop_assert_eq!(all, 2_000);
        let expected: Vec<f64> = weights.iter().map(|weight| 2_000.0 * f64::from(*weight) / f64::from(total)).collect();
        let test = crate::proof::chi_square(&observed, &expected).expect("several servers");
        prop_assert!(test.p_value > 1e-6, "{:?} {:?}", test, observed);
    }
}
