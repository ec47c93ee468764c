//! `merismos diagnose POOL/SERVER` and `merismos diagnose FRONTEND`

use std::str::FromStr;

use merismos_core::name::{Name, PoolServer};

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct DiagnoseArgs {
    /// Server, such as booking/gull, or frontend, such as booking
    what: DiagnosedObject,
    /// Of a frontend: host that is asked for [default: the first name of its first certificate, else its address]
    #[arg(long)]
    host: Option<String>,
}

/// What can be diagnosed.
#[derive(Clone, Debug)]
enum DiagnosedObject {
    Server(PoolServer),
    Frontend(Name),
}

impl FromStr for DiagnosedObject {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        if text.contains('/') {
            text.parse().map(Self::Server).map_err(|error| format!("{error}"))
        } else {
            text.parse().map(Self::Frontend).map_err(|error| format!("{error}"))
        }
    }
}

impl DiagnoseArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        let works = match &self.what {
            DiagnosedObject::Server(server) => {
                let diagnosis = client.diagnose(server).await?;
                if context.json {
                    show::json(&diagnosis);
                } else {
                    show::probe::diagnosis(&diagnosis);
                }
                diagnosis.works
            }
            DiagnosedObject::Frontend(frontend) => {
                let diagnosis = client.diagnose_frontend(frontend, self.host.as_deref()).await?;
                if context.json {
                    show::json(&diagnosis);
                } else {
                    show::probe::frontend_diagnosis(&diagnosis);
                }
                diagnosis.works
            }
        };
        Ok(if works { ExitStatus::Done } else { ExitStatus::No })
    }
}
