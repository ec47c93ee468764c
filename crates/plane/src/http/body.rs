//! Where a body ends: counted bytes, chunks, or the end of the connection.

use super::head::Framing;

/// The longest line of a chunked body: a size with its extensions, or a trailer field.
const LONGEST_LINE: usize = 4 << 10;
/// The most bytes of extensions of all chunks of a client's body: they mean nothing to us, and cost as much as content
/// (RFC 9112, 7.1.1).
const LONGEST_EXTENSIONS: usize = 16 << 10;
/// The most bytes of trailer fields.
const LONGEST_TRAILERS: usize = 16 << 10;
/// The most trailer fields of a client's body.
pub(super) const MOST_TRAILERS: usize = 64;

/// A chunked body that breaks the rules (RFC 9112, 7.1).
#[derive(Debug, PartialEq, Eq)]
pub(super) struct InvalidChunk;

/// What bytes of a body are, beside the framing between them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum BodyPart<'b> {
    Content(&'b [u8]),
    /// Of the trailer fields, their lines' ends and the empty line included.
    Trailers(&'b [u8]),
}

/// Collects the content of a body.
pub(super) fn content(into: &mut Vec<u8>) -> impl FnMut(BodyPart<'_>) {
    |part| {
        if let BodyPart::Content(bytes) = part {
            into.extend_from_slice(bytes);
        }
    }
}

/// What becomes of bytes that belong to a body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Consumed {
    /// How many of them do.
    pub(super) used: usize,
    /// They go on as they are; otherwise what goes on was written elsewhere.
    pub(super) as_is: bool,
}

/// Follows a body as its bytes pass by.
#[derive(Clone, Debug)]
pub(super) enum BodyTracker {
    /// The whole body has passed.
    Done,
    /// So many bytes are still to come.
    Counted(u64),
    /// Chunks are still to come.
    Chunked(ChunkDecoder),
    /// Everything until the connection closes.
    UntilClose,
}

impl BodyTracker {
    pub(super) fn new(framing: Framing) -> Self {
        match framing {
            Framing::None | Framing::Length(0) => Self::Done,
            Framing::Length(length) => Self::Counted(length),
            Framing::Chunked => Self::Chunked(ChunkDecoder::default()),
            Framing::UntilClose => Self::UntilClose,
        }
    }

    /// As [`Self::new`], of what a client sends: it may not say behind the body what its server would have to believe.
    pub(super) fn of_client(framing: Framing) -> Self {
        match Self::new(framing) {
            Self::Chunked(chunks) => Self::Chunked(ChunkDecoder { is_wary: true, ..chunks }),
            other => other,
        }
    }

    pub(super) fn is_done(&self) -> bool {
        matches!(self, Self::Done)
    }

    /// Follows the next bytes: how many of them belong to the body. `tell` is called with what they are, for those that do
    /// not understand the chunked coding.
    pub(super) fn pass(
        &mut self,
        data: &[u8],
        mut tell: impl FnMut(BodyPart<'_>),
    ) -> Result<usize, InvalidChunk> {
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
        tell(BodyPart::Content(&data[..used]));
        Ok(used)
    }

    /// As [`Self::pass`], for callers that pass the bytes on: the extensions of chunks do not go on, for two readers may see
    /// different ends of them, and neither do trailer fields of a server that would delimit or direct. Where there are such,
    /// what goes on is appended to `out`.
    pub(super) fn forward(&mut self, data: &[u8], out: &mut Vec<u8>) -> Result<Consumed, InvalidChunk> {
        let Self::Chunked(chunks) = self else {
            return Ok(Consumed { used: self.pass(data, |_| {})?, as_is: true });
        };
        let (before, at) = (chunks.clone(), out.len());
        let used = chunks.pass(data, &mut |_| {})?;
        let as_is = !chunks.met_more && before.held.is_empty() && !before.drops_field;
        if !as_is {
            *chunks = before;
            chunks.pass_clean(&data[..used], out)?;
            chunks.met_more = false;
        }
        if chunks.state == ChunkState::Done {
            *self = Self::Done;
        }
        debug_assert!(!as_is || out.len() == at, "nothing was written");
        Ok(Consumed { used, as_is })
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
    /// In a trailer's name.
    TrailerName(TrailerNameMatch),
    Trailer,
    TrailerLf,
    LastLf,
    Done,
}

/// Fields that have no place behind a body: they delimit, direct, or say who the client is (RFC 9110, 6.5.1),
/// and a peer that joins trailers with the head would believe them.
const NO_TRAILERS: [&[u8]; 15] = [
    b"content-length",
    b"transfer-encoding",
    b"host",
    b"connection",
    b"keep-alive",
    b"proxy-connection",
    b"te",
    b"trailer",
    b"upgrade",
    b"via",
    b"forwarded",
    b"x-forwarded-for",
    b"x-forwarded-host",
    b"x-forwarded-proto",
    b"x-request-id",
];

/// A trailer's name while its bytes come one by one: which of [`NO_TRAILERS`] begin with what has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct TrailerNameMatch {
    /// One bit for each of the forbidden names.
    candidates: u16,
    /// How many bytes have come; what is longer than every forbidden name is not counted further.
    length: u8,
}

impl TrailerNameMatch {
    const NEW: Self = Self { candidates: (1 << NO_TRAILERS.len()) - 1, length: 0 };

