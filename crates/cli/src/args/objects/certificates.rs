//! `merismos certificate VERB`: the verbs of every object, and what clients are shown.

use clap::{Args, Subcommand};
use merismos_api::HandshakeQuery;
use merismos_core::name::Name;

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
    /// Make a handshake as a client would that asks for a host: chain, version, and each reason why it would warn
    Try(HandshakeArgs),
}

/// Whom a client would ask for.
#[derive(Debug, Args)]
pub(crate) struct HandshakeArgs {
    /// Host that is asked for, such as booking.skerry.example
    host: String,
    /// Only this frontend [default: each that speaks TLS]
    #[arg(long, value_name = "FRONTEND")]
    frontend: Option<Name>,
}

impl CertificateCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Object(verb) => verb.run(context).await,
            Self::Try(HandshakeArgs { host, frontend }) => {
                let query = HandshakeQuery { host, frontend: frontend.map(|name| name.to_string()) };
                let found = context.target.client()?.handshakes(&query).await?;
                if context.json {
                    show::json(&found);
                } else {
                    show::certificates::handshakes(&found);
                }
                let all_well = found.handshakes.iter().all(|handshake| handshake.reasons.is_empty());
                let is_well = all_well && !found.handshakes.is_empty();
                Ok(if is_well { ExitStatus::Done } else { ExitStatus::No })
            }
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
