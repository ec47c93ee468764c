//! `grpc`: the standard health service, `grpc.health.v1.Health/Check` (gRPC Health Checking Protocol).

use bytes::{Buf, BufMut, Bytes, BytesMut};
use http::{HeaderMap, Request};
use merismos_core::config::document::GrpcProbe;
use merismos_core::health::ProbeStep;
use prost::Message;

use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace};
use crate::tls;

#[derive(Clone, PartialEq, Message)]
struct HealthRequest {
    #[prost(string, tag = "1")]
    service: String,
}

#[derive(Clone, PartialEq, Message)]
struct HealthResponse {
    #[prost(int32, tag = "1")]
    status: i32,
}

const SERVING: i32 = 1;
/// How much of an answer is looked at.
const MOST: usize = 64 << 10;

pub(super) async fn ask(asking: &ProbeRun<'_>, asked: &GrpcProbe, trace: &mut Trace) -> ProbeOutcome {
    let stream = tls::connect(asking, None, None, &[b"h2"], trace).await?;
    let scheme = if asking.is_tls(None) { "https" } else { "http" };
    trace.begin(ProbeStep::Answer, "connected, but no answer");
    let nonsense = |error: h2::Error| {
        ProbeFailure::at(ProbeStep::Answer, format!("connected, but it speaks no gRPC: {error}"))
    };
    let (requests, connection) = h2::client::handshake(stream).await.map_err(nonsense)?;
    let call = async {
        let mut requests = requests.ready().await.map_err(nonsense)?;
        let request = Request::post(format!("{scheme}://{}/grpc.health.v1.Health/Check", asking.address))
            .header("content-type", "application/grpc")
            .header("te", "trailers")
            .header("user-agent", "merismos-check")
            .body(())
            .expect("a request of constants and an address");
        let (answer, mut body) = requests.send_request(request, false).map_err(nonsense)?;
        body.send_data(framed(&HealthRequest { service: asked.service.clone() }), true).map_err(nonsense)?;
        let (head, mut stream) = answer.await.map_err(nonsense)?.into_parts();
        let mut message = BytesMut::new();
        while let Some(data) = stream.data().await {
            let data = data.map_err(nonsense)?;
            let _ = stream.flow_control().release_capacity(data.len());
            if message.len() + data.len() > MOST {
                return Err(ProbeFailure::at(
                    ProbeStep::Answer,
                    "the answer is too long for a health service".to_owned(),
                ));
            }
            message.extend_from_slice(&data);
        }
        let trailers = stream.trailers().await.map_err(nonsense)?;
        // An answer of trailers alone has them in its head.
        judge(&trailers.unwrap_or(head.headers), &message)
    };
    tokio::pin!(connection, call);
    tokio::select! {
        biased;
        judged = &mut call => judged,
        _ = &mut connection => call.await,
    }
}

/// A message as it stands in a body: not compressed, its length, itself.
fn framed(message: &HealthRequest) -> Bytes {
    let mut frame = BytesMut::new();
    frame.put_u8(0);
    frame.put_u32(u32::try_from(message.encoded_len()).unwrap_or(u32::MAX));
    frame.extend_from_slice(&message.encode_to_vec());
    frame.freeze()
}

fn judge(trailers: &HeaderMap, message: &[u8]) -> ProbeOutcome {
    let field = |name: &str| trailers.get(name).and_then(|value| value.to_str().ok());
    match field("grpc-status") {
        Some("0") => {}
        Some(code) => {
            let says = field("grpc-message").map(|says| format!(" ({says})")).unwrap_or_default();
            return Err(ProbeFailure::at(ProbeStep::Status, format!("gRPC status {code}{says}")));
        }
        None => return Err(ProbeFailure::at(ProbeStep::Answer, "the answer has no gRPC status".to_owned())),
    }
    let wrong =
        || ProbeFailure::at(ProbeStep::Answer, "the answer is no message of the health service".to_owned());
    let mut rest = message;
    if rest.len() < 5 || rest.get_u8() != 0 {
        return Err(wrong());
    }
    let length = rest.get_u32() as usize;
    let message = HealthResponse::decode(rest.get(..length).ok_or_else(wrong)?).map_err(|_| wrong())?;
    match message.status {
        SERVING => Ok("SERVING".to_owned()),
        2 => Err(ProbeFailure::at(ProbeStep::Status, "NOT_SERVING".to_owned())),
        3 => Err(ProbeFailure::at(ProbeStep::Status, "SERVICE_UNKNOWN".to_owned())),
        _ => Err(ProbeFailure::at(ProbeStep::Status, "UNKNOWN".to_owned())),
    }
}
