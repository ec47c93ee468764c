//! Messages to people: gathered, signed, delivered, and not lost.

use hmac::{Hmac, KeyInit, Mac};
use merismos_core::duty::Duty;
use merismos_core::health::HealthState;
use merismos_lab::free::free_address;
use merismos_lab::stand_in::{Fault, ReceivedMail, StandIn};
use serde_json::Value;
use sha2::{Digest, Sha256};

use crate::harness::{Database, Instance, Service, until};

/// A service with two servers and one message by webhook and one by mail.
struct NotifiedService {
    service: Service,
    hook: StandIn,
    mail: StandIn,
    _secret: tempfile::NamedTempFile,
}

const SECRET: &str = "seagulls at noon";

async fn notified_service(database: Database) -> NotifiedService {
    let service = Service::bare(database, &["gull", "tern"]).await;
    let (hook, mail) = (
        StandIn::for_posts("bell", free_address()).unwrap(),
        StandIn::for_mail("post", free_address()).unwrap(),
    );
    let secret = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(secret.path(), SECRET).unwrap();
    let often = "batch_window = \"2s\"\nmin_interval = \"1s\"\nchanges = [\"down\", \"up\", \"empty\"]";
    let text = service.document()
        + &format!(
            "\n[notifications.bell]\nwebhook = \"http://{}/hook\"\nwebhook_secret = \"file:{}\"\n{often}\n\
             [notifications.post]\nmail_to = [\"watch@skerry.example\"]\nmail_from = \"merismos@skerry.example\"\n\
             mail_server = \"{}\"\nmail_tls = \"none\"\n{often}\n",
            hook.address,
            secret.path().display(),
            mail.address
        );
    service.apply(&text).await.unwrap();
    service.all_up().await;
    NotifiedService { service, hook, mail, _secret: secret }
}

fn field<'l>(message: &'l ReceivedMail, name: &str) -> &'l str {
    message
        .fields
        .iter()
        .find(|(field, _)| field == name)
        .map(|(_, value)| value.as_str())
        .unwrap_or_default()
}

fn base64(bytes: &[u8]) -> String {
    use base64::Engine;
    base64::engine::general_purpose::STANDARD.encode(bytes)
}

