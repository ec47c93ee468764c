//! Which node holds an address: the state machine of a virtual router (RFC 9568, 6.4), handed its time.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::time::Tick;
use crate::vrrp::advertisement::WholeInterval;

/// The priority of a holder that is about to leave, and stays until another one has the address: so that there always is one. It is less than any
/// other, and nodes that would not take an address from one that is worth less take it from this one.
pub const LEAVING: u8 = 1;

/// Where a node stands with an address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Stance {
    /// It takes no part (Initialize).
    Aside,
    /// It listens, and takes the address when its holder falls silent (Backup).
    Backup,
    /// It holds the address, and advertises it (Active).
    Active,
}

/// When a node takes an address from one that is worth less.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Preemption {
    /// As soon as it notices.
    AtOnce,
    /// When it has been able to hold it for so long.
    After(Duration),
    /// Only when an operator orders it.
    ByHand,
}

/// What is to be done for an address, in this order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Act {
    /// Put the address on the interface, and tell the neighbours.
    Take,
    /// Take the address off the interface.
    Release,
    /// Send an advertisement with this priority.
    Advertise {
        /// The priority to send.
        priority: u8,
    },
}

/// An advertisement of another node, as far as it decides.
#[derive(Clone, Copy, Debug)]
pub struct Heard {
    /// Its priority; 0 when its sender leaves the address.
    pub priority: u8,
    /// How often its sender advertises.
    pub interval: WholeInterval,
    /// Whether its sender holds the address when both are worth the same: its own address is the higher one.
    pub outranks: bool,
}

/// One node's part in the choice of an address's holder.
#[derive(Clone, Debug)]
pub struct Election {
    interval: WholeInterval,
    priority: u8,
    preemption: Preemption,
    stance: Stance,
    since: Tick,
    /// Since when it takes part.
    able_since: Tick,
    /// When it advertises next, or takes the holder for gone.
    timer: Tick,
    /// The interval of the holder, as it says (Active_Adver_Interval).
    of_holder: WholeInterval,
    /// When it last advertised.
    advertised: Tick,
}

impl Election {
    /// A node that takes no part yet.
    #[must_use]
    pub fn new(now: Tick, interval: WholeInterval) -> Self {
        Self {
            interval,
            priority: 0,
            preemption: Preemption::AtOnce,
            stance: Stance::Aside,
            since: now,
            able_since: now,
            timer: now,
            of_holder: interval,
            advertised: now,
        }
    }

    /// A node that goes on holding the address: the process before it held it, and handed it over.
    #[must_use]
    pub fn holding(now: Tick, interval: WholeInterval, priority: u8) -> Self {
        Self { priority, stance: Stance::Active, ..Self::new(now, interval) }
    }

    /// Where the node stands.
    #[must_use]
    pub fn stance(&self) -> Stance {
        self.stance
    }

    /// Since when.
    #[must_use]
    pub fn since(&self) -> Tick {
        self.since
    }

    /// What the node is worth; 0 while it takes no part.
    #[must_use]
    pub fn priority(&self) -> u8 {
        self.priority
    }

    /// When [`Self::on_time`] has to be called next; none while the node takes no part.
    #[must_use]
    pub fn due(&self) -> Option<Tick> {
        (self.stance != Stance::Aside).then_some(self.timer)
    }

    /// Changes what the node is worth (0: it takes no part) and when it takes the address from others.
    pub fn set(
        &mut self,
        now: Tick,
        priority: u8,
        preemption: Preemption,
        interval: WholeInterval,
        acts: &mut Vec<Act>,
    ) {
        let changed = priority != self.priority || interval != self.interval;
        (self.priority, self.preemption, self.interval) = (priority, preemption, interval);
        match (self.stance, priority) {
            (Stance::Aside, 0) => {}
            (Stance::Aside, _) => {
                (self.able_since, self.of_holder) = (now, interval);
                self.stand_by(now);
            }
            (Stance::Active, 0) => {
                acts.extend([Act::Advertise { priority: 0 }, Act::Release]);
                self.stand(now, Stance::Aside);
            }
            (Stance::Backup, 0) => self.stand(now, Stance::Aside),
            (Stance::Active, _) if changed => self.advertise(now, acts),
            (Stance::Active | Stance::Backup, _) => {}
        }
    }

