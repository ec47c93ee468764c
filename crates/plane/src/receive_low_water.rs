//! Long bodies are moved in large portions: a socket with much to come wakes its task only when much has come
//! (`SO_RCVLOWAT`, socket(7)), for each wake-up and each move cost the same however little there is.

use std::os::fd::AsRawFd;
use std::time::Duration;

use nix::libc;
use tokio::net::TcpStream;

/// How much is waited for at once.
const PORTION: u64 = 384 << 10;
/// From how much on that is still to come it is worth the system calls.
const FROM: u64 = 128 << 10;
/// How long a portion may take to gather. A source that takes longer is slow, and what it gives goes on as it comes.
pub(crate) const LONGEST: Duration = Duration::from_millis(20);

/// What one socket is waited for, while a body of known length comes from it.
pub(crate) struct ReceiveLowWater<'a> {
    source: &'a TcpStream,
    /// How much makes it readable now.
    low: u64,
    is_slow: bool,
}

impl<'a> ReceiveLowWater<'a> {
    pub(crate) fn new(source: &'a TcpStream) -> Self {
        Self { source, low: 1, is_slow: false }
    }

    /// Has the socket gather the next portion of the `left` bytes to come; `true` when its mark changed, and
    /// has to be looked at again before it is waited for.
    pub(crate) fn begin(&mut self, left: u64) -> bool {
        let portion = if self.is_slow || (left < FROM && !self.is_on()) { 1 } else { left.min(PORTION) };
        portion != self.low && self.set(portion)
    }

    pub(crate) fn is_on(&self) -> bool {
        self.low > 1
    }

    /// It takes too long: from now on everything goes on as it comes.
    pub(crate) fn give_up(&mut self) {
        self.is_slow = true;
        self.set(1);
    }

    fn set(&mut self, low: u64) -> bool {
        let is_set = set_low_water(self.source, low as libc::c_int);
        // Where it can't be had, objects go on as they come.
        self.is_slow |= !is_set;
        if is_set {
            self.low = low;
        }
        is_set
    }
}

impl Drop for ReceiveLowWater<'_> {
    fn drop(&mut self) {
        if self.is_on() {
            self.set(1);
        }
    }
}

/// From how many bytes on the socket is readable.
fn set_low_water(socket: &TcpStream, low: libc::c_int) -> bool {
    let size = size_of_val(&low) as libc::socklen_t;
    // SAFETY: the kernel reads `size` bytes of `low`, which has as many and lives until the call is over.
    let done = unsafe {
        libc::setsockopt(
            socket.as_raw_fd(),
            libc::SOL_SOCKET,
            libc::SO_RCVLOWAT,
            (&raw const low).cast(),
            size,
        )
    };
    done == 0
}
