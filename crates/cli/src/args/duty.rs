//! `merismos drain|withdraw|return POOL/SERVER... | --host HOST | --label KEY=VALUE`

use std::collections::BTreeMap;
use std::time::Duration;

use merismos_api::{DrainProgress, DutiesRequest, DutiesResponse, DutyRequest};
use merismos_client::Client;
use merismos_core::duty::{DrainPins, Duty};
use merismos_core::name::PoolServer;
use merismos_core::time::Wall;
use merismos_core::units::Span;

use super::{CommandContext, when};
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// How often a command that waits looks.
const LOOK_EVERY: Duration = Duration::from_millis(100);

/// Which servers an order is for.
#[derive(Debug, clap::Args)]
#[group(id = "for", required = true, multiple = false)]
struct Selection {
    /// Servers, such as booking/gull
    #[arg(value_name = "POOL/SERVER", group = "for")]
    servers: Vec<PoolServer>,
    /// Host by name or address: every server on it, in all pools
    #[arg(long, value_name = "HOST", group = "for")]
    host: Option<String>,
    /// Label: every server that has it, or whose host has
    #[arg(long, value_name = "KEY=VALUE", group = "for")]
    label: Option<String>,
}

impl Selection {
    fn request(self, order: DutyRequest) -> DutiesRequest {
        let servers = self.servers.iter().map(ToString::to_string).collect();
        DutiesRequest { servers, host: self.host, label: self.label, order }
    }
}

/// What orders share that take servers out.
#[derive(Debug, clap::Args)]
struct TakeOut {
    #[command(flatten)]
    selection: Selection,
    /// Reason, shown wherever the server is shown
    #[arg(long, value_name = "TEXT")]
    reason: String,
    /// Time at which the servers are expected back: in so long (2h), 18:00, or a day and a time; shown and reported when it has passed
    #[arg(long, value_name = "TIME", value_parser = when::coming)]
    until: Option<Wall>,
    /// Proceed although too little would be left; what the guard says is kept with the event
    #[arg(long)]
    anyway: bool,
    /// Wait until the servers can be worked on: exit 0 when they can, 1 when something had to be cut
    #[arg(long)]
    wait: bool,
}

/// What `merismos drain` takes.
#[derive(Debug, clap::Args)]
pub(super) struct DrainArgs {
    #[command(flatten)]
    out: TakeOut,
    /// Longest wait for open requests and connections; then they are closed [default: the pool's drain_timeout]
    #[arg(long, value_name = "DURATION")]
    within: Option<Span>,
    /// What becomes of pinned clients: honour (they go on until the deadline or their pins end) or move (they go elsewhere at once)
    #[arg(long, value_name = "honour|move", default_value_t)]
    pins: DrainPins,
}

/// What `merismos withdraw` takes.
#[derive(Debug, clap::Args)]
pub(super) struct WithdrawArgs {
    #[command(flatten)]
    out: TakeOut,
}

/// What `merismos return` takes.
#[derive(Debug, clap::Args)]
pub(super) struct ReturnArgs {
    #[command(flatten)]
    selection: Selection,
    /// Reason, shown with the event
    #[arg(long, default_value = "it may work again", value_name = "TEXT")]
    reason: String,
    /// Do not wait for a check to pass, and skip slow start
    #[arg(long)]
    at_once: bool,
    /// Wait until the servers can work, for so long at most: exit 0 when they can, 1 when not
    #[arg(long, value_name = "DURATION", num_args = 0..=1, default_missing_value = "1m")]
    wait: Option<Span>,
}

impl DrainArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let Self { out, within, pins } = self;
        out.run(context, |order| DutyRequest { within, pins, ..order }, Duty::Draining).await
    }
}

impl WithdrawArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        self.out.run(context, |order| order, Duty::Withdrawn).await
    }
}

impl TakeOut {
    async fn run(
        self,
        context: &CommandContext,
        terms: impl FnOnce(DutyRequest) -> DutyRequest,
        duty: Duty,
    ) -> Result<ExitStatus, CliError> {
        let Self { selection, reason, until, anyway, wait } = self;
        let order = terms(DutyRequest { until, anyway, ..DutyRequest::new(duty, reason) });
        let client = context.target.client()?;
        let done = client.duties(&selection.request(order), None).await?;
        if !wait {
            print(context, &done);
            return Ok(ExitStatus::Done);
        }
        if !context.json {
            show::duty::orders(&done);
        }
        wait_for_drains(&client, &done, context.json).await
    }
}

impl ReturnArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let Self { selection, reason, at_once, wait } = self;
        let order = DutyRequest { at_once, ..DutyRequest::new(Duty::InService, reason) };
        let client = context.target.client()?;
        let done = client.duties(&selection.request(order), wait.map(Span::get)).await?;
        print(context, &done);
        let all_reached = done.servers.iter().all(|response| response.reached);
        Ok(if wait.is_some() && !all_reached { ExitStatus::No } else { ExitStatus::Done })
    }
}

fn print(context: &CommandContext, done: &DutiesResponse) {
    if context.json {
        show::json(done);
    } else {
        show::duty::orders(done);
    }
}

/// Waits until all servers of an order can be worked on, and shows how far they are.
async fn wait_for_drains(client: &Client, done: &DutiesResponse, json: bool) -> Result<ExitStatus, CliError> {
    let bar = show::duty::DrainBar::new();
    // What was seen last of each server: a server that is ready may be returned by another operator.
    let mut last: BTreeMap<String, DrainProgress> = BTreeMap::new();
    let is_ready = |last: &BTreeMap<String, DrainProgress>, server: &String| {
        last.get(server).is_some_and(|progress| progress.draining.safe)
    };
    loop {
        let drains = client.drains().await?;
        for response in &done.servers {
            let server = &response.server;
            match drains.servers.iter().find(|progress| progress.server == *server) {
                Some(progress) => drop(last.insert(server.clone(), progress.clone())),
                None if is_ready(&last, server) => {}
                None => {
                    bar.end();
                    return Err(CliError::Call(format!(
                        "{server} is in service again, or was removed: `merismos events --subject {server}` says by whom"
                    )));
                }
            }
        }
        let endless = last
            .values()
            .find(|progress| progress.order.duty == Duty::Draining && progress.draining.ties_end.is_none());
        if let Some(progress) = endless {
            bar.end();
            return Err(CliError::Call(format!(
                "{} drains, and waiting for it has no end: clients that are tied to it may come for as long as they like. \
                 Drain it with --within, or with --pins move",
                progress.server
            )));
        }
        bar.at(last.values());
        if done.servers.iter().all(|response| is_ready(&last, &response.server)) {
            break;
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
    bar.end();
    let ready: Vec<DrainProgress> = last.into_values().collect();
    if json {
        show::json(&ready);
    } else {
        show::duty::ready(&ready);
    }
    let cut: u64 = ready.iter().map(|progress| progress.draining.cut.all()).sum();
    Ok(if cut == 0 { ExitStatus::Done } else { ExitStatus::No })
}
