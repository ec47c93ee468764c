//! `merismos apply FILE [--preview]`

use std::path::PathBuf;

use clap::ValueEnum;
use merismos_api::ApplyRequest;
use merismos_core::config::DocumentFormat;

use super::apply_options::{self, ChangeArgs};
use super::{CommandContext, input};
use crate::exit::{CliError, ExitStatus};

#[derive(Debug, clap::Args)]
pub(super) struct ApplyArgs {
    /// File with the document: TOML, or JSON when its name ends with .json; - reads TOML from standard input
    file: PathBuf,
    /// Apply only this part of the file, such as pools.booking, and leave all else unchanged; may be given several times
    #[arg(long, value_name = "PATH")]
    only: Vec<String>,
    #[command(flatten)]
    going: ChangeArgs,
    /// Format of the document, where the name of the file does not tell
    #[arg(long)]
    format: Option<ApplyFormat>,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum ApplyFormat {
    Toml,
    Json,
}

impl From<ApplyFormat> for DocumentFormat {
    fn from(written: ApplyFormat) -> Self {
        match written {
            ApplyFormat::Toml => Self::Toml,
            ApplyFormat::Json => Self::Json,
        }
    }
}

impl ApplyArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let text = input::read(&self.file)?;
        let is_json = self.file.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("json"));
        let format = self
            .format
            .map_or(if is_json { DocumentFormat::Json } else { DocumentFormat::Toml }, DocumentFormat::from);
        let preview = self.going.preview;
        let request = ApplyRequest { text, format, only: self.only, going: self.going.into() };
        let review = context.target.client()?.apply(&request).await?;
        apply_options::print(context, &review, preview);
        Ok(ExitStatus::Done)
    }
}
