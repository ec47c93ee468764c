//! `merismos doctor`

use merismos_core::machine::MachineFinding;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// Looks at the machine of the node that answers.
pub(super) async fn run(context: &CommandContext) -> Result<ExitStatus, CliError> {
    let found = context.target.client()?.machine().await?;
    if context.json {
        show::json(&found);
    } else {
        show::doctor::report(&found);
    }
    let presses = found.findings.iter().any(MachineFinding::is_pressing);
    Ok(if presses { ExitStatus::No } else { ExitStatus::Done })
}
