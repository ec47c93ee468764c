//! The controller: one task that owns the state. Others send it commands and subscribe to what it publishes.
//!
//! Nothing here waits for the database or the disk: commands change what is in memory and publish it, and those
//! who sent them see to the records.

mod rates;
mod state;
mod status;

use std::sync::Arc;
use std::time::Duration;

use merismos_api::{ExplainAnswer, Status, StreamMessage};
use merismos_core::config::Checked;
use merismos_core::config::diff::Change;
use merismos_core::config::impact::ShareMove;
use merismos_core::duty::{Order, Refusal};
use merismos_core::name::{Name, PoolServer};
use merismos_core::routing::Snapshot;
use merismos_plane::probe::Report;
use merismos_plane::witness::Sightings;
use merismos_plane::{BindError, Bound};
use merismos_store::Revision;
use merismos_store::copy::Copy;
use tokio::sync::{broadcast, mpsc, oneshot};

pub(crate) use state::{Start, State};

/// How often rates are sampled and watchers are told the status.
const SECOND: Duration = Duration::from_secs(1);

/// What the running configuration is compared with.
#[derive(Debug)]
pub(crate) struct Comparison {
    pub(crate) revision: u64,
    pub(crate) changes: Vec<Change>,
    pub(crate) moves: Vec<ShareMove>,
}

/// What a trial needs to know of its frontend.
#[derive(Debug)]
pub(crate) struct Ground {
    pub(crate) address: std::net::SocketAddr,
    pub(crate) pool: Name,
    pub(crate) sightings: Sightings,
    pub(crate) snapshot: Arc<Snapshot>,
    pub(crate) published: broadcast::Receiver<Arc<Snapshot>>,
}

/// Why an order was not followed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum DutyError {
    #[error("there is no server {0}; `merismos status` lists them")]
    Unknown(PoolServer),
    #[error(
        "{0}. Say that you mean it (even_if_last in the API, --even-if-last on the command line) to do it anyway"
    )]
    Refused(#[from] Refusal),
}

/// A name that leads nowhere.
#[derive(Debug, thiserror::Error)]
#[error("there is no frontend {0}; `merismos status` lists them")]
pub(crate) struct NoFrontend(pub(crate) Name);

/// What the controller is asked to do.
#[derive(Debug)]
enum Command {
    Compare {
        checked: Box<Checked>,
        reply: oneshot::Sender<Comparison>,
    },
    Bind {
        checked: Box<Checked>,
        reply: oneshot::Sender<Result<Vec<Bound>, BindError>>,
    },
    Run {
        revision: Revision,
        checked: Box<Checked>,
        bound: Vec<Bound>,
        reply: oneshot::Sender<()>,
    },
    Order {
        server: PoolServer,
        order: Order,
        even_if_last: bool,
        reply: oneshot::Sender<Result<u64, DutyError>>,
    },
    Status {
        reply: oneshot::Sender<Status>,
    },
    Export {
        reply: oneshot::Sender<Option<(Revision, Box<Checked>)>>,
    },
    Explain {
        frontend: Name,
        reply: oneshot::Sender<Result<ExplainAnswer, NoFrontend>>,
    },
    Watch {
        frontend: Name,
        capacity: usize,
        reply: oneshot::Sender<Result<Ground, NoFrontend>>,
    },
    Copy {
        reply: oneshot::Sender<Copy>,
    },
    Stop {
        grace: Duration,
        reply: oneshot::Sender<usize>,
    },
}

/// The way to the controller. It ends with the service, so an answer that never comes means that the service stops.
#[derive(Clone, Debug)]
pub(crate) struct Controller {
    commands: mpsc::Sender<Command>,
}

/// The service is stopping and takes no more commands.
#[derive(Debug, thiserror::Error)]
#[error("the service is stopping")]
pub(crate) struct Stopping;

impl Controller {
    /// Starts the controller with what is known, and with the channel on which probes report.
    pub(crate) fn start(state: State, reports: mpsc::Receiver<Report>) -> Self {
        let (commands, received) = mpsc::channel(64);
        tokio::spawn(serve(state, received, reports));
        Self { commands }
    }

    async fn ask<T>(&self, command: impl FnOnce(oneshot::Sender<T>) -> Command) -> Result<T, Stopping> {
        let (reply, answer) = oneshot::channel();
        self.commands.send(command(reply)).await.map_err(|_| Stopping)?;
        answer.await.map_err(|_| Stopping)
    }

    /// Compares a document with the running one.
    pub(crate) async fn compare(&self, checked: Checked) -> Result<Comparison, Stopping> {
        self.ask(|reply| Command::Compare { checked: Box::new(checked), reply }).await
    }

