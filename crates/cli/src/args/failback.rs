//! `merismos failback POOL`

use merismos_core::name::Name;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct FailbackArgs {
    /// Pool whose work returns
    pool: Name,
}

impl FailbackArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let answer = context.target.client()?.fail_back(&self.pool).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::text(&format!("tier {} of pool {} works now\n", answer.tier, answer.pool));
        }
        Ok(ExitStatus::Done)
    }
}
