//! Buffers that are taken when data is there and given back at once.
//!
//! A fresh zeroed buffer costs 13,000 instructions for 4 KiB and 99,000 for 64 KiB (measured), so they are kept.
//! What lay unused for a whole [`BufferPool::trim`] period is given back to the system, half of it each time.

use std::cell::{Cell, RefCell};
use std::ops::{Deref, DerefMut};
use std::rc::Rc;

/// For heads and short bodies.
pub(crate) const SMALL: usize = 16 << 10;
/// For bodies, and for heads when a frontend allows larger ones: 36 system calls for a MiB against 262 with 8 KiB.
pub(crate) const LARGE: usize = 64 << 10;

/// The free buffers of one size of one worker.
#[derive(Debug)]
pub(crate) struct BufferPool {
    size: usize,
    free: RefCell<Vec<Box<[u8]>>>,
    /// The fewest that lay free since the last trim: so many were not needed.
    low: Cell<usize>,
}

impl BufferPool {
    pub(crate) fn new(size: usize) -> Rc<Self> {
        Rc::new(Self { size, free: RefCell::new(Vec::new()), low: Cell::new(0) })
    }

    /// Takes a buffer; it is empty and goes back to the shelf when it is dropped.
    pub(crate) fn take(self: &Rc<Self>) -> Buffer {
        let mut free = self.free.borrow_mut();
        let bytes = free.pop().unwrap_or_else(|| vec![0; self.size].into_boxed_slice());
        self.low.set(self.low.get().min(free.len()));
        Buffer { bytes, start: 0, end: 0, shelf: Rc::clone(self) }
    }

    /// Gives half of what was never needed since the last call back to the system.
    pub(crate) fn trim(&self) {
        let mut free = self.free.borrow_mut();
        let keep = free.len() - self.low.get().div_ceil(2);
        free.truncate(keep);
        self.low.set(free.len());
    }
}

/// A fixed buffer with data in `start..end`.
#[derive(Debug)]
pub(crate) struct Buffer {
    bytes: Box<[u8]>,
    start: usize,
    end: usize,
    shelf: Rc<BufferPool>,
}

impl Buffer {
    #[inline]
    pub(crate) fn data(&self) -> &[u8] {
        &self.bytes[self.start..self.end]
    }

    /// The data, to be changed in place.
    #[inline]
    pub(crate) fn data_mut(&mut self) -> &mut [u8] {
        &mut self.bytes[self.start..self.end]
    }

    /// The room behind the data.
    #[inline]
    pub(crate) fn room(&mut self) -> &mut [u8] {
        &mut self.bytes[self.end..]
    }

    /// How many bytes it can hold.
    pub(crate) fn capacity(&self) -> usize {
        self.bytes.len()
    }

    /// `count` bytes of the room hold data now.
    #[inline]
    pub(crate) fn filled(&mut self, count: usize) {
        self.end += count;
        assert!(self.end <= self.bytes.len(), "more bytes than there was room for");
    }

    /// Takes `count` bytes off the front.
    #[inline]
    pub(crate) fn consume(&mut self, count: usize) {
        self.start += count;
        assert!(self.start <= self.end, "more bytes than there were");
        if self.start == self.end {
            (self.start, self.end) = (0, 0);
        }
    }

    /// Moves the data to the front, to make room behind it.
    pub(crate) fn compact(&mut self) {
        self.bytes.copy_within(self.start..self.end, 0);
        (self.start, self.end) = (0, self.end - self.start);
    }

    /// Appends bytes as far as there is room; `false` when they did not fit and nothing was appended.
    pub(crate) fn append(&mut self, bytes: &[u8]) -> bool {
        let end = self.end + bytes.len();
        if end > self.bytes.len() {
            return false;
        }
        self.bytes[self.end..end].copy_from_slice(bytes);
        self.end = end;
        true
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.start == self.end
    }
}

impl Drop for Buffer {
    fn drop(&mut self) {
        self.shelf.free.borrow_mut().push(std::mem::take(&mut self.bytes));
    }
}

impl Deref for Buffer {
    type Target = [u8];

    #[inline]
    fn deref(&self) -> &[u8] {
        self.data()
    }
}

impl DerefMut for Buffer {
    #[inline]
    fn deref_mut(&mut self) -> &mut [u8] {
        self.data_mut()
    }
}

/// Makes room behind the data, in a buffer of the large shelf when its own is full; `None` when that is full too.
pub(crate) fn with_room(mut buffer: Buffer, large: &Rc<BufferPool>) -> Option<Buffer> {
    if buffer.room().is_empty() {
        buffer.compact();
    }
    if !buffer.room().is_empty() {
        return Some(buffer);
    }
    let mut larger = large.take();
    let fits = larger.append(&buffer);
    (fits && !larger.room().is_empty()).then_some(larger)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn buffers_come_back_and_what_is_not_needed_is_given_up() {
        let shelf = BufferPool::new(64);
        let taken: Vec<_> = (0..8).map(|_| shelf.take()).collect();
        drop(taken);
        shelf.trim();
        assert_eq!(shelf.free.borrow().len(), 8, "all were needed since the last trim");
        for left in [4, 2, 1, 0] {
            shelf.trim();
            assert_eq!(shelf.free.borrow().len(), left);
        }
    }

    #[test]
    fn data_moves_through() {
        let mut buffer = BufferPool::new(8).take();
        assert!(buffer.append(b"abcdef"));
        assert!(!buffer.append(b"ghi"), "no room, and nothing is appended");
        buffer.consume(4);
        assert_eq!(buffer.data(), b"ef");
        buffer.compact();
        assert_eq!(buffer.room().len(), 6);
        buffer.consume(2);
        assert_eq!(buffer.room().len(), 8);
    }
}