    /// Binds what a document listens on and the running one does not.
    pub(crate) async fn bind(&self, checked: Checked) -> Result<Result<Vec<Bound>, BindError>, Stopping> {
        self.ask(|reply| Command::Bind { checked: Box::new(checked), reply }).await
    }

    /// Runs a revision that was committed.
    pub(crate) async fn run(
        &self,
        revision: Revision,
        checked: Checked,
        bound: Vec<Bound>,
    ) -> Result<(), Stopping> {
        self.ask(|reply| Command::Run { revision, checked: Box::new(checked), bound, reply }).await
    }

    /// Gives a server a duty; answers with the number of requests in flight at it.
    pub(crate) async fn order(
        &self,
        server: PoolServer,
        order: Order,
        even_if_last: bool,
    ) -> Result<Result<u64, DutyError>, Stopping> {
        self.ask(|reply| Command::Order { server, order, even_if_last, reply }).await
    }

    /// The status.
    pub(crate) async fn status(&self) -> Result<Status, Stopping> {
        self.ask(|reply| Command::Status { reply }).await
    }

    /// The running revision and its document; `None` before the first.
    pub(crate) async fn export(&self) -> Result<Option<(Revision, Box<Checked>)>, Stopping> {
        self.ask(|reply| Command::Export { reply }).await
    }

    /// Which server the next request would go to.
    pub(crate) async fn explain(
        &self,
        frontend: Name,
    ) -> Result<Result<ExplainAnswer, NoFrontend>, Stopping> {
        self.ask(|reply| Command::Explain { frontend, reply }).await
    }

    /// Prepares a trial of a frontend.
    pub(crate) async fn watch(
        &self,
        frontend: Name,
        capacity: usize,
    ) -> Result<Result<Ground, NoFrontend>, Stopping> {
        self.ask(|reply| Command::Watch { frontend, capacity, reply }).await
    }

    /// What the copy file should hold now; its tokens are not the controller's to know.
    pub(crate) async fn copy(&self) -> Result<Copy, Stopping> {
        self.ask(|reply| Command::Copy { reply }).await
    }

    /// Stops traffic; gives the number of connections that were broken off at the end of the grace period.
    pub(crate) async fn stop(&self, grace: Duration) -> Result<usize, Stopping> {
        self.ask(|reply| Command::Stop { grace, reply }).await
    }
}

async fn serve(mut state: State, mut commands: mpsc::Receiver<Command>, mut reports: mpsc::Receiver<Report>) {
    let mut seconds = tokio::time::interval(SECOND);
    seconds.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            command = commands.recv() => match command {
                Some(Command::Stop { grace, reply }) => {
                    let left = state.stop(grace).await;
                    let _ = reply.send(left);
                    return;
                }
                Some(command) => obey(&mut state, command),
                None => return,
            },
            Some(report) = reports.recv() => {
                // Whatever waits is taken together, so that a rack going down costs one snapshot.
                let mut changed = state.on_report(report);
                while let Ok(report) = reports.try_recv() {
                    changed |= state.on_report(report);
                }
                if changed {
                    state.publish(Vec::new());
                    tell_status(&state);
                }
            }
            _ = seconds.tick() => {
                state.on_second();
                tell_status(&state);
            }
        }
    }
}

fn tell_status(state: &State) {
    if state.journal.is_watched() {
        state.journal.tell(StreamMessage::Status(Box::new(state.status())));
    }
}

/// Carries a command out. Whoever asked and went away meanwhile gets no answer; what was done stays done.
fn obey(state: &mut State, command: Command) {
    match command {
        Command::Compare { checked, reply } => drop(reply.send(state.compare(&checked))),
        Command::Bind { checked, reply } => drop(reply.send(state.bind(&checked))),
        Command::Run { revision, checked, bound, reply } => {
            state.run(revision, *checked, bound);
            tell_status(state);
            let _ = reply.send(());
        }
        Command::Order { server, order, even_if_last, reply } => {
            let done = state.order(&server, order, even_if_last);
            tell_status(state);
            drop(reply.send(done));
        }
        Command::Status { reply } => drop(reply.send(state.status())),
        Command::Export { reply } => drop(reply.send(state.export())),
        Command::Explain { frontend, reply } => drop(reply.send(state.explain(&frontend))),
        Command::Watch { frontend, capacity, reply } => drop(reply.send(state.watch(&frontend, capacity))),
        Command::Copy { reply } => drop(reply.send(state.copy())),
        Command::Stop { .. } => unreachable!("the loop keeps this one to itself"),
    }
}
