//! However the bytes of a message arrive, the same is read.

use proptest::prelude::*;
use proptest::sample::{Index, select};
use proptest::test_runner::RngSeed;

use super::body::{BodyTracker, content};
use super::head::{Framing, HeadScan};

/// The same cases in each run, so that a failure can be seen again.
fn config() -> ProptestConfig {
    ProptestConfig {
        cases: 512,
        rng_seed: RngSeed::Fixed(16),
        failure_persistence: None,
        ..ProptestConfig::default()
    }
}

/// Cuts bytes at these places.
fn pieces<'d>(data: &'d [u8], cuts: &[Index]) -> Vec<&'d [u8]> {
    let mut ends: Vec<usize> = cuts.iter().map(|cut| cut.index(data.len() + 1)).collect();
    ends.push(data.len());
    ends.sort_unstable();
    let mut begin = 0;
    ends.iter()
        .map(|end| {
            let piece = &data[begin..*end];
            begin = *end;
            piece
        })
        .collect()
}

fn cuts() -> impl Strategy<Value = Vec<Index>> {
    proptest::collection::vec(any::<Index>(), 0..12)
}

/// What heads are made of, right and wrong.
fn head() -> impl Strategy<Value = Vec<u8>> {
    let part = select(vec![
        "GET / HTTP/1.1\r\n",
        "Host: a\r\n",
        "X-Long: 0123456789abcdef\r\n",
        "A:\r\n",
        "\r\n",
        "\n",
        "\r",
        "x",
        ":",
        " ",
    ]);
    proptest::collection::vec(part, 0..12).prop_map(|parts| parts.concat().into_bytes())
}

/// A body in the chunked coding, with its content.
fn chunked() -> impl Strategy<Value = (Vec<u8>, Vec<u8>)> {
    let chunk = (proptest::collection::vec(any::<u8>(), 1..40), select(vec!["", ";a=b", " ; seal=\"yes\""]));
    let trailers = select(vec!["", "X-Sum: 11\r\n", "X-Sum: 11\r\nETag: \"b\"\r\n"]);
    (proptest::collection::vec(chunk, 0..6), trailers).prop_map(|(chunks, trailers)| {
        let (mut coded, mut plain) = (Vec::new(), Vec::new());
        for (bytes, extension) in chunks {
            coded.extend_from_slice(format!("{:x}{extension}\r\n", bytes.len()).as_bytes());
            coded.extend_from_slice(&bytes);
            coded.extend_from_slice(b"\r\n");
            plain.extend_from_slice(&bytes);
        }
        coded.extend_from_slice(format!("0\r\n{trailers}\r\n").as_bytes());
        (coded, plain)
    })
}

/// What is read of a body that arrives in these pieces, how many bytes of them it has, and whether it is whole.
fn decode(pieces: &[&[u8]]) -> Option<(Vec<u8>, usize, bool)> {
    let mut follow = BodyTracker::of_client(Framing::Chunked);
    let (mut plain, mut used) = (Vec::new(), 0);
    for piece in pieces {
        used += follow.pass(piece, content(&mut plain)).ok()?;
    }
    Some((plain, used, follow.is_done()))
}

/// What goes on of a body that arrives in these pieces.
fn pass_on(pieces: &[&[u8]]) -> Option<Vec<u8>> {
    let mut follow = BodyTracker::of_client(Framing::Chunked);
    let mut on = Vec::new();
    for piece in pieces {
        let mut clean = Vec::new();
        let passed = follow.forward(piece, &mut clean).ok()?;
        on.extend_from_slice(if passed.as_is { &piece[..passed.used] } else { &clean });
    }
    Some(on)
}

proptest! {
    #![proptest_config(config())]

    /// The end of a head is found at the same place, or the same is refused, however its bytes arrive; and it is
    /// where the first empty line is.
    #[test]
    fn the_end_of_a_head_is_where_it_is_however_it_arrives(head in head(), cuts in cuts()) {
        let whole = HeadScan::default().end(&head);
        let (mut scan, mut length, mut found) = (HeadScan::default(), 0, Ok(None));
        for piece in pieces(&head, &cuts) {
            length += piece.len();
            found = scan.end(&head[..length]);
            if !matches!(found, Ok(None)) {
                break;
            }
        }
        prop_assert_eq!(&found, &whole);
        // A head that is an empty line alone counts as one.
        let lines = head.split_inclusive(|byte| *byte == b'\n').take_while(|line| line.ends_with(b"\n"));
        let mut expected = Ok(None);
        let mut at = 0;
        for line in lines {
            at += line.len();
            if !line.ends_with(b"\r\n") {
                expected = Err(());
                break;
            }
            if line == b"\r\n" {
                expected = Ok(Some(at));
                break;
            }
        }
        prop_assert_eq!(whole.map_err(|_| ()), expected);
    }

    #[test]
    fn a_body_is_read_the_same_however_it_arrives((coded, plain) in chunked(), next in "[A-Z]{0,8}", cuts in cuts()) {
        let length = coded.len();
        let data = [coded, next.into_bytes()].concat();
        prop_assert_eq!(decode(&pieces(&data, &cuts)), Some((plain.clone(), length, true)));
        // What goes on is read as the same content, and holds no extension.
        let on = pass_on(&pieces(&data[..length], &cuts)).expect("a good body");
        prop_assert!(!on.windows(5).any(|window| window == b"seal="));
        prop_assert_eq!(decode(&[&on]), Some((plain, on.len(), true)));
    }

    /// One byte is changed: the body is read otherwise or refused, but the same however it arrives.
    #[test]
    fn a_spoilt_body_is_the_same_however_it_arrives(
        (coded, _) in chunked(), at in any::<Index>(), byte in any::<u8>(), cuts in cuts(),
    ) {
        let mut data = coded;
        let at = at.index(data.len());
        data[at] = byte;
        prop_assert_eq!(decode(&pieces(&data, &cuts)), decode(&[&data]));
        prop_assert_eq!(pass_on(&pieces(&data, &cuts)), pass_on(&[&data]));
    }
}
