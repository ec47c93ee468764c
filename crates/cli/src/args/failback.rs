//! `merismos failback POOL`

use merismos_core::name::Name;

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// The pool
    pool: Name,
}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let answer = context.target.client()?.fail_back(&self.pool).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::text(&format!("tier {} of pool {} works now\n", answer.tier, answer.pool));
        }
        Ok(Exit::Done)
    }
}
