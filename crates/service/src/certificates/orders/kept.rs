//! Ordered certificates in the state folder: what this node shows, also while the database and the authority are away.

use std::collections::BTreeSet;
use std::fs::DirBuilder;
use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_store::files::write_whole;

use crate::certificates::facts::{CertificateFacts, LoadedCertificate};

fn path(folder: &Path, certificate: &Name) -> PathBuf {
    folder.join(format!("ordered-{certificate}.pem"))
}

/// What is kept of a certificate, empty when nothing is: its key and its chain, in one file, so that they always fit.
pub(in crate::certificates) fn text(folder: &Path, certificate: &Name) -> String {
    std::fs::read_to_string(path(folder, certificate)).unwrap_or_default()
}

/// The certificate, when there is one for these names.
pub(in crate::certificates) fn certificate(
    folder: &Path,
    certificate: &Name,
    names: &[String],
) -> Option<LoadedCertificate> {
    let text = text(folder, certificate);
    LoadedCertificate::read(&text, &text).ok().filter(|loaded| is_for(&loaded.facts, names))
}

/// The certificates of which something is kept, with their files.
pub(in crate::certificates) fn all(folder: &Path) -> Vec<(Name, PathBuf)> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let kept = entries.filter_map(|entry| {
        let file = entry.file_name();
        let name = file.to_str()?.strip_prefix("ordered-")?.strip_suffix(".pem")?.parse().ok()?;
        Some((name, entry.path()))
    });
    kept.collect()
}

/// Whether what a file keeps has ended.
pub(in crate::certificates) fn has_ended(path: &Path, now: Wall) -> bool {
    let text = std::fs::read_to_string(path).unwrap_or_default();
    LoadedCertificate::read(&text, &text).is_ok_and(|loaded| loaded.facts.not_after < now)
}

/// Keeps a certificate in place of the one before.
pub(super) fn write(folder: &Path, certificate: &Name, chain: &str, key: &str) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    write_whole(&path(folder, certificate), format!("{key}{chain}").as_bytes())
}

/// Whether a certificate is for just these names.
pub(super) fn is_for(facts: &CertificateFacts, names: &[String]) -> bool {
    let lower =
        |names: &[String]| names.iter().map(|name| name.to_ascii_lowercase()).collect::<BTreeSet<_>>();
    lower(&facts.names) == lower(names)
}

#[cfg(test)]
mod tests {
    use std::time::{Duration, SystemTime};

    use rcgen::{CertificateParams, KeyPair};

    use super::*;
    use crate::clock::wall;

    #[test]
    fn what_has_ended_is_told_from_what_holds_and_from_other_files() {
        const DAY: Duration = Duration::from_secs(86_400);
        let folder = tempfile::tempdir().unwrap();
        let now = SystemTime::now();
        for (name, end) in [("ended", now - DAY), ("holds", now + DAY)] {
            let key = KeyPair::generate().unwrap();
            let mut params = CertificateParams::new(vec![format!("{name}.skerry.example")]).unwrap();
            (params.not_before, params.not_after) = ((now - 9 * DAY).into(), end.into());
            let chain = params.self_signed(&key).unwrap().pem();
            write(folder.path(), &name.parse().unwrap(), &chain, &key.serialize_pem()).unwrap();
        }
        std::fs::write(folder.path().join("ordered-broken.pem"), "nothing").unwrap();
        std::fs::write(folder.path().join("account.key"), "nothing").unwrap();
        let mut found: Vec<(String, bool)> = all(folder.path())
            .iter()
            .map(|(name, path)| (name.to_string(), has_ended(path, wall())))
            .collect();
        found.sort();
        let of = |name: &str, ended: bool| (name.to_owned(), ended);
        assert_eq!(found, [of("broken", false), of("ended", true), of("holds", false)]);
    }
}
