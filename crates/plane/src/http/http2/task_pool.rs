//! The tasks that answer the requests of one connection. One that is done waits for the next request, for making a task
//! costs more than answering a short request does.

use std::cell::{Cell, RefCell};
use std::future::poll_fn;
use std::rc::Rc;
use std::task::{Poll, Waker};

use bytes::Bytes;
use h2::RecvStream;
use h2::server::SendResponse;
use http::Request;

use crate::deadline::{DeadlineEntry, WakeReason};

/// How many tasks of one connection may wait.
const MOST_FREE: usize = 128;

/// A request that came over a stream.
pub(super) struct StreamRequest {
    pub(super) request: Request<RecvStream>,
    pub(super) respond: SendResponse<Bytes>,
}

impl StreamRequest {
    /// How many bytes its fields are, about.
    pub(super) fn size(&self) -> usize {
        let fields = self.request.headers().iter();
        fields.map(|(name, value)| name.as_str().len() + value.len() + 64).sum::<usize>() + 512
    }
}

/// Where one task waits.
#[derive(Default)]
pub(super) struct TaskSlot {
    next: RefCell<Option<StreamRequest>>,
    waker: RefCell<Option<Waker>>,
    dismissed: Cell<bool>,
}

impl TaskSlot {
    /// Gives a request to the task that waits there.
    pub(super) fn fill(&self, asked: StreamRequest) {
        *self.next.borrow_mut() = Some(asked);
        self.wake();
    }

    fn wake(&self) {
        if let Some(waker) = self.waker.borrow_mut().take() {
            waker.wake();
        }
    }
}

/// The tasks of a connection that wait for its next requests.
#[derive(Default)]
pub(super) struct TaskPool {
    free: RefCell<Vec<Rc<TaskSlot>>>,
    is_closed: Cell<bool>,
}

impl TaskPool {
    /// The task that was done last, if one waits.
    pub(super) fn take(&self) -> Option<Rc<TaskSlot>> {
        self.free.borrow_mut().pop()
    }

    /// Waits for the next request; `None` when the task is not needed any more.
    pub(super) async fn wait(&self, seat: &Rc<TaskSlot>, alarm: &DeadlineEntry) -> Option<StreamRequest> {
        if self.is_closed.get() || self.free.borrow().len() >= MOST_FREE {
            return None;
        }
        self.free.borrow_mut().push(Rc::clone(seat));
        poll_fn(|context| {
            let next = seat.next.borrow_mut().take();
            if next.is_some() || seat.dismissed.get() {
                return Poll::Ready(next);
            }
            if alarm.fired() == Some(WakeReason::Close) {
                // Its memory is wanted.
                self.free.borrow_mut().retain(|free| !Rc::ptr_eq(free, seat));
                return Poll::Ready(None);
            }
            *seat.waker.borrow_mut() = Some(context.waker().clone());
            Poll::Pending
        })
        .await
    }

    /// Ends the tasks that wait; `false` when none does.
    pub(super) fn clear(&self) -> bool {
        let free = std::mem::take(&mut *self.free.borrow_mut());
        for seat in &free {
            seat.dismissed.set(true);
            seat.wake();
        }
        !free.is_empty()
    }

    /// Ends the tasks that wait, and those that work when they are done.
    pub(super) fn close(&self) {
        self.is_closed.set(true);
        self.clear();
    }
}
