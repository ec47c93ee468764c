//! Deadlines without timers: one coarse wheel a worker.
//!
//! Setting a deadline is a store into a cell. An alarm stands in the wheel at the earliest moment at which it has
//! to be looked at; when that comes and the deadline has moved on meanwhile, it is put further along. A runtime
//! timer for each read would cost about a thousand instructions a request.

use std::cell::{Cell, RefCell};
use std::rc::Rc;
use std::task::{Poll, Waker};
use std::time::{Duration, Instant};

/// How exact deadlines are: one fires at most this much too late, and never too early.
pub(crate) const TICK: Duration = Duration::from_millis(TICK_MILLIS);
const TICK_MILLIS: u64 = 20;
const PER_SECOND: u64 = 1_000 / TICK_MILLIS;
/// With the tick, how far ahead an alarm is placed at most (10 s); further deadlines are looked at on the way.
const SLOTS: u64 = 512;
const NEVER: u64 = u64::MAX;

/// A length of time in whole ticks.
pub(crate) fn ticks(length: Duration) -> u64 {
    // In 64 bits, for this is asked several times a request; a length beyond them is for ever.
    length.as_secs().saturating_mul(PER_SECOND) + u64::from(length.subsec_millis()) / TICK_MILLIS
}

/// Why a waiting connection was woken without I/O.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum WakeReason {
    /// The deadline that was set has passed.
    Deadline,
    /// The server of the exchange was withdrawn.
    Cut,
    /// The deadline of a drain of the exchange's server has passed: it is ended in order where its protocol has a way.
    Drained,
    /// The frontend is gone or the service stops: a resting connection is closed.
    Close,
    /// Clients hold too much memory, and this one much of it: it is ended.
    Crowded,
}

#[derive(Debug)]
pub(crate) struct DeadlineEntry {
    deadline: Cell<u64>,
    /// No deadline is later than this one, while it stands.
    pub(crate) end: Cell<u64>,
    placed: Cell<u64>,
    ring: Cell<Option<WakeReason>>,
    /// How many bytes lie here for the client.
    held: Cell<usize>,
    waker: RefCell<Option<Waker>>,
}

impl DeadlineEntry {
    pub(crate) fn new() -> Rc<Self> {
        Rc::new(Self {
            deadline: Cell::new(NEVER),
            end: Cell::new(NEVER),
            placed: Cell::new(NEVER),
            ring: Cell::new(None),
            held: Cell::new(0),
            waker: RefCell::new(None),
        })
    }

    /// The task to wake: the one that serves the connection now.
    pub(crate) fn set_waker(&self, waker: &Waker) {
        *self.waker.borrow_mut() = Some(waker.clone());
    }

    /// Has it wake the task that awaits this, from now on.
    pub(crate) async fn bind_to_this_task(&self) {
        std::future::poll_fn(|context| {
            self.set_waker(context.waker());
            Poll::Ready(())
        })
        .await;
    }

    /// Whether it rang since it was last taken.
    pub(crate) fn fired(&self) -> Option<WakeReason> {
        self.ring.get()
    }

    /// Takes the ring away, so that the connection can wait for something else.
    pub(crate) fn cancel(&self) {
        self.ring.set(None);
        self.deadline.set(NEVER);
        self.end.set(NEVER);
    }

    /// As [`Self::cancel`], but what was set for later stands.
    pub(crate) fn ack(&self) {
        self.ring.set(None);
    }

    /// How many bytes lie here because its client is waited for.
    pub(crate) fn held(&self) -> usize {
        self.held.get()
    }

    pub(crate) fn wake(&self, why: WakeReason) {
        self.ring.set(Some(why));
        if let Some(waker) = &*self.waker.borrow() {
            waker.wake_by_ref();
        }
    }
}

#[derive(Debug)]
pub(crate) struct TimerWheel {
    start: Instant,
    now: Cell<u64>,
    /// How many bytes lie here for all that have an alarm; see [`crate::memory`].
    held: Cell<u64>,
    slots: RefCell<Vec<Vec<Rc<DeadlineEntry>>>>,
}

impl TimerWheel {
    pub(crate) fn new() -> Self {
        let slots = (0..SLOTS).map(|_| Vec::new()).collect();
        Self { start: Instant::now(), now: Cell::new(0), held: Cell::new(0), slots: RefCell::new(slots) }
    }

    /// The coarse time: ticks since the wheel was made.
    pub(crate) fn now(&self) -> u64 {
        self.now.get()
    }

    /// How many bytes lie here for all clients that are waited for.
    pub(crate) fn held(&self) -> u64 {
        self.held.get()
    }

    /// Counts what lies here for a client anew.
    pub(crate) fn count_held(&self, alarm: &DeadlineEntry, before: usize, after: usize) {
        alarm.held.set(alarm.held.get() + after - before);
        self.held.set(self.held.get() + after as u64 - before as u64);
    }

