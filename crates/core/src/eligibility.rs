//! The one pure function that joins the three truths: configuration, duty and health.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::config::document::{Algorithm, PoolSpec, WhenNone};
use crate::duty::Duty;
use crate::health::{HealthState, ServerFeedback};
use crate::name::{Name, PoolServer};
use crate::pins::FormerNames;
use crate::tiers::{self, EligiblePerTier, TIERS};

/// What is known of servers beside the configuration.
pub trait ServerStates {
    /// What the operators say of a server.
    fn duty(&self, server: &PoolServer) -> Duty;
    /// Whether the deadline of a server's drain has passed.
    fn drain_is_over(&self, _server: &PoolServer) -> bool {
        false
    }
    /// Whether clients that are tied to a server go elsewhere while it drains.
    fn pins_move(&self, _server: &PoolServer) -> bool {
        false
    }
    /// Whether a server that returned has not passed a check since.
    fn awaits_pass(&self, _server: &PoolServer) -> bool {
        false
    }
    /// What probes say of a server.
    fn health(&self, server: &PoolServer) -> HealthState;
    /// What a server asks for by itself.
    fn feedback(&self, _server: &PoolServer) -> Option<ServerFeedback> {
        None
    }
    /// How far a server has come on its ramp, in thousandths of its full share.
    fn ramp(&self, _server: &PoolServer) -> u32 {
        RAMPED
    }
    /// The tier of a pool to which work stays bound although a lower one could work again.
    fn held_tier(&self, _pool: &Name) -> Option<u8> {
        None
    }
    /// What a pool and its servers were called before.
    fn former_names(&self, _pool: &Name) -> FormerNames {
        FormerNames::default()
    }
}

/// The end of a ramp: the full share, in thousandths of it.
pub const RAMPED: u32 = 1_000;

/// Why a server is not eligible.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum IneligibleReason {
    /// An operator withdrew it.
    Withdrawn,
    /// An operator drains it.
    Draining,
    /// An operator drained it, and the deadline has passed.
    Drained,
    /// Its weight is 0.
    WeightZero,
    /// No probe has ended yet.
    Unproven,
    /// It returned, and has not passed a check since.
    AwaitsPass,
    /// Its health is `down`: probes or traffic failed too often.
    Down,
    /// Probes pass again, but not yet often enough.
    Recovering,
    /// It asked to be drained, in an answer to a probe.
    AsksToDrain,
    /// It could work, and servers of another tier do.
    Standby,
}

/// The one answer for a server.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Eligibility {
    /// Why it may not get new work; `None` when it is eligible.
    pub reason: Option<IneligibleReason>,
    /// Its expected share of the pool's new work, 0 to 1.
    pub share: f64,
    /// What it counts when work is distributed, in thousandths of a weight: its weight, its capacity and its ramp
    /// together; 0 when it may not work at all, and set for one that stands by.
    pub weight: u32,
    /// It fails, and gets work all the same because every server of its pool does (`when_none = "all"`).
    pub fails: bool,
    /// It drains, and clients that are tied to it go elsewhere.
    pub pins_move: bool,
}

/// Whether a server may get new work, and if not, why: what people decided first, then what probes saw.
///
/// A pool without a check takes each of its servers to work.
#[must_use]
pub fn ineligible_reason(
    weight: u16,
    has_check: bool,
    duty: Duty,
    health: HealthState,
) -> Option<IneligibleReason> {
    match duty {
        Duty::Withdrawn => return Some(IneligibleReason::Withdrawn),
        Duty::Draining => return Some(IneligibleReason::Draining),
        Duty::InService => {}
    }
    if weight == 0 {
        return Some(IneligibleReason::WeightZero);
    }
    match health {
        _ if !has_check => None,
        HealthState::Up | HealthState::Suspect => None,
        HealthState::Unproven => Some(IneligibleReason::Unproven),
        HealthState::Down => Some(IneligibleReason::Down),
        HealthState::Recovering => Some(IneligibleReason::Recovering),
    }
}

/// The standing of every server of a pool, by name.
#[must_use]
pub fn pool_shares(name: &Name, pool: &PoolSpec, truths: &impl ServerStates) -> BTreeMap<Name, Eligibility> {
    pool.servers.keys().cloned().zip(eligibilities(name, pool, truths)).collect()
}

