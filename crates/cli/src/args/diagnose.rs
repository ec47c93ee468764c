//! `merismos diagnose POOL/SERVER`

use merismos_core::name::PoolServer;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct DiagnoseArgs {
    /// Server, such as booking/gull
    server: PoolServer,
}

impl DiagnoseArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let diagnosis = context.target.client()?.diagnose(&self.server).await?;
        if context.json {
            show::json(&diagnosis);
        } else {
            show::probe::diagnosis(&diagnosis);
        }
        Ok(if diagnosis.works { ExitStatus::Done } else { ExitStatus::No })
    }
}
