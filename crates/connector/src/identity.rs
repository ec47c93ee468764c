//! What servers are shown that ask for a certificate: by the name of its object in the document.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use merismos_core::name::Name;
use rustls::SignatureScheme;
use rustls::client::ResolvesClientCert;
use rustls::sign::CertifiedKey;

/// A certificate that servers are shown.
#[derive(Debug)]
struct ShownIdentity {
    key: Arc<CertifiedKey>,
    /// Another number for each certificate that the name stands for in turn.
    generation: u64,
}

/// One table for the process: traffic and probes of it are one client to servers.
static SHOWN: Mutex<BTreeMap<Name, ShownIdentity>> = Mutex::new(BTreeMap::new());

fn shown() -> MutexGuard<'static, BTreeMap<Name, ShownIdentity>> {
    SHOWN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What servers are shown from the next handshake on; connections keep what they began with.
pub fn show(certificates: BTreeMap<Name, Arc<CertifiedKey>>) {
    let mut shown = shown();
    let next = certificates.into_iter().map(|(name, key)| {
        let generation = match shown.get(&name) {
            Some(before) if before.key.cert == key.cert => before.generation,
            Some(before) => before.generation + 1,
            None => 1,
        };
        (name, ShownIdentity { key, generation })
    });
    *shown = next.collect();
}

/// Lets servers be tried with a certificate before a document that names it goes live; one that is shown already stays.
pub fn offer(name: Name, key: Arc<CertifiedKey>) {
    shown().entry(name).or_insert(ShownIdentity { key, generation: 1 });
}

/// The certificate of a name, if it can be had.
#[must_use]
pub fn of(name: &Name) -> Option<Arc<CertifiedKey>> {
    shown().get(name).map(|identity| Arc::clone(&identity.key))
}

/// Another number for each certificate that a name stands for in turn: a session that was begun with one shows that one for as long as it
/// is taken up again. 0 while there is none.
#[must_use]
pub fn generation(name: &Name) -> u64 {
    shown().get(name).map_or(0, |identity| identity.generation)
}

/// The certificate of a name, as it is at each handshake. While it can't be had none is shown, and the server says what it thinks of that.
#[derive(Debug)]
pub(crate) struct NamedCertificate(pub(crate) Name);

impl ResolvesClientCert for NamedCertificate {
    fn resolve(&self, _: &[&[u8]], _: &[SignatureScheme]) -> Option<Arc<CertifiedKey>> {
        of(&self.0)
    }

    fn has_certs(&self) -> bool {
        true
    }
}
