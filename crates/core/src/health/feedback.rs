//! The server's own word: what it asks for in a field of the answer to a probe.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// The field in which a server asks, where its check listens (`server_feedback = true`). Ours: no standard has one.
pub const FIELD: &str = "merismos-feedback";

/// What a server asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ServerFeedback {
    /// No new clients; those it has may finish.
    Drain,
    /// So many percent of the share that it would have. 1 to 99.
    Share(u8),
}

/// Why a field is no wish.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{FIELD} wants \"drain\" or \"share=N\" with N from 1 to 100; found {0:?}")]
pub struct ServerFeedbackError(String);

impl ServerFeedback {
    /// Reads the field's value; a whole share is no wish.
    ///
    /// # Errors
    /// It is neither `drain` nor `share=N`.
    pub fn read(value: &str) -> Result<Option<Self>, ServerFeedbackError> {
        if value.trim() == "share=100" { Ok(None) } else { value.parse().map(Some) }
    }

    /// What it leaves of a share, in percent.
    #[must_use]
    pub fn percent(self) -> u32 {
        match self {
            Self::Drain => 100,
            Self::Share(percent) => u32::from(percent),
        }
    }
}

impl FromStr for ServerFeedback {
    type Err = ServerFeedbackError;

    fn from_str(text: &str) -> Result<Self, ServerFeedbackError> {
        let wrong = || ServerFeedbackError(text.chars().take(40).collect());
        match text.trim() {
            "drain" => Ok(Self::Drain),
            other => {
                let percent = other.strip_prefix("share=").and_then(|percent| percent.parse().ok());
                percent.filter(|percent| (1..100).contains(percent)).map(Self::Share).ok_or_else(wrong)
            }
        }
    }
}

impl fmt::Display for ServerFeedback {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Drain => write!(f, "asks to be drained"),
            Self::Share(percent) => write!(f, "asks for {percent} % of its share"),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::drain("drain", Ok(Some(ServerFeedback::Drain)))]
    #[case::share_with_spaces(" share=30 ", Ok(Some(ServerFeedback::Share(30))))]
    #[case::least_share("share=1", Ok(Some(ServerFeedback::Share(1))))]
    #[case::full_share("share=100", Ok(None))]
    #[case::share_of_nothing("share=0", Err(()))]
    #[case::more_than_full("share=101", Err(()))]
    #[case::negative_share("share=-1", Err(()))]
    #[case::far_too_much("share=300", Err(()))]
    #[case::capitals("Drain", Err(()))]
    #[case::two_wishes("drain, share=30", Err(()))]
    #[case::empty("", Err(()))]
    fn the_field_is_read_to_the_letter(
        #[case] value: &str,
        #[case] expected: Result<Option<ServerFeedback>, ()>,
    ) {
        let found = ServerFeedback::read(value);
        if let Err(error) = &found {
            assert!(error.to_string().contains(&format!("{value:?}")), "{error}");
        }
        assert_eq!(found.map_err(drop), expected);
    }
}
