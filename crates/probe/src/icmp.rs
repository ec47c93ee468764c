//! `icmp`: an echo (RFC 792, RFC 4443). A host that answers may still have nothing that works.

use std::net::IpAddr;

use merismos_core::health::ProbeStep;
use merismos_core::units::humane;
use surge_ping::{Client, Config, ICMP, PingIdentifier, PingSequence, SurgeError};

use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace};

pub(super) async fn ask(asking: &ProbeRun<'_>, trace: &mut Trace) -> ProbeOutcome {
    let failed = |what: String| ProbeFailure::at(ProbeStep::Connect, what);
    trace.begin(ProbeStep::Connect, "no echo (the host is away, or a filter drops it)");
    let address = asking.address.ip();
    let mut config = Config::builder();
    config = match address {
        IpAddr::V4(_) => config.kind(ICMP::V4),
        IpAddr::V6(_) => config.kind(ICMP::V6),
    };
    if let Some(source) = asking.check.elsewhere.source_address {
        config = config.bind((source, 0).into());
    }
    let client = Client::new(&config.build())
        .map_err(|error| failed(format!("this service may send no echo (it needs CAP_NET_RAW): {error}")))?;
    let mut pinger = client.pinger(address, PingIdentifier(rand::random())).await;
    pinger.timeout(asking.limit());
    match pinger.ping(PingSequence(0), &[0; 56]).await {
        Ok((_, took)) => Ok(format!("echo after {}", humane(took))),
        Err(SurgeError::Timeout { .. }) => {
            let got =
                format!("no echo (the host is away, or a filter drops it) within {}", humane(asking.limit()));
            Err(ProbeFailure::silent(ProbeStep::Connect, got))
        }
        Err(error) => Err(failed(format!("no echo: {error}"))),
    }
}