    /// Takes the address now, whoever holds it: an operator wants it here. Nothing while the node takes no part, or holds it.
    pub fn claim(&mut self, now: Tick, acts: &mut Vec<Act>) {
        if self.stance == Stance::Backup {
            self.take(now, acts);
        }
    }

    /// The moment that [`Self::due`] named has come.
    pub fn on_time(&mut self, now: Tick, acts: &mut Vec<Act>) {
        match self.stance {
            _ if now < self.timer => {}
            Stance::Aside => {}
            Stance::Backup => self.take(now, acts),
            Stance::Active => self.advertise(now, acts),
        }
    }

    /// The node was held up until now (no processor, a machine that stood still), `by` so long after it should have gone on: it could not hear in
    /// that time, so that time is no silence of the holder's. At most until a whole interval was listened to again, and its skew.
    pub fn held_up(&mut self, now: Tick, by: Duration) {
        if self.stance == Stance::Backup && by * 4 >= self.of_holder.duration() {
            let heard_again = now.plus(self.of_holder.duration() + self.skew(self.of_holder));
            self.timer = self.timer.max(self.timer.plus(by).min(heard_again));
        }
    }

    /// Another node advertised.
    pub fn on_advertisement(&mut self, now: Tick, heard: Heard, acts: &mut Vec<Act>) {
        match self.stance {
            Stance::Aside => {}
            Stance::Backup if heard.priority == 0 => self.timer = now.plus(self.skew(self.of_holder)),
            Stance::Backup if heard.priority == LEAVING && self.priority > LEAVING => {
                self.timer = self.timer.min(now.plus(self.skew(self.of_holder)));
            }
            Stance::Backup => {
                if heard.priority >= self.priority || !self.may_preempt(now) {
                    self.follow(now, heard);
                }
            }
            Stance::Active if heard.priority == 0 => self.advertise(now, acts),
            Stance::Active => {
                let is_worth_more =
                    heard.priority > self.priority || (heard.priority == self.priority && heard.outranks);
                // Whoever was held up for so long that others had to take it for gone (stopped, a machine that slept) has lost the
                // address, and takes it back only where it could have taken it from the holder anyway.
                let was_gone = now.since(self.advertised) > self.down_interval(self.interval);
                if is_worth_more || (was_gone && !self.may_preempt(now)) {
                    acts.push(Act::Release);
                    self.stand_by(now);
                    self.follow(now, heard);
                } else if now.since(self.advertised) * 4 >= self.interval.duration() {
                    // Says at once who holds it, to the other and to switches; a flood is not answered one for one.
                    self.advertise(now, acts);
                }
            }
        }
    }

    fn may_preempt(&self, now: Tick) -> bool {
        match self.preemption {
            Preemption::AtOnce => true,
            Preemption::After(wait) => now.since(self.able_since) >= wait,
            Preemption::ByHand => false,
        }
    }

    fn stand(&mut self, now: Tick, stance: Stance) {
        (self.stance, self.since) = (stance, now);
    }

    fn stand_by(&mut self, now: Tick) {
        self.stand(now, Stance::Backup);
        self.timer = now.plus(self.down_interval(self.of_holder));
    }

    fn follow(&mut self, now: Tick, heard: Heard) {
        self.of_holder = heard.interval;
        self.timer = now.plus(self.down_interval(heard.interval));
    }

    fn take(&mut self, now: Tick, acts: &mut Vec<Act>) {
        self.stand(now, Stance::Active);
        acts.push(Act::Take);
        self.advertise(now, acts);
    }

    fn advertise(&mut self, now: Tick, acts: &mut Vec<Act>) {
        acts.push(Act::Advertise { priority: self.priority });
        self.advertised = now;
        self.timer = now.plus(self.interval.duration());
    }

    /// How much longer than three intervals it waits: the less it is worth, the longer (Skew_Time).
    fn skew(&self, interval: WholeInterval) -> Duration {
        interval.duration() * (256 - u32::from(self.priority)) / 256
    }

