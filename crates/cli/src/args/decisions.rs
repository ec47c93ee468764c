//! `merismos decisions [--follow]`

use merismos_core::name::Name;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct DecisionsArgs {
    /// Show only decisions about traffic of this frontend
    #[arg(long)]
    frontend: Option<Name>,
    /// Number of decisions to wait for
    #[arg(long, default_value_t = 10, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    count: u32,
    /// Continue until interrupted
    #[arg(long, conflicts_with = "count")]
    follow: bool,
}

impl DecisionsArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let mut stream = context.target.client()?.decisions(self.frontend.as_ref()).await?;
        let mut printed = 0;
        while let Some(decision) = stream.next().await {
            show::decision::print(&decision?, context.json);
            printed += 1;
            if !self.follow && printed >= self.count {
                return Ok(ExitStatus::Done);
            }
        }
        show::note("the service has ended the stream");
        Ok(ExitStatus::Refused)
    }
}
