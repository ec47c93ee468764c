//! `udp`: a datagram, and an answer when one is expected. A closed port is learned from ICMP either way.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Duration;

use merismos_core::config::document::SendExpect;
use merismos_core::health::ProbeStep;
use tokio::net::UdpSocket;

use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace, excerpt};

/// How long a refusal is waited for when no answer is expected.
const REFUSAL: Duration = Duration::from_millis(250);

pub(super) async fn ask(asking: &ProbeRun<'_>, exchange: &SendExpect, trace: &mut Trace) -> ProbeOutcome {
    let refused = |error: io::Error| match error.kind() {
        io::ErrorKind::ConnectionRefused => {
            ProbeFailure::refused("refused: the host answers, and nothing listens on that port".to_owned())
        }
        _ => ProbeFailure::at(ProbeStep::Connect, format!("the datagram could not be sent: {error}")),
    };
    trace.begin(ProbeStep::Answer, "sent, but no answer");
    let any = if asking.address.is_ipv4() {
        IpAddr::V4(Ipv4Addr::UNSPECIFIED)
    } else {
        IpAddr::V6(Ipv6Addr::UNSPECIFIED)
    };
    let from = asking.check.elsewhere.source_address.unwrap_or(any);
    let socket = UdpSocket::bind((from, 0)).await.map_err(refused)?;
    socket.connect(asking.address).await.map_err(refused)?;
    let text = exchange.send.as_deref().unwrap_or_default();
    socket.send(text.as_bytes()).await.map_err(refused)?;
    trace.done(ProbeStep::Connect, "sent");
    let mut answer = vec![0; 65_535];
    if !exchange.wants_answer() {
        let wait = REFUSAL.min(asking.limit() / 2);
        return match tokio::time::timeout(wait, socket.recv(&mut answer)).await {
            Ok(Err(error)) => Err(refused(error)),
            Ok(Ok(count)) => Ok(format!("answered {}", excerpt(&answer[..count]))),
            Err(_) => Ok("sent, and not refused".to_owned()),
        };
    }
    loop {
        let count = socket.recv(&mut answer).await.map_err(refused)?;
        if exchange.is_met(&answer[..count]) {
            return Ok(format!("answered {}", excerpt(&answer[..count])));
        }
        let not_it = format!("answered {}, and what is expected did not come", excerpt(&answer[..count]));
        trace.begin(ProbeStep::Body, not_it);
    }
}
