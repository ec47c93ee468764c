//! Dynamic updates of a zone (RFC 2136), signed (TSIG, RFC 8945): a TXT record comes, and goes.

use std::io;
use std::net::SocketAddr;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hickory_proto::op::update_message::{append, delete_by_rdata};
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::rdata::TXT;
use hickory_proto::rr::rdata::tsig::TsigAlgorithm as WireAlgorithm;
use hickory_proto::rr::{Name, RData, Record, RecordSet, TSigner};
use merismos_core::config::document::TsigAlgorithm;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// How long a name server may take for an update.
const LIMIT: Duration = Duration::from_secs(10);
/// How long others may remember the record, in seconds.
const TIME_TO_LIVE: u32 = 30;
/// By how many seconds our clock and the name server's may differ (RFC 8945, 10).
const FUDGE: u16 = 300;

/// The zone that is updated, and by whom.
#[derive(Clone)]
pub(super) struct ZoneUpdates {
    server: SocketAddr,
    zone: Name,
    signer: Option<TSigner>,
}

/// Why a zone was not updated.
#[derive(Debug, thiserror::Error)]
pub(crate) enum DnsUpdateError {
    #[error("{0} is no name of the DNS")]
    Name(String),
    #[error("{name} is not in the zone {zone}: the authority's zone should be the one that holds it")]
    OtherZone { name: String, zone: Name },
    #[error("the TSIG secret should be base64, as name servers keep it: {0}")]
    Secret(base64::DecodeError),
    #[error("the update can't be signed: {0}")]
    Signed(String),
    #[error("name server {server} does not do it: {source}")]
    Connection { server: SocketAddr, source: io::Error },
    #[error("name server {server} gives no answer within {}", merismos_core::units::humane(LIMIT))]
    Slow { server: SocketAddr },
    #[error("name server {server} refuses the update: {}", in_words(*code))]
    Refused { server: SocketAddr, code: ResponseCode },
    #[error("the answer of name server {server} makes no sense, or is not signed with the key: {why}")]
    Answer { server: SocketAddr, why: String },
}

fn in_words(code: ResponseCode) -> String {
    match code {
        ResponseCode::Refused => {
            "REFUSED: it does not let this key, or this address, change the zone".to_owned()
        }
        ResponseCode::NotAuth => {
            "NOTAUTH: it is not the primary of the zone, or does not know the key".to_owned()
        }
        ResponseCode::NotZone => "NOTZONE: the name is in no zone of its".to_owned(),
        other => other.to_string(),
    }
}

impl ZoneUpdates {
    /// `key` is the name of the key and the key in base64.
    pub(super) fn new(
        server: SocketAddr,
        zone: &str,
        key: Option<(&str, &str)>,
        algorithm: TsigAlgorithm,
    ) -> Result<Self, DnsUpdateError> {
        let signer = key.map(|(name, secret)| {
            let secret = STANDARD.decode(secret.trim()).map_err(DnsUpdateError::Secret)?;
            let algorithm = match algorithm {
                TsigAlgorithm::Sha256 => WireAlgorithm::HmacSha256,
                TsigAlgorithm::Sha384 => WireAlgorithm::HmacSha384,
                TsigAlgorithm::Sha512 => WireAlgorithm::HmacSha512,
            };
            TSigner::new(secret, algorithm, absolute(name)?, FUDGE)
                .map_err(|error| DnsUpdateError::Signed(error.to_string()))
        });
        Ok(Self { server, zone: absolute(zone)?, signer: signer.transpose()? })
    }

    /// Puts a TXT record beside those that the name has.
    pub(super) async fn add(&self, name: &str, text: &str) -> Result<(), DnsUpdateError> {
        self.send(append(self.record(name, text)?, self.zone.clone(), false, false)).await
    }

    /// Takes that record away, and no other.
    pub(super) async fn remove(&self, name: &str, text: &str) -> Result<(), DnsUpdateError> {
        self.send(delete_by_rdata(self.record(name, text)?, self.zone.clone(), false)).await
    }

    fn record(&self, name: &str, text: &str) -> Result<RecordSet, DnsUpdateError> {
        let owner = absolute(name)?;
        if !self.zone.zone_of(&owner) {
            return Err(DnsUpdateError::OtherZone { name: name.to_owned(), zone: self.zone.clone() });
        }
        let text = TXT::new(vec![text.to_owned()]);
        Ok(RecordSet::from(Record::from_rdata(owner, TIME_TO_LIVE, RData::TXT(text))))
    }

    async fn send(&self, message: Message) -> Result<(), DnsUpdateError> {
        let server = self.server;
        match tokio::time::timeout(LIMIT, self.exchange(message)).await {
            Ok(done) => done,
            Err(_) => Err(DnsUpdateError::Slow { server }),
        }
    }

    /// One message and its answer, over TCP (RFC 1035, 4.2.2).
    async fn exchange(&self, mut message: Message) -> Result<(), DnsUpdateError> {
        let server = self.server;
        let signed = |error: &dyn std::fmt::Display| DnsUpdateError::Signed(error.to_string());
        let broken = |source| DnsUpdateError::Connection { server, source };
        let wrong = |error: &dyn std::fmt::Display| DnsUpdateError::Answer { server, why: error.to_string() };
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
        let verifier = match &self.signer {
            Some(signer) => message.finalize(signer, now).map_err(|error| signed(&error))?,
            None => None,
        };
        let text = message.to_vec().map_err(|error| signed(&error))?;
        let mut stream = TcpStream::connect(server).await.map_err(broken)?;
        let length = u16::try_from(text.len()).map_err(|error| signed(&error))?;
        stream.write_all(&[&length.to_be_bytes()[..], &text].concat()).await.map_err(broken)?;
        let length = stream.read_u16().await.map_err(broken)?;
        let mut answer = vec![0; usize::from(length)];
        stream.read_exact(&mut answer).await.map_err(broken)?;
        let said = Message::from_vec(&answer).map_err(|error| wrong(&error))?;
        // A server that does not know the key signs nothing.
        if said.response_code != ResponseCode::NoError {
            return Err(DnsUpdateError::Refused { server, code: said.response_code });
        }
        if said.id != message.id {
            return Err(wrong(&"it is for another message"));
        }
        if let Some(mut verifier) = verifier {
            verifier.verify(&answer).map_err(|error| wrong(&error))?;
        }
        Ok(())
    }
}

fn absolute(name: &str) -> Result<Name, DnsUpdateError> {
    let mut parsed = Name::from_ascii(name).map_err(|_| DnsUpdateError::Name(name.to_owned()))?;
    parsed.set_fqdn(true);
    Ok(parsed)
}