    /// After how long of silence a holder is gone (Active_Down_Interval).
    fn down_interval(&self, interval: WholeInterval) -> Duration {
        interval.duration() * 3 + self.skew(interval)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const MS: u64 = 1_000_000;

    fn interval() -> WholeInterval {
        WholeInterval::nearest(Duration::from_millis(100))
    }

    fn heard(priority: u8) -> Heard {
        Heard { priority, interval: interval(), outranks: false }
    }

    fn node(priority: u8, preemption: Preemption) -> (Election, Vec<Act>) {
        let (mut node, mut acts) = (Election::new(Tick(0), interval()), Vec::new());
        node.set(Tick(0), priority, preemption, interval(), &mut acts);
        assert_eq!((node.stance(), acts.as_slice()), (Stance::Backup, [].as_slice()));
        (node, acts)
    }

    fn holder(priority: u8, preemption: Preemption) -> (Election, Vec<Act>) {
        let (mut node, mut acts) = node(priority, preemption);
        let due = node.due().unwrap();
        node.on_time(due, &mut acts);
        assert_eq!(acts, [Act::Take, Act::Advertise { priority }]);
        acts.clear();
        (node, acts)
    }

    #[test]
    fn one_that_hears_nothing_takes_the_address_after_three_intervals_and_its_skew() {
        let (mut node, mut acts) = node(100, Preemption::AtOnce);
        let due = Tick(300 * MS + 100 * MS * 156 / 256);
        assert_eq!(node.due(), Some(due));
        node.on_time(Tick(due.0 - 1), &mut acts);
        assert_eq!(acts, []);
        node.on_time(due, &mut acts);
        assert_eq!(acts, [Act::Take, Act::Advertise { priority: 100 }]);
        assert_eq!((node.stance(), node.due()), (Stance::Active, Some(due.plus(Duration::from_millis(100)))));
    }

    #[rstest]
    #[case::worth_more(200, Preemption::AtOnce, true)]
    #[case::worth_the_same(100, Preemption::AtOnce, true)]
    #[case::worth_less(50, Preemption::AtOnce, false)]
    #[case::worth_less_by_hand(50, Preemption::ByHand, true)]
    #[case::worth_less_too_soon(50, Preemption::After(Duration::from_secs(1)), true)]
    #[case::worth_less_long_enough(50, Preemption::After(Duration::from_millis(200)), false)]
    fn one_that_stands_by_follows_a_holder(
        #[case] priority: u8,
        #[case] preemption: Preemption,
        #[case] follows: bool,
    ) {
        let (mut node, mut acts) = node(100, preemption);
        let before = node.due();
        node.on_advertisement(Tick(250 * MS), heard(priority), &mut acts);
        assert_eq!(node.due() != before, follows);
    }

    #[rstest]
    #[case::before_its_time(300, 90, 390)]
    #[case::long_before_its_time(200, 90, 300)]
    #[case::over_its_time(400, 130, 430)]
    #[case::for_long(9000, 8900, 9100)]
    #[case::too_short_to_miss_anything(200, 20, 300)]
    fn time_in_which_a_node_was_held_up_is_no_silence(
        #[case] now: u64,
        #[case] by: u64,
        #[case] due_without_skew: u64,
    ) {
        let (mut node, mut acts) = node(100, Preemption::AtOnce);
        let skew = 100 * MS * 156 / 256;
        node.held_up(Tick(now * MS), Duration::from_millis(by));
        assert_eq!(node.due(), Some(Tick(due_without_skew * MS + skew)));
        node.on_time(Tick(now * MS), &mut acts);
        assert_eq!(acts, []);
        node.on_time(node.due().unwrap(), &mut acts);
        assert_eq!(acts, [Act::Take, Act::Advertise { priority: 100 }], "it is no excuse for ever");
    }

    #[test]
    fn a_holder_that_was_held_up_advertises_at_once() {
        let (mut node, mut acts) = holder(100, Preemption::AtOnce);
        let now = node.due().unwrap().plus(Duration::from_secs(2));
        node.held_up(now, Duration::from_secs(2));
        node.on_time(now, &mut acts);
        assert_eq!(acts, [Act::Advertise { priority: 100 }]);
    }

    #[test]
    fn one_that_leaves_is_followed_after_the_skew_alone() {
        let (mut node, mut acts) = node(200, Preemption::ByHand);
        node.on_advertisement(Tick(MS), heard(0), &mut acts);
        assert_eq!(node.due(), Some(Tick(MS + 100 * MS * 56 / 256)));
    }

    #[test]
    fn one_that_is_about_to_leave_is_relieved_also_by_those_that_would_not_take_it() {
        let (mut node, mut acts) = node(200, Preemption::ByHand);
        for step in 1..10 {
            let now = Tick(step * 100 * MS);
            node.on_advertisement(now, heard(LEAVING), &mut acts);
            if node.due().unwrap() < now.plus(Duration::from_millis(100)) {
                node.on_time(node.due().unwrap(), &mut acts);
                break;
            }
        }
        assert_eq!(acts, [Act::Take, Act::Advertise { priority: 200 }]);
        assert!(node.since() < Tick(200 * MS), "within an interval: {:?}", node.since());
    }

    #[rstest]
    #[case::worth_more(201, false, true)]
    #[case::the_same_and_higher(200, true, true)]
    #[case::the_same_and_lower(200, false, false)]
    #[case::worth_less(199, true, false)]
    fn of_two_holders_one_gives_way(#[case] priority: u8, #[case] outranks: bool, #[case] gives_way: bool) {
        let (mut node, mut acts) = holder(200, Preemption::AtOnce);
        let now = node.due().unwrap();
        node.on_advertisement(now, Heard { outranks, ..heard(priority) }, &mut acts);
        if gives_way {
            assert_eq!((node.stance(), acts.as_slice()), (Stance::Backup, [Act::Release].as_slice()));
        } else {
            assert_eq!(
                (node.stance(), acts.as_slice()),
                (Stance::Active, [Act::Advertise { priority: 200 }].as_slice())
            );
        }
    }

    #[test]
    fn a_flood_is_not_answered_one_for_one() {
        let (mut node, mut acts) = holder(200, Preemption::AtOnce);
        let start = node.since();
        for step in 0..1_000 {
            node.on_advertisement(start.plus(Duration::from_micros(step * 100)), heard(1), &mut acts);
        }
        assert_eq!(acts.len(), 3, "in 100 ms, one at most for each quarter of an interval");
    }

    #[rstest]
    #[case::at_once(Preemption::AtOnce, Stance::Active)]
    #[case::by_hand(Preemption::ByHand, Stance::Backup)]
    fn a_holder_that_was_held_up_takes_it_back_only_where_it_may(
        #[case] preemption: Preemption,
        #[case] stance: Stance,
    ) {
        let (mut node, mut acts) = holder(200, preemption);
        node.on_advertisement(node.since().plus(Duration::from_secs(10)), heard(100), &mut acts);
        assert_eq!(node.stance(), stance);
    }

    #[test]
    fn what_a_node_is_worth_changes_at_once() {
        let (mut node, mut acts) = holder(200, Preemption::AtOnce);
        node.set(node.since(), 150, Preemption::AtOnce, interval(), &mut acts);
        assert_eq!(std::mem::take(&mut acts), [Act::Advertise { priority: 150 }]);
        node.set(node.since(), 0, Preemption::AtOnce, interval(), &mut acts);
        assert_eq!(std::mem::take(&mut acts), [Act::Advertise { priority: 0 }, Act::Release]);
        assert_eq!((node.stance(), node.due()), (Stance::Aside, None));
        node.on_advertisement(Tick(900 * MS), heard(0), &mut acts);
        node.on_time(Tick(u64::MAX), &mut acts);
        node.claim(Tick(900 * MS), &mut acts);
        assert_eq!(acts, [], "it takes no part");
    }

    #[test]
    fn an_operator_claims_it_for_one_that_stands_by() {
        let (mut node, mut acts) = node(100, Preemption::ByHand);
        node.claim(Tick(MS), &mut acts);
        assert_eq!(std::mem::take(&mut acts), [Act::Take, Act::Advertise { priority: 100 }]);
        node.claim(Tick(2 * MS), &mut acts);
        assert_eq!(acts, [], "it has it");
    }
}
