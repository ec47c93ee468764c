//! `merismos status [POOL]`

use merismos_core::name::Name;

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// Only this pool; where there are very many servers, only a pool that is named shows its own one by one
    pool: Option<Name>,
}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let client = context.target.client()?;
        let mut status = client.short_status(self.pool.as_ref()).await?;
        if let Some(pool) = &self.pool {
            status.pools.retain(|it| it.name == pool.as_str());
            status.frontends.retain(|it| it.pool == pool.as_str());
            if status.pools.is_empty() {
                return Err(CliError::Call(format!(
                    "there is no pool {pool}; `merismos pool list` shows them"
                )));
            }
        } else if context.json {
            // Programs get everything.
            status = client.status().await?;
        }
        if context.json {
            show::json(&status);
        } else {
            show::status::print(&status);
        }
        Ok(Exit::Done)
    }
}
