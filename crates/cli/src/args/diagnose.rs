//! `merismos diagnose POOL/SERVER`

use merismos_core::name::PoolServer;

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// The server, such as booking/gull
    server: PoolServer,
}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let diagnosis = context.target.client()?.diagnose(&self.server).await?;
        if context.json {
            show::json(&diagnosis);
        } else {
            show::probe::diagnosis(&diagnosis);
        }
        Ok(if diagnosis.works { Exit::Done } else { Exit::No })
    }
}
