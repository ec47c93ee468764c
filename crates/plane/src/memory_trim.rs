//! When many clients have left, what a worker keeps by their number can shrink.

use std::cell::Cell;

/// How many clients have to have left for it to be worth the while.
const MANY: usize = 256;

/// How many looks later it is done again.
const LATER: u8 = 8;

/// How many clients a worker had.
#[derive(Debug, Default)]
pub(crate) struct MemoryTrim {
    most: Cell<usize>,
    /// How many looks ago they left.
    left: Cell<Option<u8>>,
}

impl MemoryTrim {
    /// Looks how many clients there are; gives whether it is time to shrink: one look after they have left, and
    /// again when their buffers have been given up too.
    pub(crate) fn look(&self, clients: usize) -> bool {
        let ago = self.left.get().map(|ago| ago + 1);
        self.left.set(ago.filter(|ago| *ago < LATER));
        let most = self.most.get().max(clients);
        let have_left = most - clients >= MANY && clients * 2 <= most;
        if have_left {
            self.left.set(Some(0));
        }
        self.most.set(if have_left { clients } else { most });
        matches!(ago, Some(1 | LATER))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_time_once_after_many_have_left_and_once_more() {
        let quiet = MemoryTrim::default();
        let times = |looks: &[usize]| looks.iter().filter(|clients| quiet.look(**clients)).count();
        assert_eq!(times(&[10, 5_000, 4_000, 3_000]), 0, "most are still there");
        assert_eq!(times(&[2_000]), 0, "they have only just left");
        assert_eq!(times(&[2_000, 1_900, 1_800]), 1);
        assert_eq!(times(&[100, 90, 80]), 1);
        assert_eq!(times(&[200, 10, 10]), 0, "they were few");
        assert_eq!(times(&[10; 20]), 1, "and once more when all their buffers are back");
    }
}
