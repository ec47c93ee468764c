//! `merismos apply FILE [--preview]`

use std::io::Read;
use std::path::PathBuf;

use clap::ValueEnum;
use merismos_api::ApplyRequest;
use merismos_core::config::Format;

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// The document: TOML, or JSON when its name ends with .json; - reads TOML from standard input
    file: PathBuf,
    /// Only show what would change and what it would do to the shares
    #[arg(long)]
    preview: bool,
    /// Why; kept with the revision
    #[arg(long, default_value = "")]
    note: String,
    /// Refuse when another revision than this one runs by now
    #[arg(long, value_name = "REVISION")]
    based_on: Option<u64>,
    /// How the document is written, when its name does not say
    #[arg(long)]
    format: Option<Written>,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Written {
    Toml,
    Json,
}

impl From<Written> for Format {
    fn from(written: Written) -> Self {
        match written {
            Written::Toml => Self::Toml,
            Written::Json => Self::Json,
        }
    }
}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let wrong = |source| CliError::File { path: self.file.clone(), source };
        let text = if self.file.as_os_str() == "-" {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text).map_err(wrong)?;
            text
        } else {
            std::fs::read_to_string(&self.file).map_err(wrong)?
        };
        let is_json = self.file.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("json"));
        let format = self.format.map_or(if is_json { Format::Json } else { Format::Toml }, Format::from);
        let request =
            ApplyRequest { text, format, note: self.note, preview: self.preview, based_on: self.based_on };
        let answer = context.target.client()?.apply(&request).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::apply::print(&answer, self.preview);
        }
        Ok(Exit::Done)
    }
}
