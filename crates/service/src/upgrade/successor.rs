//! The service after this one, as the running one sees it.

use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::Duration;

use merismos_store::pin_files::PinFiles;
use serde_json::json;
use tokio::net::UnixListener;

use super::link::Link;
use super::{
    ANSWERS_WITHIN, FromPredecessor, FromSuccessor, HandedDescriptor, HandedState, PROTOCOL, REPORTED_EVERY,
    SERVES_WITHIN, UpgradeReport, socket_path,
};
use crate::controller::{Controller, HandedWork};
use crate::journal::Journal;
use crate::lock::FolderLock;
use crate::pin_keeper::{HeldPinFiles, PinKeeper};
use crate::state_file::StateFile;

/// The socket on which a successor may ask.
#[derive(Debug)]
pub(crate) struct UpgradeOffer(UnixListener);

/// What is handed over, and those that are to keep still meanwhile.
pub(crate) struct UpgradeParts<'a> {
    pub(crate) controller: &'a Controller,
    pub(crate) keeper: &'a StateFile,
    pub(crate) pins: &'a PinFiles,
    pub(crate) pin_keeper: &'a PinKeeper,
    pub(crate) journal: &'a Journal,
    pub(crate) lock: &'a FolderLock,
    /// The socket of the API and its address.
    pub(crate) api: (&'a OwnedFd, std::net::SocketAddr),
}

/// A successor that serves.
#[derive(Debug)]
pub(crate) struct Succession {
    link: Link,
    /// How long the work of clients may take to finish.
    pub(crate) within: Duration,
    /// What it knows.
    reported: UpgradeReport,
    /// The second from which on it knows of no pins.
    pins_since: u32,
    /// They are its own now.
    _pin_files: HeldPinFiles,
}

impl UpgradeOffer {
    /// Listens in a state folder.
    pub(crate) fn listen(folder: &Path) -> io::Result<Self> {
        let path = socket_path(folder);
        // The folder is ours: what is there was left behind, or is that of the service before, which needs it no more.
        match std::fs::remove_file(&path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            Ok(()) | Err(_) => {}
        }
        let listener = UnixListener::bind(&path)?;
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600))?;
        Ok(Self(listener))
    }

    /// Waits for a successor that serves. Those that ask and do not get so far change nothing.
    pub(crate) async fn succession(&self, parts: &UpgradeParts<'_>) -> Succession {
        loop {
            let link = match self.0.accept().await {
                Ok((stream, _)) => Link::new(stream),
                Err(error) => {
                    tracing::debug!(%error, "no successor can be taken");
                    tokio::time::sleep(ANSWERS_WITHIN).await;
                    continue;
                }
            };
            if !link.is_of_same_user().unwrap_or(false) {
                tracing::warn!("a process of another user wanted to take over, and got nothing");
                continue;
            }
            match hand_over(link, parts).await {
                Ok(succession) => return succession,
                Err(error) => {
                    parts.keeper.go_on();
                    parts.controller.go_on().await;
                    let says = format!(
                        "an upgrade came to nothing, and this service goes on as before: {}",
                        reason(&error)
                    );
                    parts.journal.here(says, json!({}));
                }
            }
        }
    }
}

