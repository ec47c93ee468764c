//! The service before this one, as its successor sees it.

use std::fs::File;
use std::io;
use std::path::Path;
use std::time::Duration;

use merismos_core::config::document::Endpoint;
use merismos_plane::HandedSocket;
use tokio::net::{TcpListener, UnixStream};
use tokio::sync::mpsc;

use super::link::Link;
use super::{
    ANSWERS_WITHIN, FromPredecessor, FromSuccessor, HandedDescriptor, HandedState, HandedTotals, PROTOCOL,
    UpgradeError, UpgradeReport, WorkAct, socket_path,
};

/// A service that has handed over what it had, and waits until this one serves.
#[derive(Debug)]
pub(crate) struct Predecessor {
    link: Link,
    pub(crate) state: HandedState,
    pub(crate) lock: Option<File>,
    pub(crate) api: Option<TcpListener>,
    pub(crate) sockets: Vec<HandedSocket>,
}

impl Predecessor {
    /// Asks the service that uses a state folder to hand over.
    pub(crate) async fn take_over(folder: &Path, api: std::net::SocketAddr) -> Result<Self, UpgradeError> {
        let path = socket_path(folder);
        let stream = UnixStream::connect(&path).await;
        let stream = stream.map_err(|source| UpgradeError::Unreachable { path, source })?;
        let mut link = Link::new(stream);
        let version = env!("CARGO_PKG_VERSION").to_owned();
        let take = FromSuccessor::Take { protocol: PROTOCOL, version, process: std::process::id() };
        link.send(&take).await.map_err(UpgradeError::Broken)?;
        // It writes its state down first.
        let mut state =
            match link.expect(ANSWERS_WITHIN + ANSWERS_WITHIN).await.map_err(UpgradeError::Broken)? {
                FromPredecessor::Gives(state) if state.protocol == PROTOCOL => *state,
                FromPredecessor::Gives(state) => {
                    let says = format!(
                        "it speaks version {} of the hand-over, and this one {PROTOCOL}",
                        state.protocol
                    );
                    return Err(UpgradeError::Refused(says));
                }
                FromPredecessor::Refuses(why) => return Err(UpgradeError::Refused(why)),
                FromPredecessor::GoesOn | FromPredecessor::Reports(_) => return Err(UpgradeError::GivenUp),
            };
        link.send(&FromSuccessor::Send).await.map_err(UpgradeError::Broken)?;
        let kinds = std::mem::take(&mut state.descriptors);
        let received = link.receive_descriptors(kinds.len()).await.map_err(UpgradeError::Broken)?;
        let (mut lock, mut listener, mut sockets) = (None, None, Vec::new());
        for (kind, descriptor) in kinds.into_iter().zip(received) {
            let listening =
                |address, udp, descriptor| HandedSocket { endpoint: Endpoint { udp, address }, descriptor };
            match kind {
                HandedDescriptor::Tcp(address) => sockets.push(listening(address, false, descriptor)),
                HandedDescriptor::Udp(address) => sockets.push(listening(address, true, descriptor)),
                HandedDescriptor::Lock => lock = Some(File::from(descriptor)),
                // Where this one is to listen elsewhere, the first one's address ends with it.
                HandedDescriptor::Api(address) if address == api => {
                    let socket = std::net::TcpListener::from(descriptor);
                    listener = Some(TcpListener::from_std(socket).map_err(UpgradeError::Broken)?);
                }
                HandedDescriptor::Api(_) => {}
            }
        }
        if lock.is_none() {
            return Err(UpgradeError::Refused("it gave no lock of the state folder".to_owned()));
        }
        Ok(Self { link, state, lock, api: listener, sockets })
    }

    /// Whether it still waits. One that has ended meanwhile is no obstacle: everything is here.
    pub(crate) async fn still_waits(&mut self) -> Result<(), UpgradeError> {
        let said = tokio::time::timeout(Duration::ZERO, self.link.receive::<FromPredecessor>()).await;
        match said {
            Ok(Ok(Some(_))) => Err(UpgradeError::GivenUp),
            Ok(Ok(None) | Err(_)) | Err(_) => Ok(()),
        }
    }

    /// Says that this service serves: the first one stops accepting, and may take so long to finish its clients' work. What it
    /// reports of that comes out of the first channel; what goes into the second is done there.
    pub(crate) async fn say_serving(mut self, within: Duration) -> (Following, HandedTotals, UpgradeReport) {
        let (report, reports) = mpsc::channel(16);
        let (acts, wanted) = mpsc::unbounded_channel();
        let within_ms = u64::try_from(within.as_millis()).unwrap_or(u64::MAX);
        match self.link.send(&FromSuccessor::Serves { within_ms }).await {
            Ok(()) => drop(tokio::spawn(follow(self.link, report, wanted))),
            Err(error) => tracing::warn!(%error, "the service before this one has ended already"),
        }
        (Following { reports, acts, process: self.state.process, within }, self.state.totals, self.state.work)
    }
}

/// The way from and to a service that finishes its clients' work.
#[derive(Debug)]
pub(crate) struct Following {
    /// Ends with the service.
    pub(crate) reports: mpsc::Receiver<UpgradeReport>,
    /// What is to be done to the work at a server, by its `pool/server address`.
    pub(crate) acts: mpsc::UnboundedSender<(WorkAct, String)>,
    pub(crate) process: u32,
    /// How long it may take.
    pub(crate) within: Duration,
}

async fn follow(
    mut link: Link,
    report: mpsc::Sender<UpgradeReport>,
    mut wanted: mpsc::UnboundedReceiver<(WorkAct, String)>,
) {
    loop {
        tokio::select! {
            said = link.receive::<FromPredecessor>() => match said {
                Ok(Some(FromPredecessor::Reports(said))) => {
                    if report.send(*said).await.is_err() {
                        return;
                    }
                }
                Ok(Some(_)) => {}
                Ok(None) => return,
                Err(error) => {
                    tracing::warn!(%error, "the service before this one can't be understood any more");
                    return;
                }
            },
            Some((act, server)) = wanted.recv() => {
                // One that has ended has nothing open.
                let _: io::Result<()> = link.send(&FromSuccessor::Do { act, server }).await;
            }
        }
    }
}