    /// Takes in the next byte. An underscore counts as a hyphen: servers that make variables of fields (RFC 3875, 4.1.18) take
    /// them for the same.
    fn with(self, byte: u8) -> Self {
        let byte = if byte == b'_' { b'-' } else { byte.to_ascii_lowercase() };
        let still = |(number, name): (usize, &&[u8])| {
            let fits = name.get(usize::from(self.length)) == Some(&byte);
            u16::from(fits) << number
        };
        let fitting = NO_TRAILERS.iter().enumerate().map(still).fold(0, std::ops::BitOr::bitor);
        Self { candidates: self.candidates & fitting, length: self.length.saturating_add(1) }
    }

    /// Whether the name, which has come whole, is a forbidden one.
    fn is_forbidden(self) -> bool {
        let is_whole = |(number, name): (usize, &&[u8])| {
            self.candidates & (1 << number) != 0 && name.len() == usize::from(self.length)
        };
        NO_TRAILERS.iter().enumerate().any(is_whole)
    }
}

/// What names are made of (RFC 9110, 5.6.2).
const fn is_token(byte: u8) -> bool {
    byte.is_ascii_alphanumeric()
        || matches!(
            byte,
            b'!' | b'#'
                | b'$'
                | b'%'
                | b'&'
                | b'\''
                | b'*'
                | b'+'
                | b'-'
                | b'.'
                | b'^'
                | b'_'
                | b'`'
                | b'|'
                | b'~'
        )
}

/// A reader of the chunked coding that keeps nothing but its place.
#[derive(Clone, Debug)]
pub(super) struct ChunkDecoder {
    state: ChunkState,
    line: usize,
    trailers: usize,
    /// How many trailer fields have begun.
    trailer_fields: usize,
    extensions: usize,
    /// Not every field may stand behind the body.
    is_wary: bool,
    /// There were extensions, or trailer fields.
    met_more: bool,
    /// The beginning of a trailer field of which is not known yet whether it goes on.
    held: Vec<u8>,
    /// The trailer field that is passing by does not go on.
    drops_field: bool,
}

impl Default for ChunkDecoder {
    fn default() -> Self {
        Self {
            state: ChunkState::Size { size: 0, digits: 0 },
            line: 0,
            trailers: 0,
            trailer_fields: 0,
            extensions: 0,
            is_wary: false,
            met_more: false,
            held: Vec::new(),
            drops_field: false,
        }
    }
}

impl ChunkDecoder {
    fn pass(&mut self, data: &[u8], tell: &mut impl FnMut(BodyPart<'_>)) -> Result<usize, InvalidChunk> {
        let mut at = 0;
        while at < data.len() && self.state != ChunkState::Done {
            if let ChunkState::Data { left } = &mut self.state {
                let used = (data.len() - at).min(usize::try_from(*left).unwrap_or(usize::MAX));
                tell(BodyPart::Content(&data[at..at + used]));
                at += used;
                *left -= used as u64;
                if *left == 0 {
                    self.state = ChunkState::DataCr;
                }
                continue;
            }
            let is_trailer = matches!(
                self.state,
                ChunkState::TrailerStart
                    | ChunkState::TrailerName(_)
                    | ChunkState::Trailer
                    | ChunkState::TrailerLf
                    | ChunkState::LastLf
            );
            self.state = self.step(data[at])?;
            self.met_more |= matches!(
                self.state,
                ChunkState::Gap { .. } | ChunkState::Extension { .. } | ChunkState::TrailerName(_)
            ) || self.state == ChunkState::Trailer;
            if is_trailer {
                tell(BodyPart::Trailers(&data[at..=at]));
            }
            at += 1;
        }
        Ok(at)
    }

    /// As [`Self::pass`], and writes what goes on.
    #[cold]
    fn pass_clean(&mut self, data: &[u8], out: &mut Vec<u8>) -> Result<(), InvalidChunk> {
        use ChunkState as S;
        let mut at = 0;
        while at < data.len() && self.state != S::Done {
            if let S::Data { left } = &mut self.state {
                let used = (data.len() - at).min(usize::try_from(*left).unwrap_or(usize::MAX));
                out.extend_from_slice(&data[at..at + used]);
                at += used;
                *left -= used as u64;
                if *left == 0 {
                    self.state = S::DataCr;
                }
                continue;
            }
            let (before, byte) = (self.state, data[at]);
            self.state = self.step(byte)?;
            at += 1;
            match (before, self.state) {
                (_, S::Gap { .. } | S::Extension { .. }) => {}
                (S::TrailerStart | S::TrailerName(_), S::TrailerName(_)) => self.held.push(byte),
                (S::TrailerName(name), S::Trailer) => {
                    self.drops_field = name.is_forbidden();
                    if self.drops_field {
                        self.held.clear();
                    } else {
                        out.append(&mut self.held);
                        out.push(byte);
                    }
                }
                (S::Trailer | S::TrailerLf, S::Trailer | S::TrailerLf | S::TrailerStart) => {
                    if !self.drops_field {
                        out.push(byte);
                    }
                    self.drops_field &= self.state != S::TrailerStart;
                }
                _ => out.push(byte),
            }
        }
        Ok(())
    }

    /// One byte of what is not content.
    fn step(&mut self, byte: u8) -> Result<ChunkState, InvalidChunk> {
        use ChunkState as S;
        self.line = if byte == b'\n' { 0 } else { self.line + 1 };
        if self.line > LONGEST_LINE || self.trailers > LONGEST_TRAILERS {
            return Err(InvalidChunk);
        }
        Ok(match (self.state, byte) {
            (S::Size { size, digits }, b'0'..=b'9' | b'a'..=b'f' | b'A'..=b'F') => {
                let digit = (byte as char).to_digit(16).map_or(0, u64::from);
                // 15 digits are 2^60: more than any body, and no overflow.
                if digits == 15 {
                    return Err(InvalidChunk);
                }
                S::Size { size: size << 4 | digit, digits: digits + 1 }
            }
            (S::Size { digits: 0, .. }, _) => return Err(InvalidChunk),
            (S::Size { size, .. }, b'\r') | (S::Extension { size }, b'\r') => S::SizeEnd { size },
            (S::Size { size, .. } | S::Gap { size }, b';') => S::Extension { size },
            (S::Size { size, .. } | S::Gap { size }, b' ' | b'\t') => S::Gap { size },
            (S::Extension { size }, b'\t' | 0x20..=0x7e | 0x80..) => {
                self.extensions += 1;
                if self.is_wary && self.extensions > LONGEST_EXTENSIONS {
                    return Err(InvalidChunk);
                }
                S::Extension { size }
            }
            (S::SizeEnd { size: 0 }, b'\n') => S::TrailerStart,
            (S::SizeEnd { size }, b'\n') => S::Data { left: size },
            (S::DataCr, b'\r') => S::DataLf,
            (S::DataLf, b'\n') => S::Size { size: 0, digits: 0 },
            (S::TrailerStart, b'\r') => S::LastLf,
            (S::LastLf, b'\n') => S::Done,
            (S::Trailer, b'\r') => S::TrailerLf,
            (S::TrailerLf, b'\n') => S::TrailerStart,
            (S::TrailerStart, byte) if is_token(byte) => {
                self.trailers += 1;
                self.trailer_fields += 1;
                if self.is_wary && self.trailer_fields > MOST_TRAILERS {
                    return Err(InvalidChunk);
                }
                S::TrailerName(TrailerNameMatch::NEW.with(byte))
            }
            (S::TrailerName(name), byte) if is_token(byte) => {
                self.trailers += 1;
                S::TrailerName(name.with(byte))
            }
            (S::TrailerName(name), b':') if !self.is_wary || !name.is_forbidden() => {
                self.trailers += 1;
                S::Trailer
            }
            (S::Trailer, b'\t' | 0x20..=0x7e | 0x80..) => {
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
                | S::TrailerName(_)
                | S::Trailer
                | S::TrailerLf
                | S::LastLf
                | S::Done,
                _,
            ) => return Err(InvalidChunk),
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn decode(pieces: &[&[u8]]) -> Result<(Vec<u8>, usize, bool), InvalidChunk> {
        let mut follow = BodyTracker::of_client(Framing::Chunked);
        let (mut whole, mut used) = (Vec::new(), 0);
        for piece in pieces {
            used += follow.pass(piece, content(&mut whole))?;
        }
        Ok((whole, used, follow.is_done()))
    }

    #[rstest]
    #[case::too_short("hos", false)]
    #[case::whole("Host", true)]
    #[case::too_long("hosts", false)]
    #[case::disguised("X_Forwarded_For", true)]
    #[case::begins_like_two("te", true)]
    #[case::begins_like_another("transfer", false)]
    #[case::longest("Transfer-Encoding", true)]
    #[case::of_no_kin("digest", false)]
    fn forbidden_trailers_are_known_by_their_whole_names(#[case] name: &str, #[case] forbidden: bool) {
        let matched = name.bytes().fold(TrailerNameMatch::NEW, TrailerNameMatch::with);
        assert_eq!(matched.is_forbidden(), forbidden);
    }

    #[test]
    fn every_forbidden_trailer_is_found_and_no_name_that_is_one_byte_longer() {
        for name in NO_TRAILERS {
            let matched = name.iter().fold(TrailerNameMatch::NEW, |matched, byte| matched.with(*byte));
            assert!(matched.is_forbidden());
            assert!(!matched.with(b'x').is_forbidden());
        }
        let endless = (0..1_000).fold(TrailerNameMatch::NEW, |matched, _| matched.with(b'h'));
        assert!(!endless.is_forbidden());
    }

    #[test]
    fn trailers_are_told_whole() {
        for size in 1..BODY.len() {
            let mut follow = BodyTracker::new(Framing::Chunked);
            let mut trailers = Vec::new();
            for piece in BODY.chunks(size) {
                let tell = |part: BodyPart<'_>| {
                    if let BodyPart::Trailers(bytes) = part {
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
    #[case::space_in_trailer_name(b"0\r\nX Y: z\r\n\r\n")]
    #[case::trailer_without_colon(b"0\r\nX\r\n\r\n")]
    #[case::trailer_without_name(b"0\r\n: z\r\n\r\n")]
    #[case::trailer_that_delimits(b"0\r\ncontent-LENGTH: 5\r\n\r\n")]
    #[case::trailer_that_directs(b"0\r\nX-Sum: 1\r\nHost: b\r\n\r\n")]
    #[case::trailer_that_names_the_client(b"0\r\nX-Forwarded-For: 192.0.2.1\r\n\r\n")]
    #[case::the_same_in_disguise(b"0\r\nX_Forwarded_For: 192.0.2.1\r\n\r\n")]
    fn broken(#[case] body: &[u8]) {
        assert_eq!(decode(&[body]), Err(InvalidChunk));
    }

    #[test]
    fn servers_may_say_behind_a_body_what_they_like() {
        let body = b"0\r\nContent-Length: 5\r\n\r\n";
        let mut follow = BodyTracker::new(Framing::Chunked);
        assert_eq!((follow.pass(body, |_| {}), follow.is_done()), (Ok(body.len()), true));
        assert_eq!(
            BodyTracker::new(Framing::Chunked).pass(b"0\r\nX Y: z\r\n\r\n", |_| {}),
            Err(InvalidChunk)
        );
    }

    #[test]
    fn endless_lines_and_trailers_are_broken() {
        assert_eq!(decode(&[b"5;", &vec![b'a'; LONGEST_LINE + 1]]), Err(InvalidChunk));
        let trailers = b"X: y\r\n".repeat(LONGEST_TRAILERS / 3);
        assert_eq!(decode(&[b"0\r\n", &trailers]), Err(InvalidChunk));
        let extended = |count: usize| b"1;seal=true\r\nx\r\n".repeat(count);
        assert!(decode(&[&extended(LONGEST_EXTENSIONS / 9)]).is_ok());
        assert_eq!(decode(&[&extended(LONGEST_EXTENSIONS / 9 + 1)]), Err(InvalidChunk));
    }

    #[test]
    fn a_client_may_say_so_many_objects_behind_a_body_and_a_server_more() {
        let body = |count: usize| [b"0\r\n".as_slice(), &b"X: y\r\n".repeat(count), b"\r\n"].concat();
        assert!(decode(&[&body(MOST_TRAILERS)]).is_ok());
        assert_eq!(decode(&[&body(MOST_TRAILERS + 1)]), Err(InvalidChunk));
        assert!(BodyTracker::new(Framing::Chunked).pass(&body(MOST_TRAILERS + 1), |_| {}).is_ok());
    }

    fn passed_on(mut follow: BodyTracker, body: &[u8], size: usize) -> String {
        let mut on = Vec::new();
        for piece in body.chunks(size) {
            let mut clean = Vec::new();
            let passed = follow.forward(piece, &mut clean).unwrap();
            on.extend_from_slice(if passed.as_is { &piece[..passed.used] } else { &clean });
        }
        assert!(follow.is_done());
        String::from_utf8(on).unwrap()
    }

    #[rstest]
    #[case::nothing_to_drop("5\r\nhello\r\n0\r\n\r\n", "5\r\nhello\r\n0\r\n\r\n")]
    #[case::extensions(
        "5;a=\"b\r\nhello\r\n6 ; x\r\n world\r\n0;last\r\n\r\n",
        "5\r\nhello\r\n6\r\n world\r\n0\r\n\r\n"
    )]
    #[case::trailers_go_on("1\r\nx\r\n0\r\nX-Sum: 11\r\n\r\n", "1\r\nx\r\n0\r\nX-Sum: 11\r\n\r\n")]
    fn what_goes_on_of_a_body(#[case] body: &str, #[case] on: &str) {
        for size in 1..=body.len() {
            let follow = BodyTracker::of_client(Framing::Chunked);
            assert_eq!(passed_on(follow, body.as_bytes(), size), on, "pieces of {size}");
        }
    }

    #[test]
    fn what_a_server_says_behind_a_body_goes_on_without_what_would_delimit_or_direct() {
        let body = "1\r\nx\r\n0\r\nX-Sum: 1\r\nContent-Length: 5\r\nX_Forwarded_For: a\r\nETag: b\r\n\r\n";
        for size in 1..=body.len() {
            let on = passed_on(BodyTracker::new(Framing::Chunked), body.as_bytes(), size);
            assert_eq!(on, "1\r\nx\r\n0\r\nX-Sum: 1\r\nETag: b\r\n\r\n", "pieces of {size}");
        }
    }

    #[test]
    fn counted_bytes() {
        let mut follow = BodyTracker::new(Framing::Length(5));
        assert_eq!(follow.pass(b"abc", |_| {}), Ok(3));
        assert_eq!(follow.pass(b"defg", |_| {}), Ok(2));
        assert!(follow.is_done());
    }
}