/// How many servers of each tier could work.
#[must_use]
pub fn eligible_per_tier(name: &Name, pool: &PoolSpec, truths: &impl ServerStates) -> EligiblePerTier {
    let mut able = [0; TIERS];
    for (reason, spec) in ineligible_reasons(name, pool, truths).iter().zip(pool.servers.values()) {
        able[usize::from(spec.tier)] += u32::from(reason.is_none());
    }
    able
}

/// Why each server of a pool could not work, whichever tier does, in the order of their names.
///
/// A server that asks to be drained is, as long as another one of its pool could work.
#[must_use]
pub fn ineligible_reasons(
    name: &Name,
    pool: &PoolSpec,
    truths: &impl ServerStates,
) -> Vec<Option<IneligibleReason>> {
    let mut id = PoolServer { pool: name.clone(), server: name.clone() };
    let mut asks_to_drain = Vec::new();
    let mut reasons: Vec<Option<IneligibleReason>> = Vec::with_capacity(pool.servers.len());
    for (server, spec) in &pool.servers {
        id.server.clone_from(server);
        let has_check = pool.check.is_some();
        let reason = match ineligible_reason(spec.weight, has_check, truths.duty(&id), truths.health(&id)) {
            Some(IneligibleReason::Draining) if truths.drain_is_over(&id) => Some(IneligibleReason::Drained),
            None if has_check && truths.awaits_pass(&id) => Some(IneligibleReason::AwaitsPass),
            reason => reason,
        };
        if reason.is_none() && truths.feedback(&id) == Some(ServerFeedback::Drain) {
            asks_to_drain.push(reasons.len());
        }
        reasons.push(reason);
    }
    let able = reasons.iter().filter(|reason| reason.is_none()).count();
    if able > asks_to_drain.len() {
        for place in asks_to_drain {
            reasons[place] = Some(IneligibleReason::AsksToDrain);
        }
    }
    reasons
}

/// Whether a pool sends work to its failing servers: it is configured to, and none of them passes.
fn sends_to_all(pool: &PoolSpec, reasons: &[Option<IneligibleReason>]) -> bool {
    pool.when_none != WhenNone::Refuse && pool.check.is_some() && reasons.iter().all(Option::is_some)
}

/// Whether a server is only out because of what probes say. One that was never probed may not even be there.
fn is_of_health(reason: Option<IneligibleReason>) -> bool {
    matches!(reason, Some(IneligibleReason::Down | IneligibleReason::Recovering))
}

/// The standing of every server of a pool, in the order of their names. One tier works: the lowest with enough servers
/// that can, or a higher one that work is bound to. A server's share is what it counts among that tier's working ones.
#[must_use]
pub fn eligibilities(name: &Name, pool: &PoolSpec, truths: &impl ServerStates) -> Vec<Eligibility> {
    let mut id = PoolServer { pool: name.clone(), server: name.clone() };
    let mut able = [0; TIERS];
    let reasons = ineligible_reasons(name, pool, truths);
    let sends_to_all = sends_to_all(pool, &reasons);
    let mut eligibilities: Vec<_> = pool
        .servers
        .iter()
        .zip(reasons)
        .map(|((server, spec), reason)| {
            id.server.clone_from(server);
            let fails = sends_to_all && is_of_health(reason);
            let reason = reason.filter(|_| !fails);
            let pins_move = reason == Some(IneligibleReason::Draining) && truths.pins_move(&id);
            if reason.is_some() {
                return Eligibility { reason, share: 0.0, weight: 0, fails, pins_move };
            }
            able[usize::from(spec.tier)] += 1;
            let wish = truths.feedback(&id).map_or(100, ServerFeedback::percent);
            // 1000 x 100 x 1000 are far from the end of a u32.
            let weight = u32::from(spec.weight) * u32::from(spec.capacity) * truths.ramp(&id) / 100;
            let mut weight = u64::from(weight) * u64::from(wish) / 100;
            if pool.check.is_some() && truths.health(&id) == HealthState::Suspect {
                weight = weight * u64::from(pool.failing.suspect_percent(pool.algorithm)) / 100;
            }
            Eligibility {
                reason,
                share: 0.0,
                weight: u32::try_from(weight).unwrap_or(u32::MAX).max(1),
                fails,
                pins_move,
            }
        })
        .collect();
    let lowest = tiers::lowest(&able, pool.tier_min_eligible);
    let held =
        truths.held_tier(name).filter(|held| able.get(usize::from(*held)).is_some_and(|count| *count > 0));
    let works = lowest.max(held.filter(|_| lowest.is_some()));
    for (eligibility, spec) in eligibilities.iter_mut().zip(pool.servers.values()) {
        if eligibility.reason.is_none() && Some(spec.tier) != works {
            eligibility.reason = Some(IneligibleReason::Standby);
        }
    }
    shares(pool, &mut eligibilities);
    eligibilities
}

