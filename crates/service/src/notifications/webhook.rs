//! Messages by webhook: JSON, signed by HTTP message signatures (RFC 9421) with `hmac-sha256`.

use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use merismos_core::config::document::WebhookTarget;
use merismos_probe::secret_ref::SecretCache;
use merismos_store::StoredMessage;
use sha2::{Digest, Sha256};

use super::webhook_client;
use crate::clock::wall;

/// Posts a message.
///
/// # Errors
/// In words, when it was not taken with a status of the 200s.
pub(super) async fn post(
    webhook: &WebhookTarget,
    message: &StoredMessage,
    secrets: &SecretCache,
    limit: Duration,
) -> Result<(), String> {
    let body = message.body.to_string().into_bytes();
    let key = webhook.secret.as_ref().map(|secret| secrets.read(secret)).transpose()?;
    let created = u64::try_from(wall().0 / 1_000).unwrap_or(0);
    let fields = fields(&webhook.url, &body, key.as_deref(), &message.name, created);
    match webhook_client::post(&webhook.url, &fields, body, limit).await {
        Ok(200..=299) => Ok(()),
        Ok(status) => Err(format!("{} answered with status {status}", webhook.url)),
        Err(error) => Err(format!("{}: {error}", webhook.url)),
    }
}

/// The fields of a request: its digest (RFC 9530), and what signs it when there is a key.
fn fields(url: &str, body: &[u8], key: Option<&str>, name: &str, created: u64) -> Vec<(String, String)> {
    let digest = format!("sha-256=:{}:", STANDARD.encode(Sha256::digest(body)));
    let field = |name: &str, value: &str| (name.to_owned(), value.to_owned());
    let mut fields = vec![
        field("content-type", "application/json"),
        field("content-digest", &digest),
        field("user-agent", concat!("merismos/", env!("CARGO_PKG_VERSION"))),
    ];
    let Some(key) = key else { return fields };
    let parameters = format!(
        "(\"@method\" \"@target-uri\" \"content-type\" \"content-digest\");created={created};keyid=\"{name}\";alg=\"hmac-sha256\""
    );
    // RFC 9421, 2.5: each covered component on a line, and the parameters last.
    let base = format!(
        "\"@method\": POST\n\"@target-uri\": {url}\n\"content-type\": application/json\n\
         \"content-digest\": {digest}\n\"@signature-params\": {parameters}"
    );
    let mut mac = Hmac::<Sha256>::new_from_slice(key.as_bytes()).expect("a key may have any length");
    mac.update(base.as_bytes());
    let signature = STANDARD.encode(mac.finalize().into_bytes());
    fields.push(("signature-input".to_owned(), format!("message={parameters}")));
    fields.push(("signature".to_owned(), format!("message=:{signature}:")));
    fields
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_signed_is_what_the_standard_says() {
        let fields =
            fields("https://bell.example/hook", b"{\"a\":1}", Some("secret"), "watch", 1_700_000_000);
        let of = |name: &str| {
            fields.iter().find(|(field, _)| field == name).map(|(_, value)| value.as_str()).unwrap()
        };
        // Made with: printf '{"a":1}' | openssl dgst -sha256 -binary | base64
        assert_eq!(of("content-digest"), "sha-256=:AVq9f1zFei3ZS3WQ8ErYCEJzkF7jPsXOvq5iJ2qX+GI=:");
        assert!(of("signature-input").starts_with("message=(\"@method\" \"@target-uri\""));
        assert!(of("signature-input").ends_with(";created=1700000000;keyid=\"watch\";alg=\"hmac-sha256\""));
        // Made with: printf of the five lines | openssl dgst -sha256 -hmac secret -binary | base64
        assert_eq!(of("signature"), "message=:XYEwHI4lNc01DeWnwq48xPHIQfnkKsYftPHTnjeCaS8=:");
    }
}
