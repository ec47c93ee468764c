//! `merismos draft <verb>`

use clap::Subcommand;
use merismos_api::{AcceptedWarning, ApplyOptions, DraftEdits, NewDraft};
use merismos_core::name::Name;

use super::CommandContext;
use super::apply_options;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, Subcommand)]
pub(super) enum DraftCommand {
    /// List drafts
    List,
    /// Create a draft of the running configuration; other commands change it with --draft
    Create {
        /// Name of the draft
        name: Name,
        /// Purpose of the draft; it becomes the note of the revision
        #[arg(long, default_value = "", value_name = "TEXT")]
        note: String,
    },
    /// Review a draft: its changes, their effects, and its mistakes
    Review {
        /// Name of the draft
        name: Name,
    },
    /// Accept warnings of a draft
    Accept {
        /// Name of the draft
        name: Name,
        /// Keys of the warnings
        #[arg(required = true, value_parser = apply_options::warning_key)]
        keys: Vec<String>,
    },
    /// Apply a draft: it becomes the running revision
    Deploy {
        /// Name of the draft
        name: Name,
        /// Reason for the change [default: the draft's note]
        #[arg(long, default_value = "", value_name = "TEXT")]
        revision_note: String,
        /// Accept the warning with this key; may be given several times
        #[arg(long, value_name = "KEY", value_parser = apply_options::warning_key)]
        accept_warning: Vec<String>,
    },
    /// Rebase a draft onto the running configuration
    Rebase {
        /// Name of the draft
        name: Name,
    },
    /// Delete a draft
    Discard {
        /// Name of the draft
        name: Name,
    },
}

impl DraftCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        let review = match self {
            Self::List => {
                let drafts = client.drafts().await?;
                if context.json {
                    show::json(&drafts);
                } else {
                    show::drafts::list(&drafts);
                }
                return Ok(ExitStatus::Done);
            }
            Self::Create { name, note } => {
                let draft = client.begin_draft(&NewDraft { name, note }).await?;
                if context.json {
                    show::json(&draft);
                } else {
                    show::drafts::begun(&draft);
                }
                return Ok(ExitStatus::Done);
            }
            Self::Deploy { name, revision_note, accept_warning } => {
                let going =
                    ApplyOptions { note: revision_note, accept: accept_warning, ..ApplyOptions::default() };
                let review = client.deploy_draft(&name, going).await?;
                apply_options::print(context, &review, false);
                return Ok(ExitStatus::Done);
            }
            Self::Discard { name } => {
                client.discard_draft(&name).await?;
                if !context.json {
                    show::text(&format!("Draft {name} is thrown away.\n"));
                }
                return Ok(ExitStatus::Done);
            }
            Self::Review { name } => client.draft(&name).await?,
            Self::Accept { name, keys } => {
                client.edit_draft(&name, &DraftEdits { accept: keys, ..DraftEdits::default() }).await?
            }
            Self::Rebase { name } => client.rebase_draft(&name).await?,
        };
        if context.json {
            show::json(&review);
        } else {
            show::drafts::review(&review);
        }
        let needs_word = review
            .review
            .as_ref()
            .is_some_and(|review| review.warnings.iter().any(AcceptedWarning::needs_word));
        let is_ready = review.mistakes.is_empty() && !review.draft.stale && !needs_word;
        Ok(if is_ready { ExitStatus::Done } else { ExitStatus::No })
    }
}
