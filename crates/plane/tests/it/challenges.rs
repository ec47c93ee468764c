//! What authorities of certificates are answered, before anything else is done with their requests.

use std::collections::BTreeMap;

use merismos_plane::challenges::ChallengeAnswers;
use rstest::rstest;

use crate::http2;
use crate::rig::{Rig, Server};

fn with_token(rig: &Rig) {
    let by_token = BTreeMap::from([("tern".to_owned(), "tern.print".to_owned())]);
    rig.plane.challenges().set(ChallengeAnswers { by_token, ..ChallengeAnswers::default() });
}

#[rstest]
#[case::to_the_pool("", "gull", 0)]
#[case::elsewhere("redirect_to_https = 443", "308", 4)]
fn a_token_is_answered_by_ourselves_and_everything_else_goes_on(
    #[case] keys: &str,
    #[case] other: &str,
    #[case] redirected: u64,
) {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", keys);
    let mut client = rig.client();
    let mut is_other = |path: &str| {
        let answer = client.get(path);
        let first = answer.text();
        let is_so = first.starts_with(other) || answer.status.to_string() == other;
        assert!(is_so, "{path}: {} {first}", answer.status);
    };
    // While nothing is ordered, a server may have an authority of its own.
    is_other("/.well-known/acme-challenge/tern");
    with_token(&rig);
    is_other("/.well-known/acme-challenge/auk");
    is_other("/");
    let answer = client.get("/.well-known/acme-challenge/tern");
    assert_eq!((answer.status, answer.text().as_str()), (200, "tern.print"));
    // The connection goes on, and a HEAD gets no body.
    client.send("HEAD /.well-known/acme-challenge/tern HTTP/1.1\r\nHost: a.example\r\n\r\n");
    let head = client.head().unwrap();
    assert!(head.starts_with("HTTP/1.1 200 OK") && head.contains("Content-Length: 10"), "{head}");
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        let answer = http2::ask(&requests, http2::get("/.well-known/acme-challenge/tern")).await.unwrap();
        assert_eq!((answer.status, answer.text().as_str()), (200, "tern.print"));
    });
    rig.plane.challenges().set(ChallengeAnswers::default());
    let answer = client.get("/.well-known/acme-challenge/tern");
    assert_ne!(answer.text(), "tern.print");
    let counts = rig.frontend_counts();
    assert_eq!((counts.challenges, counts.redirected, counts.requests), (3, redirected, 7));
}
