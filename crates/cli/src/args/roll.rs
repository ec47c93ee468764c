//! `merismos roll POOL` and what can be done with rolls that were begun

use std::collections::BTreeSet;
use std::io::{BufRead, IsTerminal, Write};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

use merismos_api::{RollOrderRequest, RollRequest, RollVerb, RollView, WorkReport};
use merismos_client::Client;
use merismos_core::duty::DrainPins;
use merismos_core::name::PoolServer;
use merismos_core::roll::{RollPlan, RollState, RollStep, WorkOutcome};
use merismos_core::units::Span;
use tokio::task::JoinSet;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// How often an attached terminal looks.
const LOOK_EVERY: Duration = Duration::from_millis(250);

/// What `merismos roll` takes.
#[derive(Debug, clap::Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub(super) struct RollArgs {
    #[command(subcommand)]
    command: Option<RollCommand>,
    #[command(flatten)]
    begin: BeginArgs,
}

/// What can be done with rolls that were begun.
#[derive(Debug, clap::Subcommand)]
enum RollCommand {
    /// List rolls: those that go on, and the last that are over
    List,
    /// Show a roll with each of its servers
    Show {
        /// Number of the roll
        roll: u64,
    },
    /// Follow a roll from this terminal, and do the work on its servers
    Attach {
        /// Number of the roll
        roll: u64,
        #[command(flatten)]
        work: WorkArgs,
    },
    /// Pause a roll: no further server is begun
    Pause(TellArgs),
    /// Resume a roll that was paused
    Resume(TellArgs),
    /// Stop a roll: servers that drain or are ready return, those that are being worked on stay out
    Stop(TellArgs),
    /// Report the work on a server, where no attached terminal does it
    Report {
        /// Number of the roll
        roll: u64,
        /// Server, such as booking/gull
        server: PoolServer,
        /// What became of the work: begun, done or failed
        #[arg(value_name = "begun|done|failed", value_parser = outcome)]
        outcome: WorkOutcome,
        /// What is to be known of it, such as why it failed
        #[arg(long, value_name = "TEXT")]
        note: Option<String>,
    },
}

/// A roll, and the reason for an order.
#[derive(Debug, clap::Args)]
struct TellArgs {
    /// Number of the roll
    roll: u64,
    /// Reason, shown with the roll
    #[arg(long, value_name = "TEXT")]
    reason: Option<String>,
}

/// Who does the work on the servers.
#[derive(Debug, clap::Args)]
#[group(multiple = false)]
struct WorkArgs {
    /// Program that does the work on a server; MERISMOS_SERVER, MERISMOS_ADDRESS and MERISMOS_ROLL are in its environment
    #[arg(long, value_name = "PROGRAM")]
    run: Option<PathBuf>,
    /// Ask at this terminal whether the work on a server is done
    #[arg(long)]
    ask: bool,
    /// Leave the work to others: the console, `roll attach` or `roll report`
    #[arg(long)]
    detached: bool,
}

/// A roll to begin.
#[derive(Debug, clap::Args)]
struct BeginArgs {
    /// Pool, such as booking, or servers, such as booking/gull
    #[arg(value_name = "POOL|POOL/SERVER", required_unless_present_any = ["host", "label"])]
    targets: Vec<String>,
    /// Host by name or address: every server on it, in all pools
    #[arg(long, value_name = "HOST", conflicts_with_all = ["targets", "label"])]
    host: Option<String>,
    /// Label: every server that has it, or whose host has
    #[arg(long, value_name = "KEY=VALUE", conflicts_with = "targets")]
    label: Option<String>,
    /// Reason, shown wherever the servers are shown
    #[arg(long, value_name = "TEXT", required = true)]
    reason: Option<String>,
    /// Number of servers that are out at the same time
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..=100))]
    at_once: u16,
    #[command(flatten)]
    work: WorkArgs,
    /// Time for which a server that has returned is watched and compared with the others
    #[arg(long, value_name = "DURATION")]
    soak: Option<Span>,
    /// Longest wait of each drain for open requests and connections; then they are closed [default: the pool's drain_timeout]
    #[arg(long, value_name = "DURATION")]
    within: Option<Span>,
    /// Longest wait until a server that returned has its full share; then the roll stops [default: 10m]
    #[arg(long, value_name = "DURATION")]
    return_within: Option<Span>,
    /// What becomes of pinned clients: honour (they go on until the deadline or their pins end) or move (they go elsewhere at once)
    #[arg(long, value_name = "honour|move", default_value_t)]
    pins: DrainPins,
    /// Take servers out although too little would be left
    #[arg(long)]
    anyway: bool,
    /// Show the plan, and begin nothing
    #[arg(long)]
    plan: bool,
    /// Begin without asking
    #[arg(long)]
    yes: bool,
}

