//! `merismos trial FRONTEND --requests N`, `merismos trial list`, `merismos trial show ID`

use std::time::Duration;

use clap::Subcommand;
use ipnet::IpNet;
use merismos_api::{Trial, TrialRequest, TrialState};
use merismos_client::Client;
use merismos_core::name::Name;
use merismos_core::proof::TrialVerdict;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// How often a running trial is looked at.
const LOOK_EVERY: Duration = Duration::from_millis(150);

#[derive(Debug, clap::Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(super) struct TrialArgs {
    #[command(subcommand)]
    command: Option<TrialCommand>,
    #[command(flatten)]
    run: Option<TrialRunArgs>,
}

#[derive(Debug, Subcommand)]
enum TrialCommand {
    /// Show the last trials
    List,
    /// Show one trial again
    Show {
        /// Its number
        id: u64,
    },
}

#[derive(Debug, clap::Args)]
struct TrialRunArgs {
    /// The frontend to send through
    frontend: Name,
    /// How many requests (http), connections (tcp) or datagrams (udp)
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    requests: u32,
    /// How many at the same time
    #[arg(long, default_value_t = 8, value_parser = clap::value_parser!(u32).range(1..=256))]
    concurrency: u32,
    /// How many clients take turns [default: as many as at the same time]
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=1_000))]
    clients: Option<u32>,
    /// The network of this machine that the clients come from, such as 127.0.9.0/24
    #[arg(long, value_name = "NETWORK")]
    from: Option<IpNet>,
    /// Each client keeps the cookies that it is given (http)
    #[arg(long)]
    keep_cookies: bool,
    /// The path to ask for (http)
    #[arg(long, default_value = "/")]
    path: String,
    /// What each client says (tcp, udp), such as $'PING\r\n'; a tcp client that says nothing ends its side at once
    #[arg(long, value_name = "TEXT")]
    say: Option<String>,
    /// Wait for no answers (udp): the feed goes one way, as logs and metrics do
    #[arg(long)]
    one_way: bool,
    /// So many a second at most [default: as fast as the answers come]
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    per_second: Option<u32>,
}

impl TrialArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        match (self.command, self.run) {
            (Some(TrialCommand::List), _) => {
                let trials = client.trials().await?;
                if context.json {
                    show::json(&trials);
                } else {
                    show::trial::list(&trials.trials);
                }
                Ok(ExitStatus::Done)
            }
            (Some(TrialCommand::Show { id }), _) => Ok(tell(&client.trial(id).await?, context.json)),
            (None, Some(run)) => conduct(&client, run, context.json).await,
            (None, None) => {
                let says = "name a frontend and a number of requests: merismos trial booking --requests 600";
                Err(CliError::Call(says.to_owned()))
            }
        }
    }
}

async fn conduct(client: &Client, run: TrialRunArgs, json: bool) -> Result<ExitStatus, CliError> {
    let request = TrialRequest {
        frontend: run.frontend.to_string(),
        requests: run.requests,
        concurrency: run.concurrency,
        clients: run.clients,
        from: run.from.map(|from| from.to_string()),
        keep_cookies: run.keep_cookies,
        path: run.path,
        say: run.say,
        one_way: run.one_way,
        per_second: run.per_second,
    };
    let mut trial = client.begin_trial(&request).await?;
    let bar = show::ProgressLine::new(u64::from(run.requests));
    while trial.state == TrialState::Running {
        tokio::time::sleep(LOOK_EVERY).await;
        trial = client.trial(trial.id).await?;
        bar.at(trial.ended);
    }
    bar.end();
    Ok(tell(&trial, json))
}

fn tell(trial: &Trial, json: bool) -> ExitStatus {
    if json {
        show::json(trial);
    } else {
        show::trial::print(trial);
    }
    match trial.tally.as_ref().map(|tally| tally.verdict) {
        Some(TrialVerdict::AsExpected) => ExitStatus::Done,
        Some(TrialVerdict::NotAsExpected | TrialVerdict::TooFew) | None => ExitStatus::No,
    }
}
