//! `merismos drain|withdraw|return POOL/SERVER --reason TEXT`

use merismos_api::DutyRequest;
use merismos_core::duty::Duty;
use merismos_core::name::PoolServer;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct DutyArgs {
    /// Server, such as booking/gull
    #[arg(value_name = "POOL/SERVER")]
    server: PoolServer,
    /// Reason, shown wherever the server is shown
    #[arg(long, value_name = "TEXT")]
    reason: String,
    /// Proceed even if no eligible server is left in the pool
    #[arg(long)]
    even_if_last: bool,
}

/// What `merismos return` takes.
#[derive(Debug, clap::Args)]
pub(super) struct ReturnArgs {
    /// Server, such as booking/gull
    #[arg(value_name = "POOL/SERVER")]
    server: PoolServer,
    /// Reason, shown with the event
    #[arg(long, default_value = "it may work again", value_name = "TEXT")]
    reason: String,
}

impl ReturnArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let Self { server, reason } = self;
        DutyArgs { server, reason, even_if_last: false }.run(context, Duty::InService).await
    }
}

impl DutyArgs {
    pub(super) async fn run(self, context: &CommandContext, duty: Duty) -> Result<ExitStatus, CliError> {
        let request = DutyRequest { duty, reason: self.reason, even_if_last: self.even_if_last };
        let answer = context.target.client()?.duty(&self.server, &request).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::duty(&answer);
        }
        Ok(ExitStatus::Done)
    }
}
