//! The wait queue of a pool whose servers are all full: first in, first out, and bounded.
//!
//! Entering, leaving and waking the first take the same few instructions however many wait. A waiter learns from one number whether it is
//! the first, without the lock; work that finds room looks at one number too.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::task::Waker;

use slab::Slab;

/// The wait queue of one pool, over all workers.
#[derive(Debug)]
pub struct WaitQueue {
    /// How many wait; written under the lock.
    waiting: AtomicU64,
    /// The number of the first waiter, or [`NO_WAITER`]; written under the lock.
    first: AtomicU64,
    /// How many waited in vain since the start.
    left_in_vain: AtomicU64,
    /// The waiters. The lock is never held across a wait or a wake.
    waiters: Mutex<Waiters>,
}

/// The number of no waiter.
const NO_WAITER: u64 = u64::MAX;

impl Default for WaitQueue {
    fn default() -> Self {
        Self {
            waiting: AtomicU64::new(0),
            first: AtomicU64::new(NO_WAITER),
            left_in_vain: AtomicU64::new(0),
            waiters: Mutex::default(),
        }
    }
}

/// Waiters as a list in both directions, so that one in the middle leaves as fast as the first.
#[derive(Debug, Default)]
struct Waiters {
    nodes: Slab<WaiterNode>,
    front: Option<usize>,
    back: Option<usize>,
    next_number: u64,
}

#[derive(Debug)]
struct WaiterNode {
    number: u64,
    waker: Waker,
    before: Option<usize>,
    after: Option<usize>,
}

impl Waiters {
    /// Adds a waiter at one of the ends; gives its place and its number.
    fn add(&mut self, waker: &Waker, is_first: bool) -> (usize, u64) {
        let number = self.next_number;
        self.next_number += 1;
        let (before, after) = if is_first { (None, self.front) } else { (self.back, None) };
        let index = self.nodes.insert(WaiterNode { number, waker: waker.clone(), before, after });
        match before {
            Some(before) => self.nodes[before].after = Some(index),
            None => self.front = Some(index),
        }
        match after {
            Some(after) => self.nodes[after].before = Some(index),
            None => self.back = Some(index),
        }
        (index, number)
    }

    fn remove(&mut self, index: usize) {
        let WaiterNode { before, after, .. } = self.nodes.remove(index);
        match before {
            Some(before) => self.nodes[before].after = after,
            None => self.front = after,
        }
        match after {
            Some(after) => self.nodes[after].before = before,
            None => self.back = before,
        }
    }
}

/// A place in a queue; dropping it leaves the queue.
#[derive(Debug)]
pub struct QueueSlot<'a> {
    queue: &'a WaitQueue,
    index: usize,
    number: u64,
}

impl WaitQueue {
    fn with<T>(&self, act: impl FnOnce(&mut Waiters) -> T) -> T {
        let mut waiters = self.waiters.lock().unwrap_or_else(PoisonError::into_inner);
        let answer = act(&mut waiters);
        self.waiting.store(waiters.nodes.len() as u64, Ordering::Release);
        let first = waiters.front.map_or(NO_WAITER, |front| waiters.nodes[front].number);
        self.first.store(first, Ordering::Release);
        answer
    }

    /// How many requests wait, at this moment.
    #[must_use]
    pub fn waiting(&self) -> u64 {
        self.waiting.load(Ordering::Acquire)
    }

    /// How many waited as long as they may, in vain.
    #[must_use]
    pub fn in_vain(&self) -> u64 {
        self.left_in_vain.load(Ordering::Relaxed)
    }

    /// Takes the last place of the queue; `None` when `most` wait already. `waker` is woken when the waiter is the first and room may have
    /// come.
    #[must_use]
    pub fn enqueue(&self, most: u32, waker: &Waker) -> Option<QueueSlot<'_>> {
        self.with(|waiters| {
            if waiters.nodes.len() >= most as usize {
                return None;
            }
            let (index, number) = waiters.add(waker, false);
            Some(QueueSlot { queue: self, index, number })
        })
    }

    /// Takes the first place of the queue again, for one that had it and left to look at a newer snapshot.
    #[must_use]
    pub fn enqueue_first(&self, waker: &Waker) -> QueueSlot<'_> {
        self.with(|waiters| {
            let (index, number) = waiters.add(waker, true);
            QueueSlot { queue: self, index, number }
        })
    }

    /// Room has come: the first waiter may try.
    pub fn notify_front(&self) {
        if self.waiting() == 0 {
            return;
        }
        let first = self.with(|waiters| waiters.front.map(|front| waiters.nodes[front].waker.clone()));
        if let Some(waker) = first {
            waker.wake();
        }
    }
}

