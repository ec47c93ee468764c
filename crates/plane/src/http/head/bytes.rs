//! Sets of bytes. Whether a text is made of some is asked several times a request.

/// A set of bytes as a table: 0 for each that it holds.
pub(super) struct ByteSet([u8; 256]);

impl ByteSet {
    pub(super) const fn letters_digits_and(others: &[u8]) -> Self {
        let (mut table, mut byte, mut index) = ([1; 256], 0, 0);
        while byte < 256 {
            table[byte] = !(byte as u8).is_ascii_alphanumeric() as u8;
            byte += 1;
        }
        while index < others.len() {
            table[others[index] as usize] = 0;
            index += 1;
        }
        Self(table)
    }

    /// What can be seen, but for `other`.
    pub(super) const fn graphic_but(other: u8) -> Self {
        let (mut table, mut byte) = ([1; 256], 0);
        while byte < 256 {
            table[byte] = !((byte as u8).is_ascii_graphic() && byte as u8 != other) as u8;
            byte += 1;
        }
        Self(table)
    }

    /// Whether all bytes of a text are in the set. It is looked at to its end in any case: that costs less than asking
    /// after each byte whether to go on.
    pub(super) fn holds_all(&self, text: &[u8]) -> bool {
        text.iter().fold(0, |others, byte| others | self.0[usize::from(*byte)]) == 0
    }
}
