//! Notifications: which changes are reported, to whom and how.

use std::collections::BTreeSet;

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantArray, VariantNames};

use crate::config::decode::Section;
use crate::config::document::Labels;
use crate::config::schema::checks::SecretRef;
use crate::name::Name;
use crate::units::Span;

/// Who is notified of which changes: by a webhook, by e-mail, or both.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
#[keys(check = goes_somewhere)]
pub struct NotificationSpec {
    /// Pools whose changes are reported.
    #[key(basic, refers = Pool, count = 0..=1000, without = "all pools")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pools: Vec<Name>,
    /// Changes that are reported.
    #[key(basic, default = "down up empty", count = 1..=12)]
    pub changes: BTreeSet<NotifiedChange>,
    /// Shortest time that a change has to last before it is reported.
    ///
    /// A change that is reverted within it is not reported, and neither is its end.
    #[key(basic, range = "1s".."24h", group = "Timing", without = "at once")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min_duration: Option<Span>,
    /// Time in which changes are gathered into one message.
    #[key(range = "100ms".."10m", default = "5s")]
    pub batch_window: Span,
    /// Shortest time between two messages; changes meanwhile wait for the next.
    #[key(range = "1s".."24h", default = "1m")]
    pub min_interval: Span,
    /// The webhook that is posted to.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub webhook: Option<WebhookTarget>,
    /// The e-mail that is sent.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub mail: Option<MailTarget>,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "std::collections::BTreeMap::is_empty")]
    pub labels: Labels,
}

/// A notification needs somewhere to go.
fn goes_somewhere(section: &mut Section<'_, '_>) {
    if !section.holds("webhook") && !section.holds("mail_to") {
        section.problem(
            "webhook",
            "the notification goes nowhere",
            "webhook = \"https://...\", or mail_to, mail_from and mail_server",
        );
    }
}

/// Where JSON is posted to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct WebhookTarget {
    /// URL to which messages are posted as JSON.
    ///
    /// A status of the 200s within 10 s means that the message was taken.
    #[key(basic, format = URL, group = "Webhook")]
    #[serde(rename = "webhook")]
    pub url: String,
    /// Reference to the secret that signs posts (RFC 9421, `hmac-sha256`).
    #[key(basic, example = "environment:MERISMOS_SECRET_HOOK", without = "posts are not signed")]
    #[serde(rename = "webhook_secret", skip_serializing_if = "Option::is_none")]
    pub secret: Option<SecretRef>,
}

/// Which e-mail is sent.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct MailTarget {
    /// Addresses to which e-mail is sent.
    #[key(basic, format = MAILBOX, count = 1..=20, group = "E-mail", label = "E-mail to", needed, example = "watch@skerry.example")]
    #[serde(rename = "mail_to")]
    pub to: Vec<String>,
    /// Address from which e-mail is sent.
    #[key(basic, format = MAILBOX, label = "E-mail from", example = "merismos@skerry.example")]
    #[serde(rename = "mail_from")]
    pub from: String,
    /// Mail server and its port.
    #[key(basic, format = MAIL_SERVER)]
    #[serde(rename = "mail_server")]
    pub server: String,
    /// How TLS is used with the mail server.
    #[key(default = "starttls", label = "Mail server's TLS")]
    #[serde(rename = "mail_tls")]
    pub tls: MailTls,
    /// User that logs in at the mail server.
    #[key(format = USER, without = "no log-in", label = "Mail server's user")]
    #[serde(rename = "mail_user", skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Reference to that user's password.
    ///
    /// It is not sent without TLS, except to loopback.
    #[key(example = "environment:MERISMOS_SECRET_MAIL", label = "Mail server's password")]
    #[serde(rename = "mail_password", skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretRef>,
}

/// How a mail server is spoken to.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum MailTls {
    /// TLS begins on a plain connection (RFC 3207), and nothing is sent without it.
    #[default]
    StartTls,
    /// TLS from the first byte (RFC 8314).
    Tls,
    /// No TLS, for a server on a trusted network.
    None,
}

/// Which changes are reported.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Display,
    EnumString,
    VariantNames,
    VariantArray,
    EnumMessage,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
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
    /// A frontend fails many requests (`failing_share`).
    Failing,
    /// A frontend serves its clients well again.
    Answering,
    /// Work goes to another tier, another pool or the last resort.
    Moved,
    /// Work goes to its usual tier and pool again.
    MovedBack,
    /// A server that was taken out is not back at the time that its order names.
    Overdue,
    /// A roll stopped because the work on a server failed, or the server did worse afterwards.
    RollFailed,
    /// A certificate ends soon (see `remind_before` of certificates), and nobody has replaced it.
    CertificateEnds,
    /// A certificate can't be shown to clients as its files are now, or could not be ordered.
    CertificateFails,
}

impl NotifiedChange {
    /// The change that undoes it: when it comes before the first was reported, neither is reported.
    #[must_use]
    pub fn undone_by(self) -> Option<Self> {
        match self {
            Self::Down | Self::Suspect | Self::Flapping => Some(Self::Up),
            Self::Empty => Some(Self::Filled),
            Self::Failing => Some(Self::Answering),
            Self::Moved => Some(Self::MovedBack),
            Self::Up
            | Self::Filled
            | Self::Answering
            | Self::MovedBack
            | Self::Overdue
            | Self::RollFailed
            | Self::CertificateEnds
            | Self::CertificateFails => None,
        }
    }
}
