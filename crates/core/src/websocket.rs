//! WebSocket frames (RFC 6455), as far as a relay has to know them: where a frame ends, so that a close frame can
//! be put between two.

/// The status of a peer that goes away (RFC 6455, 7.4.1).
pub const GOING_AWAY: u16 = 1001;

/// Follows the frames of one direction. It keeps no byte of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FrameTracker {
    state: TrackerState,
}

/// Where in a frame the last byte was.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum TrackerState {
    /// Between two frames.
    #[default]
    Between,
    /// After the first byte.
    Length,
    /// In an extended length: bytes that are missing, what they said so far, whether a mask follows.
    Extended { missing: u8, length: u64, is_masked: bool },
    /// In what follows the header: so many bytes are missing, the mask among them.
    Payload { missing: u64 },
}

impl FrameTracker {
    /// Takes the next bytes of the direction. Costs a few steps a frame, whatever its size.
    pub fn on_bytes(&mut self, mut bytes: &[u8]) {
        while let Some((first, rest)) = bytes.split_first() {
            self.state = match self.state {
                TrackerState::Between => TrackerState::Length,
                TrackerState::Length => {
                    let is_masked = first & 0x80 != 0;
                    match first & 0x7f {
                        126 => TrackerState::Extended { missing: 2, length: 0, is_masked },
                        127 => TrackerState::Extended { missing: 8, length: 0, is_masked },
                        length => payload(u64::from(length), is_masked),
                    }
                }
                TrackerState::Extended { missing, length, is_masked } => {
                    let length = (length << 8) | u64::from(*first);
                    if missing > 1 {
                        TrackerState::Extended { missing: missing - 1, length, is_masked }
                    } else {
                        payload(length, is_masked)
                    }
                }
                TrackerState::Payload { missing } => {
                    let taken = missing.min(bytes.len() as u64);
                    bytes = &bytes[taken as usize..];
                    self.state = if taken == missing {
                        TrackerState::Between
                    } else {
                        TrackerState::Payload { missing: missing - taken }
                    };
                    continue;
                }
            };
            bytes = rest;
        }
    }

    /// Whether a frame of our own may follow: control frames may stand between any two frames, also those of one message (5.4).
    #[must_use]
    pub fn is_between_frames(&self) -> bool {
        self.state == TrackerState::Between
    }
}

fn payload(length: u64, is_masked: bool) -> TrackerState {
    match length.saturating_add(if is_masked { 4 } else { 0 }) {
        0 => TrackerState::Between,
        missing => TrackerState::Payload { missing },
    }
}

/// A close frame with a status (5.5.1). Frames of clients are masked, those of servers are not (5.1).
#[must_use]
pub fn close_frame(status: u16, mask: Option<[u8; 4]>) -> Vec<u8> {
    let status = status.to_be_bytes();
    match mask {
        None => vec![0x88, 2, status[0], status[1]],
        Some(mask) => [&[0x88, 0x82], mask.as_slice(), &[status[0] ^ mask[0], status[1] ^ mask[1]]].concat(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn frame(length: usize, is_masked: bool) -> Vec<u8> {
        let bit = if is_masked { 0x80 } else { 0 };
        let mut frame = vec![0x82];
        match length {
            0..=125 => frame.push(bit | length as u8),
            126..=0xffff => {
                frame.push(bit | 126);
                frame.extend_from_slice(&(length as u16).to_be_bytes());
            }
            _ => {
                frame.push(bit | 127);
                frame.extend_from_slice(&(length as u64).to_be_bytes());
            }
        }
        frame.resize(frame.len() + length + if is_masked { 4 } else { 0 }, 7);
        frame
    }

    #[rstest]
    #[case::empty(0)]
    #[case::short(5)]
    #[case::longest_short(125)]
    #[case::medium(126)]
    #[case::longest_medium(0xffff)]
    #[case::long(0x1_0000)]
    fn frames_end_where_their_length_says(#[case] length: usize, #[values(false, true)] is_masked: bool) {
        let frame = frame(length, is_masked);
        let splits = [0, 1, 2, 3, frame.len() / 2, frame.len() - 1];
        for split in splits.into_iter().filter(|split| *split < frame.len()) {
            let mut tracker = FrameTracker::default();
            tracker.on_bytes(&frame[..split]);
            assert_eq!(tracker.is_between_frames(), split == 0, "after {split} of {}", frame.len());
            tracker.on_bytes(&frame[split..]);
            assert!(tracker.is_between_frames());
            tracker.on_bytes(&frame[..1]);
            assert!(!tracker.is_between_frames());
        }
    }

    #[test]
    fn several_frames_come_at_once() {
        let bytes = [frame(3, true), frame(200, false), frame(0, true)].concat();
        let mut tracker = FrameTracker::default();
        tracker.on_bytes(&bytes);
        assert!(tracker.is_between_frames());
    }

    #[test]
    fn close_frames_are_whole_frames() {
        assert_eq!(close_frame(GOING_AWAY, None), [0x88, 2, 0x03, 0xe9]);
        let masked = close_frame(GOING_AWAY, Some([1, 2, 3, 4]));
        assert_eq!(masked, [0x88, 0x82, 1, 2, 3, 4, 0x03 ^ 1, 0xe9 ^ 2]);
        let mut tracker = FrameTracker::default();
        tracker.on_bytes(&masked);
        assert!(tracker.is_between_frames());
    }
}
