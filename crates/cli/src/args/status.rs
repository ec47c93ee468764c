//! `merismos status [POOL]`

use std::io::IsTerminal;
use std::time::Duration;

use merismos_api::Status;
use merismos_client::Client;
use merismos_core::name::Name;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;
use crate::show::status::StatusView;

/// How often a view that is watched is drawn anew.
const EVERY: Duration = Duration::from_secs(1);

const LEGEND: &str = "\
What stands in the columns:
  weight            its part of the work; (tier N) where it is not in tier 0
  health            what probes say, and for how long; !: it gets no new work, with the reason below
  expected          its share of the pool's work by weights, duty and health; - where more than weights decides
  last 10 s, 60 s   its share of what was distributed then
  in flight         requests at it right now
  failed            connections and answers that failed in the last 60 s; retried: given to another server then;
                    5xx: answers with 500 and above
  median, 99 %      half, and 99 of 100, of its work of the last 60 s took no longer until it was answered
  downs             how many times it went down today, since midnight (UTC)
Columns that have nothing to say are left out. A terminal of 130 columns and more has bars, and the last 10 s.";

#[derive(Debug, clap::Args)]
#[command(after_help = LEGEND)]
pub(super) struct StatusArgs {
    /// Show only this pool; servers of very large pools are listed only when the pool is named
    pool: Option<Name>,
    /// Show one line for each pool, those in trouble first
    #[arg(long, conflicts_with = "totals")]
    short: bool,
    /// Show totals of each server since the service started and since they were reset
    #[arg(long)]
    totals: bool,
    /// Reset the totals, beside those since the start; needs --totals
    #[arg(long, requires = "totals")]
    reset: bool,
    /// Refresh each second until Ctrl-C
    #[arg(long, conflicts_with = "reset")]
    watch: bool,
}

impl StatusArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        if self.watch {
            if context.json || !std::io::stdout().is_terminal() {
                let says = "--watch needs a terminal; programs follow GET /api/v1/stream".to_owned();
                return Err(CliError::Call(says));
            }
            return self.watch(&client).await;
        }
        let status = if self.pool.is_none() && (context.json || self.totals) {
            // Programs get everything.
            client.status().await?
        } else {
            self.ask(&client).await?
        };
        if context.json {
            show::json(&status);
        } else {
            show::status::print(&status, self.view());
        }
        if self.reset {
            let reset = client.reset_totals().await?;
            show::note(&format!("From {} on they are counted anew, too.", show::moment(reset.at)));
        }
        Ok(ExitStatus::Done)
    }

    fn view(&self) -> StatusView {
        match (self.short, self.totals) {
            (true, _) => StatusView::Short,
            (_, true) => StatusView::Totals,
            _ => StatusView::Whole,
        }
    }

    async fn ask(&self, client: &Client) -> Result<Status, CliError> {
        let mut status = client.short_status(self.pool.as_ref()).await?;
        if let Some(pool) = &self.pool {
            status.pools.retain(|candidate| candidate.name == pool.as_str());
            status.frontends.retain(|frontend| frontend.pool == pool.as_str());
            if status.pools.is_empty() {
                let says = format!("there is no pool {pool}; `merismos pool list` shows them");
                return Err(CliError::Call(says));
            }
        }
        Ok(status)
    }

    /// Draws it again and again. A service that does not answer for a while is said so, and asked on.
    async fn watch(&self, client: &Client) -> Result<ExitStatus, CliError> {
        loop {
            let asked = self.ask(client).await;
            show::clear();
            match asked {
                Ok(status) => show::status::print(&status, self.view()),
                Err(error @ CliError::Client(merismos_client::ClientError::Unreachable { .. })) => {
                    show::text(&format!("{error}\nTrying again each second; Ctrl-C ends.\n"));
                }
                Err(error) => return Err(error),
            }
            tokio::time::sleep(EVERY).await;
        }
    }
}
