//! What messages are made of.

use std::collections::BTreeSet;

use super::super::notification::{MailTarget, MailTls, NotificationSpec, NotifiedChange, WebhookTarget};
use super::super::tree::Value;
use super::checks::secret;
use super::{Section, name, span, text};
use crate::name::Name;
use crate::units::Span;

pub(super) fn message(mut section: Section<'_, '_>) -> Option<NotificationSpec> {
    let line = section.line;
    let pools = section.value("pools", pools);
    let changes = section.value("changes", changes);
    let after = section.value("min_duration", span("1s", "24h"));
    let gather = section.value("batch_window", span("100ms", "10m"));
    let at_most_every = section.value("min_interval", span("1s", "24h"));
    let has = |key: &str| section.entries.iter().any(|(name, _, _)| name == key);
    let (has_webhook, has_mail) = (has("webhook"), has("mail_to"));
    let webhook = section.value("webhook", url);
    let webhook_secret = section.value("webhook_secret", secret);
    let mail = mail(&mut section, has_mail);
    let (labels, note) = section.about();
    if !has_webhook && !has_mail {
        let wanted = "webhook = \"https://...\", or mail_to, mail_from and mail_server".to_owned();
        section.problem("webhook", line, "the message goes nowhere".to_owned(), wanted);
    }
    section.close();
    Some(NotificationSpec {
        pools: pools.unwrap_or_default(),
        changes: changes.unwrap_or_else(|| {
            BTreeSet::from([NotifiedChange::Down, NotifiedChange::Up, NotifiedChange::Empty])
        }),
        min_duration: after,
        batch_window: gather.unwrap_or(Span::from_millis(5_000)),
        min_interval: at_most_every.unwrap_or(Span::from_millis(60_000)),
        webhook: webhook.map(|url| WebhookTarget { url, secret: webhook_secret }),
        mail,
        note,
        labels,
    })
}

fn mail(section: &mut Section<'_, '_>, wanted: bool) -> Option<MailTarget> {
    let to = section.value("mail_to", |value| {
        let wanted = || "a list of 1 to 20 addresses, such as [\"watch@skerry.example\"]".to_owned();
        let Value::List(items) = value else { return Err(wanted()) };
        let all: Result<Vec<String>, String> = items.iter().map(|item| mailbox(&item.value)).collect();
        all.ok().filter(|all| (1..=20).contains(&all.len())).ok_or_else(wanted)
    });
    let (from, server) = if wanted {
        (section.required("mail_from", mailbox), section.required("mail_server", server))
    } else {
        (section.value("mail_from", mailbox), section.value("mail_server", server))
    };
    let tls = section.value("mail_tls", |value| match text(value) {
        Some("starttls") => Ok(MailTls::StartTls),
        Some("tls") => Ok(MailTls::Tls),
        Some("none") => Ok(MailTls::None),
        _ => Err("\"begun\", \"whole\" or \"none\"".to_owned()),
    });
    let user = section.value("mail_user", |value| {
        let user = text(value).filter(|user| (1..=200).contains(&user.len())).map(str::to_owned);
        user.ok_or_else(|| "who logs in: a text of 1 to 200 bytes".to_owned())
    });
    let password = section.value("mail_password", secret);
    Some(MailTarget { to: to?, from: from?, server: server?, tls: tls.unwrap_or_default(), user, password })
}

fn pools(value: &Value) -> Result<Vec<Name>, String> {
    let wanted =
        || "a list of names of pools, such as [\"booking\"]; of all pools without this key".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    items.iter().map(|item| name(&item.value)).collect::<Result<_, _>>().map_err(|_| wanted())
}

fn changes(value: &Value) -> Result<BTreeSet<NotifiedChange>, String> {
    let wanted =
        || "a list of \"down\", \"up\", \"suspect\", \"flapping\", \"empty\" and \"filled\"".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    let change =
        |item: &str| NotifiedChange::ALL.iter().find(|(name, _)| *name == item).map(|(_, value)| *value);
    let all: Option<BTreeSet<NotifiedChange>> =
        items.iter().map(|item| text(&item.value).and_then(change)).collect();
    all.filter(|all| !all.is_empty()).ok_or_else(wanted)
}

fn url(value: &Value) -> Result<String, String> {
    let good = |url: &&str| {
        let rest = url.strip_prefix("https://").or_else(|| url.strip_prefix("http://"));
        url.len() <= 2_000
            && url.bytes().all(|byte| byte.is_ascii_graphic())
            && rest.is_some_and(|rest| !rest.is_empty() && !rest.starts_with('/') && !rest.contains('@'))
    };
    let url = text(value).filter(good).map(str::to_owned);
    url.ok_or_else(|| "an http or https URL without a password in it".to_owned())
}

fn mailbox(value: &Value) -> Result<String, String> {
    let good = |mailbox: &&str| {
        let mut parts = mailbox.split('@');
        let (local, domain, no_more) = (parts.next(), parts.next(), parts.next().is_none());
        let plain = |part: &str| {
            !part.is_empty()
                && part.bytes().all(|byte| byte.is_ascii_alphanumeric() || b".-_+".contains(&byte))
        };
        mailbox.len() <= 254 && no_more && local.is_some_and(plain) && domain.is_some_and(plain)
    };
    let mailbox = text(value).filter(good).map(str::to_owned);
    mailbox.ok_or_else(|| "an e-mail address, such as \"watch@skerry.example\"".to_owned())
}

fn server(value: &Value) -> Result<String, String> {
    let good = |server: &&str| {
        let Some((host, port)) = server.rsplit_once(':') else { return false };
        let plain = |byte: u8| byte.is_ascii_alphanumeric() || b".-_[]:".contains(&byte);
        !host.is_empty() && host.bytes().all(plain) && port.parse::<u16>().is_ok_and(|port| port != 0)
    };
    let server = text(value).filter(good).map(str::to_owned);
    server.ok_or_else(|| "a mail server and its port, such as \"mail.skerry.example:587\"".to_owned())
}
