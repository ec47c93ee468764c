//! `merismos status`

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let status = context.target.client()?.status().await?;
        if context.json {
            show::json(&status);
        } else {
            show::status::print(&status);
        }
        Ok(Exit::Done)
    }
}