fn outcome(word: &str) -> Result<WorkOutcome, String> {
    match word {
        "begun" => Ok(WorkOutcome::Begun),
        "done" => Ok(WorkOutcome::Done),
        "failed" => Ok(WorkOutcome::Failed),
        _ => Err("expected begun, done or failed".to_owned()),
    }
}

impl RollArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        let print = |roll: &RollView| {
            if context.json {
                show::json(roll);
            } else {
                show::rolls::one(roll);
            }
        };
        let tell = async |args: TellArgs, order: RollVerb| {
            let request = RollOrderRequest { order, reason: args.reason };
            client.order_roll(args.roll, &request).await
        };
        match self.command {
            None => return self.begin.run(context, &client).await,
            Some(RollCommand::List) => {
                let rolls = client.rolls().await?;
                if context.json {
                    show::json(&rolls);
                } else {
                    show::rolls::list(&rolls);
                }
            }
            Some(RollCommand::Show { roll }) => print(&client.roll(roll).await?),
            Some(RollCommand::Attach { roll, work }) => return attach(context, &client, roll, work).await,
            Some(RollCommand::Pause(args)) => print(&tell(args, RollVerb::Pause).await?),
            Some(RollCommand::Resume(args)) => print(&tell(args, RollVerb::Resume).await?),
            Some(RollCommand::Stop(args)) => print(&tell(args, RollVerb::Stop).await?),
            Some(RollCommand::Report { roll, server, outcome, note }) => {
                print(&client.report_work(roll, &WorkReport { server, outcome, note }).await?);
            }
        }
        Ok(ExitStatus::Done)
    }
}

impl BeginArgs {
    fn request(&self) -> Result<RollPlan, CliError> {
        let (servers, pools): (Vec<String>, Vec<String>) =
            self.targets.iter().cloned().partition(|target| target.contains('/'));
        if pools.len() > 1 || (pools.len() == 1 && !servers.is_empty()) {
            return Err(CliError::Call("name one pool, or servers such as booking/gull".to_owned()));
        }
        Ok(RollPlan {
            pool: pools.into_iter().next(),
            servers,
            host: self.host.clone(),
            label: self.label.clone(),
            at_once: self.at_once,
            within: self.within,
            pins: self.pins,
            soak: self.soak,
            return_within: self.return_within,
            reason: self.reason.clone().unwrap_or_default(),
            anyway: self.anyway,
        })
    }

    async fn run(self, context: &CommandContext, client: &Client) -> Result<ExitStatus, CliError> {
        let work = &self.work;
        if !self.plan && work.run.is_none() && !work.ask && !work.detached {
            let says = "say who does the work on each server: --run PROGRAM, --ask at this terminal, or --detached; \
                        --plan shows the plan alone";
            return Err(CliError::Call(says.to_owned()));
        }
        let mut request = RollRequest { plan: self.request()?, preview: true };
        let planned = client.begin_roll(&request, None).await?;
        if self.plan {
            if context.json {
                show::json(&planned);
            } else {
                show::rolls::plan(&planned);
            }
            return Ok(ExitStatus::Done);
        }
        if !self.yes && !context.json && std::io::stdin().is_terminal() {
            show::rolls::plan(&planned);
            if asked("Begin? [y/N] ") != Some(true) {
                return Ok(ExitStatus::No);
            }
        }
        request.preview = false;
        let roll = client.begin_roll(&request, None).await?;
        if self.work.detached {
            if context.json {
                show::json(&roll);
            } else {
                show::rolls::one(&roll);
            }
            return Ok(ExitStatus::Done);
        }
        attach(context, client, roll.id, self.work).await
    }
}

