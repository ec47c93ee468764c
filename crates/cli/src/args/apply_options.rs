//! How a change goes live: the flags that every changing command takes.

use merismos_api::{ApplyOptions, ChangeRequest, DraftEdits, Review};
use merismos_core::config::edit::Edit;
use merismos_core::name::Name;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// Flags of a change.
#[derive(Clone, Debug, clap::Args)]
#[command(next_help_heading = "How it goes live")]
pub(super) struct ChangeArgs {
    /// Show the change and its effects without making it
    #[arg(long)]
    pub(super) preview: bool,
    /// Reason for the change, kept with the revision
    #[arg(long, default_value = "", value_name = "TEXT")]
    pub(super) revision_note: String,
    /// Refuse the change if another revision than this one is running
    #[arg(long, value_name = "REVISION")]
    pub(super) based_on: Option<u64>,
    /// Accept the warning with this key; may be given several times
    #[arg(long, value_name = "KEY", value_parser = warning_key)]
    pub(super) accept_warning: Vec<String>,
    /// Servers that the change adds join withdrawn: they can be tried, and get clients when they are returned
    #[arg(long)]
    pub(super) withdrawn: bool,
}

impl From<ChangeArgs> for ApplyOptions {
    fn from(args: ChangeArgs) -> Self {
        let ChangeArgs { preview, revision_note, based_on, accept_warning, withdrawn } = args;
        Self { note: revision_note, preview, quick: false, based_on, accept: accept_warning, withdrawn }
    }
}

/// Flags of a change that may also gather in a draft.
#[derive(Clone, Debug, clap::Args)]
pub(super) struct ChangeTargetArgs {
    #[command(flatten)]
    going: ChangeArgs,
    /// Make the change in this draft instead of the running configuration
    #[arg(long, value_name = "DRAFT", conflicts_with_all = ["preview", "based_on", "withdrawn"], help_heading = "How it goes live")]
    draft: Option<Name>,
}

/// The key of a warning: its kind and where it stands.
///
/// # Errors
/// What such a key looks like, and what may have been meant.
pub(super) fn warning_key(text: &str) -> Result<String, String> {
    let looks_right = text.split_once(':').is_some_and(|(kind, path)| {
        !path.is_empty()
            && !kind.is_empty()
            && kind.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'-')
    });
    if looks_right {
        return Ok(text.to_owned());
    }
    Err("a warning's key looks like empty-pool:pools.booking, and is printed with the warning".to_owned())
}

impl ChangeTargetArgs {
    /// The draft that the change is made in.
    pub(super) fn draft(&self) -> Option<&Name> {
        self.draft.as_ref()
    }

    /// Makes edits: live at once, or in a draft.
    pub(super) async fn make(
        self,
        context: &CommandContext,
        edits: Vec<Edit>,
    ) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        if let Some(draft) = self.draft {
            let ChangeArgs { revision_note: note, accept_warning: accept, .. } = self.going;
            let note = Some(note).filter(|note| !note.is_empty());
            let before = if context.json { Vec::new() } else { client.draft(&draft).await?.changes };
            let review =
                client.edit_draft(&draft, &DraftEdits { edits, preview: false, accept, note }).await?;
            if context.json {
                show::json(&review);
            } else {
                show::drafts::edited(&before, &review);
            }
            return Ok(ExitStatus::Done);
        }
        let preview = self.going.preview;
        let review = client.change(&ChangeRequest { edits, going: self.going.into() }).await?;
        print(context, &review, preview);
        Ok(ExitStatus::Done)
    }
}

/// Prints what a change did or would do.
pub(super) fn print(context: &CommandContext, review: &Review, preview: bool) {
    if context.json {
        show::json(review);
    } else {
        show::review::print(review, preview);
    }
}
