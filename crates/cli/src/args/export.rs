//! `merismos export`

use merismos_core::config::DocumentFormat;

use super::CommandContext;
use super::apply::ApplyFormat;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct ExportArgs {
    /// Format of the document; --json is the same as --format json
    #[arg(long, default_value = "toml")]
    format: ApplyFormat,
}

impl ExportArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let format = if context.json { DocumentFormat::Json } else { self.format.into() };
        show::text(&context.target.client()?.document(format).await?);
        Ok(ExitStatus::Done)
    }
}