fn shares(pool: &PoolSpec, eligibilities: &mut [Eligibility]) {
    if pool.algorithm == Algorithm::InOrder {
        let working = eligibilities
            .iter_mut()
            .zip(pool.servers.values())
            .filter(|(eligibility, _)| eligibility.reason.is_none());
        // Of equal weights the first by name: `max_by_key` would give the last.
        if let Some((first, _)) = working.rev().max_by_key(|(_, spec)| spec.weight) {
            first.share = 1.0;
        }
        return;
    }
    let working = |eligibility: &&Eligibility| eligibility.reason.is_none();
    let total: u64 =
        eligibilities.iter().filter(working).map(|eligibility| u64::from(eligibility.weight)).sum();
    for eligibility in eligibilities.iter_mut().filter(|eligibility| eligibility.reason.is_none()) {
        eligibility.share = f64::from(eligibility.weight) / total as f64;
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::works(1, true, Duty::InService, HealthState::Up, None)]
    #[case::suspect_still_works(1, true, Duty::InService, HealthState::Suspect, None)]
    #[case::down(1, true, Duty::InService, HealthState::Down, Some(IneligibleReason::Down))]
    #[case::recovering(1, true, Duty::InService, HealthState::Recovering, Some(IneligibleReason::Recovering))]
    #[case::unproven(1, true, Duty::InService, HealthState::Unproven, Some(IneligibleReason::Unproven))]
    #[case::no_check(1, false, Duty::InService, HealthState::Unproven, None)]
    #[case::weight_zero(0, true, Duty::InService, HealthState::Up, Some(IneligibleReason::WeightZero))]
    #[case::duty_is_named_before_health(
        1,
        true,
        Duty::Withdrawn,
        HealthState::Down,
        Some(IneligibleReason::Withdrawn)
    )]
    #[case::duty_is_named_before_weight(
        0,
        true,
        Duty::Draining,
        HealthState::Up,
        Some(IneligibleReason::Draining)
    )]
    fn reasons(
        #[case] weight: u16,
        #[case] has_check: bool,
        #[case] duty: Duty,
        #[case] health: HealthState,
        #[case] expected: Option<IneligibleReason>,
    ) {
        assert_eq!(ineligible_reason(weight, has_check, duty, health), expected);
    }

    #[rstest]
    #[case::refuse("", [HealthState::Down, HealthState::Down, HealthState::Recovering], 0)]
    #[case::all("when_none = \"all\"", [HealthState::Down, HealthState::Down, HealthState::Recovering], 3)]
    #[case::one_passes("when_none = \"all\"", [HealthState::Down, HealthState::Suspect, HealthState::Recovering], 1)]
    #[case::never_probed("when_none = \"all\"", [HealthState::Down, HealthState::Unproven, HealthState::Down], 2)]
    fn a_pool_may_send_to_all_when_none_passes(
        #[case] key: &str,
        #[case] states: [HealthState; 3],
        #[case] eligible: usize,
    ) {
        struct Known([HealthState; 3]);
        impl ServerStates for Known {
            fn duty(&self, _: &PoolServer) -> Duty {
                Duty::InService
            }

            fn health(&self, server: &PoolServer) -> HealthState {
                self.0[usize::from(server.server.as_str().as_bytes()[0] - b'a')]
            }
        }
        let servers: String = ["a", "b", "c"]
            .map(|name| {
                format!("[pools.quay.servers.{name}]\naddress = \"192.0.2.1:{}\"\n", name.as_bytes()[0])
            })
            .concat();
        let text = format!(
            "format = 3\n[checks.up]\nkind = \"tcp\"\n[pools.quay]\ncheck = \"up\"\n{key}\n{servers}"
        );
        let checked = crate::config::load(&text, crate::config::DocumentFormat::Toml).unwrap();
        let (name, pool) = checked.document().pools.iter().next().unwrap();
        let eligibilities = eligibilities(name, pool, &Known(states));
        let working: Vec<_> =
            eligibilities.iter().filter(|eligibility| eligibility.reason.is_none()).collect();
        assert_eq!(working.len(), eligible);
        let fails = working.iter().filter(|working| working.fails).count();
        assert_eq!(
            fails,
            if key.is_empty() || states.contains(&HealthState::Suspect) { 0 } else { eligible }
        );
        let total: f64 = working.iter().map(|working| working.share).sum();
        assert!(eligible == 0 || (total - 1.0).abs() < 1e-9);
    }

    /// Every duty with every health, weight and check: people decide first, then the configuration, then probes.
    #[test]
    fn the_three_truths_in_all_combinations() {
        const DUTIES: [Duty; 3] = [Duty::InService, Duty::Draining, Duty::Withdrawn];
        let mut eligible = 0;
        for (duty, weight, has_check) in DUTIES
            .iter()
            .flat_map(|duty| [0, 1, 1_000].map(|weight| (*duty, weight)))
            .flat_map(|(duty, weight)| [false, true].map(|has_check| (duty, weight, has_check)))
        {
            for health in [
                HealthState::Unproven,
                HealthState::Up,
                HealthState::Suspect,
                HealthState::Down,
                HealthState::Recovering,
            ] {
                let found = ineligible_reason(weight, has_check, duty, health);
                let by_people = match duty {
                    Duty::InService => None,
                    Duty::Draining => Some(IneligibleReason::Draining),
                    Duty::Withdrawn => Some(IneligibleReason::Withdrawn),
                };
                let by_weight = (weight == 0).then_some(IneligibleReason::WeightZero);
                let by_probes = match health {
                    HealthState::Up | HealthState::Suspect => None,
                    HealthState::Unproven => Some(IneligibleReason::Unproven),
                    HealthState::Down => Some(IneligibleReason::Down),
                    HealthState::Recovering => Some(IneligibleReason::Recovering),
                };
                let expected = by_people.or(by_weight).or(by_probes.filter(|_| has_check));
                assert_eq!(found, expected, "{duty:?} {weight} {has_check} {health:?}");
                eligible += u32::from(found.is_none());
            }
        }
        // In service, with a weight: all five without a check, two with one.
        assert_eq!(eligible, 2 * (5 + 2));
    }

    /// Three servers in every state and duty: exactly those that may work have a share, and all shares together are one.
    #[test]
    fn shares_add_up_in_all_combinations() {
        struct These([(Duty, HealthState); 3]);
        impl ServerStates for These {
            fn duty(&self, server: &PoolServer) -> Duty {
                self.of(server).0
            }
            fn health(&self, server: &PoolServer) -> HealthState {
                self.of(server).1
            }
        }
        impl These {
            fn of(&self, server: &PoolServer) -> (Duty, HealthState) {
                self.0[usize::from(server.server.as_str().as_bytes()[1] - b'0')]
            }
        }
        let text = "format = 3\n[checks.c]\nkind = \"tcp\"\n[pools.p]\ncheck = \"c\"\n\
                    servers.s0 = { address = \"192.0.2.1:80\", weight = 3 }\n\
                    servers.s1 = { address = \"192.0.2.2:80\", capacity = 50 }\n\
                    servers.s2 = { address = \"192.0.2.3:80\", weight = 0 }\n";
        let checked = crate::config::load(text, crate::config::DocumentFormat::Toml).unwrap();
        let (name, pool) = checked.document().pools.first_key_value().unwrap();
        let each: Vec<(Duty, HealthState)> = [Duty::InService, Duty::Draining, Duty::Withdrawn]
            .into_iter()
            .flat_map(|duty| {
                [
                    HealthState::Unproven,
                    HealthState::Up,
                    HealthState::Suspect,
                    HealthState::Down,
                    HealthState::Recovering,
                ]
                .map(|state| (duty, state))
            })
            .collect();
        let mut with_work = 0;
        for (first, second, third) in each
            .iter()
            .flat_map(|first| each.iter().map(move |second| (*first, *second)))
            .flat_map(|(first, second)| each.iter().map(move |third| (first, second, *third)))
        {
            let eligibilities = eligibilities(name, pool, &These([first, second, third]));
            for (standing, (duty, health)) in eligibilities.iter().zip([first, second, third]) {
                let may_work =
                    duty == Duty::InService && matches!(health, HealthState::Up | HealthState::Suspect);
                let has_weight = !std::ptr::eq(standing, &eligibilities[2]);
                assert_eq!(standing.reason.is_none(), may_work && has_weight, "{eligibilities:?}");
                assert_eq!(standing.share > 0.0, standing.reason.is_none(), "{eligibilities:?}");
                assert_eq!(standing.weight > 0, standing.reason.is_none(), "{eligibilities:?}");
            }
            let total: f64 = eligibilities.iter().map(|standing| standing.share).sum();
            let works = eligibilities.iter().any(|standing| standing.reason.is_none());
            assert!((total - f64::from(u8::from(works))).abs() < 1e-9, "{eligibilities:?}");
            with_work += u32::from(works);
        }
        // Of 15 by 15 for the two with a weight, 13 by 13 leave no work for either.
        assert_eq!(with_work, (15 * 15 - 13 * 13) * 15);
    }

    #[rstest]
    #[case::the_first_tier_works([HealthState::Up, HealthState::Up, HealthState::Up], [Some(0.75), Some(0.25), None])]
    #[case::one_of_it_is_enough([HealthState::Down, HealthState::Up, HealthState::Up], [None, Some(1.0), None])]
    #[case::the_next_takes_over([HealthState::Down, HealthState::Down, HealthState::Up], [None, None, Some(1.0)])]
    #[case::all_down([HealthState::Down, HealthState::Down, HealthState::Down], [None, None, None])]
    fn tiers(#[case] states: [HealthState; 3], #[case] shares: [Option<f64>; 3]) {
        struct These([HealthState; 3]);
        impl ServerStates for These {
            fn duty(&self, _: &PoolServer) -> Duty {
                Duty::InService
            }
            fn health(&self, server: &PoolServer) -> HealthState {
                self.0[usize::from(server.server.as_str().as_bytes()[1] - b'0')]
            }
        }
        let text = "format = 3\n[checks.c]\nkind = \"tcp\"\n[pools.p]\ncheck = \"c\"\n\
                    servers.s0 = { address = \"192.0.2.1:80\", weight = 3 }\n\
                    servers.s1 = { address = \"192.0.2.2:80\" }\n\
                    servers.s2 = { address = \"192.0.2.3:80\", tier = 1 }\n";
        let checked = crate::config::load(text, crate::config::DocumentFormat::Toml).unwrap();
        let (name, pool) = checked.document().pools.first_key_value().unwrap();
        let eligibilities = pool_shares(name, pool, &These(states));
        let found: Vec<_> = eligibilities
            .values()
            .map(|eligibility| eligibility.reason.is_none().then_some(eligibility.share))
            .collect();
        assert_eq!(found, shares);
        assert!(eligibilities.values().all(|eligibility| (eligibility.weight > 0)
            == matches!(eligibility.reason, None | Some(IneligibleReason::Standby))));
        let stands_by = eligibilities
            .values()
            .filter(|eligibility| eligibility.reason == Some(IneligibleReason::Standby))
            .count();
        assert_eq!(stands_by, usize::from(shares[2].is_none() && states[2] == HealthState::Up));
    }

    /// Everything up, and what a and b ask for.
    struct Asking(Option<ServerFeedback>, Option<ServerFeedback>);

    impl ServerStates for Asking {
        fn duty(&self, _: &PoolServer) -> Duty {
            Duty::InService
        }
        fn health(&self, server: &PoolServer) -> HealthState {
            if server.server.as_str() == "c" { HealthState::Down } else { HealthState::Up }
        }
        fn feedback(&self, server: &PoolServer) -> Option<ServerFeedback> {
            match server.server.as_str() {
                "a" => self.0,
                "b" => self.1,
                _ => None,
            }
        }
    }

    #[rstest]
    #[case::nothing(None, None, [Some(0.5), Some(0.5)])]
    #[case::a_smaller_share(Some(ServerFeedback::Share(25)), None, [Some(0.2), Some(0.8)])]
    #[case::to_be_drained(None, Some(ServerFeedback::Drain), [Some(1.0), None])]
    #[case::all_that_can_work(Some(ServerFeedback::Drain), Some(ServerFeedback::Drain), [Some(0.5), Some(0.5)])]
    fn what_servers_ask_for(
        #[case] of_a: Option<ServerFeedback>,
        #[case] of_b: Option<ServerFeedback>,
        #[case] shares: [Option<f64>; 2],
    ) {
        let text = "format = 3\n[checks.c]\nkind = \"tcp\"\n[pools.p]\ncheck = \"c\"\n\
                    servers.a = { address = \"192.0.2.1:80\" }\nservers.b = { address = \"192.0.2.2:80\" }\n\
                    servers.c = { address = \"192.0.2.3:80\" }\n";
        let checked = crate::config::load(text, crate::config::DocumentFormat::Toml).unwrap();
        let (name, pool) = checked.document().pools.first_key_value().unwrap();
        let asking = Asking(of_a, of_b);
        let eligibilities = eligibilities(name, pool, &asking);
        let found = eligibilities[..2]
            .iter()
            .map(|eligibility| eligibility.reason.is_none().then_some(eligibility.share))
            .collect::<Vec<_>>();
        assert_eq!(found, shares);
        let drained = eligibilities
            .iter()
            .filter(|eligibility| eligibility.reason == Some(IneligibleReason::AsksToDrain))
            .count();
        assert_eq!(drained, shares.iter().filter(|share| share.is_none()).count());
        assert_eq!(eligible_per_tier(name, pool, &asking)[0] as usize, 2 - drained);
    }

    /// Everything up, with one server on its ramp and one tier held.
    struct Ramping(u32, Option<u8>);

    impl ServerStates for Ramping {
        fn duty(&self, _: &PoolServer) -> Duty {
            Duty::InService
        }
        fn health(&self, _: &PoolServer) -> HealthState {
            HealthState::Up
        }
        fn ramp(&self, server: &PoolServer) -> u32 {
            if server.server.as_str() == "b" { self.0 } else { RAMPED }
        }
        fn held_tier(&self, _: &Name) -> Option<u8> {
            self.1
        }
    }

    #[rstest]
    #[case::capacity("", 1_000, None, &[0.5, 0.5, 0.0])]
    #[case::half_way_up_the_ramp("", 500, None, &[2.0 / 3.0, 1.0 / 3.0, 0.0])]
    #[case::a_held_tier("", 1_000, Some(1), &[0.0, 0.0, 1.0])]
    #[case::a_tier_that_is_too_small("tier_min_eligible = 3", 1_000, None, &[0.5, 0.5, 0.0])]
    #[case::in_order_goes_by_the_configured_weight("algorithm = \"in-order\"", 10, None, &[0.0, 1.0, 0.0])]
    fn what_servers_count(
        #[case] keys: &str,
        #[case] ramp: u32,
        #[case] held: Option<u8>,
        #[case] shares: &[f64],
    ) {
        let text = format!(
            "format = 3\n[pools.p]\n{keys}\nservers.a = {{ address = \"192.0.2.1:80\", weight = 4 }}\n\
             servers.b = {{ address = \"192.0.2.2:80\", weight = 8, capacity = 50 }}\n\
             servers.c = {{ address = \"192.0.2.3:80\", tier = 1 }}\n"
        );
        let checked = crate::config::load(&text, crate::config::DocumentFormat::Toml).unwrap();
        let (name, pool) = checked.document().pools.first_key_value().unwrap();
        let found: Vec<f64> = eligibilities(name, pool, &Ramping(ramp, held))
            .iter()
            .map(|eligibility| eligibility.share)
            .collect();
        assert_eq!(found, shares);
    }
}
