//! Bodies of calls, which are signed with the account's key (RFC 8555, 6.2): ES256 alone.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::digest::{SHA256, digest};
use ring::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use serde_json::{Value, json};

use super::{Refusal, bad};

/// A body whose signature is right.
pub(super) struct Signed {
    /// The URL of the account; empty when the key itself was sent.
    pub(super) account: String,
    /// The account's key (RFC 7517).
    pub(super) key: Value,
    pub(super) nonce: String,
    pub(super) payload: Value,
}

impl Signed {
    pub(super) fn read(
        body: &[u8],
        url: &str,
        key_of: impl FnOnce(&str) -> Option<Value>,
    ) -> Result<Self, Refusal> {
        let body: Value = serde_json::from_slice(body).map_err(|error| bad("malformed", error))?;
        let part =
            |name: &str| body[name].as_str().ok_or_else(|| bad("malformed", format!("{name} is missing")));
        let decoded = |text: &str| URL_SAFE_NO_PAD.decode(text).map_err(|error| bad("malformed", error));
        let header: Value =
            serde_json::from_slice(&decoded(part("protected")?)?).map_err(|error| bad("malformed", error))?;
        if header["alg"] != "ES256" {
            return Err(bad("badSignatureAlgorithm", "ES256 is wanted"));
        }
        if header["url"] != url {
            return Err((401, "unauthorized", "it was signed for another URL".to_owned()));
        }
        let account = header["kid"].as_str().unwrap_or_default().to_owned();
        let key = if account.is_empty() {
            header["jwk"].clone()
        } else {
            key_of(&account).ok_or_else(|| bad("accountDoesNotExist", &account))?
        };
        let mut point = vec![4];
        for coordinate in ["x", "y"] {
            point.extend(decoded(key[coordinate].as_str().unwrap_or_default())?);
        }
        let text = format!("{}.{}", part("protected")?, part("payload")?);
        UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point)
            .verify(text.as_bytes(), &decoded(part("signature")?)?)
            .map_err(|_| bad("malformed", "the signature is wrong"))?;
        let payload = decoded(part("payload")?)?;
        let payload = match payload.is_empty() {
            true => json!({}),
            false => serde_json::from_slice(&payload).map_err(|error| bad("malformed", error))?,
        };
        let nonce = header["nonce"].as_str().unwrap_or_default().to_owned();
        Ok(Self { account, key, nonce, payload })
    }

    /// What the key is known by (RFC 7638, 3).
    pub(super) fn thumbprint(&self) -> String {
        let key = &self.key;
        let text =
            format!(r#"{{"crv":{},"kty":{},"x":{},"y":{}}}"#, key["crv"], key["kty"], key["x"], key["y"]);
        URL_SAFE_NO_PAD.encode(digest(&SHA256, text.as_bytes()))
    }
}