    /// Sets the alarm's deadline, replacing the one it had.
    pub(crate) fn set(&self, alarm: &Rc<DeadlineEntry>, after: Duration) {
        // One tick for the part of the current tick that has passed, one to round up.
        let deadline = (self.now.get() + ticks(after) + 2).min(alarm.end.get());
        alarm.deadline.set(deadline);
        if alarm.placed.get() > deadline {
            self.place(alarm, deadline);
        }
    }

    /// Keeps every later deadline from going beyond this one, until the alarm is silenced.
    pub(crate) fn set_end(&self, alarm: &Rc<DeadlineEntry>, after: Duration) {
        alarm.end.set(self.now.get() + ticks(after) + 2);
    }

    fn place(&self, alarm: &Rc<DeadlineEntry>, deadline: u64) {
        let at = deadline.min(self.now.get() + SLOTS - 1);
        alarm.placed.set(at);
        self.slots.borrow_mut()[(at % SLOTS) as usize].push(Rc::clone(alarm));
    }

    /// Forgets alarms without another holder: each would keep its memory, and the page that it lies in, until its time.
    pub(crate) fn sweep(&self) {
        for slot in self.slots.borrow_mut().iter_mut() {
            slot.retain(|alarm| Rc::strong_count(alarm) > 1);
            slot.shrink_to(slot.len() * 2);
        }
    }

    /// Rings every alarm whose deadline has passed.
    pub(crate) fn advance(&self) {
        self.advance_to(ticks(self.start.elapsed()));
    }

    fn advance_to(&self, target: u64) {
        while self.now.get() < target {
            let now = self.now.get() + 1;
            self.now.set(now);
            let mut due = std::mem::take(&mut self.slots.borrow_mut()[(now % SLOTS) as usize]);
            for alarm in due.drain(..) {
                if alarm.placed.get() != now {
                    continue;
                }
                alarm.placed.set(NEVER);
                match alarm.deadline.get() {
                    NEVER => {}
                    deadline if deadline <= now => {
                        alarm.deadline.set(NEVER);
                        // A reason that was not looked at yet stays: it says more.
                        alarm.wake(alarm.fired().unwrap_or(WakeReason::Deadline));
                    }
                    deadline => self.place(&alarm, deadline),
                }
            }
            // The slot's memory is kept for the next round, unless a burst made it large.
            let slot = &mut self.slots.borrow_mut()[(now % SLOTS) as usize];
            if slot.is_empty() && due.capacity() <= 64 {
                *slot = due;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_nobody_holds_is_swept_away_and_the_rest_still_rings() {
        let wheel = TimerWheel::new();
        let held = DeadlineEntry::new();
        wheel.set(&held, Duration::from_secs(1));
        let left = Rc::downgrade(&{
            let gone = DeadlineEntry::new();
            wheel.set(&gone, Duration::from_secs(1));
            gone
        });
        assert!(left.upgrade().is_some(), "the wheel holds it");
        wheel.sweep();
        assert!(left.upgrade().is_none());
        wheel.advance_to(100);
        assert_eq!(held.fired(), Some(WakeReason::Deadline));
    }

    #[test]
    fn a_deadline_rings_once_and_not_early() {
        let (wheel, alarm) = (TimerWheel::new(), DeadlineEntry::new());
        wheel.set(&alarm, TICK * 10);
        wheel.advance_to(10);
        assert_eq!(alarm.fired(), None);
        wheel.advance_to(12);
        assert_eq!(alarm.fired(), Some(WakeReason::Deadline));
        alarm.cancel();
        wheel.advance_to(2_000);
        assert_eq!(alarm.fired(), None);
    }

    #[test]
    fn a_deadline_that_moves_on_is_followed_and_one_that_comes_nearer_too() {
        let (wheel, alarm) = (TimerWheel::new(), DeadlineEntry::new());
        wheel.set(&alarm, TICK * 10);
        wheel.advance_to(8);
        wheel.set(&alarm, TICK * 10);
        wheel.advance_to(19);
        assert_eq!(alarm.fired(), None);
        wheel.set(&alarm, TICK * 1_000);
        wheel.set(&alarm, TICK);
        wheel.advance_to(22);
        assert_eq!(alarm.fired(), Some(WakeReason::Deadline));
    }

    #[test]
    fn a_deadline_beyond_the_wheel_is_kept() {
        let (wheel, alarm) = (TimerWheel::new(), DeadlineEntry::new());
        wheel.set(&alarm, TICK * 1_500);
        wheel.advance_to(1_501);
        assert_eq!(alarm.fired(), None);
        wheel.advance_to(1_502);
        assert_eq!(alarm.fired(), Some(WakeReason::Deadline));
    }

    #[test]
    fn an_alarm_stands_in_the_wheel_once_however_often_it_is_set() {
        let (wheel, alarm) = (TimerWheel::new(), DeadlineEntry::new());
        for _ in 0..1_000 {
            wheel.set(&alarm, TICK * 100);
        }
        assert_eq!(wheel.slots.borrow().iter().map(Vec::len).sum::<usize>(), 1);
    }
}
