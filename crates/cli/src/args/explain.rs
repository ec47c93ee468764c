//! `merismos explain FRONTEND`

use merismos_core::name::Name;

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// The frontend that the request would come to
    frontend: Name,
}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let answer = context.target.client()?.explain(&self.frontend).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::explain::print(&answer);
        }
        Ok(if answer.server.is_some() { Exit::Done } else { Exit::No })
    }
}
