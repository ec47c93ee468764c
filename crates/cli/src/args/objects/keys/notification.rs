//! The keys of messages.

use merismos_core::config::object::ObjectKind;
use merismos_core::name::Name;
use serde::Serialize;

use super::ObjectKeys;

/// What a message is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct NotificationKeys {
    /// The pools whose changes are told, with commas between; all of them without it
    #[arg(long, value_name = "POOL", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pools: Vec<Name>,
    /// Which changes, with commas between: down, up, suspect, flapping, empty, filled, failing, answering,
    /// moved, moved-back
    #[arg(long, value_name = "CHANGE", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    changes: Vec<String>,
    /// Only what has lasted so long is told, such as 30s
    #[arg(long, value_name = "DURATION")]
    min_duration: Option<String>,
    /// Changes that follow each other within this time are one message, such as 5s
    #[arg(long, value_name = "DURATION")]
    batch_window: Option<String>,
    /// The least time between two messages, such as 1m
    #[arg(long, value_name = "DURATION")]
    min_interval: Option<String>,
    /// The URL that JSON is posted to
    #[arg(long, value_name = "URL")]
    webhook: Option<String>,
    /// Where the secret stands that posts are signed with: environment:MERISMOS_SECRET_NAME, or file:/PATH in the service's secrets folder
    #[arg(long, value_name = "REFERENCE")]
    webhook_secret: Option<String>,
    /// To whom e-mail is sent, with commas between
    #[arg(long, value_name = "ADDRESS", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    mail_to: Vec<String>,
    /// From whom
    #[arg(long, value_name = "ADDRESS")]
    mail_from: Option<String>,
    /// The mail server
    #[arg(long, value_name = "HOST:PORT")]
    mail_server: Option<String>,
    /// TLS with the mail server: starttls (on a plain connection), tls (from the first byte) or none
    #[arg(long, value_name = "HOW")]
    mail_tls: Option<String>,
    /// Who logs in at the mail server
    #[arg(long, value_name = "USER")]
    mail_user: Option<String>,
    /// Where that user's password stands: environment:MERISMOS_SECRET_NAME, or file:/PATH in the service's secrets folder
    #[arg(long, value_name = "REFERENCE")]
    mail_password: Option<String>,
}

impl ObjectKeys for NotificationKeys {
    const KIND: ObjectKind = ObjectKind::Notification;
    type Name = Name;
}
