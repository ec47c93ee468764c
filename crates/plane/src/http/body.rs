//! Where a body ends: counted bytes, chunks, or the end of the connection.

use super::head::Framing;

/// The longest line of a chunked body: a size with its extensions, or a trailer field.
const LONGEST_LINE: usize = 4 << 10;
/// The most bytes of trailer fields.
const LONGEST_TRAILERS: usize = 16 << 10;

/// A chunked body that breaks the rules (RFC 9112, 7.1).
#[derive(Debug, PartialEq, Eq)]
pub(super) struct BrokenChunks;

/// What bytes of a body are, beside the framing between them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Part<'b> {
    Content(&'b [u8]),
    /// Of the trailer fields, their lines' ends and the empty line included.
    Trailers(&'b [u8]),
}

/// Collects the content of a body.
pub(super) fn content(into: &mut Vec<u8>) -> impl FnMut(Part<'_>) {
    |part| {
        if let Part::Content(bytes) = part {
            into.extend_from_slice(bytes);
        }
    }
}

/// Follows a body as its bytes pass by.
#[derive(Debug)]
pub(super) enum Follow {
    /// Everything has passed.
    Done,
    /// So many bytes are still to come.
    Counted(u64),
    /// Chunks are still to come.
    Chunked(Chunks),
    /// Everything until the connection closes.
    UntilClose,
}

impl Follow {
    pub(super) fn new(framing: Framing) -> Self {
        match framing {
            Framing::None | Framing::Length(0) => Self::Done,
            Framing::Length(length) => Self::Counted(length),
            Framing::Chunked => Self::Chunked(Chunks::default()),
            Framing::UntilClose => Self::UntilClose,
        }
    }

    pub(super) fn is_done(&self) -> bool {
        matches!(self, Self::Done)
    }

    /// Follows the next bytes: how many of them belong to the body. `tell` is told what they are, for those that do
    /// not understand the chunked coding.
    pub(super) fn pass(
        &mut self,
        data: &[u8],
        mut tell: impl FnMut(Part<'_>),
    ) -> Result<usize, BrokenChunks> {
        let used = match self {
            Self::Done => 0,
            Self::UntilClose => data.len(),
            Self::Counted(left) => {
                let used = data.len().min(usize::try_from(*left).unwrap_or(usize::MAX));
                *left -= used as u64;
                if *left == 0 {
                    *self = Self::Done;
                }
                used
            }
            Self::Chunked(chunks) => {
                let used = chunks.pass(data, &mut tell)?;
                if chunks.state == ChunkState::Done {
                    *self = Self::Done;
                }
                return Ok(used);
            }
        };
        tell(Part::Content(&data[..used]));
        Ok(used)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum ChunkState {
    /// In the size; `digits` were seen.
    Size {
        size: u64,
        digits: u8,
    },
    /// White space after the size: only an extension may follow.
    Gap {
        size: u64,
    },
    /// In the extensions, before the line's CR.
    Extension {
        size: u64,
    },
    /// After the size line's CR.
    SizeEnd {
        size: u64,
    },
    Data {
        left: u64,
    },
    DataCr,
    DataLf,
    /// At the start of a trailer line, or of the line that ends the body.
    TrailerStart,
    Trailer,
    TrailerLf,
    LastLf,
    Done,
}

/// A reader of the chunked coding that keeps nothing but its place.
#[derive(Debug)]
pub(super) struct Chunks {
    state: ChunkState,
    line: usize,
    trailers: usize,
}

impl Default for Chunks {
    fn default() -> Self {
        Self { state: ChunkState::Size { size: 0, digits: 0 }, line: 0, trailers: 0 }
    }
}

impl Chunks {
    fn pass(&mut self, data: &[u8], tell: &mut impl FnMut(Part<'_>)) -> Result<usize, BrokenChunks> {
        let mut at = 0;
        while at < data.len() && self.state != ChunkState::Done {
            if let ChunkState::Data { left } = &mut self.state {
                let used = (data.len() - at).min(usize::try_from(*left).unwrap_or(usize::MAX));
                tell(Part::Content(&data[at..at + used]));
                at += used;
                *left -= used as u64;
                if *left == 0 {
                    self.state = ChunkState::DataCr;
                }
                continue;
            }
            let is_trailer = matches!(
                self.state,
                ChunkState::TrailerStart | ChunkState::Trailer | ChunkState::TrailerLf | ChunkState::LastLf
            );
            self.state = self.step(data[at])?;
            if is_trailer {
                tell(Part::Trailers(&data[at..=at]));
            }
            at += 1;
        }
        Ok(at)
    }

    /// One byte of what is not content.
    fn step(&mut self, byte: u8) -> Result<ChunkState, BrokenChunks> {
        use ChunkState as S;
        self.line = if byte == b'\n' { 0 } else { self.line + 1 };
        if self.line > LONGEST_LINE || self.trailers > LONGEST_TRAILERS {
            return Err(BrokenChunks);
        }
        Ok(match (self.state, byte) {
            (S::Size { size, digits }, b'0'..=b'9' | b'a'..=b'f' | b'A'..=b'F') => {
                let digit = (byte as char).to_digit(16).map_or(0, u64::from);
                // 15 digits are 2^60: more than any body, and no overflow.
                if digits == 15 {
                    return Err(BrokenChunks);
                }
                S::Size { size: size << 4 | digit, digits: digits + 1 }
            }
            (S::Size { digits: 0, .. }, _) => return Err(BrokenChunks),
            (S::Size { size, .. }, b'\r') | (S::Extension { size }, b'\r') => S::SizeEnd { size },
            (S::Size { size, .. } | S::Gap { size }, b';') => S::Extension { size },
            (S::Size { size, .. } | S::Gap { size }, b' ' | b'\t') => S::Gap { size },
            (S::Extension { size }, b'\t' | 0x20..=0x7e | 0x80..) => S::Extension { size },
            (S::SizeEnd { size: 0 }, b'\n') => S::TrailerStart,
            (S::SizeEnd { size }, b'\n') => S::Data { left: size },
            (S::DataCr, b'\r') => S::DataLf,
            (S::DataLf, b'\n') => S::Size { size: 0, digits: 0 },
            (S::TrailerStart, b'\r') => S::LastLf,
            (S::LastLf, b'\n') => S::Done,
            (S::Trailer, b'\r') => S::TrailerLf,
            (S::TrailerLf, b'\n') => S::TrailerStart,
            (S::TrailerStart, 0x21..=0x7e) | (S::Trailer, b'\t' | 0x20..=0x7e | 0x80..) => {
                self.trailers += 1;
                S::Trailer
            }
            (
                S::Size { .. }
                | S::Gap { .. }
                | S::Extension { .. }
                | S::SizeEnd { .. }
                | S::Data { .. }
                | S::DataCr
                | S::DataLf
                | S::TrailerStart
                | S::Trailer
                | S::TrailerLf
                | S::LastLf
                | S::Done,
                _,
            ) => return Err(BrokenChunks),
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn decode(pieces: &[&[u8]]) -> Result<(Vec<u8>, usize, bool), BrokenChunks> {
        let mut follow = Follow::new(Framing::Chunked);
        let (mut whole, mut used) = (Vec::new(), 0);
        for piece in pieces {
            used += follow.pass(piece, content(&mut whole))?;
        }
        Ok((whole, used, follow.is_done()))
    }

    #[test]
    fn trailers_are_told_whole() {
        for size in 1..BODY.len() {
            let mut follow = Follow::new(Framing::Chunked);
            let mut trailers = Vec::new();
            for piece in BODY.chunks(size) {
                let tell = |part: Part<'_>| {
                    if let Part::Trailers(bytes) = part {
                        trailers.extend_from_slice(bytes);
                    }
                };
                follow.pass(piece, tell).unwrap();
            }
            assert_eq!(trailers, b"X-Sum: 11\r\n\r\n", "pieces of {size}");
        }
    }

    const BODY: &[u8] = b"5;a=b\r\nhello\r\n6\r\n world\r\n0\r\nX-Sum: 11\r\n\r\n";

    #[test]
    fn chunks_with_extension_and_trailer() {
        assert_eq!(decode(&[BODY]), Ok((b"hello world".to_vec(), BODY.len(), true)));
    }

    #[test]
    fn the_pieces_do_not_matter() {
        for size in 1..BODY.len() {
            let pieces: Vec<_> = BODY.chunks(size).collect();
            assert_eq!(decode(&pieces), Ok((b"hello world".to_vec(), BODY.len(), true)), "pieces of {size}");
        }
    }

    #[test]
    fn what_follows_is_left_alone() {
        let (content, used, done) = decode(&[b"1\r\nx\r\n0\r\n\r\nGET / HTTP/1.1"]).unwrap();
        assert_eq!((content.as_slice(), used, done), (&b"x"[..], 11, true));
    }

    #[rstest]
    #[case::no_digits(b"\r\n")]
    #[case::not_hex(b"g\r\n")]
    #[case::signed(b"+5\r\nhello\r\n")]
    #[case::prefix(b"0x5\r\nhello\r\n")]
    #[case::space_after_size(b"5 \r\nhello\r\n")]
    #[case::bare_line_feed(b"5\nhello\r\n")]
    #[case::bare_carriage_return(b"5\rhello\r\n")]
    #[case::longer_than_it_says(b"3\r\nhello\r\n")]
    #[case::overflow(b"fffffffffffffffff\r\n")]
    #[case::bare_line_feed_at_the_end(b"0\r\n\n")]
    #[case::control_in_extension(b"5;a=\x00\r\n")]
    #[case::space_before_trailer(b"0\r\n X: y\r\n\r\n")]
    fn broken(#[case] body: &[u8]) {
        assert_eq!(decode(&[body]), Err(BrokenChunks));
    }

    #[test]
    fn endless_lines_and_trailers_are_broken() {
        assert_eq!(decode(&[b"5;", &vec![b'a'; LONGEST_LINE + 1]]), Err(BrokenChunks));
        let trailers = b"X: y\r\n".repeat(LONGEST_TRAILERS / 3);
        assert_eq!(decode(&[b"0\r\n", &trailers]), Err(BrokenChunks));
    }

    #[test]
    fn counted_bytes() {
        let mut follow = Follow::new(Framing::Length(5));
        assert_eq!(follow.pass(b"abc", |_| {}), Ok(3));
        assert_eq!(follow.pass(b"defg", |_| {}), Ok(2));
        assert!(follow.is_done());
    }
}
