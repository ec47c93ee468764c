//! `merismos trial FRONTEND --requests N`, `merismos trial list`, `merismos trial show ID`

use std::time::Duration;

use clap::Subcommand;
use ipnet::IpNet;
use merismos_api::{Trial, TrialRequest, TrialState};
use merismos_client::Client;
use merismos_core::name::{Name, PoolServer};
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
    /// List the last trials
    List,
    /// Show the report of a trial again
    Show {
        /// Number of the trial
        id: u64,
    },
}

#[derive(Debug, clap::Args)]
struct TrialRunArgs {
    /// Frontend to send through
    frontend: Name,
    /// Number of requests (http), connections (tcp) or datagrams (udp)
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    requests: u32,
    /// Number of requests, connections or datagrams at the same time
    #[arg(long, default_value_t = 8, value_parser = clap::value_parser!(u32).range(1..=256))]
    concurrency: u32,
    /// Number of clients that take turns [default: the number at the same time]
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=1_000))]
    clients: Option<u32>,
    /// Network of this machine that the clients' addresses are from, such as 127.0.9.0/24
    #[arg(long, value_name = "NETWORK")]
    from: Option<IpNet>,
    /// Let each client keep the cookies that it is given (http)
    #[arg(long)]
    keep_cookies: bool,
    /// Number of 100 requests that come from a client that begins anew, without connection and cookies (http)
    #[arg(long, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(1..=100))]
    new: Option<u8>,
    /// Send all of it to one server, whatever its duty and its health (http), such as booking/gull
    #[arg(long, value_name = "POOL/SERVER")]
    server: Option<PoolServer>,
    /// Host that clients ask for (http, TLS) [default: the first name of the first certificate, or the address]
    #[arg(long, value_name = "NAME")]
    host: Option<String>,
    /// Certificate that the clients show where one is asked for (TLS): a certificate of the document
    #[arg(long, value_name = "CERTIFICATE")]
    certificate: Option<Name>,
    /// Path of the requests (http)
    #[arg(long, default_value = "/")]
    path: String,
    /// Text that each client sends (tcp, udp), such as $'PING\r\n'; without it a tcp client closes its side at once
    #[arg(long, value_name = "TEXT")]
    say: Option<String>,
    /// Wait for no responses (udp), as with logs and metrics
    #[arg(long)]
    one_way: bool,
    /// Largest number a second [default: as fast as responses come]
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
        new_percent: run.new,
        server: run.server.map(|server| server.to_string()),
        host: run.host,
        certificate: run.certificate.map(|name| name.to_string()),
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