impl QueueSlot<'_> {
    /// Whether it is this waiter's turn to try.
    #[must_use]
    pub fn is_first(&self) -> bool {
        self.queue.first.load(Ordering::Acquire) == self.number
    }

    /// Leaves the queue because it waited for as long as it may.
    pub fn give_up(self) {
        self.queue.left_in_vain.fetch_add(1, Ordering::Relaxed);
    }
}

impl Drop for QueueSlot<'_> {
    fn drop(&mut self) {
        let was_first = self.is_first();
        self.queue.with(|waiters| waiters.remove(self.index));
        if was_first {
            // The next one has to know, and room may have come that this one did not take.
            self.queue.notify_front();
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::task::Wake;

    use super::*;

    #[derive(Default)]
    struct Calls(AtomicU64);

    impl Wake for Calls {
        fn wake(self: Arc<Self>) {
            self.0.fetch_add(1, Ordering::Relaxed);
        }
    }

    #[test]
    fn first_in_first_out_and_bounded() {
        let line = WaitQueue::default();
        let calls: Vec<Arc<Calls>> = (0..3).map(|_| Arc::default()).collect();
        let join = |index: usize| line.enqueue(2, &Waker::from(Arc::clone(&calls[index])));
        let (first, second) = (join(0).unwrap(), join(1).unwrap());
        assert!(join(2).is_none(), "two wait already");
        assert_eq!(line.waiting(), 2);
        line.notify_front();
        assert_eq!([0, 1].map(|index| calls[index].0.load(Ordering::Relaxed)), [1, 0]);
        assert!(first.is_first() && !second.is_first());
        drop(first);
        assert_eq!(calls[1].0.load(Ordering::Relaxed), 1, "the next is called when one leaves");
        assert!(second.is_first());
        second.give_up();
        assert_eq!((line.waiting(), line.in_vain()), (0, 1));
    }

    #[test]
    fn one_that_was_first_may_be_so_again() {
        let line = WaitQueue::default();
        let waiting = line.enqueue(9, Waker::noop()).unwrap();
        let back = line.enqueue_first(Waker::noop());
        assert!(back.is_first() && !waiting.is_first());
        drop(back);
        assert!(waiting.is_first());
    }

    #[test]
    fn one_that_goes_away_in_the_middle_leaves_its_place() {
        let line = WaitQueue::default();
        let tickets: Vec<_> = (0..3).map(|_| line.enqueue(9, Waker::noop()).unwrap()).collect();
        let [first, middle, last] = <[QueueSlot<'_>; 3]>::try_from(tickets).unwrap();
        drop(middle);
        drop(first);
        assert!(last.is_first());
    }

    #[test]
    fn the_order_is_kept_whoever_leaves() {
        use crate::draw::Draw;

        let queue = WaitQueue::default();
        let mut draw = Draw::seeded(7);
        let mut expected: std::collections::VecDeque<u64> = std::collections::VecDeque::new();
        let mut slots = std::collections::BTreeMap::new();
        for step in 0..5_000_u64 {
            match draw.number() % 4 {
                0 | 1 => {
                    let slot = queue.enqueue(1_000, Waker::noop()).unwrap();
                    expected.push_back(step);
                    slots.insert(step, slot);
                }
                2 if !expected.is_empty() => {
                    let at = (draw.number() % expected.len() as u64) as usize;
                    let gone = expected.remove(at).unwrap();
                    slots.remove(&gone);
                }
                _ => {
                    let slot = queue.enqueue_first(Waker::noop());
                    expected.push_front(step);
                    slots.insert(step, slot);
                }
            }
            assert_eq!(queue.waiting(), expected.len() as u64);
            let first: Vec<u64> =
                slots.iter().filter(|(_, slot)| slot.is_first()).map(|(step, _)| *step).collect();
            assert_eq!(first, expected.front().copied().into_iter().collect::<Vec<_>>());
            if slots.len() > 40 {
                slots.clear();
                expected.clear();
            }
        }
    }

    #[test]
    fn only_the_first_is_woken_and_only_when_its_turn_changes() {
        let queue = WaitQueue::default();
        let calls: Vec<Arc<Calls>> = (0..3).map(|_| Arc::default()).collect();
        let mut slots: Vec<_> =
            calls.iter().map(|calls| queue.enqueue(9, &Waker::from(Arc::clone(calls))).unwrap()).collect();
        let counts = || [0, 1, 2].map(|index| calls[index].0.load(Ordering::Relaxed));
        drop(slots.remove(1));
        assert_eq!(counts(), [0, 0, 0], "one in the middle leaves and wakes none");
        queue.notify_front();
        assert_eq!(counts(), [1, 0, 0]);
        drop(slots.remove(0));
        assert_eq!(counts(), [1, 0, 1]);
    }
}
