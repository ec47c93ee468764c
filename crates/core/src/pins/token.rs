//! The value of a pin's cookie: which server, since when, and that it was we who said so.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;
use siphasher::sip128::SipHasher24;

/// How many bytes the signature has: too many to guess.
const SIGNED: usize = 16;
const SAID: usize = 12;
/// The length of a value.
const LENGTH: usize = (SAID + SIGNED).div_ceil(3) * 4 - 2;

/// The secret that pins are signed with, and the one before it. Every node of a service has the same.
///
/// The signature is SipHash-2-4 with 128 bits (Aumasson and Bernstein, "SipHash: a fast short-input PRF", 2012), which was made for
/// messages as short as these: each request of a tied client has one verified, and HMAC-SHA256 made that a tenth of the request. Its key is
/// derived from the secret once.
#[derive(Clone)]
pub struct PinKey {
    current: SipHasher24,
    /// What it signed still holds; nothing more is signed with it.
    former: Option<SipHasher24>,
}

impl std::fmt::Debug for PinKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("PinKey")
    }
}

/// What a pin says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PinClaim {
    /// The server's [`identity`](super::identity).
    pub server: u64,
    /// When it was made, in minutes since 1970.
    pub minute: u32,
    /// Whether the key before the current one signed it.
    pub by_former_key: bool,
}

impl PinKey {
    /// A key of 32 secret bytes.
    #[must_use]
    pub fn new(secret: &[u8; 32]) -> Self {
        Self { current: key(secret), former: None }
    }

    /// With the secret before this one.
    #[must_use]
    pub fn after(self, former: &[u8; 32]) -> Self {
        Self { former: Some(key(former)), ..self }
    }

    /// Appends the value that ties a client to a server in a pool, by its [`identity`](super::identity), from a minute since 1970 on.
    pub fn write(&self, pool: u64, server: u64, minute: u32, out: &mut Vec<u8>) {
        let mut said = [0; SAID];
        said[..8].copy_from_slice(&server.to_le_bytes());
        said[8..].copy_from_slice(&minute.to_le_bytes());
        let mut bytes = [0; SAID + SIGNED];
        bytes[..SAID].copy_from_slice(&said);
        bytes[SAID..].copy_from_slice(&signature(&self.current, pool, &said));
        let mut text = [0; LENGTH];
        let length = URL_SAFE_NO_PAD.encode_slice(bytes, &mut text).expect("the length is known");
        out.extend_from_slice(&text[..length]);
    }

    /// What a value says; `None` when it was not we who wrote it, or for another pool.
    #[must_use]
    pub fn read(&self, pool: u64, value: &[u8]) -> Option<PinClaim> {
        let mut bytes = [0; SAID + SIGNED];
        // The decoder wants room for whole groups.
        let mut room = [0; SAID + SIGNED + 3];
        if value.len() > LENGTH || URL_SAFE_NO_PAD.decode_slice(value, &mut room).ok()? != bytes.len() {
            return None;
        }
        bytes.copy_from_slice(&room[..SAID + SIGNED]);
        let (said, signed) = bytes.split_first_chunk::<SAID>()?;
        // Compared as one number: how long that takes tells nothing of where they differ.
        let signed = u128::from_le_bytes(*signed.first_chunk()?);
        let is_signed_by = |key: &SipHasher24| u128::from_le_bytes(signature(key, pool, said)) ^ signed == 0;
        let by_former_key = !is_signed_by(&self.current);
        if by_former_key && !self.former.as_ref().is_some_and(is_signed_by) {
            return None;
        }
        let (server, minute) = said.split_first_chunk::<8>()?;
        let minute = minute.first_chunk::<4>()?;
        let (server, minute) = (u64::from_le_bytes(*server), u32::from_le_bytes(*minute));
        Some(PinClaim { server, minute, by_former_key })
    }
}

/// The key of 16 bytes that a secret stands for here.
fn key(secret: &[u8; 32]) -> SipHasher24 {
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).expect("a key of any length is taken");
    mac.update(b"merismos pins");
    let derived = mac.finalize().into_bytes();
    SipHasher24::new_with_key(derived.first_chunk().expect("the digest has 32 bytes"))
}

fn signature(key: &SipHasher24, pool: u64, said: &[u8; SAID]) -> [u8; SIGNED] {
    let mut message = [0; 8 + SAID];
    message[..8].copy_from_slice(&pool.to_le_bytes());
    message[8..].copy_from_slice(said);
    key.hash(&message).as_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(key: &PinKey, pool: u64, pinned: PinClaim) -> Vec<u8> {
        let mut out = Vec::new();
        key.write(pool, pinned.server, pinned.minute, &mut out);
        out
    }

    const PINNED: PinClaim =
        PinClaim { server: 0x0123_4567_89ab_cdef, minute: 29_000_000, by_former_key: false };

    #[test]
    fn what_the_key_before_signed_holds_until_the_next_one() {
        let (first, second, third) = ([7; 32], [8; 32], [9; 32]);
        let value = written(&PinKey::new(&first), 1, PINNED);
        let after = PinKey::new(&second).after(&first);
        assert_eq!(after.read(1, &value), Some(PinClaim { by_former_key: true, ..PINNED }));
        assert_eq!(after.read(1, &written(&after, 1, PINNED)), Some(PINNED), "signed with the new one");
        assert_eq!(PinKey::new(&third).after(&second).read(1, &value), None);
    }

    #[test]
    fn only_what_we_wrote_for_this_pool_is_read() {
        let (key, other) = (PinKey::new(&[7; 32]), PinKey::new(&[8; 32]));
        let pinned = PINNED;
        let value = written(&key, 1, pinned);
        assert_eq!(value.len(), LENGTH);
        assert!(
            value.iter().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(byte)),
            "it is a cookie value"
        );
        assert_eq!(key.read(1, &value), Some(pinned));
        assert_eq!(key.read(2, &value), None, "another pool's");
        assert_eq!(other.read(1, &value), None, "another key's");
        for place in 0..value.len() - 1 {
            let mut forged = value.clone();
            forged[place] = if forged[place] == b'A' { b'B' } else { b'A' };
            assert_eq!(key.read(1, &forged), None, "changed at {place}");
        }
        for wrong in [&b""[..], b"x", &value[1..], &[value.as_slice(), b"A"].concat(), &[0xff; LENGTH]] {
            assert_eq!(key.read(1, wrong), None);
        }
    }
}
