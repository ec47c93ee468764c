//! Messages by e-mail, over SMTP.

use std::time::Duration;

use lettre::message::Mailbox;
use lettre::message::header::ContentType;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Tokio1Executor};
use merismos_core::config::document::{MailTarget, MailTls};
use merismos_probe::secret_ref::SecretCache;
use merismos_store::StoredMessage;

const SUBJECT: usize = 150;

/// Sends a message.
///
/// # Errors
/// In words, when the server did not take it.
pub(super) async fn send(
    mail: &MailTarget,
    message: &StoredMessage,
    secrets: &SecretCache,
    limit: Duration,
) -> Result<(), String> {
    let wrong = |error: &dyn std::fmt::Display| format!("the mail can't be written: {error}");
    let mailbox = |text: &str| text.parse::<Mailbox>().map_err(|error| wrong(&error));
    let mut letter = lettre::Message::builder()
        .from(mailbox(&mail.from)?)
        .subject(subject(message))
        // A reader who gets it twice can see that it is the same.
        .message_id(Some(format!("<{}.{}@merismos>", message.id, message.name)))
        .header(ContentType::TEXT_PLAIN);
    for to in &mail.to {
        letter = letter.to(mailbox(to)?);
    }
    let letter = letter.body(text(message)).map_err(|error| wrong(&error))?;
    let (host, port) = mail.server.rsplit_once(':').ok_or("mail_server is no host:port")?;
    let host = host.trim_start_matches('[').trim_end_matches(']');
    let parameters = || TlsParameters::new(host.to_owned()).map_err(|error| wrong(&error));
    let mut server = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(host)
        .port(port.parse().map_err(|_| "mail_server is no host:port")?)
        .timeout(Some(limit))
        .tls(match mail.tls {
            MailTls::StartTls => Tls::Required(parameters()?),
            MailTls::Tls => Tls::Wrapper(parameters()?),
            MailTls::None => Tls::None,
        });
    if let Some(user) = &mail.user {
        let is_open = mail.tls == MailTls::None && mail.password.is_some();
        if is_open && !is_loopback(host).await {
            return Err(format!(
                "the password for {host} is not sent in plain text (mail_tls = \"none\"): set mail_tls to \"begun\" or \"whole\""
            ));
        }
        let password =
            mail.password.as_ref().map(|secret| secrets.read(secret)).transpose()?.unwrap_or_default();
        server = server.credentials(Credentials::new(user.clone(), password));
    }
    let sent = tokio::time::timeout(limit, server.build().send(letter)).await;
    let failed = |error: &dyn std::fmt::Display| format!("the mail server {}: {error}", mail.server);
    match sent {
        Ok(Ok(_)) => Ok(()),
        Ok(Err(error)) => {
            let cause =
                std::error::Error::source(&error).map(|source| format!(": {source}")).unwrap_or_default();
            Err(failed(&format!("{error}{cause}")))
        }
        Err(_) => Err(failed(&"no answer in time")),
    }
}

/// Whether every address of a host is this machine's own.
async fn is_loopback(host: &str) -> bool {
    let Ok(addresses) = tokio::net::lookup_host((host, 0)).await else { return false };
    let mut addresses = addresses.peekable();
    addresses.peek().is_some() && addresses.all(|address| address.ip().is_loopback())
}

fn subject(message: &StoredMessage) -> String {
    let says = message.body["message"].as_str().unwrap_or_default();
    let short: String = says.chars().take(SUBJECT).collect();
    if short.len() < says.len() { format!("{short}…") } else { short }
}

/// Everything that changed, a line each.
fn text(message: &StoredMessage) -> String {
    let mut text = format!("{}\r\n\r\n", message.body["message"].as_str().unwrap_or_default());
    for change in message.body["changes"].as_array().into_iter().flatten() {
        let of = |key: &str| change[key].as_str().unwrap_or_default();
        text += &format!("{}  {}  {}\r\n", of("at"), of("subject"), of("message"));
    }
    if let Some(more @ 1..) = message.body["more_changes"].as_u64() {
        text += &format!("and {more} more\r\n");
    }
    text + &format!("\r\nSent by notification {} of the configuration.\r\n", message.name)
}
