//! `merismos certificate VERB`: the verbs of every object, and what clients are shown.

use clap::Subcommand;

use super::ObjectCommand;
use super::kinds::CertificateFlags;
use crate::args::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with certificates.
#[derive(Debug, Subcommand)]
pub(crate) enum CertificateCommand {
    #[command(flatten)]
    Object(ObjectCommand<CertificateFlags>),
    /// Show what clients are shown: names, ends, frontends and problems
    Status,
}

impl CertificateCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Object(verb) => verb.run(context).await,
            Self::Status => {
                let found = context.target.client()?.certificates().await?;
                if context.json {
                    show::json(&found);
                } else {
                    show::certificates::status(&found.certificates);
                }
                let is_wrong = found.certificates.iter().any(|certificate| certificate.problem.is_some());
                Ok(if is_wrong { ExitStatus::No } else { ExitStatus::Done })
            }
        }
    }
}
