//! Certificates that the service makes itself, for labs: made once, kept in the state folder, made anew before they end.

use std::fs::DirBuilder;
use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::Path;
use std::time::Duration;

use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_store::files::write_whole;
use rcgen::{CertificateParams, DnType, KeyPair};

use super::facts::{CertificateError, CertificateFacts, LoadedCertificate};

/// How long one holds: browsers take none that holds for longer.
const HOLDS: Duration = Duration::from_secs(397 * 86_400);
/// How long before its end it is made anew.
const RENEWED_BEFORE: Duration = Duration::from_secs(30 * 86_400);
/// By how much clocks of clients may be behind.
const BACKDATED: Duration = Duration::from_secs(3_600);

/// Why none could be made.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SelfSignedError {
    #[error("the certificate can't be made: {0}")]
    Made(#[from] rcgen::Error),
    #[error("the certificate can't be kept in the state folder: {0}")]
    Kept(#[from] io::Error),
    #[error(transparent)]
    Wrong(#[from] CertificateError),
}

/// Whether one is to be made anew.
pub(super) fn is_due(facts: &CertificateFacts, now: Wall) -> bool {
    facts.not_after <= now.plus(RENEWED_BEFORE)
}

/// The certificate for these names, as it is kept in `folder` or made now.
pub(crate) fn certificate(
    folder: &Path,
    name: &Name,
    names: &[String],
    now: Wall,
) -> Result<LoadedCertificate, SelfSignedError> {
    let [chain, key] = ["pem", "key"].map(|ending| folder.join(format!("{name}.{ending}")));
    let kept = std::fs::read_to_string(&chain).and_then(|text| Ok((text, std::fs::read_to_string(&key)?)));
    if let Ok((chain, key)) = kept
        && let Ok(kept) = LoadedCertificate::read(&chain, &key)
        && kept.facts.names == names
        && !is_due(&kept.facts, now)
    {
        return Ok(kept);
    }
    let pair = KeyPair::generate()?;
    let mut params = CertificateParams::new(names.to_vec())?;
    params.distinguished_name.push(DnType::CommonName, format!("{name}, made by Merismos"));
    let moment = |wall: Wall| {
        let since = Duration::from_millis(u64::try_from(wall.0).unwrap_or_default());
        std::time::UNIX_EPOCH + since
    };
    params.not_before = moment(Wall(now.0 - BACKDATED.as_millis() as i64)).into();
    params.not_after = moment(now.plus(HOLDS)).into();
    let (made, pair) = (params.self_signed(&pair)?.pem(), pair.serialize_pem());
    DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    // The key first: a chain without its key is made anew.
    write_whole(&key, pair.as_bytes())?;
    write_whole(&chain, made.as_bytes())?;
    Ok(LoadedCertificate::read(&made, &pair)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clock::wall;

    #[test]
    fn it_is_made_once_and_anew_for_other_names_and_before_its_end() {
        let folder = tempfile::tempdir().unwrap();
        let folder = folder.path().join("certificates");
        let name = "lab".parse().unwrap();
        let names = ["lab.skerry.example".to_owned(), "127.0.0.1".to_owned()];
        let made = |names: &[String], now| certificate(&folder, &name, names, now).unwrap().facts;
        let first = made(&names, wall());
        assert_eq!(first.names, names);
        assert!(first.is_self_signed);
        assert_eq!(made(&names, wall()), first, "it is kept");
        let later = wall().plus(HOLDS - RENEWED_BEFORE + Duration::from_secs(60));
        assert!(made(&names, later).not_after > first.not_after, "it is made anew in time");
        assert_eq!(made(&names[..1], wall()).names, names[..1]);
    }
}
