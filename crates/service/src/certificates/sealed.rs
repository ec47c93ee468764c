//! Secrets that the database keeps: sealed with a key that it never sees.

use rand::RngExt;
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};

/// The key that seals what the store keeps: AES with 256 bits in Galois/counter mode (NIST SP 800-38D).
#[derive(Debug)]
pub(crate) struct SealingKey(LessSafeKey);

impl SealingKey {
    pub(crate) fn new(secret: &[u8; 32]) -> Self {
        let key = UnboundKey::new(&AES_256_GCM, secret).expect("32 bytes are a key of AES-256");
        Self(LessSafeKey::new(key))
    }

    /// Seals a secret. Only as what it was sealed for can it be opened: `purpose` says what that is.
    pub(crate) fn seal(&self, purpose: &str, plain: &[u8]) -> Vec<u8> {
        // Drawn, and not counted: nodes share the key. A few thousand secrets do not come near the 2^32 of SP 800-38D, 8.3.
        let nonce = rand::rng().random::<[u8; NONCE_LEN]>();
        let mut sealed = plain.to_vec();
        let aad = Aad::from(purpose.as_bytes());
        self.0
            .seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), aad, &mut sealed)
            .expect("a secret is shorter than the most that can be sealed");
        [nonce.as_slice(), &sealed].concat()
    }

    /// Opens what was sealed; `None` when it was not sealed with this key, or for something else.
    pub(crate) fn open(&self, purpose: &str, sealed: &[u8]) -> Option<Vec<u8>> {
        let (nonce, sealed) = sealed.split_first_chunk::<NONCE_LEN>()?;
        let mut sealed = sealed.to_vec();
        let aad = Aad::from(purpose.as_bytes());
        let plain = self.0.open_in_place(Nonce::assume_unique_for_key(*nonce), aad, &mut sealed).ok()?;
        Some(plain.to_vec())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sealed_is_opened_with_the_same_key_for_the_same_purpose_alone() {
        let key = SealingKey::new(&[7; 32]);
        let sealed = key.seal("account a", b"secret");
        assert!(!sealed.windows(6).any(|part| part == b"secret"));
        assert_eq!(key.open("account a", &sealed).as_deref(), Some(&b"secret"[..]));
        assert_eq!(key.open("account b", &sealed), None);
        assert_eq!(SealingKey::new(&[8; 32]).open("account a", &sealed), None);
        let mut changed = sealed.clone();
        changed[20] ^= 1;
        assert_eq!(key.open("account a", &changed), None);
        assert_eq!(key.open("account a", &sealed[..5]), None);
        assert_ne!(
            key.seal("account a", b"secret"),
            sealed,
            "the same secret is sealed to something else each time"
        );
    }
}