/// Hands everything over, and waits until the successor serves.
async fn hand_over(mut link: Link, parts: &UpgradeParts<'_>) -> io::Result<Succession> {
    let (process, version) = match link.expect(ANSWERS_WITHIN).await? {
        FromSuccessor::Take { protocol: PROTOCOL, version, process } => (process, version),
        FromSuccessor::Take { protocol, .. } => {
            let says = format!("it speaks version {PROTOCOL} of the hand-over, and the new one {protocol}");
            let _ = link.send(&FromPredecessor::Refuses(says.clone())).await;
            return Err(io::Error::other(says));
        }
        FromSuccessor::Send | FromSuccessor::Serves { .. } | FromSuccessor::Do { .. } => {
            return Err(io::Error::other("it did not ask to take over"));
        }
    };
    parts.journal.here(
        format!("hands over to merismosd {version}, process {process}; nothing is changed until it serves"),
        json!({ "version": version, "process": process }),
    );
    // From here on nothing changes that the successor starts from.
    let pin_files = parts.pin_keeper.hold().await;
    parts.controller.begin_to_stop().await;
    parts.keeper.finish().await;
    let stopped = |_| io::Error::other("this service is about to stop");
    let HandedWork { work, totals, pins, pin_second } = parts.controller.work(None).await.map_err(stopped)?;
    let files = parts.pins.clone();
    let written = tokio::task::spawn_blocking(move || {
        pins.iter().try_for_each(|(scope, pins)| files.write(scope, pins))
    });
    // Without them clients may change servers, which is no reason to stay as it is.
    if let Err(error) = written.await.map_err(io::Error::other).flatten() {
        tracing::warn!(%error, "pins can't be handed over");
    }
    let mut kinds = vec![HandedDescriptor::Lock, HandedDescriptor::Api(parts.api.1)];
    let mut descriptors = vec![parts.lock.copy()?, parts.api.0.try_clone()?];
    for socket in parts.controller.sockets().await.map_err(stopped)? {
        let address = socket.endpoint.address;
        kinds.push(if socket.endpoint.udp {
            HandedDescriptor::Udp(address)
        } else {
            HandedDescriptor::Tcp(address)
        });
        descriptors.push(socket.descriptor);
    }
    let state = HandedState {
        protocol: PROTOCOL,
        version: env!("CARGO_PKG_VERSION").to_owned(),
        process: std::process::id(),
        descriptors: kinds,
        totals,
        work: work.clone(),
    };
    link.send(&FromPredecessor::Gives(Box::new(state))).await?;
    let FromSuccessor::Send = link.expect(ANSWERS_WITHIN).await? else {
        return Err(io::Error::other("it did not take the sockets"));
    };
    link.send_descriptors(&descriptors).await?;
    drop(descriptors);
    match link.expect(SERVES_WITHIN).await {
        Ok(FromSuccessor::Serves { within_ms }) => {
            let within = Duration::from_millis(within_ms);
            Ok(Succession { link, within, reported: work, pins_since: pin_second, _pin_files: pin_files })
        }
        Ok(_) => Err(io::Error::other("it said something else than that it serves")),
        Err(error) => {
            // It may have ended; where it has not, it must not go on.
            let _ = link.send(&FromPredecessor::GoesOn).await;
            Err(error)
        }
    }
}

/// Why an upgrade came to nothing, for people.
fn reason(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::UnexpectedEof => "the new process ended before it served".to_owned(),
        io::ErrorKind::TimedOut => format!("the new process did not serve within {SERVES_WITHIN:?}"),
        _ => error.to_string(),
    }
}

impl Succession {
    /// Reports to the successor, and does what it says, until the future is dropped or the successor has gone.
    pub(crate) async fn report(mut self, controller: &Controller) {
        let mut ticks = tokio::time::interval(REPORTED_EVERY);
        loop {
            tokio::select! {
                _ = ticks.tick() => {
                    if self.report_once(controller).await.is_err() {
                        break;
                    }
                }
                said = self.link.receive::<FromSuccessor>() => match said {
                    Ok(Some(FromSuccessor::Do { act, server })) => controller.work_act(act, server).await,
                    Ok(Some(_)) => {}
                    Ok(None) | Err(_) => break,
                },
            }
        }
        // Clients are served to the end all the same.
        tracing::warn!("the service after this one is gone");
        std::future::pending::<()>().await;
    }

    async fn report_once(&mut self, controller: &Controller) -> io::Result<()> {
        let now = controller.work(Some(self.pins_since)).await;
        let HandedWork { work, pins, pin_second, .. } =
            now.map_err(|_| io::Error::other("the controller has ended"))?;
        let mut changed = work.since(&self.reported);
        changed.pins = pins.iter().filter(|(_, pins)| !pins.is_empty()).map(HandedWork::written).collect();
        // Pins of this second may change again within it.
        (self.reported, self.pins_since) = (work, pin_second);
        if changed.is_empty() {
            return Ok(());
        }
        self.link.send(&FromPredecessor::Reports(Box::new(changed))).await
    }
}
