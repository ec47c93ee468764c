//! Secrets that a document only refers to.
//!
//! The author of a document could otherwise have the service read any file of its machine and send it somewhere: secrets
//! are files of one folder, or environment variables whose names say that they are meant to be read.

use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use merismos_core::config::document::SecretRef;

/// How the names of environment variables begin that documents may refer to.
pub const PREFIX: &str = "MERISMOS_SECRET_";

/// The bit of a file's mode by which every user can read it.
const OTHERS_READ: u32 = 0o004;

/// Where secrets may stand.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SecretCache {
    /// The folder whose files may be referred to; none may when it is left out.
    pub folder: Option<PathBuf>,
}

/// How long ago the last change of a file has to be for its stamp to tell it from others: clocks of file systems are coarse.
const SETTLED: Duration = Duration::from_secs(2);

/// Which file it is, and in which state: another content, other permissions or another file in its place have another one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FileStamp {
    place: (u64, u64),
    size: u64,
    mode: u32,
    written: (i64, i64),
    changed: Duration,
}

impl SecretCache {
    /// The secret itself.
    ///
    /// # Errors
    /// In words, when it is not where the document says, or may not be read.
    pub fn read(&self, secret: &SecretRef) -> Result<String, String> {
        match secret {
            SecretRef::Environment(name) if !name.starts_with(PREFIX) => Err(format!(
                "a secret can't be had: documents may refer to environment variables that begin with {PREFIX} alone, and {name} \
                 does not"
            )),
            SecretRef::Environment(name) => std::env::var(name).map_err(|_| {
                format!("a secret can't be had: the service has no environment variable {name}")
            }),
            SecretRef::File(path) => self.read_file(Path::new(path)),
        }
    }

    /// The file of a secret that every user of this machine can read.
    #[must_use]
    pub fn exposed(&self, secret: &SecretRef) -> Option<PathBuf> {
        let (SecretRef::File(path), Some(folder)) = (secret, &self.folder) else { return None };
        let path = folder.join(path);
        let mode = std::fs::metadata(&path).ok()?.permissions().mode();
        (mode & OTHERS_READ != 0).then_some(path)
    }

    /// What tells whether the file of a secret is the one that was read before. `None` when that can't be told: it is no file, it is not there,
    /// or it was changed a moment ago, so that another change might look the same.
    #[must_use]
    pub fn stamp(&self, secret: &SecretRef) -> Option<FileStamp> {
        self.stamp_at(secret, SystemTime::now())
    }

    fn stamp_at(&self, secret: &SecretRef, now: SystemTime) -> Option<FileStamp> {
        let (SecretRef::File(path), Some(folder)) = (secret, &self.folder) else { return None };
        let file = std::fs::metadata(folder.join(path)).ok()?;
        let changed =
            Duration::new(u64::try_from(file.ctime()).ok()?, u32::try_from(file.ctime_nsec()).ok()?);
        let age = now.duration_since(UNIX_EPOCH + changed).ok()?;
        (age > SETTLED).then(|| FileStamp {
            place: (file.dev(), file.ino()),
            size: file.size(),
            mode: file.mode(),
            written: (file.mtime(), file.mtime_nsec()),
            changed,
        })
    }

    fn read_file(&self, path: &Path) -> Result<String, String> {
        let Some(folder) = &self.folder else {
            return Err("a secret can't be had: the service was started without --secrets-folder".to_owned());
        };
        let wrong = |error: std::io::Error| format!("a secret can't be had: {}: {error}", path.display());
        // Both are followed to their ends, so that no link and no `..` leads out of the folder.
        let whole = folder.join(path).canonicalize().map_err(wrong)?;
        if !folder.canonicalize().is_ok_and(|folder| whole.starts_with(folder)) {
            return Err(format!(
                "a secret can't be had: {} is not in the folder for secrets, {}",
                path.display(),
                folder.display()
            ));
        }
        let text = std::fs::read_to_string(whole).map_err(wrong)?;
        Ok(text.trim_end_matches(['\r', '\n']).to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_that_is_written_or_replaced_or_opened_to_others_has_another_stamp() {
        let folder = tempfile::tempdir().unwrap();
        let secrets = SecretCache { folder: Some(folder.path().to_owned()) };
        let secret = SecretRef::File("probe".to_owned());
        let path = folder.path().join("probe");
        let later = || SystemTime::now() + SETTLED + Duration::from_secs(1);
        assert_eq!(secrets.stamp_at(&secret, later()), None, "it is not there");
        std::fs::write(&path, "one").unwrap();
        let mut seen = vec![secrets.stamp_at(&secret, later()).unwrap()];
        assert_eq!(secrets.stamp(&secret), None, "it was written a moment ago");
        assert_eq!(secrets.stamp_at(&secret, later()).as_ref(), seen.last());
        let mut expect_another = || {
            let stamp = secrets.stamp_at(&secret, later()).unwrap();
            assert!(!seen.contains(&stamp), "{stamp:?}");
            seen.push(stamp);
        };
        std::fs::write(&path, "other").unwrap();
        expect_another();
        std::fs::write(folder.path().join("new"), "again").unwrap();
        std::fs::rename(folder.path().join("new"), &path).unwrap();
        expect_another();
        let mut permissions = std::fs::metadata(&path).unwrap().permissions();
        permissions.set_mode(0o604);
        std::fs::set_permissions(&path, permissions).unwrap();
        expect_another();
    }

    #[test]
    fn secrets_are_read_from_their_folder_and_from_nowhere_else() {
        let folder = tempfile::tempdir().unwrap();
        let inside = folder.path().join("secrets");
        std::fs::create_dir(&inside).unwrap();
        std::fs::write(inside.join("probe"), "word\n").unwrap();
        std::fs::write(folder.path().join("other"), "not this one").unwrap();
        std::os::unix::fs::symlink(folder.path().join("other"), inside.join("link")).unwrap();
        let secrets = SecretCache { folder: Some(inside.clone()) };
        let read = |path: String| secrets.read(&SecretRef::File(path));
        assert_eq!(read(inside.join("probe").display().to_string()).unwrap(), "word");
        for path in [
            "/etc/hostname".to_owned(),
            format!("{}/../other", inside.display()),
            format!("{}/link", inside.display()),
        ] {
            let error = read(path.clone()).unwrap_err();
            assert!(error.contains("not in the folder for secrets"), "{path}: {error}");
        }
        let without =
            SecretCache::default().read(&SecretRef::File(inside.join("probe").display().to_string()));
        assert!(without.unwrap_err().contains("--secrets-folder"));
        for name in ["PATH", "HOME", "MERISMOSD_DATABASE"] {
            assert!(secrets.read(&SecretRef::Environment(name.to_owned())).unwrap_err().contains(PREFIX));
        }
    }
}
