//! `tcp`: a connection, and perhaps a word and an answer on it. An open port alone does not prove a service.

use merismos_core::config::document::SendExpect;
use merismos_core::health::ProbeStep;
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace, excerpt};
use crate::tls;

/// How much of an answer is looked at.
const MOST: usize = 64 << 10;

pub(super) async fn ask(asking: &ProbeRun<'_>, exchange: &SendExpect, trace: &mut Trace) -> ProbeOutcome {
    let mut stream = tls::connect(asking, None, None, &[], trace).await?;
    if let Some(text) = &exchange.send {
        let sent = stream.write_all(text.as_bytes()).await;
        sent.map_err(|error| {
            ProbeFailure::at(ProbeStep::Answer, format!("connected, but nothing could be sent: {error}"))
        })?;
    }
    if !exchange.wants_answer() {
        return Ok("connected".to_owned());
    }
    trace.begin(ProbeStep::Answer, "connected, but no answer");
    let mut answer = Vec::new();
    loop {
        let read = (&mut stream).take((MOST - answer.len()) as u64).read_buf(&mut answer).await;
        let ended = match read {
            Ok(count) => count == 0,
            Err(error) => {
                return Err(ProbeFailure::at(
                    ProbeStep::Answer,
                    format!("connected, but the connection broke: {error}"),
                ));
            }
        };
        if exchange.is_met(&answer) {
            return Ok(format!("answered {}", excerpt(&answer)));
        }
        if ended && answer.is_empty() {
            return Err(ProbeFailure::at(
                ProbeStep::Answer,
                "connected, but closed without a word".to_owned(),
            ));
        }
        let not_it = format!("answered {}, and what is expected did not come", excerpt(&answer));
        if ended {
            return Err(ProbeFailure::at(ProbeStep::Body, not_it));
        }
        trace.begin(ProbeStep::Body, not_it);
    }
}
