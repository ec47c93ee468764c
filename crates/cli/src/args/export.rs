//! `merismos export`

use merismos_core::config::DocumentFormat;

use super::Context;
use super::apply::Written;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// How the document is written; --json is the same as --format json
    #[arg(long, default_value = "toml")]
    format: Written,
}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let format = if context.json { DocumentFormat::Json } else { self.format.into() };
        show::text(&context.target.client()?.document(format).await?);
        Ok(Exit::Done)
    }
}
