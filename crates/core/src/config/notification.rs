//! Messages: who is told of which changes, and how.

use std::collections::BTreeSet;
use std::fmt;

use serde::Serialize;

use super::checks::SecretRef;
use super::document::Labels;
use crate::name::Name;
use crate::units::Span;

/// A standing wish to be told of changes, by a webhook, by e-mail, or both.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct NotificationSpec {
    /// Changes of these pools are told; of all pools when it is empty.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pools: Vec<Name>,
    /// Which changes.
    pub changes: BTreeSet<NotifiedChange>,
    /// Only what has lasted so long is told. 1s to 24h.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min_duration: Option<Span>,
    /// Changes that follow each other within this time are one message. 100ms to 10m.
    pub batch_window: Span,
    /// The least time between two messages. 1s to 24h.
    pub min_interval: Span,
    /// The webhook that is posted to.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub webhook: Option<WebhookTarget>,
    /// The e-mail that is sent.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub mail: Option<MailTarget>,
    /// What it is for, in the engineer's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Labels.
    #[serde(skip_serializing_if = "std::collections::BTreeMap::is_empty")]
    pub labels: Labels,
}

/// Where JSON is posted to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct WebhookTarget {
    /// The URL, `http` or `https`.
    #[serde(rename = "webhook")]
    pub url: String,
    /// Where the secret stands that requests are signed with (RFC 9421, `hmac-sha256`); unsigned without it.
    #[serde(rename = "webhook_secret", skip_serializing_if = "Option::is_none")]
    pub secret: Option<SecretRef>,
}

/// Which e-mail is sent.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct MailTarget {
    /// To whom.
    #[serde(rename = "mail_to")]
    pub to: Vec<String>,
    /// From whom.
    #[serde(rename = "mail_from")]
    pub from: String,
    /// The mail server, `host:port`.
    #[serde(rename = "mail_server")]
    pub server: String,
    /// How it is spoken to.
    #[serde(rename = "mail_tls")]
    pub tls: MailTls,
    /// Who logs in, if anybody has to.
    #[serde(rename = "mail_user", skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Where the password stands.
    #[serde(rename = "mail_password", skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretRef>,
}

/// How a mail server is spoken to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum MailTls {
    /// TLS is begun on a plain connection (RFC 3207), and nothing is sent without it.
    #[default]
    StartTls,
    /// TLS from the first byte (RFC 8314).
    Tls,
    /// None, for a server on a network that is trusted.
    None,
}

/// What is told of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum NotifiedChange {
    /// A server went down.
    Down,
    /// A server is up again after it was down.
    Up,
    /// A server fails, and is not yet down.
    Suspect,
    /// A server went down and is flapping.
    Flapping,
    /// No server of a pool is eligible any more.
    Empty,
    /// A pool has an eligible server again.
    Filled,
    /// A frontend fails many of its clients.
    Failing,
    /// A frontend answers its clients well again.
    Answering,
    /// Work goes to another tier, another pool or the last resort.
    Moved,
    /// Work goes where it is meant to again.
    MovedBack,
}

impl NotifiedChange {
    /// All of them, by name.
    pub const ALL: [(&'static str, Self); 10] = [
        ("down", Self::Down),
        ("up", Self::Up),
        ("suspect", Self::Suspect),
        ("flapping", Self::Flapping),
        ("empty", Self::Empty),
        ("filled", Self::Filled),
        ("failing", Self::Failing),
        ("answering", Self::Answering),
        ("moved", Self::Moved),
        ("moved-back", Self::MovedBack),
    ];

    /// The change that undoes it: when it comes before the first was told, neither is.
    #[must_use]
    pub fn undone_by(self) -> Option<Self> {
        match self {
            Self::Down | Self::Suspect | Self::Flapping => Some(Self::Up),
            Self::Empty => Some(Self::Filled),
            Self::Failing => Some(Self::Answering),
            Self::Moved => Some(Self::MovedBack),
            Self::Up | Self::Filled | Self::Answering | Self::MovedBack => None,
        }
    }
}

impl fmt::Display for NotifiedChange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = Self::ALL.iter().find(|(_, change)| change == self).map_or("", |(name, _)| name);
        f.pad(name)
    }
}
