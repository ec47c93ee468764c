//! See [`crate::fuzzing`].

use merismos_core::routing::DroppedFields;

use super::body::{self, BodyTracker};
use super::forwarded::{ClientFields, ClientProtocol};
use super::head::{self, ExtraFields, Framing, HeadScan, RequestOrigin};
use crate::accept::ConnectionAddrs;

fn pass(bytes: &[u8]) -> Option<(head::Request, Vec<u8>)> {
    let length = HeadScan::default().end(bytes).ok()??;
    let client =
        ClientFields::new(&ConnectionAddrs::plain(([192, 0, 2, 7], 4711).into()), ClientProtocol::One);
    let trusted = ["192.0.2.0/24".parse().expect("a network")];
    let (mut out, dropped) = (Vec::new(), DroppedFields::default());
    let origin = RequestOrigin { client: &client, trusted: &trusted, dropped: &dropped, id: [1, 2] };
    let request = head::request(&bytes[..length], origin, 100, &mut out).ok()?;
    assert_eq!(request.length, length, "both ways of finding its end agree");
    Some((request, out))
}

pub(crate) fn request_head(data: &[u8]) {
    let Some((request, out)) = pass(data) else { return };
    let whole = HeadScan::default().end(&out).expect("no bare line feed is written");
    assert_eq!(whole, Some(out.len()), "one head and nothing behind it");
    // A head near the limit of fields may have too many once ours are added.
    if let Some((again, _)) = pass(&out) {
        assert_eq!((again.framing, again.is_head), (request.framing, request.is_head));
        assert_eq!((again.is_http_10, again.upgrade), (false, request.upgrade));
    }
}

pub(crate) fn chunked_body(data: &[u8]) {
    let Some((size, data)) = data.split_first() else { return };
    let decode = |pieces: &mut dyn Iterator<Item = &[u8]>| {
        let mut follow = BodyTracker::new(Framing::Chunked);
        let (mut whole, mut used) = (Vec::new(), 0);
        for piece in pieces {
            used += follow.pass(piece, body::content(&mut whole)).ok()?;
        }
        Some((whole, used, follow.is_done()))
    };
    let whole = decode(&mut std::iter::once(data));
    let pieces = decode(&mut data.chunks(usize::from(*size).max(1)));
    assert_eq!(whole, pieces);
}

pub(crate) fn response_head(data: &[u8]) {
    let Ok(Some(answer)) = head::server_response(data, false) else { return };
    assert!(answer.length <= data.len());
    let written = |unchunk: bool| {
        let mut out = Vec::new();
        head::write_response(&data[..answer.length], unchunk, ExtraFields::default(), &mut out);
        let again = head::response(&out, false).expect("what is written makes sense").expect("and is whole");
        assert_eq!((again.length, again.status), (out.len(), answer.status));
        again
    };
    assert_eq!(written(false).framing, answer.framing);
    if answer.framing == Framing::Chunked {
        assert_eq!(written(true).framing, Framing::UntilClose, "its coding is taken off");
    }
}