/// Asks at the terminal; `None` when its input has ended.
fn asked(question: &str) -> Option<bool> {
    show::text(question);
    let _ = std::io::stdout().flush();
    let mut line = String::new();
    let read = std::io::stdin().lock().read_line(&mut line);
    read.is_ok_and(|read| read > 0).then(|| matches!(line.trim(), "y" | "yes"))
}

/// What came of the work on a server.
struct WorkDone {
    server: PoolServer,
    outcome: WorkOutcome,
    note: Option<String>,
}

/// Follows a roll to its end, and does the work on its servers.
async fn attach(
    context: &CommandContext,
    client: &Client,
    id: u64,
    work: WorkArgs,
) -> Result<ExitStatus, CliError> {
    if !context.json {
        show::note(&format!(
            "Roll {id} goes on also without this terminal: after Ctrl-C, `merismos roll attach {id}` comes back to it."
        ));
    }
    let mut told = show::rolls::Follower::default();
    let mut running: JoinSet<Option<WorkDone>> = JoinSet::new();
    let mut taken = BTreeSet::new();
    loop {
        let roll = client.roll(id).await?;
        if !context.json {
            told.tell(&roll);
        }
        if roll.is_over && running.is_empty() {
            if context.json {
                show::json(&roll);
            } else {
                show::rolls::end(&roll);
            }
            return Ok(if roll.state == RollState::Finished { ExitStatus::Done } else { ExitStatus::No });
        }
        for (entry, address) in roll.servers.iter().zip(&roll.addresses) {
            // Work that another terminal has begun is asked for, and not done twice.
            let is_wanted = match entry.step {
                RollStep::Ready => work.run.is_some() || work.ask,
                RollStep::Working => work.ask,
                _ => false,
            };
            if !is_wanted || !taken.insert(entry.server.clone()) {
                continue;
            }
            let server = entry.server.clone();
            let begun = WorkReport { server: server.clone(), outcome: WorkOutcome::Begun, note: None };
            // Of two terminals one does the work.
            if entry.step == RollStep::Ready && client.report_work(id, &begun).await.is_err() {
                continue;
            }
            let address = address.clone().unwrap_or_default();
            match &work.run {
                Some(program) => drop(running.spawn(run_program(program.clone(), id, server, address))),
                None => drop(running.spawn_blocking(move || ask(server, &address))),
            }
        }
        tokio::select! {
            Some(done) = running.join_next(), if !running.is_empty() => {
                let done = done.map_err(|error| CliError::Call(format!("the work ended without a result: {error}")))?;
                let done = done.ok_or_else(|| CliError::Call(format!(
                    "the input of this terminal has ended. The roll waits for the work: `merismos roll attach {id} --ask` goes on with it"
                )))?;
                client.report_work(id, &WorkReport { server: done.server, outcome: done.outcome, note: done.note }).await?;
            }
            () = tokio::time::sleep(LOOK_EVERY) => {}
        }
    }
}

/// Runs an operator's program for a server.
async fn run_program(program: PathBuf, roll: u64, server: PoolServer, address: String) -> Option<WorkDone> {
    let socket: Option<SocketAddr> = address.parse().ok();
    let mut command = tokio::process::Command::new(&program);
    command
        .env("MERISMOS_SERVER", server.to_string())
        .env("MERISMOS_ADDRESS", &address)
        .env("MERISMOS_HOST", socket.map(|socket| socket.ip().to_string()).unwrap_or_default())
        .env("MERISMOS_ROLL", roll.to_string())
        .stdin(Stdio::null());
    let failed = match command.status().await {
        Ok(status) if status.success() => None,
        Ok(status) => Some(format!("{} ended with {status}", program.display())),
        Err(error) => Some(format!("{} can't be run: {error}", program.display())),
    };
    let outcome = if failed.is_none() { WorkOutcome::Done } else { WorkOutcome::Failed };
    Some(WorkDone { server, outcome, note: failed })
}

/// Asks whether the work on a server is done.
fn ask(server: PoolServer, address: &str) -> Option<WorkDone> {
    show::text(&format!("{server} ({address}) can be worked on. "));
    let is_done = asked("Is the work done, and may it return? [y/N: it failed] ")?;
    Some(if is_done {
        WorkDone { server, outcome: WorkOutcome::Done, note: None }
    } else {
        let note = Some("the operator said that it failed".to_owned());
        WorkDone { server, outcome: WorkOutcome::Failed, note }
    })
}
