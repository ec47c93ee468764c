//! The line in which work waits for a pool whose servers are all full: first in, first out, and bounded.
//!
//! Taking one's place and being called go through a lock that is held for a few instructions; work that finds room
//! looks at one number and never at the lock.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::task::Waker;

/// The line of one pool, over all workers.
#[derive(Debug, Default)]
pub struct WaitQueue {
    /// How many wait; written under the lock.
    waiting: AtomicU64,
    /// How many waited in vain since the start.
    left_in_vain: AtomicU64,
    /// Who waits, in order. The lock is never held across a wait or a wake.
    places: Mutex<QueuedWakers>,
}

#[derive(Debug, Default)]
struct QueuedWakers {
    next: u64,
    order: VecDeque<(u64, Waker)>,
}

/// A place in a line; dropping it leaves the line.
#[derive(Debug)]
pub struct QueueSlot<'a> {
    line: &'a WaitQueue,
    number: u64,
}

impl WaitQueue {
    fn with<T>(&self, act: impl FnOnce(&mut QueuedWakers) -> T) -> T {
        let mut places = self.places.lock().unwrap_or_else(PoisonError::into_inner);
        let answer = act(&mut places);
        self.waiting.store(places.order.len() as u64, Ordering::Release);
        answer
    }

    /// How many wait.
    #[must_use]
    pub fn waiting(&self) -> u64 {
        self.waiting.load(Ordering::Acquire)
    }

    /// How many waited as long as they may, in vain.
    #[must_use]
    pub fn in_vain(&self) -> u64 {
        self.left_in_vain.load(Ordering::Relaxed)
    }

    /// Takes the last place of the line; `None` when `most` wait already. `waker` is woken when it is worth trying.
    #[must_use]
    pub fn enqueue(&self, most: u32, waker: &Waker) -> Option<QueueSlot<'_>> {
        self.with(|places| {
            if places.order.len() >= most as usize {
                return None;
            }
            let number = places.next;
            places.next += 1;
            places.order.push_back((number, waker.clone()));
            Some(QueueSlot { line: self, number })
        })
    }

    /// Takes the first place of the line again, for one that had it and left to look at what is so by now.
    #[must_use]
    pub fn join_first(&self, waker: &Waker) -> QueueSlot<'_> {
        self.with(|places| {
            let number = places.next;
            places.next += 1;
            places.order.push_front((number, waker.clone()));
            QueueSlot { line: self, number }
        })
    }

    /// Room has come: the first in the line may try.
    pub fn notify_front(&self) {
        if self.waiting() == 0 {
            return;
        }
        let first = self.with(|places| places.order.front().map(|(_, waker)| waker.clone()));
        if let Some(waker) = first {
            waker.wake();
        }
    }
}

impl QueueSlot<'_> {
    /// Whether it is this one's turn to try.
    #[must_use]
    pub fn is_first(&self) -> bool {
        self.line.with(|places| places.order.front().is_some_and(|(number, _)| *number == self.number))
    }

    /// Leaves the line because it waited for as long as it may.
    pub fn give_up(self) {
        self.line.left_in_vain.fetch_add(1, Ordering::Relaxed);
    }
}

impl Drop for QueueSlot<'_> {
    fn drop(&mut self) {
        self.line.with(|places| places.order.retain(|(number, _)| *number != self.number));
        // Room may have come while this one was first and not looking.
        self.line.notify_front();
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
        let back = line.join_first(Waker::noop());
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
}
