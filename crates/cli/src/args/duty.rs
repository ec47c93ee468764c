//! `merismos drain|withdraw|return POOL/SERVER --reason TEXT`

use merismos_api::DutyRequest;
use merismos_core::duty::Duty;
use merismos_core::name::PoolServer;

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// The server, such as booking/gull
    #[arg(value_name = "POOL/SERVER")]
    server: PoolServer,
    /// Why, for whoever finds the server like this
    #[arg(long, value_name = "TEXT")]
    reason: String,
    /// Do it even when no eligible server is left in the pool
    #[arg(long)]
    even_if_last: bool,
}

impl Args {
    pub(super) async fn run(self, context: &Context, duty: Duty) -> Result<Exit, CliError> {
        let request = DutyRequest { duty, reason: self.reason, even_if_last: self.even_if_last };
        let answer = context.target.client()?.duty(&self.server, &request).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::duty(&answer);
        }
        Ok(Exit::Done)
    }
}