/// What a receiver does to know who sent it (RFC 9421, 3.2).
fn is_signed(message: &ReceivedMail, url: &str, key: &str) -> bool {
    let parameters = field(message, "signature-input").strip_prefix("message=").unwrap();
    let digest = field(message, "content-digest");
    assert_eq!(digest, format!("sha-256=:{}:", base64(&Sha256::digest(message.text.as_bytes()))));
    let base = format!(
        "\"@method\": POST\n\"@target-uri\": {url}\n\"content-type\": {}\n\"content-digest\": {digest}\n\
         \"@signature-params\": {parameters}",
        field(message, "content-type")
    );
    let mut mac = Hmac::<Sha256>::new_from_slice(key.as_bytes()).unwrap();
    mac.update(base.as_bytes());
    field(message, "signature") == format!("message=:{}:", base64(&mac.finalize().into_bytes()))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_rack_that_goes_down_is_one_signed_post_and_one_mail() {
    let setup = notified_service(Database::shared()).await;
    for stand_in in &setup.service.stand_ins {
        stand_in.set(Fault::Refuse).await;
    }
    until("both stand-ins got a message", async || {
        !setup.hook.inbox().is_empty() && !setup.mail.inbox().is_empty()
    })
    .await;
    let message = setup.hook.inbox()[0].clone();
    let url = format!("http://{}/hook", setup.hook.address);
    assert!(is_signed(&message, &url, SECRET));
    assert!(!is_signed(&message, &url, "another secret"), "the signature depends on the secret");
    let body: Value = serde_json::from_str(&message.text).unwrap();
    let mut changes: Vec<String> = body["changes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|change| {
            format!("{} {}", change["subject"].as_str().unwrap(), change["change"].as_str().unwrap())
        })
        .collect();
    changes.sort();
    assert_eq!(changes, ["pool quay empty", "quay/gull down", "quay/tern down"], "{body:#}");
    assert!(body["changes"][0]["message"].as_str().unwrap().contains("refused"), "{body:#}");
    let mail = setup.mail.inbox()[0].clone();
    assert!(
        mail.text.contains("Subject: pool quay: 2 down; pool quay: no server is eligible"),
        "{}",
        mail.text
    );
    assert!(mail.text.contains("quay/gull") && mail.text.contains("refused"), "{}", mail.text);
    assert_eq!(field(&mail, "rcpt"), "<watch@skerry.example>");
    let sent = setup.service.client().messages(10).await.unwrap().messages;
    until("both are known as delivered", async || {
        let sent = setup.service.client().messages(10).await.unwrap().messages;
        sent.len() == 2 && sent.iter().all(|message| message.delivered.is_some() && message.tries == 1)
    })
    .await;
    assert_eq!(sent.len(), 2, "one each: {sent:#?}");
    let shown = setup.service.merismos(&["notification", "sent"]);
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(shown.contains("bell") && shown.contains("2 down"), "{shown}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn within_a_window_nothing_is_reported_of_its_servers() {
    let setup = notified_service(Database::shared()).await;
    // What is left of it is enough to go down and up again.
    let night = crate::windows::plan(&["quay/gull"], -45);
    setup.service.client().put_window(&"night".parse().unwrap(), &night).await.unwrap();
    let drains =
        async || setup.service.server("gull").await.duty.is_some_and(|order| order.duty == Duty::Draining);
    until("gull drains", drains).await;
    let is =
        async |server: &str, state: HealthState| setup.service.server(server).await.health.state == state;
    setup.service.stand_ins[0].set(Fault::Refuse).await;
    until("gull is down", async || is("gull", HealthState::Down).await).await;
    setup.service.stand_ins[0].set(Fault::None).await;
    until("gull is up", async || is("gull", HealthState::Up).await).await;
    assert!(drains().await, "the window is still open");
    // The other server is not in the window.
    setup.service.stand_ins[1].set(Fault::Refuse).await;
    until("tern is reported", async || !setup.hook.inbox().is_empty()).await;
    let texts: Vec<String> = setup.hook.inbox().into_iter().map(|message| message.text).collect();
    assert!(
        texts[0].contains("quay/tern") && !texts.iter().any(|text| text.contains("quay/gull")),
        "{texts:?}"
    );
    setup.service.stand_ins[1].set(Fault::None).await;
    until("the end says what was held back", async || {
        let events = setup.service.client().events(50).await.unwrap().events;
        events.iter().any(|event| {
            event.subject == "window night"
                && event.message.ends_with("; 3 changes of health within it were not reported")
        })
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_mail_server_that_is_down_for_a_while_gets_its_mail_also_after_a_crash() {
    let mut setup = notified_service(Database::shared()).await;
    setup.mail.set(Fault::Refuse).await;
    setup.hook.set(Fault::Error { status: 503 }).await;
    setup.service.stand_ins[0].set(Fault::Refuse).await;
    let on_their_way = async |setup: &NotifiedService| {
        let sent = setup.service.client().messages(10).await.unwrap().messages;
        sent.iter()
            .filter(|message| message.next_try.is_some() && message.tries >= 2 && message.why.is_some())
            .count()
    };
    until("both were tried twice", async || on_their_way(&setup).await == 2).await;
    let events = setup.service.client().events(50).await.unwrap().events;
    let says = events
        .iter()
        .filter(|event| event.message.contains("could not be delivered, and is tried again"))
        .count();
    assert_eq!(says, 2, "each is reported once: {events:#?}");
    setup.service.crash_and_restart().await;
    until("they are known again", async || {
        setup.service.client().messages(10).await.unwrap().messages.len() == 2
    })
    .await;
    setup.mail.set(Fault::None).await;
    setup.hook.set(Fault::None).await;
    until("both arrived", async || setup.mail.inbox().len() == 1 && setup.hook.inbox().len() == 1).await;
    until("that is known", async || {
        let sent = setup.service.client().messages(10).await.unwrap().messages;
        sent.iter().all(|message| message.delivered.is_some())
    })
    .await;
    assert!(setup.mail.inbox()[0].text.contains("quay/gull: down after"), "{:?}", setup.mail.inbox());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_nobody_wants_any_more_is_given_up() {
    let setup = notified_service(Database::shared()).await;
    setup.hook.set(Fault::Error { status: 503 }).await;
    setup.service.stand_ins[0].set(Fault::Refuse).await;
    let bell = async |setup: &NotifiedService| {
        let sent = setup.service.client().messages(10).await.unwrap().messages;
        sent.into_iter().find(|message| message.name == "bell")
    };
    until("it waits", async || {
        bell(&setup).await.is_some_and(|message| message.tries > 0 && message.next_try.is_some())
    })
    .await;
    let shown = setup.service.merismos(&["notification", "remove", "bell"]);
    assert!(shown.status.success(), "{shown:?}");
    until("it is given up", async || bell(&setup).await.is_some_and(|message| message.next_try.is_none()))
        .await;
    assert_eq!(bell(&setup).await.unwrap().delivered, None);
    let events = setup.service.client().events(50).await.unwrap().events;
    assert!(
        events
            .iter()
            .any(|event| event.message.contains("is given up: it is not in the running configuration"))
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn messages_go_out_while_the_database_is_away() {
    let setup = notified_service(Database::Own(Instance::new())).await;
    let Database::Own(instance) = &setup.service.database else { panic!("it has an instance of its own") };
    instance.kill();
    setup.service.stand_ins[0].set(Fault::Refuse).await;
    until("both stand-ins got a message", async || {
        setup.hook.inbox().len() == 1 && setup.mail.inbox().len() == 1
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_message_can_be_tried() {
    let setup = notified_service(Database::shared()).await;
    let tried = setup.service.merismos(&["notification", "try", "bell"]);
    assert!(tried.status.success(), "{tried:?}");
    assert!(setup.hook.inbox()[0].text.contains("a try by admin: nothing changed"));
    setup.mail.set(Fault::Error { status: 500 }).await;
    let tried = setup.service.merismos(&["notification", "try", "post"]);
    let said = String::from_utf8_lossy(&tried.stdout).into_owned();
    assert_eq!(tried.status.code(), Some(1), "{said}");
    assert!(said.contains("not delivered") && said.contains("451"), "{said}");
    let unknown = setup.service.merismos(&["notification", "try", "unknown"]);
    assert_eq!(unknown.status.code(), Some(2), "{unknown:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_secret_that_can_not_be_had_is_said_when_it_is_referred_to() {
    let service = Service::bare(Database::shared(), &["gull"]).await;
    let message = "\n[notifications.post]\nmail_to = [\"watch@skerry.example\"]\nmail_from = \"merismos@skerry.example\"\n\
                   mail_server = \"192.0.2.1:25\"\nmail_user = \"merismos\"\nmail_password = \"file:/etc/shadow\"\n";
    let review = service.apply(&(service.document() + message)).await.unwrap();
    let said: Vec<_> = review
        .warnings
        .iter()
        .map(|warning| (warning.warning.key.as_str(), warning.warning.message.as_str()))
        .collect();
    let (key, says) = *said.iter().find(|(key, _)| key.starts_with("no-secret")).unwrap();
    assert_eq!(key, "no-secret:notifications.post.mail_password");
    assert!(says.contains("/etc/shadow is not in the folder for secrets"), "{says}");
    let again = service.apply(&(service.document() + message + "note = \"x\"\n")).await.unwrap();
    assert!(
        again.warnings.iter().all(|warning| !warning.warning.key.starts_with("no-secret")),
        "it was said before"
    );
}
