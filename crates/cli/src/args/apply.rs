//! `merismos apply FILE [--preview]`

use std::path::PathBuf;

use clap::ValueEnum;
use merismos_api::ApplyRequest;
use merismos_core::config::DocumentFormat;

use super::going::{self, GoingArgs};
use super::{Context, input};
use crate::exit::{CliError, Exit};

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// The document: TOML, or JSON when its name ends with .json; - reads TOML from standard input
    file: PathBuf,
    /// Take only this part of the file, such as pools.booking; all else stays as it runs; may be given several times
    #[arg(long, value_name = "PATH")]
    only: Vec<String>,
    #[command(flatten)]
    going: GoingArgs,
    /// How the document is written, when its name does not say
    #[arg(long)]
    format: Option<Written>,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Written {
    Toml,
    Json,
}

impl From<Written> for DocumentFormat {
    fn from(written: Written) -> Self {
        match written {
            Written::Toml => Self::Toml,
            Written::Json => Self::Json,
        }
    }
}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let text = input::read(&self.file)?;
        let is_json = self.file.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("json"));
        let format = self
            .format
            .map_or(if is_json { DocumentFormat::Json } else { DocumentFormat::Toml }, DocumentFormat::from);
        let preview = self.going.preview;
        let request = ApplyRequest { text, format, only: self.only, going: self.going.into() };
        let review = context.target.client()?.apply(&request).await?;
        going::print(context, &review, preview);
        Ok(Exit::Done)
    }
}
